"""`salt-mirror mail`: the mail exchangers of a domain, down to something that a sender can connect to."""

from __future__ import annotations

from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Showing
from salt_mirror.cli.signatures import takes


@takes(
    at="Show what this resolver, or this group of the estate's, has cached beside the authoritative servers.",
)
def mail(
    domains: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DOMAIN]...",
            help="Domains; when left out, the estate's forward zones in public views, and where it expects MX records.",
        ),
    ] = None,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Check the mail exchangers of domains: what a sender would do, what fails, and what remains when a host is down."""
    from salt_mirror.checks.mail.judging import mail_domains, of_domains
    from salt_mirror.cli.arguments import atlas_of, names_in_views, open_estate, servers_and_groups
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of_trees
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(asking)
    known = mail_domains(estate, asking.view)
    named = names_in_views(domains or [], asking, estate)
    # Of a domain's views those count in which mail comes in; all of them where that is none.
    taking = {name for name, view in named if (name, view) in known}
    wanted = {key: known.get(key) for key in named if key in known or key[0] not in taking} or known
    if not wanted:
        raise BadInput(
            "nothing to look at: name a domain, or give an estate with public zones, or that expects MX records"
        )
    caches = servers_and_groups(asking.at, estate)
    atlas = atlas_of(estate)
    part = of_domains(wanted, atlas, caches)
    ran = run_part(part, atlas, list(dict.fromkeys(view for _, view in wanted)), asking, "names looked at")
    finish(report_of_trees("mail", estate, ran, part), showing, part, several_views=len(estate.views) > 1)

"""`salt-mirror mail`: the mail exchangers of a domain, down to something that a sender can connect to."""

from __future__ import annotations

from typing import Annotated

import typer

from salt_mirror.cli.opening import (
    AllOption,
    EstateOption,
    FaultsOption,
    JsonOption,
    PaceOption,
    StrictOption,
    TimeoutOption,
    TransferOption,
    TriesOption,
    ViewOption,
    finders,
    has_ipv6,
    names_in_views,
    open_estate,
    servers_and_groups,
)


def mail(
    domains: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DOMAIN]...", help="Domains; when left out, those for which the estate expects MX records."
        ),
    ] = None,
    estate_file: EstateOption = None,
    at: Annotated[
        list[str] | None,
        typer.Option(
            "--at",
            metavar="RESOLVER",
            help="Show what this resolver, or this group of the estate's, has cached beside the authoritative servers.",
            show_default=False,
        ),
    ] = None,
    view: ViewOption = None,
    faults: FaultsOption = False,
    everything: AllOption = False,
    strict: StrictOption = False,
    as_json: JsonOption = False,
    transfer: TransferOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Follow the mail exchangers of domains: what a sender would do, what fails, and what is left when a pool is down."""
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.mail.judging import judged_mail
    from salt_mirror.checks.rollcall.scope import expected_sets
    from salt_mirror.cli.running import Manner
    from salt_mirror.cli.trees import run_trees
    from salt_mirror.dns.records import MX
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(estate_file, view)
    expected = {(one.name, one.view): one for one in expected_sets(estate, None, view=view, rdtypes=(MX,))}
    wanted = names_in_views(domains or [], estate, view) or list(expected)
    if not wanted:
        raise BadInput("nothing to look at: name a domain, or give an estate that expects MX records")
    caches = servers_and_groups(at, estate)
    atlas = Atlas(estate, resolvers=finders(estate), ipv6=has_ipv6())
    run_trees(
        "mail",
        estate,
        atlas,
        list(dict.fromkeys(where for _, where in wanted)),
        lambda _: {
            (name, where): judged_mail(name, where, atlas, caches, expected.get((name, where)))
            for name, where in wanted
        },
        Manner(transfer, pace, timeout, tries),
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
    )

"""`salt-mirror services`: service locators (SRV) and a directory's whole locator set, down to hosts that can be reached."""

from __future__ import annotations

from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option
from salt_mirror.cli.signatures import takes


@takes(at="Only check these servers.")
def services(
    domains: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DOMAIN]...",
            help="Domains; when left out, the estate's directories and all SRV records that it expects.",
        ),
    ] = None,
    service: Annotated[
        list[str] | None, option("--service", "_NAME._PROTO", "Look for this service; may be repeated.")
    ] = None,
    family: Annotated[
        list[str] | None,
        option(
            "--family",
            "NAME",
            "Show what there is of a family: sip, xmpp, kerberos, ldap, ntp, mail, calendar or contacts.",
        ),
    ] = None,
    directory: Annotated[
        bool, typer.Option("--directory", help="Check the locator records of a directory's controllers.")
    ] = False,
    forest: Annotated[str | None, option("--forest", "DOMAIN", "The forest's root; the domain when left out.")] = None,
    domain_guid: Annotated[str | None, option("--domain-guid", "GUID", "The domain's GUID.")] = None,
    site: Annotated[list[str] | None, option("--site", "NAME", "A site of the directory; may be repeated.")] = None,
    controller: Annotated[
        list[str] | None,
        option(
            "--controller",
            "HOST[@SITE][,ROLE...][,GUID]",
            "A domain controller; roles are pdc-emulator, global-catalog and rodc. May be repeated; found when left out.",
        ),
    ] = None,
    detail: Annotated[
        bool, typer.Option("--detail", help="Where a directory cannot be read, print what the library says of it too.")
    ] = False,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Check SRV records: what a client would do, what fails, and whether every domain controller is registered."""
    from salt_mirror.checks.common.test_tree import Trees
    from salt_mirror.checks.services.judging import dialogues_of
    from salt_mirror.checks.services.scope import ServicesScope
    from salt_mirror.cli.arguments import atlas_of, names_in_views, open_estate, servers_at, views_of
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of_trees

    estate = open_estate(asking, directories=True, detail=detail)
    scope = ServicesScope(
        names_in_views(domains or [], asking, estate), service or [], family or [], directory or bool(controller), forest,
        domain_guid or "", site or [], controller or [], asking.view,
    )  # fmt: skip
    scope.check(estate)
    atlas = atlas_of(estate, servers_at(asking.at, estate))
    part = Trees(lambda setting: dialogues_of(scope, estate, atlas, setting))
    ran = run_part(part, atlas, views_of(asking, estate), asking, "names looked at")
    finish(report_of_trees("services", estate, ran, part), showing, part, several_views=len(estate.views) > 1)

"""`salt-mirror services`: service locators (SRV) and a directory's whole locator set, down to hosts that can be reached."""

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
    servers_at,
)


def services(
    domains: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DOMAIN]...",
            help="Domains; when left out, the estate's directories and all SRV records that it expects.",
        ),
    ] = None,
    estate_file: EstateOption = None,
    service: Annotated[
        list[str] | None,
        typer.Option(
            "--service", metavar="_NAME._PROTO", help="Look for this service; may be repeated.", show_default=False
        ),
    ] = None,
    family: Annotated[
        list[str] | None,
        typer.Option(
            "--family",
            metavar="NAME",
            help="Show what there is of a family: sip, xmpp, kerberos, ldap, ntp, mail, calendar or contacts.",
            show_default=False,
        ),
    ] = None,
    directory: Annotated[
        bool, typer.Option("--directory", help="Check the locator records of a directory's controllers.")
    ] = False,
    forest: Annotated[
        str | None,
        typer.Option(
            "--forest", metavar="DOMAIN", help="The forest's root; the domain when left out.", show_default=False
        ),
    ] = None,
    domain_guid: Annotated[
        str | None, typer.Option("--domain-guid", metavar="GUID", help="The domain's identifier.", show_default=False)
    ] = None,
    site: Annotated[
        list[str] | None,
        typer.Option("--site", metavar="NAME", help="A site of the directory; may be repeated.", show_default=False),
    ] = None,
    controller: Annotated[
        list[str] | None,
        typer.Option(
            "--controller",
            metavar="HOST[@SITE][,ROLE...][,GUID]",
            help="A controller; roles are primary, catalogue and read-only. May be repeated; found when left out.",
            show_default=False,
        ),
    ] = None,
    at: Annotated[
        list[str] | None,
        typer.Option("--at", metavar="SERVER", help="Look at these servers alone.", show_default=False),
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
    """Follow service locators: what a client would do, what fails, and whether every directory controller is registered."""
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.cli.running import Manner
    from salt_mirror.checks.services.scope import Wish, dialogues_of
    from salt_mirror.cli.trees import run_trees

    estate = open_estate(estate_file, view)
    wish = Wish(
        names_in_views(domains or [], estate, view),
        service or [],
        family or [],
        directory or bool(controller),
        forest,
        domain_guid or "",
        site or [],
        controller or [],
        view,
    )
    wish.check(estate)
    servers = servers_at(at, estate)
    atlas = Atlas(estate, given=servers, resolvers=() if servers else finders(estate), ipv6=has_ipv6())
    run_trees(
        "services",
        estate,
        atlas,
        [view] if view is not None else estate.views,
        lambda exchange: dialogues_of(wish, estate, atlas, exchange.names),
        Manner(transfer, pace, timeout, tries),
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
    )

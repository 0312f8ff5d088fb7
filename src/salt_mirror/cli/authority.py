"""`salt-mirror authority`: is the zone itself sound, before any of its records is trusted?"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

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

if TYPE_CHECKING:
    from salt_mirror.checks.authority.sheet import Inspected


def authority(
    zones: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ZONE]...",
            help="Zones by their names, reverse zones also by their networks; all of the estate when left out.",
        ),
    ] = None,
    estate_file: EstateOption = None,
    at: Annotated[
        list[str] | None,
        typer.Option(
            "--at", metavar="SERVER", help="Look at these servers alone, and not at the parent.", show_default=False
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
    """Inspect the authority: SOA, serials, name servers and delegation of zones, on every server that should hold them."""
    from msgspec.structs import replace

    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.authority.sheet import inspect_all
    from salt_mirror.cli.running import Manner, print_and_end, report_on, run_check
    from salt_mirror.dns.names import to_text
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.report.document import Subject, now

    estate = open_estate(estate_file, view)
    views = [view] if view is not None else estate.views
    wanted = names_in_views(zones or [], estate, view) or [
        (zone.apex, where) for where in views for zone in estate.zones[where].values()
    ]
    if not wanted:
        raise BadInput("nothing to inspect: name a zone, or give an estate with zones")
    servers = servers_at(at, estate)
    atlas = Atlas(estate, given=servers, resolvers=finders(estate), ipv6=has_ipv6())
    done: list[Inspected] = []
    moment = now()
    ran = run_check(
        atlas,
        list(dict.fromkeys(where for _, where in wanted)),
        Manner(transfer, pace, timeout, tries),
        len(wanted),
        "zones inspected",
        lambda runner, exchange, tick: done.extend(inspect_all(wanted, atlas, exchange.holding, moment, runner, tick)),
    )
    place = {(to_text(name), where): number for number, (name, where) in enumerate(wanted)}
    done.sort(key=lambda one: place[one.sheet.zone, one.sheet.view])
    findings = [finding for one in done for finding in one.findings]
    beyond = {address for one in done for address in one.sheet.not_asked}
    remarks = [f"this computer has no IPv6: {len(beyond)} addresses of name servers were not asked"] if beyond else []

    def tally(outcome: str) -> int:
        return sum(one.outcome == outcome for one in done)

    report = replace(
        report_on("authority", estate, ran, tally, findings, remarks, total=len(wanted)),
        sheets=[one.sheet for one in done],
    )
    if len(wanted) == 1 and done:
        report = replace(report, says=_verdict(done[0]))
    print_and_end(
        report,
        lambda: (Subject(name=one.sheet.zone, type="SOA", view=one.sheet.view, outcome=one.outcome) for one in done),
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
        several_views=len(estate.views) > 1,
    )


def _verdict(one: Inspected) -> str:
    """The answer about a single zone in one sentence."""
    name = one.sheet.zone
    if not one.sheet.servers:
        return one.sheet.says
    serving = f"{one.sheet.says}."
    faults = sum(finding.weight == "fault" for finding in one.findings)
    if faults:
        return f"{name} is not sound: {faults} {'fault' if faults == 1 else 'faults'}; {serving}"
    if one.outcome == "unverified":
        return f"{name} could not be verified on every server; {serving}"
    return f"{name} has a sound authority; {serving}"

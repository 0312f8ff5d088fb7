"""`salt-mirror rollcall`: here is what should be registered; is it, on every authoritative server?"""

from __future__ import annotations

import sys
from pathlib import Path
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
    open_estate,
    servers_at,
)

if TYPE_CHECKING:
    from salt_mirror.dns.names import Name
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.expectations import Expectation
    from salt_mirror.estate.model import Estate


def rollcall(
    sources: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[EXPECTATION]...",
            help="Files of expected records (master, CSV, JSON Lines), - for standard input; the estate's when left out.",
        ),
    ] = None,
    estate_file: EstateOption = None,
    held_by: Annotated[
        str | None,
        typer.Option(
            "--as-held-by",
            metavar="SERVER",
            help="Expect what this server holds, by transfer or by asking.",
            show_default=False,
        ),
    ] = None,
    at: Annotated[
        list[str] | None,
        typer.Option("--at", metavar="SERVER", help="Call the roll on these servers alone.", show_default=False),
    ] = None,
    view: ViewOption = None,
    zone: Annotated[
        str | None, typer.Option("--zone", help="Call the records of this zone alone.", show_default=False)
    ] = None,
    types: Annotated[
        str | None, typer.Option("--types", metavar="A,AAAA,...", help="Call these types alone.", show_default=False)
    ] = None,
    names: Annotated[
        list[str] | None,
        typer.Option(
            "--name", metavar="GLOB", help="Call names that fit this pattern; may be repeated.", show_default=False
        ),
    ] = None,
    remedies: Annotated[
        Path | None,
        typer.Option(
            "--remedies", metavar="FILE", help="Write the lines that mend as a master file.", show_default=False
        ),
    ] = None,
    faults: FaultsOption = False,
    everything: AllOption = False,
    strict: StrictOption = False,
    as_json: JsonOption = False,
    transfer: TransferOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Call the roll: is every expected record registered on every authoritative server of its zone?"""
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.rollcall.judging import Roll, call_roll
    from salt_mirror.checks.rollcall.scope import expected_sets
    from salt_mirror.cli.running import Manner, print_and_end, report_on, run_check, write_whole
    from salt_mirror.cli.rollcall_work import chosen_types, held, remedies_text, subjects_of
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.model import zone_name

    estate = open_estate(estate_file, view)
    only = zone_name(zone) if zone is not None else None
    problems: list[BadInput] = []
    given = _given(sources or [], only if only is not None else first_forward(estate, view), problems)
    servers = servers_at(at, estate)
    atlas = Atlas(estate, given=servers, resolvers=() if servers else finders(estate))
    wanted = {"view": view, "zone": only, "rdtypes": chosen_types(types), "globs": names or []}
    if held_by is not None:
        (measure,) = servers_at([held_by], estate)[:1]
        given = held(measure, estate, given, timeout_s=timeout, tries=tries, view=view, zone=only)
    sets = expected_sets(estate, given, **wanted)  # type: ignore[arg-type]
    if not sets:
        raise BadInput(
            "nothing to call: no expectation fits; give files of expected records, or an estate with zones that expect some"
        )
    views = [view] if view is not None else estate.views
    roll = Roll()
    ran = run_check(
        atlas,
        views,
        Manner(transfer, pace, timeout, tries),
        len(sets),
        "record sets called",
        lambda runner, exchange, tick: call_roll(
            sets, atlas, runner, roll, tick, strangers=exchange.names - {one.name for one in sets}
        ),
    )
    remarks = [f"damaged, and left out: {problem}" for problem in problems]
    report = report_on("rollcall", estate, ran, roll.count, roll.findings(), remarks, total=len(sets))
    if remedies is not None:
        write_whole(remedies, remedies_text(report), "--remedies")
    print_and_end(
        report,
        lambda: subjects_of(roll),
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
        several_views=len(views) > 1,
    )


def first_forward(estate: Estate, view: str | None) -> Name:
    """The zone that completes short names when none is given: the estate's first one that is no reverse zone."""
    from salt_mirror.dns.names import ROOT
    from salt_mirror.dns.reverse import is_reverse

    zones = [zone for zone in estate.all_zones() if view in (None, zone.view) and not is_reverse(zone.apex)]
    return zones[0].apex if zones else ROOT


def _given(sources: list[str], origin: Name, problems: list[BadInput]) -> list[Expectation] | None:
    """The expectations in the named sources; None when none is named. Damaged lines go to `problems`."""
    from salt_mirror.estate.sources import read_expectations, read_given

    if not sources:
        return None
    found: list[Expectation] = []
    for source in sources:
        if source == "-":
            found += read_given(sys.stdin.read(), origin, problems)
        else:
            found += read_expectations(Path(source), origin, problems)
    return found

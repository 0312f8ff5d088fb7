"""`salt-mirror snapshot` and `salt-mirror compare`: what every server tells now, kept in a file, and held against later."""

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
    from salt_mirror.keeping.snapshots import Subject
    from salt_mirror.estate.model import Estate

_TYPES = "A,AAAA,CNAME,MX,NS,PTR,SRV,TXT"


def snapshot(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Where to write it; packed when it ends in .gz.")],
    names: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NAME]...", help="These names alone; all that the estate expects when left out."),
    ] = None,
    estate_file: EstateOption = None,
    types: Annotated[
        str, typer.Option("--types", metavar="A,AAAA,...", help="The types to ask for at given names.")
    ] = _TYPES,
    at: Annotated[
        list[str] | None, typer.Option("--at", metavar="SERVER", help="Ask these servers alone.", show_default=False)
    ] = None,
    view: ViewOption = None,
    transfer: TransferOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Write down what every authoritative server tells now, to compare it with later."""
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.comparing import Held
    from salt_mirror.cli.running import Manner, run_check
    from salt_mirror.keeping.snapshots import take, write_snapshot
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(estate_file, view)
    views = [view] if view is not None else estate.views
    subjects = _subjects(estate, names or [], types, view)
    if not subjects and not (transfer and views):
        raise BadInput("nothing to write down: name names, or give an estate with zones that expect records")
    servers = servers_at(at, estate)
    atlas = Atlas(estate, given=servers, resolvers=() if servers else finders(estate))
    held: list[Held] = []
    ran = run_check(
        atlas,
        views,
        Manner(transfer, pace, timeout, tries),
        len(subjects),
        "record sets asked",
        lambda runner, exchange, tick: held.extend(take(subjects, estate, views, atlas, runner, exchange, tick)),
    )
    if ran.interrupted:
        print("salt-mirror: interrupted; no snapshot was written", file=sys.stderr)  # noqa: T201
        raise typer.Exit(130)
    write_snapshot(file, estate.title, held)
    unseen = sum(one.trouble is not None for one in held)
    for remark in ran.remarks:
        print(f"Note: {remark}", file=sys.stderr)  # noqa: T201
    there = sum(bool(one.values) for one in held)
    more = f"; {unseen:,} could not be seen" if unseen else ""
    print(f"{there:,} record sets of {len({one.server for one in held})} servers written to {file}{more}.")  # noqa: T201
    raise typer.Exit(3 if unseen else 0)


def _subjects(estate: Estate, names: list[str], types: str, view: str | None) -> list[Subject]:
    """The RRsets to write down. Raises BadInput."""
    from salt_mirror.checks.rollcall.scope import expected_sets
    from salt_mirror.cli.opening import names_in_views
    from salt_mirror.cli.rollcall_work import chosen_types

    if names:
        return [
            (where, name, rdtype)
            for name, where in names_in_views(names, estate, view)
            for rdtype in chosen_types(types)
        ]
    return [(one.view, one.name, one.rdtype) for one in expected_sets(estate, None, view=view)]


def compare(
    before: Annotated[Path, typer.Argument(metavar="BEFORE", help="A snapshot.")],
    after: Annotated[
        Path | None, typer.Argument(metavar="[AFTER]", help="A later one; what the servers tell now when left out.")
    ] = None,
    plan: Annotated[
        Path | None,
        typer.Option("--plan", metavar="FILE", help="What was to be changed, as expectations.", show_default=False),
    ] = None,
    estate_file: EstateOption = None,
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
    """Hold two snapshots, or one and now, against each other, and against a plan."""
    from msgspec.structs import replace

    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.comparing import compared, differences
    from salt_mirror.cli.running import Manner, Ran, print_and_end, report_on, run_check
    from salt_mirror.keeping.snapshots import read_snapshot, take
    from salt_mirror.dns.names import from_text
    from salt_mirror.dns.records import type_from_text
    from salt_mirror.estate.sources import read_expectations
    from salt_mirror.report.document import now

    estate = open_estate(estate_file)
    head, old = read_snapshot(before)
    old = [one for one in old if view in (None, one.view)]
    wanted = None
    if plan is not None:
        from salt_mirror.cli.rollcall import first_forward

        wanted = read_expectations(plan, first_forward(estate, None))
    if after is not None:
        later, new = read_snapshot(after)
        new = [one for one in new if view in (None, one.view)]
        ran = Ran(now(), 0.0, 0, 0, 0, [f"{before} of {head.taken_at} against {after} of {later.taken_at}"], False)
    else:
        new = []
        subjects = list(dict.fromkeys((one.view, from_text(one.name), type_from_text(one.type)) for one in old))
        views = list(dict.fromkeys(one.view for one in old))
        atlas = Atlas(estate, resolvers=finders(estate))
        ran = run_check(
            atlas,
            views,
            Manner(transfer, pace, timeout, tries),
            len(subjects),
            "record sets asked",
            lambda runner, exchange, tick: new.extend(take(subjects, estate, views, atlas, runner, exchange, tick)),
        )
        ran = ran._replace(remarks=[f"{before} of {head.taken_at} against now", *ran.remarks])
    found = differences(old, new)
    findings = list(compared(found, old, new, wanted))
    sets = {(one.view, one.name, one.type) for one in (*old, *new)}
    unseen = {(one.view, one.name, one.type) for one in found if one.kind == "unseen"}
    other = {(one.view, one.name, one.type) for one in found if one.kind not in ("unseen", "ttl")}
    counts = {"differs": len(other), "unverified": len(unseen - other), "agrees": len(sets - other - unseen)}
    report = report_on("compare", estate, ran, lambda one: counts[one], findings, [], total=len(sets))
    if wanted is not None:
        tally = {
            code: sum(one.code == code for one in findings) for code in ("cmp.done", "cmp.not-done", "cmp.unplanned")
        }
        says = (
            f"{tally['cmp.done']} as planned, {tally['cmp.not-done']} planned and not done, "
            f"{tally['cmp.unplanned']} done and not planned."
        )
        kept = not tally["cmp.not-done"] and not tally["cmp.unplanned"]
        report = replace(
            report, says=says, outcome="unverified" if kept and unseen else "agrees" if kept else "differs"
        )
    print_and_end(
        report,
        lambda: [],
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
        several_views=len(estate.views) > 1,
    )

"""`salt-mirror compare`: what every server told at two moments, held against each other, and against a plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Listing, Showing, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.compare.judging import HeldSet, SnapshotHead
    from salt_mirror.cli.execution import Ran
    from salt_mirror.estate.expectations import Expectation
    from salt_mirror.estate.model import Estate


@takes("at")
def compare(
    before: Annotated[
        Path | None, typer.Argument(metavar="[BEFORE]", help="A snapshot; without it what a --plan was made on.")
    ] = None,
    after: Annotated[
        Path | None, typer.Argument(metavar="[AFTER]", help="A later one; without it what the servers answer now.")
    ] = None,
    plan: Annotated[
        Path | None, option("--plan", "FILE", "What was to be changed: a list, or a plan (FILE.jsonl).")
    ] = None,
    *,
    listing: Listing,
    asking: Asking,
    showing: Showing,
) -> None:
    """Compare two snapshots, or one and now, with each other and with a plan."""
    from salt_mirror.checks.compare.judging import Comparison
    from salt_mirror.cli.arguments import first_forward, open_estate, spec_of
    from salt_mirror.cli.finishing import finish, report_on
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.sources import read_expectations
    from salt_mirror.keeping.approvals import is_plan

    estate = open_estate(asking)
    of_plan = plan is not None and is_plan(plan)
    if before is None and not of_plan:
        raise BadInput("a snapshot is missing: compare BEFORE [AFTER], or compare --plan FILE.jsonl for a plan")
    wanted = None
    if plan is not None and of_plan:
        wanted = _wanted_by(plan, asking.view)
    elif plan is not None:
        wanted = read_expectations(plan, first_forward(asking, estate), None, spec_of(listing), estate.networks)
    head, old = _before(before, plan, asking, estate)
    new, ran = _later(estate, asking, before or plan or Path(), head, old, after, wanted or [])
    found = Comparison(old, new, wanted)
    report = report_on(
        "compare", estate, ran, found.counts.__getitem__, found.findings, total=found.total,
        looked=found.total > 0, **found.more,
    )  # fmt: skip
    finish(report, showing, several_views=len(estate.views) > 1)


def _wanted_by(plan: Path, view: str | None) -> list[Expectation]:
    """Return what a plan makes of its sets, as expectations: the values that come or stay, and those that go."""
    from salt_mirror.checks.plan.sets import set_of
    from salt_mirror.estate.expectations import Expectation
    from salt_mirror.keeping.approvals import sets_of_view

    wanted: list[Expectation] = []
    for planned in (set_of(line, None) for line in sets_of_view(plan, view)):
        key = planned.key
        wanted += [Expectation(key.name, key.rdtype, value, presence="exact") for value in sorted(planned.after)]
        gone = sorted(planned.before - planned.after) if planned.after else [b""]
        wanted += [Expectation(key.name, key.rdtype, value, presence="absent") for value in gone]
    return wanted


def _before(path: Path | None, plan: Path | None, asking: Asking, estate: Estate) -> tuple[SnapshotHead, list[HeldSet]]:
    """Return what was before: a snapshot, else what a plan was made on, on every server of its zones."""
    from salt_mirror.checks.compare.judging import VERSION, HeldSet, SnapshotHead
    from salt_mirror.dns.names import from_text
    from salt_mirror.keeping.approvals import read_plan, sets_of_view
    from salt_mirror.keeping.snapshots import read_snapshot

    if path is not None:
        head, old = read_snapshot(path)
        return head, [one for one in old if asking.view in (None, one.view)]
    assert plan is not None
    approval, _ = read_plan(plan, None)
    made = f"{approval.made:%Y-%m-%dT%H:%M:%SZ}" if approval is not None else "unknown"
    held = []
    for line in sets_of_view(plan, asking.view):
        zone = estate.zones.get(line.view, {}).get(from_text(line.zone))
        for server in (zone.servers or ()) if zone is not None else ():
            ttl = line.ttl_before if line.before else None
            held.append(HeldSet(server.label, line.view, line.zone, line.name, line.type, sorted(line.before), ttl))
    return SnapshotHead(VERSION, made), held


def _later(
    estate: Estate,
    asking: Asking,
    before: Path,
    head: SnapshotHead,
    old: list[HeldSet],
    after: Path | None,
    planned: list[Expectation],
) -> tuple[list[HeldSet], Ran]:
    """Return the other side: a later snapshot, or what the servers tell now, of what is planned too."""
    from salt_mirror.checks.compare.judging import Snapshot
    from salt_mirror.cli.arguments import atlas_of, views_of
    from salt_mirror.cli.execution import Ran, run_part
    from salt_mirror.dns.names import from_text
    from salt_mirror.dns.records import type_from_text
    from salt_mirror.keeping.snapshots import read_snapshot
    from salt_mirror.report.document import now

    if after is not None:
        later, new = read_snapshot(after)
        text = f"{before} of {head.taken_at} against {after} of {later.taken_at}"
        return [one for one in new if asking.view in (None, one.view)], Ran(now(), 0.0, 0, 0, 0, [text], False)
    sets = dict.fromkeys((one.view, from_text(one.name), type_from_text(one.type)) for one in old)
    views = list(dict.fromkeys(one.view for one in old)) or views_of(asking, estate)
    for expectation in planned:
        holding = [view for view in views if estate.zone_of(expectation.name, view) is not None]
        sets.update(dict.fromkeys((view, expectation.name, expectation.rdtype) for view in holding or views[:1]))
    atlas = atlas_of(estate)
    part = Snapshot(sets, estate, views, atlas)
    ran = run_part(part, atlas, views, asking, "record sets asked")
    return part.held, ran._replace(remarks=[f"{before} of {head.taken_at} against now", *ran.remarks])

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
    before: Annotated[Path, typer.Argument(metavar="BEFORE", help="A snapshot.")],
    after: Annotated[
        Path | None, typer.Argument(metavar="[AFTER]", help="A later one; without it what the servers answer now.")
    ] = None,
    plan: Annotated[Path | None, option("--plan", "FILE", "What was to be changed, as expectations.")] = None,
    *,
    listing: Listing,
    asking: Asking,
    showing: Showing,
) -> None:
    """Compare two snapshots, or one and now, with each other and with a plan."""
    from salt_mirror.checks.compare.judging import Comparison
    from salt_mirror.cli.arguments import first_forward, open_estate, spec_of
    from salt_mirror.cli.finishing import finish, report_on
    from salt_mirror.estate.sources import read_expectations
    from salt_mirror.keeping.snapshots import read_snapshot

    estate = open_estate(asking)
    head, old = read_snapshot(before)
    old = [one for one in old if asking.view in (None, one.view)]
    wanted = None
    if plan is not None:
        wanted = read_expectations(plan, first_forward(asking, estate), None, spec_of(listing), estate.networks)
    new, ran = _later(estate, asking, before, head, old, after, wanted or [])
    found = Comparison(old, new, wanted)
    report = report_on(
        "compare", estate, ran, found.counts.__getitem__, found.findings, total=found.total,
        looked=found.total > 0, **found.more,
    )  # fmt: skip
    finish(report, showing, several_views=len(estate.views) > 1)


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

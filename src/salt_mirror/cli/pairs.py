"""`salt-mirror pairs`: do forward and reverse agree?"""

from __future__ import annotations

from typing import Annotated

import typer

from salt_mirror.cli.opening import (
    AllOption,
    AtOption,
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


def pairs(
    subjects: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NAME|ADDRESS|NETWORK]...", help="What to check; all of the estate when left out."),
    ] = None,
    estate_file: EstateOption = None,
    at: AtOption = None,
    view: ViewOption = None,
    faults: FaultsOption = False,
    everything: AllOption = False,
    strict: StrictOption = False,
    as_json: JsonOption = False,
    yes: Annotated[bool, typer.Option("--yes", help="Sweep networks larger than a /16 too.")] = False,
    transfer: TransferOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Check that each address points back at its name, and each pointer leads forward.

    Every name's A and AAAA records, and every address's PTR records, are asked of all their authoritative servers. The
    servers come from the estate, from --at, or are found through NS records.
    """
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.pairs.judging import Judged, judge_scope
    from salt_mirror.checks.pairs.scope import Scope
    from salt_mirror.cli.running import Manner, print_and_end, report_on, run_check
    from salt_mirror.cli.pairs_report import subjects_of

    estate = open_estate(estate_file)
    scope = Scope(estate, subjects or (), view=view, sweep_all=yes)
    given = servers_at(at, estate)
    atlas = Atlas(estate, given=given, resolvers=() if given else finders(estate))
    judged = Judged()
    ran = run_check(
        atlas,
        scope.views,
        Manner(transfer, pace, timeout, tries),
        scope.size,
        "names and addresses looked at",
        lambda runner, _, tick: judge_scope(scope, atlas, runner, judged, tick),
    )
    report = report_on("pairs", estate, ran, judged.count, judged.findings.values(), scope.remarks, total=scope.size)
    print_and_end(
        report,
        lambda: subjects_of(judged),
        json=as_json,
        faults=faults,
        everything=everything,
        strict=strict,
        several_views=len(scope.views) > 1,
    )

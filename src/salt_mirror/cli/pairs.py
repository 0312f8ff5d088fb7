"""`salt-mirror pairs`: do forward and reverse agree?"""

from __future__ import annotations

import sys
import time
from typing import Annotated

import typer

from salt_mirror.cli.common import (
    AllOption,
    AtOption,
    EstateOption,
    FaultsOption,
    JsonOption,
    Progress,
    StrictOption,
    TimeoutOption,
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
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Check that each address points back at its name, and each pointer leads forward.

    Every name's A and AAAA records, and every address's PTR records, are asked of all their authoritative servers. The
    servers come from the estate, from --at, or are found through NS records.
    """
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.pairs import Judged, judge_scope
    from salt_mirror.checks.pairs_scope import Scope
    from salt_mirror.cli.pairs_report import report_of
    from salt_mirror.dns.dialogue import Runner
    from salt_mirror.dns.engine import Engine
    from salt_mirror.report.document import as_json as written
    from salt_mirror.report.document import now

    estate = open_estate(estate_file)
    scope = Scope(estate, subjects or (), view=view, sweep_all=yes)
    given = servers_at(at, estate)
    atlas = Atlas(estate, given=given, resolvers=() if given else finders(estate))
    started, clock = now(), time.monotonic()
    judged = Judged()
    progress = Progress(scope.size, "names and addresses looked at")
    interrupted = False
    with Engine(timeout_s=timeout, tries=tries) as engine:
        runner = Runner(engine)
        try:
            judge_scope(scope, atlas, runner, judged, progress.tick)
        except KeyboardInterrupt:
            interrupted = True
        progress.end()
    report = report_of(
        judged,
        scope,
        started=started,
        seconds=time.monotonic() - clock,
        questions=runner.asked,
        interrupted=interrupted,
    )
    if as_json:
        sys.stdout.buffer.write(written(report))
    else:
        from salt_mirror.report.terminal import print_report

        print_report(report, sys.stdout, faults_alone=faults, everything=everything)
    raise typer.Exit(report.exit_status(strict=strict))

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
    PaceOption,
    Progress,
    StrictOption,
    TimeoutOption,
    TransferOption,
    TriesOption,
    ViewOption,
    finders,
    keep_pace,
    open_estate,
    quiet_collector,
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
    from salt_mirror.checks.pairs import Judged, judge_scope
    from salt_mirror.checks.pairs_scope import Scope
    from salt_mirror.cli.pairs_report import Asked, report_of, subjects_of
    from salt_mirror.cli.transfers import fetch_zones
    from salt_mirror.dns.dialogue import Runner
    from salt_mirror.dns.engine import Engine
    from salt_mirror.dns.holding import HoldingExchange
    from salt_mirror.report.document import as_json as written
    from salt_mirror.report.document import now

    estate = open_estate(estate_file)
    scope = Scope(estate, subjects or (), view=view, sweep_all=yes)
    given = servers_at(at, estate)
    quiet_collector()
    atlas = Atlas(estate, given=given, resolvers=() if given else finders(estate))
    started, clock = now(), time.monotonic()
    keep_pace(atlas.servers, pace)
    judged = Judged()
    progress = Progress(scope.size, "names and addresses looked at")
    interrupted = False
    with Engine(timeout_s=timeout, tries=tries) as engine:
        exchange = HoldingExchange(engine)
        runner = Runner(exchange)
        remarks: list[str] = []
        try:
            remarks = fetch_zones(atlas.transfers(scope.views, everywhere=transfer), exchange, timeout_s=timeout * 5)
            if not exchange.holds:
                runner = Runner(engine)
            judge_scope(scope, atlas, runner, judged, progress.tick)
        except KeyboardInterrupt:
            interrupted = True
        progress.end()
        asked = Asked(runner.asked - exchange.spared, exchange.spared, engine.strays, remarks)
    report = report_of(
        judged,
        scope,
        started=started,
        seconds=time.monotonic() - clock,
        asked=asked,
        interrupted=interrupted,
    )
    if as_json:
        sys.stdout.buffer.writelines(written(report, subjects_of(judged)))
    else:
        from salt_mirror.report.terminal import print_report

        agreeing = (subject for subject in subjects_of(judged) if subject.outcome == "agrees") if everything else ()
        print_report(
            report, sys.stdout, agreeing, several_views=len(scope.views) > 1, faults_alone=faults, everything=everything
        )
    raise typer.Exit(report.exit_status(strict=strict))

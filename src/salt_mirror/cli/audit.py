"""`salt-mirror audit`: the whole estate in one command, unattended."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option, takes

if TYPE_CHECKING:
    from collections.abc import Callable

    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.audit.coverage import Coverage
    from salt_mirror.checks.audit.work import AuditWork
    from salt_mirror.checks.part import Setting
    from salt_mirror.checks.plan.sets import Plan
    from salt_mirror.cli.changing import Round
    from salt_mirror.cli.running import Ran
    from salt_mirror.dns.dialogue import Runner
    from salt_mirror.dns.meter import Meter
    from salt_mirror.estate.model import Estate
    from salt_mirror.report.document import Report


@takes("at", "view")
def audit(
    only: Annotated[
        list[str] | None, option("--only", "WORD", "This check, zone, view or code alone; may be repeated.")
    ] = None,
    skip: Annotated[list[str] | None, option("--skip", "WORD", "Leave this check, zone, view or code out.")] = None,
    accepted: Annotated[bool, typer.Option("--accepted", help="List the accepted findings too.")] = False,
    partial: Annotated[
        bool, typer.Option("--partial", help="Let an interrupted run write over the reports of whole ones.")
    ] = False,
    changed: Annotated[
        bool,
        typer.Option(
            "--changed", help="Ask whole only for zones that have changed (with --history); a sample of others."
        ),
    ] = False,
    sample: Annotated[
        float,
        typer.Option("--sample", metavar="PERCENT", min=0, max=100, help="How much of an unchanged zone is asked."),
    ] = 1.0,
    whole_every: Annotated[
        int,
        typer.Option(
            "--whole-every", metavar="N", min=0, help="Let each Nth run with --changed be a whole one; 0 never."
        ),
    ] = 7,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Audit the whole estate: all checks over all zones and views, asked once and judged together."""
    from salt_mirror.checks.audit.coverage import coverage
    from salt_mirror.cli.changing import Round, past_for
    from salt_mirror.cli.ending import status_of
    from salt_mirror.cli.opening import atlas_of, open_estate
    from salt_mirror.cli.outputs import on_standard_output, wanted_files, written
    from salt_mirror.dns.meter import Meter
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(asking, directories=True, ages=True)
    if not estate.zones:
        raise BadInput(
            "nothing to audit: an estate with zones is needed; name it with --estate, or stand in its folder"
        )
    atlas = atlas_of(estate)
    covered = coverage(only or [], skip or [], estate)
    scope = " ".join([*(f"+{word}" for word in sorted(only or [])), *(f"-{word}" for word in sorted(skip or []))])
    remedies = showing.remedies is not None
    past = past_for(showing.history, scope, whole_every=whole_every, remedies=remedies) if changed else None
    one = Round(estate, atlas, covered, past, sample / 100)
    meter = Meter()
    plans: list[Plan] = []
    ran = _carry_out(one, atlas, asking, meter, _with_plan(one.work, atlas, covered, plans) if remedies else one.run)
    failed: list[str] = []
    report = _report(estate, one, ran, meter, showing.history, scope, failed)
    files = wanted_files(showing, lambda report: _fragments(plans, report))
    failed += written(report, files, partial=partial)
    if not showing.quiet and not on_standard_output(files):
        _print(report, showing, accepted=accepted)
    raise typer.Exit(status_of(report, failed, showing))


def _carry_out(
    one: Round, atlas: Atlas, asking: Asking, meter: Meter, work: Callable[[Setting, Runner, Callable[[], None]], None]
) -> Ran:
    from salt_mirror.checks.pairs.judging import Pairs
    from salt_mirror.cli.opening import pace_for_a_sweep
    from salt_mirror.cli.running import run

    pairs = one.work.parts.get("pairs")
    if isinstance(pairs, Pairs) and pairs.sweeps:
        pace_for_a_sweep(atlas.estate, asking.pace)
    total = one.work.total
    return run(work, atlas, atlas.estate.views, asking, total=total, what="things looked at", through=meter.through)


def _with_plan(
    work: AuditWork, atlas: Atlas, covered: Coverage, plans: list[Plan]
) -> Callable[[Setting, Runner, Callable[[], None]], None]:
    """The audit, and then what mends its findings, planned and proved over the same answers."""

    def run(setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        from salt_mirror.checks.audit.judge import AuditJudge
        from salt_mirror.checks.plan.proving import proved

        work.run(setting, runner, tick)
        plans.append(proved(AuditJudge(atlas, covered, setting, lambda: None, work), runner, atlas))

    return run


def _fragments(plans: list[Plan], report: Report) -> bytes:
    from salt_mirror.checks.plan.sets import Plan
    from salt_mirror.keeping.plans import fragments

    plan = plans[0] if plans else Plan([], [])
    return fragments(plan, f"{report.started:%Y-%m-%d %H:%M} UTC").encode("utf-8")


def _report(
    estate: Estate, one: Round, ran: Ran, meter: Meter, history: Path | None, scope: str, failed: list[str]
) -> Report:
    """The report, with what the acceptances and the history have to say; a history that fails now is told in `failed`."""
    from salt_mirror.checks.audit.accepting import sort_out
    from salt_mirror.checks.audit.causes import with_causes
    from salt_mirror.checks.audit.lines import Audit
    from salt_mirror.cli.ending import reading_order, report_on
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.history import Done, add_run

    work = one.work
    standing, accepted = sort_out(with_causes(work.findings()), estate.accept, ran.started.date())
    if not one.whole:  # what an acceptance is for may lie where nobody looked
        standing = [finding for finding in standing if finding.code != "accept.unused"]
    standing.sort(key=reading_order)
    zones = work.zone_lines(standing)
    faults = any(finding.weight == "fault" for finding in standing)
    doubts = any(finding.outcome == "unverified" for finding in standing)
    judged = any(line.checks for line in zones)
    certain = judged and not doubts and not ran.interrupted
    outcome = "differs" if faults else "agrees" if certain else "unverified"
    counts = work.counts(doubts=doubts or ran.interrupted)
    compared = None
    if history is not None and not ran.interrupted:
        try:
            done = Done(
                scope, ran.started, ran.seconds, outcome, standing, zones, [each.finding for each in accepted], one.whole,
                one.looks(ran.started),
            )  # fmt: skip
            compared, zones = add_run(history, done, work.looked_at, work.apex_of)
        except BadInput as error:
            failed.append(f"--history: {error}")
    audit = Audit(
        zones=zones, nothing=work.nothing, saved=ran.saved, accepted=accepted, round_trips=meter.histogram(),
        round_trip_sum=meter.sum_s, history=compared,
    )  # fmt: skip
    tally = counts.__getitem__
    return report_on(
        "audit", estate, ran, tally, standing, work.remarks, total=work.total, outcome=outcome, audit=audit
    )


def _print(report: Report, showing: Showing, *, accepted: bool) -> None:
    if showing.json:
        from salt_mirror.report.forms.json import as_json

        sys.stdout.buffer.writelines(as_json(report, ()))
    else:
        from salt_mirror.report.terminal.audit import print_audit

        print_audit(
            report,
            sys.stdout,
            faults_alone=showing.faults,
            everything=showing.all,
            accepted=accepted or showing.all,
        )

"""`salt-mirror audit`: the whole estate in one command, unattended."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NoReturn

import typer

from salt_mirror.cli.options import Asking, Showing, Where, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from collections.abc import Callable

    from salt_mirror.checks.common.part import Setting
    from salt_mirror.checks.plan.sets import Plan
    from salt_mirror.cli.audit.rounds import Round
    from salt_mirror.cli.execution import Ran
    from salt_mirror.dns.dialogue import Runner
    from salt_mirror.dns.meter import Meter
    from salt_mirror.estate.model import Estate
    from salt_mirror.report.document import Report
    from salt_mirror.vantages.exchange import FarExchange

    Work = Callable[[Setting, Runner, Callable[[], None]], None]


@takes("at", "view")
def audit(
    only: Annotated[
        list[str] | None, option("--only", "WORD", "Only this check, zone, view or code; may be repeated.")
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
    spread: Annotated[
        bool,
        typer.Option("--spread", help="With --from: share the zones among vantages that see the same servers."),
    ] = False,
    forecast: Annotated[
        str | None, option("--forecast", "TIME", "List the signatures and keys that end in this time, such as 30d.")
    ] = None,
    *,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """Audit the whole estate: all checks over all zones and views, asked once and judged together."""
    from salt_mirror.cli.arguments import seconds_of

    ahead = int(seconds_of(forecast, "--forecast")) if forecast is not None else None
    how = _How(only or [], skip or [], changed, sample / 100, whole_every, spread, ahead)
    _audit(how, where, asking, showing, accepted=accepted, partial=partial)


@dataclass(frozen=True, slots=True)
class _How:
    """What is audited, and how much of what is unchanged; whether several vantages share it; how many seconds
    ahead the end of signatures is listed, None for not at all."""

    only: list[str]
    skip: list[str]
    changed: bool
    share: float
    whole_every: int
    spread: bool
    ahead_s: int | None

    @property
    def says(self) -> str:
        """The audit as it might be typed, with what it looks at."""
        words = [("--only", word) for word in self.only] + [("--skip", word) for word in self.skip]
        return " ".join(["audit", *(part for pair in words for part in pair)])

    @property
    def scope(self) -> str:
        """What was left out, in words: runs of the same scope are held against each other."""
        return " ".join([*(f"+{word}" for word in sorted(self.only)), *(f"-{word}" for word in sorted(self.skip))])


def _audit(how: _How, where: Where, asking: Asking, showing: Showing, *, accepted: bool, partial: bool) -> NoReturn:
    from msgspec.structs import replace

    from salt_mirror.checks.audit.lines import ending
    from salt_mirror.checks.common.coverage import coverage
    from salt_mirror.cli.arguments import atlas_of, open_estate
    from salt_mirror.cli.audit.rounds import Round, audit_from, past_for
    from salt_mirror.cli.finishing import status_of
    from salt_mirror.cli.outputs import on_standard_output, wanted_files, written
    from salt_mirror.dns.meter import Meter
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(asking, directories=True, ages=True)
    if not estate.zones:
        raise BadInput("nothing to audit: an estate with zones is needed; name it with --estate, or run in its folder")
    covered = coverage(how.only, how.skip, estate)
    scope = how.scope
    if showing.messenger is not None:  # also for what fails before anything is asked
        showing.messenger.is_about(scope, how.says)
    plans: list[Plan] = []
    meter = Meter()
    past = None
    remedies = showing.remedies is not None
    if how.changed:
        past = past_for(showing.history, scope, whole_every=how.whole_every, remedies=remedies)
    if where.vantages and not how.spread:
        if how.changed or remedies:
            raise BadInput(
                "--from: an audit of several places is a whole one and plans nothing: no --changed, no --remedies"
            )
        round_, ran = audit_from(where, asking, estate, covered)
        scope = f"{scope} from {' '.join(where.vantages)}".strip()
        if showing.messenger is not None:
            showing.messenger.is_about(scope, how.says)
    else:
        round_ = Round(estate, atlas_of(estate), covered, past, how.share)
        ran = (_spread(where) if how.spread else _carry_out)(round_, asking, meter, plans if remedies else None)
    failed: list[str] = []
    report = _report(estate, round_, ran, meter, showing.history, scope, failed)
    if how.ahead_s is not None and report.audit:
        sheets = (one.sheet for one in round_.work.inspected)
        report = replace(report, audit=replace(report.audit, ending=ending(sheets, how.ahead_s)))
    files = wanted_files(showing, lambda report: _fragments(plans, report))
    failed += written(report, files, partial=partial)
    if not showing.quiet and not on_standard_output(files):
        _print(report, showing, accepted=accepted)
    raise typer.Exit(status_of(report, failed, showing))


def _spread(where: Where) -> Callable[[Round, Asking, Meter, list[Plan] | None], Ran]:
    """Carry an audit out over vantages that share its zones."""
    from salt_mirror.cli.vantage.asking import afar
    from salt_mirror.estate.errors import BadInput

    if not where.vantages:
        raise BadInput("--spread shares the work among vantages: --from says which")

    def carry_out(round_: Round, asking: Asking, meter: Meter, plans: list[Plan] | None) -> Ran:
        with afar(round_.atlas.estate, where) as found:
            exchange = found.shared(round_.atlas.estate)
            if not exchange.standing:
                why = next(iter(found.troubles.values()), "none is there")
                raise BadInput(f"--spread: no vantage can be used: {why}")
            ran = _carry_out(round_, asking, meter, plans, far=exchange)
            gone = found.troubles | exchange.lost
            if gone:
                ran.remarks.append(f"the zones were shared without {', '.join(gone)} ({next(iter(gone.values()))})")
            return ran

    return carry_out


def _carry_out(
    round_: Round, asking: Asking, meter: Meter, plans: list[Plan] | None, far: FarExchange | None = None
) -> Ran:
    """Run an audit, and plans what mends its findings; all of them where `plans` are wished for."""
    from salt_mirror.checks.pairs.judging import Pairs
    from salt_mirror.cli.arguments import pace_for_a_sweep
    from salt_mirror.cli.execution import run

    estate = round_.atlas.estate
    pairs = round_.work.parts.get("pairs")
    if isinstance(pairs, Pairs) and pairs.sweeps:
        pace_for_a_sweep(estate, asking.pace)
    made: list[Plan] = plans if plans is not None else []
    work = _with_plan(round_, made, everything=plans is not None)
    ran = run(
        work,
        round_.atlas,
        estate.views,
        asking,
        total=round_.work.total,
        what="things looked at",
        through=meter.through,
        far=far,
    )
    return ran._replace(plan=made[0] if made else None)


def _with_plan(
    round_: Round, plans: list[Plan], *, everything: bool
) -> Callable[[Setting, Runner, Callable[[], None]], None]:
    """Return the audit, and then what mends its findings, planned and proved over the same answers; with `everything` also
    where that is much."""
    atlas = round_.atlas

    def run(setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        from salt_mirror.checks.audit.judge import AuditJudge
        from salt_mirror.checks.common.coverage import coverage
        from salt_mirror.cli.execution import planned

        round_.run(setting, runner, tick)
        whole = round_.covered == coverage((), (), atlas.estate)
        judge = AuditJudge(atlas, round_.covered, setting, lambda: None, round_.work) if whole else None
        plans.extend(planned(round_.work.findings(), atlas, setting, runner, judge, everything=everything))

    return run


def _fragments(plans: list[Plan], report: Report) -> bytes:
    from salt_mirror.checks.plan.sets import Plan
    from salt_mirror.keeping.plans import fragments

    plan = plans[0] if plans else Plan([], [])
    return fragments(plan, f"{report.started:%Y-%m-%d %H:%M} UTC").encode("utf-8")


def _report(
    estate: Estate, round_: Round, ran: Ran, meter: Meter, history: Path | None, scope: str, failed: list[str]
) -> Report:
    """Return the report, with what the acceptances and the history have to say; a history that fails now is told in
    `failed`."""
    from salt_mirror.checks.audit.accepting import sort_out
    from salt_mirror.checks.audit.causes import with_causes
    from salt_mirror.checks.audit.lines import Audit
    from salt_mirror.cli.finishing import reading_order, repaired, report_on
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.history import FinishedRun, add_run

    work = round_.work
    standing, accepted = sort_out(with_causes(repaired(work.findings(), ran)), estate.accept, ran.started.date())
    if not round_.whole:  # what an acceptance is for may lie where nobody looked
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
            done = FinishedRun(
                scope, ran.started, ran.seconds, outcome, standing, zones, [each.finding for each in accepted], round_.whole,
                round_.looks(ran.started),
            )  # fmt: skip
            compared, zones = add_run(history, done, work.looked_at, work.apex_of)
        except BadInput as error:
            failed.append(f"--history: {error}")
    only, partly = round_.covered.told()
    audit = Audit(
        zones=zones, nothing=work.nothing, saved=ran.saved, accepted=accepted, round_trips=meter.histogram(),
        round_trip_sum=meter.sum_s, history=compared, only=only, partly=partly[:1].upper() + partly[1:],
    )  # fmt: skip
    tally = counts.__getitem__
    return report_on(
        "audit", estate, ran, tally, standing, work.remarks, total=work.total, outcome=outcome, audit=audit
    )


def _print(report: Report, showing: Showing, *, accepted: bool) -> None:
    if showing.json:
        from salt_mirror.report.json.report import as_json

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

"""`salt-mirror audit` and `salt-mirror history`: the whole estate in one command, unattended, and what became of it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

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
    finders,
    has_ipv6,
    open_estate,
)


def audit(
    estate_file: EstateOption = None,
    only: Annotated[
        list[str] | None,
        typer.Option(
            "--only", metavar="WORD", help="This check, zone, view or code alone; may be repeated.", show_default=False
        ),
    ] = None,
    skip: Annotated[
        list[str] | None,
        typer.Option("--skip", metavar="WORD", help="Leave this check, zone, view or code out.", show_default=False),
    ] = None,
    reports: Annotated[
        list[str] | None,
        typer.Option(
            "--report",
            metavar="FORMAT:FILE",
            help="Write a report: json, csv, junit, markdown, openmetrics or html; may be repeated.",
            show_default=False,
        ),
    ] = None,
    remedies: Annotated[
        Path | None,
        typer.Option(
            "--remedies",
            metavar="FILE",
            help="Write the lines that mend, zone by zone, as a master file.",
            show_default=False,
        ),
    ] = None,
    history: Annotated[
        Path | None,
        typer.Option(
            "--history",
            metavar="FILE",
            help="Keep the findings there, and say what is new and what is gone.",
            show_default=False,
        ),
    ] = None,
    accepted: Annotated[bool, typer.Option("--accepted", help="List the accepted findings too.")] = False,
    faults: FaultsOption = False,
    everything: AllOption = False,
    strict: StrictOption = False,
    as_json: JsonOption = False,
    transfer: TransferOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Audit the whole estate: all checks over all zones and views, asked once and judged together."""
    from msgspec.structs import replace

    from salt_mirror.checks.audit.accepting import sort_out
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.audit.causes import with_causes
    from salt_mirror.checks.audit.coverage import coverage
    from salt_mirror.checks.audit.work import Meter, Work
    from salt_mirror.cli.running import Manner, report_on, run_check, write_whole
    from salt_mirror.keeping.history import add_run
    from salt_mirror.cli.reports import parse_reports, remedies_by_zone, written
    from salt_mirror.dns.dialogue import Exchange
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.checks.audit.lines import Audit
    from salt_mirror.report.document import as_json as json_lines
    from salt_mirror.report.document import now

    estate = open_estate(estate_file)
    if not estate.zones:
        raise BadInput(
            "nothing to audit: an estate with zones is needed; name it with --estate, or stand in its folder"
        )
    wanted = parse_reports(reports or [])
    covered = coverage(only or [], skip or [], estate)
    atlas = Atlas(estate, resolvers=finders(estate), ipv6=has_ipv6())
    work = Work(estate, atlas, covered, now())
    meters: list[Meter] = []

    def metered(exchange: Exchange) -> Exchange:
        meters.append(Meter(exchange))
        return meters[0]

    ran = run_check(
        atlas,
        estate.views,
        Manner(transfer, pace, timeout, tries),
        work.total,
        "things looked at",
        work.run,
        through=metered,
    )
    standing, accepted_ones = sort_out(with_causes(work.findings()), estate.accept, ran.started.date())
    zones = work.zone_lines(standing)
    compared = None
    tallies = [tally for line in zones for tally in line.checks.values()]
    left = {
        "differs": any(f.weight == "fault" for f in standing),
        "unverified": any(f.outcome == "unverified" for f in standing),
    }
    counts = {
        "agrees": sum(one.agrees for one in tallies),
        "differs": sum(one.differs for one in tallies),
        "unverified": sum(one.unverified for one in tallies) if left["unverified"] else 0,
    }
    report = report_on("audit", estate, ran, lambda one: counts[one], standing, work.remarks, total=work.total)
    outcome = "differs" if left["differs"] else "unverified" if left["unverified"] else "agrees"
    if history is not None and not ran.interrupted:
        scope = " ".join([*(f"+{word}" for word in sorted(only or [])), *(f"-{word}" for word in sorted(skip or []))])
        compared, zones = add_run(history, scope, ran.started, ran.seconds, outcome, report.findings, zones)
    report = replace(
        report,
        outcome=outcome,
        audit=Audit(
            zones=zones, nothing=work.nothing, saved=ran.saved, accepted=accepted_ones,
            round_trips=meters[0].histogram() if meters else {}, round_trip_sum=meters[0].sum_s if meters else 0.0,
            history=compared,
        ),
    )  # fmt: skip
    failed = written(report, wanted)
    if remedies is not None:
        write_whole(remedies, remedies_by_zone(report, estate), "--remedies")
    if as_json:
        sys.stdout.buffer.writelines(json_lines(report, ()))
    else:
        from salt_mirror.report.terminal.audit import print_audit

        print_audit(report, sys.stdout, faults_alone=faults, everything=everything, accepted=accepted or everything)
    for problem in failed:
        print(f"salt-mirror: {problem}", file=sys.stderr)  # noqa: T201
    status = report.exit_status(strict=strict)
    raise typer.Exit(2 if failed and status in (0, 3) else status)


def history(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The history that audit --history keeps.")],
    finding: Annotated[
        str | None, typer.Argument(metavar="[PATTERN]", help="A code or a name, or a pattern of either: their lives.")
    ] = None,
) -> None:
    """List the audits of the past, or the life of a finding."""
    from salt_mirror.keeping.history import lives_in, runs_in
    from salt_mirror.report.terminal.audit import print_lives, print_runs

    if finding is None:
        print_runs(runs_in(file), sys.stdout)
    else:
        print_lives(lives_in(file, finding), finding, sys.stdout)

"""How a checking command ends: the report, the files that were wished for, what is printed, and the exit status."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from typing import Any, NoReturn

import typer
from msgspec.structs import replace

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.part import Part
from salt_mirror.checks.common.test_tree import Trees
from salt_mirror.checks.common.wording import many
from salt_mirror.cli.execution import Ran
from salt_mirror.cli.messages import UNDELIVERED, UNWRITTEN, tell
from salt_mirror.cli.options import FailOn, Showing
from salt_mirror.cli.outputs import kept, on_standard_output, parse_reports, wanted_files, written
from salt_mirror.dns.names import to_text
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome
from salt_mirror.report.document import Counts, Report

_WEIGHTS = {"fault": 0, "caution": 1, "note": 2}


def report_on(
    command: str,
    estate: Estate,
    ran: Ran,
    tally: Callable[[Outcome], int],
    findings: Iterable[Finding],
    remarks: Iterable[str] = (),
    *,
    total: int,
    looked: bool = True,
    **more: Any,
) -> Report:
    """Return the report of a check, its findings in the order in which they are read; `more` are further fields of it.

    `looked`: whether anything was looked at, without which nothing agrees.
    """
    counts = Counts(
        agrees=tally("agrees"),
        differs=tally("differs"),
        unverified=tally("unverified"),
        questions=ran.questions,
        spared=ran.spared,
        strays=ran.strays,
        late=ran.late,
    )
    said = [*remarks, *ran.remarks]
    if ran.interrupted:
        done = counts.agrees + counts.differs + counts.unverified
        said.append(f"interrupted: {done:,} were judged, of {total:,} to look at")
        counts = replace(
            counts, unverified=counts.unverified + max(0, total - done)
        )  # what was not judged is not known
    given: dict[str, Any] = {
        "command": command,
        "title": estate.title,
        "estate": str(estate.path) if estate.path else None,
        "started": ran.started,
        "seconds": ran.seconds,
        "outcome": "differs" if counts.differs else "agrees" if looked and not counts.unverified else "unverified",
        "counts": counts,
        "remarks": said,
        "interrupted": ran.interrupted,
        "findings": sorted(findings if "audit" in more else repaired(findings, ran), key=reading_order),
    }
    return Report(**(given | more))


def repaired(findings: Iterable[Finding], ran: Ran) -> Iterable[Finding]:
    """Return the findings with the repairs that are planned, where a plan was made."""
    if ran.plan is None:
        return findings
    from salt_mirror.checks.audit.repairs import with_repairs

    return with_repairs(findings, ran.plan)


def report_of(command: str, estate: Estate, ran: Ran, part: Part, remarks: Iterable[str] = (), **more: Any) -> Report:
    """Return the report of a check that was run as one part."""
    said = [*part.remarks, *remarks]
    counts = part.counts()
    if not counts.total():
        more = {"says": part.says} | more
    return report_on(
        command, estate, ran, counts.__getitem__, part.findings(), said, total=part.size, looked=part.looked > 0, **more
    )


def report_of_trees(command: str, estate: Estate, ran: Ran, part: Trees) -> Report:
    """Return the report of a check whose subjects are trees of tests; a single one says its own answer."""
    several = len(estate.views) > 1
    tests = [
        replace(test, title=f"{to_text(name)}  [{view}]" if several and view else to_text(name))
        for (name, view), test in part.in_order()
    ]
    report = report_of(command, estate, ran, part, tests=tests)
    if part.size != 1 or not tests:
        return report
    says = tests[0].says
    begin = says.split()[0]
    says = says if "." in begin else says[0].upper() + says[1:]  # a name keeps its case
    faults = len(report.weighing("fault"))
    return replace(report, says=f"{says}{'; ' + many(faults, 'fault') if faults else ''}.")


def reading_order(finding: Finding) -> tuple[int, str, bool, str, str]:
    """By weight, then view; servers that disagree come first, since that is what nobody expects."""
    return (
        _WEIGHTS[finding.weight],
        finding.view,
        not catalogue()[finding.code].servers_differ,
        finding.code,
        finding.name,
    )


def finish(
    report: Report,
    showing: Showing,
    part: Part | None = None,
    *,
    several_views: bool = False,
    failed: list[str] | None = None,
) -> NoReturn:
    """Print a report in the form that was chosen, and end the program with its exit status; `failed` is what could not be
    written."""
    failed = failed if failed is not None else []
    report = kept(report, showing, failed)
    files = wanted_files(showing)
    failed += written(report, files, partial=False)
    if showing.json:
        from salt_mirror.report.json.report import as_json

        sys.stdout.buffer.writelines(as_json(report, part.subjects() if part is not None else ()))
    elif not showing.quiet and not on_standard_output(files):
        from salt_mirror.report.terminal.page import print_report

        subjects = part.subjects() if part is not None and showing.all else ()
        agreeing = (subject for subject in subjects if subject.outcome == "agrees")
        print_report(
            report,
            sys.stdout,
            agreeing,
            several_views=several_views,
            faults_alone=showing.faults,
            everything=showing.all,
        )
    raise typer.Exit(status_of(report, failed, showing))


def status_of(report: Report, failed: list[str], showing: Showing) -> int:
    """Return the exit status of a report, after telling what could not be written, and sending what is new to the channels."""
    for problem in failed:
        tell(problem)
    undelivered = []
    if showing.messenger is not None:
        undelivered = showing.messenger.after(report, [path for _, path in parse_reports(showing.report or [])])
    for problem in undelivered:
        tell(problem)
    if failed and not report.interrupted:
        return UNWRITTEN
    return _judged(report, showing) or (UNDELIVERED if undelivered else 0)


def _judged(report: Report, showing: Showing) -> int:
    """Return the exit status by what was found, and by what is to let a run fail."""
    if showing.fail_on is None or report.interrupted:
        return report.exit_status(strict=showing.strict)
    if showing.fail_on is FailOn.NEVER:
        return 0
    if showing.fail_on is FailOn.NEW:
        return report.exit_status_of_new(strict=showing.strict)
    return report.exit_status(strict=showing.strict or showing.fail_on is FailOn.CAUTION)

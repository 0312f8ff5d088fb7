"""How a checking command ends: the report, the files that were wished for, what is printed, and the exit status."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any, NoReturn

import typer
from msgspec.structs import replace

from salt_mirror.checks.part import Part
from salt_mirror.checks.tests import Trees
from salt_mirror.checks.wording import many
from salt_mirror.cli.options import Showing
from salt_mirror.cli.running import Ran
from salt_mirror.cli.telling import UNWRITTEN, tell
from salt_mirror.dns.names import shown, to_text
from salt_mirror.estate.errors import BadInput, nearest_word
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome
from salt_mirror.keeping.writing import check_writable, write_whole
from salt_mirror.report.cleaning import clean, clean_lines
from salt_mirror.report.document import Counts, Report
from salt_mirror.report.forms import FORMS
from salt_mirror.report.forms.json import as_json

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
    """The report of a check, its findings in the order in which they are read; `more` are further fields of it.

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
        "findings": sorted(findings, key=reading_order),
    }
    return Report(**(given | more))


def report_of(command: str, estate: Estate, ran: Ran, part: Part, remarks: Iterable[str] = (), **more: Any) -> Report:
    """The report of a check that was run as one part."""
    said = [*part.remarks, *remarks]
    if not part.count("agrees") + part.count("differs") + part.count("unverified"):
        more = {"says": part.says} | more
    return report_on(
        command, estate, ran, part.count, part.findings(), said, total=part.size, looked=part.looked > 0, **more
    )


def report_of_trees(command: str, estate: Estate, ran: Ran, part: Trees) -> Report:
    """The report of a check whose subjects are trees of tests; a single one says its own answer."""
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
    return _WEIGHTS[finding.weight], finding.view, "disagree" not in finding.code, finding.code, finding.name


def finish(
    report: Report,
    showing: Showing,
    part: Part | None = None,
    *,
    several_views: bool = False,
    failed: list[str] | None = None,
) -> NoReturn:
    """Prints a report in the form that was chosen, and ends the program with its exit status; `failed` is what could not be
    written."""
    if showing.json:
        sys.stdout.buffer.writelines(as_json(report, part.subjects() if part is not None else ()))
    else:
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
    raise typer.Exit(status_of(report, failed or [], strict=showing.strict))


# Files


def parse_reports(given: list[str]) -> list[tuple[str, Path]]:
    """Reads `FORMAT:FILE`. Raises BadInput."""
    found = []
    for text in given:
        form, colon, path = text.partition(":")
        if form not in FORMS or not colon or not path:
            near = nearest_word(form, FORMS) if form not in FORMS else None
            said = f'did you mean "{near}:…"?' if near is not None else f"formats: {', '.join(FORMS)}"
            raise BadInput(f"--report: {shown(text)} is no FORMAT:FILE; {said}")
        target = Path(path)
        check_writable(target, f"--report {form}")
        found.append((form, target))
    return found


def written(report: Report, files: Mapping[Path, Callable[[Report], bytes]], *, partial: bool = True) -> list[str]:
    """Writes every file that is wanted; returns what went wrong, and leaves no half file.

    A report of an interrupted run does not take the place of another, but with `partial`.
    """
    failed = []
    for path, made in files.items():
        if report.interrupted and not partial and path.is_file():
            failed.append(f"{path} is left as it was, since the run was interrupted; --partial writes over it")
            continue
        try:
            write_whole(path, made(report))
        except BadInput as error:
            failed.append(str(error))
    return failed


def status_of(report: Report, failed: list[str], *, strict: bool) -> int:
    """The exit status of a report, after telling what could not be written."""
    for problem in failed:
        tell(problem)
    return UNWRITTEN if failed and not report.interrupted else report.exit_status(strict=strict)


def remedies_one_by_one(report: Report) -> str:
    """All remedies as one fragment of a master file, each behind a comment that says what it mends."""
    lines = [f"; what would mend the {len(report.findings):,} findings of {report.started.isoformat()}"]
    for finding in report.findings:
        if finding.remedy:
            lines += [_comment(f"{finding.code}: {finding.text}"), _live(finding.remedy)]
    return "\n".join(lines) + "\n"


def _comment(text: str) -> str:
    """One line that no server reads, whatever is in it."""
    return "; " + clean(" ".join(text.split()))


def _live(remedy: str) -> str:
    """A remedy's lines; no other character in them ends a line."""
    return clean_lines(remedy)

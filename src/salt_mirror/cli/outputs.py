"""The files around a command: names that it takes from one, and reports, remedies and the history that it writes."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from salt_mirror.dns.names import shown
from salt_mirror.estate.errors import BadInput, nearest_word
from salt_mirror.estate.reading import STANDARD_STREAM
from salt_mirror.report.document import Report
from salt_mirror.report.files import FORMS

if TYPE_CHECKING:
    from salt_mirror.cli.options import Showing

Made = dict[Path, Callable[[Report], bytes]]
"""What is written where, each made from the report."""


def names_in(path: Path, option: str = "--names") -> list[str]:
    """Return the names in a file, one a line; what follows a # is a remark. Raises BadInput, also for a file without any."""
    from salt_mirror.estate.reading import given_text, read_text

    text = given_text(sys.stdin.buffer) if str(path) == STANDARD_STREAM else read_text(path)
    names = []
    for number, line in enumerate(text.splitlines(), 1):
        words = line.partition("#")[0].split()
        if len(words) > 1:
            raise BadInput(
                f"{option}: {path}, line {number}: {shown(line.strip())} is more than one name; write one a line"
            )
        names += words
    if not names:
        raise BadInput(f"{option}: {path} has no name in it; write one a line")
    return names


def check_outputs(showing: Showing) -> None:
    """Raise BadInput for outputs that could not be written."""
    from salt_mirror.keeping.writing import check_writable

    parse_reports(showing.report or [])
    if showing.remedies is not None:
        check_writable(showing.remedies, "--remedies")
    if showing.history is not None:
        from salt_mirror.keeping.history import check_history, hold

        check_history(showing.history)
        hold(showing.history)


def check_figure(figure: Path) -> None:
    """Raise BadInput for a figure that is no PNG or SVG, or cannot be written."""
    from salt_mirror.keeping.writing import check_writable

    if figure.suffix.lower() not in (".png", ".svg"):
        raise BadInput(f"--figure: {figure} is neither a .png nor a .svg")
    check_writable(figure, "--figure")


def drawn(figure: Path, draw: Callable[[str], bytes]) -> list[str]:
    """Draw a figure in the form that its name has, and write it whole; return what went wrong."""
    from salt_mirror.keeping.writing import write_whole

    try:
        write_whole(figure, draw(figure.suffix[1:].lower()), "--figure")
    except BadInput as error:
        return [str(error)]
    return []


def parse_reports(given: list[str]) -> list[tuple[str, Path]]:
    """Read `FORMAT:FILE`. Raises BadInput."""
    found = []
    for text in given:
        from salt_mirror.keeping.writing import check_writable

        form, colon, path = text.partition(":")
        if form not in FORMS or not colon or not path:
            near = nearest_word(form, FORMS) if form not in FORMS else None
            said = f'did you mean "{near}:…"?' if near is not None else f"formats: {', '.join(FORMS)}"
            raise BadInput(f"--report: {shown(text)} is no FORMAT:FILE; {said}")
        target = Path(path)
        check_writable(target, f"--report {form}")
        found.append((form, target))
    return found


def wanted_files(showing: Showing, remedies: Callable[[Report], bytes] | None = None) -> Made:
    """Return the files that are wished for; `remedies` makes what mends, where that is not each finding's own."""
    files: Made = {path: FORMS[form].written for form, path in parse_reports(showing.report or [])}
    if showing.remedies is not None:
        files[showing.remedies] = remedies or (lambda report: remedies_one_by_one(report).encode("utf-8"))
    return files


def on_standard_output(files: Made) -> bool:
    """Return whether one of them goes to standard output, which then has nothing else."""
    return any(str(path) == STANDARD_STREAM for path in files)


def written(report: Report, files: Made, *, partial: bool = True) -> list[str]:
    """Write every file that is wanted; return what went wrong, and leave no half file.

    A report of an interrupted run does not take the place of another, but with `partial`.
    """
    failed = []
    for path, made in files.items():
        from salt_mirror.keeping.writing import write_whole

        if report.interrupted and not partial and path.is_file():
            way = "; --partial writes over it" if report.command == "audit" else ""
            failed.append(f"{path} is left as it was, since the run was interrupted{way}")
            continue
        try:
            write_whole(path, made(report))
        except BadInput as error:
            failed.append(str(error))
    return failed


def kept(report: Report, showing: Showing, failed: list[str]) -> Report:
    """Return the report with how it stands to the runs before, which it is added to; what fails is told in `failed`."""
    if showing.history is None or report.interrupted:
        return report
    from salt_mirror.keeping.history import FinishedRun, add_run

    try:
        done = FinishedRun(showing.about, report.started, report.seconds, report.outcome, report.findings)
        compared, _ = add_run(showing.history, done)
    except BadInput as error:
        failed.append(f"--history: {error}")
        return report
    return replace(report, history=compared)


def remedies_one_by_one(report: Report) -> str:
    """Return all remedies as one fragment of a master file, each behind a comment that says what it mends."""
    lines = [f"; what would mend the {len(report.findings):,} findings of {report.started.isoformat()}"]
    planned: set[str] = set()
    for finding in report.findings:
        mark = f" ({finding.fate})" if finding.fate else ""
        remedy = [line for line in _live(finding.remedy).split("\n") if line and line not in planned]
        if remedy:
            lines += [_comment(f"{finding.code}{mark}: {finding.text}"), *remedy]
        if finding.fate == "planned":  # one set may mend several findings, and stands there once
            planned.update(remedy)
    return "\n".join(lines) + "\n"


def _comment(text: str) -> str:
    """Return one line that no server reads, whatever is in it."""
    from salt_mirror.report.cleaning import clean

    return "; " + clean(" ".join(text.split()))


def _live(remedy: str) -> str:
    """Return a remedy's lines; no other character in them ends a line."""
    from salt_mirror.report.cleaning import clean_lines

    return clean_lines(remedy)

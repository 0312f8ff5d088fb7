"""Reports into files: which forms there are, and writing each whole or not at all."""

from __future__ import annotations

from difflib import get_close_matches
from pathlib import Path

from salt_mirror.cli.running import write_whole
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.report.document import Report, as_json

FORMATS = ("json", "csv", "junit", "markdown", "openmetrics", "html")


def parse_reports(given: list[str]) -> list[tuple[str, Path]]:
    """Reads `FORMAT:FILE`. Raises BadInput."""
    found = []
    for text in given:
        form, colon, path = text.partition(":")
        if form not in FORMATS or not colon or not path:
            near = get_close_matches(form, FORMATS, 1)
            hint = f'did you mean "{near[0]}:…"?' if near and form not in FORMATS else f"formats: {', '.join(FORMATS)}"
            raise BadInput(f'--report: "{text}" is no FORMAT:FILE; {hint}')
        target = Path(path)
        if not target.parent.is_dir():
            raise BadInput(f"--report: there is no folder {target.parent}")
        found.append((form, target))
    return found


def text_of(report: Report, form: str) -> str:
    """A report in one of the forms."""
    from salt_mirror.report.terminal.audit import verdict
    from salt_mirror.report.forms.text import as_csv, as_junit, as_markdown, as_openmetrics

    match form:
        case "json":
            return b"".join(as_json(report, ())).decode("utf-8")
        case "csv":
            return as_csv(report)
        case "junit":
            return as_junit(report)
        case "markdown":
            return as_markdown(report, verdict(report))
        case "openmetrics":
            return as_openmetrics(report)
        case _:
            from salt_mirror.report.forms.html import as_html

            return as_html(report, verdict(report))


def written(report: Report, wanted: list[tuple[str, Path]]) -> list[str]:
    """Writes every report that is wanted; returns what went wrong, and leaves no half file."""
    failed = []
    for form, path in wanted:
        try:
            write_whole(path, text_of(report, form), f"--report {form}")
        except BadInput as error:
            failed.append(str(error))
    return failed


def remedies_by_zone(report: Report, estate: Estate) -> str:
    """All remedies as a fragment of a master file for each zone, each behind a comment that says what it mends."""
    by_zone: dict[tuple[str, str], list[str]] = {}
    for finding in report.findings:
        if finding.remedy:
            zone = estate.zone_of(from_text(finding.name), finding.view)
            key = (to_text(zone.apex) if zone is not None else "other zones", finding.view)
            text = " ".join(finding.text.split())
            by_zone.setdefault(key, []).extend([f"; {finding.code}: {text}", finding.remedy])
    lines = [f"; what would mend the findings of {report.started.isoformat()}"]
    for (zone_name, view), remedies in sorted(by_zone.items()):
        lines += ["", f"; zone {zone_name}" + (f" in the view {view}" if view else ""), *remedies]
    return "\n".join(lines) + "\n"

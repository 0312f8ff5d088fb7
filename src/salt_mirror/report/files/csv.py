"""A report as CSV (RFC 4180): a row for each finding.

Strategy: what came from the network is in RFC 1035 presentation form by now; what a spreadsheet would run as a formula is
defused here.
"""

from __future__ import annotations

import csv
import io

from salt_mirror.catalogue import catalogue
from salt_mirror.report.cleaning import clean_lines
from salt_mirror.report.document import Report
from salt_mirror.report.phrases import evidence_line, file_lines, since_of

_COLUMNS = (
    "weight", "outcome", "code", "title", "view", "name", "type", "address", "text", "cause", "remedy", "fate", "expected",
    "evidence", "standing since", "lines",
)  # fmt: skip
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def written(report: Report) -> bytes:
    """Return one row a finding; a cell that a spreadsheet would run as a formula begins with an apostrophe."""
    file = io.StringIO()
    writer = csv.writer(file, lineterminator="\r\n")
    writer.writerow(_COLUMNS)
    since = since_of(report)
    for finding in report.findings:
        stood = since.get(finding.identity)
        cells = (
            finding.weight, finding.outcome, finding.code, catalogue()[finding.code].title, finding.view,
            finding.name, finding.type, finding.address or "",
            finding.text, finding.cause, finding.remedy, finding.fate, "; ".join(finding.expected),
            "; ".join(map(evidence_line, finding.evidence)),
            stood.isoformat() if stood is not None else "",
            "; ".join(file_lines(finding)),
        )  # fmt: skip
        writer.writerow([_defused(clean_lines(cell)) for cell in cells])
    return file.getvalue().encode("utf-8")


def _defused(cell: str) -> str:
    return f"'{cell}" if cell.startswith(_FORMULA) else cell

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
from salt_mirror.report.phrases import evidence_line, since_of

_COLUMNS = (
    "weight", "outcome", "code", "title", "view", "name", "type", "address", "text", "cause", "remedy", "fate", "expected",
    "evidence", "standing since",
)  # fmt: skip
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def written(report: Report) -> bytes:
    """One row a finding; a cell that a spreadsheet would run as a formula begins with an apostrophe."""
    file = io.StringIO()
    writer = csv.writer(file, lineterminator="\r\n")
    writer.writerow(_COLUMNS)
    since = since_of(report)
    for one in report.findings:
        stood = since.get(one.identity)
        cells = (
            one.weight, one.outcome, one.code, catalogue()[one.code].title, one.view, one.name, one.type, one.address or "",
            one.text, one.cause, one.remedy, one.fate, "; ".join(one.expected), "; ".join(map(evidence_line, one.evidence)),
            stood.isoformat() if stood is not None else "",
        )  # fmt: skip
        writer.writerow([_defused(clean_lines(cell)) for cell in cells])
    return file.getvalue().encode("utf-8")


def _defused(cell: str) -> str:
    return f"'{cell}" if cell.startswith(_FORMULA) else cell

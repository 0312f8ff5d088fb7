"""The forms of a report as a file: one line for each.

Strategy: `--report` and its help read this table; what a form needs is brought in when it is written. A form takes the
finished report and decides nothing.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from salt_mirror.report.document import Report


class ReportForm(NamedTuple):
    """One form: the module that writes it, and who reads it."""

    room: str
    readers: str

    def written(self, report: Report) -> bytes:
        """Return a report in this form, whole."""
        done: bytes = import_module(f"salt_mirror.report.{self.room}").written(report)
        return done


FORMS = {
    "json": ReportForm("json.report", "programs: everything, as --json prints it"),
    "csv": ReportForm("files.csv", "spreadsheets: a row for each finding"),
    "xlsx": ReportForm("files.xlsx", "spreadsheets: sheets for findings, unverified, zones and changes, with filters"),
    "junit": ReportForm("files.junit", "build servers: a case for each zone, fault and doubt"),
    "markdown": ReportForm("files.markdown", "tickets and merge requests"),
    "sarif": ReportForm("files.sarif", "code review: findings at the lines of zone files"),
    "openmetrics": ReportForm("files.openmetrics", "monitoring that reads text files"),
    "html": ReportForm("files.html", "people: one page in one file"),
}
"""Every form, by the word that chooses it."""

"""A report as a workbook (Office Open XML, ECMA-376 part 1): a cover, then a sheet each for findings, what could not be
verified, zones and changes, with filters on.

Strategy: a text that comes often stands in the workbook once, which takes two thirds of the time; of a report with very many
rows XlsxWriter writes each by itself, so that memory does not grow with the cells. Every text is written as text: what begins
like a formula stays what it is, also after somebody has edited the cell.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from xlsxwriter import Workbook
from xlsxwriter.format import Format
from xlsxwriter.worksheet import Worksheet

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.lines import Audit
from salt_mirror.checks.plan.sheet import PlanSheet
from salt_mirror.findings import Finding
from salt_mirror.report.cleaning import clean_lines
from salt_mirror.report.document import Report
from salt_mirror.report.phrases import REPAIRS, evidence_line, since_of

MOST_ROWS = 1_048_576
"""So many rows has a sheet at most, and so many characters a cell (ECMA-376, and every program that reads it)."""
MOST_CHARACTERS = 32_767
_IN_MEMORY = 20_000
"""A workbook of more rows is not kept in memory until its end."""
_MEASURED = 500
"""So many rows show how wide a column has to be."""
_NARROWEST, _WIDEST = 8, 60
_MOSTLY = 0.8
"""So large a part of the texts in a column fits into one line, as far as that is wide enough."""
_LINE_POINTS = 15
_FORMULA = ("=", "+", "-", "@", "\t", "\r")

Cell = str | int | float | datetime | None


class SheetTable(NamedTuple):
    """A sheet: its title, its header, its rows, what it has in it, for the cover, and how many lines of a row are shown at
    most: of findings, whose texts are long, only as many as let one see many of them."""

    title: str
    header: tuple[str, ...]
    rows: Sequence[Sequence[Cell]]
    holds: str
    lines: int = 12


def written(report: Report) -> bytes:
    """Return a workbook. Times are UTC."""
    out = io.BytesIO()
    tables = [table for table in _tables(report) if table.rows]
    many = sum(len(table.rows) for table in tables) > _IN_MEMORY
    # Without constant_memory the whole workbook is kept until the end; with it, rows have to be written in order.
    with Workbook(out, {"constant_memory": many, "strings_to_formulas": False, "strings_to_urls": False}) as book:
        book.set_properties({"title": clean_lines(report.headline), "created": report.started})
        looks = _Looks(book)
        _write_cover(book.add_worksheet("Cover"), looks, report, tables)
        for table in tables:
            _write_table(book.add_worksheet(table.title), looks, table)
    return out.getvalue()


class _Looks:
    """How cells look. Text that begins like a formula has the mark that keeps it text while somebody edits it."""

    def __init__(self, book: Workbook) -> None:
        plain = {"valign": "top"}
        quoted = {"quote_prefix": True}
        self.header = book.add_format({"bold": True, "bg_color": "#DDDDDD"})
        self.bold = book.add_format({"bold": True, "text_wrap": True} | plain)
        self._left = book.add_format({"align": "left"} | plain)
        self._time = book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss", "align": "left"} | plain)
        self._by = {
            (wraps, quotes): book.add_format({"text_wrap": wraps} | plain | (quoted if quotes else {}))
            for wraps in (False, True)
            for quotes in (False, True)
        }

    def write(self, sheet: Worksheet, row: int, column: int, value: Cell, *, wraps: bool = False) -> None:
        """Write a cell that holds just what it is given: a text is never taken for anything else. In a column of texts that
        wrap, a number is at the left, as they are."""
        if value is None or value == "":
            return
        if isinstance(value, datetime):
            sheet.write_datetime(row, column, value, self._time)
        elif isinstance(value, str):
            self.write_text(sheet, row, column, value, self._by[wraps, value.startswith(_FORMULA)])
        else:
            sheet.write_number(row, column, value, self._left if wraps else self._by[False, False])

    @staticmethod
    def write_text(sheet: Worksheet, row: int, column: int, value: str, look: Format) -> None:
        """Write a text as it can be in a cell: without control characters, and not longer than any program takes."""
        text = clean_lines(value)
        sheet.write_string(
            row, column, text if len(text) <= MOST_CHARACTERS else text[: MOST_CHARACTERS - 1] + "…", look
        )


def _tables(report: Report) -> Iterator[SheetTable]:
    since = since_of(report)
    past = report.past
    new = (
        {finding.identity for finding in (*past.new, *past.new_unverified)}
        if past is not None and past.before
        else None
    )
    certain = [finding for finding in report.findings if finding.outcome != "unverified"]
    columns = _FINDING if new is None else (*_FINDING, "standing since (UTC)", "new")

    def rows(findings: Iterable[Finding]) -> list[list[Cell]]:
        lines = []
        for finding in findings:
            line = _finding_row(finding)
            if new is not None:
                stood = since.get(finding.identity)
                line += [stood.replace(tzinfo=None) if stood else None, "new" if finding.identity in new else ""]
            lines.append(line)
        return lines

    yield SheetTable("Findings", columns, rows(certain), "faults, cautions and notes", _FEW)
    yield SheetTable("Unverified", columns, rows(report.unverified), "what could not be verified, and why", _FEW)
    if isinstance(report.audit, Audit):
        yield _zones(report.audit)
    yield _changes(report)
    if past is not None and past.gone:
        gone = [_finding_row(finding) for finding in past.gone]
        yield SheetTable("Gone", _FINDING, gone, "findings of the run before that are not there any more", _FEW)


_FEW = 3
_FINDING = (
    "weight", "name", "type", "address", "view", "title", "text", "code", "cause", "repair", "change", "expected", "answers",
)  # fmt: skip


def _finding_row(finding: Finding) -> list[Cell]:
    return [
        finding.weight, finding.name, finding.type, finding.address or "", finding.view, catalogue()[finding.code].title,
        finding.text, finding.code, finding.cause, REPAIRS[finding.fate] if finding.remedy else "", finding.remedy,
        "; ".join(finding.expected), "\n".join(map(evidence_line, finding.evidence)),
    ]  # fmt: skip


def _zones(audit: Audit) -> SheetTable:
    """Return a row for each zone: its outcome, then for each check how many subjects agree, and its faults and cautions."""
    checks = list(dict.fromkeys(check for line in audit.zones for check in line.checks))
    header = [
        "zone",
        "view",
        "outcome",
        *(f"{check}: {what}" for check in checks for what in _COUNTED),
        "servers behind",
    ]
    rows: list[list[Cell]] = []
    for line in audit.zones:
        row: list[Cell] = [line.zone, line.view, line.outcome]
        for check in checks:
            tally = line.checks.get(check)
            row += [getattr(tally, what) for what in _COUNTED] if tally is not None else [None] * len(_COUNTED)
        behind = (f"{server} by {lag:,}" for server, lag in line.serial_lag.items() if lag)
        rows.append([*row, ", ".join(behind)])
    return SheetTable("Zones", tuple(header), rows, "each zone, with the counts of each check")


_COUNTED = ("agrees", "faults", "cautions", "unverified")


def _changes(report: Report) -> SheetTable:
    """Return what a plan changes, in its order; without a plan, what mends the findings, each change once."""
    if isinstance(report.plan, PlanSheet):
        planned: list[list[Cell]] = [
            [one.view, one.zone, one.name, one.type, "\n".join(one.before), "\n".join(one.after), one.ttl_after]
            for one in report.plan.changes
        ]
        header = ("view", "zone", "name", "type", "before", "after", "TTL (s)")
        return SheetTable("Changes", header, planned, "what the plan changes, in its order")
    mended: dict[tuple[str, str, str], list[str]] = {}
    for finding in report.findings:
        if finding.remedy:
            mended.setdefault((finding.view, finding.remedy, REPAIRS[finding.fate]), []).append(finding.code)
    rows: list[list[Cell]] = [
        [view, fate, change, len(codes), ", ".join(dict.fromkeys(codes))]
        for (view, change, fate), codes in mended.items()
    ]
    columns = ("view", "repair", "change", "findings", "codes")
    return SheetTable("Changes", columns, rows, "what mends the findings, each change once")


def _write_cover(sheet: Worksheet, looks: _Looks, report: Report, tables: list[SheetTable]) -> None:
    sheet.set_column(0, 0, 22)
    sheet.set_column(1, 1, 100)
    counts = report.counts
    lines: list[tuple[str, Cell]] = [
        (report.command, report.headline),
        ("of", report.of),
        ("estate", report.estate or ""),
        ("started (UTC)", report.started.replace(tzinfo=None)),
        ("seconds", report.seconds),
        ("questions", counts.questions),
        ("agrees", counts.agrees),
        ("differs", counts.differs),
        ("unverified", counts.unverified),
        *(("remark", remark) for remark in report.remarks),
    ]
    for table in tables:
        rows = f"{len(table.rows):,} {'row' if len(table.rows) == 1 else 'rows'}: {table.holds}"
        cut = f"; only the first {MOST_ROWS - 1:,} are here" if len(table.rows) >= MOST_ROWS else ""
        lines.append((f"sheet {table.title}", rows + cut))
    lines.append(("made by", f"Salt Mirror {report.version}"))
    for row, (called, value) in enumerate(lines):
        looks.write_text(sheet, row, 0, called, looks.bold)
        if row:
            looks.write(sheet, row, 1, value, wraps=True)
        else:
            looks.write_text(sheet, row, 1, report.headline, looks.bold)


def _write_table(sheet: Worksheet, looks: _Looks, table: SheetTable) -> None:
    widths, wrapped = _set_widths(sheet, table)
    last = min(len(table.rows), MOST_ROWS - 1)
    sheet.freeze_panes(1, 0)
    sheet.autofilter(0, 0, last, len(table.header) - 1)
    for at, title in enumerate(table.header):
        looks.write_text(sheet, 0, at, title, looks.header)
    for row, cells in enumerate(table.rows[:last], 1):
        # Not every program makes a row as high as its text, and lines that are cut off are lines that nobody reads.
        lines = max((_lines(_shown(cells[at]), widths[at]) for at in wrapped), default=1)
        if lines > 1:
            sheet.set_row(row, _LINE_POINTS * min(lines, table.lines))
        for at, value in enumerate(cells):
            looks.write(sheet, row, at, value, wraps=at in wrapped)


def _lines(text: str, width: int) -> int:
    """Return how many lines a text takes in a column, broken between words or within a long one."""
    return sum(max(1, -(-len(line) * 10 // (width * 9))) for line in text.split("\n"))


def _set_widths(sheet: Worksheet, table: SheetTable) -> tuple[list[int], set[int]]:
    """Set how wide columns are, in characters, and return that, and the columns whose text is broken into lines."""
    widths, wrapped = [], set()
    for at, title in enumerate(table.header):
        texts = [_shown(row[at]) for row in table.rows[:_MEASURED]]
        lengths = sorted(max(map(len, text.split("\n"))) for text in texts)
        widest = max(len(title) + 4, lengths[int(len(lengths) * _MOSTLY)])
        widths.append(min(max(widest + 1, _NARROWEST), _WIDEST))
        sheet.set_column(at, at, widths[at])
        if lengths[-1] >= widths[at] or any("\n" in text for text in texts):
            wrapped.add(at)
    return widths, wrapped


def _shown(value: Cell) -> str:
    return "" if value is None else str(value)

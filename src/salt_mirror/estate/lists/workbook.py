"""Rows of a workbook (Office Open XML, ECMA-376 part 1, section 18), as text.

Strategy: openpyxl reads the cells of one sheet, row by row. What its way of reading in rows leaves out is found in the sheet's
XML beforehand: cells that are merged downwards, each of which counts as filled with what is in the first; and formulas whose
last value was not stored, which would look like empty cells. Everything that a file claims of its size is bounded.
"""

from __future__ import annotations

import io
import re
import warnings
import zipfile
from collections.abc import Iterable
from datetime import date, datetime
from typing import TYPE_CHECKING, Any, NamedTuple
from xml.etree.ElementTree import ParseError

from salt_mirror.dns.names import printable
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.table import Rows

if TYPE_CHECKING:
    from pathlib import Path

    from openpyxl.workbook import Workbook

MOST_UNPACKED = 512 << 20
"""So many bytes may be in a workbook, all its parts together."""
MOST_PARTS = 10_000
MOST_ROWS = 1_048_576
"""So many rows has a sheet at most (ECMA-376, and every program that writes one)."""
MOST_COLUMNS = 256
"""Columns beyond are not looked at; the format has 16,384, and a row may claim all of them with one cell."""
MOST_MERGED = 100_000
_PIECE = 1 << 20
_OVERLAP = 4096

_MERGED = re.compile(rb"<(?:\w+:)?mergeCell\s[^>]*?ref=\"([A-Z]{1,3})(\d{1,7}):([A-Z]{1,3})(\d{1,7})\"")
# A cell that has a formula, and no value behind it.
_UNSTORED = re.compile(
    rb"(<(?:\w+:)?c\s[^>]*?r=\"([A-Z]{1,3})(\d{1,7})\"[^>]*>)"
    rb"<(?:\w+:)?f\b[^>]*?(?:/>|>[^<]*</(?:\w+:)?f>)(?:<(?:\w+:)?v\s*/>|<(?:\w+:)?v></(?:\w+:)?v>)?</(?:\w+:)?c>"
)


class _SheetMarks(NamedTuple):
    """What a sheet's XML says of cells that have no value of their own: merged ranges (first row, last row, first column, all
    from 1), and in rows with formulas whose value is not stored the column of the first of these."""

    merged: dict[tuple[int, int, int], None]
    unstored: dict[int, int]


def workbook_rows(content: bytes, path: Path, sheet: str = "") -> Rows:
    """Return the rows of a sheet, the first one where none is named. Dates become ISO 8601, whole numbers lose their point,
    formulas are what they last came to. Raises BadInput with `path`."""
    try:
        yield from _rows(content, sheet)
    except BadInput as error:
        raise BadInput.at(path, None, str(error)) from None
    # Whatever a damaged file makes the library stumble over: it may not end the program.
    except (zipfile.BadZipFile, ParseError, OSError, ValueError, KeyError, TypeError, AttributeError, IndexError,
            EOFError, NotImplementedError, RuntimeError, OverflowError, AssertionError) as error:  # fmt: skip
        what = printable(str(error))[:200] or type(error).__name__
        raise BadInput.at(path, None, f"is no workbook that can be read ({what}); save it as .xlsx or as CSV") from None


def _rows(content: bytes, sheet: str) -> Rows:
    import openpyxl

    with zipfile.ZipFile(io.BytesIO(content)) as parts:
        _check_size(parts)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # about styles and extensions that it leaves out
            book = openpyxl.load_workbook(io.BytesIO(content), read_only=True, data_only=True, keep_links=False)
            try:
                table = _sheet_of(book, sheet)
                with parts.open(table._worksheet_path) as stream:
                    marks = _marks_of(iter(lambda: stream.read(_PIECE), b""))
                table.reset_dimensions()  # what a file says of its size is often wrong
                values = table.iter_rows(max_row=MOST_ROWS, values_only=True)
                yield from _filled(values, marks)
            finally:
                book.close()


def _check_size(parts: zipfile.ZipFile) -> None:
    """Raise BadInput for an archive that unpacks to more than any workbook has, or that is locked."""
    entries = parts.infolist()
    unpacked = sum(entry.file_size for entry in entries)
    if unpacked > MOST_UNPACKED or len(entries) > MOST_PARTS:
        size = f"{unpacked >> 20:,} MiB in {len(entries):,} parts"
        raise BadInput(f"unpacks to {size}; at most {MOST_UNPACKED >> 20} MiB in {MOST_PARTS:,} is read")
    if not any(entry.filename.lower().endswith("workbook.xml") for entry in entries):
        raise BadInput("is no workbook; expected .xlsx, or a list as text")


def _sheet_of(book: Workbook, named: str) -> Any:
    """Return the sheet that is named, in any case of letters; else the first. Raises BadInput."""
    sheets = {one.title: one for one in book.worksheets}
    if not sheets:
        raise BadInput("has no sheet with cells")
    if not named:  # what is hidden is mostly there for the other sheets' formulas
        return next((one for one in sheets.values() if one.sheet_state == "visible"), next(iter(sheets.values())))
    for title, table in sheets.items():
        if title.strip().casefold() == named.strip().casefold():
            return table
    raise BadInput.unknown("there is no sheet", named, sheets)


def _marks_of(pieces: Iterable[bytes]) -> _SheetMarks:
    """Return what the XML of a sheet, in pieces, says of merged cells and of formulas without a value. Raises BadInput."""
    marks = _SheetMarks({}, {})
    left = b""
    for piece in pieces:
        text = left + piece  # the pieces overlap, so that nothing is cut in two
        for match in _UNSTORED.finditer(text):
            if b't="str"' not in match[1]:  # that one came to an empty text
                marks.unstored.setdefault(int(match[3]), _column(match[2]))
        for match in _MERGED.finditer(text):
            if match[2] != match[4]:
                marks.merged[int(match[2]), int(match[4]), _column(match[1])] = None
        if len(marks.merged) > MOST_MERGED:
            raise BadInput(f"has more than {MOST_MERGED:,} merged cells")
        left = text[-_OVERLAP:]
    return marks


def _column(letters: bytes) -> int:
    """Return the number of a column, from 1, by its letters."""
    number = 0
    for letter in letters:
        number = number * 26 + letter - 64
    return number


def _filled(rows: Iterable[tuple[object, ...]], marks: _SheetMarks) -> Rows:
    """Return rows as text, cells that are merged downwards filled. A row with a formula that has no stored value cannot be
    read. What is merged to the right stays in its first cell: it is mostly a heading."""
    ahead = sorted(marks.merged, reverse=True)
    filling: list[tuple[int, int, str]] = []  # last row, column, what is in it
    for number, values in enumerate(rows, 1):
        cells = [_text(value) for value in values[:MOST_COLUMNS]]
        if number in marks.unstored:
            place = f"{_letters(marks.unstored[number])}{number}"
            yield (
                number,
                BadInput(f"the cell {place} is a formula whose value was not stored; open and save the file once"),
            )
            continue
        filling = [area for area in filling if area[0] >= number]
        for _, column, text in filling:
            cells += [""] * (column - len(cells))
            cells[column - 1] = text
        while ahead and ahead[-1][0] <= number:
            _, last, column = ahead.pop()
            if column <= len(cells):
                filling.append((last, column, cells[column - 1]))
        yield number, cells


def _letters(column: int) -> str:
    found = ""
    while column:
        column, rest = divmod(column - 1, 26)
        found = chr(65 + rest) + found
    return found


def _text(value: object) -> str:
    """Return what is in a cell as a person reads it."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, datetime) and not (value.hour or value.minute or value.second):
        return value.date().isoformat()
    if isinstance(value, date):
        return value.isoformat(" ") if isinstance(value, datetime) else value.isoformat()
    return str(value)

"""Tables as comma-separated values, with a header (RFC 4180).

Strategy: such files come from spreadsheets, so a byte order mark or a semicolon as separator is no obstacle. What is in the
rows is `estate.table`'s.
"""

from __future__ import annotations

import csv
import io
import re

from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.table import Rows

_SOMETHING = re.compile(r"\S")
_LINE_END = re.compile(r"[\r\n]|\Z")


def csv_rows(text: str) -> Rows:
    """Return the rows of a text, each with its first line."""
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter_of(text), strict=True)
    line = 1
    while True:
        try:
            row = next(rows, None)
        except csv.Error as error:
            yield line, BadInput(str(error))
        else:
            if row is None:
                return
            yield line, row
        line = rows.line_num + 1


def has_our_header(text: str) -> bool:
    """Return whether a table begins with our columns, so that nothing else has to be found out about it."""
    first = _first_line(text)
    return {"name", "type", "value"} <= {cell.strip().lower() for cell in first.split(delimiter_of(first))}


def delimiter_of(text: str) -> str:
    """Return what parts the cells of a table: whichever of comma, semicolon, tab and bar its first line has most of."""
    return max(",;\t|", key=_first_line(text).count)


def _first_line(text: str) -> str:
    """Return the first line that is not empty; the text behind it, which may be long, is not looked at."""
    begin = _SOMETHING.search(text)
    if begin is None:
        return ""
    at = max(text.rfind(end, 0, begin.start()) for end in "\r\n") + 1
    return text[at : _LINE_END.search(text, begin.start()).start()]  # type: ignore[union-attr]  # the text's end is one

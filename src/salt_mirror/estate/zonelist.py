"""A list of zones as somebody has it: a name a line, a table with a column of names, or what another program exported.

Strategy: only names are wanted, so whatever else stands on a line is passed over; a table is told by a header that names the
column. A name that is none is an error with its line, since a zone that is left out silently is one that nobody checks.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from pathlib import Path

from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import Name, shown
from salt_mirror.estate.csvfile import delimiter_of
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.reading import read_text

_COLUMNS = ("zone", "zonename", "zone name", "name", "domain", "origin")
_CELL_ENDS = re.compile(r"[\s,|]+")
_COMMENTS = ("#", ";", "//")


def read_zone_list(path: Path) -> list[Name]:
    """Return the zones in a list, each once, in the order of the file. Raises BadInput with file and line."""
    found: dict[Name, None] = {}
    for number, text in _names_in(read_text(path)):
        try:
            with about(f"{path}, line {number}"):
                found[zone_name(text)] = None
        except Unusable as error:
            raise BadInput(str(error)) from None
    if not found:
        raise BadInput.at(path, None, "names no zone; expected one a line, or a table with a column zone or name")
    return list(found)


def _names_in(text: str) -> Iterator[tuple[int, str]]:
    lines = text.splitlines()
    first = next((line for line in lines if line.strip() and not line.lstrip().startswith(_COMMENTS)), "")
    delimiter = delimiter_of(first)
    header = [cell.strip().lower() for cell in next(csv.reader([first], delimiter=delimiter), [])]
    column = next((header.index(one) for one in _COLUMNS if one in header), None)
    if column is None:
        for number, line in enumerate(lines, 1):
            bare = line.partition("#")[0].partition(";")[0].strip()
            if bare and not bare.startswith("//"):
                yield number, _CELL_ENDS.split(bare)[0].strip("\"'")
        return
    reader = csv.reader(io.StringIO(text), delimiter=delimiter)
    begun = False
    for row in reader:
        if not begun:
            begun = [cell.strip().lower() for cell in row] == header
        elif any(cell.strip() for cell in row):
            if column >= len(row):
                raise BadInput(f"line {reader.line_num}: {shown(','.join(row))} has no column {header[column]}")
            yield reader.line_num, row[column].strip()

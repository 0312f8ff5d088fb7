"""Expectations from CSV: `name,type,value[,ttl][,note]`, with a header (RFC 4180).

Strategy: people export such files from spreadsheets, so the columns may stand in any order and a byte order mark or a
semicolon as separator is no obstacle; but an unknown column is an error, since it is mostly a misspelt one. A name with a
dot in it is absolute, with or without the final one; a single label stands in the zone.
"""

from __future__ import annotations

import csv
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING

from salt_mirror.dns.names import BadName, Name, from_text, shown
from salt_mirror.dns.records import MAX_TTL, BadRecord, rdata_from_text, type_from_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation

if TYPE_CHECKING:
    import _csv

COLUMNS = ("name", "type", "value", "ttl", "note")
_NEEDED = 3


def read_csv(path: Path, origin: Name) -> list[Expectation]:
    """Reads the records of a CSV file; single labels are completed with `origin`. Raises BadInput with file and line."""
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            first = file.readline()
            file.seek(0)
            comma = ";" if first.count(";") > first.count(",") else ","
            rows = csv.reader(file, delimiter=comma, strict=True)
            return _read_rows(rows, path, origin)
    except UnicodeDecodeError as error:
        raise BadInput.at(path, None, f"is no UTF-8 text (byte {error.start})") from None
    except OSError as error:
        raise BadInput.at(path, None, f"cannot be read: {error.strerror}") from None


def _read_rows(rows: _csv.Reader, path: Path, origin: Name) -> list[Expectation]:
    found: list[Expectation] = []
    columns: list[str] | None = None
    places: list[int] = []
    line = 1
    try:
        for row in rows:
            if any(cell.strip() for cell in row):
                if columns is None:
                    columns = _header(row)
                    places = [columns.index(column) if column in columns else -1 for column in COLUMNS]
                else:
                    found.append(_expectation(row, columns, places, path, line, origin))
            line = rows.line_num + 1
    except (csv.Error, BadName, BadRecord) as error:
        raise BadInput.at(path, line, str(error)) from None
    if columns is None:
        raise BadInput.at(path, None, f"is empty; the first line must be the header {','.join(COLUMNS)}")
    return found


def _header(row: list[str]) -> list[str]:
    columns = [cell.strip().lower() for cell in row]
    for column in columns:
        if column not in COLUMNS:
            near = get_close_matches(column, COLUMNS, 1)
            hint = f'; did you mean "{near[0]}"?' if near else ""
            raise BadRecord(
                f"unknown column {shown(column)}{hint} The header is {','.join(COLUMNS)}, the last two optional"
            )
    for column in COLUMNS[:_NEEDED]:
        if columns.count(column) != 1:
            raise BadRecord(f'the header wants one column "{column}"; it is {",".join(COLUMNS)}, the last two optional')
    return columns


def _expectation(
    row: list[str], columns: list[str], places: list[int], path: Path, line: int, origin: Name
) -> Expectation:
    if len(row) > len(columns):
        raise BadRecord(f"{len(row)} cells under a header of {len(columns)}")
    if len(row) < len(columns):
        row = row + [""] * (len(columns) - len(row))
    name, kind, value, ttl, note = [row[at].strip() if at >= 0 else "" for at in places]
    if not (name and kind and value):
        empty = COLUMNS[[name, kind, value].index("")]
        raise BadRecord(f'nothing stands in the column "{empty}"')
    rdtype = type_from_text(kind)
    if ttl and not (ttl.isascii() and ttl.isdigit() and int(ttl) <= MAX_TTL):
        raise BadRecord(f"{shown(ttl)} is no TTL; write whole seconds, at most {MAX_TTL}")
    return Expectation(
        from_text(name, origin if "." not in name else None),
        rdtype,
        rdata_from_text(rdtype, value, origin if "." not in value.rsplit(None, 1)[-1] else None),
        ttl=int(ttl) if ttl else None,
        source=path,
        line=line,
        note=note or None,
    )

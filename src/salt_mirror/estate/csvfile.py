"""Expectations from CSV: `name,type,value` and, as wanted, `ttl,presence,lifetime,owner,note`, with a header (RFC 4180).

Strategy: people export such files from spreadsheets, so the columns may stand in any order and a byte order mark or a
semicolon as separator is no obstacle; but an unknown column is an error, since it is mostly a misspelt one. A name with a
dot in it is absolute, with or without the final one; a single label stands in the zone.
"""

from __future__ import annotations

import csv
import io
from pathlib import Path

from salt_mirror.dns.errors import Unusable, number_in
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.records import MAX_TTL, BadRecord, rdata_from_text, type_from_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import LIFETIMES, PRESENCES, Expectation
from salt_mirror.estate.reading import read_text

COLUMNS = ("name", "type", "value", "ttl", "presence", "lifetime", "owner", "note")
_NEEDED = 3


def read_csv(path: Path, origin: Name, problems: list[Unusable] | None = None) -> list[Expectation]:
    """Reads the records of a CSV file; single labels are completed with `origin`. Raises BadInput with file and line.

    With `problems`, a damaged line is put there instead and does not hide the rest.
    """
    return read_csv_text(read_text(path, as_is=True), path, origin, problems)


def read_csv_text(text: str, path: Path, origin: Name, problems: list[Unusable] | None = None) -> list[Expectation]:
    """The same for a text that is at hand already; `path` is what errors name."""
    first = text.partition("\n")[0]
    comma = ";" if first.count(";") > first.count(",") else ","
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=comma, strict=True)
    found: list[Expectation] = []
    columns: list[str] | None = None
    places: list[int] = []
    line = 1
    while True:
        try:
            row = next(rows, None)
            if row is None:
                break
            if any(cell.strip() for cell in row):
                if columns is None:
                    columns = _header(row)
                    places = [columns.index(column) if column in columns else -1 for column in COLUMNS]
                else:
                    found.append(_expectation(row, columns, places, path, line, origin))
        except (csv.Error, Unusable) as error:
            problem = BadInput.at(path, line, str(error))
            if problems is None or columns is None:
                raise problem from None
            problems.append(problem)
        line = rows.line_num + 1
    if columns is None:
        raise BadInput.at(path, None, f"is empty; the first line must be the header {','.join(COLUMNS)}")
    return found


def _header(row: list[str]) -> list[str]:
    columns = [cell.strip().lower() for cell in row]
    for column in columns:
        if column not in COLUMNS:
            rest = f"the header is {','.join(COLUMNS)}, all but the first three optional"
            raise BadInput.unknown("unknown column", column, COLUMNS, otherwise=rest)
    for column in COLUMNS[:_NEEDED]:
        if columns.count(column) != 1:
            rest = f"it is {','.join(COLUMNS)}, all but the first three optional"
            raise BadInput(f'the header wants one column "{column}"; {rest}')
    return columns


def _expectation(
    row: list[str], columns: list[str], places: list[int], path: Path, line: int, origin: Name
) -> Expectation:
    if len(row) > len(columns):
        raise BadInput(f"{len(row)} cells under a header of {len(columns)}")
    if len(row) < len(columns):
        row = row + [""] * (len(columns) - len(row))
    return expectation_of([row[at].strip() if at >= 0 else "" for at in places], path, line, origin)


def expectation_of(cells: list[str], path: Path, line: int, origin: Name) -> Expectation:
    """An expectation from texts in the order of COLUMNS, empty where there is none. Raises Unusable."""
    name, kind, value, ttl, presence, lifetime, owner, note = cells
    if not (name and kind and (value or presence == "absent")):
        empty = COLUMNS[[name, kind, value].index("")]
        raise BadRecord(f'nothing stands in the column "{empty}"')
    rdtype = type_from_text(kind)
    if ttl and number_in(ttl, MAX_TTL) is None:
        raise BadRecord(f"{shown(ttl)} is no TTL; write whole seconds, at most {MAX_TTL}")
    if presence and presence not in PRESENCES:
        raise BadRecord(f"{shown(presence)} is no presence; write one of {', '.join(PRESENCES)}")
    if lifetime and lifetime not in LIFETIMES:
        raise BadRecord(f"{shown(lifetime)} is no lifetime; write one of {', '.join(LIFETIMES)}")
    return Expectation(
        from_text(name, origin if "." not in name else None),
        rdtype,
        rdata_from_text(rdtype, value, origin if "." not in value.rsplit(None, 1)[-1] else None) if value else b"",
        ttl=number_in(ttl, MAX_TTL),
        source=path,
        line=line,
        note=note or None,
        presence=presence or "present",
        lifetime=lifetime or None,
        owner=owner or None,
    )

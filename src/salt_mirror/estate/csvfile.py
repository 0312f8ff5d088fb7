"""Expectations from CSV: `name,type,value` and, as wanted, `ttl,presence,lifetime,owner,note`, with a header (RFC 4180).

Strategy: people export such files from spreadsheets, so the columns may stand in any order and a byte order mark or a
semicolon as separator is no obstacle; but an unknown column is an error, since it is mostly a misspelt one. A name with a
dot in it is absolute, with or without the final one; a single label stands in the zone.
"""

from __future__ import annotations

import csv
from collections.abc import Iterable
from difflib import get_close_matches
from itertools import chain
from pathlib import Path

from salt_mirror.dns.names import BadName, Name, from_text, shown
from salt_mirror.dns.records import MAX_TTL, BadRecord, rdata_from_text, type_from_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import LIFETIMES, PRESENCES, Expectation

COLUMNS = ("name", "type", "value", "ttl", "presence", "lifetime", "owner", "note")
_NEEDED = 3


def read_csv(path: Path, origin: Name, problems: list[BadInput] | None = None) -> list[Expectation]:
    """Reads the records of a CSV file; single labels are completed with `origin`. Raises BadInput with file and line.

    With `problems`, a damaged line is put there instead and does not hide the rest.
    """
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            return read_csv_lines(file, path, origin, problems)
    except UnicodeDecodeError as error:
        raise BadInput.at(path, None, f"is no UTF-8 text (byte {error.start})") from None
    except OSError as error:
        raise BadInput.at(path, None, f"cannot be read: {error.strerror}") from None


def read_csv_lines(
    lines: Iterable[str], path: Path, origin: Name, problems: list[BadInput] | None = None
) -> list[Expectation]:
    """The same for lines that are at hand already; `path` is what errors name."""
    every = iter(lines)
    first = next(every, "")
    comma = ";" if first.count(";") > first.count(",") else ","
    rows = csv.reader(chain((first,), every), delimiter=comma, strict=True)
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
        except (csv.Error, BadName, BadRecord) as error:
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
            near = get_close_matches(column, COLUMNS, 1)
            hint = f'; did you mean "{near[0]}"?' if near else ""
            raise BadRecord(
                f"unknown column {shown(column)}{hint} The header is {','.join(COLUMNS)}, all but the first three optional"
            )
    for column in COLUMNS[:_NEEDED]:
        if columns.count(column) != 1:
            raise BadRecord(
                f'the header wants one column "{column}"; it is {",".join(COLUMNS)}, all but the first three optional'
            )
    return columns


def _expectation(
    row: list[str], columns: list[str], places: list[int], path: Path, line: int, origin: Name
) -> Expectation:
    if len(row) > len(columns):
        raise BadRecord(f"{len(row)} cells under a header of {len(columns)}")
    if len(row) < len(columns):
        row = row + [""] * (len(columns) - len(row))
    return expectation_of([row[at].strip() if at >= 0 else "" for at in places], path, line, origin)


def expectation_of(cells: list[str], path: Path, line: int, origin: Name) -> Expectation:
    """An expectation from texts in the order of COLUMNS, empty where there is none. Raises BadRecord or BadName."""
    name, kind, value, ttl, presence, lifetime, owner, note = cells
    if not (name and kind and (value or presence == "absent")):
        empty = COLUMNS[[name, kind, value].index("")]
        raise BadRecord(f'nothing stands in the column "{empty}"')
    rdtype = type_from_text(kind)
    if ttl and not (ttl.isascii() and ttl.isdigit() and int(ttl) <= MAX_TTL):
        raise BadRecord(f"{shown(ttl)} is no TTL; write whole seconds, at most {MAX_TTL}")
    if presence and presence not in PRESENCES:
        raise BadRecord(f"{shown(presence)} is no presence; write one of {', '.join(PRESENCES)}")
    if lifetime and lifetime not in LIFETIMES:
        raise BadRecord(f"{shown(lifetime)} is no lifetime; write one of {', '.join(LIFETIMES)}")
    return Expectation(
        from_text(name, origin if "." not in name else None),
        rdtype,
        rdata_from_text(rdtype, value, origin if "." not in value.rsplit(None, 1)[-1] else None) if value else b"",
        ttl=int(ttl) if ttl else None,
        source=path,
        line=line,
        note=note or None,
        presence=presence or "present",
        lifetime=lifetime or None,
        owner=owner or None,
    )

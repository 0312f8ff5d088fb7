"""Expectations from CSV: `name,type,value` and, as wanted, `ttl,presence,lifetime,owner,note`, with a header (RFC 4180).

Strategy: people export such files from spreadsheets, so the columns may stand in any order and a byte order mark or a
semicolon as separator is no obstacle; but an unknown column is an error, since it is mostly a misspelt one. A name with a
dot in it is absolute, with or without the final one; a single label stands in the zone.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from salt_mirror.dns.errors import Unusable, number_in
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.records import MAX_TTL, A, BadRecord, rdata_from_text, type_from_text
from salt_mirror.estate.errors import BadInput, BadRow, put_aside
from salt_mirror.estate.expectations import LIFETIMES, PRESENCES, Expectation
from salt_mirror.estate.forms import address_in

COLUMNS = ("name", "type", "value", "ttl", "presence", "lifetime", "owner", "note")
_NEEDED = 3
_SOMETHING = re.compile(r"\S")
_LINE_END = re.compile(r"[\r\n]|\Z")


def read_csv_text(
    text: str,
    path: Path,
    origin: Name,
    problems: list[Unusable] | None = None,
    named: Mapping[str, str] | None = None,
    zone_at: Callable[[bytes], Name | None] = lambda _: None,
) -> list[Expectation]:
    """Read the records of a table; single labels are completed with `origin`. Raises BadInput with `path`, which errors name,
    and line. With `problems`, a damaged line is put there instead and do not hide the rest.

    `named` are our columns by those of a table that somebody else laid out: its others are kept as a note, and where it has no
    types, a value that is an address stands for one. `zone_at` completes the short name of such an address.
    """
    comma = delimiter_of(text)
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=comma, strict=True)
    found: list[Expectation] = []
    columns: list[str] | None = None
    places: list[int] = []
    line = 1
    while True:
        row: list[str] | None = None
        try:
            row = next(rows, None)
            if row is None:
                break
            if any(cell.strip() for cell in row):
                if columns is None:
                    columns = _foreign_header(row, named) if named else _header(row, rows)
                    places = [columns.index(column) if column in columns else -1 for column in COLUMNS]
                elif named:
                    found += _foreign(row, columns, places, path, line, origin, zone_at)
                else:
                    found.append(_expectation(row, columns, places, path, line, origin))
        except (csv.Error, Unusable) as error:
            bad = BadRow.at(path, line, str(error))
            bad.subject = _subject(row or [], places, origin)
            put_aside(bad, problems if columns is not None else None)
        line = rows.line_num + 1
    if columns is None:
        raise BadInput.at(path, None, f"is empty; the first line must be the header {','.join(COLUMNS)}")
    return found


def _subject(row: list[str], places: list[int], origin: Name) -> tuple[Name, int] | None:
    """Return the name and the type of a row that cannot be used; None where the name is what is wrong with it."""
    cells = [row[at].strip() if 0 <= at < len(row) else "" for at in places[:2]]
    return subject_of(cells[0], cells[1], origin) if len(cells) == 2 and cells[0] else None


def subject_of(name: str, kind: str, origin: Name) -> tuple[Name, int] | None:
    """Return the name and the type in two cells; A where there is no type. None where either is none."""
    try:
        return from_text(name, origin if "." not in name else None), type_from_text(kind) if kind else A
    except Unusable:
        return None


def _header(row: list[str], rows: Iterable[list[str]]) -> list[str]:
    """Return our columns in their order. Raises BadInput for another header; what follows it shows which columns are meant."""
    columns = [cell.strip().lower() for cell in row]
    guess = guessed_columns(row, rows) if not set(columns) & set(COLUMNS[:_NEEDED]) else ""
    if guess:
        raise BadInput(f'no column is called name, type or value; by what is in them: --columns "{guess}"')
    for column in columns:
        if column not in COLUMNS:
            rest = f"the header is {','.join(COLUMNS)}, all but the first three optional"
            raise BadInput.unknown("unknown column", column, COLUMNS, otherwise=rest)
    for column in COLUMNS[:_NEEDED]:
        if columns.count(column) != 1:
            rest = f"it is {','.join(COLUMNS)}, all but the first three optional"
            raise BadInput(f'the header wants one column "{column}"; {rest}')
    return columns


_GUESSED_BY = 200
"""So many rows show what a column has in it."""
_MOSTLY = 0.6
_CALLED = re.compile(r"name|host|device|dns", re.IGNORECASE)
_HOST = re.compile(
    r"(?=.*[A-Za-z])[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?)*\.?"
)


def guessed_columns(header: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """Return which columns of somebody else's table are the name and the value, as --columns wants it: that whose cells are
    addresses, and that whose cells are the most different host names. Empty where none is."""
    try:
        sample = [row for row, _ in zip(rows, range(_GUESSED_BY), strict=False)]
    except csv.Error:
        return ""
    value, name, most = "", "", 0.0
    for at, called in enumerate(cell.strip() for cell in header):
        cells = [row[at].strip() for row in sample if at < len(row) and row[at].strip()]
        if not cells or not called or "," in called or "=" in called or '"' in called:
            continue
        if not value and sum(address_in(cell) is not None for cell in cells) >= _MOSTLY * len(cells):
            value = called
        hosts = {cell for cell in cells if _HOST.fullmatch(cell) and address_in(cell) is None}
        # A status or a site has the same few words again and again; between two columns as varied what they are called decides.
        varied = len(hosts) + (0.5 if _CALLED.search(called) else 0.0)
        if len(hosts) >= _MOSTLY * len(cells) and varied > most:
            name, most = called, varied
    return f"name={name},value={value}" if name and value else ""


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


def _foreign_header(row: list[str], named: Mapping[str, str]) -> list[str]:
    """Return the columns of somebody else's table, ours in the place of those that were named."""
    theirs = [cell.strip().lower() for cell in row]
    ours = {}
    for column, called in named.items():
        if theirs.count(called.lower()) != 1:
            raise BadInput.unknown("there is no one column called", called, [cell.strip() for cell in row])
        ours[theirs.index(called.lower())] = column
    return [ours.get(number, f"={cell.strip()}") for number, cell in enumerate(row)]


def _foreign(
    row: list[str], columns: list[str], places: list[int], path: Path, line: int, origin: Name,
    zone_at: Callable[[bytes], Name | None],
) -> Iterator[Expectation]:  # fmt: skip
    """Return what a row of somebody else's table says. One without a name or without a value says nothing."""
    if len(row) > len(columns):
        raise BadInput(f"{len(row)} cells under a header of {len(columns)}")
    row = row + [""] * (len(columns) - len(row))
    cells = [row[at].strip() if at >= 0 else "" for at in places]
    if not cells[0] or not cells[2]:
        return
    rest = (
        f"{column[1:]}: {cell.strip()}"
        for column, cell in zip(columns, row, strict=True)
        if column.startswith("=") and cell.strip()
    )
    cells[-1] = "; ".join(rest)
    address = address_in(cells[2])
    if not cells[1]:
        if address is None:
            raise BadRecord(f"{shown(cells[2])} is no address, and there is no column with its type")
        cells[1] = "A" if len(address) == 4 else "AAAA"
    yield expectation_of(cells, path, line, (zone_at(address) if address is not None else None) or origin)


def _expectation(
    row: list[str], columns: list[str], places: list[int], path: Path, line: int, origin: Name
) -> Expectation:
    if len(row) > len(columns):
        raise BadInput(f"{len(row)} cells under a header of {len(columns)}")
    if len(row) < len(columns):
        row = row + [""] * (len(columns) - len(row))
    return expectation_of([row[at].strip() if at >= 0 else "" for at in places], path, line, origin)


def expectation_of(cells: list[str], path: Path, line: int, origin: Name) -> Expectation:
    """Return an expectation from texts in the order of COLUMNS, empty where there is none. Raises Unusable."""
    name, kind, value, ttl, presence, lifetime, owner, note = cells
    if not (name and kind and (value or presence == "absent")):
        empty = COLUMNS[[name, kind, value].index("")]
        raise BadRecord(f'there is nothing in the column "{empty}"')
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

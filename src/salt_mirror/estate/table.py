"""Expectations from the rows of a table: our columns `name,type,value` and, as wanted, `ttl,presence,lifetime,owner,note`, or
those of a table that somebody else laid out.

Strategy: people export such tables from spreadsheets and address management, so a title may stand above the header and the
columns in any order; but an unknown column of ours is an error, since it is mostly a misspelt one. A name with a dot in it is
absolute, with or without the final one; a single label, and what ends in a label such as `_tcp`, is relative to the zone.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from itertools import chain, islice
from pathlib import Path
from socket import AF_INET, AF_INET6, inet_ntop
from types import MappingProxyType
from typing import NamedTuple

from salt_mirror.dns.errors import Unusable, number_in
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.records import AAAA, MAX_TTL, A, BadRecord, rdata_from_text, type_from_text
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.errors import BadInput, BadRow, put_aside
from salt_mirror.estate.expectations import LIFETIMES, PRESENCES, Expectation
from salt_mirror.estate.forms import address_in

COLUMNS = ("name", "type", "value", "ttl", "presence", "lifetime", "owner", "note")
_NEEDED = 3
_ABOVE = 20
"""So many rows may stand above the header."""

Rows = Iterator[tuple[int, list[str] | BadInput]]
"""The cells of each row with its line, or why the row cannot be read."""
Filter = Mapping[str, tuple[str, ...]]
"""Patterns by column, in any case of letters: each column has to fit one of its patterns."""


class TableLayout(NamedTuple):
    """How somebody else's table is laid out. `columns` are ours by theirs; only rows that fit `where` count, and rows that fit
    `absent_where` are records that have to be gone; `note` is the column that is kept as a note, in place of all others."""

    columns: Mapping[str, str] = MappingProxyType({})
    where: Filter = MappingProxyType({})
    absent_where: Filter = MappingProxyType({})
    note: str = ""


OURS = TableLayout()


class UnknownColumns(BadInput):
    """A table that has none of our columns; `columns` are ours by those of its own, as what is in them shows, `line` is where
    its header is."""

    columns: Mapping[str, str] = MappingProxyType({})
    line = 0


def is_relative(text: str) -> bool:
    """Return whether the name of a record in a list is relative to its zone: one label, or a service without its domain."""
    return "." not in text or text.rpartition(".")[2].startswith("_")


def read_rows(
    rows: Rows,
    path: Path,
    origin: Name,
    problems: list[Unusable] | None = None,
    layout: TableLayout = OURS,
    zone_at: Callable[[bytes], Name | None] = lambda _: None,
) -> list[Expectation]:
    """Read the records of a table; relative names are completed with `origin`. Raises BadInput with `path`, which errors name,
    and line. With `problems`, a damaged row is put there instead and does not hide the rest.

    Of a table that somebody else laid out the other columns are kept as a note, and where it has no types, a value that is an
    address stands for one. `zone_at` completes the relative name of such an address.
    """
    rows = iter(rows)
    table, below = _table_of(rows, path, layout)
    found: list[Expectation] = []
    for line, row in chain(below, rows):
        try:
            if isinstance(row, BadInput):
                raise row
            if "".join(row).strip():
                found += table.expectations(row, path, line, origin, zone_at)
        except Unusable as error:
            bad = BadRow.at(path, line, str(error))
            bad.subject = table.subject(row, origin) if not isinstance(row, BadInput) else None
            put_aside(bad, problems)
    if layout.where and not table.fits:
        put_aside(BadInput.at(path, None, table.nothing_fits()), problems)
    return found


def _table_of(rows: Rows, path: Path, layout: TableLayout) -> tuple[_Table, list[tuple[int, list[str] | BadInput]]]:
    """Return a table by its header, and the rows below that were read with it. Raises BadInput."""
    first = list(islice(rows, _ABOVE))
    filled = [at for at, (_, row) in enumerate(first) if isinstance(row, BadInput) or any(cell.strip() for cell in row)]
    if not filled:
        raise BadInput.at(path, None, f"is empty; the first line must be the header {','.join(COLUMNS)}")
    wanted = {column.casefold() for column in (layout.columns.values() or COLUMNS[:_NEEDED])}
    header = next((at for at in filled if wanted <= {_called(cell) for cell in _cells(first[at][1])}), None)
    at = header if header is not None else filled[0]
    line, row = first[at]
    try:
        if isinstance(row, BadInput):
            raise row
        if header is None and not layout.columns:
            _offer_columns([_cells(row) for _, row in first], filled, rows)
        return _Table(row, layout), first[at + 1 :]
    except UnknownColumns as error:
        placed = UnknownColumns.at(path, first[error.line][0], str(error))
        placed.columns = error.columns
        raise placed from None
    except Unusable as error:
        raise BadInput.at(path, line, str(error)) from None


def _cells(row: list[str] | BadInput) -> list[str]:
    return [] if isinstance(row, BadInput) else row


def _called(cell: str) -> str:
    """Return what a column is called, as two names of columns are compared: a cell may be broken into lines."""
    return " ".join(cell.split()).casefold()


def _offer_columns(first: list[list[str]], filled: list[int], rows: Rows) -> None:
    """Raise BadInput with the option that reads a table which has none of our columns, where its cells show which."""
    if any(_called(cell) in COLUMNS[:_NEEDED] for cell in first[filled[0]]):
        return
    more = [_cells(row) for _, row in islice(rows, _GUESSED_BY)]
    for at in filled:
        guess = guessed_columns(first[at], [*first[at + 1 :], *more])
        if guess:
            said = ",".join(f"{ours}={theirs}" for ours, theirs in guess.items())
            error = UnknownColumns(f'no column is called name, type or value; by what is in them: --columns "{said}"')
            error.columns, error.line = guess, at
            raise error


_GUESSED_BY = 200
"""So many rows show what a column has in it."""
_MOSTLY = 0.6
_CALLED = re.compile(r"name|host|device|dns", re.IGNORECASE)
_HOST = re.compile(
    r"(?=.*[A-Za-z])[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]*[A-Za-z0-9_])?)*\.?"
)


def guessed_columns(header: Sequence[str], rows: Iterable[Sequence[str]]) -> dict[str, str]:
    """Return which columns of somebody else's table are the name and the value: that whose cells are addresses, and that whose
    cells are the most different host names. Empty where none is."""
    sample = list(islice(rows, _GUESSED_BY))
    value, name, most = "", "", 0.0
    for at, called in enumerate(" ".join(cell.split()) for cell in header):
        cells = [row[at].strip() for row in sample if at < len(row) and row[at].strip()]
        if not cells or not called or "," in called or "=" in called or '"' in called:
            continue
        if not value and sum(bool(_addresses_in(cell)) for cell in cells) >= _MOSTLY * len(cells):
            value = called
        hosts = {cell for cell in cells if _HOST.fullmatch(cell) and address_in(cell) is None}
        # A status or a site has the same few words again and again; between two columns as varied what they are called decides.
        varied = len(hosts) + (0.5 if _CALLED.search(called) else 0.0)
        if len(hosts) >= _MOSTLY * len(cells) and varied > most:
            name, most = called, varied
    return {"name": name, "value": value} if name and value else {}


class _Table:
    """A table with its header: where our columns are in it, and which of its rows count."""

    def __init__(self, header: list[str], layout: TableLayout) -> None:
        """Raise BadInput for a header that lacks a column which is named, or has one of ours that is misspelt."""
        self.layout = layout
        self.fits = 0
        self._width = len(header)
        self._titles = [" ".join(cell.split()) for cell in header]
        self._called = [_called(title) for title in self._titles]
        others = {column.casefold() for column in (*layout.where, *layout.absent_where, layout.note) if column}
        if layout.columns:
            ours = {column: self._place(called) for column, called in layout.columns.items()}
        else:
            ours = _our_columns(self._called, others)
        self._places = [ours.get(column, -1) for column in COLUMNS]
        self._where = [(self._place(column), patterns) for column, patterns in layout.where.items()]
        self._absent = [(self._place(column), patterns) for column, patterns in layout.absent_where.items()]
        self._note = self._place(layout.note) if layout.note else -1
        self._others = [at for at in range(self._width) if at not in ours.values()] if layout.columns else []
        self._seen: Counter[str] = Counter()

    def _place(self, called: str) -> int:
        """Return where a column is. Raises BadInput where there is not just one that is called so."""
        if self._called.count(_called(called)) != 1:
            raise BadInput.unknown("there is no one column called", called, filter(None, self._titles))
        return self._called.index(_called(called))

    def nothing_fits(self) -> str:
        """Return what is to be said of filters that no row fits."""
        column = next(iter(self.layout.where))
        there = ", ".join(shown(cell) for cell, _ in self._seen.most_common(5)) or "nothing"
        said = ", ".join(f"{column} is {' or '.join(map(shown, fits))}" for column, fits in self.layout.where.items())
        return f"no row fits where {said}; in the column {shown(column)} there is {there}"

    def subject(self, row: list[str], origin: Name) -> tuple[Name, int] | None:
        """Return the name and the type of a row that cannot be used; None where the name is what is wrong with it."""
        name, kind = (row[at].strip() if 0 <= at < len(row) else "" for at in self._places[:2])
        return subject_of(name, kind, origin) if name else None

    def expectations(
        self, row: list[str], path: Path, line: int, origin: Name, zone_at: Callable[[bytes], Name | None]
    ) -> Iterable[Expectation]:
        """Return what a row says. Raises Unusable."""
        if len(row) > self._width:
            if any(cell.strip() for cell in row[self._width :]):
                raise BadInput(f"{len(row)} cells under a header of {self._width}")
            row = row[: self._width]
        if len(row) < self._width:
            row = row + [""] * (self._width - len(row))
        cells = [row[at].strip() if at >= 0 else "" for at in self._places]
        layout = self.layout
        if layout.absent_where and _fits(row, self._absent):
            cells[4] = "absent"
        elif layout.where:
            if len(self._seen) < _GUESSED_BY:
                self._seen[row[self._where[0][0]].strip()] += 1
            if not _fits(row, self._where):
                return ()
            self.fits += 1
        if self._note >= 0:
            cells[-1] = row[self._note].strip()
        if not layout.columns:
            return (expectation_of(cells, path, line, origin),)
        if self._note < 0:
            titles = self._titles
            cells[-1] = "; ".join(f"{titles[at]}: {row[at].strip()}" for at in self._others if row[at].strip())
        return _foreign(cells, path, line, origin, zone_at)


def _our_columns(header: list[str], others: set[str]) -> dict[str, int]:
    """Return where our columns are. Raises BadInput for a header that lacks one, or has an unknown one."""
    for column in header:
        if column and column not in COLUMNS and column not in others:
            rest = f"the header is {','.join(COLUMNS)}, all but the first three optional"
            raise BadInput.unknown("unknown column", column, COLUMNS, otherwise=rest)
    for column in COLUMNS[:_NEEDED]:
        if header.count(column) != 1:
            rest = f"it is {','.join(COLUMNS)}, all but the first three optional"
            raise BadInput(f'the header wants one column "{column}"; {rest}')
    return {column: header.index(column) for column in COLUMNS if column in header}


def _fits(row: list[str], filters: list[tuple[int, tuple[str, ...]]]) -> bool:
    """Return whether a row has what filters want in each of their columns."""
    return all(
        any(fnmatchcase(row[at].strip().casefold(), pattern.casefold()) for pattern in patterns)
        for at, patterns in filters
    )


_BETWEEN = re.compile(r"[,;\s]+")


def _addresses_in(cell: str) -> list[bytes]:
    """Return the packed addresses in a cell of somebody else's table: one or several, each also with the length of its prefix.
    Empty where anything else is in it, such as a network."""
    found = []
    for part in filter(None, _BETWEEN.split(cell)):
        text, slash, length = part.partition("/")
        address = address_in(text)
        bits = number_in(length, 128) if slash else None
        if address is None or (slash and bits is None):
            return []
        if (
            bits is not None
            and bits < 8 * len(address)
            and not int.from_bytes(address, "big") % (1 << 8 * len(address) - bits)
        ):
            return []  # a network, which is nobody's address
        found.append(address)
    return found


def _foreign(
    cells: list[str], path: Path, line: int, origin: Name, zone_at: Callable[[bytes], Name | None]
) -> Iterator[Expectation]:
    """Return what a row of somebody else's table says. One without a name, or without a value and not to be gone, says
    nothing."""
    name, kind, value, _, presence, *_ = cells
    if not name or not (value or presence == "absent"):
        return
    if not value:
        for type_ in (kind,) if kind else ("A", "AAAA"):
            yield expectation_of([name, type_, *cells[2:]], path, line, origin)
        return
    addresses = _addresses_in(value) if not kind or kind.upper() in ("A", "AAAA") else []
    if not addresses and not kind:
        raise BadRecord(f"{shown(value)} is no address, and there is no column with its type")
    if not addresses:
        yield expectation_of(cells, path, line, origin)
    for address in addresses:
        text = inet_ntop(AF_INET if len(address) == 4 else AF_INET6, address)
        type_ = kind or ("A" if len(address) == 4 else "AAAA")
        yield expectation_of([name, type_, text, *cells[3:]], path, line, zone_at(address) or origin)


def subject_of(name: str, kind: str, origin: Name) -> tuple[Name, int] | None:
    """Return the name and the type in two cells; A where there is no type. None where either is none, or the zone that would
    complete a host's name is a reverse one."""
    if is_relative(name) and is_reverse(origin):
        return None
    try:
        return from_text(name, origin if is_relative(name) else None), type_from_text(kind) if kind else A
    except Unusable:
        return None


def expectation_of(cells: list[str], path: Path, line: int, origin: Name) -> Expectation:
    """Return an expectation from texts in the order of COLUMNS, empty where there is none. Raises Unusable."""
    name, kind, value, ttl, presence, lifetime, owner, note = cells
    if not (name and kind and (value or presence == "absent")):
        empty = COLUMNS[[name, kind, value].index("")]
        raise BadRecord(f'there is nothing in the column "{empty}"')
    rdtype = type_from_text(kind)
    seconds = number_in(ttl, MAX_TTL) if ttl else None
    if ttl and seconds is None:
        raise BadRecord(f"{shown(ttl)} is no TTL; write whole seconds, at most {MAX_TTL}")
    if presence and presence not in PRESENCES:
        raise BadRecord(f"{shown(presence)} is no presence; write one of {', '.join(PRESENCES)}")
    if lifetime and lifetime not in LIFETIMES:
        raise BadRecord(f"{shown(lifetime)} is no lifetime; write one of {', '.join(LIFETIMES)}")
    address, relative = rdtype in (A, AAAA), is_relative(name)
    if address and relative and is_reverse(origin):
        raise BadRecord(
            f"{shown(name)} is a host's short name, and a reverse zone would complete it; name the zone it is in"
        )
    above = None if address or not value or not is_relative(value.rsplit(None, 1)[-1]) else origin
    return Expectation(
        from_text(name, origin if relative else None),
        rdtype,
        rdata_from_text(rdtype, value, above) if value else b"",
        ttl=seconds,
        source=path,
        line=line,
        note=note or None,
        presence=presence or "present",
        lifetime=lifetime or None,
        owner=owner or None,
    )

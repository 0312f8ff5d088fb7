"""Expectations from wherever they are: master files, tables, workbooks, JSON Lines, hosts files, leases; the form is known by
the content.

Strategy: one function for all; it can be told to go on behind a damaged line, since a list from a directory controller or a
spreadsheet is mostly right, and one bad line must not hide the rest.
"""

from __future__ import annotations

import csv
import io
import re
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec

from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import AAAA, ONE_HAND, PTR, SOA, SRV, TARGET_AT, A, rdata_text, record_line, type_text
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.csvfile import csv_rows, delimiter_of
from salt_mirror.estate.errors import BadInput, BadRow, put_aside
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import Networks, address_in
from salt_mirror.estate.lists.spec import PLAIN, ListSpec
from salt_mirror.estate.reading import decoded, json_lines, read_bytes, with_feeds
from salt_mirror.estate.table import COLUMNS, Rows, expectation_of, read_rows, subject_of

_JSON_LINES = frozenset((".jsonl", ".ndjson"))
_LEASES = re.compile(r"(lease\s+[\d.]+|ia-(na|ta)\s|authoring-byte-order\s|server-duid\s)")
_LOOKED_AT = 20_000
_FIRST_LINES = 20
ZIPPED = b"PK\3\4"
"""What a workbook begins with, as any ZIP archive."""


class _JsonLine(msgspec.Struct, forbid_unknown_fields=True):
    """One line of JSON Lines: the columns of the CSV form as keys."""

    name: str
    type: str
    value: str = ""
    ttl: int | None = None
    presence: str = ""
    lifetime: str = ""
    owner: str = ""
    note: str = ""


def read_expectations(
    path: Path,
    origin: Name,
    problems: list[Unusable] | None = None,
    spec: ListSpec = PLAIN,
    networks: Networks | None = None,
    now: float | None = None,
) -> list[Expectation]:
    """Read a list of expectations in any form. Raises BadInput; with `problems`, damaged lines are put there instead.

    `networks` complete the short names of hosts by their addresses; `now` is the moment by which leases end.
    """
    return read_given(read_bytes(path), origin, problems, spec, networks, path=path, now=now)


def read_given(
    content: str | bytes,
    origin: Name,
    problems: list[Unusable] | None = None,
    spec: ListSpec = PLAIN,
    networks: Networks | None = None,
    *,
    path: Path | None = None,
    now: float | None = None,
) -> list[Expectation]:
    """Return the same for a text or bytes, from standard input where there is no `path`; the form is known by what is in it."""
    place = path or Path("standard input")
    zipped = isinstance(content, bytes) and not spec.form and content.startswith(ZIPPED)
    book = content if isinstance(content, bytes) and (zipped or spec.form == "xlsx") else b""
    text = "" if book else content if isinstance(content, str) else decoded(content, place)
    form = spec.form or ("xlsx" if book else form_of(text, path, columns=bool(spec.layout.columns)))
    moment = now if now is not None else time.time()
    found = FORMS[form](_Given(text, book, place, spec.zone or origin, spec, networks or Networks(), moment, problems))
    if spec.pointers:
        found += [_pointer_of(one) for one in found if one.rdtype in (A, AAAA) and one.rdata]
    return found


def form_of(text: str, path: Path | None, *, columns: bool = False) -> str:
    """Return the form of a list: by what stands in its first lines, and by its name where that leaves it open."""
    kind = path.suffix.lower() if path is not None else ""
    lines = [
        line.strip() for line in text[:_LOOKED_AT].splitlines() if line.strip() and not line.lstrip().startswith("#")
    ]
    first = lines[0] if lines else ""
    cells = {cell.strip().lower() for cell in first.split(delimiter_of(first))}
    if first.startswith("<"):
        return "xml"
    if first.startswith("{") or kind in _JSON_LINES:
        return "jsonl"
    if {"address", "valid_lifetime", "expire"} <= cells:
        return "kea"
    if columns or kind == ".csv" or {"name", "type", "value"} <= cells:
        return "csv"
    if any(_LEASES.match(line) for line in lines[:_FIRST_LINES]):
        return "isc"
    hosts = [line for line in lines[:_FIRST_LINES] if address_in(line.split()[0].partition("%")[0]) is not None]
    return "hosts" if hosts and len(hosts) == len(lines[:_FIRST_LINES]) and kind != ".zone" else "zone"


_LOGON = frozenset((b"\x05_ldap", b"\x09_kerberos"))
"""What every list of a controller's logon service has locators of."""


def _as_parts(expectations: list[Expectation]) -> list[Expectation]:
    """Return a master file without SOA whose locators, those of a directory among them, all lead to one host is what one
    controller's logon service writes down: the sets have that host's records, and others put theirs beside them."""
    locators = [one for one in expectations if one.rdtype == SRV]
    hosts = {one.rdata[TARGET_AT[SRV] :] for one in locators}
    services = {one.name[: one.name[0] + 1] for one in locators}
    if len(hosts) == 1 and services >= _LOGON and not any(one.rdtype == SOA for one in expectations):
        for expectation in expectations:
            expectation.presence = "present"
    return expectations


def _pointer_of(expectation: Expectation) -> Expectation:
    return Expectation(
        reverse_name(expectation.rdata), PTR, expectation.name, source=expectation.source, line=expectation.line,
        note=expectation.note, lifetime=expectation.lifetime, owner=expectation.owner, until=expectation.until,
        presence="absent" if expectation.presence == "absent" else "present",
    )  # fmt: skip


class _Given(NamedTuple):
    """A list to be read: its text, or its bytes where it is a workbook, and where that is from, what completes its names, how
    its table is laid out, the moment by which leases end, and where damaged lines are put."""

    text: str
    book: bytes
    path: Path
    origin: Name
    spec: ListSpec
    networks: Networks
    now: float
    problems: list[Unusable] | None


def _zone(given: _Given) -> list[Expectation]:
    from salt_mirror.estate.masterfile import read_master_text

    return _as_parts(read_master_text(with_feeds(given.text), given.path, given.origin, given.problems))


def _csv(given: _Given) -> list[Expectation]:
    return _table(csv_rows(given.text), given)


def _workbook(given: _Given) -> list[Expectation]:
    from salt_mirror.estate.lists.workbook import workbook_rows

    return _table(workbook_rows(given.book, given.path, given.spec.sheet), given)


def _table(rows: Rows, given: _Given) -> list[Expectation]:
    return read_rows(rows, given.path, given.origin, given.problems, given.spec.layout, given.networks.zone_at)


def _json_lines(given: _Given) -> list[Expectation]:
    path, expectations = given.path, []
    for number, line in json_lines(with_feeds(given.text).splitlines(), _JsonLine, path):
        try:
            if isinstance(line, BadInput):
                raise line
            ttl = "" if line.ttl is None else str(line.ttl)
            cells = [line.name, line.type, line.value, ttl, line.presence, line.lifetime, line.owner, line.note]
            with about(f"{path}, line {number}"):
                expectations.append(expectation_of(cells, path, number, given.origin))
        except Unusable as error:
            bad = BadRow(str(error))
            bad.subject = subject_of(line.name, line.type, given.origin) if not isinstance(line, BadInput) else None
            put_aside(bad, given.problems)
    return expectations


def _hosts(given: _Given) -> list[Expectation]:
    from salt_mirror.estate.lists.hosts import read_hosts

    return list(read_hosts(with_feeds(given.text), given.path, given.origin, given.networks, given.problems))


def _leases(form: str, given: _Given) -> list[Expectation]:
    from salt_mirror.estate.lists.leases import READERS, expected_of

    text = given.text if form == "kea" else with_feeds(given.text)
    leases = READERS[form](text, given.path, given.problems)
    return expected_of(leases, given.path, given.origin, given.networks, given.now, given.problems)


FORMS: dict[str, Callable[[_Given], list[Expectation]]] = {
    "zone": _zone,
    "csv": _csv,
    "xlsx": _workbook,
    "jsonl": _json_lines,
    "hosts": _hosts,
    "kea": partial(_leases, "kea"),
    "isc": partial(_leases, "isc"),
    "xml": partial(_leases, "xml"),
}
"""Every form of a list, with what reads it: master files, tables, workbooks, JSON Lines, hosts files, leases of Kea (CSV) and
of ISC's server, an address server's export as XML."""


def check_form(text: str, place: str) -> str:
    """Read the name of a form; an empty one means that it is found by what is in the list. Raises BadInput."""
    if text and text.lower() not in FORMS:
        raise BadInput.unknown(f"{place}: there is no form", text, FORMS)
    return text.lower()


def write_expectations(expectations: list[Expectation], form: str) -> str:
    """Write expectations as `csv`, `jsonl` or `zone`; a master file says in a comment what is to be absent."""
    if form == "zone":
        lines = []
        for expectation in expectations:
            if expectation.presence == "absent":
                value = rdata_text(expectation.rdtype, expectation.rdata) if expectation.rdata else ""
                lines.append(
                    f"; absent: {to_text(expectation.name)} IN {type_text(expectation.rdtype)} {value}".rstrip()
                )
            else:
                lines.append(record_line(expectation.name, expectation.rdtype, expectation.rdata, expectation.ttl))
        return "".join(f"{line}\n" for line in lines)
    rows = [_cells(one) for one in expectations]
    if form == "jsonl":
        keyed = [{key: cell for key, cell in zip(COLUMNS, row, strict=True) if cell} for row in rows]
        lines = [
            msgspec.json.encode(row | ({"ttl": int(row["ttl"])} if "ttl" in row else {})).decode("utf-8")
            for row in keyed
        ]
        return "".join(f"{line}\n" for line in lines)
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows(rows)
    return out.getvalue()


def _cells(expectation: Expectation) -> list[str]:
    value = rdata_text(expectation.rdtype, expectation.rdata) if expectation.rdata else ""
    ttl = "" if expectation.ttl is None else str(expectation.ttl)
    return [
        to_text(expectation.name), type_text(expectation.rdtype), value, ttl, expectation.presence,
        expectation.lifetime or "", expectation.owner or "", expectation.note or "",
    ]  # fmt: skip


def _apart(name: Name, rdtype: int, expected: list[Expectation]) -> list[str]:
    """Return what two sources say of one host, where no value of the one is in the other."""
    first = [one for one in expected if one.source == expected[0].source]
    values = {one.rdata for one in first}
    others = [one for one in expected if one.source != first[0].source] if expected else []
    return [
        f"{expectation.where}: {to_text(name)} {type_text(rdtype)} is {rdata_text(rdtype, expectation.rdata)}, and "
        f"{rdata_text(rdtype, first[0].rdata)} by {first[0].where}"
        for expectation in others
        if not values & {other.rdata for other in others if other.source == expectation.source}
    ]


def contradictions(expectations: list[Expectation]) -> list[str]:
    """Return what a list says twice, or cannot mean: a CNAME beside other data, two SOA, a record both there and absent."""
    said: list[str] = []
    seen: dict[tuple[Name, int, bytes], Expectation] = {}
    by_name: dict[Name, dict[int, list[Expectation]]] = {}
    for expectation in expectations:
        key = (expectation.name, expectation.rdtype, expectation.rdata)
        other = seen.get(key)
        value = rdata_text(expectation.rdtype, expectation.rdata) if expectation.rdata else ""
        what = f"{to_text(expectation.name)} {type_text(expectation.rdtype)} {value}".rstrip()
        if other is not None and (other.presence == "absent") != (expectation.presence == "absent"):
            said.append(f"{expectation.where}: {what} is expected and absent at once (see {other.where})")
        elif other is not None:
            said.append(f"{expectation.where}: {what} is there twice (see {other.where})")
        else:
            seen[key] = expectation
        by_name.setdefault(expectation.name, {}).setdefault(expectation.rdtype, []).append(expectation)
    for name, types in by_name.items():
        here = {rdtype: [one for one in found if one.presence != "absent"] for rdtype, found in types.items()}
        here = {rdtype: found for rdtype, found in here.items() if found}
        for rdtype, limit, why in ((5, 1, "two aliases at one name"), (6, 1, "two SOA at one name")):
            if len({one.rdata for one in here.get(rdtype, ())}) > limit:
                said.append(f"{here[rdtype][-1].where}: {to_text(name)}: {why}")
        if 5 in here and set(here) - {5, 46, 47}:
            said.append(
                f"{here[5][0].where}: {to_text(name)} is an alias and has other data too (RFC 1034 section 3.6.2)"
            )
        for rdtype in ONE_HAND:
            said += _apart(name, rdtype, here.get(rdtype, []))
        for rdtype, found in types.items():
            whole = next((one for one in found if one.presence == "absent" and not one.rdata), None)
            if whole is not None and rdtype in here:
                said.append(f"{whole.where}: {to_text(name)} {type_text(rdtype)} is expected and absent at once")
    return said

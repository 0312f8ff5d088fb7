"""Expectations from wherever they stand: master files, CSV, JSON Lines, by the file's name or, on standard input, by its look.

Strategy: one function for all; it can be told to go on behind a damaged line, since a list from a directory controller or a
spreadsheet is mostly right, and one bad line must not hide the rest.
"""

from __future__ import annotations

import csv
import io
from pathlib import Path

import msgspec

from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import rdata_text, record_line, type_text
from salt_mirror.estate.csvfile import COLUMNS, expectation_of, read_csv_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.masterfile import read_master_text
from salt_mirror.estate.reading import json_lines, read_text

_JSON_LINES = frozenset((".jsonl", ".ndjson"))


class _Line(msgspec.Struct, forbid_unknown_fields=True):
    """One line of JSON Lines: the columns of the CSV form as keys."""

    name: str
    type: str
    value: str = ""
    ttl: int | None = None
    presence: str = ""
    lifetime: str = ""
    owner: str = ""
    note: str = ""


def read_expectations(path: Path, origin: Name, problems: list[Unusable] | None = None) -> list[Expectation]:
    """Reads a file of expectations in any form. Raises BadInput; with `problems`, damaged lines are put there instead."""
    kind = path.suffix.lower()
    form = "csv" if kind == ".csv" else "jsonl" if kind in _JSON_LINES else "zone"
    return _read(read_text(path, as_is=form == "csv"), form, path, origin, problems)


def read_given(text: str, origin: Name, problems: list[Unusable] | None = None) -> list[Expectation]:
    """Reads a text from standard input, whose form is told by its first line that is not empty."""
    first = next((line.strip() for line in text.splitlines() if line.strip()), "")
    form = "zone"
    if first.startswith("{"):
        form = "jsonl"
    elif {"name", "type", "value"} <= {cell.strip().lower() for cell in first.replace(";", ",").split(",")}:
        form = "csv"
    return _read(text, form, Path("standard input"), origin, problems)


def _read(text: str, form: str, path: Path, origin: Name, problems: list[Unusable] | None) -> list[Expectation]:
    if form == "csv":
        return read_csv_text(text, path, origin, problems)
    if form == "zone":
        return read_master_text(text, path, origin, problems)
    found = []
    for number, one in json_lines(text.splitlines(), _Line, path):
        try:
            if isinstance(one, BadInput):
                raise one
            ttl = "" if one.ttl is None else str(one.ttl)
            cells = [one.name, one.type, one.value, ttl, one.presence, one.lifetime, one.owner, one.note]
            with about(f"{path}, line {number}"):
                found.append(expectation_of(cells, path, number, origin))
        except Unusable as error:
            if problems is None:
                raise
            problems.append(error)
    return found


def write_expectations(expectations: list[Expectation], form: str) -> str:
    """Writes expectations as `csv`, `jsonl` or `zone`; a master file says in a comment what is to be absent."""
    if form == "zone":
        lines = []
        for one in expectations:
            if one.presence == "absent":
                value = rdata_text(one.rdtype, one.rdata) if one.rdata else ""
                lines.append(f"; absent: {to_text(one.name)} IN {type_text(one.rdtype)} {value}".rstrip())
            else:
                lines.append(record_line(one.name, one.rdtype, one.rdata, one.ttl))
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


def _cells(one: Expectation) -> list[str]:
    value = rdata_text(one.rdtype, one.rdata) if one.rdata else ""
    ttl = "" if one.ttl is None else str(one.ttl)
    return [
        to_text(one.name), type_text(one.rdtype), value, ttl, one.presence, one.lifetime or "", one.owner or "", one.note or "",
    ]  # fmt: skip


def contradictions(expectations: list[Expectation]) -> list[str]:
    """What a list says twice, or cannot mean: a CNAME beside other data, two SOA, a record both there and absent."""
    said: list[str] = []
    seen: dict[tuple[Name, int, bytes], Expectation] = {}
    by_name: dict[Name, dict[int, list[Expectation]]] = {}
    for one in expectations:
        key = (one.name, one.rdtype, one.rdata)
        other = seen.get(key)
        what = f"{to_text(one.name)} {type_text(one.rdtype)} {rdata_text(one.rdtype, one.rdata) if one.rdata else ''}".rstrip()
        if other is not None and (other.presence == "absent") != (one.presence == "absent"):
            said.append(f"{one.where}: {what} is expected and absent at once (see {other.where})")
        elif other is not None:
            said.append(f"{one.where}: {what} stands twice (see {other.where})")
        else:
            seen[key] = one
        by_name.setdefault(one.name, {}).setdefault(one.rdtype, []).append(one)
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
        for rdtype, found in types.items():
            whole = next((one for one in found if one.presence == "absent" and not one.rdata), None)
            if whole is not None and rdtype in here:
                said.append(f"{whole.where}: {to_text(name)} {type_text(rdtype)} is expected and absent at once")
    return said

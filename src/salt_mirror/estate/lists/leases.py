"""Leases: which hosts an address server says are where, in the forms in which such servers write that down.

Strategy: a file of leases is a log, so that the last entry of an address counts, and nothing before it. What has run out, was
declined or given back is no host that anybody expects. An entry without a host name says nothing about names.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple
from xml.parsers import expat

from salt_mirror.dns.errors import Unusable, number_in
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import address_type
from salt_mirror.estate.errors import BadInput, put_aside
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import Networks, address_in

_FOREVER = 0xFFFFFFFF
_MOST_SECONDS = 1 << 40
_NEEDED = ("address", "valid_lifetime", "expire", "hostname", "state")


class Lease(NamedTuple):
    """One entry. `until` in seconds since 1970, None without an end; `live`: it was given, and not declined or given back."""

    address: bytes
    host: str
    live: bool
    until: float | None
    line: int


def expected_of(
    leases: Iterable[Lease], path: Path, origin: Name, networks: Networks, now: float, problems: list[Unusable] | None
) -> list[Expectation]:
    """Return what leases make somebody expect: an address for each host whose last entry still holds at a moment.

    Names of one label stand in the zone of their network, else in `origin`. Raises BadInput for a name that is none, unless
    there are `problems` to put it to.
    """
    last: dict[bytes, Lease] = {}
    for lease in leases:
        last.pop(lease.address, None)
        last[lease.address] = lease
    expectations = []
    for lease in last.values():
        if not lease.live or not lease.host or (lease.until is not None and lease.until <= now):
            continue
        zone = networks.zone_at(lease.address) or origin
        try:
            name = from_text(lease.host, zone if "." not in lease.host.rstrip(".") else None)
        except Unusable as error:
            put_aside(BadInput.at(path, lease.line, str(error)), problems)
            continue
        expectations.append(
            Expectation(
                name, address_type(lease.address), lease.address, source=path, line=lease.line, lifetime="dynamic",
                until=lease.until,
            )
        )  # fmt: skip
    return expectations


def kea_leases(text: str, path: Path, problems: list[Unusable] | None) -> Iterator[Lease]:
    """Return the entries of Kea's lease files, for IPv4 and IPv6. Delegated prefixes are no hosts. Raises BadInput."""
    rows = csv.reader(io.StringIO(text, newline=""), strict=True)
    columns: list[str] = []
    while True:
        line = rows.line_num + 1
        try:
            row = next(rows, None)
            if row is None:
                return
            if not columns:
                columns = [cell.strip() for cell in row]
                for column in _NEEDED:
                    if column not in columns:
                        raise BadInput(f'the header of leases has no column "{column}"')
                continue
            if not any(row):
                continue
            if len(row) < len(_NEEDED):
                raise BadInput(f"{len(row)} cells are no lease")
            cells = dict(zip(columns, row, strict=False))
            if cells.get("lease_type", "0") == "2":
                continue
            yield _kea(cells, line)
        except (csv.Error, Unusable) as error:
            put_aside(BadInput.at(path, line, str(error)), problems if columns else None)


def _kea(cells: dict[str, str], line: int) -> Lease:
    address = address_in(cells["address"])
    lifetime, expire = number_in(cells["valid_lifetime"], _FOREVER), number_in(cells["expire"], _MOST_SECONDS)
    if address is None or lifetime is None or expire is None:
        raise BadInput("address, valid_lifetime and expire are no lease's")
    host = cells.get("hostname", "").replace("&#x2c", ",")
    live = cells.get("state", "0") == "0" and lifetime > 0
    return Lease(address, host, live, None if lifetime == _FOREVER else float(expire), line)


_BEGIN = re.compile(r"\s*(?:lease|iaaddr)\s+([0-9A-Fa-f:.]+)\s*\{\s*\Z")
_STATEMENT = re.compile(
    r"\s*(?:(ends)\s+(?:never|\d\s+(\d{4}/\d\d/\d\d \d\d:\d\d:\d\d)|epoch\s+(\d+))|"
    r"binding\s+state\s+(\w+)|"
    r"(?:(client-hostname)|set\s+(ddns-fwd-name))\s*=?\s*\"((?:[^\"\\]|\\.)*)\")\s*;"
)


def isc_leases(text: str, path: Path, problems: list[Unusable] | None) -> Iterator[Lease]:
    """Return the entries of the leases file of ISC's address server, for IPv4 and IPv6; times are UTC. Raises BadInput."""
    address: bytes | None = None
    begun = 0
    host, dns_name, live, until = "", "", True, None
    for number, line in enumerate(text.splitlines(), 1):
        begin = _BEGIN.match(line)
        if begin is not None:
            address, begun, host, dns_name, live, until = address_in(begin[1]), number, "", "", True, None
            if address is None:
                put_aside(BadInput.at(path, number, f"{begin[1]} is no address"), problems)
            continue
        if address is None:
            continue
        if line.strip() == "}":
            yield Lease(address, dns_name or host, live, until, begun)
            address = None
            continue
        match = _STATEMENT.match(line)
        if match is None:
            continue
        if match[1]:
            until = _isc_time(match[2], match[3])
        elif match[4]:
            live = match[4] == "active"
        elif match[5]:
            host = match[7]
        else:
            dns_name = match[7].rstrip(".")
    if address is not None:
        put_aside(BadInput.at(path, begun, "a lease that does not end: the file was cut off"), problems)


def _isc_time(said: str | None, epoch: str | None) -> float | None:
    """Return the end of a lease; None for one without."""
    if epoch:
        return float(number_in(epoch, _MOST_SECONDS) or 0)
    if not said:
        return None
    try:
        return datetime.strptime(said, "%Y/%m/%d %H:%M:%S").replace(tzinfo=UTC).timestamp()
    except ValueError:
        return 0.0


_KEYS = {
    "address": ("address", "ipaddress", "ip", "ipv4address", "ipv6address"),
    "host": ("hostname", "host", "name", "fqdn", "clientname"),
    "state": ("addressstate", "state", "leasestate", "status"),
    "until": ("leaseexpirytime", "expiry", "expires", "expirytime", "expire", "ends", "leaseexpires"),
}
_LIVE = ("active", "activereservation", "reserved", "bound", "leased", "")


def xml_leases(text: str, path: Path, problems: list[Unusable] | None) -> Iterator[Lease]:
    """Return the entries of an address server's export: every element that has an address and a host name, as attributes or as
    elements inside. A document with a type definition is refused, since that can make it say anything. Raises BadInput."""
    for fields, line in _elements(text, path):
        told = {key: next((fields[one] for one in names if one in fields), "") for key, names in _KEYS.items()}
        address = address_in(told["address"].strip())
        if address is None:
            if told["address"].strip() and told["host"]:
                put_aside(BadInput.at(path, line, f"{told['address'].strip()[:60]!r} is no address"), problems)
            continue
        state = re.sub(r"[^a-z]", "", told["state"].lower())
        yield Lease(address, told["host"].strip().rstrip("."), state in _LIVE, _xml_time(told["until"].strip()), line)


def _elements(text: str, path: Path) -> Iterator[tuple[dict[str, str], int]]:
    """Return what each element holds, by the lower-case local names of its attributes and of the elements in it; and its
    line."""
    found: list[tuple[dict[str, str], int]] = []
    stack: list[tuple[str, dict[str, str], list[str], int]] = []
    parser = expat.ParserCreate()

    def local(tag: str) -> str:
        return tag.rpartition(":")[2].lower()

    def begin(tag: str, attributes: dict[str, str]) -> None:
        if len(stack) > _DEEPEST:
            raise BadInput.at(path, parser.CurrentLineNumber, "elements are nested too deeply")
        fields = {local(key): value for key, value in attributes.items()}
        stack.append((local(tag), fields, [], parser.CurrentLineNumber))

    def end(_: str) -> None:
        tag, fields, pieces, line = stack.pop()
        if fields:
            found.append((fields, line))
        if stack and not fields:
            stack[-1][1].setdefault(tag, "".join(pieces))

    def refuse(*_: object) -> None:
        raise BadInput.at(path, parser.CurrentLineNumber, "a document type definition, which no export has")

    parser.StartElementHandler, parser.EndElementHandler = begin, end
    parser.CharacterDataHandler = lambda data: stack[-1][2].append(data) if stack else None
    parser.StartDoctypeDeclHandler = refuse
    try:
        parser.Parse(text, True)
    except expat.ExpatError as error:
        raise BadInput.at(path, error.lineno, f"is no XML: {expat.ErrorString(error.code)}") from None
    yield from found


_DEEPEST = 50


def _xml_time(text: str) -> float | None:
    """Return a moment as ISO 8601 or in seconds since 1970; None without one."""
    number = number_in(text, _MOST_SECONDS)
    if number is not None:
        return float(number)
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return (moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)).timestamp()


READERS: dict[str, Callable[[str, Path, list[Unusable] | None], Iterable[Lease]]] = {
    "kea": kea_leases,
    "isc": isc_leases,
    "xml": xml_leases,
}
"""What reads each form of leases."""

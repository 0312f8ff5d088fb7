"""Records and properties of zones as a directory keeps them: bytes of two attributes (MS-DNSP sections 2.2.2.2, 2.3.1.3).

Strategy: a record's head is little-endian but for its TTL, the numbers in its data are big-endian, and names stand there label
by label behind two counts. All is checked at every bound; what does not fit is a BadLayout, and is counted, never guessed.
"""

from __future__ import annotations

import struct
from typing import NamedTuple

from salt_mirror.dns.names import MAX_NAME, Name
from salt_mirror.dns.records import AAAA, CNAME, MX, NS, PTR, SOA, SRV, TXT, A

ZONE_DATA = 0xF0
"""The rank of what a zone itself holds; delegations, glue and root hints have lower ones."""
TOMBSTONE = 0
_HEAD = struct.Struct("<HHBBHI")
_TTL = struct.Struct(">I")
_TAIL = struct.Struct("<II")
_HEAD_BYTES = 24
_MOST_TTL = 0x7FFFFFFF


class BadLayout(ValueError):
    """Bytes that are no such record or property."""


class KeptRecord(NamedTuple):
    """A record: type, rank, TTL in seconds, canonical rdata (None for a type that is not read), hours since 1601 or 0."""

    rdtype: int
    rank: int
    ttl: int
    rdata: bytes | None
    age_h: int


def read_record(raw: bytes) -> KeptRecord:
    """Read one value of `dnsRecord`. Raises BadLayout."""
    if len(raw) < _HEAD_BYTES:
        raise BadLayout(f"{len(raw)} bytes; a head alone has {_HEAD_BYTES}")
    size, rdtype, _, rank, _, _ = _HEAD.unpack_from(raw)
    (ttl,) = _TTL.unpack_from(raw, 12)
    _, age_h = _TAIL.unpack_from(raw, 16)
    data = raw[_HEAD_BYTES:]
    if len(data) != size:
        raise BadLayout(f"{len(data)} bytes of data, and {size} are said")
    return KeptRecord(rdtype, rank, ttl if ttl <= _MOST_TTL else 0, _rdata(rdtype, data), age_h)


def _rdata(rdtype: int, data: bytes) -> bytes | None:
    if rdtype in (A, AAAA):
        if len(data) != {A: 4, AAAA: 16}[rdtype]:
            raise BadLayout(f"an address of {len(data)} bytes")
        return data
    if rdtype in (NS, CNAME, PTR):
        return _only_name(data, 0)
    if rdtype == MX:
        return data[:2] + _only_name(data, 2)
    if rdtype == SRV:
        return data[:6] + _only_name(data, 6)
    if rdtype == SOA:
        primary, at = _name(data, 20)
        return primary + _only_name(data, at) + data[:20]
    if rdtype == TXT:
        at = 0
        while at < len(data):
            at += 1 + data[at]
        if at != len(data) or not data:
            raise BadLayout("a text that breaks off")
        return data
    return None


def _only_name(data: bytes, at: int) -> Name:
    name, end = _name(data, at)
    if end != len(data):
        raise BadLayout("bytes behind a name")
    return name


def _name(data: bytes, at: int) -> tuple[Name, int]:
    """Return the canonical name at an offset, and the offset behind it."""
    try:
        size, count = data[at], data[at + 1]
        start = at = at + 2
        for _ in range(count):
            if not 0 < data[at] < 64:
                raise BadLayout("a label of a length that none has")
            at += 1 + data[at]
        if data[at] != 0:
            raise BadLayout("a name that does not end")
    except IndexError:
        raise BadLayout("a name that breaks off") from None
    at += 1
    name = data[start:at]
    if len(name) != size or len(name) > MAX_NAME:
        raise BadLayout("a name of another length than is said")
    return name.lower(), at


class Property(NamedTuple):
    """One property of a zone: its identifier and its number."""

    number: int
    value: int


AGING, NO_REFRESH, REFRESH, UPDATES = 0x40, 0x10, 0x20, 0x02
"""Whether records age, for how many hours each is not refreshed and then may be, which updates are taken (2: secure ones)."""
SECURE_ALONE = 2
_PROPERTY = struct.Struct("<IIIII")


def read_property(raw: bytes) -> Property | None:
    """Read one value of `dNSProperty`; None for one that is no number. Raises BadLayout."""
    if len(raw) < _PROPERTY.size:
        raise BadLayout(f"{len(raw)} bytes; a property's head has {_PROPERTY.size}")
    size, _, _, _, number = _PROPERTY.unpack_from(raw)
    data = raw[_PROPERTY.size : _PROPERTY.size + size]
    if len(data) != size:
        raise BadLayout("a property that breaks off")
    return Property(number, int.from_bytes(data, "little")) if size in (1, 4) else None

"""Expectations: records that should be there, and where each was written down.

Strategy: every source (master file, CSV) yields the same small objects; names are canonical and values are canonical
rdata, so that the checks compare bytes and never ask where an expectation came from, except to tell the reader.
"""

from __future__ import annotations

from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from salt_mirror.dns.names import Name

Presence = Literal["present", "absent", "exact"]
"""`present`: this record is there, others may be; `absent`: it is gone; `exact`: its RRset is what is expected, and no more."""
PRESENCES: tuple[Presence, ...] = ("present", "absent", "exact")
LIFETIMES = ("static", "dynamic")


Values = bytes | frozenset[bytes]
"""Values of one set, of which most have one: that is kept as it is, since a set of its own takes 216 bytes more."""


def value_set(values: Values) -> frozenset[bytes]:
    """Return values as the set that they are."""
    return frozenset((values,)) if isinstance(values, bytes) else values


def with_value(values: Values, value: bytes) -> Values:
    """Return values with one more."""
    known = value_set(values)
    return value if not known else values if value in known else known | {value}


class DamagedRow(NamedTuple):
    """A row of a list that cannot be used: what is wrong with it and where, the view and the zone that expect the list, and the
    name and the type that the row is about, as far as they can be read (else empty, and 0)."""

    says: str
    view: str
    zone: Name
    name: Name = b""
    rdtype: int = 0


class Expectation(msgspec.Struct, eq=False, gc=False):
    """One expected record. `ttl` in seconds or None when the source gives none; `line` counts from 1.

    An absent one without rdata stands for the whole RRset. `owner` is whoever answers for the record. `until` is when a lease
    ends, in seconds since 1970; `age_h` the age mark of a directory's export, in hours since 1601.
    """

    name: Name
    rdtype: int
    rdata: bytes
    ttl: int | None = None
    source: Path | None = None
    line: int = 0
    note: str | None = None
    presence: Presence = "present"
    lifetime: str | None = None
    owner: str | None = None
    until: float | None = None
    age_h: int | None = None

    @property
    def where(self) -> str:
        """The file and line it stands in."""
        return f"{self.source}, line {self.line}" if self.source else "given"

    def __repr__(self) -> str:
        return f"Expectation({self.name!r}, {self.rdtype}, {self.rdata!r})"

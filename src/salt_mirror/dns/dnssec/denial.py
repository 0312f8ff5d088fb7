"""Proofs of denial: whether NSEC or NSEC3 records show that a name, or a type at a name, does not exist.

Strategy: the records handed in are believed, their signatures having been verified before; nothing else is. Both kinds answer
the same three questions (no such name, no such type, nothing closer than a wildcard), and say what is lacking where they do not
(RFC 4035 section 5.4, RFC 5155 section 8, RFC 6840 section 4).
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterable, Sequence
from typing import NamedTuple, Protocol

from salt_mirror.dns.names import Name, ancestors, is_within, join, labels, parent
from salt_mirror.dns.records import CNAME, DNAME, DS, NS, NSEC, NSEC3, SOA, Record

MOST_ITERATIONS = 150
"""NSEC3 records with more iterations are not computed: each hash costs so many, and there are hundreds in one answer (RFC 9276
section 3.2 advises none)."""
_TO_HEX = bytes.maketrans(b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567", b"0123456789ABCDEFGHIJKLMNOPQRSTUV")
_FROM_HEX = bytes.maketrans(b"0123456789ABCDEFGHIJKLMNOPQRSTUV", b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567")


class Denial(NamedTuple):
    """Whether something is proved not to exist; `why` says what is lacking where it is not. `opt_out` says that the proof
    leaves room for unsigned delegations (RFC 5155 section 6); `unknown` that this computer does not compute it."""

    proved: bool
    why: str = ""
    opt_out: bool = False
    unknown: bool = False


class Denier(Protocol):
    """The denial records of one answer, of one kind."""

    kind: str

    def name(self, name: Name) -> Denial:
        """Return whether a name is proved not to exist, nor to be made from a wildcard."""

    def rdtype(self, name: Name, rdtype: int) -> Denial:
        """Return whether a name is proved to have no records of a type, nor an alias."""

    def closer(self, name: Name, encloser: Name) -> Denial:
        """Return whether nothing closer to a name exists than the wildcard below `encloser` that it was made from."""


def denier(records: Iterable[Record], zone: Name) -> Denier | None:
    """Return what reads the denial records of an answer; None where it has none of the zone."""
    mine = [record for record in records if is_within(record.owner, zone)]
    plain = [one for record in mine if record.rdtype == NSEC and (one := _Range.of(record)) is not None]
    if plain:
        return _PlainDenier(plain)
    hashed = [found for record in mine if record.rdtype == NSEC3 and (found := Hashed.of(record, zone)) is not None]
    return _HashedDenier(hashed, zone) if hashed else None


def types_in(bitmap: bytes) -> frozenset[int]:
    """Return the types in a type bit map (RFC 4034 section 4.1.2). Raises ValueError where it does not fit."""
    found: set[int] = set()
    at = 0
    while at < len(bitmap):
        if at + 2 > len(bitmap) or not 0 < bitmap[at + 1] <= 32 or at + 2 + bitmap[at + 1] > len(bitmap):
            raise ValueError("a type bit map that breaks off")
        window, size = bitmap[at], bitmap[at + 1]
        for place, byte in enumerate(bitmap[at + 2 : at + 2 + size]):
            found.update(window * 256 + place * 8 + bit for bit in range(8) if byte & 0x80 >> bit)
        at += 2 + size
    return frozenset(found)


def order(name: Name) -> tuple[bytes, ...]:
    """Return what names sort by in canonical order (RFC 4034 section 6.1): their labels from the right."""
    return labels(name)[::-1]


class _Range(NamedTuple):
    """An NSEC record: nothing exists between its owner and the next name (RFC 4034 section 4)."""

    owner: Name
    next: Name
    types: frozenset[int]

    @classmethod
    def of(cls, record: Record) -> _Range | None:
        try:
            at = 0
            while record.rdata[at]:
                at += record.rdata[at] + 1
            return cls(record.owner, record.rdata[: at + 1].lower(), types_in(record.rdata[at + 1 :]))
        except (IndexError, ValueError):
            return None

    def covers(self, name: Name) -> bool:
        """Return whether a name is between the two; the last range of a zone leads back to the apex."""
        first, last, here = order(self.owner), order(self.next), order(name)
        return first < here < last if first < last else first < here

    def hides(self, name: Name) -> bool:
        """Return whether a name is below a delegation or a DNAME at the owner, of which the record says nothing (RFC 6840
        section 4.1)."""
        below = name != self.owner and is_within(name, self.owner)
        return below and (_is_cut(self.types) or DNAME in self.types)


def _is_cut(types: frozenset[int]) -> bool:
    return NS in types and SOA not in types


def _lacks(types: frozenset[int], rdtype: int, where: str, *, at_root: bool) -> Denial:
    """Return what the types at a name prove of one of them (RFC 6840 section 4.1 and 4.3)."""
    if rdtype in types or CNAME in types:
        return Denial(False, f"{where} says that {'an alias' if rdtype not in types else 'the type'} exists")
    if rdtype == DS and SOA in types and not at_root:
        return Denial(False, f"{where} is of the zone below, and the DS belongs to the zone above")
    if rdtype != DS and _is_cut(types):
        return Denial(False, f"{where} is of a delegation, and says nothing of the zone below")
    return Denial(True)


class _PlainDenier:
    """The NSEC records of an answer."""

    kind = "NSEC"

    def __init__(self, ranges: Sequence[_Range]) -> None:
        self._ranges = ranges

    def name(self, name: Name) -> Denial:
        covering = self._covering(name)
        if covering is None:
            return Denial(False, "no NSEC record covers the name")
        if is_within(covering.next, name):
            return Denial(False, "the NSEC record shows that names exist below it, so that it exists itself")
        wildcard = join((b"*",), self._encloser(name, covering))
        if self._covering(wildcard) is None:
            return Denial(False, "no NSEC record covers the wildcard that might stand for it")
        return Denial(True)

    def rdtype(self, name: Name, rdtype: int) -> Denial:
        for one in self._ranges:
            if one.owner == name:
                return _lacks(one.types, rdtype, "its NSEC record", at_root=name == b"\0")
        covering = self._covering(name)
        if covering is None:
            return Denial(False, "no NSEC record is of the name")
        if is_within(covering.next, name):
            return Denial(True)  # an empty non-terminal (RFC 4592 section 2.2.2)
        wildcard = join((b"*",), self._encloser(name, covering))
        for one in self._ranges:
            if one.owner == wildcard:
                return _lacks(one.types, rdtype, "the NSEC record of its wildcard", at_root=False)
        return Denial(False, "no NSEC record is of the name, nor of its wildcard")

    def closer(self, name: Name, encloser: Name) -> Denial:
        covering = self._covering(name)
        if covering is None or is_within(covering.next, name) or len(self._encloser(name, covering)) > len(encloser):
            return Denial(False, "no NSEC record shows that the name itself does not exist")
        return Denial(True)

    def _covering(self, name: Name) -> _Range | None:
        return next((one for one in self._ranges if one.covers(name) and not one.hides(name)), None)

    def _encloser(self, name: Name, covering: _Range) -> Name:
        """Return the longest name above another that exists, as the range around it shows (RFC 5155 section 1.3)."""
        return max(
            (
                above
                for above in ancestors(name)
                if any(is_within(end, above) for end in (covering.owner, covering.next))
            ),
            key=len,
        )


class Hashed(NamedTuple):
    """An NSEC3 record (RFC 5155 section 3): nothing has a hash between its owner's and the next."""

    hash: bytes
    next: bytes
    flags: int
    iterations: int
    salt: bytes
    types: frozenset[int]

    @classmethod
    def of(cls, record: Record, zone: Name) -> Hashed | None:
        """Read a record; None for one that breaks off, is of another zone or an unknown hash (RFC 5155 section 8.1)."""
        rdata = record.rdata
        try:
            if parent(record.owner) != zone or rdata[0] != 1 or rdata[1] > 1:
                return None
            own = unhex(labels(record.owner)[0])
            at = 5 + rdata[4]
            end = at + 1 + rdata[at]
            if own is None or end > len(rdata) or end - at != 21:
                return None
            iterations = int.from_bytes(rdata[2:4], "big")
            return cls(own, rdata[at + 1 : end], rdata[1], iterations, rdata[5:at], types_in(rdata[end:]))
        except (IndexError, ValueError):
            return None

    @property
    def opt_out(self) -> bool:
        return self.flags & 1 == 1

    def covers(self, hashed: bytes) -> bool:
        """Return whether a hash is between the two; the last range of a zone leads back to the first."""
        if self.hash < self.next:
            return self.hash < hashed < self.next
        return hashed > self.hash or hashed < self.next


def hash_of(name: Name, salt: bytes, iterations: int) -> bytes:
    """Return a name's hash (RFC 5155 section 5), SHA-1 being the only one there is."""
    found = hashlib.sha1(name + salt).digest()
    for _ in range(iterations):
        found = hashlib.sha1(found + salt).digest()
    return found


def unhex(label: bytes) -> bytes | None:
    """Return the hash in the first label of an NSEC3 record's owner (base 32 with the extended hex alphabet, RFC 4648 section
    7); None where it is none."""
    if len(label) != 32:
        return None
    try:
        return base64.b32decode(label.upper().translate(_FROM_HEX))
    except ValueError:
        return None


def hexed(hashed: bytes) -> str:
    """Return a hash as it stands in an owner's name."""
    return base64.b32encode(hashed).translate(_TO_HEX).decode("ascii").lower()


class _HashedDenier:
    """The NSEC3 records of an answer, all with the parameters of the first (RFC 5155 section 8.2)."""

    kind = "NSEC3"

    def __init__(self, records: Sequence[Hashed], zone: Name) -> None:
        first = records[0]
        self._salt, self._iterations = first.salt, first.iterations
        self._records = [one for one in records if (one.salt, one.iterations) == (first.salt, first.iterations)]
        self._zone = zone

    def name(self, name: Name) -> Denial:
        if self._too_costly:
            return self._not_computed
        encloser, covering, why = self._enclosed(name)
        if covering is None:
            return Denial(False, why)
        wildcard = self._covering(join((b"*",), encloser))
        if wildcard is None:
            return Denial(False, "no NSEC3 record covers the wildcard that might stand for it")
        return Denial(True, opt_out=covering.opt_out)

    def rdtype(self, name: Name, rdtype: int) -> Denial:
        if self._too_costly:
            return self._not_computed
        own = self._of(name)
        if own is not None:
            return _lacks(own.types, rdtype, "its NSEC3 record", at_root=name == b"\0")
        encloser, covering, why = self._enclosed(name)
        if covering is None:
            return Denial(False, why)
        wildcard = self._of(join((b"*",), encloser))
        if wildcard is not None:
            lacks = _lacks(wildcard.types, rdtype, "the NSEC3 record of its wildcard", at_root=False)
            return lacks._replace(opt_out=covering.opt_out)
        # RFC 5155 section 8.6: an unsigned delegation in an opt-out range. Section 8.5 has none, and RFC 6840 nothing else.
        if rdtype == DS and covering.opt_out:
            return Denial(True, opt_out=True)
        return Denial(False, "no NSEC3 record is of the name, nor of its wildcard")

    def closer(self, name: Name, encloser: Name) -> Denial:
        if self._too_costly:
            return self._not_computed
        above = ancestors(name)
        covering = self._covering(above[above.index(encloser) - 1])
        if covering is None:
            return Denial(False, "no NSEC3 record shows that the name itself does not exist")
        return Denial(True, opt_out=covering.opt_out)

    @property
    def _too_costly(self) -> bool:
        return self._iterations > MOST_ITERATIONS

    @property
    def _not_computed(self) -> Denial:
        return Denial(False, f"{self._iterations:,} iterations are not computed here", unknown=True)

    def _enclosed(self, name: Name) -> tuple[Name, Hashed | None, str]:
        """Return the closest encloser of a name, and the record that covers the next closer name (RFC 5155 section 8.3); why
        there is none."""
        closer = name
        for above in ancestors(name)[1:]:
            if not is_within(above, self._zone):
                break
            own = self._of(above)
            if own is not None:
                if _is_cut(own.types) or DNAME in own.types:
                    return above, None, "its closest encloser is a delegation, or a DNAME"
                covering = self._covering(closer)
                return above, covering, "" if covering else "no NSEC3 record covers the name below its closest encloser"
            closer = above
        return self._zone, None, "no NSEC3 record shows its closest encloser"

    def _of(self, name: Name) -> Hashed | None:
        hashed = hash_of(name, self._salt, self._iterations)
        return next((one for one in self._records if one.hash == hashed), None)

    def _covering(self, name: Name) -> Hashed | None:
        hashed = hash_of(name, self._salt, self._iterations)
        return next((one for one in self._records if one.covers(hashed)), None)

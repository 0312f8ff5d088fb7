"""Signatures over record sets: RRSIG read, and verified (RFC 4034 section 3, RFC 4035 section 5.3).

Strategy: rdata is canonical already, so that what was signed is put together by joining bytes. Each signature is verified by
itself, and says why it does not hold; a set is as good as its best one, since a validator needs no more (RFC 4035 section
5.3.3).
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Sequence
from enum import Enum
from typing import NamedTuple

from salt_mirror.dns.dnssec.keys import DnsKey
from salt_mirror.dns.names import Name, ancestors, is_within, labels
from salt_mirror.dns.records import DNSKEY, RRSIG, Record
from salt_mirror.dns.wire import MalformedMessage, read_name

MOST_SIGNATURES = 8
"""So many signatures over one set are verified, and so many keys of one tag tried for each: whoever sends hundreds of both
would have a validator try every pair."""
MOST_KEYS = 4
FIXED = struct.Struct("!HBBIIIH")
"""What an RRSIG begins with: the type covered, algorithm, labels, original TTL, expiration, inception and key tag."""


class State(Enum):
    """What a signature is worth, from the best to the worst."""

    VALID = "valid"
    UNKNOWN = "cannot be verified on this computer"
    EARLY = "not valid yet"
    EXPIRED = "expired"
    NO_KEY = "made by a key that is not in the DNSKEY set"
    NOT_FROM_ZONE = "made in the name of another zone"
    WRONG = "does not fit the records"


class Signature(NamedTuple):
    """An RRSIG record (RFC 4034 section 3.1): times in seconds since 1970, modulo 2^32; `signer` the zone's apex."""

    owner: Name
    covered: int
    algorithm: int
    labels: int
    original_ttl: int
    expiration: int
    inception: int
    tag: int
    signer: Name
    signature: bytes
    ttl: int

    @classmethod
    def of(cls, record: Record) -> Signature:
        """Read a record's rdata. Raises ValueError where it does not fit."""
        try:
            fields = FIXED.unpack_from(record.rdata)
            # RFC 4034 section 6.2: for a digest the signer's name is in lower case, as RFC 6840 section 5.1 confirms
            signer, at = read_name(b"\0" * 12 + record.rdata, 12 + FIXED.size)
        except (struct.error, IndexError, MalformedMessage):
            raise ValueError("an RRSIG record that breaks off") from None
        return cls._make((record.owner, *fields, signer, record.rdata[at - 12 :], record.ttl))

    def ends_in(self, now: float) -> int:
        """Return in how many seconds it ends; negative where it has."""
        return apart(self.expiration, int(now))

    def begins_in(self, now: float) -> int:
        """Return in how many seconds it begins; negative where it has."""
        return apart(self.inception, int(now))

    def by_wildcard(self) -> bool:
        """Return whether the set was made from a wildcard (RFC 4035 section 5.3.4)."""
        return self.labels < _label_count(self.owner)

    @property
    def encloser(self) -> Name:
        """The name below which the wildcard stands that the set was made from (RFC 4035 section 5.3.2). A first `*` in the name
        asked for is a label like others there."""
        return ancestors(self.owner)[-1 - self.labels]


class Verified(NamedTuple):
    """One signature over one set, and what it is worth."""

    signature: Signature
    state: State


class Proof(NamedTuple):
    """A set with all signatures over it; `state` is the best of these, None where there is none."""

    owner: Name
    rdtype: int
    signatures: Sequence[Verified]

    @property
    def state(self) -> State | None:
        return min((one.state for one in self.signatures), key=list(State).index, default=None)

    @property
    def holds(self) -> bool:
        """Whether a validator takes the set."""
        return self.state is State.VALID

    @property
    def best(self) -> Verified | None:
        """The signature by which the set is good, or comes nearest to that; of several valid ones the one that ends last."""
        order = list(State)
        return min(
            self.signatures,
            key=lambda one: (order.index(one.state), -one.signature.expiration),
            default=None,
        )


def signatures_in(records: Iterable[Record], owner: Name, rdtype: int) -> list[Signature]:
    """Return the signatures over one set among some records; those that break off are left out."""
    found = []
    for record in records:
        if record.rdtype == RRSIG and record.owner == owner and record.rdata[:2] == rdtype.to_bytes(2, "big"):
            try:
                found.append(Signature.of(record))
            except ValueError:
                continue
    return found


def prove(
    owner: Name,
    rdtype: int,
    values: Iterable[bytes],
    signatures: Iterable[Signature],
    keys: Sequence[DnsKey],
    zone: Name,
    now: float,
) -> Proof:
    """Verify every signature over a set: `values` its canonical rdata, `keys` the zone's, `now` in seconds since 1970."""
    rdatas = sorted(set(values))
    tags = {(key.tag, key.algorithm) for key in keys}
    # Those that some key may have made come first: others cost nothing, and are no reason to leave a good one out.
    known = sorted(signatures, key=lambda one: (one.tag, one.algorithm) not in tags)[:MOST_SIGNATURES]
    return Proof(owner, rdtype, [Verified(one, _state(owner, rdtype, rdatas, one, keys, zone, now)) for one in known])


def _state(
    owner: Name,
    rdtype: int,
    rdatas: Sequence[bytes],
    signature: Signature,
    keys: Sequence[DnsKey],
    zone: Name,
    now: float,
) -> State:
    """Return what one signature is worth (RFC 4035 section 5.3.1)."""
    if signature.signer != zone or not is_within(owner, signature.signer):
        return State.NOT_FROM_ZONE
    if signature.covered != rdtype or signature.labels > _label_count(owner):
        return State.WRONG
    # Several keys may have one tag: any of them may have made it (RFC 4035 section 5.3.1).
    # A revoked key still signs its own set, and nothing else (RFC 5011 section 2.1); it is tried last.
    made = (key for key in keys if (key.tag, key.algorithm) == (signature.tag, signature.algorithm) and key.signs)
    mine = sorted((key for key in made if rdtype == DNSKEY or not key.is_revoked), key=lambda key: key.is_revoked)
    if not mine:
        return State.NO_KEY
    data = signed_data(owner, rdtype, rdatas, signature)
    verdicts = {key.verifies(signature.signature, data) for key in mine[:MOST_KEYS]}
    if True in verdicts:
        # What is out of its time is said only of a signature that is good otherwise: that is the better advice.
        if signature.begins_in(now) > 0:
            return State.EARLY
        return State.EXPIRED if signature.ends_in(now) < 0 else State.VALID
    return State.UNKNOWN if None in verdicts or len(mine) > MOST_KEYS else State.WRONG


def signed_data(owner: Name, rdtype: int, rdatas: Iterable[bytes], signature: Signature) -> bytes:
    """Return the bytes that a signature is made over (RFC 4034 section 3.1.8.1), `rdatas` in canonical order."""
    name = b"\x01*" + signature.encloser if signature.by_wildcard() else owner
    head = FIXED.pack(*signature[1:8]) + signature.signer
    before = name + rdtype.to_bytes(2, "big") + b"\x00\x01" + signature.original_ttl.to_bytes(4, "big")
    return head + b"".join(before + len(rdata).to_bytes(2, "big") + rdata for rdata in rdatas)


def _label_count(owner: Name) -> int:
    """Return how many labels a name has, the root and a first `*` left out (RFC 4034 section 3.1.3)."""
    return len(labels(owner)) - (owner[:2] == b"\x01*")


def apart(moment: int, now: int) -> int:
    """Return the seconds from now to the moment of a signature, in serial arithmetic (RFC 4034 section 3.1.5)."""
    distance = (moment - now) & 0xFFFFFFFF
    return distance - (1 << 32) if distance >= 1 << 31 else distance

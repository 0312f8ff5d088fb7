"""A signed zone that was transferred: whether each of its record sets has a signature that is in time, by a key that is there.

Strategy: no signature is verified here, which would cost more than all else that is done with a large zone; the sample that is
asked for is. What a secondary lacks, or has too long, shows in the dates and the key tags.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
from typing import NamedTuple

from salt_mirror.checks.common.trust import Flaw
from salt_mirror.dns.dnssec.keys import DnsKey
from salt_mirror.dns.dnssec.signatures import FIXED, apart
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name
from salt_mirror.dns.records import DS, NSEC, RRSIG


class WholeZone(NamedTuple):
    """What the signatures of a whole zone say by their dates and key tags: how many record sets have to be signed, and which of
    them lack a signature that could hold, by flaw."""

    sets: int
    flawed: dict[Flaw, list[tuple[Name, int]]]


def look_over(holding: Holding, keys: Sequence[DnsKey], now: float) -> WholeZone:
    """Look over a zone at a moment (seconds since 1970); `keys` are those at its apex."""
    tags = {(key.algorithm, key.tag) for key in keys}
    flawed: dict[Flaw, list[tuple[Name, int]]] = {}
    number = 0
    for owner, rrsets in groupby(holding.rrsets(), key=lambda one: one[0]):
        at_cut = owner in holding.cuts
        if not at_cut and holding.is_delegated(owner):
            continue  # glue is the zone's below, and nobody signs it here (RFC 4035 section 2.2)
        sets = {rdtype: values for _, rdtype, _, values in rrsets}
        made: dict[int, list[bytes]] = {}
        for rdata in sets.pop(RRSIG, ()):
            made.setdefault(int.from_bytes(rdata[:2], "big"), []).append(rdata)
        for rdtype in sets:
            if at_cut and rdtype not in (DS, NSEC):
                continue
            number += 1
            flaw = _flaw(made.get(rdtype, ()), tags, int(now))
            if flaw is not None:
                flawed.setdefault(flaw, []).append((owner, rdtype))
    return WholeZone(number, flawed)


def _flaw(signatures: Sequence[bytes], tags: set[tuple[int, int]], now: int) -> Flaw | None:
    """Return why none of some signatures could hold; None where one could."""
    best: Flaw | None = Flaw.MISSING
    for rdata in signatures:
        if len(rdata) < FIXED.size:
            continue
        _, algorithm, _, _, expiration, inception, tag = FIXED.unpack_from(rdata)
        if (algorithm, tag) not in tags:
            best = Flaw.NO_KEY if best is Flaw.MISSING else best
        elif apart(expiration, now) < 0:
            best = Flaw.EXPIRED
        elif apart(inception, now) > 0:
            best = Flaw.EARLY
        else:
            return None
    return best

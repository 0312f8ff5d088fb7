"""What a server says about a zone that is not an answer: a delegation downwards, or the way in which it is lame.

Strategy: both are read off one message, since the same answer from a parent is a referral and from the zone's own server is
a fault. Glue is taken for the name servers of the very delegation alone.
"""

from __future__ import annotations

from typing import NamedTuple

from salt_mirror.dns.names import Name, is_within, to_text
from salt_mirror.dns.questions import SILENCED, TIMEOUT, UNREACHABLE, Answer
from salt_mirror.dns.records import AAAA, NS, A

NO_ANSWER = frozenset((TIMEOUT, SILENCED, UNREACHABLE))


class Delegation(NamedTuple):
    """A zone cut as one server of the zone above has it: name servers, their addresses, the TTL of the NS set (seconds)."""

    cut: Name
    targets: tuple[Name, ...]
    glue: dict[Name, tuple[bytes, ...]]
    ttl: int


def delegation_in(answer: Answer) -> Delegation | None:
    """Return the delegation that an answer refers down to (RFC 1034 section 4.3.2), or None."""
    cut = answer.referral
    if cut is None:
        return None
    sections = answer.sections
    records = [record for record in sections.authority if record.rdtype == NS and record.owner == cut]
    targets = tuple(sorted({record.rdata for record in records}))
    glue: dict[Name, tuple[bytes, ...]] = {}
    for record in sections.additional:
        if record.rdtype in (A, AAAA) and record.owner in targets and len(record.rdata) in (4, 16):
            glue[record.owner] = tuple(sorted({*glue.get(record.owner, ()), record.rdata}))
    return Delegation(cut, targets, glue, min(record.ttl for record in records))


def lameness(answer: Answer, zone: Name) -> str | None:
    """Return how a server that should be authoritative for a zone is not, in a few words; None when it is, or gave no
    answer."""
    if answer.status in ("NOERROR", "NXDOMAIN"):
        if answer.authoritative:
            return None
        up = upward_referral(answer, zone)
        if up is not None:
            return f"refers upwards, to {to_text(up)}"
        return "answers without authority"
    if answer.message and answer.status.isupper():
        return f"answers {answer.status}"
    return None


def upward_referral(answer: Answer, zone: Name) -> Name | None:
    """Return the zone above that a server sends people up to in place of answering, or None."""
    for record in answer.sections.authority:
        if record.rdtype == NS and record.owner != zone and is_within(zone, record.owner):
            return record.owner
    return None

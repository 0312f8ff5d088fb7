"""Where the aliases in one response lead: the values that a client ends up with, and how long each link may be cached.

A server puts the whole chain into its response as far as it has the zones (RFC 1034 section 4.3.2, RFC 6672 for DNAME, whose
CNAME stands beside it); a resolver puts all of it. The section is read by owner, since its order is not promised.
"""

from __future__ import annotations

from typing import NamedTuple

from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import CNAME, SOA, Record, soa_fields

MOST_LINKS = 16


class Chain(NamedTuple):
    """The end of a chain: `name` where it ends, and the values there. `ttls` in seconds are those of every link, the values or
    the denial included; `ended` is False where the response does not say what is at that name."""

    name: Name
    values: tuple[bytes, ...]
    ttls: tuple[int, ...]
    ended: bool


def chain_of(answer: Answer) -> Chain:
    """Follow the aliases of an answer through its own response."""
    name, rdtype = answer.question.name, answer.question.rdtype
    if answer.alias is None or rdtype == CNAME or not answer.message:
        values = answer.values or ((answer.alias,) if answer.alias is not None and rdtype == CNAME else ())
        ended = answer.alias is None or bool(values)
        if not ended and answer.alias is not None:
            name = answer.alias
        ttl = answer.ttl if answer.ttl is not None else _denied_for(answer, name)
        return Chain(name, values, () if ttl is None else (ttl,), ended)
    records: dict[tuple[Name, int], list[Record]] = {}
    for record in answer.sections.answer:
        records.setdefault((record.owner, record.rdtype), []).append(record)
    ttls: list[int] = []
    for _ in range(MOST_LINKS):
        found = records.get((name, rdtype))
        if found:
            values = tuple(sorted({record.rdata for record in found}))
            return Chain(name, values, (*ttls, min(record.ttl for record in found)), True)
        alias = records.get((name, CNAME))
        if not alias:
            break
        ttls.append(alias[0].ttl)
        name = alias[0].rdata
    ttl = _denied_for(answer, name)
    return Chain(name, (), tuple(ttls) if ttl is None else (*ttls, ttl), ttl is not None)


def _denied_for(answer: Answer, name: Name) -> int | None:
    """Return how long a denial of a name may be cached (RFC 2308 section 5), in seconds; None where the response denies
    nothing."""
    for record in answer.sections.authority:
        if record.rdtype == SOA and is_within(name, record.owner):
            return min(record.ttl, soa_fields(record.rdata).minimum) if answer.authoritative else record.ttl
    return None

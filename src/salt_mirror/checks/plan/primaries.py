"""Where the changes of a zone go: its primary, as the estate says or as its SOA names it; and what it holds.

Strategy: what the estate says counts; else the server whose published address the SOA's MNAME has, among the zone's servers
first. Where each names itself, the first of the estate's list is taken. Nobody is guessed.
"""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.replicas import Replicas, is_host, places_of, replicas_of
from salt_mirror.checks.common.wildcards import of_a_wildcard
from salt_mirror.checks.plan.sets import Held, SetKey
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import NS, SOA, soa_fields
from salt_mirror.estate.model import Zone

_TTLS = 16
"""So many registered sets of a zone show which TTL is usual there."""


class Primary(NamedTuple):
    """The primary of a zone and the server to read its sets from, which is the same where it can be asked; or why not. Of a
    zone that is replicated, `replicas` are all that could be it."""

    server: Server | None
    source: Server | None
    servers: tuple[Server, ...]
    trouble: str = ""
    replicas: Replicas | None = None


def primary_of(zone: Zone, atlas: Atlas) -> Dialogue[Primary]:
    """Find the primary of a zone."""
    authority = yield from atlas.find(zone.apex, zone.view)
    servers = authority.servers
    told = zone.updates.server or zone.primary
    if told is not None and not _is_asked(told, atlas):
        return Primary(None, None, servers, _NOT_ASKED.format(told.label))
    if told is not None:
        return Primary(told, told, tuple(dict.fromkeys((told, *servers))))
    answers = yield [Question(zone.apex, SOA, server) for server in servers]
    held = {
        answer.question.server: soa_fields(answer.values[0])
        for answer in answers
        if answer.trouble is None and answer.values
    }
    named = {server: soa.mname for server, soa in held.items()}
    if not named:
        return Primary(None, None, servers, "none of its servers could be asked for its SOA")
    places = yield from places_of(list(dict.fromkeys(named.values())), zone.view, atlas)
    for server, mname in named.items():
        # Nothing is sent to a server that the estate does not name.
        if is_host(server, mname, places) and not server.found:
            replicas = yield from replicas_of(zone.apex, zone.view, held, atlas)
            return Primary(server, server, servers, replicas=replicas)
    everywhere = {place for found in places.values() for place in found}
    hidden = next((one for one in atlas.estate.servers.values() if (one.address, one.port) in everywhere), None)
    if hidden is not None and not _is_asked(hidden, atlas):
        return Primary(None, next(iter(named)), servers, _NOT_ASKED.format(hidden.label))
    if hidden is not None:
        return Primary(hidden, hidden, (hidden, *servers))
    text = ", ".join(map(to_text, places))
    why = f"its primary {text} is none of the estate's servers; name the server that takes changes with update = in the zone"
    return Primary(None, next(iter(named)), servers, why)


_NOT_ASKED = "its primary {} is not asked, since this run is kept to the other IP version"


def _is_asked(server: Server, atlas: Atlas) -> bool:
    return atlas.estate.asks(server)


def serials_of(zone: Zone, primary: Primary) -> Dialogue[dict[Server, int]]:
    """Return the serial that each server of a zone has, as far as they say."""
    answers = yield [Question(zone.apex, SOA, server) for server in primary.servers]
    told = [one for one in answers if one.trouble is None and one.values]
    return {one.question.server: soa_fields(one.values[0]).serial for one in told}


def usual_ttls(zone: Zone, primary: Primary) -> Dialogue[Counter[int]]:
    """Count the TTLs (seconds) of sets that are registered in a zone: of those that are expected, else of its NS set. It does
    not depend on what else a plan reads, so that the same set is planned the same way by whichever command."""
    keys = dict.fromkeys((one.name, one.rdtype) for one in zone.expectations if one.presence != "absent")
    source = primary.source
    if source is None:
        return Counter()
    answers = yield [Question(name, rdtype, source) for name, rdtype in [*list(keys)[:_TTLS], (zone.apex, NS)]]
    ttls = [answer.ttl if answer.trouble is None and answer.values else None for answer in answers]
    known = [ttl for ttl in ttls[:-1] if ttl is not None]
    return Counter(known or [ttl for ttl in ttls[-1:] if ttl is not None])


def held_at(key: SetKey, source: Server) -> Dialogue[Held | str]:
    """Return what a server holds of a set, or why that is not known. What a wildcard says is nobody's own."""
    (answer,) = yield [Question(key.name, key.rdtype, source)]
    if answer.trouble is not None:
        return f"{source.label} could not be asked: {answer.trouble}"
    if not answer.exists:
        return Held(frozenset(), None, False)
    if key.name != key.zone and not key.name.startswith(b"\x01*") and (yield from of_a_wildcard(answer)):
        return Held(frozenset(), None, False)
    return Held(frozenset(answer.values), answer.ttl, True)

"""Where the changes of a zone go: its primary, as the estate says or as its SOA names it.

Strategy: what the estate says counts; else the server whose published address the SOA's MNAME has, among the zone's servers
first. Where each names itself, the first of the estate's list is taken. Nobody is guessed.
"""

from __future__ import annotations

from typing import NamedTuple

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.lookup import lookup
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, SOA, A, soa_fields
from salt_mirror.estate.model import Zone


class Primary(NamedTuple):
    """The primary of a zone and the server to read its sets from, which is the same where it can be asked; or why not."""

    server: Server | None
    source: Server | None
    servers: tuple[Server, ...]
    trouble: str = ""


def primary_of(zone: Zone, atlas: Atlas) -> Dialogue[Primary]:
    """Finds the primary of a zone."""
    authority = yield from atlas.find(zone.apex, zone.view)
    servers = authority.servers
    told = zone.updates.server or zone.primary
    if told is not None:
        return Primary(told, told, tuple(dict.fromkeys((told, *servers))))
    answers = yield [Question(zone.apex, SOA, server) for server in servers]
    named: dict[Server, Name] = {
        answer.question.server: soa_fields(answer.values[0]).mname
        for answer in answers
        if answer.trouble is None and answer.values
    }
    if not named:
        return Primary(None, None, servers, "none of its servers could be asked for its SOA")
    places: dict[Name, set[tuple[bytes, int]]] = {}
    for mname in dict.fromkeys(named.values()):
        found = yield from lookup(mname, (A, AAAA), zone.view, atlas)
        places[mname] = {atlas.estate.reached(address) for address in found.values}
    for server, mname in named.items():
        called = to_text(mname).rstrip(".")
        itself = (server.address, server.port) in places[mname] or server.label.lower() in (
            called,
            called.split(".")[0],
        )
        if itself and not server.found:  # nothing is sent to a server that the estate does not name
            return Primary(server, server, servers)
    everywhere = {place for found in places.values() for place in found}
    hidden = next((one for one in atlas.estate.servers.values() if (one.address, one.port) in everywhere), None)
    if hidden is not None:
        return Primary(hidden, hidden, (hidden, *servers))
    said = ", ".join(map(to_text, places))
    why = f"its primary {said} is none of the estate's servers; name the server that takes changes with update = in the zone"
    return Primary(None, next(iter(named)), servers, why)

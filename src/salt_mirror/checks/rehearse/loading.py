"""Zone files laid over the answers in hand: what every server would say once the files are loaded.

Strategy: an exchange like any other, so that the checks run over it unchanged. A file is loaded by its zone's primary, and a
secondary takes it only where the serial rises (RFC 1982): which server does what is worked out before (`fates`), from what
each of them answers now. A server that gave no answer gives none here either; who is no server of the zone stays none.
Signatures are the signer's business, and stay as they are.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Holdings, no_holding
from salt_mirror.checks.plan.primaries import Primary, primary_of
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.questions import UNSEEN, Answer, Question, Server
from salt_mirror.dns.records import AXFR, DNSKEY, DS, NOT_CONTENT, SOA, soa_fields
from salt_mirror.dns.serials import ahead
from salt_mirror.dns.serving import ServedZone, zone_for
from salt_mirror.dns.wire import offers_recursion
from salt_mirror.estate.model import Zone


class Uptake(StrEnum):
    """What a server does when a new version of a zone comes: it `loads` the file as a primary, it `follows` a primary, it
    `keeps` what it has since the serial does not rise, it is `undecided` since the serials have no order, or
    nothing is known of it."""

    LOADS = "loads"
    FOLLOWS = "follows"
    KEEPS = "keeps"
    UNDECIDED = "undecided"
    UNKNOWN = "unknown"


NO_ORDER = "whether it transfers the file is not known: the two serials have no order (RFC 1982 section 3.2)"


class Endpoint(NamedTuple):
    """Where a server is, whatever it is called and spoken to over: the same for it and for all that are made of it. `way` tells
    apart the views that one server gives by who asks."""

    address: bytes
    port: int
    source: bytes
    via: str
    key: bytes
    way: int


def endpoint_of(server: Server) -> Endpoint:
    """Return the endpoint of a server."""
    key = server.key.name if server.key is not None else b""
    way = id(server.shared) if server.shared is not None else 0
    return Endpoint(server.address, server.port, server.source, server.via, key, way)


@dataclass(slots=True)
class Loading:
    """One zone file, and what becomes of it on each server that serves the zone or should.

    `serials` are what they have now; `signs` says that a server has keys which the file has not: it signs by itself, and counts
    serials of its own. `why` says why nothing is known of a server. `below` are zones below this one that a server has as
    well: it answers from those itself, whatever the file delegates.
    """

    proposed: ProposedZone
    served: ServedZone
    primary: Primary
    fates: dict[Server, Uptake] = field(default_factory=dict)
    serials: dict[Server, int] = field(default_factory=dict)
    why: dict[Server, str] = field(default_factory=dict)
    below: dict[Server, set[Name]] = field(default_factory=dict)
    signs: bool = False

    @property
    def takers(self) -> list[Server]:
        """The servers that have the file afterwards."""
        return [server for server, fate in self.fates.items() if fate in (Uptake.LOADS, Uptake.FOLLOWS)]


def loading_of(
    proposed: ProposedZone, seen: Collection[Server], atlas: Atlas, holdings: Holdings = no_holding
) -> Dialogue[Loading]:
    """Ask the servers of a zone what they have, those too that were `seen` to serve it, and return what each does with a
    file."""
    zone = proposed.zone
    primary = yield from primary_of(zone, atlas)
    listed = dict.fromkeys((*primary.servers, *(zone.servers or ())))
    servers = [*listed, *(one for one in seen if one not in listed and not _of_another_view(one, zone, atlas))]
    loading = Loading(proposed, ServedZone(proposed.holding), primary)
    answers = yield [Question(zone.apex, rdtype, server) for server in servers for rdtype in (SOA, DNSKEY)]
    keyed = bool(proposed.holding.rdata(zone.apex, DNSKEY))
    serving = {}
    for number, server in enumerate(servers):
        soa, keys = answers[2 * number : 2 * number + 2]
        if soa.trouble is None and soa.values:
            serving[server] = soa_fields(soa.values[0]).serial
            loading.signs = loading.signs or (not keyed and keys.trouble is None and bool(keys.values))
        elif not soa.came:
            loading.why[server] = soa.trouble or "no answer"
    loading.serials = serving
    primaries = _primaries(primary, servers, serving)
    serial = soa_fields(loading.served.soa).serial if loading.served.soa else 0
    for server in servers:
        loading.fates[server] = _fate(server, primaries, loading, serial)
    cuts = set(proposed.holding.cuts) | {
        one for one in atlas.estate.zones.get(zone.view, {}) if _is_below(one, zone.apex)
    }
    for server in servers:
        held = holdings(server, zone.apex)
        cuts |= set(held.cuts) if held is not None else set()
    wanted = [(server, cut) for server in loading.takers for cut in sorted(cuts)]
    for (server, cut), answer in zip(wanted, (yield [Question(cut, SOA, s) for s, cut in wanted]), strict=True):
        if answer.trouble is None and answer.values:
            loading.below.setdefault(server, set()).add(cut)
    return loading


def _of_another_view(server: Server, zone: Zone, atlas: Atlas) -> bool:
    """Return whether a server that was found is the estate's for the same zone in another view: what it has is that one."""
    others = (zones.get(zone.apex) for view, zones in atlas.estate.zones.items() if view != zone.view)
    return any(server.same_place_as_any(other.servers or ()) for other in others if other is not None)


def _is_below(name: Name, apex: Name) -> bool:
    return len(name) > len(apex) and is_within(name, apex)


def _primaries(primary: Primary, servers: Sequence[Server], serving: Mapping[Server, int]) -> Collection[Server]:
    """Return the servers that load a file: each of several primaries, the one that is known, or the only one; of a zone that
    nobody serves yet, where no primary is known, all that shall serve it."""
    if primary.replicas is not None:
        return primary.replicas.hosts
    if primary.server is not None:
        return (primary.server,)
    if not serving or len(servers) == 1:
        return servers
    return ()


def _fate(server: Server, primaries: Collection[Server], loading: Loading, serial: int) -> Uptake:
    if server in loading.why:
        return Uptake.UNKNOWN
    if server in primaries:
        return Uptake.LOADS
    held = loading.serials.get(server)
    if held is None:  # lame now, and lame afterwards
        return Uptake.KEEPS
    # RFC 1034 section 4.3.5: a secondary transfers a zone whose serial is ahead of its own.
    distance = ahead(serial, held)
    if loading.signs or (distance is not None and distance > 0):
        return Uptake.FOLLOWS
    if distance is None:
        loading.why[server] = NO_ORDER
        return Uptake.UNDECIDED
    return Uptake.KEEPS


class Loaded:
    """The exchange. `behind` has the answers of today, and asks for what it has not."""

    def __init__(self, behind: Runner, loadings: Sequence[Loading]) -> None:
        self._behind = behind
        self._at: dict[Endpoint, dict[Name, Loading | None]] = {}
        self._undecided = {
            (endpoint_of(server), loading.served.apex)
            for loading in loadings
            for server, fate in loading.fates.items()
            if fate is Uptake.UNDECIDED
        }
        for place, apex in self._undecided:
            self._at.setdefault(place, {})[apex] = None
        for loading in loadings:
            for server in loading.takers:
                zones = self._at.setdefault(endpoint_of(server), {})
                zones[loading.served.apex] = loading
                for apex in loading.below.get(server, ()):
                    zones.setdefault(apex, None)
        self._zones: dict[Server, Mapping[Name, Loading | None] | None] = {}
        self._ready: list[Answer] = []
        self._waiting: list[Question] = []

    @property
    def backlog(self) -> int:
        """How many questions are waiting."""
        return len(self._ready) + len(self._waiting)

    def submit(self, question: Question) -> None:
        """Take a question: what a file answers is ready at once."""
        server = question.server
        if server not in self._zones:
            self._zones[server] = self._zones_at(server)
        zones = self._zones[server]
        # Caches know nothing of a file yet.
        if not zones or question.recurse:
            self._waiting.append(question)
            return
        apex = zone_for(question.name, question.rdtype, zones)
        loading = zones[apex] if apex is not None else None
        if self._undecided and (endpoint_of(server), apex) in self._undecided:
            self._ready.append(Answer(question, f"{UNSEEN}{NO_ORDER}", tries=0))
        elif loading is None or _stays(question, loading) or server.over != "udp":
            self._waiting.append(question)
        elif question.rdtype == SOA and question.name == apex and loading.served.soa:
            self._waiting.append(question)  # what it says of itself comes with it
        else:
            self._ready.append(loading.served.answer(question))

    def _zones_at(self, server: Server) -> Mapping[Name, Loading | None] | None:
        """Return the zones of a server. One that was found by a name server's address, or that is asked as by anyone, is known
        by where it is only."""
        place = endpoint_of(server)
        if place in self._at or not (server.found or server.over in ("transfer", "update")):
            return self._at.get(place)
        there = [zones for other, zones in self._at.items() if other[:2] == place[:2] and other.via == place.via]
        return there[0] if len(there) == 1 else None

    def collect(self) -> list[Answer]:
        """Return the answers to all that is waiting."""
        ready, self._ready = self._ready, []
        asked, self._waiting = self._waiting, []
        if not asked:
            return ready
        return ready + list(self._behind.run(map(self._said, asked)))

    def _said(self, question: Question) -> Dialogue[Answer]:
        """Return what a server says now; over another transport, what it says of the file where it answers there at all."""
        (answer,) = yield [question]
        zones = self._zones.get(question.server)
        over = question.server.over
        if not zones or question.recurse or over == "update" or (answer.trouble is not None and over != "udp"):
            return answer
        apex = zone_for(question.name, question.rdtype, zones)
        loading = zones[apex] if apex is not None else None
        if loading is None or _stays(question, loading):
            return answer
        served = loading.served
        if over == "udp":
            return served.version(question, recurses=offers_recursion(answer.message))
        if question.rdtype == AXFR:
            return served.handed_over(question) if answer.status == "NOERROR" and answer.message else answer
        return served.answer(question)._replace(over=answer.over)


def _stays(question: Question, loading: Loading) -> bool:
    """Return whether an answer stays as it is whatever the file has: a signer's own sets, and what was asked for with its
    signatures."""
    if question.server.signed:
        return loading.signs or loading.served.holding.rdata(loading.served.apex, DNSKEY) != () or question.rdtype == DS
    return loading.signs and (question.rdtype in NOT_CONTENT or question.rdtype == SOA)


def loaded_holdings(holdings: Holdings, loadings: Sequence[Loading]) -> Holdings:
    """Return the zones in hand as they will be."""
    new: dict[tuple[Server, Name], Holding] = {
        (server, loading.served.apex): loading.served.holding for loading in loadings for server in loading.takers
    }

    def held(server: Server, apex: Name) -> Holding | None:
        return new.get((server, apex)) or holdings(server, apex)

    return held

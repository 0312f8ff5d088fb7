"""The search for an estate: from a few names to every zone and server that can be reached from there.

Strategy: rounds. What is to be asked next stands in queues; each answer, and each zone that was handed over whole, may put more
there: a delegated child, an address whose pointer somebody keeps, a host that a record leads to. Everything is taken up
once, so the search ends where nothing new is said. It asks nothing itself: whoever drives it has the runner and the transfers.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.directories import sites_in
from salt_mirror.checks.draft.asking import (
    MOST_NAME_SERVERS,
    THROUGH_RESOLVERS,
    Answering,
    Begins,
    Candidate,
    Claims,
    answering,
    claims,
    sets_at,
    zone_of,
)
from salt_mirror.checks.draft.leads import Lead, SoughtName, batches, upwards
from salt_mirror.checks.draft.learnt import Learnt, LearntServer, LearntZone, bare
from salt_mirror.checks.draft.scope import SearchStart, parts_of, place_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text, labels, parent, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import AAAA, CNAME, DRAFTED, MX, NS, PTR, SRV, TARGET_AT, TXT, A
from salt_mirror.dns.reverse import Network, address_text, is_reverse, reverse_name
from salt_mirror.estate.directory.found import FoundZone

MOST_ZONES = 5_000
"""So many zones are taken up; more are no estate of one administrator's."""
MOST_HOSTS = 100_000
SWEEP_UNASKED = 256
"""A reverse zone of so many addresses is swept where nobody hands it over, also when its network was not given."""

_AT_APEX = (NS, MX, A, AAAA, TXT)
_AT_HOST = (A, AAAA)
_CONTROLLERS = from_text("_ldap._tcp.dc._msdcs.")[:-1]
_DIRECTORYS = from_text("_msdcs.")[:-1]


class Explorer:
    """The search at work; `learnt` is what came of it, and can be read at any time."""

    def __init__(self, wanted: SearchStart, atlas: Atlas, view: str, *, sweep: bool = True) -> None:
        self.learnt = Learnt(view)
        self._atlas = atlas
        self._wanted = wanted
        self._sweeps = sweep
        self._ours = {server: Candidate(server, "in the estate") for server in wanted.known}
        self._ours |= {server: Candidate(server, "given") for server in wanted.servers}
        self._places: dict[Name, SoughtName] = {}
        self._apexes: dict[Name, Lead] = {}
        self._questions: dict[Server, dict[tuple[Name, int], Name]] = {}
        self._seen: set[Name] = set()
        self._domains: set[Name] = set()
        self._tried: dict[Name, Lead] = {}
        self._asked: dict[Name, set[Server]] = {}
        self._hosts: dict[Name, tuple[int, ...]] = {}
        self._settled: set[Name] = set()
        self._untaken: list[LearntZone] = []
        self._networks: dict[Name, tuple[Network, int]] = {}
        self._trusted: set[Server] = set()
        self._liars: set[Server] = set()
        self._beyond: set[Name] = set()
        self._hosts_beyond: set[Name] = set()
        self._given: set[Name] = set(wanted.names)
        self._kept: dict[Name, FoundZone] = {}
        self._placed: dict[Name, tuple[SoughtName, int]] = {}
        self._begin()

    # What is asked

    def _begin(self) -> None:
        for host, address in self._wanted.controllers:
            if self._atlas.reachable(address):
                server = self._atlas.server_at(host, address)
                self._ours.setdefault(server, Candidate(server, "a domain controller of the directory", host, address))
        if self._wanted.directory is not None:
            self.learnt.directory = self._wanted.directory
            self._kept = {zone.apex: zone for zone in self._wanted.directory.zones}
            for zone in self._kept.values():
                self._look_for(zone.apex, SoughtName("in the directory", outside=True, is_zone=True))
        for name, whence in self._wanted.zones.items():
            self._look_for(name, SoughtName(whence, outside=True, is_zone=True))
        for name in self._wanted.names:
            self._look_for(name, SoughtName("given", f"{bare(name)}, which was given", outside=True))
        for network in self._wanted.networks:
            holds = f"PTR records of {network}, which was given"
            for part in (network, *parts_of(network)):
                self._look_for(place_of(part), SoughtName("given", holds, outside=True, quiet=part is not network))

    def _look_for(self, name: Name, place: SoughtName) -> None:
        if name not in self._seen:
            self._seen.add(name)
            self._places[name] = place

    def dialogues(self) -> list[Dialogue[Any]]:
        """Return what to ask next; nothing when the search has come to its end.

        A server that calls every name a zone would be asked without end, and so each is tried before it is asked about ours.
        """
        untried = [server for server in self._ours if server not in self._trusted]
        if untried:
            return [claims(server) for server in untried]
        return self._next() or self._again()

    def _next(self) -> list[Dialogue[Any]]:
        """Return what stands in the queues."""
        view, atlas = self.learnt.view, self._atlas
        ours = list(self._ours)
        steps: list[Dialogue[Any]] = []
        for name, place in self._places.items():
            self._placed[name] = place, len(ours)
            steps.append(zone_of(name, ours, view, atlas, outside=place.outside))
        self._places = {}
        self._ask_hosts()
        self._tried |= self._apexes
        steps += [self._answering(apex) for apex in self._apexes]
        self._apexes = {}
        for server, wanted in self._questions.items():
            steps += [sets_at(batch, server) for batch in batches(list(wanted))]
        self._questions = {}
        return steps

    def _again(self) -> list[Dialogue[Any]]:
        """Names and zones that were asked for before some of our servers were known; the others' answers are kept.

        Zones that nobody answered for so far are among them: a server that became known later may hold one.
        """
        ours = self._ours.keys()
        self._places = {name: place for name, (place, servers) in self._placed.items() if servers < len(ours)}
        late = [self._answering(apex) for apex in self._tried if not ours <= self._asked[apex]]
        return late + self._next()

    def _answering(self, apex: Name) -> Dialogue[Answering]:
        lead = self._tried[apex]
        hints = (Candidate(server, THROUGH_RESOLVERS) for server in lead.hints)
        first = {candidate.server: candidate for candidate in (*hints, *self._ours.values())}
        self._asked.setdefault(apex, set()).update(first)
        return answering(apex, first.values(), self.learnt.view, self._atlas, lead.above, lead.glue)

    # What came back

    def take(self, result: Begins | Answering | Claims | list[Answer]) -> None:
        """Take in what a dialogue has returned."""
        if isinstance(result, Claims):
            self._trusted.add(result.server)
            if result.everything:
                del self._ours[result.server]
                self._liars.add(result.server)
                self.learnt.left_out[result.server.label] = "it answers with authority for names that cannot exist"
        elif isinstance(result, Begins):
            self._take_place(result)
        elif isinstance(result, Answering):
            self._take_zone(result)
        else:
            self._take_answers(result)

    def _take_place(self, found: Begins) -> None:
        place, _ = self._placed[found.name]
        apex = found.apex
        for other, hints in found.above:  # what is found depends on no order in which servers become known
            if len(labels(other)) >= 2:
                self._take_up(other, Lead(f"holds {place.holds}" if place.holds else place.whence, hints))
        if apex is None or (len(labels(apex)) < 2 and found.name != apex):
            if place.outside and not place.quiet:
                self.learnt.lost.setdefault(found.name, found.trouble or "no zone was found for it")
            return
        if place.is_zone and apex != found.name:
            self.learnt.lost[found.name] = f"is not the apex of a zone: it is in {to_text(apex)}"
            return
        self.learnt.lost.pop(found.name, None)
        if found.name in self._given and apex != found.name and not is_reverse(apex):
            self._hosts[found.name] = DRAFTED
        whence = place.whence if apex == found.name or not place.holds else f"holds {place.holds}"
        self._take_up(apex, Lead(whence, found.hints, named=place.outside))

    def _take_up(self, apex: Name, lead: Lead) -> None:
        known = self._tried.get(apex)
        if known is not None:
            self._tried[apex] = known._replace(named=known.named or lead.named)
            self._count_as_ours(apex)
        elif apex in self._apexes:
            if lead.named:
                self._apexes[apex] = self._apexes[apex]._replace(named=True)
        elif len(self._tried) + len(self._apexes) < MOST_ZONES:
            self._apexes[apex] = lead
        else:
            self._beyond.add(apex)

    def _count_as_ours(self, apex: Name) -> None:
        """Servers of a zone that was named by whoever drafts are asked about everything from now on."""
        zone = self.learnt.zones.get(apex)
        if zone is not None and self._tried[apex].named:
            for server in zone.servers:
                if server in self._liars:
                    continue
                known = self.learnt.servers[server]
                self._ours.setdefault(server, Candidate(server, known.whence, known.name, known.published))

    def _take_zone(self, found: Answering) -> None:
        lead, learnt = self._tried[found.apex], self.learnt
        self._asked[found.apex].update(found.candidates)
        if found.unlooked:
            self.learnt.met.append(
                f"{bare(found.apex)} names {found.unlooked + MOST_NAME_SERVERS:,} servers: {MOST_NAME_SERVERS} were looked up"
            )
        if not found.servers:
            why = (
                "; ".join(f"{server.label}: {one.how}" for server, one in found.others.items())
                or "no server is named for it"
            )
            if lead.named or lead.above:
                learnt.lost[found.apex] = f"no server answers for it with authority ({why})"
            return
        learnt.lost.pop(found.apex, None)
        if found.elsewhere:
            learnt.elsewhere[found.apex] = found.elsewhere
        zone = learnt.zones.get(found.apex)
        if zone is None:
            zone = learnt.zones[found.apex] = LearntZone(found.apex, lead.whence)
            self._untaken.append(zone)
            if found.apex in self._kept:
                zone.take_kept(self._kept[found.apex])
            if not is_reverse(found.apex) and not found.apex.startswith(_DIRECTORYS):
                self._look_for(from_text("_msdcs", found.apex), SoughtName("asked for beside each domain"))
        zone.servers = found.servers
        zone.others = found.others
        for server in (*found.servers, *found.others):
            candidate = found.candidates[server]
            known = learnt.servers.setdefault(server, LearntServer(server, candidate.whence, listed=False))
            known.name = known.name or candidate.name
            known.published = known.published or candidate.published
            known.listed = known.listed or candidate.listed
        self._count_as_ours(found.apex)

    # Zones handed over, and zones asked for

    def untaken(self) -> list[LearntZone]:
        """Return the zones of which nobody has been asked for a transfer yet; each is told once."""
        found, self._untaken = self._untaken, []
        return found

    def hold(self, zone: LearntZone, server: Server, holding: Holding) -> None:
        """Take in a zone that a server has handed over."""
        zone.holding, zone.held_by = holding, server
        self._settled.add(zone.apex)
        for cut in holding.cuts:
            glue: dict[Name, set[bytes]] = {
                target: {*holding.rdata(target, A), *holding.rdata(target, AAAA)} for target in holding.rdata(cut, NS)
            }
            self._take_up(cut, Lead(f"delegated in {bare(zone.apex)}", above=tuple(zone.servers), glue=glue))
        for (owner, rdtype), (_, values) in zone.registered.items():
            self._scan(owner, rdtype, values)
        self._take_directories(zone.apex, holding.names)

    def ask_singly(self, zone: LearntZone) -> None:
        """Have a zone that nobody hands over asked for what can be known of it: its apex, and every address of its network."""
        self._settled.add(zone.apex)
        if zone.partition:
            for (owner, rdtype), (_, values) in zone.registered.items():
                self._scan(owner, rdtype, values)
            self._take_directories(zone.apex, {owner for owner, _ in zone.asked})
            return
        wanted = [(zone.apex, rdtype) for rdtype in _AT_APEX]
        if not is_reverse(zone.apex):
            wanted.append((_CONTROLLERS + zone.apex, SRV))
        wanted += [(name, PTR) for name in self._pointers_of(zone)] if self._sweeps else []
        self._questions.setdefault(zone.servers[0], {}).update(dict.fromkeys(wanted, zone.apex))

    def _pointers_of(self, zone: LearntZone) -> Iterator[Name]:
        """Return the pointers to sweep in a reverse zone: of the networks that were given, else of its own where that is
        small."""
        own = zone.network
        if not isinstance(own, ipaddress.IPv4Network):
            return
        given = [one for one in self._wanted.networks if isinstance(one, ipaddress.IPv4Network) and one.overlaps(own)]
        inside = [one if one.prefixlen >= own.prefixlen else own for one in given]
        for network in inside or ([own] if own.num_addresses <= SWEEP_UNASKED else []):
            for number in range(int(network.network_address), int(network.broadcast_address) + 1):
                yield reverse_name(number.to_bytes(4, "big"))

    def _ask_hosts(self) -> None:
        """Have hosts asked for whose zone is known by now, and is not in hand."""
        for name, rdtypes in list(self._hosts.items()):
            zone = self.learnt.zone_at(name)
            if zone is None or zone.apex not in self._settled:
                continue
            del self._hosts[name]
            if name in self._given and zone.holding is not None:
                self._may_serve(name, (*zone.holding.rdata(name, A), *zone.holding.rdata(name, AAAA)))
            elif zone.holding is None:
                wanted = self._questions.setdefault(zone.servers[0], {})
                wanted.update(((name, rdtype), zone.apex) for rdtype in rdtypes if (name, rdtype) not in zone.asked)

    def _take_answers(self, answers: list[Answer]) -> None:
        for answer in answers:
            name, rdtype, *_ = answer.question
            zone = self.learnt.zone_at(name)
            if answer.trouble is not None or zone is None:
                continue
            if answer.alias is not None:
                zone.asked[name, CNAME] = (answer.ttl or 0, (answer.alias,))
                self._see_target(answer.alias)
            if answer.values:
                zone.asked[name, rdtype] = (answer.ttl or 0, answer.values)
                self._scan(name, rdtype, answer.values)
                if rdtype == SRV and name.startswith(_CONTROLLERS):
                    self.learnt.directories.setdefault(name[len(_CONTROLLERS) :], [])
                if rdtype in (A, AAAA) and name in self._given:
                    self._may_serve(name, answer.values)

    def _may_serve(self, name: Name, addresses: Iterable[bytes]) -> None:
        """A host that was given may be meant as a server: it is asked, as every other is."""
        for address in addresses:
            server = self._atlas.server_at(name, address) if self._atlas.reachable(address) else None
            if server is not None and server not in self._liars:
                self._ours.setdefault(server, Candidate(server, "given", None, address))

    # What records lead to

    def _scan(self, owner: Name, rdtype: int, values: Iterable[bytes]) -> None:
        for value in values:
            if rdtype in (A, AAAA):
                self._see_address(value)
            elif rdtype in TARGET_AT:
                self._see_target(value[TARGET_AT[rdtype] :])

    def _see_address(self, address: bytes) -> None:
        name = reverse_name(address)
        place = parent(name) if len(address) == 4 else upwards(name, 16)
        network = ipaddress.ip_network((address, 24 if len(address) == 4 else 64), strict=False)
        if ipaddress.ip_address(address).is_loopback:
            return
        _, number = self._networks.get(place, (network, 0))
        self._networks[place] = (network, number + 1)
        if not number:
            self._look_for(
                name,
                SoughtName("an address was seen there", f"the PTR record of {address_text(address)}, which was seen"),
            )

    def _see_target(self, name: Name) -> None:
        if len(labels(name)) < 2:
            return
        zone = self.learnt.zone_at(name)
        if not is_reverse(name) and (zone is None or zone.holding is None):
            if len(self._hosts) < MOST_HOSTS:
                self._hosts.setdefault(name, _AT_HOST)
            elif name not in self._hosts:
                self._hosts_beyond.add(name)
        domain = parent(name)
        if domain not in self._domains:  # a zone that nobody delegates is seen by what leads there alone
            self._domains.add(domain)
            self._look_for(name, SoughtName("a record leads there", f"{bare(name)}, where a record leads"))

    def _take_directories(self, apex: Name, names: Iterable[Name]) -> None:
        known = list(names)
        for name in known:
            if name.startswith(_CONTROLLERS):
                domain = name[len(_CONTROLLERS) :]
                self.learnt.directories[domain] = sites_in(known, domain)

    def finish(self) -> Learnt:
        """Return what was learnt, with the networks that none of the servers keeps pointers for."""
        if self._beyond:
            self.learnt.met.append(
                f"{MOST_ZONES:,} zones are taken up at the most, and {len(self._beyond):,} more were seen"
            )
        if self._hosts_beyond:
            more = len(self._hosts_beyond)
            self.learnt.met.append(f"{MOST_HOSTS:,} hosts are asked for at the most, and {more:,} more were seen")
        for place, (network, number) in self._networks.items():
            if self.learnt.zone_at(place) is None:
                self.learnt.beyond[network] = number
        for network in self._wanted.networks:
            parts = {place_of(part) for part in parts_of(network)}
            if any(self.learnt.zone_at(part) is not None for part in parts):
                self.learnt.lost.pop(place_of(network), None)
        idle = [server for server in self._wanted.servers if server not in self.learnt.servers]
        for server in idle:
            self.learnt.remarks.append(f"{server.label} was given, and answers for none of these zones with authority")
        return self.learnt

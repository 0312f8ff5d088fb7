"""The authority of a zone: who serves it, which version, who sends people there, and whether they all say the same.

Strategy: this module asks and lays out what was seen; `authority_words` judges it. The servers are the union of the
estate's list, the zone's own NS set and the parent's, each at every address. All that can be asked is asked at once: the
known servers' SOA, NS, TCP and transfer together with the parent's delegation; then the addresses of all name servers
together; then what is new among those. So a hundred silent servers cost one wait, not a hundred.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from salt_mirror.checks.atlas import Atlas, Authority
from salt_mirror.checks.delegation import Delegation, delegation_in, lameness
from salt_mirror.checks.lookup import Lookup, at_name, lookup
from salt_mirror.checks.part import Holdings
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import ROOT, Name, from_text, parent, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import AAAA, MX, NS, SOA, TXT, A, Soa, soa_fields
from salt_mirror.dns.special import undelegated
from salt_mirror.dns.transfer import AXFR

MOST_COMPARED = 400
"""So many expected record sets are compared between servers of one version, evenly chosen where there are more."""
_MOST_CUTS = 4
_SAMPLE = (A, AAAA, MX, TXT)


@dataclass(slots=True)
class Place:
    """One server at one place, with what it said: its SOA over UDP and TCP, its NS set, and a transfer asked for by anyone."""

    server: Server
    names: dict[Name, None] = field(default_factory=dict)
    addresses: dict[bytes, None] = field(default_factory=dict)
    listed: dict[str, None] = field(default_factory=dict)
    soa: Answer | None = None
    tcp: Answer | None = None
    ns: Answer | None = None
    transfer: Answer | None = None

    @property
    def version(self) -> Soa | None:
        """The SOA that it holds with authority, over whichever transport told it."""
        for answer in (self.soa, self.tcp):
            if answer is not None and answer.trouble is None and answer.values:
                return soa_fields(answer.values[0])
        return None

    @property
    def spoken(self) -> Answer | None:
        """The answer that tells most: the one over UDP, unless only TCP brought one."""
        if self.soa is not None and self.soa.trouble is not None and self.tcp is not None and self.tcp.trouble is None:
            return self.tcp
        return self.soa

    def lame(self, zone: Name) -> str | None:
        """How it is not authoritative although it answers; None when it is, or does not answer."""
        answer = self.spoken
        if answer is None or self.version is not None:
            return None
        if answer.trouble is None:
            return "answers with authority, and has no SOA for it"
        return lameness(answer, zone)


@dataclass(slots=True)
class Parentage:
    """What the zone above says. `none` says why there is no such zone to ask, `trouble` why it gave no usable answer.

    `shared`: the parent's servers serve the zone too, so that they answer with its own NS set and hide the delegation.
    """

    zone: Name | None = None
    answers: list[Answer] = field(default_factory=list)
    delegations: dict[Server, Delegation] = field(default_factory=dict)
    none: str = ""
    trouble: str = ""
    shared: bool = False
    denied: bool = False

    @property
    def targets(self) -> tuple[Name, ...]:
        """Every name server that any of the parent's servers gives."""
        return tuple(sorted({target for one in self.delegations.values() for target in one.targets}))

    def glue(self, target: Name) -> tuple[bytes, ...]:
        """Every address that any of them gives along."""
        return tuple(sorted({a for one in self.delegations.values() for a in one.glue.get(target, ())}))


@dataclass(slots=True)
class Compared:
    """How the content of servers with one version was compared: in words, and the RRsets in which they differ.

    `unlike` holds for each RRset the answers that were compared; empty ones where whole zones were.
    """

    words: str = ""
    unlike: dict[tuple[Name, int], list[Answer]] = field(default_factory=dict)
    servers: list[Place] = field(default_factory=list)


@dataclass(slots=True)
class Seen:
    """All that was seen of a zone in one view. `belongs` is the zone that the name stands in, when it is no zone itself;
    `beyond` the servers' addresses that this computer has no way to."""

    zone: Name
    view: str
    found: Lookup
    belongs: Name | None = None
    exists: bool = True
    parentage: Parentage = field(default_factory=Parentage)
    places: list[Place] = field(default_factory=list)
    lookups: dict[Name, Lookup] = field(default_factory=dict)
    listed: tuple[Server, ...] = ()
    elsewhere: bool = False
    compared: Compared = field(default_factory=Compared)
    beyond: dict[bytes, None] = field(default_factory=dict)

    @property
    def own_targets(self) -> tuple[Name, ...]:
        """Every name server in the zone's own NS set, on whichever of its servers."""
        return tuple(sorted({value for place in self.places for value in own_set(place)}))

    @property
    def serving(self) -> list[Place]:
        """The servers that hold the zone with authority."""
        return [place for place in self.places if place.version is not None]

    @property
    def has_secondaries(self) -> bool:
        """Whether any server has to follow another one by transfer."""
        return not self.several_primaries and (len(self.places) > 1 or len(self.own_targets) > 1)

    @property
    def several_primaries(self) -> bool:
        """Whether every server names itself as the primary, as servers do that replicate through a directory."""
        serving = self.serving
        primaries = {place.version.mname for place in serving if place.version is not None}
        return len(serving) > 1 and len(primaries) == len(serving) and all(
            place.version is not None and place.version.mname in place.names for place in serving
        )  # fmt: skip


def own_set(place: Place) -> tuple[bytes, ...]:
    """The NS set as a server of the zone tells it."""
    return place.ns.values if place.ns is not None and place.ns.trouble is None else ()


def inspect(zone: Name, view: str, atlas: Atlas, holdings: Holdings) -> Dialogue[Seen]:
    """Asks all there is to ask about a zone's authority in one view."""
    authority = atlas.known(zone, view)
    if authority is None:
        authority = yield from atlas.find(zone, view)
    steps: list[Dialogue[Any]] = [
        at_name(zone, (SOA,), view, atlas),
        _ask_places(zone, [Place(server) for server in authority.servers], atlas),
        _parentage(zone, view, atlas),
    ]
    found, early, parentage = yield from together(steps)
    seen = Seen(zone, view, found)
    values = [telling for telling in found.usable if telling.values]
    if found.usable and not values:
        seen.belongs, seen.exists = found.authority.zone, found.exists
        return seen
    if found.authority.servers != authority.servers:  # the servers asked first referred down to the zone's own
        early = yield from _ask_places(zone, [Place(server) for server in found.authority.servers], atlas)
    seen.parentage = parentage
    yield from _gather(seen, early, atlas)
    seen.compared = yield from _compare(seen, atlas, holdings)
    return seen


def _ask_places(zone: Name, places: list[Place], atlas: Atlas) -> Dialogue[list[Place]]:
    """Asks each server what a row of the sheet needs, all at once."""
    answers = yield [
        question
        for place in places
        for question in (
            Question(zone, SOA, place.server),
            Question(zone, SOA, atlas.sibling(place.server, "tcp")),
            Question(zone, NS, place.server),
            Question(zone, AXFR, atlas.sibling(place.server, "transfer")),
        )
    ]
    for number, place in enumerate(places):
        place.soa, place.tcp, place.ns, place.transfer = answers[4 * number : 4 * number + 4]
    return places


def _parentage(zone: Name, view: str, atlas: Atlas) -> Dialogue[Parentage]:
    """Asks the servers of the zone above where they send people for this one."""
    if zone == ROOT:
        return Parentage(none="the root has no parent")
    if atlas.given:
        return Parentage(none="not looked at, since the servers to ask were given")
    above = atlas.estate.zone_of(parent(zone), view)
    special = undelegated(zone)
    if above is None and special is not None:
        return Parentage(none=f"{to_text(special)} is set aside, and no public zone delegates it")
    authority = (
        atlas.root if parent(zone) == ROOT and atlas.root.servers else (yield from atlas.find(parent(zone), view))
    )
    if authority.trouble is not None and authority.zone is None:
        return Parentage(trouble=authority.trouble)
    for _ in range(_MOST_CUTS):
        answers = yield [Question(zone, NS, server) for server in authority.servers]
        between = {
            answer.referral: answer for answer in answers if answer.referral is not None and answer.referral != zone
        }
        if not between:
            break
        cut = max(between, key=len)
        authority = yield from atlas.descend(cut, [answer for answer in answers if answer.referral == cut])
    return _told_by_parent(zone, authority, answers)


def _told_by_parent(zone: Name, authority: Authority, answers: list[Answer]) -> Parentage:
    found = Parentage(authority.zone, answers)
    for answer in answers:
        delegation = delegation_in(answer)
        if delegation is not None and delegation.cut == zone:
            found.delegations[answer.question.server] = delegation
        elif answer.trouble is None and answer.values:
            found.shared = True
        elif answer.trouble is None:
            found.denied = True
    if not found.delegations and not found.shared and not found.denied:
        why = "; ".join(dict.fromkeys(f"{a.question.server.label}: {a.trouble}" for a in answers))
        found.trouble = why or authority.trouble or "it has no server that could be asked"
    if found.denied and not found.delegations and not found.shared and authority.zone == ROOT:
        found.none = "the root delegates nothing above it"
    return found


def _gather(seen: Seen, early: list[Place], atlas: Atlas) -> Dialogue[None]:
    """Puts the servers of all lists together, each place once, and asks those that were not asked yet."""
    zone, view = seen.zone, seen.view
    at: dict[tuple[bytes, int], Place] = {(p.server.address, p.server.port): p for p in early}
    held = atlas.estate.zones.get(view, {}).get(zone)
    seen.listed = (held.servers or ()) if held is not None and not atlas.given else ()
    for place in early:
        if place.server in seen.listed:
            place.listed["estate"] = None
    own = sorted({value for place in early for value in own_set(place)})
    primary = next((place.version.mname for place in early if place.version is not None), None)
    targets = list(dict.fromkeys([*own, *seen.parentage.targets]))
    wanted = [*targets, primary] if primary is not None and primary not in targets and primary != ROOT else targets
    found = yield from together([lookup(target, (A, AAAA), view, atlas) for target in wanted])
    seen.lookups = dict(zip(wanted, found, strict=True))
    seen.elsewhere = _elsewhere(seen, own, atlas)
    if not atlas.given:
        pairs = [
            (target, address, seen.lookups[target].values) for target in targets for address in _addresses(seen, target)
        ]
        # An address that stands in the glue alone comes last: what is there belongs to whoever has it by right.
        for target, address, right in sorted(pairs, key=lambda pair: (pair[1] not in pair[2], len(pair[1]))):
            glue = seen.parentage.glue(target)
            by_parent = target in seen.parentage.targets and (address in glue or not glue) and not seen.elsewhere
            by_zone = target in own and (address in right or not right)
            if not by_parent and not by_zone:
                continue
            if not atlas.reachable(address):
                seen.beyond[address] = None
                continue
            server = atlas.server_at(target, address)
            place = at.setdefault((server.address, server.port), Place(server))
            place.names[target] = place.addresses[address] = None
            place.listed.update(dict.fromkeys(["parent"] * by_parent + ["zone"] * by_zone))
    else:
        _name_given(seen, early)
    seen.places = list(at.values())
    yield from _ask_places(zone, [place for place in seen.places if place.soa is None], atlas)
    late = [place for place in seen.places if place not in early and own_set(place)]
    unknown = sorted({value for place in late for value in own_set(place)} - set(seen.lookups))
    if unknown:
        found = yield from together([lookup(target, (A, AAAA), view, atlas) for target in unknown])
        seen.lookups.update(zip(unknown, found, strict=True))


def _addresses(seen: Seen, target: Name) -> list[bytes]:
    """Every address of a name server: its own, and the glue that the parent gives."""
    glue = () if seen.elsewhere else seen.parentage.glue(target)
    return list(dict.fromkeys([*seen.lookups[target].values, *glue]))


def _name_given(seen: Seen, places: Iterable[Place]) -> None:
    """Finds the names of servers that were given by their addresses alone."""
    for target, found in seen.lookups.items():
        for place in places:
            if place.server.address in found.values:
                place.names[target] = place.addresses[place.server.address] = None


def _elsewhere(seen: Seen, own: list[bytes], atlas: Atlas) -> bool:
    """Whether the parent's delegation leads to another view's servers, as it does with split DNS."""
    views = [view for view, zones in atlas.estate.zones.items() if seen.zone in zones]
    targets = seen.parentage.targets
    if not targets or seen.view in atlas.estate.public_views or not seen.listed:
        return False
    ours = {(server.address, server.port) for server in seen.listed}
    theirs = {
        atlas.estate.reached(address)
        for target in targets
        for address in (*seen.parentage.glue(target), *(seen.lookups[target].values if target in seen.lookups else ()))
    }
    return not ours & theirs and not set(own) & set(targets) and (len(views) > 1 or seen.view != "")


def _compare(seen: Seen, atlas: Atlas, holdings: Holdings) -> Dialogue[Compared]:
    """Whether servers with one version hold the same records: whole zones where they were "
    "transferred, else what is expected."""
    by_serial: dict[int, list[Place]] = {}
    for place in seen.serving:
        version = place.version
        if version is not None:
            by_serial.setdefault(0 if seen.several_primaries else version.serial, []).append(place)
    group = max(by_serial.values(), key=len, default=[])
    if len(group) < 2:
        return Compared()
    whole = [holding for place in group if (holding := holdings(place.server, seen.zone)) is not None]
    if len(whole) == len(group):
        unlike: dict[tuple[Name, int], list[Answer]] = {}
        if len({holding.digest for holding in whole}) > 1:
            for other in whole[1:]:
                unlike.update((key, []) for key in whole[0].unlike(other, 10))
        return Compared(f"whole zones compared, {whole[0].size:,} records", unlike, group)
    sets, words = _chosen(seen, atlas)
    answers = yield [Question(name, rdtype, place.server) for name, rdtype in sets for place in group]
    compared = Compared(words, servers=group)
    for number, key in enumerate(sets):
        told = answers[number * len(group) : (number + 1) * len(group)]
        usable = {(answer.values, answer.alias, answer.exists) for answer in told if answer.trouble is None}
        if len(usable) > 1:
            compared.unlike[key] = told
    return compared


def _chosen(seen: Seen, atlas: Atlas) -> tuple[list[tuple[Name, int]], str]:
    """Which RRsets to compare: the expected ones, or a sample; and that in words."""
    zone = atlas.estate.zones.get(seen.view, {}).get(seen.zone)
    expected = {(one.name, one.rdtype) for one in zone.expectations} if zone is not None else set()
    sets = sorted(one for one in expected if one[1] != SOA)
    if not sets:
        names = [seen.zone]
        if len(seen.zone) + 4 <= 255:
            names.append(from_text("www", seen.zone))
        sample = [(name, rdtype) for name in names for rdtype in _SAMPLE]
        return sample, f"a sample of {len(sample)} record sets compared (nothing is expected; --transfer compares all)"
    if len(sets) > MOST_COMPARED:
        step = len(sets) / MOST_COMPARED
        chosen = [sets[int(number * step)] for number in range(MOST_COMPARED)]
        return chosen, f"{MOST_COMPARED:,} of {len(sets):,} expected record sets compared (--transfer compares all)"
    what = "record set" if len(sets) == 1 else "record sets"
    return sets, f"{len(sets):,} expected {what} compared (--transfer compares all)"

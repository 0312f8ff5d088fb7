"""The descent: from the root down every cut to the answer, on all servers of every level.

Strategy: a resolver asks one server a level and sees one way; here all are asked, so that the ways can be compared. The
walk keeps to what a careful resolver believes: glue counts for name servers inside the zone that gives it, any other name
server's address comes from a descent of its own. Each cut must lead further down, so no walk can run in circles. For a name in
a zone of the estate that the world does not see, the top is that zone: the root knows nothing of it, and need not learn of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.delegation import Delegation, delegation_in, lameness
from salt_mirror.checks.signed.chain import TrustChain
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import ROOT, Name, is_within, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import AAAA, CNAME, A
from salt_mirror.dns.roots import ROOTS
from salt_mirror.estate.model import Estate, Zone

MOST_ALIASES = 8
MOST_BREADTH = 16
"""So many servers of one level are asked, and so many of its name servers looked up."""
MOST_NESTED = 4
_GLUE_ASKERS = 2


@dataclass(slots=True)
class Visit:
    """One server of a level, by a name server's name (None for one that the estate knows by a label) and address, with its
    answer and the delegation in it, if any."""

    target: Name | None
    address: bytes
    server: Server
    answer: Answer
    delegation: Delegation | None = None

    @property
    def name(self) -> str:
        """The server by its name, or by its label in the estate."""
        return to_text(self.target) if self.target is not None else self.server.label

    @property
    def usable(self) -> bool:
        """Whether it said something that leads on, or ends the way."""
        return self.delegation is not None or self.answer.trouble is None


@dataclass(slots=True)
class Level:
    """One zone on the way: its servers and what they said; `homeless` are its name servers without any address, and why;
    `unfound` those whose addresses could not be looked up, and why.

    `wrong_glue` holds what the parent gave and what the zone says, for each name server where they differ; `left_out` counts
    servers beyond those that are asked of one level; `stopped` that the questions for one name were used up here.
    """

    zone: Name
    asked: list[Visit] = field(default_factory=list)
    homeless: dict[Name, str] = field(default_factory=dict)
    unfound: dict[Name, str] = field(default_factory=dict)
    unglued: list[Name] = field(default_factory=list)
    wrong_glue: dict[Name, tuple[tuple[bytes, ...], tuple[bytes, ...]]] = field(default_factory=dict)
    not_asked: int = 0
    left_out: int = 0
    stopped: bool = False


@dataclass(slots=True)
class Leg:
    """The way to one name: its levels, and the answers at the end (none when the way breaks off); `chain` is the chain of trust
    along it."""

    name: Name
    rdtype: int
    levels: list[Level] = field(default_factory=list)
    ends: list[Visit] = field(default_factory=list)
    chain: TrustChain | None = None

    @property
    def way(self) -> list[tuple[Name, list[Server]]]:
        """The zones on the way, each with its servers that led on, down to the first one of which none did."""
        found = []
        for level in self.levels:
            servers = list(dict.fromkeys(visit.server for visit in level.asked if visit.usable))
            if not servers:
                break
            found.append((level.zone, servers))
        return found


@dataclass(slots=True)
class Descent:
    """The way to a name, and to what its aliases lead to. `looped` is the alias that leads back to a name before it."""

    legs: list[Leg]
    looped: Name | None = None
    too_long: bool = False


class Walker:
    """Walks down from the root. Addresses of name servers are found once and kept for its life."""

    def __init__(self, atlas: Atlas, *, first: bool = False, from_root: bool = False) -> None:
        """With `first` one server a level is asked, the next one only when it gives nothing; with `from_root` every walk begins
        at the root."""
        self._atlas = atlas
        self._from_root = from_root
        self._first = first
        self._roots = atlas.estate.roots or ROOTS
        self._left = atlas.estate.bounds.questions_for_a_name
        self._addresses: dict[Name, tuple[tuple[bytes, ...], str, bool]] = {}
        self._under_way: set[Name] = set()

    def descend(self, name: Name, rdtype: int) -> Dialogue[Descent]:
        """Walk to a name, and on along its aliases."""
        descent = Descent([])
        seen = {name}
        for _ in range(MOST_ALIASES + 1):
            leg = yield from self._walk(name, rdtype, first=self._first)
            descent.legs.append(leg)
            alias = next((asked.answer.alias for asked in leg.ends if asked.answer.alias is not None), None)
            if alias is None or rdtype == CNAME:
                return descent
            if alias in seen:
                descent.looped = alias
                return descent
            seen.add(alias)
            name = alias
        descent.too_long = True
        return descent

    def _walk(self, name: Name, rdtype: int, *, first: bool) -> Dialogue[Leg]:
        leg = Leg(name, rdtype)
        inside = None if self._from_root else inside_of(self._atlas.estate, name)
        level = Level(inside.apex if inside is not None else ROOT)
        places = dict(self._roots)
        glue: dict[Name, tuple[bytes, ...]] = {}
        while True:
            leg.levels.append(level)
            if inside is not None and level.zone == inside.apex:
                yield from self._ask_estate(level, inside, name, rdtype, first=first)
            else:
                yield from self._ask(level, places, name, rdtype, first=first)
            if not first and glue:
                yield from self._check_glue(level, glue)
            referrals = [one for one in level.asked if one.delegation is not None]
            if not referrals:
                leg.ends = [one for one in level.asked if one.usable]
                return leg
            cut = _agreed_cut(referrals)
            below = Level(cut)
            places, glue = yield from self._servers_below(level, below, [o for o in referrals if _cut_of(o) == cut])
            level = below

    def _ask_estate(self, level: Level, zone: Zone, name: Name, rdtype: int, *, first: bool) -> Dialogue[None]:
        """Ask the servers that the estate has for a zone."""
        authority = yield from self._atlas.find(zone.apex, zone.view)
        yield from self._visit(
            level, [(None, one.address, one) for one in authority.servers], name, rdtype, first=first
        )

    def _ask(
        self, level: Level, places: dict[Name, tuple[bytes, ...]], name: Name, rdtype: int, *, first: bool
    ) -> Dialogue[None]:
        at: dict[tuple[bytes, int], tuple[Name, bytes, Server]] = {}
        for target, addresses in places.items():
            for address in addresses:
                if not self._atlas.reachable(address):
                    level.not_asked += 1
                    continue
                server = self._atlas.server_at(target, address)
                at.setdefault((server.address, server.port), (target, address, server))
        servers = list(at.values())
        level.left_out += max(0, len(servers) - MOST_BREADTH)
        del servers[MOST_BREADTH:]
        yield from self._visit(level, servers, name, rdtype, first=first)

    def _visit(
        self,
        level: Level,
        servers: Sequence[tuple[Name | None, bytes, Server]],
        name: Name,
        rdtype: int,
        *,
        first: bool,
    ) -> Dialogue[None]:
        """Ask the servers of a level, all at once, or with `first` one after the other until one gives something. Those of the
        estate, which have no name here, cost nothing of what one name may."""
        for batch in [[one] for one in servers] if first else [list(servers)]:
            if batch and batch[0][0] is not None:
                if len(batch) > self._left:
                    level.stopped = True
                    del batch[self._left :]
                self._left -= len(batch)
            answers = yield [Question(name, rdtype, server) for _, _, server in batch]
            for (target, address, server), answer in zip(batch, answers, strict=True):
                delegation = delegation_in(answer)
                if delegation is not None and not _leads_down(delegation, level.zone):
                    delegation = None
                level.asked.append(Visit(target, address, server, answer, delegation))
            if any(one.usable for one in level.asked):
                return

    def _servers_below(
        self, level: Level, below: Level, referrals: list[Visit]
    ) -> Dialogue[tuple[dict[Name, tuple[bytes, ...]], dict[Name, tuple[bytes, ...]]]]:
        """Return the addresses of a cut's name servers, and those among them that are glue for names inside the cut."""
        targets = dict.fromkeys(t for one in referrals if one.delegation is not None for t in one.delegation.targets)
        places: dict[Name, tuple[bytes, ...]] = {}
        inside: dict[Name, tuple[bytes, ...]] = {}
        below.left_out += max(0, len(targets) - MOST_BREADTH)
        for target in list(targets)[:MOST_BREADTH]:
            offered = {
                address
                for visit in referrals
                if visit.delegation is not None
                for address in visit.delegation.glue.get(target, ())
            }
            glue = tuple(sorted(offered, key=lambda address: (len(address), address)))
            if glue and is_within(target, level.zone):
                places[target] = glue
                if is_within(target, below.zone):
                    inside[target] = glue
                continue
            if is_within(target, below.zone):
                below.unglued.append(target)
                continue
            addresses, why, known = yield from self._find(target)
            if addresses:
                places[target] = addresses
            elif known:
                below.homeless[target] = why
            else:
                below.unfound[target] = why
        return places, inside

    def _find(self, target: Name) -> Dialogue[tuple[tuple[bytes, ...], str, bool]]:
        """Return a name server's addresses through a descent of its own, or why there are none, and whether that is known for
        sure."""
        if target in self._addresses:
            return self._addresses[target]
        if self._left <= 0:
            return (), "the questions for one name are used up", False
        if target in self._under_way:
            return (), "finding its address needs this very delegation", True
        if len(self._under_way) >= MOST_NESTED:
            return (), f"more than {MOST_NESTED} delegations hang on one another", False
        self._under_way.add(target)
        found: list[bytes] = []
        why = "it has no address"
        known = True
        for rdtype in (A, AAAA):
            leg = yield from self._walk(target, rdtype, first=True)
            if not leg.ends:
                why, known_here = _broken(leg)
                known = known and known_here
            for asked in leg.ends[:1]:
                found += asked.answer.values
                if asked.answer.status == "NXDOMAIN":
                    why = "it does not exist"
                if asked.answer.alias is not None:
                    why = "it is an alias, which a name server must not be (RFC 2181 section 10.3)"
        self._under_way.discard(target)
        self._addresses[target] = (tuple(found), why, known)
        return self._addresses[target]

    def _check_glue(self, level: Level, glue: dict[Name, tuple[bytes, ...]]) -> Dialogue[None]:
        """Hold the glue for name servers inside the zone against what the zone itself says of them."""
        askers = [one.server for one in level.asked if one.usable][:_GLUE_ASKERS]
        cost = len(glue) * len(askers) * 2
        if not askers or cost > self._left:
            level.stopped = level.stopped or bool(askers)
            return
        self._left -= cost
        questions = [Question(target, t, server) for target in glue for server in askers for t in (A, AAAA)]
        answers = yield questions
        for target, addresses in glue.items():
            told = [one for one in answers if one.question.name == target and one.trouble is None]
            own = tuple(sorted({value for one in told for value in one.values}, key=lambda a: (len(a), a)))
            if told and (set(addresses) - set(own)):
                level.wrong_glue[target] = (addresses, own)


def inside_of(estate: Estate, name: Name) -> Zone | None:
    """Return the topmost zone of the estate that a name stands in, where it is of no view that the world sees."""
    zones = [zone for zone in estate.all_zones() if is_within(name, zone.apex)]
    if not zones or any(zone.view in estate.public_views for zone in zones):
        return None
    return min(zones, key=lambda zone: len(zone.apex))


def _leads_down(delegation: Delegation, zone: Name) -> bool:
    return delegation.cut != zone and is_within(delegation.cut, zone)


def _cut_of(asked: Visit) -> Name | None:
    return asked.delegation.cut if asked.delegation is not None else None


def _agreed_cut(referrals: Iterable[Visit]) -> Name:
    """Return the cut that most servers refer to; of several the deepest."""
    cuts = [one.delegation.cut for one in referrals if one.delegation is not None]
    return max(dict.fromkeys(cuts), key=lambda cut: (cuts.count(cut), len(cut)))


def _broken(leg: Leg) -> tuple[str, bool]:
    """Return why a way ended without an answer, and whether that is known: not while anybody on it was silent or left out."""
    level = leg.levels[-1]
    if any("needs this very" in why for why in level.homeless.values()):
        return "finding its address needs this very delegation", True
    if not level.asked:
        return "no server of its zone can be found", dead_end(level)
    return "no server of its zone gives a usable answer", dead_end(level)


def dead_end(level: Level) -> bool:
    """Return whether it is known that the way ends at a zone: all its servers were asked, and all are lame or cannot exist."""
    unasked = level.stopped or level.left_out or level.not_asked or level.unfound
    return not unasked and all(lameness(one.answer, level.zone) is not None for one in level.asked)

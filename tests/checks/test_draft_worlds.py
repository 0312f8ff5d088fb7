"""Drafts of random small worlds, against a slow and obvious judge: every zone that can be found, on every server that can be
found to hold it, and nothing else.

A world is a tree of zones on up to four servers. A zone is held by some of them, lists some in its NS set (perhaps others), and
is delegated above or is not; hosts have addresses with or without a reverse zone; pointers lead back, and to other zones.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from socket import inet_aton

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.draft import exploring
from salt_mirror.checks.draft.exploring import Explorer
from salt_mirror.checks.draft.learnt import Learnt
from salt_mirror.checks.draft.scope import SearchStart
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text, is_within, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import Record
from salt_mirror.estate.model import Estate
from salt_mirror.standin.authority import HeldZones, read_zone
from support.examples import examples
from support.exchanges import Instant, heard

TOP = "works.example"
CHILDREN = ("a.works.example", "b.works.example", "x.a.works.example", "other.example")
NETWORKS = (0, 1, 2)
SERVERS = tuple(Server(f"s{number}", bytes((127, 0, 0, 1)), 5400 + number) for number in range(4))
PUBLISHED = {number: f"192.0.2.{53 + number}" for number in range(4)}
SETS = st.frozensets(st.integers(0, 3), min_size=1)


@dataclass
class Made:
    """One zone: the servers that hold it, those that its NS set lists, whether the zone above delegates it, its hosts by the
    last two numbers of their addresses (or, in a reverse zone, where its pointers lead)."""

    holders: frozenset[int]
    listed: frozenset[int]
    delegated: bool = True
    lines: list[str] = field(default_factory=list)


@st.composite
def worlds(draw: st.DrawFn) -> dict[str, Made]:
    zones = {TOP: Made(draw(SETS) | {0}, draw(SETS))}
    for origin in CHILDREN:
        if draw(st.booleans()):
            zones[origin] = Made(draw(SETS), draw(SETS), draw(st.booleans()))
    for number in NETWORKS:
        if draw(st.booleans()):
            zones[f"{number}.88.10.in-addr.arpa"] = Made(draw(SETS), draw(SETS), delegated=False)
    for origin, made in zones.items():
        if origin.endswith("arpa"):
            targets = draw(st.lists(st.sampled_from([TOP, *CHILDREN]), max_size=2))
            made.lines += [f"{10 + at} PTR host.{target}." for at, target in enumerate(targets)]
        else:
            made.lines += [
                f"h{at} A 10.88.{draw(st.sampled_from(NETWORKS))}.{10 + at}" for at in range(draw(st.integers(0, 2)))
            ]
    return zones


def text_of(origin: str, zones: dict[str, Made]) -> str:
    made = zones[origin]
    lines = [f"$TTL 300\n@ SOA s0.{TOP}. h.{TOP}. 1 3600 600 1209600 300"]
    lines += [f"@ NS s{number}.{TOP}." for number in sorted(made.listed)]
    if origin == TOP:
        lines += [f"s{number} A {address}" for number, address in PUBLISHED.items()]
    for child, below in zones.items():
        if below.delegated and above(child, zones) == origin:
            lines += [f"{child}. NS s{number}.{TOP}." for number in sorted(below.listed)]
    return "\n".join([*lines, *made.lines]) + "\n"


def above(origin: str, zones: dict[str, Made]) -> str | None:
    """The zone right above one."""
    found = [other for other in zones if origin != other and origin.endswith(f".{other}")]
    return max(found, key=len) if found else None


class Asking(Instant):
    """The servers of a world, as an exchange."""

    def __init__(self, zones: dict[str, Made]) -> None:
        super().__init__()
        self.held = {
            server: HeldZones([read_zone(text_of(one, zones), one) for one in zones if number in zones[one].holders])
            for number, server in enumerate(SERVERS)
        }

    def answer(self, question: Question) -> Answer:
        held = next((zones for at, zones in self.held.items() if at.port == question.server.port), HeldZones([]))
        return heard(held, question)

    def holding(self, server: Server, apex: Name) -> Holding:
        zones = next(held for one, held in self.held.items() if one.port == server.port).zones
        zone = next(one for origin, one in zones.items() if origin.to_digestable() == apex)
        records = [
            Record(name.to_digestable(), int(rdata.rdtype), ttl, rdata.to_digestable())
            for name, ttl, rdata in zone.iterate_rdatas()
        ]
        return Holding(apex, records)


def drafted(zones: dict[str, Made], names: list[str], asking: type[Asking] = Asking) -> Learnt:
    return drafted_by(asking(zones), names)


def drafted_by(exchange: Asking, names: list[str]) -> Learnt:
    places = {PUBLISHED[number]: (server.address, server.port) for number, server in enumerate(SERVERS)}
    atlas = Atlas(Estate(reach={inet_aton(address): place for address, place in places.items()}))
    runner = Runner(exchange)
    explorer = Explorer(SearchStart(list(map(from_text, names)), servers=[atlas.know(SERVERS[0])]), atlas, "")
    while steps := explorer.dialogues():
        for result in runner.run(steps, names=10):
            explorer.take(result)
        for zone in explorer.untaken():
            explorer.hold(zone, zone.servers[0], exchange.holding(zone.servers[0], zone.apex))
    return explorer.finish()


def found_slowly(zones: dict[str, Made], names: list[str]) -> dict[str, set[int]]:
    """The judge: goes over everything again and again until nothing is added."""
    found: dict[str, set[int]] = {}
    while True:
        ours = {0}.union(*(found.get(name, set()) for name in names))
        now: dict[str, set[int]] = {}
        places = [*names, *(f"_msdcs.{origin}" for origin in found)]
        for origin in found:
            for line in zones[origin].lines:
                _, kind, value = line.split()
                places.append(
                    value.rstrip(".") if kind == "PTR" else ".".join(reversed(value.split("."))) + ".in-addr.arpa"
                )
        leads: dict[str, set[int]] = {}
        for place in places:
            # each of our servers tells the longest zone that it holds, or that it delegates from there
            for said in {said_by(server, place, zones) for server in ours} - {""}:
                leads.setdefault(said, set())
        for origin in found:
            for child, below in zones.items():
                if below.delegated and above(child, zones) == origin:
                    leads.setdefault(child, set()).update(below.listed)
        for origin, from_above in leads.items():
            asked = ours | from_above
            parent = above(origin, zones)
            if zones[origin].delegated and parent is not None and parent in found:
                asked |= zones[origin].listed
            holding = asked & zones[origin].holders
            if holding:
                holding |= zones[origin].listed & zones[origin].holders
                if 0 in zones[origin].holders:
                    holding.add(0)  # the primary in every SOA
                now[origin] = holding
        if now == found:
            return found
        found = now


def said_by(server: int, place: str, zones: dict[str, Made]) -> str:
    inside = [origin for origin in zones if (place == origin or place.endswith(f".{origin}"))]
    held = [origin for origin in inside if server in zones[origin].holders]
    if not held:
        return ""
    best = max(held, key=len)
    cuts = [
        origin
        for origin in inside
        if len(origin) > len(best) and zones[origin].delegated and above(origin, zones) == best
    ]
    return cuts[0] if cuts else best


LATE = {
    TOP: Made(frozenset({0, 1, 2, 3}), frozenset({3})),
    "b.works.example": Made(frozenset({1}), frozenset({0})),
    "other.example": Made(frozenset({1, 3}), frozenset({0, 1}), delegated=False),
}
"""The server that holds the delegated zone becomes known by another zone, after its own delegation was followed in vain."""


ABOVE = {
    TOP: Made(frozenset({0, 1}), frozenset({1})),
    "a.works.example": Made(frozenset({0}), frozenset({0, 1, 2, 3}), delegated=False),
    "x.a.works.example": Made(frozenset({3}), frozenset({0, 1, 2, 3}), delegated=False),
    "other.example": Made(frozenset({1, 3}), frozenset({0, 3}), delegated=False),
    "2.88.10.in-addr.arpa": Made(frozenset({0}), frozenset({0, 1}), False, ["10 PTR host.x.a.works.example."]),
}
"""A name lies in one zone for the servers that are known first, and in a nearer one for a server that becomes known later."""


@examples(150)
@example(LATE, True)
@example(ABOVE, True)
@given(worlds(), st.booleans())
def test_a_draft_has_every_zone_and_server_that_can_be_found_and_no_other(
    zones: dict[str, Made], another: bool
) -> None:
    names = [TOP, "other.example"] if another else [TOP]
    learnt = drafted(zones, names)
    told = {to_text(apex).rstrip("."): {one.port - 5400 for one in zone.servers} for apex, zone in learnt.zones.items()}
    assert told == found_slowly(zones, names)
    for apex, zone in learnt.zones.items():
        made = zones[to_text(apex).rstrip(".")]
        assert not {one.port - 5400 for one in zone.others} & made.holders, "a server that answers is told not to"
        assert {name for name, _ in zone.registered} <= {name for name in zone.holding.names if is_within(name, apex)}  # type: ignore[union-attr]


class Boasting(Asking):
    """The last server says of every name that a zone begins there, which it is the authority for."""

    def submit(self, question: Question) -> None:
        if question.server.port == SERVERS[3].port:
            apex = to_text(question.name)
            zone = read_zone(f"$TTL 300\n@ SOA {apex} h. 1 2 3 4 5\n@ NS {apex}\n@ A 192.0.2.56\nsub NS {apex}\n", apex)
            self.held[SERVERS[3]] = HeldZones([zone])
        super().submit(question)


def test_a_server_that_calls_every_name_a_zone_is_left_out_and_told() -> None:
    zones = {TOP: Made(frozenset({0}), frozenset({0, 3})), "other.example": Made(frozenset({0}), frozenset({0}), False)}
    exchange = Boasting(zones)
    learnt = drafted_by(exchange, [TOP])
    assert list(map(to_text, learnt.zones)) == [f"{TOP}."] and not learnt.whole
    assert list(learnt.left_out.values()) == ["it answers with authority for names that cannot exist"]
    assert sum(question.server.port == SERVERS[3].port for question in exchange.asked) < 20


def test_every_bound_that_the_search_met_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    zones = {TOP: Made(frozenset({0}), frozenset({0}))}
    zones[TOP].lines += [f"z{number} NS s0" for number in range(30)]
    monkeypatch.setattr(exploring, "MOST_ZONES", 5)
    learnt = drafted(zones, [TOP])
    assert learnt.met == ["5 zones are taken up at the most, and 26 more were seen"] and not learnt.whole
    monkeypatch.undo()
    zones[TOP].lines = [f"@ NS far{number}.elsewhere.invalid." for number in range(1500)]
    exchange = Asking(zones)
    learnt = drafted_by(exchange, [TOP])
    assert learnt.met == [f"{TOP} names 1,501 servers: 50 were looked up"]
    assert len(exchange.asked) < 2000

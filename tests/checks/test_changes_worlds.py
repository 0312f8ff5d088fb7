"""Random changes behind aliases, caches and pools: `settle`, `budget` and `compare` against a judge that looks into the caches.

The judge knows what no program can ask: what each member of each cache has, and until when. It shares no code with the checks.
"""

from __future__ import annotations

import copy
import random
from dataclasses import dataclass, field
from datetime import UTC, datetime

import dns.flags
import dns.message
import dns.rcode
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.budget.judging import budget_of, inspect_budget
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.compare.judging import HeldSet, Snapshot, differences
from salt_mirror.checks.resolvers.judging import Resolvers, resolvers_of
from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Sighting, Slot, Vantage, Watch, sighting_of
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import A, rdata_from_text, type_text
from salt_mirror.estate.duties import Duty, ResolverTests
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.authority import HeldZones, read_zone
from salt_mirror.standin.cache import Cache
from support.examples import examples
from support.exchanges import Instant, heard
from support.tables import NOW

ZONE, SHOP = "salt.invalid", from_text("shop.salt.invalid")
HEAD = "$TTL 3600\n@ 300 SOA ns h {serial} 7200 1800 1209600 120\n@ NS ns\nns A 192.0.2.1\n"
OLD, NEW = "192.0.2.11", "192.0.2.12"
GRAIN_S = 1.0
TTLS = st.sampled_from([30, 60, 200, 600])


@dataclass
class Change:
    """A zone before and after, and what is waited for at `shop`."""

    before: str
    after: str
    goal: frozenset[str]
    names: list[str] = field(default_factory=lambda: ["shop"])


@st.composite
def changes(draw: st.DrawFn) -> Change:
    """A set behind up to two aliases, of which any link may change: its value, where it leads, what it is, whether it is."""
    ttls = [draw(TTLS) for _ in range(3)]
    hops = draw(st.integers(0, 2))
    names = ["shop", "mid", "end"][: hops + 1]
    links = [f"{name} {ttl} CNAME {target}\n" for name, target, ttl in zip(names, names[1:], ttls, strict=False)]
    there = draw(st.booleans()) or hops > 0
    before = "".join(links) + (f"{names[-1]} {ttls[hops]} A {OLD}\n" if there else "")
    kind = draw(st.sampled_from(["value", "turned", "direct", "gone"])) if there else "value"
    if kind == "value":
        after = "".join(links) + f"{names[-1]} {ttls[hops]} A {NEW}\n"
    elif kind == "turned":
        after = before.replace(links[0], "") if links else ""
        after += f"shop {ttls[0]} CNAME other\nother {ttls[1]} A {NEW}\n"
    elif kind == "direct":
        after = f"shop {ttls[0]} A {NEW}\n"
    else:
        after = before.replace(f"{names[-1]} {ttls[hops]} A {OLD}\n", "")
    return Change(before, after, frozenset() if kind == "gone" else frozenset({NEW}), names)


CACHE = st.fixed_dictionaries(
    {}, optional={"members": st.integers(2, 3), "most_ttl": st.sampled_from([45, 300]), "peeking": st.just(False)}
)


class Marsh(Instant):
    """The zone on its server, caches before it, and a clock that is turned by hand; answers come as real messages."""

    def __init__(self, change: Change, ways: list[dict[str, object]], ages: random.Random) -> None:
        super().__init__()
        self.now = 1_000_000.0
        self.authority = HeldZones([read_zone(HEAD.format(serial=1) + change.before, ZONE)])
        self.caches = [
            Cache([self.authority], lambda: self.now, rng=random.Random(number), **way)  # type: ignore[arg-type]
            for number, way in enumerate(ways)
        ]
        for cache in self.caches:
            for name in change.names:
                if ages.random() < 0.8:
                    cache.keep(f"{name}.{ZONE}", "A", [ages.uniform(0, 700) for _ in cache._stores])
        self.servers = [Server(f"cache-{number}", bytes((127, 0, 0, 2 + number))) for number in range(len(ways))]
        self.own = Server("ns", bytes((127, 0, 0, 1)))

    def answer(self, question: Question) -> Answer:
        own = question.server.address == self.own.address
        speaker = self.authority if own else self.caches[question.server.address[3] - 2]
        return heard(speaker, question)

    def clients_see(self, cache: Cache) -> list[frozenset[str]]:
        """What a client gets from each member of a cache now, without leaving a trace in it."""
        seen = []
        for store in cache._stores:
            member = copy.copy(cache)
            member._stores = [dict(store)]
            query = dns.message.make_query(to_text(SHOP), "A")
            query.flags = dns.flags.Flag(dns.flags.RD)
            response = member.respond(query)
            seen.append(frozenset(r.to_text() for s in response.answer if s.rdtype == A for r in s))
        return seen

    def estate(self) -> Estate:
        apex = from_text(ZONE)
        return Estate(zones={"": {apex: Zone(apex, "", (self.own,))}})


@given(changes(), st.lists(CACHE, min_size=1, max_size=3), st.randoms(use_true_random=False), st.floats(0, 400))
@examples(150)
def test_a_change_settles_no_sooner_than_every_client_has_it_and_within_its_budget(
    change: Change, ways: list[dict[str, object]], ages: random.Random, waits: float
) -> None:
    world = Marsh(change, ways, ages)
    (seen,) = Runner(world).run([inspect_budget(SHOP, A, "", Atlas(world.estate()))])
    moment = datetime.now(UTC)
    bound_s = budget_of(seen, moment, moment).kept_s
    world.now += waits
    # Clients keep the old state alive until the very moment of the change.
    for cache in world.caches:
        for _ in range(3):
            cache.respond(dns.message.make_query(to_text(SHOP), "A"))
    world.authority.hold(read_zone(HEAD.format(serial=2) + change.after, ZONE))
    changed_at = world.now
    world.now = changed_at + bound_s + GRAIN_S
    for cache in world.caches:
        assert set(world.clients_see(cache)) == {change.goal}, "the budget was too short"
    world.now = changed_at
    goal = Goal(SHOP, A, frozenset(rdata_from_text(A, text) for text in change.goal))
    caches = [Vantage(server, cache=True) for server in world.servers]
    watch = Watch([(goal, [Vantage(world.own, cache=False)])], caches, world.now)
    alive: dict[str, float] = {}
    while not watch.done and world.now < changed_at + 3000:
        for slot in list(watch.due(world.now)):
            sighting = _look(world, slot, watch)
            if slot.vantage.cache and sighting.trouble is None and not goal.reached(sighting.values) and sighting.ttl:
                soonest = sighting.soonest if sighting.soonest is not None else sighting.ttl
                label = slot.vantage.server.label
                alive[label] = max(alive.get(label, 0.0), world.now + soonest)
            watch.take(slot, sighting)
        due = watch.next_due()
        world.now = max(world.now + 0.5, due) if due is not None else world.now + 1
    assert watch.done, "it waits for ever"
    for cache, way, vantage in zip(world.caches, ways, caches, strict=True):
        (slot,) = [slot for slot in watch.slots if slot.vantage is vantage]
        assert slot.settled_at is not None
        if "members" not in way:
            assert world.clients_see(cache) == [change.goal], "a client still gets the old state"
        assert slot.settled_at + GRAIN_S >= alive.get(vantage.server.label, 0.0), "an entry that it saw is still alive"


def _look(world: Marsh, slot: Slot, watch: Watch) -> Sighting:
    recurse = watch.recurses(slot)
    answer = world.answer(Question(slot.goal.name, A, slot.vantage.server, recurse))
    return sighting_of(answer, world.now, peeked=slot.vantage.cache and not recurse)


@given(changes(), st.booleans())
@examples(150)
def test_a_snapshot_compared_with_a_later_one_shows_what_a_client_would_notice(change: Change, changed: bool) -> None:
    """Whatever a client gets otherwise is a change of some link; where nothing was changed nothing is told."""
    world = Marsh(change, [{}], random.Random(0))
    names = {from_text(f"{name}.{ZONE}") for name in (*change.names, "other")}

    def held() -> list[HeldSet]:
        estate = world.estate()
        taken = Snapshot([("", name, A) for name in sorted(names)], estate, [""], Atlas(estate))
        carry_out(taken, Setting(NOW), Runner(world))
        return taken.held

    before, gets = held(), _resolved(world)
    if changed:
        world.authority.hold(read_zone(HEAD.format(serial=2) + change.after, ZONE))
    found = [one for one in differences(before, held()) if one.kind != "ttl"]
    if _resolved(world) != gets:
        assert found
    elif not changed:
        assert not found
    for one in found:
        assert one.type == type_text(A) and one.kind in ("added", "gone", "changed")


def _resolved(world: Marsh) -> tuple[frozenset[str], int]:
    """What somebody who asks the server itself ends up with, hop by hop."""
    response = world.authority.respond(dns.message.make_query(to_text(SHOP), "A"))
    return frozenset(r.to_text() for s in response.answer if s.rdtype == A for r in s), int(response.rcode())


# Resolvers that override

HOSTS = ("rake", "vat", "press")


@given(
    policy=st.dictionaries(st.sampled_from(HOSTS), st.sampled_from([None, "192.0.2.66", "192.0.2.20"])), shows=st.booleans(),
    old=st.sets(st.sampled_from(HOSTS)), bogus=st.booleans(), lost=st.sets(st.sampled_from(HOSTS)),
)  # fmt: skip
@examples(200)
def test_a_resolver_is_accused_of_a_policy_only_where_it_has_one(
    policy: dict[str, str | None], shows: bool, old: set[str], bogus: bool, lost: set[str]
) -> None:
    """What a policy changes is blocked or overridden where the responses show it, and an older entry never is."""
    right = {host: f"192.0.2.{20 + number}" for number, host in enumerate(HOSTS)}
    lines = "".join(f"{host} 300 A {address}\n" for host, address in right.items() if host not in lost)
    world = Marsh(Change(lines, lines, frozenset()), [], random.Random(0))
    was = HeldZones([read_zone(HEAD.format(serial=1) + "".join(f"{host} 300 A 192.0.2.99\n" for host in HOSTS), ZONE)])
    world.caches = [
        Cache(
            [was], lambda: world.now, policy={f"{host}.{ZONE}": value for host, value in policy.items()}, policy_shows=shows,
            bogus=[ZONE] if bogus else [],
        )
    ]  # fmt: skip
    for host in old:
        world.caches[0].keep(f"{host}.{ZONE}", "A", [100.0])
    world.caches[0]._authorities = [world.authority]
    world.servers = [Server("office", bytes((127, 0, 0, 2)))]
    apex, view = from_text(ZONE), "inside"
    expected = tuple(
        Expectation(from_text(f"{host}.{ZONE}"), A, rdata_from_text(A, address)) for host, address in right.items()
    )
    estate = Estate(zones={view: {apex: Zone(apex, view, (world.own,), expected)}}, resolver_tests=ResolverTests(()))
    estate.resolvers, estate.duties = {"office": world.servers[0]}, {"office": Duty(view)}
    atlas = Atlas(estate)
    part = Resolvers(resolvers_of(estate, atlas), atlas)
    carry_out(part, Setting(NOW), Runner(world))
    told = {one.code: one.text for one in part.findings() if one.code.startswith(("res.", "auth."))}
    for host, address in right.items():
        name = f"{host}.{ZONE}. A is "
        accused = {code for code in ("res.blocked", "res.overridden") if name in told.get(code, "")}
        if host in lost or host not in policy or policy[host] == address:
            assert not accused, (host, told)
        elif not bogus and shows:
            assert accused == {"res.blocked" if policy[host] is None else "res.overridden"}
        elif not bogus:
            assert accused or name in told.get("res.outdated-answer", ""), (host, told)
    assert ("auth.bogus" in told) == bogus

"""`settle`, `budget`, `snapshot` and `compare`: schedules on a clock of their own, stand-in caches, real caches."""

from __future__ import annotations

import gzip
import json
import random
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

import dns.flags
import dns.message
import dns.query
import dns.rcode
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.budget.judging import BudgetSeen, budget_of, clock, headline, inspect_budget
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Sighting, Slot, Vantage, Watch
from salt_mirror.checks.settle.wording import findings_of
from salt_mirror.cli.budget import moment_of
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import DS, A, rdata_from_text
from salt_mirror.standin.authority import HeldZones, read_zone
from salt_mirror.standin.cache import Cache
from salt_mirror.standin.server import Fault, StandIns
from support import realservers
from support.estates import LABELS, Served
from support.examples import examples
from support.program import Run, begin
from support.servers import KEY
from support.tables import Table, both, estate
from support.waiting import PATIENCE_S

ZONE = "$TTL 3600\n@ SOA ns1 h {serial} 7200 1800 1209600 600\n@ NS ns1\nns1 A 192.0.2.1\n"
OLD, NEW = (rdata_from_text(A, text) for text in ("192.0.2.11", "192.0.2.12"))
SHOP = from_text("shop.salt.invalid")
GOAL = Goal(SHOP, A, frozenset((NEW,)))


class Sandbox:
    """A zone, caches before it, and a clock that somebody turns."""

    def __init__(self, *ways: dict[str, object], line: str = "shop A 192.0.2.11\n") -> None:
        self.now = 1_000_000.0
        self.authority = HeldZones([read_zone(ZONE.format(serial=1) + line, "salt.invalid")])
        self.caches = [Cache([self.authority], lambda: self.now, rng=random.Random(7), **one) for one in ways]  # type: ignore[arg-type]
        self.vantages = [Vantage(server(f"cache-{number}"), cache=True) for number in range(len(ways))]
        self.asked: list[tuple[float, str]] = []

    def becomes(self, line: str) -> None:
        self.authority.hold(read_zone(ZONE.format(serial=2) + line, "salt.invalid"))

    def see(self, slot: Slot, *, recurse: bool) -> Sighting:
        """What a slot's server says now."""
        label = slot.vantage.server.label
        self.asked.append((self.now, label))
        query = dns.message.make_query(to_text(slot.goal.name), "A")
        if slot.vantage.cache:
            query.flags = dns.flags.RD if recurse else dns.flags.Flag(0)
            response = self.caches[int(label.split("-")[1])].respond(query)
        else:
            response = self.authority.respond(query)
        if response.rcode() == dns.rcode.REFUSED:
            return Sighting(self.now, (), False, None, "answered REFUSED", peeked=not recurse)
        values = tuple(sorted(rdata_from_text(A, r.to_text()) for s in response.answer for r in s))
        ttl = next((rrset.ttl for rrset in (*response.answer, *response.authority)), None)
        exists = response.rcode() == dns.rcode.NOERROR
        return Sighting(self.now, values, exists, ttl, peeked=slot.vantage.cache and not recurse)

    def follow(self, watch: Watch, until: float, at: dict[float, Callable[[], None]]) -> None:
        """Turns the clock from one due moment to the next; `at` are things that happen at moments on the way."""
        events = sorted(at.items())
        while not watch.done and self.now < until:
            for slot in list(watch.due(self.now)):
                watch.take(slot, self.see(slot, recurse=watch.recurses(slot)))
            due = watch.next_due()
            self.now = min([until, *([due] if due is not None else []), *(moment for moment, _ in events[:1])])
            while events and events[0][0] <= self.now:
                events.pop(0)[1]()


def server(label: str, pace: float | None = None) -> Server:
    return Server(label, bytes((127, 0, 0, 1)), 53, pace=pace)


def query(name: str = "shop.salt.invalid") -> dns.message.Message:
    return dns.message.make_query(name, "A")


def test_a_stand_in_cache_counts_down_caps_holds_on_and_refuses_to_be_peeked_at() -> None:
    world = Sandbox({}, {"most_ttl": 60}, {"stale_s": 500}, {"peeking": False}, {"members": 2})
    plain, capped, stale, closed, pool = world.caches

    def seen(cache: Cache, name: str = "shop.salt.invalid") -> tuple[str, int]:
        response = cache.respond(query(name))
        rrset = (response.answer or response.authority)[0]
        return (rrset[0].to_text() if response.answer else str(response.rcode().name)), rrset.ttl

    assert seen(plain) == ("192.0.2.11", 3600) and seen(capped) == ("192.0.2.11", 60)
    assert seen(plain, "new.salt.invalid") == ("NXDOMAIN", 600)
    assert [seen(stale), seen(pool)] == [("192.0.2.11", 3600)] * 2
    world.becomes("shop A 192.0.2.12\nnew A 192.0.2.13\n")
    world.now += 599
    assert seen(plain) == ("192.0.2.11", 3001) and seen(plain, "new.salt.invalid") == ("NXDOMAIN", 1)
    assert seen(capped) == ("192.0.2.12", 60)
    world.now += 3001
    assert seen(plain) == ("192.0.2.12", 3600) and seen(plain, "new.salt.invalid")[0] == "192.0.2.13"
    assert seen(stale) == ("192.0.2.11", 30)
    assert {seen(pool)[1] for _ in range(20)} <= {3000, 3600, 0, 3599}
    peek = query()
    peek.flags = dns.flags.Flag(0)
    assert closed.respond(peek).rcode() == dns.rcode.REFUSED
    assert plain.respond(peek).answer and not Sandbox({}).caches[0].respond(peek).answer


def watch_of(world: Sandbox, goal: Goal = GOAL, **options: object) -> Watch:
    return Watch([(goal, [Vantage(server("ns1"), cache=False)])], world.vantages, world.now, **options)  # type: ignore[arg-type]


def test_two_days_of_propagation_are_followed_to_the_predicted_end() -> None:
    world = Sandbox({}, {"least_ttl": 172_800}, {"most_ttl": 900}, {"members": 3})
    for number, cache in enumerate(world.caches):
        cache.keep("shop.salt.invalid", "A", [300.0 * number, 100.0, 2000.0])
    watch = watch_of(world)
    begin = world.now
    world.follow(watch, begin + 400_000, {begin + 60: lambda: world.becomes("shop A 192.0.2.12\n")})
    assert watch.done
    ends = {slot.vantage.server.label: slot.settled_at for slot in watch.slots}
    assert ends["ns1"] == begin + 60
    for label, kept in (("cache-0", 3600), ("cache-1", 172_800 - 300)):
        end = ends[label]
        assert end is not None and abs(end - (begin + kept)) <= 2
    slots = {slot.vantage.server.label: slot for slot in watch.slots}
    for slot in slots.values():
        predicted, settled = slot.predicted, slot.settled_at
        if slot.vantage.cache and slot.vantage.members == 1 and predicted is not None and settled is not None:
            assert abs(settled - predicted) <= 2
    assert slots["cache-3"].vantage.members >= 2
    assert {f.code for f in findings_of(watch)} == {"settle.beyond-ttl", "settle.pool"}


def test_no_cache_is_asked_for_a_new_name_before_every_authoritative_server_has_it() -> None:
    world = Sandbox({}, {}, line="")
    watch = watch_of(world)
    begin = world.now
    world.follow(watch, begin + 5000, {begin + 1000: lambda: world.becomes("shop A 192.0.2.12\n")})
    assert watch.done and max(slot.settled_at or 0 for slot in watch.slots) < begin + 1010
    assert all(at >= begin + 1000 for at, label in world.asked if label.startswith("cache"))


def test_a_cached_no_is_waited_for_to_its_end() -> None:
    world = Sandbox({}, line="")
    world.caches[0].respond(query())  # somebody asked too early
    watch = watch_of(world)
    begin = world.now
    world.follow(watch, begin + 5000, {begin + 100: lambda: world.becomes("shop A 192.0.2.12\n")})
    (slot,) = [slot for slot in watch.slots if slot.vantage.cache]
    assert slot.settled_at is not None and abs(slot.settled_at - (begin + 600)) <= 2


def test_peeking_plants_nothing_and_says_who_does_not_allow_it() -> None:
    world = Sandbox({}, {"peeking": False}, {}, line="shop A 192.0.2.11\n")
    world.caches[0].respond(query())
    fetched = [cache.fetched for cache in world.caches]
    watch = watch_of(world, peek=True)
    world.follow(watch, world.now + 3, {})
    states = {slot.vantage.server.label: slot.state for slot in watch.slots if slot.vantage.cache}
    assert states == {"cache-0": "old", "cache-1": "silent", "cache-2": "waiting"}
    assert [cache.fetched for cache in world.caches] == fetched
    assert "no-peeking" in world.vantages[1].notes
    world.becomes("shop A 192.0.2.12\n")
    world.follow(watch, world.now + 10_000, {})
    assert watch.done


def test_a_cache_that_holds_on_beyond_its_own_ttl_is_named() -> None:
    world = Sandbox({"stale_s": 600})
    world.caches[0].respond(query())
    watch = watch_of(world)
    begin = world.now
    world.follow(watch, begin + 9000, {begin + 5: lambda: world.becomes("shop A 192.0.2.12\n")})
    assert watch.done and {f.code for f in findings_of(watch)} == {"settle.serves-expired"}


def test_an_old_entry_and_a_new_one_at_one_address_are_two_caches() -> None:
    pool, watch_now = Vantage(server("pool"), cache=True), 1000.0
    watch = Watch([(GOAL, [Vantage(server("ns1"), cache=False)])], [pool], watch_now)
    (own, slot) = watch.slots
    watch.take(own, Sighting(1000.0, (NEW,), True, 300))
    watch.take(slot, Sighting(1000.0, (OLD,), True, 100))
    watch.take(slot, Sighting(1001.0, (NEW,), True, 300))
    assert pool.members == 2
    moment = 1102.0
    looks = 0
    while slot.settled_at is None and looks < 99:
        looks += 1
        watch.take(slot, Sighting(moment, (NEW,), True, 300))
        moment += 1.0
    assert looks >= 13, "one of two that answers by chance is missed once in a thousand watches, and not in four"


def test_of_keys_each_cache_is_said_to_validate_the_new_or_the_old_or_to_fail() -> None:
    cache, ds = Vantage(server("office"), cache=True), bytes((0, 1, 13, 2)) + bytes(32)
    goal = Goal(GOAL.name, DS, frozenset((ds,)))
    watch = Watch([(goal, [Vantage(server("ns1"), cache=False)])], [cache], 1000.0)
    own, slot = watch.slots
    watch.take(own, Sighting(1000.0, (ds,), True, 300))
    for sighting, says in (
        (Sighting(1001.0, (ds[::-1],), True, 9, authentic=True), "validates the old"),
        (
            Sighting(1002.0, (), False, None, "answered SERVFAIL (DNSSEC Bogus)"),
            "bogus, or not to be had: it answered SERVFAIL",
        ),
        (Sighting(1011.0, (ds,), True, 300), "has the new, without having validated it"),
        (Sighting(1012.0, (ds,), True, 300, authentic=True), "validates the new"),
    ):
        watch.take(slot, sighting)
        assert cache.notes["validation"].startswith(says)


def test_a_cache_that_gives_no_ttl_has_outlived_nothing() -> None:
    vague = Vantage(server("vague"), cache=True)
    watch = Watch([(GOAL, [Vantage(server("ns1"), cache=False)])], [vague], 0.0)
    (own, slot) = watch.slots
    watch.take(own, Sighting(0.0, (NEW,), True, 300))
    for moment in range(1, 30):
        watch.take(slot, Sighting(float(moment), (OLD,), True, None))
    assert vague.notes == {} and not [one for one in findings_of(watch) if one.code == "settle.serves-expired"]


def test_a_watch_gives_up_on_servers_that_stay_silent_and_on_nobody_else() -> None:
    world = Sandbox({}, line="shop A 192.0.2.12\n")
    authorities = [Vantage(server("ns1"), cache=False), Vantage(server("silent"), cache=False)]
    watch = Watch([(GOAL, authorities)], world.vantages, world.now)
    begin = world.now
    while not watch.done and not watch.hopeless and world.now < begin + 3600:
        for slot in list(watch.due(world.now)):
            silent = slot.vantage.server.label == "silent"
            lost = Sighting(world.now, (), False, None, "no answer in time")
            watch.take(slot, lost if silent else world.see(slot, recurse=True))
        world.now = max(world.now + 0.1, watch.next_due() or 0)
    assert watch.hopeless and world.now < begin + 300
    assert {slot.vantage.server.label for slot in watch.slots if slot.settled_at is not None} == {"ns1", "cache-0"}
    assert [(f.code, f.outcome) for f in findings_of(watch)] == [("settle.unverified", "unverified")]


STEPS = st.lists(
    st.tuples(st.sampled_from(["new", "old", "no", "lost"]), st.integers(0, 900), st.floats(-500, 500)),
    min_size=5, max_size=40,
)  # fmt: skip


@examples(60)
@given(STEPS, st.floats(0.2, 5.0), st.integers(1, 4), st.randoms(use_true_random=False))
def test_no_cache_is_asked_faster_than_its_pace_and_no_settled_one_is_lost(
    steps: list[tuple[str, int, float]], pace: float, names: int, rng: random.Random
) -> None:
    goals = [Goal(from_text(f"n{number}.salt.invalid"), A, frozenset((NEW,))) for number in range(names)]
    cache = Vantage(server("cache", pace), cache=True)
    authority = Vantage(server("ns1"), cache=False)
    now = 1000.0
    watch = Watch([(goal, [authority]) for goal in goals], [cache], now)
    asked: list[float] = []
    waiting: list[Slot] = []
    told = {"new": (NEW,), "old": (OLD,), "no": ()}
    for kind, ttl, jump in [*steps, *([("new", 60, 7.0)] * 120)]:
        now += jump if kind != "new" or rng.random() < 0.5 else 3.0
        due = list(watch.due(now))
        asked += [watch.now for slot in due if slot.vantage is cache]
        waiting += due
        rng.shuffle(waiting)  # answers come in any order
        while waiting and rng.random() < 0.8:
            slot = waiting.pop()
            if not slot.vantage.cache:
                watch.take(slot, Sighting(watch.now, (NEW,), True, 300))
            elif kind == "lost":
                watch.take(slot, Sighting(watch.now, (), False, None, "no answer in time"))
            else:
                watch.take(slot, Sighting(watch.now, told[kind], True, ttl))
        for slot in watch.slots:
            assert slot.settled_at is not None or slot.under_way or slot.due is not None or not slot.asked
    gaps = [later - earlier for earlier, later in pairwise(asked)]
    assert all(gap >= 1 / pace - 1e-6 for gap in gaps)


def test_a_thousand_records_at_twenty_caches_cost_little_more_than_the_least_possible() -> None:
    now = 0.0
    goals = [Goal(from_text(f"h{number}.salt.invalid"), A, frozenset((NEW,))) for number in range(1000)]
    authorities = [Vantage(server(f"ns{number}"), cache=False) for number in (1, 2)]
    caches = [Vantage(server(f"cache-{number}", 50.0), cache=True) for number in range(20)]
    rng = random.Random(3)
    ends = {(id(cache), goal): rng.uniform(0, 3000) for cache in caches for goal in goals}
    watch = Watch([(goal, authorities) for goal in goals], caches, now)
    while not watch.done and now < 3600:
        for slot in list(watch.due(now)):
            if not slot.vantage.cache:
                watch.take(slot, Sighting(now, (NEW,), True, 3600))
                continue
            end = ends[id(slot.vantage), slot.goal]
            left = 3600 - int(now - end) if now >= end else int(end - now)
            watch.take(slot, Sighting(now, (NEW,) if now >= end else (OLD,), True, left))
        due = watch.next_due()
        now = max(now + 0.001, due) if due is not None else now + 1
    asked = sum(slot.asked for slot in watch.slots)
    # once at each authoritative server; once at a cache that has let go when it is first asked, twice at one that has not
    least = 2000 + sum(2 - (slot.state == "new" and slot.asked == 1) for slot in watch.slots if slot.vantage.cache)
    assert watch.done and least <= asked <= least * 1.1


MARSH = estate("salt.invalid")


def budgeted(told: dict[tuple[str, str], list[str] | str]) -> BudgetSeen:
    soa = {("salt.invalid", "SOA"): ["ns1.salt.invalid. h.salt.invalid. 1 7200 1800 1209600 600"]}
    (seen,) = Runner(Table(both({**told, **soa}))).run([inspect_budget(SHOP, A, "", Atlas(MARSH))])
    return seen


TUESDAY = datetime(2026, 11, 23, 13, 20, tzinfo=UTC)


def test_the_budget_follows_from_ttl_negative_ttl_and_refresh() -> None:
    # the table's answers have a TTL of 300 s, and so has the SOA: smaller than its minimum of 600
    there = budget_of(budgeted({("shop.salt.invalid", "A"): ["192.0.2.11"]}), TUESDAY + timedelta(hours=1), TUESDAY)
    absent = budget_of(budgeted({}), TUESDAY + timedelta(hours=1), TUESDAY)
    for one in (there, absent):
        assert (one.kept_s, one.spread_s, one.last - one.change_at) == (300, 7200, timedelta(seconds=300))
    assert "Do not ask a resolver" in absent.advice[0][1]


def test_the_newest_serial_is_found_past_the_end_of_the_circle() -> None:
    soa = "ns1.salt.invalid. h.salt.invalid. {} 7200 1800 1209600 600"
    told = both({("shop.salt.invalid", "A"): ["192.0.2.11"]})
    told |= {
        (label, "salt.invalid", "SOA"): [soa.format(serial)] for label, serial in (("north", 2**32 - 1), ("kiln", 2))
    }
    (seen,) = Runner(Table(told)).run([inspect_budget(SHOP, A, "", Atlas(MARSH))])
    assert seen.soa is not None and seen.soa.serial == 2


def test_the_advice_names_every_record_of_the_set_and_the_state_after_the_change() -> None:
    seen = budgeted({("shop.salt.invalid", "A"): ["192.0.2.11", "192.0.2.12"]})
    for link in seen.links:
        link.ttl = 3600
    third = rdata_from_text(A, "192.0.2.13")
    found = budget_of(seen, TUESDAY, TUESDAY, before=frozenset((OLD,)), to=frozenset((third,)))
    told = [(what, says.rsplit(" ", 1)[-1]) for what, says in found.advice if what != "advice"]
    assert told == [("now", "192.0.2.11"), ("now", "192.0.2.12"), ("then", "192.0.2.12"), ("then", "192.0.2.13")]
    capped = budget_of(seen, TUESDAY, TUESDAY, cap=60)
    assert (capped.kept_s, capped.advice) == (60, ()) and "settled 1 min after" in headline(seen, capped)
    assert {one.key: one.at - TUESDAY for one in capped.timeline}["by-ttl"] == timedelta(hours=1)


def test_a_set_of_name_servers_cannot_be_shortened_below_what_the_parent_gives(demo: Run) -> None:
    (advice,) = (one["says"] for one in demo("budget", "gullmarsh.example", "NS", "--json").report["advice"])
    assert advice.startswith("Lowering the TTL here shortens nothing: the parent gives the NS set 86400 s.")


def test_servers_that_replicate_among_themselves_and_a_single_one_are_not_measured_by_notify_and_refresh(
    run: Run, served: Served
) -> None:
    text = "$TTL 300\n@ SOA dc{n} h {n} 900 600 86400 300\n@ NS dc1\n@ NS dc2\nwww A 192.0.2.8\n"
    servers = served("salt.invalid", text.format(n=1), text.format(n=2))
    done = run("budget", "www.salt.invalid", "A", "--json").report
    assert [one["key"] for one in done["timeline"]] == ["change", "replicated", "settled"]
    assert "which is up to their replication" in done["says"] and done["spread_s"] == 0
    served.publish("salt.invalid", servers[:1])
    assert "notify" not in run("budget", "www.salt.invalid", "A").out


def test_a_time_of_day_is_the_one_on_the_wall_also_across_summer_time(monkeypatch: pytest.MonkeyPatch) -> None:
    if sys.platform == "win32":
        pytest.skip("there is no tzset")
    monkeypatch.setenv("TZ", "CET-1CEST,M3.5.0,M10.5.0/3")
    time.tzset()
    try:
        before = datetime(2026, 10, 24, 20, 0, tzinfo=UTC)  # 22:00 in summer time; the clocks go back that night
        assert moment_of("09:00", before) == datetime(2026, 10, 25, 8, 0, tzinfo=UTC)
        assert clock(moment_of("09:00", before)) == "Sun 2026-10-25 09:00:00 +01:00"
        assert moment_of("23:30", before) == datetime(2026, 10, 24, 21, 30, tzinfo=UTC)
        assert moment_of("2026-10-26T09:00", before) == datetime(2026, 10, 26, 8, 0, tzinfo=UTC)
        spring = datetime(2026, 3, 28, 20, 0, tzinfo=UTC)
        assert moment_of("09:00", spring) == datetime(2026, 3, 29, 7, 0, tzinfo=UTC)
    finally:
        monkeypatch.undo()
        time.tzset()


def test_a_short_name_in_a_value_is_completed_with_the_zone_and_what_is_waited_for_is_shown(demo: Run) -> None:
    done = demo("budget", "gullmarsh.example", "MX", "--to", "10 mx2")
    assert "Note: gullmarsh.example. MX is to be 10 mx2.gullmarsh.example.\n" in done.out
    watched = demo("settle", "www.gullmarsh.example", "CNAME", "--to", "web", "--at", "north-office", "--within", "1s")
    assert "www.gullmarsh.example. CNAME is web.gullmarsh.example.: " in watched.out
    refused = demo("budget", "elsewhere.invalid", "MX", "--to", "10 mx2")
    assert refused.status == 2 and '--to: "mx2" is a short name, and its zone is not known' in refused.err


def test_the_budget_of_the_demo_advises_to_lower_the_ttl(demo: Run) -> None:
    call = ("budget", "vpn.gullmarsh.example", "A")
    done = demo(*call, "--at-time", "in 1d", "--to", "192.0.2.77", "--json")
    assert (done.report["kept_s"], done.report["spread_s"], done.status) == (3600, 7200, 0)
    assert [one["key"] for one in done.report["timeline"]] == ["change", "notified", "settled", "refreshed", "latest"]
    advice, now, then = (one["says"] for one in done.report["advice"])
    assert "There is time for that until" in advice
    assert now == "vpn.gullmarsh.example. 300 IN A 198.51.100.20"
    assert then == "vpn.gullmarsh.example. 300 IN A 192.0.2.77"
    assert demo(*call, "--at-time", "noon").status == 2
    assert demo(*call, "--old", "192.0.2.1").status == 1


class Change:
    """A zone on two stand-in servers, with caches before them in which time goes by faster."""

    def __init__(self, served: Served, standins: StandIns, speed: float) -> None:
        text = ZONE.format(serial=1) + "shop A 192.0.2.11\n"
        back = read_zone(ZONE.format(serial=1) + "12 PTR shop.salt.invalid.\n", "2.0.192.in-addr.arpa")
        self.servers = served.serve("salt.invalid", text, text)
        for server_ in self.servers:
            server_.authority.hold(back)
        cache = Cache([self.servers[0].authority], lambda: time.monotonic() * speed)
        self.cache = standins.add(cache=cache, recursive=True)
        office = f'[resolvers.office]\naddress = "127.0.0.1"\nport = {self.cache.port}\ngroup = "offices"\n'
        ports = dict(zip(LABELS, (one.port for one in self.servers), strict=False))
        served.publish(
            "salt.invalid", self.servers, office, {"192.0.2.1": self.servers[0]}, {"192.0.2.0/24": ports}
        )  # fmt: skip

    def keep(self) -> None:
        assert self.cache.cache is not None
        self.cache.cache.keep("shop.salt.invalid", "A", [0.0])

    def happen(self) -> None:
        for server_ in self.servers:
            server_.authority.hold(read_zone(ZONE.format(serial=2) + "shop A 192.0.2.12\n", "salt.invalid"))


def test_a_watch_ends_when_all_have_settled_and_says_who_has_not(
    run: Run, served: Served, standins: StandIns, tmp_path: Path
) -> None:
    change = Change(served, standins, 1200.0)
    call = ("settle", "shop.salt.invalid", "A", "--to", "192.0.2.12", "--speed", "1200", "--timeout", "2")
    late = run(*call, "--within", "10min", "--json")
    assert late.status == 1 and {f["code"] for f in late.report["findings"]} == {"settle.not-yet", "settle.not-asked"}
    assert [row["vantage"] for row in late.report["vantages"]] == ["one", "two", "office"]
    assert ": 0 of 3 have it; waiting for one, two." in run(*call, "--within", "10min").out
    change.keep()
    change.happen()
    done = run(*call, "--figure", "watch.png")
    assert done.status == 0 and "All 3 have settled." in done.out
    assert "office: old 192.0.2.11, for another" in done.out and "office: new 192.0.2.12: settled" in done.out
    assert (tmp_path / "watch.png").read_bytes().startswith(b"\x89PNG")
    assert run("settle", "shop.salt.invalid", "A", "--as-held-by", "one", "--speed", "1200").status == 0
    assert run("settle", "--registered", "shop", "192.0.2.12").status == 0
    never = run("settle", "--registered", "shop", "192.0.2.13", "--within", "1s", "--json")
    assert never.status == 1 and {f["type"] for f in never.report["findings"]} == {"A", "PTR"}
    (tmp_path / "list.csv").write_text("name,type,value\nshop,A,192.0.2.12\nns1,A,192.0.2.1\n", encoding="utf-8")
    assert run("settle", "--records", "list.csv", "--speed", "1200").status == 0
    assert run("settle", "gone.salt.invalid", "A", "--gone", "--speed", "1200").status == 0


@pytest.mark.skipif(sys.platform == "win32", reason="there is no SIGKILL")
def test_a_watch_that_was_killed_goes_on_from_its_journal(
    run: Run, served: Served, standins: StandIns, tmp_path: Path
) -> None:
    change = Change(served, standins, 600.0)
    change.keep()
    call = ["settle", "shop.salt.invalid", "A", "--to", "192.0.2.12", "--speed", "600", "--journal", "watch.jsonl"]
    call += ["--at", "office"]
    process = begin(*call, cwd=tmp_path, stdout=subprocess.PIPE)
    assert process.stdout is not None
    change.happen()
    for line in process.stdout:
        if "office: old" in line:
            break
    process.kill()
    process.wait()
    journal = tmp_path / "watch.jsonl"
    with journal.open("ab") as file:
        file.write(b'{"at": 12')  # what a crash in the middle of a line leaves
    assert run(*call).status == 2  # a journal is never written over
    with (tmp_path / "estate.toml").open("a", encoding="utf-8") as file:
        file.write('\n[resolvers.elsewhere]\naddress = "127.0.0.1"\nport = 9\n')  # nobody who was watched
    done = run("settle", "--resume", "--journal", "watch.jsonl", "--speed", "600", "--json")
    assert done.status == 0 and all(row["settled"] for row in done.report["vantages"])
    assert [row["vantage"] for row in done.report["vantages"]] == ["one", "two", "office"]
    lines = [json.loads(line) for line in journal.read_text(encoding="utf-8").splitlines()]
    assert lines[0]["journal"] == "salt-mirror/journal/1" and lines[-1]["settled"]
    states = [line["state"] for line in lines[1:] if line["vantage"] == "office"]
    assert states[0] == "old" and states[-1] == "new"


@pytest.fixture
def caches(tmp_path: Path) -> Iterator[tuple[Server, list[Server]]]:
    """Knot as the primary, NSD as its secondary, and two real caches with caps of their own before them."""
    text = f"$TTL 9\n@ SOA ns1 h {1} 7200 1800 1209600 9\n@ NS ns1\nns1 A 192.0.2.1\nshop A 192.0.2.11\n"
    with ExitStack() as stack:
        secondary_port = realservers.free_port()
        primary = stack.enter_context(
            realservers.knot(tmp_path / "knot", {"salt.example": text}, key=KEY, generous=True, notify=secondary_port)
        )
        second = stack.enter_context(
            realservers.nsd_secondary(tmp_path / "nsd", "salt.example", text, primary, port=secondary_port)
        )
        found = [
            stack.enter_context(
                realservers.unbound(tmp_path / f"unbound{cap}", {}, behind={"salt.example": primary}, most_ttl=cap)
            )
            for cap in (5, 60)
        ]
        text = '[[zones]]\nname = "salt.example"\nservers = ["knot", "nsd"]\n'
        for table, label, server_ in (
            ("servers", "knot", primary), ("servers", "nsd", second),
            ("resolvers", "capped", found[0]), ("resolvers", "plain", found[1]),
        ):  # fmt: skip
            text += f'[{table}.{label}]\naddress = "127.0.0.1"\nport = {server_.port}\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        yield primary, found


HERE = "$TTL 60\n@ SOA ns h 1 2 3 4 5\n@ NS ns\n"


def test_a_server_may_be_watched_as_an_authority_and_peeked_at_as_a_cache(run: Run, served: Served) -> None:
    served("salt.invalid", HERE + "www A 192.0.2.1\n")
    done = run("settle", "www.salt.invalid", "A", "--peek", "--at", "one", "--within", "20s", "--json")
    assert (done.status, [row["kind"] for row in done.report["vantages"]]) == (0, ["authoritative", "cache"])


def test_a_server_that_only_refers_settles_nothing(run: Run, served: Served) -> None:
    served("salt.invalid", HERE + "ns A 192.0.2.1\n")
    (refers,) = served.serve("invalid", HERE + "salt NS ns.salt\nns.salt A 192.0.2.1\n")
    call = ("settle", "gone.salt.invalid", "A", "--gone", "--within", "2s", "--json")
    done = run(*call, "--at", refers.endpoint)
    assert done.status == 3 and {f["code"] for f in done.report["findings"]} == {"settle.unverified"}
    asked = run("ask", "gone.salt.invalid", "A", "--at", refers.endpoint)
    assert asked.status == 3 and "refers to other servers" in asked.out


def test_a_registration_names_the_host_first_and_then_the_address(run: Run) -> None:
    done = run("settle", "--registered", "192.0.2.1", "host.salt.invalid")
    assert done.status == 2 and "first the host, then the address" in done.err


@pytest.mark.real
def test_real_caches_let_go_when_they_were_predicted_to(
    run: Run, caches: tuple[Server, list[Server]], tmp_path: Path
) -> None:
    primary, found = caches

    def ask(server_: Server, name: str) -> dns.message.Message:
        return dns.query.udp(dns.message.make_query(name, "A"), server_.host, port=server_.port, timeout=PATIENCE_S)

    def change(name: str, value: str) -> None:
        realservers.change(primary, "salt.example", KEY, ("replace", name, 9, "A", value))

    for server_ in found:
        assert ask(server_, "shop.salt.example").answer
    assert ask(found[1], "new.salt.example").rcode() == dns.rcode.NXDOMAIN  # asked too early
    change("shop", "192.0.2.12")
    change("new", "192.0.2.13")
    (tmp_path / "list.csv").write_text(
        "name,type,value,presence\nshop.salt.example,A,192.0.2.12,exact\nnew.salt.example,A,192.0.2.13,exact\n",
        encoding="utf-8",
    )
    done = run("settle", "--records", "list.csv", "--json", "--within", "60s", "--journal", "watch.jsonl")
    rows = {row["vantage"]: row for row in done.report["vantages"]}
    assert done.status == 0 and all(row["settled"] for row in rows.values())
    for label in ("capped", "plain"):
        predicted, settled = (datetime.fromisoformat(rows[label][key]) for key in ("predicted", "settled_at"))
        assert abs(settled - predicted) <= timedelta(seconds=2)
    lines = [json.loads(line) for line in (tmp_path / "watch.jsonl").read_text(encoding="utf-8").splitlines()]
    early = [line for line in lines[1:] if (line["vantage"], line["goal"]) == ("plain", 1)]
    assert early[0]["state"] == "no" and 0 < early[0]["ttl"] <= 9  # the cached "no", and its end
    assert early[-1]["state"] == "new" and early[-1]["at"] - early[0]["at"] >= early[0]["ttl"] - 1


def test_snapshots_are_compared_with_each_other_with_now_and_with_a_plan(
    run: Run, served: Served, tmp_path: Path
) -> None:
    head = ZONE.format(serial=1)
    (one,) = served("salt.invalid", head + "web A 192.0.2.2\nshop A 192.0.2.11\nold A 192.0.2.9\n")
    one.transfers = True
    assert run("snapshot", "before.jsonl.gz", "--transfer").status == 0
    lines = gzip.decompress((tmp_path / "before.jsonl.gz").read_bytes()).splitlines()
    assert json.loads(lines[0])["snapshot"] == "salt-mirror/snapshot/1" and len(lines) == 1 + 5
    assert run("compare", "before.jsonl.gz").out.splitlines()[0] == "5 of 5 record sets are as before."
    changed = head + "web A 192.0.2.3\nshop 60 A 192.0.2.11\nnew A 192.0.2.7\n"
    one.authority.hold(read_zone(changed, "salt.invalid"))
    assert run("snapshot", "after.jsonl", "--transfer").status == 0
    done = run("compare", "before.jsonl.gz", "after.jsonl", "--json")
    assert sorted((f["code"], f["name"].split(".")[0]) for f in done.report["findings"]) == [
        ("cmp.added", "new"), ("cmp.changed", "web"), ("cmp.gone", "old"), ("cmp.ttl", "shop"),
    ]  # fmt: skip
    (tmp_path / "plan.csv").write_text(
        "name,type,value,presence\nweb,A,192.0.2.3,exact\nold,A,,absent\nshop,A,192.0.2.12,exact\n", encoding="utf-8"
    )
    kept = run("compare", "before.jsonl.gz", "after.jsonl", "--plan", "plan.csv", "--json").report["findings"]
    assert sorted((f["code"], f["name"].split(".")[0]) for f in kept if f["code"] != "cmp.ttl") == [
        ("cmp.done", "old"), ("cmp.done", "web"), ("cmp.not-done", "shop"), ("cmp.unplanned", "new"),
    ]  # fmt: skip
    planned = run("compare", "before.jsonl.gz", "after.jsonl", "--plan", "plan.csv")
    assert planned.out.splitlines()[0] == "2 as planned, 1 planned and not done, 1 done and not planned."
    assert planned.status == 1
    one.fault = Fault.REFUSING
    silent = run("compare", "before.jsonl.gz", "--json")
    assert {f["code"] for f in silent.report["findings"]} == {"cmp.unverified"} and silent.status == 3
    assert run("compare", "estate.toml").status == 2


def test_a_plan_held_against_now_asks_for_what_is_new(run: Run, served: Served, tmp_path: Path) -> None:
    head = ZONE.format(serial=1)
    (one,) = served("salt.invalid", head + "web A 192.0.2.2\n")
    assert run("snapshot", "before.jsonl", "web.salt.invalid", "--types", "A").status == 0
    (tmp_path / "plan.csv").write_text("name,type,value\nnew.salt.invalid,A,192.0.2.7\n", encoding="utf-8")
    late = run("compare", "before.jsonl", "--plan", "plan.csv", "--json").report["findings"]
    assert [f["code"] for f in late] == ["cmp.not-done"]
    one.authority.hold(read_zone(head + "web A 192.0.2.2\nnew A 192.0.2.7\n", "salt.invalid"))
    done = run("compare", "before.jsonl", "--plan", "plan.csv", "--json")
    assert [f["code"] for f in done.report["findings"]] == ["cmp.done"] and done.status == 0


def test_a_snapshot_has_the_pointers_and_locators_that_an_estate_wants(demo: Run, tmp_path: Path) -> None:
    assert demo("snapshot", "now.jsonl", "--view", "internal").status in (0, 3)
    lines = [json.loads(line) for line in (tmp_path / "now.jsonl").read_text(encoding="utf-8").splitlines()[1:]]
    held = {(line["name"], line["type"]) for line in lines}
    assert ("12.20.77.10.in-addr.arpa.", "PTR") in held
    assert ("_ldap._tcp.kiln-house._sites.domaindnszones.pans.gullmarsh.internal.", "SRV") in held
    assert ("5a17e000-0a00-4000-8000-000000001405._msdcs.pans.gullmarsh.internal.", "CNAME") in held


# Aliases: what a client ends up with

HOPS = {
    "an alias": "one 300 CNAME shop2\nshop2 60 A 192.0.2.12\n",
    "two of them": "one 300 CNAME two\ntwo 900 CNAME shop2\nshop2 60 A 192.0.2.12\n",
    "a wildcard alias": "*.w 300 CNAME shop2\nshop2 60 A 192.0.2.12\n",
    "out of the zone": "one 300 CNAME far.sea.invalid.\n",
    "none": "one 60 A 192.0.2.12\n",
}


@pytest.mark.parametrize("how", HOPS)
def test_a_goal_is_judged_at_the_end_of_the_aliases(run: Run, served: Served, standins: StandIns, how: str) -> None:
    far = standins.add([read_zone(HERE + "far A 192.0.2.12\n", "sea.invalid")])
    zones = {"sea.invalid": {"sea": far.port}}
    (one,) = served("salt.invalid", ZONE.format(serial=1) + HOPS[how], listed=1, also=zones)
    cache = standins.add(cache=Cache([one.authority, far.authority], time.time))
    name = "x.w.salt.invalid" if "wildcard" in how else "one.salt.invalid"
    call = ("settle", name, "A", "--at", cache.endpoint, "--within", "3s", "--json")
    there = run(*call, "--to", "192.0.2.12")
    assert (there.status, {row["settled"] for row in there.report["vantages"]}) == (0, {True}), there.out
    assert run(*call, "--to", "192.0.2.13").status == 1
    still = run(*call, "--gone")
    assert still.status == 1 and not any(row["settled"] for row in still.report["vantages"])
    held = run("settle", name, "A", "--within", "3s", "--json", "--at", cache.endpoint)
    assert held.status == 0, held.out


def test_an_alias_that_leads_to_nothing_is_gone_and_one_whose_end_nobody_tells_is_not(run: Run, served: Served) -> None:
    zone = ZONE.format(serial=1) + "one 300 CNAME nowhere\nlost 300 CNAME far.sea.invalid.\n"
    served("salt.invalid", zone, listed=1)
    call = ("settle", "--gone", "--within", "2s", "--json", "--timeout", "0.2", "--tries", "1")
    assert run(*call, "one.salt.invalid", "A").status == 0
    lost = run(*call, "lost.salt.invalid", "A")
    assert lost.status == 3 and {f["code"] for f in lost.report["findings"]} == {"settle.unverified"}


def test_the_budget_counts_every_link_and_an_alias_turned_elsewhere_is_a_change(
    run: Run, served: Served, tmp_path: Path
) -> None:
    (one,) = served("salt.invalid", ZONE.format(serial=1) + HOPS["two of them"], listed=1)
    told = run("budget", "one.salt.invalid", "A", "--json").report
    assert told["kept_s"] == 900 and "counted with the longest, that of two.salt.invalid. CNAME" in str(told["remarks"])
    assert run("snapshot", "before.jsonl", "one.salt.invalid", "--types", "A").status == 0
    assert run("compare", "before.jsonl").status == 0
    turned = "one 300 CNAME other\nother 60 A 192.0.2.13\n"
    one.authority.hold(read_zone(ZONE.format(serial=2) + turned, "salt.invalid"))
    done = run("compare", "before.jsonl", "--json")
    (finding,) = done.report["findings"]
    assert finding["code"] == "cmp.changed"
    assert "alias of two.salt.invalid." in finding["text"] and "alias of other.salt.invalid." in finding["text"]


def test_servers_have_a_change_only_where_they_have_all_of_it(run: Run, served: Served) -> None:
    zone = ZONE.format(serial=1)
    served("salt.invalid", zone + "shop A 192.0.2.11\nshop A 192.0.2.12\n", zone + "shop A 192.0.2.12\n", listed=2)
    told = run("budget", "shop.salt.invalid", "A", "--to", "192.0.2.12", "--json").report
    assert "1 of 2 authoritative servers (two) have 192.0.2.12 already" in str(told["remarks"])
    assert "the authoritative servers have" not in str(told["remarks"])

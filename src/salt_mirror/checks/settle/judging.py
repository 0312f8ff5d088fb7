"""Following a change until it has settled: who is asked when, and what each sighting means.

Strategy: a watch is a machine without clock or socket: it says what is due, and is told what was seen and when. Authoritative
servers are asked every few seconds until they have the goal; a cache is left alone until they all have it, since asking earlier
would plant the very "no" or the old value that is waited for; then it is asked once, and again when its entry runs out, which
its remaining TTL tells. Times are seconds since 1970; a clock that goes back is taken to stand still.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal

from salt_mirror.checks.settle.goals import Goal
from salt_mirror.dns.chains import chain_of
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import CNAME, DNSKEY, DS
from salt_mirror.dns.wire import is_authentic

EVERY_S = 5.0
"""How often an authoritative server is asked that does not have the goal yet."""
LONGEST_S = 60.0
"""The longest wait for another try at a server that gives no usable answer."""
PROBES = 3
"""So often the first record is asked at each cache, to see whether several stand behind one address."""
_ENOUGH_TRIES = 3
HOPELESS_TRIES = 5
"""So many tries without a usable answer in a row, and a watch does not wait for that server alone."""
_JUST_AFTER_S = 1.0


def looks_for(members: int) -> int:
    """Return how many looks in a row have to bring the new state, before no member is left with the old one: with so many, one
    that answers each time by chance is missed once in a thousand watches."""
    return 1 if members == 1 else 7 * members


State = Literal["waiting", "new", "old", "no", "silent"]
"""What a vantage was last seen with: nothing yet, the goal, other values, a "no", or no usable answer."""


@dataclass(slots=True)
class Vantage:
    """A server that is watched: an authoritative one, or a cache in a group of the estate.

    `members` counts the caches that were seen behind the one address; `notes` what is remarkable about it.
    """

    server: Server
    cache: bool
    group: str = ""
    members: int = 1
    notes: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Sighting:
    """What a vantage said of a goal at a moment. `ttl` in seconds, of the values or of the "no"; `trouble` why it is no use.

    `peeked`: it was asked without recursion, so that an empty answer means that nothing is cached. `soonest` is the TTL of the
    link of an alias chain that runs out first, where `ttl` is that of the last one; `beyond` the name at which a chain goes on
    in zones that this server does not have;
    `authentic` that it came as validated (AD, RFC 4035 section 3.2.3).
    """

    at: float
    values: tuple[bytes, ...]
    exists: bool
    ttl: int | None
    trouble: str | None = None
    peeked: bool = False
    soonest: int | None = None
    beyond: Name | None = None
    authentic: bool = False


def sighting_of(answer: Answer, at: float, *, peeked: bool = False, through: bool = True) -> Sighting:
    """Return an answer as a sighting, as a client sees it: `through` its aliases to their end.

    One that was `peeked` at comes without authority and without recursion, and may be empty.
    """
    trouble = answer.trouble
    if peeked and answer.status in ("NOERROR", "NXDOMAIN"):
        trouble = None
    if trouble is not None:
        return Sighting(at, (), answer.exists, answer.ttl, trouble, peeked)
    if answer.alias is not None and not through and answer.question.rdtype != CNAME:
        return Sighting(at, (), answer.exists, answer.ttl, None, peeked)
    chain = chain_of(answer)
    beyond = None if chain.ended or answer.alias is None else chain.name
    ttl, soonest = max(chain.ttls, default=None), min(chain.ttls, default=None)
    authentic = is_authentic(answer.message)
    return Sighting(at, chain.values, answer.exists, ttl, None, peeked, soonest, beyond, authentic)


@dataclass(slots=True)
class Slot:
    """One goal at one vantage. `expiries` are the moments at which entries with another state run out, one for each member of
    a pool that was seen; `settled_at` is when it was first known to have the goal for good, `predicted` when it should."""

    goal: Goal
    vantage: Vantage
    number: int
    state: State = "waiting"
    last: Sighting | None = None
    asked: int = 0
    streak: int = 0
    failures: int = 0
    expiries: list[float] = field(default_factory=list)
    fresh: list[float] = field(default_factory=list)
    new_since: float | None = None
    settled_at: float | None = None
    predicted: float | None = None
    under_way: bool = False
    due: float | None = None


def _validation_of(slot: Slot, sighting: Sighting) -> str:
    """Return what a cache makes of keys, or of the DS set that leads to them."""
    if sighting.trouble is not None:
        return f"bogus, or not to be had: it {sighting.trouble}"
    which = {"new": "the new", "old": "the old", "no": "that there is none"}.get(slot.state, "it")
    return f"validates {which}" if sighting.authentic else f"has {which}, without having validated it"


class Watch:
    """Goals watched from vantages. `peek` lets caches be asked without recursion before the authoritative servers are done.

    `gap_s` is the least time between two questions about one record to one cache, `tolerance_s` how far two tellings of one
    entry's end may lie apart; both grow with the speed of a clock that is not the world's.
    """

    def __init__(
        self,
        goals: Iterable[tuple[Goal, Iterable[Vantage]]],
        caches: Iterable[Vantage],
        now: float,
        *,
        peek: bool = False,
        gap_s: float = 1.0,
        tolerance_s: float = 2.5,
        every_s: float = EVERY_S,
    ) -> None:
        self.caches = list(caches)
        self.peek = peek
        self.began_at = self.now = now
        self.slots: list[Slot] = []
        self.authorities: dict[Goal, list[Slot]] = {}
        self.ready_at: dict[Goal, float] = {}
        self._gap_s, self._tolerance_s, self._every_s = gap_s, tolerance_s, every_s
        self._free_at: dict[Server, float] = {}
        self._heap: list[tuple[float, int]] = []
        self._queues: dict[Server, deque[Slot]] = {}
        self._turns: list[tuple[float, int, Server]] = []
        self._at_cache: dict[Goal, list[Slot]] = {}
        for goal, vantages in goals:
            self.authorities[goal] = [self._add(goal, vantage) for vantage in vantages]
            self._at_cache[goal] = [self._add(goal, vantage) for vantage in self.caches]
            for slot in self.authorities[goal]:
                self._schedule(slot, now)
            for slot in self._at_cache[goal] if peek else ():
                self._schedule(slot, now)

    def _add(self, goal: Goal, vantage: Vantage) -> Slot:
        slot = Slot(goal, vantage, len(self.slots))
        self.slots.append(slot)
        return slot

    def _schedule(self, slot: Slot, at: float) -> None:
        slot.due = max(at, self.now)
        heapq.heappush(self._heap, (slot.due, slot.number))

    # What is due

    def due(self, now: float) -> Iterator[Slot]:
        """Return the slots to ask now, each to be answered by `take`; a server is never asked faster than its pace."""
        self.now = max(self.now, now)
        while self._heap and self._heap[0][0] <= self.now:
            at, number = heapq.heappop(self._heap)
            slot = self.slots[number]
            if slot.due != at or slot.under_way:
                continue  # it was put off, or is being asked
            server = slot.vantage.server
            if server.pace and (server in self._queues or self._free_at.get(server, 0.0) > self.now):
                if server not in self._queues:
                    self._queues[server] = deque()
                    heapq.heappush(self._turns, (self._free_at[server], number, server))
                self._queues[server].append(slot)
            else:
                yield self._begin(slot)
        while self._turns and self._turns[0][0] <= self.now:
            _, number, server = heapq.heappop(self._turns)
            queue = self._queues[server]
            while queue:
                slot = queue.popleft()
                if slot.due is not None and slot.due <= self.now and not slot.under_way:
                    yield self._begin(slot)
                    break
            if queue:
                heapq.heappush(self._turns, (self._free_at[server], number, server))
            else:
                del self._queues[server]

    def _begin(self, slot: Slot) -> Slot:
        server = slot.vantage.server
        if server.pace:
            self._free_at[server] = self.now + 1.0 / server.pace
        slot.due = None
        slot.under_way = True
        slot.asked += 1
        return slot

    def recurses(self, slot: Slot) -> bool:
        """Return whether a slot is asked with recursion: a cache, once asking can plant nothing but the goal."""
        return slot.vantage.cache and slot.goal in self.ready_at

    def next_due(self) -> float | None:
        """Return when the next slot falls due; None when nothing is waited for but answers."""
        while self._heap and (self.slots[self._heap[0][1]].due != self._heap[0][0]):
            heapq.heappop(self._heap)
        nexts = [heap[0][0] for heap in (self._heap, self._turns) if heap]
        return min(nexts, default=None)

    # What was seen

    def take(self, slot: Slot, sighting: Sighting) -> bool:
        """Take in what was seen; True when that is news (another state, or settled)."""
        self.now = max(self.now, sighting.at)
        slot.under_way = False
        before = (slot.state, slot.settled_at is not None)
        if sighting.trouble is not None:
            self._unseen(slot, sighting)
        else:
            slot.failures = 0
            new = slot.goal.reached(sighting.values)
            if slot.goal.ttl is not None and not slot.vantage.cache:
                new = new and sighting.ttl == slot.goal.ttl
            if slot.vantage.cache:
                self._seen_in_cache(slot, sighting, new)
            else:
                self._seen_at_authority(slot, sighting, new)
        slot.last = sighting
        if slot.vantage.cache and slot.goal.rdtype in (DS, DNSKEY):
            slot.vantage.notes["validation"] = _validation_of(slot, sighting)
        self._open_caches(slot.goal)
        return (slot.state, slot.settled_at is not None) != before

    def recall(self, slot: Slot, sighting: Sighting) -> None:
        """Take in what an earlier run of the watch saw, as if it had been asked here."""
        slot.asked += 1
        slot.due = None
        self.take(slot, sighting)

    def _unseen(self, slot: Slot, sighting: Sighting) -> None:
        slot.failures += 1
        slot.state = "silent" if slot.settled_at is None else slot.state
        if sighting.peeked:
            slot.vantage.notes["no-peeking"] = "it does not answer from its cache without recursion"
            return
        if slot.settled_at is None:
            self._schedule(
                slot, self.now + min(LONGEST_S, max(self._gap_s, self._every_s) * 2 ** min(slot.failures - 1, 6))
            )

    def _seen_at_authority(self, slot: Slot, sighting: Sighting, new: bool) -> None:
        if new:
            slot.state, slot.settled_at = "new", slot.settled_at or self.now
            return
        slot.settled_at = None
        slot.state = "old" if sighting.values else "no"
        self._schedule(slot, self.now + self._every_s)

    def _seen_in_cache(self, slot: Slot, sighting: Sighting, new: bool) -> None:
        ends = self.now + (sighting.ttl or 0)
        if new:
            slot.state = "new"
            slot.streak += 1
            slot.new_since = slot.new_since if slot.new_since is not None else self.now
            self._count(slot, slot.fresh, ends)
            self._conclude(slot)
            return
        if sighting.peeked and not sighting.values and sighting.ttl is None:
            slot.state = (
                "waiting"  # nothing is cached: whoever asks next gets what the authoritative servers have by then
            )
            return
        slot.state = "old" if sighting.values else "no"
        slot.streak = 0
        slot.new_since = slot.settled_at = None
        if sighting.ttl is not None:  # without a TTL nothing is known of an end, and nobody has outlived it
            self._count(slot, slot.expiries, ends)
            self._holds_on(slot)
        slot.predicted = max(slot.expiries, default=None)
        probing = slot.goal is self._first_goal and slot.asked < PROBES
        next_end = min((end for end in slot.expiries if end > self.now), default=self.now)
        if sighting.soonest is not None:  # a link that runs out before the others may be the one that has changed
            next_end = min(next_end, self.now + sighting.soonest)
        wait = self._gap_s if probing else max(self._gap_s, next_end + _JUST_AFTER_S - self.now)
        self._schedule(slot, self.now + wait)

    @property
    def _first_goal(self) -> Goal | None:
        return next(iter(self.authorities), None)

    def _count(self, slot: Slot, ends: list[float], end: float) -> None:
        """Count the members of a pool by the ends of their entries: one that does not fit any known end is another's."""
        ends[:] = [one for one in ends if one > self.now - self._tolerance_s or ends is slot.expiries]
        if not any(abs(one - end) <= self._tolerance_s for one in ends):
            ends.append(end)
        # Entries that have not run out are as many caches: one with the new state and one with the old are two.
        later = self.now + self._tolerance_s
        there = sum(one > later for one in (*slot.expiries, *slot.fresh))
        if there > slot.vantage.members:
            slot.vantage.members = there
            self._reopen(slot.vantage)

    def _conclude(self, slot: Slot) -> None:
        """Settle a cache that has the goal, once every member that was seen has had its turn."""
        coming = [end for end in slot.expiries if end > self.now]
        need = looks_for(slot.vantage.members)
        if slot.goal is self._first_goal:
            need = max(need, PROBES)
        if not coming and slot.streak >= need:
            slot.settled_at = slot.settled_at or slot.new_since
            slot.predicted = slot.predicted or slot.new_since
            return
        wait = self._gap_s if slot.streak < need else min(coming) + _JUST_AFTER_S - self.now
        self._schedule(slot, self.now + max(self._gap_s, wait))

    def _reopen(self, vantage: Vantage) -> None:
        """A pool turned out to be larger: what was settled on fewer looks is looked at again."""
        for slot in self.slots:
            if slot.vantage is vantage and slot.settled_at is not None and slot.streak < looks_for(vantage.members):
                slot.settled_at = None
                self._schedule(slot, self.now + self._gap_s)

    def _holds_on(self, slot: Slot) -> None:
        """Notes a cache that gives the old state after the end that it told itself, again and again."""
        ready_at = self.ready_at.get(slot.goal)
        if ready_at is None or slot.vantage.members > 1:
            return
        passed = sorted(end for end in slot.expiries if ready_at < end < self.now)
        if len(passed) > 1:
            late = round(self.now - passed[0])
            slot.vantage.notes["holds-on"] = (
                f"by its own TTL its entry expired {late} s ago, and it gave the old state {len(passed)} times since"
            )

    def _open_caches(self, goal: Goal) -> None:
        """Let the caches be asked as soon as every authoritative server that can be asked has the goal."""
        if goal in self.ready_at:
            return
        slots = self.authorities[goal]
        done = all(slot.settled_at is not None or slot.failures >= _ENOUGH_TRIES for slot in slots)
        if done and any(slot.settled_at is not None for slot in slots):
            self.ready_at[goal] = self.now
            for slot in self._at_cache[goal]:
                if slot.settled_at is None and not slot.under_way:
                    self._schedule(slot, self.now)

    # Where it stands

    @property
    def settled(self) -> int:
        """How many slots have settled."""
        return sum(slot.settled_at is not None for slot in self.slots)

    @property
    def done(self) -> bool:
        """Whether all have settled."""
        return all(slot.settled_at is not None for slot in self.slots)

    @property
    def hopeless(self) -> bool:
        """Whether nothing is left to wait for but servers that have given no usable answer again and again."""
        left = [slot for slot in self.slots if slot.settled_at is None]
        waiting = {slot.goal for slot in left if slot.state == "waiting"}
        blocked = all(goal not in self.ready_at and self._unasked(goal) for goal in waiting)
        silent = [slot for slot in left if slot.state != "waiting"]
        return bool(silent) and blocked and all(slot.failures >= HOPELESS_TRIES for slot in silent)

    def _unasked(self, goal: Goal) -> bool:
        """Return whether a goal's authoritative servers are all beyond hope, so that no cache will ever be asked."""
        return all(slot.failures >= HOPELESS_TRIES for slot in self.authorities[goal])

    def last_due(self) -> float | None:
        """Return when the last cache is due to let go, as far as their remaining TTLs tell; None when nothing is known."""
        return max((slot.predicted for slot in self.slots if slot.settled_at is None and slot.predicted), default=None)


def vantages(found: list[tuple[Goal, tuple[Server, ...]]]) -> list[tuple[Goal, list[Vantage]]]:
    """Return a vantage for each authoritative server, shared by the goals."""
    made: dict[Server, Vantage] = {}
    return [
        (goal, [made.setdefault(server, Vantage(server, cache=False)) for server in servers]) for goal, servers in found
    ]

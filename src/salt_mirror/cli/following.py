"""The work of `settle`: goals and vantages from the command line, and the loop between the watch, the engine and the screen.

Strategy: the watch says what is due and the engine asks it; a moment later it is told what came. The clock is the monotonic
one, set to the time of day once, so that nobody who sets the computer's clock disturbs a watch.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.settling.watch import Goal, Sighting, Slot, Vantage, Watch, sighting_of
from salt_mirror.dns.dialogue import Dialogue, Runner, together
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.names import BadName, Name, from_text, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, PTR, SOA, A, BadRecord, rdata_from_text, type_from_text
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation

_LOOK_S = 0.2
"""The longest time in which nothing is drawn or looked at."""


class Clock:
    """Seconds since 1970, that never go back. With a `speed` they go by so many times as fast (for the demo's world)."""

    def __init__(self, speed: float = 1.0) -> None:
        self.speed = speed
        self._wall = time.time()
        self._begin = time.monotonic()

    def __call__(self) -> float:
        return self._wall + (time.monotonic() - self._begin) * self.speed


def goal_of(name: Name, rdtype: int, to: Iterable[str], *, gone: bool) -> Goal:
    """The goal that the command line names. Raises BadInput."""
    try:
        values = frozenset(rdata_from_text(rdtype, text) for text in to)
    except (BadRecord, ValueError) as error:
        raise BadInput(f"--to: {error}") from None
    if gone and values:
        raise BadInput("--to and --gone contradict each other")
    return Goal(name, rdtype, values)


def goals_of(expectations: Iterable[Expectation]) -> list[Goal]:
    """A goal for each RRset of a list; the SOA left out. One that must be absent altogether has no values."""
    sets: dict[tuple[Name, int], set[bytes]] = {}
    open_ones: set[tuple[Name, int]] = set()
    for one in expectations:
        if one.rdtype == SOA:
            continue
        key = (one.name, one.rdtype)
        values = sets.setdefault(key, set())
        if one.presence != "absent":
            values.add(one.rdata)
            if one.presence == "present":
                open_ones.add(key)
    return [Goal(*key, frozenset(values), key in open_ones and bool(values)) for key, values in sets.items()]


def registration(host: str, address: str, suffix: Name | None) -> list[Goal]:
    """The goals of a host's registration: its address, and the pointer that leads back. Raises BadInput."""
    import ipaddress

    try:
        packed = ipaddress.ip_address(address).packed
        name = from_text(host, suffix if "." not in host else None)
    except (BadName, ValueError) as error:
        raise BadInput(f"--registered: {error}") from None
    return [
        Goal(name, A if len(packed) == 4 else AAAA, frozenset((packed,)), among_others=True),
        Goal(reverse_name(packed), PTR, frozenset((name,)), among_others=True),
    ]


def type_of(text: str) -> int:
    """A type from the command line. Raises BadInput."""
    try:
        return type_from_text(text)
    except BadRecord as error:
        raise BadInput(str(error)) from None


def authorities_of(goals: list[Goal], view: str, atlas: Atlas, engine: Engine) -> list[tuple[Goal, tuple[Server, ...]]]:
    """The authoritative servers of each goal. Raises BadInput for a name that has none."""

    def find(goal: Goal) -> Dialogue[tuple[Goal, tuple[Server, ...], str]]:
        authority = atlas.known(goal.name, view)
        if authority is None:
            authority = yield from atlas.find(goal.name, view)
        return goal, authority.servers, authority.trouble or "it has no server"

    found = list(Runner(engine).run(find(goal) for goal in goals))
    for goal, servers, why in found:
        if not servers:
            raise BadInput(f"{to_text(goal.name)} cannot be watched: {why}")
    order = {goal: number for number, goal in enumerate(goals)}
    return sorted(((goal, servers) for goal, servers, _ in found), key=lambda one: order[one[0]])


def held_values(measure: Server | None, found: list[tuple[Goal, tuple[Server, ...]]], engine: Engine) -> list[Goal]:
    """The goals with the values that a server holds now: the measure, or each goal's first authoritative server."""

    def ask(goal: Goal, server: Server) -> Dialogue[Goal]:
        (answer,) = yield [Question(goal.name, goal.rdtype, server)]
        if answer.trouble is not None:
            raise BadInput(f"{server.label} cannot be the measure: {answer.trouble}")
        return Goal(goal.name, goal.rdtype, frozenset(answer.values))

    def all_of() -> Dialogue[list[Goal]]:
        return (yield from together([ask(goal, measure or servers[0]) for goal, servers in found]))

    (held,) = Runner(engine).run([all_of()])
    return held


@dataclass(slots=True)
class Screen:
    """Who is told of what happens: `news` of each event, `look` every moment."""

    news: Callable[[Slot], None]
    look: Callable[[Watch], None]


def vantages(found: list[tuple[Goal, tuple[Server, ...]]]) -> list[tuple[Goal, list[Vantage]]]:
    """A vantage for each authoritative server, shared by the goals."""
    made: dict[Server, Vantage] = {}
    return [
        (goal, [made.setdefault(server, Vantage(server, cache=False)) for server in servers]) for goal, servers in found
    ]


def follow(
    watch: Watch,
    engine: Engine,
    clock: Clock,
    screen: Screen,
    *,
    within_s: float | None,
    record: Callable[[Slot, Sighting], None],
) -> bool:
    """Follows a watch until all have settled, nobody is left but the silent, or the time is over; True when it was."""
    under_way: dict[Question, Slot] = {}
    over_at = watch.began_at + within_s if within_s is not None else None
    while not watch.done and not watch.hopeless:
        now = clock()
        if over_at is not None and now >= over_at:
            return True
        for slot in list(watch.due(now)):
            question = Question(slot.goal.name, slot.goal.rdtype, slot.vantage.server, watch.recurses(slot))
            under_way[question] = slot
            engine.submit(question)
        screen.look(watch)
        due = watch.next_due()
        wait = _LOOK_S if due is None else min(_LOOK_S, max(0.0, (due - clock()) / clock.speed))
        if engine.backlog:
            for answer in engine.collect(wait):
                slot = under_way.pop(answer.question)
                peeked = slot.vantage.cache and not answer.question.recurse
                sighting = sighting_of(answer, clock(), peeked=peeked)
                if watch.take(slot, sighting):
                    screen.news(slot)
                record(slot, sighting)
        else:
            time.sleep(min(wait, _LOOK_S) or 0.001)
    screen.look(watch)
    return False

"""The engine: many questions to many servers at once, and for every one an answer or the reason why there is none.

Strategy: one lane for each server, one poll for all their sockets, and no thread (but HTTPS has its own). `collect` works
until at least one question has ended; whoever calls it decides what to ask next, and before it returns the windows are
filled up again, so that the servers work while the answers are being thought about.
"""

from __future__ import annotations

import selectors
import time
from collections import deque
from collections.abc import Callable, Sequence
from typing import Any, Protocol

from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.screening import ForeseenSet, ScreenTally
from salt_mirror.dns.traffic.descriptors import most_sockets
from salt_mirror.dns.traffic.lane import Lane
from salt_mirror.dns.traffic.manners import Pace

TIMEOUT_S = 1.0
TRIES = 3
_TIMER_GRAIN_S = 0.005
_LONGEST_S = 0.5
MOST_OF_A_LANE = 3
"""Two sockets for datagrams while the port changes, and a stream."""


class Carrier(Protocol):
    """What the engine needs of the traffic with one server, over whatever transport."""

    waiting: deque[Any]
    strays: int
    late: int

    @property
    def busy(self) -> bool: ...
    @property
    def sockets(self) -> int: ...
    def rest(self) -> None: ...
    def fill(self, now: float) -> None: ...
    def expire(self, now: float) -> None: ...
    def next_due(self, now: float) -> float | None: ...
    def close(self) -> None: ...


class Engine:
    """Puts questions to servers, over UDP with retries, over TCP where UDP does not serve, or as the server demands.

    `timeout_s` is the wait for a first try as long as the server's round-trip time is unknown; each further try waits
    twice as long as the one before, and no question is given up before the waits of all `tries` have passed. A question's
    status is an rcode's name or a reason of `dns.questions`.
    """

    def __init__(
        self, *, timeout_s: float = TIMEOUT_S, tries: int = TRIES, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self.backlog = 0
        self._timeout_s = timeout_s
        self._tries = tries
        self._clock = clock
        self._selector = selectors.DefaultSelector()
        self._queues: dict[Server, deque[Any]] = {}
        self._lanes: dict[Server, Carrier] = {}
        self._paces: dict[tuple[bytes, int, str, str], Pace] = {}
        self._done: list[Answer] = []
        self.tally = ScreenTally()
        self._most_sockets = most_sockets()
        self._held: set[Carrier] = set()
        self._timers_at = 0.0
        self._idle = False

    def submit(self, question: Question) -> None:
        """Take a question; `collect` returns its answer sooner or later, whatever happens."""
        self.backlog += 1
        try:
            self._queues[question[2]].append(question)
        except KeyError:
            self._begin_lane(question.server)
            self._queues[question.server].append(question)

    def foresee(self, sets: Sequence[ForeseenSet]) -> None:
        """Take sets that are to be asked for, each on all of its servers, and compared where they come in."""
        queues = self._queues
        for one in sets:
            servers = one.servers
            self.backlog += len(servers)
            for server in servers:
                try:
                    queues[server].append(one)
                except KeyError:
                    self._begin_lane(server)
                    queues[server].append(one)

    def _begin_lane(self, server: Server) -> None:
        lane = self._open(server)
        self._lanes[server] = lane
        self._queues[server] = lane.waiting

    def submit_all(self, server: Server, questions: list[Question]) -> None:
        """Take questions that are all for one server."""
        if questions:
            self.submit(questions[0])
            self._queues[server].extend(questions[1:])
            self.backlog += len(questions) - 1

    def _pace_of(self, server: Server) -> Pace | None:
        """Return the pace of whatever is at an address, port and transport, under how many names it may be asked."""
        if not server.pace:
            return None
        pace = self._paces.setdefault((server.address, server.port, server.over, server.url), Pace(server.pace))
        pace.slow_to(server.pace)
        return pace

    def _open(self, server: Server) -> Carrier:
        pace = self._pace_of(server)
        if server.over == "https":
            from salt_mirror.dns.traffic.https import HttpsLane

            return HttpsLane(server, self._selector, self._done.append, budget_s=self._budget_s, pace=pace)
        if server.over in ("tls", "tcp", "transfer", "update"):
            from salt_mirror.dns.traffic.stream import StreamLane

            return StreamLane(server, self._selector, self._done.append, budget_s=self._budget_s, pace=pace)
        return Lane(
            server,
            self._selector,
            self._done.append,
            timeout_s=self._timeout_s,
            tries=self._tries,
            pace=pace,
            tally=self.tally,
        )

    @property
    def _budget_s(self) -> float:
        return float(self._timeout_s * (2**self._tries - 1))

    def collect(self, wait_s: float | None = None) -> list[Answer]:
        """Work until at least one question has ended and return those that have; empty when none is under way, or when
        `wait_s` have passed without any. Subjects of which all was as foreseen are in the tally, and end the wait as well."""
        clock, tally = self._clock, self.tally
        now = clock()
        until = now + wait_s if wait_s is not None else None
        self._fill(now)
        while not self._done and not tally.passed and self.backlog:
            patience = self._patience(clock())
            if until is not None:
                left = until - clock()
                if left <= 0:
                    break
                patience = min(patience, left)
            ready = self._selector.select(patience)
            self._idle = not ready
            now = clock()
            for key, events in ready:
                key.data(key.fileobj, events, now)
            if tally.matched:
                self.backlog -= tally.matched
                tally.matched = 0
            if now >= self._timers_at:
                self._timers_at = now + _TIMER_GRAIN_S
                for lane in self._lanes.values():
                    if lane.busy:
                        lane.expire(now)
            self._fill(now)
        done = self._done.copy()
        self._done.clear()
        self.backlog -= len(done)
        return done

    def _fill(self, now: float) -> None:
        if len(self._lanes) * MOST_OF_A_LANE > self._most_sockets:
            self._fill_in_turns(now)
            return
        for lane in self._lanes.values():
            if lane.waiting:
                lane.fill(now)

    def _fill_in_turns(self, now: float) -> None:
        """The same for more servers than sockets may be open: those without one wait until others have ended, and rest."""
        lanes = self._lanes.values()
        for lane in lanes:
            if lane.sockets and not lane.busy:
                lane.rest()
        room = self._most_sockets - sum(max(lane.sockets, MOST_OF_A_LANE) for lane in lanes if lane.sockets)
        working = any(lane.busy and lane.sockets for lane in lanes)
        self._held = set()
        for lane in lanes:
            if not lane.waiting:
                continue
            if lane.sockets or room >= MOST_OF_A_LANE or not working:
                room -= 0 if lane.sockets else MOST_OF_A_LANE
                working = True
                lane.fill(now)
            else:
                self._held.add(lane)

    def _patience(self, now: float) -> float:
        """Return how long nothing has to be done unless something arrives, in seconds."""
        if self._timers_at > now and not self._idle:
            return self._timers_at - now  # while answers pour in, deadlines are looked at in this grain alone
        dues = [
            due
            for lane in self._lanes.values()
            if lane.busy and lane not in self._held and (due := lane.next_due(now)) is not None
        ]
        return min(_LONGEST_S, max(0.0, min(dues, default=now + _LONGEST_S) - now))

    @property
    def strays(self) -> int:
        """How many datagrams came in that answered nothing."""
        return sum(lane.strays for lane in self._lanes.values())

    @property
    def late(self) -> int:
        """How many replies came to questions that had been sent again, or given up."""
        return sum(lane.late for lane in self._lanes.values())

    def close(self) -> None:
        """Close every socket."""
        for lane in self._lanes.values():
            lane.close()
        self._selector.close()

    def __enter__(self) -> Engine:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

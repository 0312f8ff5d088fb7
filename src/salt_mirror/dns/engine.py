"""The engine: many questions to many servers at once, and for every one an answer or the reason why there is none.

Strategy: one lane for each server with a connected, non-blocking UDP socket, one poll for all of them, and no thread.
Only lanes that have something to do are looked at. `collect` works until at least one question has ended; whoever calls it
decides what to ask next, and the windows fill up again at the next call.
"""

from __future__ import annotations

import selectors
import time
from collections.abc import Callable

from salt_mirror.dns.lane import Lane
from salt_mirror.dns.questions import UNREACHABLE, Answer, Question, Server
from salt_mirror.dns.stream import Stream

TIMEOUT_S = 1.0
TRIES = 3
WINDOW = 96
_TIMER_GRAIN_S = 0.005


class Engine:
    """Puts questions to servers over UDP, with retries, and over TCP where an answer is truncated.

    `timeout_s` is the wait for the first try; each further one waits twice as long as the one before. `window` is the
    most questions under way to one server. A question's status is an rcode's name or a reason of `dns.questions`.
    """

    def __init__(
        self,
        *,
        timeout_s: float = TIMEOUT_S,
        tries: int = TRIES,
        window: int = WINDOW,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.backlog = 0
        self._timeout_s = timeout_s
        self._tries = tries
        self._window = window
        self._clock = clock
        self._selector = selectors.DefaultSelector()
        self._lanes: dict[Server, Lane] = {}
        self._streams: dict[Server, Stream] = {}
        self._busy: dict[Lane, None] = {}
        self._done: list[Answer] = []
        self._timers_at = 0.0
        self._idle = False

    def submit(self, question: Question) -> None:
        """Takes a question; `collect` returns its answer sooner or later, whatever happens."""
        self.backlog += 1
        lane = self._lanes.get(question.server)
        if lane is None:
            lane = self._open_lane(question.server)
        if lane.sock is None:
            self._finish(Answer(question, UNREACHABLE, tries=0))
            return
        lane.waiting.append(question)
        self._busy[lane] = None

    def collect(self) -> list[Answer]:
        """Works until at least one question has ended and returns those that have; empty when none is under way."""
        clock = self._clock
        while not self._done and self.backlog:
            now = clock()
            for lane in self._busy:
                if lane.waiting:
                    lane.fill(now, self._finish)
            if self._done:
                break
            ready = self._selector.select(self._patience(now))
            self._idle = not ready
            for key, events in ready:
                if isinstance(key.data, Lane):
                    key.data.receive(now, clock, self._finish)
                    if key.data.to_stream:
                        self._to_stream(key.data)
                else:
                    key.data.ready(events, clock, self._finish)
            now = clock()
            if now >= self._timers_at:
                self._timers_at = now + _TIMER_GRAIN_S
                self._expire(now)
        done = self._done
        self._done = []
        return done

    @property
    def strays(self) -> int:
        """How many datagrams came in that answered nothing."""
        return sum(lane.strays for lane in self._lanes.values())

    def close(self) -> None:
        """Closes every socket."""
        for stream in self._streams.values():
            stream.close()
        for lane in self._lanes.values():
            if lane.sock is not None:
                lane.sock.close()
        self._selector.close()

    def __enter__(self) -> Engine:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _finish(self, answer: Answer) -> None:
        self.backlog -= 1
        self._done.append(answer)

    def _open_lane(self, server: Server) -> Lane:
        lane = Lane(server, timeout_s=self._timeout_s, tries=self._tries, window=self._window)
        self._lanes[server] = lane
        sock = lane.open()
        if sock is not None:
            self._selector.register(sock, selectors.EVENT_READ, lane)
        return lane

    def _to_stream(self, lane: Lane) -> None:
        stream = self._streams.get(lane.server)
        if stream is None:
            budget_s = self._timeout_s * (2**self._tries - 1)
            stream = self._streams[lane.server] = Stream(lane.server, self._selector, budget_s)
        for flight in lane.to_stream:
            stream.submit(flight, self._clock())
        lane.to_stream.clear()

    def _patience(self, now: float) -> float:
        """How long nothing has to be done unless something arrives, in seconds."""
        if self._timers_at > now and not self._idle:
            return self._timers_at - now  # while answers pour in, deadlines are looked at in this grain alone
        dues = [due for lane in self._busy if (due := lane.next_due()) is not None]
        dues += [due for stream in self._streams.values() if (due := stream.next_due()) is not None]
        return max(0.0, min(dues) - now) if dues else 0.05

    def _expire(self, now: float) -> None:
        for lane in list(self._busy):
            lane.expire(now, self._finish)
            if not lane.flights and not lane.waiting:
                del self._busy[lane]
        for stream in self._streams.values():
            if stream.flights:
                stream.expire(now, self._finish)

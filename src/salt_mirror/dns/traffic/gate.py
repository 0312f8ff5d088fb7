"""What waits for a server that is spoken to over a connection, and how much of it may go: its pace and its breaker at work.

Strategy: the lanes over TLS and over HTTPS differ in how they carry a question, not in when; that part is here once.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

from salt_mirror.dns.questions import SILENCED, Answer, Question, Server
from salt_mirror.dns.traffic.manners import Breaker, Pace


class Gate:
    """The questions that wait for one server. `done` receives the answers of those that are not put to it at all."""

    def __init__(self, server: Server, done: Callable[[Answer], None], pace: Pace | None) -> None:
        self.waiting: deque[Question] = deque()
        self._over = server.over
        self._done = done
        self._breaker = Breaker()
        self._pace = pace

    def pass_on(self, now: float, window: int, under_way: int) -> list[Question]:
        """Return the questions that may go now. While the server is silent that is a probe now and then, and the others end."""
        room = window - under_way
        if self._breaker.open:
            room = 1 if self.waiting and not under_way and self._breaker.probes(now) else 0
        if self._pace is not None:
            room = min(room, self._pace.allowance(now))
        number = max(0, min(room, len(self.waiting)))
        if self._pace is not None:
            self._pace.spend(number)
        going = [self.waiting.popleft() for _ in range(number)]
        while self._breaker.open and self.waiting:
            self._done(Answer(self.waiting.popleft(), SILENCED, tries=0, over=self._over))
        return going

    def ended(self, answer: Answer, now: float) -> None:
        """Take in how a question ended."""
        if answer.message:
            self._breaker.heard()
        else:
            self._breaker.unheard(now)

    def next_due(self, now: float, window: int, under_way: int) -> float | None:
        """Return when the next question may go, where the pace alone holds it back: a full window opens by an answer, not by
        time."""
        if self._pace is None or not self.waiting or under_way >= window:
            return None
        return now + self._pace.wait_s()

"""When what was sent has to be answered.

Strategy: one queue for each try, in the order in which they fall due, and first tries a batch at a time, so that nobody
searches for a timer. What was answered in the meantime stays in its queue until its turn comes, and is passed over then.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator

from salt_mirror.dns.traffic.flight import Flight


class Deadlines:
    """The deadlines of one lane, in seconds on the engine's clock."""

    __slots__ = ("_firsts", "_flights")

    def __init__(self, tries: int) -> None:
        self._firsts: deque[tuple[float, float, list[bytes]]] = deque()
        self._flights: list[deque[Flight]] = [deque() for _ in range(tries)]

    def expect_firsts(self, batch: list[bytes], sent_at: float, due: float) -> None:
        """Take in first tries that were sent together, by their ids."""
        self._firsts.append((due, sent_at, batch))

    def expect(self, flight: Flight) -> None:
        """Take in a flight after one of its tries."""
        self._flights[flight.tries - 1].append(flight)

    def late_firsts(self, now: float) -> Iterator[tuple[float, list[bytes]]]:
        """Hand out the batches of first tries of which the time is over, answered or not, each with when it was sent."""
        while self._firsts and self._firsts[0][0] <= now:
            yield self._firsts.popleft()[1:]

    def late(self, now: float) -> Iterator[Flight]:
        """Hand out the flights that wait for an answer in vain."""
        for tries, queue in enumerate(self._flights, start=1):
            while queue and (_is_over(queue[0], tries) or queue[0].deadline <= now):
                flight = queue.popleft()
                if not _is_over(flight, tries):
                    yield flight

    def next_due(self, *, firsts: bool) -> float | None:
        """Return when the next one falls due; first tries only count where any is under way."""
        soonest = self._firsts[0][0] if firsts and self._firsts else None
        for tries, queue in enumerate(self._flights, start=1):
            while queue and _is_over(queue[0], tries):
                queue.popleft()
            if queue and (soonest is None or queue[0].deadline < soonest):
                soonest = queue[0].deadline
        return soonest


def _is_over(flight: Flight, tries: int) -> bool:
    """Return whether a flight has ended, or has been sent again since."""
    return flight.landed or flight.tries != tries

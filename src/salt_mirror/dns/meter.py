"""How long answers take: an exchange that passes everything on and counts round trips."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence

from salt_mirror.dns.dialogue import Exchange
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.screening import ForeseenSet, ScreenTally

BUCKETS_S = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0)
"""The upper ends of the round-trip histogram, in seconds."""


class Meter:
    """An exchange that counts the round trips of the answers that come through it."""

    def __init__(self) -> None:
        self._behind: Exchange | None = None
        self._counts = [0] * (len(BUCKETS_S) + 1)
        self.sum_s = 0.0

    def through(self, behind: Exchange) -> Exchange:
        """Return the exchange that is counted, with the meter before it."""
        self._behind = behind
        return self

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way."""
        return self._exchange.backlog

    def submit(self, question: Question) -> None:
        """Take a question."""
        self._exchange.submit(question)

    def collect(self) -> list[Answer]:
        """Hand answers on."""
        answers = self._exchange.collect()
        for answer in answers:
            rtt_ms = answer[7]
            if rtt_ms is not None:
                self.sum_s += rtt_ms / 1000.0
                self._counts[bisect_left(BUCKETS_S, rtt_ms / 1000.0)] += 1
        tally = self.tally
        if tally is not None and tally.trips_s:
            for trip_s in tally.trips_s:
                self.sum_s += trip_s
                self._counts[bisect_left(BUCKETS_S, trip_s)] += 1
            tally.trips_s.clear()
        return answers

    @property
    def tally(self) -> ScreenTally | None:
        """What was compared where it came in."""
        found: ScreenTally | None = getattr(self._exchange, "tally", None)
        return found

    def foresee(self, sets: Sequence[ForeseenSet]) -> None:
        """Take sets that are compared where they come in."""
        self._exchange.foresee(sets)  # type: ignore[attr-defined]

    @property
    def _exchange(self) -> Exchange:
        assert self._behind is not None
        return self._behind

    def histogram(self) -> dict[str, int]:
        """Return how many answers took at most so many seconds, by that; the last for all of them."""
        found, total = {}, 0
        for end, count in zip((*map(str, BUCKETS_S), "+Inf"), self._counts, strict=True):
            total += count
            found[end] = total
        return found

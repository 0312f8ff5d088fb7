"""How hard one server may be asked: its round-trip time, its window, its pace, and whether it still answers.

Strategy: small pieces of arithmetic without sockets or clock, so that each rule can be tried by itself. The window grows
while answers come and is halved when one is lost, like TCP's (RFC 5681); the time to wait comes from measured round
trips (RFC 6298); the pace is a bucket of tokens; the breaker probes a server that has stopped answering.
"""

from __future__ import annotations

FIRST_WINDOW = 32.0
LEAST_WINDOW = 16.0
MOST_WINDOW = 192.0
LEAST_WAIT_S = 0.1
"""No question is sent again sooner, however near the server is: it may only be busy for a moment."""

NEVER_HEARD = 2
"""After this many questions without any answer, a server that has never answered is taken for silent."""
HEARD_BEFORE = 8
"""The same for a server that has answered before."""
PROBE_EVERY_S = 1.0
HOLD_S = 5.0
"""So long questions wait for a server that has answered before: it may only be starting anew."""
AGAIN = 3
"""So often one question may wait for that."""
HOLDS = 2
"""So often, in the life of a lane."""


class RoundTrips:
    """The smoothed round-trip time and its variation, in seconds (RFC 6298 section 2)."""

    __slots__ = ("_most_s", "smoothed_s", "variation_s", "wait_s")

    def __init__(self, most_s: float) -> None:
        """`most_s`: the longest wait for a first try, and the wait as long as nothing is measured."""
        self._most_s = most_s
        self.smoothed_s: float | None = None
        self.variation_s = 0.0
        self.wait_s = most_s

    def heard(self, took_s: float) -> None:
        """Take one measurement, of a question that was sent once."""
        if self.smoothed_s is None:
            self.smoothed_s, self.variation_s = took_s, took_s / 2
        else:
            # RFC 6298 section 2.3: the variation first, since it goes by the smoothed time before this measurement.
            self.variation_s += (abs(self.smoothed_s - took_s) - self.variation_s) / 4
            self.smoothed_s += (took_s - self.smoothed_s) / 8
        self.wait_s = min(self._most_s, max(LEAST_WAIT_S, self.smoothed_s + 4 * self.variation_s))


class Window:
    """How many questions may be under way at once. Grows with answers, fast until the first loss; halves with losses."""

    __slots__ = ("_fast", "_shrunk_at", "most", "size")

    def __init__(self, most: float = MOST_WINDOW) -> None:
        self.most = most
        self.size = min(FIRST_WINDOW, most)
        self._fast = True
        self._shrunk_at = float("-inf")

    def heard(self, answers: int) -> None:
        """Take in that so many answers came."""
        if self.size < self.most:
            # Doubles in a round trip until the first loss, then grows by one (RFC 5681 section 3.1).
            self.size = min(self.most, self.size + (answers if self._fast else answers / self.size))

    def lost(self, now: float, wait_s: float) -> None:
        """Take in that something was lost; once in a retry's wait, since losses come in swarms."""
        # One full window of losses is one event: without this, 100 lost datagrams would halve the window 100 times.
        if now - self._shrunk_at >= wait_s:
            self._shrunk_at = now
            self._fast = False
            self.size = max(LEAST_WINDOW, self.size / 2)


class Pace:
    """A bucket of tokens: so many questions a second, and a tenth of a second's worth at once."""

    __slots__ = ("_filled_at", "_per_s", "_room", "_tokens")

    def __init__(self, per_s: float) -> None:
        self._per_s = per_s
        self._room = max(1.0, per_s / 10)
        self._tokens = self._room
        self._filled_at: float | None = None

    def slow_to(self, per_s: float) -> None:
        """Hold it to a slower pace, where this is one."""
        if per_s < self._per_s:
            self._per_s, self._room = per_s, max(1.0, per_s / 10)

    def allowance(self, now: float) -> int:
        """Return how many questions may go now."""
        if self._filled_at is not None:
            self._tokens = min(self._room, self._tokens + (now - self._filled_at) * self._per_s)
        self._filled_at = now
        # Without the grain, 0.1 + 0.2 of a token would never be a whole one, and the last question of a second would wait.
        return int(self._tokens + 1e-9)

    def spend(self, number: int) -> None:
        """Take tokens for questions that were sent."""
        self._tokens -= number

    def wait_s(self) -> float:
        """Seconds until the next question may go."""
        return max(0.0, (1.0 - self._tokens) / self._per_s)


class Breaker:
    """Whether a server still answers. Open: questions to it end at once, but for a probe now and then; those to one that has
    answered before wait for a while first."""

    __slots__ = ("_heard", "_hold_until", "_holds", "_probe_at", "_unheard", "open")

    def __init__(self) -> None:
        self.open = False
        self._holds = HOLDS
        self._hold_until = 0.0
        self._heard = False
        self._unheard = 0
        self._probe_at = 0.0

    @property
    def ever_heard(self) -> bool:
        """Whether it has answered anything so far."""
        return self._heard

    def heard(self) -> None:
        """Take in that it answered."""
        self._heard = True
        self._unheard = 0
        self.open = False

    def unheard(self, now: float) -> None:
        """Take in that a question ended without an answer, all its tries spent."""
        self._unheard += 1
        if not self.open and self._unheard >= (HEARD_BEFORE if self._heard else NEVER_HEARD):
            self.open = True
            self._probe_at = now + PROBE_EVERY_S
            # A server that has answered is most likely being restarted: what waits is held for some seconds, twice at most.
            if self._heard and self._holds:
                self._holds -= 1
                self._hold_until = now + HOLD_S

    def holds(self, now: float) -> bool:
        """Return whether what waits is to wait for it to be back."""
        return self.open and now < self._hold_until

    def due(self, now: float, *, probing: bool) -> float:
        """Return when it has to be looked at again while questions wait and it is open: for the next probe, unless one is under
        way, or when it has been waited for long enough."""
        if not self.holds(now):
            return now
        return self._hold_until if probing else min(self._hold_until, max(now, self._probe_at))

    def may_return(self, now: float) -> bool:
        """Return whether it has answered before, and is or will be waited for."""
        return self._heard and (self.holds(now) or (not self.open and self._holds > 0))

    def probes(self, now: float) -> bool:
        """Return whether a question may try if it is back; if so, the next one may a second later."""
        if now < self._probe_at:
            return False
        self._probe_at = now + PROBE_EVERY_S
        return True

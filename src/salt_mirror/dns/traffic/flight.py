"""A question under way, when it has to be answered, and the answer that becomes of it.

Strategy: the first try of a question is a bare tuple in its lane, since a hundred thousand a second are made and most end
well. Whatever meets trouble, or goes over a stream, becomes a Flight, which remembers what has been tried. Deadlines stand in
one queue for each try, in the order in which they fall due, those of first tries a batch at a time, so that nobody searches for
a timer; what was answered in the meantime stays there until its turn comes, and is passed over then.
"""

from __future__ import annotations

import socket
from collections import deque
from collections.abc import Iterator

from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import (
    BAD_COOKIE,
    FAILED_STREAM,
    MALFORMED,
    TIMEOUT,
    TRUNCATED,
    UNREACHABLE,
    WRONG_CASE,
    Answer,
    Question,
    refused_key,
)
from salt_mirror.dns.replies import Reply
from salt_mirror.dns.wire import rcode_text

_RCODES = [rcode_text(code) for code in range(16)]


class Flight:
    """One question under way, beyond its first try or on a stream.

    `asked` is its question section as it was sent, `asked_first` as it was before it was made plain; `plain` that it goes
    without EDNS and in lower case, `edns_out` that a try with EDNS may still be answered; `landed` that it has ended here.
    Times are the engine's clock in seconds. `mac` is the signature that the answer's must build on.
    """

    __slots__ = (
        "asked", "asked_first", "began_at", "case_lost", "cookie_lost", "deadline", "edns_out", "edns_refused", "landed", "mac",
        "malformed", "plain", "qid", "question", "refused", "sent_at", "sock", "tries", "wire",
    )  # fmt: skip

    def __init__(self, question: Question, qid: bytes, asked: bytes, wire: bytes, now: float) -> None:
        self.question = question
        self.qid = qid
        self.asked = self.asked_first = asked
        self.wire = wire
        self.began_at = self.sent_at = self.deadline = now
        self.tries = 1
        self.landed = self.refused = self.malformed = False
        self.case_lost = self.cookie_lost = self.edns_out = self.edns_refused = self.plain = False
        self.sock: socket.socket | None = None
        self.mac: bytes | None = None


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


def answer_from(flight: Flight, reply: Reply, message: bytes, rtt_ms: float, over: str) -> Answer:
    """Return the answer that a flight has got."""
    rcode, authoritative, truncated, values, ttl, alias, _ = reply
    status = TRUNCATED if truncated else _RCODES[rcode] if rcode < 16 else rcode_text(rcode)
    if flight.mac is not None:
        status = refused_key(message, rcode) or status
    if rcode not in (0, 3):  # what stands beside an error is no answer
        values, ttl, alias = (), None, None
    return Answer(flight.question, status, authoritative, values, ttl, alias, message, rtt_ms, flight.tries, over)


def no_answer(flight: Flight, *, over: str = "udp") -> Answer:
    """Return the answer of a flight that has got none, with what is known of the reason."""
    status = UNREACHABLE if flight.refused else TIMEOUT
    if flight.malformed:
        status = MALFORMED
    elif flight.case_lost or flight.cookie_lost:
        status = WRONG_CASE if flight.case_lost else BAD_COOKIE
    return Answer(flight.question, status, tries=flight.tries, over=over)


def stream_failure(flight: Flight) -> Answer:
    """Return the answer of a flight whose TCP connection brought none."""
    return Answer(flight.question, FAILED_STREAM, tries=flight.tries, over="tcp")


def other_case(message: bytes, asked: bytes) -> bool:
    """Return whether a message answers a question but for the case of its letters."""
    echoed: Name = message[12 : 12 + len(asked)]
    return echoed != asked and echoed.lower() == asked.lower()

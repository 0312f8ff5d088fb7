"""One server as the engine sees it: its socket, what waits for it, what is under way, and how well it answers.

Strategy: the lane decides what to send now and what an arriving datagram means; the engine decides when. Questions under
way stand in a table by id; deadlines stand in one queue for each try, in the order in which they fall due, so that
nobody searches for a timer. A server that has stopped answering is probed, not flooded.
"""

from __future__ import annotations

import os
import socket
from collections import deque
from collections.abc import Callable

from salt_mirror.dns.questions import (
    FAILED_STREAM,
    MALFORMED,
    SILENCED,
    TIMEOUT,
    TRUNCATED,
    UNREACHABLE,
    Answer,
    Question,
    Server,
)
from salt_mirror.dns.wire import (
    QUERY_MIDDLE,
    MalformedMessage,
    Reply,
    opt_record,
    question_tail,
    rcode_text,
    read_reply,
)

_OPT = opt_record()
_TAILS: dict[int, bytes] = {}
_RCODES = [rcode_text(code) for code in range(16)]
_RECEIVE = 4096
_SOCKET_BUFFER = 1 << 20

NEVER_HEARD = 2
"""After this many questions without any answer, a server that has never answered is taken for silent."""
HEARD_BEFORE = 8
"""The same for a server that has answered before."""
PROBE_EVERY_S = 1.0


class Flight:
    """A question under way."""

    __slots__ = ("asked", "deadline", "landed", "malformed", "qid", "question", "refused", "sent_at", "tries", "wire")

    def __init__(self, question: Question, qid: bytes, wire: bytes, asked: bytes) -> None:
        self.question = question
        self.qid = qid
        self.wire = wire
        self.asked = asked
        self.tries = 0
        self.sent_at = 0.0
        self.deadline = 0.0
        self.landed = False
        self.refused = False
        self.malformed = False


class Lane:
    """The traffic with one server over UDP. `finish` receives every question's answer exactly once."""

    def __init__(self, server: Server, *, timeout_s: float, tries: int, window: int) -> None:
        self.server = server
        self.window = window
        self.waiting: deque[Question] = deque()
        self.flights: dict[bytes, Flight] = {}
        self.silent = False
        self.strays = 0
        self.to_stream: list[Flight] = []
        self.sock: socket.socket | None = None
        self._timeouts = [timeout_s * 2**n for n in range(tries)]
        self._due: list[deque[Flight]] = [deque() for _ in range(tries)]
        self._heard = False
        self._unheard = 0
        self._probe_at = 0.0
        self._ids = b""
        self._ids_at = 0

    def open(self) -> socket.socket | None:
        """Opens and connects the socket; None when the system knows no way to the server."""
        family = socket.AF_INET if len(self.server.address) == 4 else socket.AF_INET6
        sock = None
        try:
            sock = socket.socket(family, socket.SOCK_DGRAM)
            sock.setblocking(False)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _SOCKET_BUFFER)
            sock.connect((self.server.host, self.server.port))
        except OSError:
            if sock is not None:
                sock.close()
            return None
        self.sock = sock
        return sock

    def fill(self, now: float, finish: Callable[[Answer], None]) -> None:
        """Sends what waits, as far as the window allows."""
        waiting, flights = self.waiting, self.flights
        if self.silent:
            self._probe(now, finish)
            return
        while waiting and len(flights) < self.window:
            self._launch(waiting.popleft(), now)

    def _probe(self, now: float, finish: Callable[[Answer], None]) -> None:
        """One question a second tries whether a silent server is back; the others end at once."""
        if self.waiting and not self.flights and now >= self._probe_at:
            self._probe_at = now + PROBE_EVERY_S
            self._launch(self.waiting.popleft(), now)
        while self.waiting:
            finish(Answer(self.waiting.popleft(), SILENCED, tries=0))

    def _launch(self, question: Question, now: float) -> None:
        rdtype = question.rdtype
        tail = _TAILS.get(rdtype)
        if tail is None:
            tail = _TAILS[rdtype] = question_tail(rdtype)
        asked = question.name + tail
        qid = self._next_id()
        flight = Flight(question, qid, qid + QUERY_MIDDLE[question.recurse] + asked + _OPT, asked)
        self.flights[qid] = flight
        self._send(flight, now)

    def _next_id(self) -> bytes:
        """An unused id from the system's cryptographic source."""
        while True:
            at = self._ids_at
            if at >= len(self._ids):
                self._ids = os.urandom(4096)
                at = 0
            self._ids_at = at + 2
            qid = self._ids[at : at + 2]
            if qid not in self.flights:
                return qid

    def _send(self, flight: Flight, now: float) -> None:
        attempt = flight.tries
        flight.tries = attempt + 1
        flight.sent_at = now
        flight.deadline = now + self._timeouts[attempt]
        self._due[attempt].append(flight)
        assert self.sock is not None
        try:
            self.sock.send(flight.wire)
        except (BlockingIOError, InterruptedError):
            pass  # as good as lost on the way: the next try will carry it
        except OSError:
            self._refused(now)

    def receive(self, now: float, clock: Callable[[], float], finish: Callable[[Answer], None]) -> None:
        """Reads what has arrived and ends the questions that it answers."""
        assert self.sock is not None
        receive, flights = self.sock.recv, self.flights
        for _ in range(self.window):
            try:
                message = receive(_RECEIVE)
            except (BlockingIOError, InterruptedError):
                return
            except OSError:
                self._refused(now)
                return
            flight = flights.get(message[:2])
            if flight is None:
                self.strays += 1
                continue
            try:
                reply = read_reply(message, flight.qid, flight.asked)
            except MalformedMessage:
                self._garbage(flight)
                continue
            self._unheard = 0
            self._heard = True
            self.silent = False
            if reply.truncated:
                self._land(flight)
                self.to_stream.append(flight)
                continue
            self._land(flight)
            finish(answer_from(flight, reply, message, (clock() - flight.sent_at) * 1000.0, "udp"))

    def _land(self, flight: Flight) -> None:
        flight.landed = True
        del self.flights[flight.qid]

    def _garbage(self, flight: Flight) -> None:
        """What cannot be read ends nothing, since anyone may have sent it: the true answer may still come."""
        flight.malformed = True
        self.strays += 1

    def _refused(self, now: float) -> None:
        """The system says that nothing is there. It may be wrong for a moment, so the tries go on, but faster."""
        for flight in self.flights.values():
            flight.refused = True
            flight.deadline = min(flight.deadline, now + 0.1 * flight.tries)

    def expire(self, now: float, finish: Callable[[Answer], None]) -> None:
        """Sends again, or gives up, what has waited long enough."""
        for attempt, due in enumerate(self._due):
            while due and (due[0].landed or due[0].deadline <= now):
                flight = due.popleft()
                if flight.landed:
                    continue
                if attempt + 1 < len(self._due) and not self.silent:
                    self._send(flight, now)
                else:
                    self._give_up(flight, now, finish)
        if self.silent:
            self._probe(now, finish)

    def _give_up(self, flight: Flight, now: float, finish: Callable[[Answer], None]) -> None:
        self._land(flight)
        status = MALFORMED if flight.malformed else UNREACHABLE if flight.refused else TIMEOUT
        finish(Answer(flight.question, status, tries=flight.tries))
        self._unheard += 1
        if not self.silent and self._unheard >= (HEARD_BEFORE if self._heard else NEVER_HEARD):
            self.silent = True
            self._probe_at = now + PROBE_EVERY_S

    def next_due(self) -> float | None:
        """When the next deadline falls."""
        soonest = None
        for due in self._due:
            while due and due[0].landed:
                due.popleft()
            if due and (soonest is None or due[0].deadline < soonest):
                soonest = due[0].deadline
        return soonest


def answer_from(flight: Flight, reply: Reply, message: bytes, rtt_ms: float, over: str) -> Answer:
    """The answer that a flight has got."""
    rcode, authoritative, truncated, values, ttl, alias = reply
    status = TRUNCATED if truncated else _RCODES[rcode] if rcode < 16 else rcode_text(rcode)
    return Answer(
        flight.question,
        status,
        authoritative=authoritative,
        values=values,
        ttl=ttl,
        alias=alias,
        message=message,
        rtt_ms=rtt_ms,
        tries=flight.tries,
        over=over,
    )


def stream_failure(flight: Flight) -> Answer:
    """The answer of a question whose TCP connection brought none."""
    return Answer(flight.question, FAILED_STREAM, tries=flight.tries, over="tcp")

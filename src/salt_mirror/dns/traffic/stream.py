"""TCP and TLS to one server: for answers that do not fit a datagram, and for servers that are spoken to in no other way
(RFC 1035 section 4.2.2, RFC 7766, RFC 7858).

Strategy: one connection for each server, opened when it is first needed and kept, with any number of questions under way on
it. Flights in, answers out: the engine owns the poll and the clock, the stream owns the framing. A connection that ends
early is opened once more for the questions that were still open; then they fail. Nothing from a stream is taken for an
answer unless id and question match, and the signature if there is one.
"""

from __future__ import annotations

import contextlib
import os
import selectors
import socket
import ssl
from collections.abc import Callable

from salt_mirror.dns.questions import BAD_SIGNATURE, MALFORMED, UNTRUSTED, Answer, Server
from salt_mirror.dns.replies import Reader
from salt_mirror.dns.traffic.flight import Flight, answer_from, stream_failure
from salt_mirror.dns.traffic.gate import Gate
from salt_mirror.dns.traffic.manners import Pace
from salt_mirror.dns.wire import MalformedMessage, encode_update_trial, of_a_query, question_tail

_CONNECTING, _GREETING, _OPEN = range(3)
_MOST_BUFFERED = 1 << 20
_MOST_PIECES = 8
MOST_UNASKED = 1000
WINDOW = 100


class Stream:
    """A pipelined TCP or TLS connection. `done` receives every flight with its answer and the time, exactly once."""

    def __init__(
        self,
        server: Server,
        selector: selectors.BaseSelector,
        done: Callable[[Flight, Answer, float], None],
        *,
        budget_s: float,
    ) -> None:
        self.server = server
        self.flights: dict[bytes, Flight] = {}
        self._selector = selector
        self._done = done
        self._budget_s = budget_s
        self._sock: socket.socket | None = None
        self._state = _CONNECTING
        self._out = bytearray()
        self._in = bytearray()
        self._openings = 0
        self._untrusted = False
        self._unasked = 0
        self._reader = Reader()

    @property
    def open(self) -> bool:
        """Whether there is a connection."""
        return self._sock is not None

    def submit(self, flight: Flight, now: float) -> None:
        """Put a question on the connection, for as long as is left of its budget, and a little in any case."""
        flight.deadline = max(flight.began_at + self._budget_s, now + min(1.0, self._budget_s))
        flight.sent_at = now
        flight.landed = True  # for its lane it has: deadlines are the stream's from here on
        # The lanes of one server draw their ids apart from this connection, where another question may have the same one.
        if flight.qid in self.flights:
            flight.qid = self.free_id()
            flight.wire = flight.qid + flight.wire[2:]
        self.flights[flight.qid] = flight
        if self._sock is None:
            self._openings = 0
            self._open(now)
        else:
            self._queue(flight)

    def free_id(self) -> bytes:
        """Return a random id that no question on the connection has."""
        while (qid := os.urandom(2)) in self.flights:
            pass
        return qid

    def _open(self, now: float) -> None:
        self._openings += 1
        self._out.clear()
        self._in.clear()
        self._state = _CONNECTING
        family = socket.AF_INET if len(self.server.address) == 4 else socket.AF_INET6
        try:
            sock = socket.socket(family, socket.SOCK_STREAM)
        except OSError:
            self._fail_all(now)
            return
        sock.setblocking(False)
        with contextlib.suppress(OSError):
            sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        try:
            if self.server.source:
                sock.bind((self.server.source_host, 0))
        except OSError:
            sock.close()
            self._fail_all(now)
            return
        with contextlib.suppress(OSError):  # under way, or failed: the first event tells
            sock.connect((self.server.host, self.server.port))
        self._sock = sock
        self._selector.register(sock, selectors.EVENT_READ | selectors.EVENT_WRITE, self.ready)
        for flight in self.flights.values():
            self._queue(flight)

    def _queue(self, flight: Flight) -> None:
        self._out += len(flight.wire).to_bytes(2, "big") + flight.wire
        self._watch(writing=True)

    def _watch(self, *, writing: bool) -> None:
        if self._sock is not None:
            events = selectors.EVENT_READ | (selectors.EVENT_WRITE if writing else 0)
            self._selector.modify(self._sock, events, self.ready)

    def ready(self, _: socket.socket, events: int, now: float) -> None:
        """Do what the connection is ready for."""
        try:
            if self._state != _OPEN and not self._greet():
                return
            if events & selectors.EVENT_READ and self._read(now):
                self._broken(now)
                return
            if self._out:
                self._write()
        except (BlockingIOError, InterruptedError, ssl.SSLWantReadError, ssl.SSLWantWriteError):
            pass
        except ssl.SSLCertVerificationError:
            self._untrusted = True
            self._openings = 2
            self._broken(now)
        except OSError:
            self._broken(now)

    def _greet(self) -> bool:
        """Bring the connection up, with TLS if it is to have that; True when it is open."""
        assert self._sock is not None
        # Whether a connection failed is told by SO_ERROR alone: the event is the same as for one that is there.
        if self._state == _CONNECTING:
            failed = self._sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if failed:
                raise OSError(failed, os.strerror(failed))
            if self.server.over == "tls":
                self._selector.unregister(self._sock)
                # The system's certificates and a name to compare: without them anyone could be at the other end (RFC 8310).
                context = ssl.create_default_context()
                context.minimum_version = ssl.TLSVersion.TLSv1_2
                name = self.server.tls_name or self.server.host
                self._sock = context.wrap_socket(self._sock, do_handshake_on_connect=False, server_hostname=name)
                self._selector.register(self._sock, selectors.EVENT_READ | selectors.EVENT_WRITE, self.ready)
            self._state = _GREETING
        if isinstance(self._sock, ssl.SSLSocket):
            try:
                self._sock.do_handshake()
            except ssl.SSLWantReadError:
                self._watch(writing=False)
                return False
        self._state = _OPEN
        self._watch(writing=True)
        return True

    def _write(self) -> None:
        assert self._sock is not None
        while self._out:
            del self._out[: self._sock.send(self._out)]
        self._watch(writing=False)

    def _read(self, now: float) -> bool:
        """Take in bytes and end the flights whose messages are whole; True when the peer has closed, or send what nobody
        asked for without end.

        A peer that never pauses gets no more than its share of a moment: others wait, and deadlines have to be kept.
        """
        assert self._sock is not None
        for _ in range(_MOST_PIECES):
            try:
                piece = self._sock.recv(65536)
            except (BlockingIOError, InterruptedError, ssl.SSLWantReadError, ssl.SSLWantWriteError):
                return False
            if not piece:
                return True
            # Messages come in pieces of any size, or several in one: each has its length before it (RFC 1035 section 4.2.2).
            self._in += piece
            at = 0
            while len(self._in) - at >= 2:
                end = at + 2 + int.from_bytes(self._in[at : at + 2], "big")
                if len(self._in) < end:
                    break
                self._take(bytes(self._in[at + 2 : end]), now)
                at = end
            del self._in[:at]
            if self._sock is None or not self.flights or len(self._in) > _MOST_BUFFERED:
                return False
            # A peer that goes on sending answers to nothing is cut off, and not called again.
            if self._unasked > MOST_UNASKED:
                self._openings = 2
                return True
        return False

    def _take(self, message: bytes, now: float) -> None:
        flight = self.flights.get(message[:2])
        if flight is None:
            self._unasked += 1
            return
        answer = Answer(flight.question, MALFORMED, tries=flight.tries, over=self._over)
        try:
            told = of_a_query(message) if self.server.over == "update" else message
            reply = self._reader.read(told, flight.qid, flight.asked)
        except MalformedMessage:
            pass
        else:
            if flight.mac is None or self._signed(message, reply[0], flight.mac):
                answer = answer_from(flight, reply, message, (now - flight.sent_at) * 1000.0, self._over)
            else:
                answer = Answer(flight.question, BAD_SIGNATURE, tries=flight.tries, over=self._over)
        del self.flights[message[:2]]
        if self.server.over == "transfer" and not self.flights:
            self.close()  # the first message told what was asked; a big zone's others need not be sent
        self._done(flight, answer, now)

    @property
    def _over(self) -> str:
        return "tls" if self.server.over == "tls" else "tcp"

    def _signed(self, message: bytes, rcode: int, mac: bytes) -> bool:
        from salt_mirror.dns.tsig import believable

        assert self.server.key is not None
        return believable(message, rcode, self.server.key, mac)

    def _broken(self, now: float) -> None:
        self.close()
        if self.flights and self._openings < 2:
            self._open(now)
        else:
            self._fail_all(now)

    def _fail_all(self, now: float) -> None:
        flights, self.flights = self.flights, {}
        for flight in flights.values():
            self._done(flight, self._failure(flight), now)

    def _failure(self, flight: Flight) -> Answer:
        if self._untrusted:
            return Answer(flight.question, UNTRUSTED, tries=flight.tries, over=self._over)
        return stream_failure(flight)

    def expire(self, now: float) -> None:
        """Fail the questions that have waited too long."""
        late = [flight for flight in self.flights.values() if flight.deadline <= now]
        for flight in late:
            del self.flights[flight.qid]
            self._done(flight, self._failure(flight), now)
        if late and not self.flights:
            self.close()

    def next_due(self) -> float | None:
        """Return when the next deadline falls."""
        return min((flight.deadline for flight in self.flights.values()), default=None) if self.flights else None

    def close(self) -> None:
        """Close the connection; the questions stay."""
        if self._sock is not None:
            with contextlib.suppress(KeyError, ValueError):
                self._selector.unregister(self._sock)
            self._sock.close()
            self._sock = None


class StreamLane:
    """The traffic with a server that is spoken to over TLS or TCP alone. The same shape as a lane over UDP."""

    def __init__(
        self,
        server: Server,
        selector: selectors.BaseSelector,
        done: Callable[[Answer], None],
        *,
        budget_s: float,
        pace: Pace | None,
    ) -> None:
        self.server = server
        self.strays = self.late = 0
        self._done = done
        self._gate = Gate(server, done, pace)
        self.waiting = self._gate.waiting
        self._stream = Stream(server, selector, self._end, budget_s=budget_s)

    @property
    def busy(self) -> bool:
        """Whether anything waits or is under way."""
        return bool(self.waiting or self._stream.flights)

    @property
    def sockets(self) -> int:
        """How many are open."""
        return int(self._stream.open)

    def rest(self) -> None:
        """Close the connection while nothing is under way."""
        self._stream.close()

    def fill(self, now: float) -> None:
        """Put what waits on the connection, as far as window and pace allow."""
        for question in self._gate.pass_on(now, WINDOW, len(self._stream.flights)):
            qid = self._stream.free_id()
            asked = question.name + question_tail(question.rdtype)
            if self.server.over == "update":
                wire = encode_update_trial(qid, question.name, os.urandom(12).hex().encode("ascii"))
            else:
                wire = question.encoded(qid)
            flight = Flight(question, qid, asked, wire, now)
            if self.server.key is not None:
                from salt_mirror.dns.tsig import sign

                flight.wire, flight.mac = sign(wire, self.server.key)
            self._stream.submit(flight, now)

    def _end(self, _: Flight, answer: Answer, now: float) -> None:
        self._gate.ended(answer, now)
        self._done(answer)

    def expire(self, now: float) -> None:
        """Fail the questions that have waited too long."""
        self._stream.expire(now)

    def next_due(self, now: float) -> float | None:
        """Return when something has to be done next."""
        gate = self._gate.next_due(now, WINDOW, len(self._stream.flights))
        return min((due for due in (self._stream.next_due(), gate) if due is not None), default=None)

    def close(self) -> None:
        """Close the connection."""
        self._stream.close()

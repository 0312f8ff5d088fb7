"""TCP to one server: where questions go whose answers do not fit a datagram (RFC 1035 section 4.2.2, RFC 7766).

Strategy: one connection for each server, opened when it is first needed, with any number of questions under way on it.
Bytes in, flights out: the engine owns the poll, the stream owns the framing. A connection that ends early is opened once
more for the questions that were still open; then they fail.
"""

from __future__ import annotations

import contextlib
import selectors
import socket
from collections.abc import Callable

from salt_mirror.dns.lane import Flight, answer_from, stream_failure
from salt_mirror.dns.questions import MALFORMED, Answer, Server
from salt_mirror.dns.wire import MalformedMessage, read_reply


class Stream:
    """A pipelined TCP connection. `finish` receives the answer of every flight exactly once."""

    def __init__(self, server: Server, selector: selectors.BaseSelector, timeout_s: float) -> None:
        self.server = server
        self.flights: dict[bytes, Flight] = {}
        self._selector = selector
        self._timeout_s = timeout_s
        self._sock: socket.socket | None = None
        self._out = bytearray()
        self._in = bytearray()
        self._opened = 0

    def submit(self, flight: Flight, now: float) -> None:
        """Puts a question on the connection."""
        flight.deadline = now + self._timeout_s
        flight.sent_at = now
        self.flights[flight.qid] = flight
        if self._sock is None:
            self._opened = 0
            self._open()
        else:
            self._queue(flight)

    def _open(self) -> None:
        self._opened += 1
        self._out.clear()
        self._in.clear()
        family = socket.AF_INET if len(self.server.address) == 4 else socket.AF_INET6
        try:
            self._sock = socket.socket(family, socket.SOCK_STREAM)
        except OSError:
            return
        self._sock.setblocking(False)
        with contextlib.suppress(OSError):
            self._sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        with contextlib.suppress(OSError):  # still connecting, or failed: the first write tells
            self._sock.connect((self.server.host, self.server.port))
        self._selector.register(self._sock, selectors.EVENT_READ | selectors.EVENT_WRITE, self)
        for flight in self.flights.values():
            self._queue(flight)

    def _queue(self, flight: Flight) -> None:
        self._out += len(flight.wire).to_bytes(2, "big") + flight.wire
        if self._sock is not None:
            self._selector.modify(self._sock, selectors.EVENT_READ | selectors.EVENT_WRITE, self)

    def ready(self, events: int, clock: Callable[[], float], finish: Callable[[Answer], None]) -> None:
        """Reads and writes what the socket is ready for."""
        try:
            if events & selectors.EVENT_WRITE:
                self._write()
            if events & selectors.EVENT_READ and self._read(clock, finish):
                self._broken(finish)
        except (BlockingIOError, InterruptedError):
            pass
        except OSError:
            self._broken(finish)

    def _write(self) -> None:
        assert self._sock is not None
        if self._out:
            del self._out[: self._sock.send(self._out)]
        if not self._out:
            self._selector.modify(self._sock, selectors.EVENT_READ, self)

    def _read(self, clock: Callable[[], float], finish: Callable[[Answer], None]) -> bool:
        """Takes in bytes and ends the flights whose messages are whole; True when the peer has closed."""
        assert self._sock is not None
        piece = self._sock.recv(65536)
        self._in += piece
        while len(self._in) >= 2:
            size = int.from_bytes(self._in[:2], "big")
            if len(self._in) < 2 + size:
                break
            message = bytes(self._in[2 : 2 + size])
            del self._in[: 2 + size]
            flight = self.flights.get(message[:2])
            if flight is None:
                continue
            try:
                reply = read_reply(message, flight.qid, flight.asked)
            except MalformedMessage:
                self._end(flight, Answer(flight.question, MALFORMED, tries=flight.tries, over="tcp"), finish)
                continue
            rtt_ms = (clock() - flight.sent_at) * 1000.0
            self._end(flight, answer_from(flight, reply, message, rtt_ms, "tcp"), finish)
        return not piece

    def _end(self, flight: Flight, answer: Answer, finish: Callable[[Answer], None]) -> None:
        del self.flights[flight.qid]
        finish(answer)

    def _broken(self, finish: Callable[[Answer], None]) -> None:
        self.close()
        if self.flights and self._opened < 2:
            self._open()
            return
        for flight in list(self.flights.values()):
            self._end(flight, stream_failure(flight), finish)

    def expire(self, now: float, finish: Callable[[Answer], None]) -> None:
        """Fails the questions that have waited too long."""
        late = [flight for flight in self.flights.values() if flight.deadline <= now]
        for flight in late:
            self._end(flight, stream_failure(flight), finish)
        if late and not self.flights:
            self.close()

    def next_due(self) -> float | None:
        """When the next deadline falls."""
        return min((flight.deadline for flight in self.flights.values()), default=None)

    def close(self) -> None:
        """Closes the connection; the questions stay."""
        if self._sock is not None:
            self._selector.unregister(self._sock)
            self._sock.close()
            self._sock = None

"""The UDP sockets from which one server is asked: the present one, and the one before it, to which answers may still come.

Strategy: each is on a port from a cryptographic source, and serves so many questions before the next takes its place, so that
whoever learns a port has little use of it (RFC 5452 section 9.2).
"""

from __future__ import annotations

import contextlib
import selectors
import socket
from collections.abc import Callable

from salt_mirror.dns.questions import Server
from salt_mirror.dns.traffic.chance import open_datagram

RENEW_AFTER = 4096
"""So many questions go out from one port."""

Receive = Callable[[socket.socket, int, float], None]
"""Reads what has arrived at a socket: the socket, the selector's events, and the engine's clock (seconds)."""


class SourcePorts:
    """The sockets of one server; `current` is the one that asks, None while none is open."""

    __slots__ = ("_before", "_receive", "_selector", "_sent", "_server", "current")

    def __init__(self, server: Server, selector: selectors.BaseSelector, receive: Receive) -> None:
        self.current: socket.socket | None = None
        self._server = server
        self._selector = selector
        self._receive = receive
        self._before: socket.socket | None = None
        self._sent = 0

    def take(self, number: int) -> socket.socket | None:
        """Return the socket for so many questions more; None when the system knows no way to the server."""
        if self.current is None or self._sent >= RENEW_AFTER:
            self._renew()
        self._sent += number
        return self.current

    def _renew(self) -> None:
        # The socket before this one stays open, since answers to what it asked may still be on their way.
        self._close(self._before)
        self._before, self.current = self.current, open_datagram(self._server)
        if self.current is not None:
            self._selector.register(self.current, selectors.EVENT_READ, self._receive)
        self._sent = 0

    @property
    def count(self) -> int:
        """How many are open."""
        return (self.current is not None) + (self._before is not None)

    def close(self) -> None:
        """Close all; the next question opens one anew."""
        self._close(self.current)
        self._close(self._before)
        self.current = self._before = None

    def _close(self, sock: socket.socket | None) -> None:
        if sock is not None:
            with contextlib.suppress(KeyError, ValueError):
                self._selector.unregister(sock)
            sock.close()

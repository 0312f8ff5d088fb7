"""One message and its answer over TCP (RFC 1035 section 4.2.2), both within one deadline.

Strategy: a peer that sends a byte now and then keeps a wait for each read going for ever. So the time that is left is what each
step may take: connecting, sending, every read.
"""

from __future__ import annotations

import socket
import time
from types import TracebackType

from salt_mirror.dns.questions import Server


class TcpExchange:
    """A connection for one message. `sent` says whether the server may have the message.

    Every step raises TimeoutError when the deadline is over, and OSError where the connection fails.
    """

    def __init__(self, server: Server, timeout_s: float) -> None:
        self.sent = False
        self._server = server
        self._over_at = time.monotonic() + timeout_s
        self._sock: socket.socket | None = None

    def __enter__(self) -> TcpExchange:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._sock is not None:
            self._sock.close()

    def answer(self, wire: bytes) -> bytes:
        """Send a message and return the answer's bytes, whatever they are."""
        self._sock = socket.create_connection(
            (self._server.host, self._server.port), self._left(), self._server.source_place
        )
        self._sock.settimeout(self._left())
        self._sock.sendall(len(wire).to_bytes(2, "big") + wire)  # its timeout is for all of it
        self.sent = True
        return self._read(self._sock, int.from_bytes(self._read(self._sock, 2), "big"))

    def _left(self) -> float:
        left = self._over_at - time.monotonic()
        if left <= 0:
            raise TimeoutError
        return left

    def _read(self, sock: socket.socket, size: int) -> bytes:
        held = b""
        while len(held) < size:
            sock.settimeout(self._left())
            piece = sock.recv(size - len(held))
            if not piece:
                raise ConnectionError(None, "closed before an answer")
            held += piece
        return held

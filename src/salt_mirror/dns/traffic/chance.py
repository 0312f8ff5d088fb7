"""What nobody must be able to guess about a question: the port that it comes from, and the case of its letters (RFC 5452).

Strategy: everything comes from the system's cryptographic source; ids are drawn where they are used, in the lane.
"""

from __future__ import annotations

import contextlib
import secrets
import socket
import string

from salt_mirror.dns.questions import Server

_BUFFER = 1 << 20
_LETTERS = string.ascii_lowercase.encode("ascii")


def open_datagram(server: Server) -> socket.socket | None:
    """Return a non-blocking UDP socket on a random port, connected to a server; None when the system knows no way there."""
    family = socket.AF_INET if len(server.address) == 4 else socket.AF_INET6
    sock = None
    try:
        sock = socket.socket(family, socket.SOCK_DGRAM)
        sock.setblocking(False)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BUFFER)
        for _ in range(8):  # after that, the port that the system chooses
            with contextlib.suppress(OSError):
                sock.bind(
                    (server.source_host or ("" if family == socket.AF_INET else "::"), 1024 + secrets.randbelow(64512))
                )
                break
        else:
            if server.source:  # never from another address than the one that is wished for
                sock.bind((server.source_host, 0))
        sock.connect((server.host, server.port))
    except OSError:
        if sock is not None:
            sock.close()
        return None
    return sock


def random_case() -> bytes:
    """Return a table that gives each letter a case of its own, for `bytes.translate`. Length bytes of names are no letters."""
    table = bytearray(range(256))
    bits = secrets.randbits(26)
    for number, letter in enumerate(_LETTERS):
        if bits >> number & 1:
            table[letter] = letter - 32
    return bytes(table)

"""Many datagrams of one size in one call, where the system can do that; one by one, where it cannot.

Strategy: a call to the system costs more than anything else that is done for a question. Linux cuts one buffer into datagrams
of equal size by itself (UDP_SEGMENT, since 4.18), and what goes over the wire is the same. Whenever it declines, for
whatever reason, and on every other system, each datagram is sent in a call of its own.
"""

from __future__ import annotations

import errno
import socket
import sys

_UDP_SEGMENT = 103
_MOST_SEGMENTS = 64
_MOST_BYTES = 60_000
_DECLINED = frozenset((errno.EIO, errno.EINVAL, errno.ENOPROTOOPT, errno.EOPNOTSUPP, errno.EMSGSIZE, errno.ENOTSUP))


class Bulk:
    """Sends datagrams of one size; remembers when the system does not want them together."""

    __slots__ = ("_together",)

    def __init__(self) -> None:
        self._together = sys.platform == "linux" and hasattr(socket.socket, "sendmsg")

    def send(self, sock: socket.socket, wires: list[bytes]) -> bool:
        """Send datagrams of equal size on a connected socket; False when the system says that nothing is there.

        What the socket has no room for is as good as lost on the way: the next try will carry it.
        """
        if sys.platform != "linux" or len(wires) == 1 or not self._together:
            return self._one_by_one(sock, wires)
        size = len(wires[0])
        step = min(_MOST_SEGMENTS, _MOST_BYTES // size)
        how = [(socket.IPPROTO_UDP, _UDP_SEGMENT, size.to_bytes(2, sys.byteorder))]
        there = True
        for start in range(0, len(wires), step):
            some = wires[start : start + step]
            try:
                sock.sendmsg((b"".join(some),), how)
            except (BlockingIOError, InterruptedError):
                pass
            except OSError as error:
                # Some kernels, network cards and containers decline; they are not asked again, since each refusal costs a call.
                if error.errno in _DECLINED:
                    self._together = False
                    return self._one_by_one(sock, wires[start:]) and there
                there = False
        return there

    @staticmethod
    def _one_by_one(sock: socket.socket, wires: list[bytes]) -> bool:
        there = True
        for wire in wires:
            try:
                sock.send(wire)
            except (BlockingIOError, InterruptedError):
                pass
            except OSError:
                there = False
        return there

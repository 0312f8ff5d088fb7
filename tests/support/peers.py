"""Servers that do as a function says, with each datagram and with each connection."""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager

from support.realservers import free_port

Answers = Callable[[bytes], list[tuple[float, bytes]]]
"""What is sent for a query's bytes, each after so many seconds."""
Serve = Callable[[socket.socket], None]


@contextmanager
def peer(*, udp: Answers | None = None, tcp: Serve | None = None) -> Iterator[int]:
    """A server on loopback; its port. `tcp` has each connection for itself, and may fail as it likes."""
    port, ended = free_port(), threading.Event()
    threads: list[threading.Thread] = []
    with ExitStack() as stack:
        if udp is not None:
            datagrams = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
            datagrams.bind(("127.0.0.1", port))
            threads.append(threading.Thread(target=_answer, args=(datagrams, udp, ended), daemon=True))
        if tcp is not None:
            listener = stack.enter_context(socket.create_server(("127.0.0.1", port)))
            threads.append(threading.Thread(target=_accept, args=(listener, tcp, ended), daemon=True))
        for thread in threads:
            thread.start()
        try:
            yield port
        finally:
            ended.set()
            for thread in threads:
                thread.join(5)


def _answer(datagrams: socket.socket, answers: Answers, ended: threading.Event) -> None:
    datagrams.settimeout(0.05)
    while not ended.is_set():
        with contextlib.suppress(OSError):
            wire, asker = datagrams.recvfrom(4096)
            for wait_s, datagram in answers(wire):
                if wait_s:
                    threading.Timer(wait_s, _late, (datagrams, datagram, asker)).start()
                else:
                    datagrams.sendto(datagram, asker)


def _late(datagrams: socket.socket, datagram: bytes, asker: tuple[str, int]) -> None:
    with contextlib.suppress(OSError):
        datagrams.sendto(datagram, asker)


def _accept(listener: socket.socket, serve: Serve, ended: threading.Event) -> None:
    listener.settimeout(0.05)
    while not ended.is_set():
        with contextlib.suppress(OSError):
            connection, _ = listener.accept()
            threading.Thread(target=_attend, args=(connection, serve), daemon=True).start()


def _attend(connection: socket.socket, serve: Serve) -> None:
    with connection, contextlib.suppress(OSError):
        serve(connection)


def flood(connection: socket.socket) -> None:
    """Messages that nobody asked for, without a pause."""
    connection.recv(4096)
    until = time.monotonic() + 60
    while time.monotonic() < until:
        connection.sendall((b"\x00\x0c\xff\xff\x84\x00" + bytes(8)) * 500)

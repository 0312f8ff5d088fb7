"""Threads that nobody waits for: what they have under way when the program ends goes down with it.

Strategy: the standard pool of threads is joined at the interpreter's end, so that one server that stalls keeps a program alive
that was told to stop. These are daemons, begun as they are needed; a future tells what became of a piece of work.
"""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, TypeVar

T = TypeVar("T")
_Piece = tuple["Future[Any]", Callable[[], Any]]


class Workers:
    """At most so many threads that take pieces of work in the order in which they come."""

    def __init__(self, most: int, name: str) -> None:
        self._most = most
        self._name = name
        self._pieces: queue.SimpleQueue[_Piece | None] = queue.SimpleQueue()
        self._threads: list[threading.Thread] = []
        self._open = 0
        self._lock = threading.Lock()

    def submit(self, work: Callable[[], T]) -> Future[T]:
        """Take a piece of work; the future has its result, or the error that it ended with."""
        future: Future[T] = Future()
        with self._lock:
            self._open += 1
            if self._open > len(self._threads) and len(self._threads) < self._most:
                thread = threading.Thread(target=self._work, name=self._name, daemon=True)
                self._threads.append(thread)
                thread.start()
        self._pieces.put((future, work))
        return future

    def _work(self) -> None:
        while (piece := self._pieces.get()) is not None:
            future, work = piece
            if future.set_running_or_notify_cancel():
                try:
                    result = work()
                except BaseException as error:
                    future.set_exception(error)
                else:
                    future.set_result(result)
            with self._lock:
                self._open -= 1

    def close(self) -> None:
        """Let the threads end after what they have in hand; what waits is dropped."""
        while True:
            try:
                piece = self._pieces.get_nowait()
            except queue.Empty:
                break
            if piece is not None:
                piece[0].cancel()
        for _ in self._threads:
            self._pieces.put(None)

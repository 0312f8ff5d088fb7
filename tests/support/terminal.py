"""A program on a terminal of its own: what it draws is seen as on a screen, and keys are typed as by hand."""

from __future__ import annotations

import contextlib
import os
import selectors
import struct
import subprocess
import time
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from types import TracebackType

import pyte
import pytest

from support.waiting import PATIENCE_S


class Terminal:
    """A pseudo-terminal (POSIX) with a screen of `columns` and `rows`; what scrolled off it stays in `seen`."""

    def __init__(
        self, command: Sequence[str], *, cwd: Path, columns: int = 80, rows: int = 40, **variables: str
    ) -> None:
        if os.name == "nt":
            pytest.skip("a pseudo-terminal needs POSIX")
        self._screen = pyte.HistoryScreen(columns, rows, history=10_000)
        self._stream = pyte.ByteStream(self._screen)
        # By name, since a type checker for Windows knows nothing of them.
        fcntl, termios = import_module("fcntl"), import_module("termios")
        self._master, worker = import_module("os").openpty()
        fcntl.ioctl(worker, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
        kept = {key: value for key, value in os.environ.items() if key not in ("COLUMNS", "LINES", "NO_COLOR")}
        environment = kept | {"TERM": "xterm-256color", "SALT_MIRROR_RESOLVERS": ""} | variables
        self.process = subprocess.Popen(
            command, cwd=cwd, stdin=worker, stdout=worker, stderr=worker, env=environment, start_new_session=True
        )
        os.close(worker)
        self._selector = selectors.DefaultSelector()
        self._selector.register(self._master, selectors.EVENT_READ)

    def __enter__(self) -> Terminal:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._selector.close()
        with contextlib.suppress(ProcessLookupError):
            self.process.kill()
        self.process.wait(PATIENCE_S)
        os.close(self._master)

    def type(self, keys: str) -> None:
        """Press keys; `\r` is Enter, `\t` Tab, `\x04` Ctrl-D."""
        os.write(self._master, keys.encode("utf-8"))

    @property
    def shown(self) -> list[str]:
        """The lines on the screen, without the blanks at their ends."""
        return [line.rstrip() for line in self._screen.display]

    @property
    def seen(self) -> str:
        """Everything so far, what scrolled off the screen too."""
        above = [
            "".join(row[at].data for at in range(self._screen.columns)).rstrip() for row in self._screen.history.top
        ]
        return "\n".join([*above, *self.shown])

    def _read(self, until: float) -> bool:
        """Take in what has been drawn; False once the program has closed the terminal."""
        if not self._selector.select(max(0.0, until - time.monotonic())):
            return True
        try:
            data = os.read(self._master, 65536)
        except OSError:  # Linux says so when the other end is closed
            return False
        self._stream.feed(data)
        if b"\x1b[6n" in data:  # a program asks where the cursor is, and a terminal types the answer
            self.type(f"\x1b[{self._screen.cursor.y + 1};{self._screen.cursor.x + 1}R")
        return bool(data)

    def until(self, text: str, *, times: int = 1) -> str:
        """Wait until a text was drawn so many times; return all that was seen by then."""
        give_up = time.monotonic() + PATIENCE_S
        while self.seen.count(text) < times:
            assert self._read(give_up) and time.monotonic() < give_up, f"{text!r} was not shown:\n{self.seen}"
        return self.seen

    def end(self) -> int:
        """Wait until the program has ended; return its exit status."""
        give_up = time.monotonic() + PATIENCE_S
        while self._read(give_up) and time.monotonic() < give_up:
            pass
        return self.process.wait(PATIENCE_S)

"""The way back: what every set was before the first change was sent, and what became of each message.

Strategy: the head and all sets are written and synced before anything is sent; then a line before each message and one after
its answer. Going back looks at what the servers hold, and not at those lines, so that it is right also after a crash between
two of them.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterable
from pathlib import Path
from typing import IO

import msgspec

from salt_mirror.checks.plan.sets import PlannedSet, SetLine, line_of
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import json_lines, read_text, whole
from salt_mirror.keeping.writing import PRIVATE

VERSION = "salt-mirror/undo/2"
_WITHOUT_DIGEST = "salt-mirror/undo/1"


class UndoHead(msgspec.Struct, frozen=True, kw_only=True):
    """The first line: when it began, of which estate, how many sets follow, and the SHA-256 of their lines."""

    undo: str
    begun: str
    estate: str
    sets: int
    digest: str = ""


class Step(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """A message: before it was sent (`answered` is empty), and after."""

    zone: str
    view: str
    server: str
    names: int
    answered: str = ""


class UndoFile:
    """The file while changes are sent. Raises BadInput where it cannot be written."""

    def __init__(self, path: Path, begun: str, estate: str, sets: list[PlannedSet]) -> None:
        self.path = path
        try:
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)
            self._file: IO[bytes] = os.fdopen(os.open(path, flags, PRIVATE), "wb")
            lines = [msgspec.json.encode(line_of(one)) for one in sets]
            head = UndoHead(undo=VERSION, begun=begun, estate=estate, sets=len(sets), digest=_digest(lines))
            self._write([msgspec.json.encode(head), *lines])
        except (OSError, ValueError) as error:
            why = getattr(error, "strerror", None) or error
            raise BadInput(f"--undo: {shown_path(path)} cannot be written: {why}; nothing was sent") from None

    def note(self, step: Step) -> None:
        """Writes down what is about to happen, or what came of it."""
        try:
            self._write([msgspec.json.encode(step)])
        except OSError as error:
            raise BadInput(
                f"--undo: {shown_path(self.path)} cannot be written any more ({error.strerror}): nothing more is sent"
            ) from None

    def _write(self, lines: Iterable[bytes]) -> None:
        self._file.write(b"".join(line + b"\n" for line in lines))
        self._file.flush()
        os.fsync(self._file.fileno())

    def close(self) -> None:
        """Closes the file. What cannot be written at this end has been told where it happened."""
        with contextlib.suppress(OSError):
            self._file.close()


def _digest(lines: Iterable[bytes]) -> str:
    found = hashlib.sha256()
    for line in lines:
        found.update(line + b"\n")
    return found.hexdigest()


def read_undo(path: Path) -> tuple[UndoHead, list[SetLine]]:
    """The head and the sets of an undo file. Raises BadInput for one that is none, or that was never written whole."""
    text = read_text(path)
    first, _, rest = text.partition("\n")
    try:
        head = msgspec.json.decode(first, type=UndoHead)
    except (msgspec.DecodeError, UnicodeError):
        raise BadInput(
            f"{shown_path(path)} is no undo file: its first line is no head; expected one that mend wrote"
        ) from None
    if head.undo not in (VERSION, _WITHOUT_DIGEST):
        raise BadInput(f"{shown_path(path)} is an undo file of another version; expected {VERSION}")
    lines = [line for _, line in whole(json_lines(rest.split("\n")[: head.sets], SetLine, path, 2))]
    if len(lines) < head.sets:
        raise BadInput(f"{shown_path(path)} ends before its last set: nothing had been sent yet when it was written")
    if head.undo == VERSION and _digest(line.encode() for line in rest.split("\n")[: head.sets]) != head.digest:
        raise BadInput(
            f"{shown_path(path)} was altered: its sets are not those that mend wrote down; nothing was restored"
        )
    return head, lines

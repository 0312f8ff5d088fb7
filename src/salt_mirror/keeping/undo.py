"""The way back: what every set was before the first change was sent, and what became of each message.

Strategy: the head and all sets are written and synced before anything is sent; then a line before each message and one after
its answer, with the numbers of its sets. So the file says which sets this very run has changed. Where it ends between two such
lines, as after a crash, nobody knows, and what the servers hold decides.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from pathlib import Path
from typing import IO, Literal

import msgspec

from salt_mirror.checks.plan.sets import PlannedSet, SetKey, line_of
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import json_lines, read_text, whole
from salt_mirror.keeping.writing import PRIVATE, check_writable, digest_of_lines

VERSION = "salt-mirror/undo/3"
_WITHOUT_SETS = "salt-mirror/undo/2"
_WITHOUT_DIGEST = "salt-mirror/undo/1"

Sent = Literal["changed", "refused", "not sent", "unknown"]
"""What a run did to a set, as its undo file has it."""


class UndoHead(msgspec.Struct, frozen=True, kw_only=True):
    """The first line: when it began, of which estate, how many sets follow, and the SHA-256 of their lines."""

    undo: str
    begun: str
    estate: str
    sets: int
    digest: str = ""


class SentLine(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """A message: before it was sent (`answered` is empty), and after. `sets` are the numbers of its sets in the file, from 0;
    `came` says what came of them."""

    zone: str
    view: str
    server: str
    names: int
    sets: list[int] = []
    answered: str = ""
    came: Sent = "unknown"


class Undo(msgspec.Struct, frozen=True):
    """An undo file as it is read: its sets, and what the run did to each."""

    head: UndoHead
    lines: list[SetLine]
    sent: list[Sent]


class UndoFile:
    """The file while changes are sent. Raises BadInput where it cannot be written."""

    def __init__(self, path: Path, begun: str, estate: str, sets: list[PlannedSet]) -> None:
        self.path = path
        self._numbers = {one.key: number for number, one in enumerate(sets)}
        try:
            if _unfinished(path):
                path.unlink()
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)
            self._file: IO[bytes] = os.fdopen(os.open(path, flags, PRIVATE), "wb")
        except (OSError, ValueError) as error:
            raise self._unwritten(error) from None
        try:
            lines = [msgspec.json.encode(line_of(one)) for one in sets]
            head = UndoHead(undo=VERSION, begun=begun, estate=estate, sets=len(sets), digest=digest_of_lines(lines))
            self._write([msgspec.json.encode(head), *lines])
        except OSError as error:
            self.close()
            with contextlib.suppress(OSError):
                path.unlink()  # what was never written whole is no way back, and must not bar its own name
            raise self._unwritten(error) from None

    def _unwritten(self, error: OSError | ValueError) -> BadInput:
        why = getattr(error, "strerror", None) or error
        return BadInput(f"--undo: {shown_path(self.path)} cannot be written: {why}; nothing was sent")

    def note(self, step: SentLine, keys: Iterable[SetKey]) -> None:
        """Write down what is about to happen to some sets, or what came of it."""
        numbers = [self._numbers[key] for key in keys]
        try:
            self._write([msgspec.json.encode(msgspec.structs.replace(step, names=len(numbers), sets=numbers))])
        except OSError as error:
            raise BadInput(
                f"--undo: {shown_path(self.path)} cannot be written any more ({error.strerror}): nothing more is sent"
            ) from None

    def _write(self, lines: Iterable[bytes]) -> None:
        self._file.write(b"".join(line + b"\n" for line in lines))
        self._file.flush()
        os.fsync(self._file.fileno())

    def close(self) -> None:
        """Close the file. What cannot be written at this end has been told where it happened."""
        with contextlib.suppress(OSError):
            self._file.close()


def check_new(path: Path) -> None:
    """Raise BadInput for an undo file that is there: what is needed to go back is never written over. One that was never
    written whole is of no use to anybody: nothing had been sent."""
    check_writable(path, "--undo")  # also says of a name that no file can have what is wrong with it
    if path.exists() and not _unfinished(path):
        raise BadInput(f"--undo: {path} is there already, and may be needed to go back; name another file")


def _unfinished(path: Path) -> bool:
    """Return whether a file is the beginning of an undo file that ends before its last set."""
    try:
        lines = path.read_bytes().split(b"\n")
        head = msgspec.json.decode(lines[0], type=UndoHead) if len(lines) > 1 else None
    except (OSError, msgspec.DecodeError, UnicodeError):
        return False
    return head is not None and head.undo == VERSION and len(lines) - 2 < head.sets


def read_undo(path: Path) -> Undo:
    """Read an undo file. Raises BadInput for one that is none, or that was never written whole."""
    text = read_text(path)
    first, _, rest = text.partition("\n")
    try:
        head = msgspec.json.decode(first, type=UndoHead)
    except (msgspec.DecodeError, UnicodeError):
        raise BadInput(
            f"{shown_path(path)} is no undo file: its first line is no head; expected one that mend wrote"
        ) from None
    if head.undo not in (VERSION, _WITHOUT_SETS, _WITHOUT_DIGEST):
        raise BadInput(f"{shown_path(path)} is an undo file of another version; expected {VERSION}")
    told = rest.split("\n")
    lines = [line for _, line in whole(json_lines(told[: head.sets], SetLine, path, 2))]
    if len(lines) < head.sets:
        raise BadInput(f"{shown_path(path)} ends before its last set: nothing had been sent yet when it was written")
    if head.undo != _WITHOUT_DIGEST and digest_of_lines(line.encode() for line in told[: head.sets]) != head.digest:
        raise BadInput(
            f"{shown_path(path)} was altered: its sets are not those that mend wrote down; nothing was restored"
        )
    sent: list[Sent] = ["not sent" if head.undo == VERSION else "unknown"] * head.sets
    for line in told[head.sets :]:
        for number, came in _came(line):
            if 0 <= number < head.sets:
                sent[number] = came
    return Undo(head, lines, sent)


def _came(line: str) -> list[tuple[int, Sent]]:
    """Return what a step says of its sets; nothing where its line was cut off."""
    try:
        step = msgspec.json.decode(line, type=SentLine)
    except (msgspec.DecodeError, UnicodeError):
        return []
    return [(number, step.came) for number in step.sets]

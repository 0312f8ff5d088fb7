"""The journal of a watch: every sighting as a line of JSON, written as it comes, so that a watch survives a crash.

Strategy: the first line says what is watched and where; the others are sightings in the order in which they were made. A last
line that was cut off in the middle, as a crash leaves one, is dropped; anything else that does not fit is an error.
"""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import IO, Annotated, Literal

import msgspec

from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Sighting, Slot, State, Watch
from salt_mirror.dns.errors import about
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import rdata_from_text, rdata_text, type_from_text, type_text
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import json_lines, read_bytes, whole
from salt_mirror.keeping.locking import lock
from salt_mirror.keeping.writing import PRIVATE

VERSION = "salt-mirror/journal/1"


Moment = Annotated[float, msgspec.Meta(ge=0, le=32_503_680_000)]
"""Seconds since 1970, up to the year 3000."""
Seconds = Annotated[int, msgspec.Meta(ge=0, le=2**31)]


class GoalLine(msgspec.Struct, frozen=True):
    """A goal as it is written: name and type, the values in presentation form, whether there may be others, the TTL (seconds)
    that is waited for, where only that changes, and whether aliases are followed."""

    name: str
    type: str
    values: list[str]
    among_others: bool = False
    ttl: Seconds | None = None
    through: bool = True


class Head(msgspec.Struct, frozen=True):
    """The first line: what is watched. `began_at` in seconds since 1970; `bound_s` what the budget gave; `at` and `vantages`
    which caches were named, and from where they are asked, as the words of the options."""

    journal: str
    began_at: Moment
    goals: list[GoalLine]
    bound_s: Seconds | None = None
    at: list[str] = []
    vantages: list[str] = []


class Line(msgspec.Struct, frozen=True, omit_defaults=True):
    """One sighting of one goal (by its place in the head) at one vantage."""

    at: Moment
    vantage: str
    kind: Literal["authoritative", "cache"]
    goal: int
    state: State
    values: list[str] = []
    exists: bool = True
    ttl: Seconds | None = None
    trouble: str | None = None
    peeked: bool = False
    settled: bool = False


def goal_line(goal: Goal) -> GoalLine:
    """Return a goal as it is written."""
    values = sorted(rdata_text(goal.rdtype, value) for value in goal.values)
    return GoalLine(to_text(goal.name), type_text(goal.rdtype), values, goal.among_others, goal.ttl, goal.through)


def goal_in(line: GoalLine) -> Goal:
    """Return a goal as it was written. Raises Unusable."""
    rdtype = type_from_text(line.type)
    values = frozenset(rdata_from_text(rdtype, text) for text in line.values)
    return Goal(from_text(line.name), rdtype, values, line.among_others, line.through, line.ttl)


class Journal:
    """A journal that is being written. Every line is flushed.

    One that cannot be written any more, as on a full disk, does not end the watch: `trouble` says what became of it.
    """

    def __init__(
        self,
        path: Path,
        goals: list[Goal],
        began_at: float,
        bound_s: int | None,
        *,
        again: bool,
        at: list[str] | None = None,
        vantages: list[str] | None = None,
    ) -> None:
        """`again`: the file is there, sound, and goes on. `at` and `vantages` as in its head."""
        self._goals = {goal: number for number, goal in enumerate(goals)}
        self.trouble = ""
        try:
            if not again and path.is_file() and path.stat().st_size:
                raise BadInput(
                    f"--journal: {shown_path(path)} is there already; --resume goes on with it, or name another file"
                )
            flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_BINARY", 0)
            self._file: IO[bytes] = os.fdopen(os.open(path, flags, PRIVATE), "ab")
        except (OSError, ValueError) as error:
            why = getattr(error, "strerror", None) or error
            raise BadInput(f"--journal: {shown_path(path)} cannot be written: {why}") from None
        if not lock(self._file):
            self._file.close()
            raise BadInput(f"--journal: {shown_path(path)} is being written by another watch")
        if again:
            _drop_torn(path)
        else:
            self._write(Head(VERSION, began_at, [goal_line(goal) for goal in goals], bound_s, at or [], vantages or []))

    def add(self, slot: Slot, sighting: Sighting) -> None:
        """Write a sighting down."""
        goal = slot.goal
        self._write(
            Line(
                sighting.at, slot.vantage.server.label, "cache" if slot.vantage.cache else "authoritative",
                self._goals[goal], slot.state, [rdata_text(goal.rdtype, value) for value in sighting.values],
                sighting.exists, sighting.ttl, sighting.trouble, sighting.peeked, slot.settled_at is not None,
            )
        )  # fmt: skip

    def _write(self, line: msgspec.Struct) -> None:
        if self.trouble:
            return
        try:
            self._file.write(msgspec.json.encode(line) + b"\n")
            self._file.flush()
        except OSError as error:
            self.trouble = f"--journal: it could not be written to the end: {error.strerror}"

    def close(self) -> None:
        """Close the file."""
        with contextlib.suppress(OSError):  # what could not be flushed was told
            self._file.close()


def read_journal(path: Path) -> tuple[Head, list[Line]]:
    """Return a journal's head and its sightings; a last line that was cut off is left out. Raises BadInput."""
    raw = read_bytes(path)
    sound, _, _ = raw.rpartition(b"\n")
    first, _, rest = sound.partition(b"\n")
    if not first.strip():
        raise BadInput(f"{path}: is no journal: its first line is missing")
    try:
        head = msgspec.json.decode(first, type=Head)
    except (msgspec.DecodeError, UnicodeError) as error:
        raise BadInput(f"{path}, line 1: is no head of a journal: {error}") from None
    with about(f"{path}, line 1"):
        for goal in head.goals:
            goal_in(goal)
    if not head.goals:
        raise BadInput(f"{path}, line 1: is no head of a journal: it names nothing to watch")
    if head.journal != VERSION:
        raise BadInput(f"{path}: is a journal of another version ({head.journal}); expected {VERSION}")
    found = [line for _, line in whole(json_lines(rest.splitlines(), Line, path, 2))]
    return head, found


def _drop_torn(path: Path) -> None:
    """Take away a last line that was cut off."""
    sound, _, torn = path.read_bytes().rpartition(b"\n")
    if torn:
        with path.open("r+b") as file:
            file.truncate(len(sound) + 1)


def replay(watch: Watch, goals: list[Goal], lines: list[Line], path: Path, now: float) -> None:
    """Tell a watch what a journal has seen; what it saw later than `now`, since the clock was set back, it saw now. Raises
    BadInput for values that are none."""
    slots = {(slot.vantage.server.label, slot.vantage.cache, slot.goal): slot for slot in watch.slots}
    for number, line in enumerate(lines, 2):
        if not 0 <= line.goal < len(goals):
            raise BadInput(f"{path}, line {number}: there is no goal {line.goal}")
        goal = goals[line.goal]
        slot = slots.get((line.vantage, line.kind == "cache", goal))
        if slot is None:
            continue  # a vantage that is not watched any more
        with about(f"{path}, line {number}"):
            values = tuple(sorted(rdata_from_text(goal.rdtype, text) for text in line.values))
        watch.recall(slot, Sighting(min(line.at, now), values, line.exists, line.ttl, line.trouble, line.peeked))

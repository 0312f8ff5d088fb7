"""An approval file: a plan as it was looked through, with who made it, until when it may be sent, and digests of it.

Strategy: the first line is the head, each other line a set. The head has a digest of the sets, so that an altered file is seen,
and one of what they were judged on: each set as it was on its primary, and what the estate expected of it. A digest proves that
nothing was altered by mistake or in passing; who may write the file may write its digest too, so it is quoted where the plan is
approved, in the ticket.
"""

from __future__ import annotations

import getpass
import socket
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from pathlib import Path

import msgspec
from msgspec.structs import replace

from salt_mirror.checks.common.expected import Expects
from salt_mirror.checks.plan.sets import PlannedSet, line_of, texts
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import json_lines, read_text, whole
from salt_mirror.keeping.writing import digest_of_lines

VERSION = "salt-mirror/approval/1"


class Approval(msgspec.Struct, frozen=True, kw_only=True):
    """The head: when (UTC) and by whom the plan was made, of which estate, until when (UTC) it may be sent, how many sets it
    has, and the SHA-256 of their lines and of what they were judged on. Without `valid_until` it may be sent for ever."""

    approval: str
    made: datetime
    by: str
    estate: str
    valid_until: datetime | None = None
    sets: int
    judged_on: str
    digest: str = ""

    @property
    def says(self) -> str:
        """Who made it, until when it may be sent, and what to compare its digest with."""
        until = f", valid until {self.valid_until:%Y-%m-%d %H:%M} UTC" if self.valid_until is not None else ""
        return f"the plan {self.digest[:16]}, made {self.made:%Y-%m-%d %H:%M} UTC by {self.by}{until}"


def approval_of(
    sets: Sequence[PlannedSet], expects: Expects, estate: str, made: datetime, valid_s: float | None
) -> Approval:
    """Return the head for some sets; `valid_s` is for how many seconds they may be sent."""
    head = Approval(
        approval=VERSION,
        made=made,
        by=_who(),
        estate=estate,
        valid_until=made + timedelta(seconds=valid_s) if valid_s is not None else None,
        sets=len(sets),
        judged_on=judged_on(sets, expects),
    )
    return replace(head, digest=digest_of(head, map(line_of, sets)))


def _who() -> str:
    """Return the user and the computer, as far as they are known."""
    try:
        user = getpass.getuser()
    except (KeyError, OSError, ImportError):  # a container's user may have no name, and Windows no such module
        user = "?"
    return f"{user}@{socket.gethostname()}"


def digest_of(head: Approval, lines: Iterable[SetLine]) -> str:
    """Return the SHA-256 of a plan, its head but for the digest itself included, whatever a file has between its lines."""
    return digest_of_lines(map(msgspec.json.encode, (replace(head, digest=""), *lines)))


def judged_on(sets: Iterable[PlannedSet], expects: Expects) -> str:
    """Return the SHA-256 of what sets were judged on: each as it is on its primary, and what the estate expects of it."""
    values = []
    for planned in sorted(sets, key=lambda one: one.key):
        key = planned.key
        wanted = expects.set_at(key.view, key.name, key.rdtype)
        expected = (
            (texts(key.rdtype, wanted.values), texts(key.rdtype, wanted.absent), wanted.exact, wanted.gone, wanted.ttl)
            if wanted is not None
            else None
        )
        state = (
            key.view,
            key.zone,
            key.name,
            key.rdtype,
            texts(key.rdtype, planned.before),
            planned.ttl_before,
            expected,
        )
        values.append(msgspec.json.encode(state))
    return digest_of_lines(values)


def is_plan(path: Path) -> bool:
    """Return whether a file is a plan with its head, and no list of records."""
    return _has_head(read_text(path))


def _has_head(text: str) -> bool:
    return '"approval"' in text.partition("\n")[0][:40]


def sets_of_view(path: Path, view: str | None) -> list[SetLine]:
    """Return the sets of a plan in one view, whether it may still be sent or not. Raises BadInput where it is of several views
    and none is chosen, or has nothing in the one that is."""
    lines = from_end_to_end(read_plan(path, None)[1])
    views = sorted({line.view for line in lines})
    if view is None and len(views) > 1:
        raise BadInput(
            f"--plan: {shown_path(path)} changes several views ({', '.join(views)}): --view says which is meant"
        )
    found = [line for line in lines if view in (None, line.view)]
    if not found:
        raise BadInput(f"--plan: {shown_path(path)} changes nothing in the view {view}")
    return found


def from_end_to_end(lines: Iterable[SetLine]) -> list[SetLine]:
    """Return each set of a plan once: as it is before the first of its phases, and after the last."""
    found: dict[tuple[str, str, str], SetLine] = {}
    for line in lines:
        key = (line.view, line.name, line.type)
        first = found.get(key, line)
        found[key] = replace(line, before=first.before, ttl_before=first.ttl_before, named=first.named)
    return [
        line
        for line in found.values()
        if sorted(line.before) != sorted(line.after) or (line.after and line.ttl_before != line.ttl_after)
    ]


def read_plan(path: Path, moment: datetime | None) -> tuple[Approval | None, list[SetLine]]:
    """Read a plan: its head, where it has one, and its sets. Raises BadInput for one that was altered, or whose time is
    over at a moment, where one is given."""
    text = read_text(path)
    lines = text.splitlines()
    head: Approval | None = None
    if _has_head(text):
        try:
            head = msgspec.json.decode(lines[0], type=Approval)
        except (msgspec.DecodeError, UnicodeError) as error:
            raise BadInput.at(path, 1, f"is no head of a plan: {error}") from None
        if head.approval != VERSION:
            raise BadInput(f"{shown_path(path)} is a plan of another version; expected {VERSION}")
    sets = [line for _, line in whole(json_lines(lines[1:] if head else lines, SetLine, path, 2 if head else 1))]
    if not sets:
        raise BadInput.at(path, None, "has no set to change")
    if head is not None and (len(sets) != head.sets or digest_of(head, sets) != head.digest):
        raise BadInput(
            f"{shown_path(path)} was altered since it was made: nothing is sent; plan again, and have it approved"
        )
    if head is not None and head.valid_until is not None and moment is not None and moment >= head.valid_until:
        raise BadInput(
            f"{shown_path(path)} was valid until {head.valid_until:%Y-%m-%d %H:%M} UTC: nothing is sent; plan again"
        )
    return head, sets

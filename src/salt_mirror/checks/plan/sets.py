"""What a plan is made of: record sets as they are and as they are to be, and what became of every finding.

Strategy: plain data. A set is known by its view, zone, name and type; before and after are whole sets, so that nothing is left
to be worked out when they are sent, written down, undone or compared.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import msgspec

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.dns.edits import SetEdit
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import rdata_from_text, rdata_text, record_line, type_from_text, type_text
from salt_mirror.findings import Fate, Finding


class SetKey(NamedTuple):
    """One record set of one zone in one view."""

    view: str
    zone: Name
    name: Name
    rdtype: int


class Held(NamedTuple):
    """What a server holds of a set: its values, their TTL in seconds, and whether the name owns any record at all."""

    values: frozenset[bytes]
    ttl: int | None
    named: bool


@dataclass(slots=True)
class PlannedSet:
    """One set before and after. TTLs in seconds; `named`: the name owned records before, of whatever type.

    `server` is the primary that a change goes to, None where none is known; `reasons` say why; `phase` is the part of a larger
    job that it belongs to, if it does.
    """

    key: SetKey
    before: frozenset[bytes]
    after: frozenset[bytes]
    ttl_before: int | None
    ttl_after: int | None
    named: bool
    server: Server | None
    reasons: list[str] = field(default_factory=list)
    phase: str = ""

    @property
    def only_ttl(self) -> int | None:
        """The TTL that it gets, in seconds, where nothing else of it changes."""
        return self.ttl_after if self.before == self.after else None

    @property
    def differs(self) -> bool:
        """Whether anything is to change."""
        return self.before != self.after or (bool(self.after) and self.ttl_before != self.ttl_after)

    def turned(self) -> PlannedSet:
        """Return the way back."""
        return PlannedSet(self.key, self.after, self.before, self.ttl_after, self.ttl_before, True, self.server)


def line_of(planned: PlannedSet) -> SetLine:
    """Return a set as text."""
    key = planned.key
    return SetLine(
        view=key.view, zone=to_text(key.zone), name=to_text(key.name), type=type_text(key.rdtype),
        ttl_before=planned.ttl_before, before=texts(key.rdtype, planned.before), ttl_after=planned.ttl_after,
        after=texts(key.rdtype, planned.after), named=planned.named,
        server=planned.server.label if planned.server is not None else "",
        reasons=planned.reasons, phase=planned.phase or msgspec.UNSET,
    )  # fmt: skip


def set_of(line: SetLine, server: Server | None) -> PlannedSet:
    """Return a set from its text. Raises Unusable."""
    rdtype = type_from_text(line.type)
    key = SetKey(line.view, from_text(line.zone), from_text(line.name), rdtype)
    before, after = (
        frozenset(rdata_from_text(rdtype, text) for text in values) for values in (line.before, line.after)
    )
    return PlannedSet(
        key, before, after, line.ttl_before, line.ttl_after, line.named, server, list(line.reasons), line.phase or ""
    )


def texts(rdtype: int, values: frozenset[bytes]) -> list[str]:
    """Values in presentation form, in canonical order."""
    return [rdata_text(rdtype, value) for value in sorted(values)]


class Left(NamedTuple):
    """A finding that the plan does not mend, why, and what kind of reason that is."""

    finding: Finding
    why: str
    fate: Fate = "not ours"


@dataclass(slots=True)
class Plan:
    """All that is to change, and what that does to the findings that were `found`: `mended` by it, `not_ours` to change, or
    `waiting` for a decision; `unverified` is how many things could not be verified. `left_out` are sets of an older plan
    that are not planned any more, and why; `servers` are those that have to have each set."""

    sets: list[PlannedSet]
    found: list[Finding]
    mended: list[Finding] = field(default_factory=list)
    not_ours: list[Left] = field(default_factory=list)
    waiting: list[Finding] = field(default_factory=list)
    unverified: int = 0
    left_out: dict[SetKey, str] = field(default_factory=dict)
    servers: dict[SetKey, tuple[Server, ...]] = field(default_factory=dict)

    @property
    def zones(self) -> dict[tuple[str, Name], list[PlannedSet]]:
        """The sets by view and zone."""
        found: dict[tuple[str, Name], list[PlannedSet]] = {}
        for planned in self.sets:
            found.setdefault((planned.key.view, planned.key.zone), []).append(planned)
        return found

    @property
    def headline(self) -> str:
        """The plan in one sentence."""
        parts = []
        for weight in ("fault", "caution"):
            total = sum(one.weight == weight and one.outcome != "unverified" for one in self.found)
            if total:
                parts.append(f"{sum(one.weight == weight for one in self.mended):,} of {many(total, weight)}")
        if not parts and self.unverified:
            return f"Nothing that could be verified differs; {many(self.unverified, 'subject')} could not be verified."
        if not parts:
            return "Nothing differs: there is nothing to mend."
        if self.sets:
            verb = "mends" if len(self.sets) == 1 else "mend"
            zones = many(len(self.zones), "zone")
            says = f"{many(len(self.sets), 'change')} in {zones} {verb} {' and '.join(parts)}"
        else:
            says = f"Nothing is ours to change of {' and '.join(part.partition(' of ')[2] for part in parts)}"
        if self.not_ours:
            number = len(self.not_ours)
            says += f"; {number:,} {'is' if number == 1 else 'are'} not ours to change" if self.sets else ""
        if self.waiting:
            says += f"; {len(self.waiting):,} {'waits' if len(self.waiting) == 1 else 'wait'} for a decision"
        return says + "."


def gone_of(planned: PlannedSet) -> list[str]:
    """Return the records of a set that go, as lines of a master file; all of them where their TTL changes."""
    gone = planned.before if planned.ttl_before != planned.ttl_after else planned.before - planned.after
    return [record_line(planned.key.name, planned.key.rdtype, value, planned.ttl_before) for value in sorted(gone)]


def come_of(planned: PlannedSet) -> list[str]:
    """Return the records of a set that come."""
    come = planned.after if planned.ttl_before != planned.ttl_after else planned.after - planned.before
    return [record_line(planned.key.name, planned.key.rdtype, value, planned.ttl_after) for value in sorted(come)]


def record_lines(planned: PlannedSet) -> list[str]:
    """Return a set as lines of a master file: what comes, and before it what goes, in comments."""
    return [*(f"; remove: {line}" for line in gone_of(planned)), *come_of(planned)]


def edit_of(planned: PlannedSet) -> SetEdit:
    """Return a set as it is sent."""
    return SetEdit(
        planned.key.name,
        planned.key.rdtype,
        planned.before,
        planned.after,
        planned.ttl_before,
        planned.ttl_after,
        planned.named,
    )

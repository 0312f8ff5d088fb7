"""The rehearsal as it is reported: each zone's new version on its servers, what vanishes, how long caches keep the old data,
what is mended."""

from __future__ import annotations

from typing import Literal

import msgspec

from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.findings import FileLine, Finding


class ZoneRow(msgspec.Struct, frozen=True, kw_only=True):
    """One zone that changes: from which file, its serials, how many record sets come, go and change. `before` says how the
    zone was seen as it is now: `whole`, by asking for what is known (`asked`), not at all (`unseen`), or that no server has it
    (`absent`); `takes`, `keeps`
    and `unknown` are servers by what they do with the new version."""

    zone: str
    view: str
    file: str
    serial_before: int | None
    serial_after: int | None
    come: int
    gone: int
    changed: int
    before: Literal["whole", "asked", "absent", "unseen"]
    takes: list[str] = []
    keeps: list[str] = []
    unknown: list[str] = []


class VanishingRow(msgspec.Struct, frozen=True, kw_only=True):
    """A record set that vanishes, or values of one; `needed` says by what it is still needed, if by anything."""

    view: str
    zone: str
    name: str
    type: str
    values: list[str]
    needed: list[str] = []


class WaitRow(msgspec.Struct, frozen=True, kw_only=True):
    """How long caches keep what some record sets are now: `sets` of them, the first with `name` and `type`; `kept_s` in
    seconds by the old TTL, or the negative TTL where `negative`; `spread_s` is how much later a secondary may have the change
    when a notify is lost. `lower` is the TTL to set beforehand, `lead_s` how long before."""

    view: str
    zone: str
    name: str
    type: str
    sets: int
    kept_s: int
    negative: bool
    spread_s: int
    lower: int | None = None
    lead_s: int | None = None


class PhaseRow(msgspec.Struct, frozen=True, kw_only=True):
    """One phase of a renumbering: its record sets, the new faults once it is done, how long to wait then until caches have it
    (`wait_s`, in seconds), and how much longer where a notify is lost."""

    phase: str
    sets: list[SetLine]
    faults: int
    wait_s: int
    late_s: int


class RehearsalSheet(msgspec.Struct, frozen=True, kw_only=True):
    """What a rehearsal adds to its new findings: `mended` are findings of today that are gone afterwards, `left` how many stay;
    `vanishing` is complete only where `whole` (every zone that changes was seen whole). Without `compared` there was nothing
    before: zone files by themselves. `phases` are those of a renumbering, `edits` the lines of the estate's files that go with
    it, and `written` is the plan's file."""

    zones: list[ZoneRow]
    vanishing: list[VanishingRow]
    waits: list[WaitRow]
    mended: list[Finding]
    left: int
    whole: bool
    compared: bool = True
    phases: list[PhaseRow] = []
    edits: list[FileLine] = []
    written: str = ""

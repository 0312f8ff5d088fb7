"""Sheets: what was seen of a zone, on a way down, or in a tree of tests, as plain data that a report can lay out.

Strategy: text and numbers alone, names absolute and escaped; what is wrong with any of it stands in the findings.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Literal, NamedTuple

import msgspec

from salt_mirror.findings import Finding, Outcome


class SoaField(msgspec.Struct, frozen=True, kw_only=True):
    """One field of the SOA: its value, the same as people read it, and a judgement where it is out of bounds."""

    field: str
    value: str
    reads: str = ""
    judgement: str = ""


class ServerRow(msgspec.Struct, frozen=True, kw_only=True):
    """One authoritative server at one place. `behind` counts versions behind the newest (negative: ahead of the primary).

    `names` are the NS names that lead to it, `listed` who names it (parent, zone, estate); `udp` and `tcp` are `answers` or
    why not; `state` is `authoritative` or how it is not; `edns` the payload in bytes. None: not known.
    """

    server: str
    endpoint: str
    names: list[str]
    addresses: list[str]
    listed: list[str]
    udp: str
    tcp: str
    state: str
    serial: int | None
    behind: int | None
    rtt_ms: float | None
    name_servers: list[str] | None
    edns: int | None
    cookies: bool | None
    recursion: bool | None
    transfer: bool | None


class NameServer(msgspec.Struct, frozen=True, kw_only=True):
    """One name server's name: who lists it, its addresses on its own authoritative servers, its glue at the parent."""

    name: str
    listed: list[str]
    addresses: list[str]
    glue: list[str]
    trouble: str = ""


class Sheet(msgspec.Struct, frozen=True, kw_only=True):
    """A zone in one view. `parent` is the zone above with what it says in `parent_says`; `sums` what the timers add up to;
    `not_asked` are addresses of its servers that this computer has no way to."""

    zone: str
    view: str
    outcome: Outcome
    says: str
    soa: list[SoaField] = []
    sums: list[str] = []
    servers: list[ServerRow] = []
    name_servers: list[NameServer] = []
    parent: str = ""
    parent_says: str = ""
    content: str = ""
    not_asked: list[str] = []


class StepServer(msgspec.Struct, frozen=True, kw_only=True):
    """One server of a level: what it says in words; `kind` is `refers`, `answers`, `lame` or `silent`."""

    server: str
    endpoint: str
    address: str
    kind: str
    says: str
    rtt_ms: float | None


class Step(msgspec.Struct, frozen=True, kw_only=True):
    """One level of a descent: the zone, its servers, and what is remarkable about it."""

    zone: str
    servers: list[StepServer]
    remarks: list[str] = []


class Leg(msgspec.Struct, frozen=True, kw_only=True):
    """The way to one name, and what a resolver that went it would have cached, each with its TTL in seconds."""

    name: str
    type: str
    steps: list[Step]
    values: list[str]
    alias: str = ""
    cached: list[str] = []


Mark = Literal["ok", "note", "caution", "unverified", "fault"]
MARKS: tuple[Mark, ...] = ("ok", "note", "caution", "unverified", "fault")
"""How a test ended, from the best to the worst."""


class Test(msgspec.Struct, frozen=True, kw_only=True):
    """One test with the tests inside it: what was tested, what came of it, and why it matters, each in one line."""

    mark: Mark
    title: str
    says: str = ""
    why: str = ""
    tests: list[Test] = []


class Judged(NamedTuple):
    """A tree of tests, and every finding in it."""

    test: Test
    findings: list[Finding] = []  # noqa: RUF012


def worst(marks: Iterable[Mark]) -> Mark:
    """The worst of some marks; `ok` of none."""
    return max(marks, key=MARKS.index, default="ok")


def mark_of(findings: Iterable[Finding]) -> Mark:
    """How a test ended that these findings came of."""
    return worst("unverified" if finding.outcome == "unverified" else finding.weight for finding in findings)


def outcome_of(mark: Mark) -> Outcome:
    """The outcome that a mark stands for."""
    return "differs" if mark == "fault" else "unverified" if mark == "unverified" else "agrees"


class VantageRow(msgspec.Struct, frozen=True, kw_only=True):
    """One vantage of a watch: how many of its records are in which state, when it settled (UTC), when it was due to.

    `ttl_left` in seconds is what is left of the entry that is waited for longest.
    """

    vantage: str
    endpoint: str
    kind: str
    group: str
    states: dict[str, int]
    settled: bool
    settled_at: datetime | None
    predicted: datetime | None
    ttl_left: int | None
    asked: int
    members: int
    values: list[str]
    notes: list[str]

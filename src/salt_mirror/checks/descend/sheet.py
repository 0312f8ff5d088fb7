"""The way to a name as plain data that a report can lay out: its levels, their servers, what each of them said.

Strategy: text and numbers alone; what is wrong with any of it stands in the findings.
"""

from __future__ import annotations

import msgspec


class StepServer(msgspec.Struct, frozen=True, kw_only=True):
    """One server of a level: what it says in words; `kind` is `refers`, `answers`, `lame` or `silent`."""

    server: str
    endpoint: str
    address: str
    kind: str
    says: str
    rtt_ms: float | None


class TrustRow(msgspec.Struct, frozen=True, kw_only=True):
    """One link of the chain of trust: a zone, or the name at the end; `trust` is `signed`, `insecure` (proved not to be
    signed), `bogus` or `unverified`, `why` what led to that; `failing` are the servers on which it does not hold, each with
    why."""

    name: str
    trust: str
    why: str = ""
    failing: list[str] = []


class Step(msgspec.Struct, frozen=True, kw_only=True):
    """One level of a descent: the zone, its servers, and what is remarkable about it."""

    zone: str
    servers: list[StepServer]
    remarks: list[str] = []


class LegSheet(msgspec.Struct, frozen=True, kw_only=True):
    """The way to one name, and what a resolver that went it would have cached, each with its TTL in seconds."""

    name: str
    type: str
    steps: list[Step]
    values: list[str]
    alias: str = ""
    cached: list[str] = []
    chain: list[TrustRow] = []

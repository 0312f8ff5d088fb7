"""A watch as plain data that a report can lay out: a row for each vantage."""

from __future__ import annotations

from datetime import datetime

import msgspec


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

"""What a look at ages adds to a report: how many records are of which age, how zones age, what goes when."""

from __future__ import annotations

import msgspec


class ZoneAges(msgspec.Struct, frozen=True, kw_only=True):
    """How one zone ages, and of what its records are. Times in hours, None where nobody says; `tombstones` are names that the
    directory keeps as gone."""

    zone: str
    view: str
    sources: list[str]
    aging: bool | None
    no_refresh_h: int | None
    refresh_h: int | None
    scavenged: bool | None
    static: int
    dynamic: int
    unknown: int
    tombstones: int = 0


class Due(msgspec.Struct, frozen=True, kw_only=True):
    """What ages away on one day (local time): how many records, how many of them are needed, and the first names."""

    day: str
    records: int
    needed: int
    names: list[str]


class Group(msgspec.Struct, frozen=True, kw_only=True):
    """Records that no longer belong, by what they have in common: how many for each reason."""

    key: str
    stale: int
    left: int
    dangling: int


class AgeSheet(msgspec.Struct, frozen=True, kw_only=True):
    """All of it. `days` are dynamic records by whole days since their last refresh."""

    records: int
    static: int
    dynamic: int
    unknown: int
    stale: int
    left: int
    dangling: int
    needed: int
    days: dict[int, int]
    zones: list[ZoneAges]
    forecast: list[Due] = []
    groups: list[Group] = []
    by: str = ""

"""How records age: what is registered, when each record was last refreshed, and who has which address by lease, as plain data.

Strategy: it is read when a check wants it (`estate.exports`), since an export has every record of a zone. A stamp counts
hours since 1601 in UTC, as directory servers write it (MS-DNSP section 2.3.2.2); 0 is a static record.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from salt_mirror.dns.errors import number_in
from salt_mirror.dns.names import Name, shown
from salt_mirror.estate.errors import BadInput

EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
Key = tuple[Name, int, bytes]
"""A record: owner, type, canonical rdata."""
_UNITS = {"h": 1, "d": 24, "w": 168}


@dataclass(frozen=True, slots=True)
class Aging:
    """How records of a zone age: whether they do, for how many hours no refresh is taken, for how many more one is waited for,
    and whether anything takes away what has aged. None where nobody says."""

    on: bool | None = None
    no_refresh_h: int | None = None
    refresh_h: int | None = None
    scavenged: bool | None = None

    @property
    def life_h(self) -> int | None:
        """How many hours after its last refresh a record has aged."""
        if self.no_refresh_h is None or self.refresh_h is None:
            return None
        return self.no_refresh_h + self.refresh_h


@dataclass(slots=True)
class Registered:
    """What one source says is registered in a zone: each record with its stamp, and how the zone ages; `gone` are names that it
    keeps as tombstones, which nobody should serve."""

    source: str
    stamps: dict[Key, int]
    aging: Aging
    tombstones: int = 0
    gone: tuple[Name, ...] = ()
    unread: int = 0


class Leased(NamedTuple):
    """The last word of an address server on an address: whether it still holds, for which host, and until when (seconds since
    1970, None for ever)."""

    live: bool
    host: Name | None
    until: float | None


@dataclass(slots=True)
class Ages:
    """All that is known of ages: sources by view and apex, the last lease of each address."""

    zones: dict[tuple[str, Name], list[Registered]] = field(default_factory=dict)
    leases: dict[bytes, Leased] = field(default_factory=dict)


def moment_of(stamp_h: int) -> datetime:
    """Return the moment of a stamp, in UTC."""
    return EPOCH + timedelta(hours=stamp_h)


def hours_since_1601(moment: datetime) -> float:
    """Return the hours from the beginning of stamps to a moment."""
    return (moment - EPOCH).total_seconds() / 3600


def hours_in(text: str, place: str) -> int | None:
    """Read a time such as 7d, 168h or 2w in hours; None for an empty one. Raises BadInput."""
    if not text:
        return None
    number = number_in(text[:-1].strip(), 100_000)
    if text[-1:] not in _UNITS or number is None:
        raise BadInput(f"{place}: {shown(text)} is no time; expected hours, days or weeks, such as 168h, 7d or 1w")
    return number * _UNITS[text[-1]]


def newest(sources: Iterable[Registered]) -> dict[Key, int]:
    """Return the stamps of several copies of a zone: the latest of each record; static where any says so."""
    found: dict[Key, int] = {}
    for source in sources:
        for key, stamp in source.stamps.items():
            other = found.get(key)
            found[key] = stamp if other is None else 0 if 0 in (stamp, other) else max(stamp, other)
    return found

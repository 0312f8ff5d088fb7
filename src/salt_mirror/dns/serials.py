"""Serial numbers of zones: which of two is newer, how far apart they are, and what people write into them.

Strategy: serials live on a circle of 2^32 (RFC 1982). Nothing else in the program compares them; a pair that stands half
the circle apart has no order (section 3.2), and that is said, not guessed.
"""

from __future__ import annotations

from collections.abc import Collection
from datetime import UTC, date, datetime, timedelta

CIRCLE = 1 << 32
_HALF = 1 << 31
_FIRST_DATE = date(1987, 11, 1)  # RFC 1034 and RFC 1035


def ahead(one: int, other: int) -> int | None:
    """Return how far `one` is ahead of `other`, negative when it is behind; None when they have no order (RFC 1982 section
    3.2)."""
    distance = (one - other) % CIRCLE
    if distance == _HALF:
        return None
    return distance if distance < _HALF else distance - CIRCLE


def newest(serials: Collection[int]) -> int | None:
    """Return the serial that none of the others is ahead of; None when there is no such one, or there are no serials."""
    for candidate in serials:
        if all((distance := ahead(candidate, other)) is not None and distance >= 0 for other in serials):
            return candidate
    return None


def serial_date(serial: int) -> tuple[date, int] | None:
    """Return a serial of the form YYYYMMDDnn (RFC 1912 section 2.2) as the day and the number of the change on it, else
    None."""
    day, number = divmod(serial, 100)
    try:
        found = date(day // 10_000, day // 100 % 100, day % 100)
    except ValueError:
        return None
    return (found, number) if found >= _FIRST_DATE and found.year < 2100 else None


def serial_moment(serial: int, now: datetime) -> datetime | None:
    """Return a serial that counts the seconds since 1970, when that gives a moment of the last 25 years (UTC); else None."""
    moment = datetime.fromtimestamp(serial, UTC)
    return moment if now - timedelta(days=25 * 365) < moment <= now + timedelta(days=1) else None

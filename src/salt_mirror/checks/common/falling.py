"""In which zones of an estate the records of a list fall."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from salt_mirror.checks.common.wording import many
from salt_mirror.dns.names import Name, printable, to_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate

Place = tuple[str, Name]
"""A view, and the apex of a zone in it."""


def places_of(expectations: Iterable[Expectation], estate: Estate, view: str | None = None) -> Counter[Place | None]:
    """Return how many expectations fall in each zone of the estate, and in none."""
    zones = (estate.nearest_zone(one.name, view) for one in expectations)
    return Counter((zone.view, zone.apex) if zone is not None else None for zone in zones)


def in_words(expectations: Iterable[Expectation], estate: Estate, view: str | None = None) -> list[str]:
    """Return how many records fall in which zone, most first, and the first names that are in none."""
    expected = list(expectations)
    lines = []
    for place, count in places_of(expected, estate, view).most_common():
        if place is not None:
            of_view = f" (view {printable(place[0])})" if place[0] else ""
            lines.append(f"{many(count, 'record')} in {to_text(place[1])}{of_view}")
            continue
        strays = dict.fromkeys(one.name for one in expected if estate.nearest_zone(one.name, view) is None)
        named = ", ".join(to_text(name) for name, _ in zip(strays, range(_NAMED), strict=False))
        more = f" and {len(strays) - _NAMED:,} more" if len(strays) > _NAMED else ""
        lines.append(f"{many(count, 'record')} in no zone of the estate: {named}{more}")
    return lines


_NAMED = 3
"""So many names are given."""

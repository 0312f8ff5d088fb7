"""In which zones of an estate the records of a list fall."""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.common.wording import many
from salt_mirror.dns.names import Name, printable, to_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate

Place = tuple[str, Name]
"""A view, and the apex of a zone in it."""


def by_place(
    expectations: Iterable[Expectation], estate: Estate, view: str | None = None
) -> dict[Place | None, list[Name]]:
    """Return the names of expected records by the zone that they fall in; those that fall in none under None."""
    found: dict[Place | None, list[Name]] = {}
    for expectation in expectations:
        zone = estate.nearest_zone(expectation.name, view)
        found.setdefault((zone.view, zone.apex) if zone is not None else None, []).append(expectation.name)
    return found


def in_words(expectations: Iterable[Expectation], estate: Estate, view: str | None = None) -> list[str]:
    """Return how many records fall in which zone, most first, and the first names that are in none."""
    lines = []
    places = by_place(expectations, estate, view)
    for place, names in sorted(places.items(), key=lambda one: -len(one[1])):
        if place is not None:
            of_view = f" (view {printable(place[0])})" if place[0] else ""
            lines.append(f"{many(len(names), 'record')} in {to_text(place[1])}{of_view}")
            continue
        strays = list(dict.fromkeys(names))
        more = f" and {len(strays) - _NAMED:,} more" if len(strays) > _NAMED else ""
        named = ", ".join(map(to_text, strays[:_NAMED]))
        lines.append(f"{many(len(names), 'record')} in no zone of the estate: {named}{more}")
    return lines


_NAMED = 3
"""So many names are given."""

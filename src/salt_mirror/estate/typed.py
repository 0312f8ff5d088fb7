"""Names as people type them, completed by one rule for every command.

Strategy: a name with a dot in it is whole; a single label stands for the only name of the estate that begins with it, else for
a name in its first forward zone.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, shown, to_text
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.errors import BadInput, nearest_word
from salt_mirror.estate.forms import check_name
from salt_mirror.estate.model import Estate


def whole_names(text: str, estate: Estate, views: Iterable[str]) -> list[Name]:
    """Return the names of the estate that a single label stands for, among those that are expected in some views."""
    begin = from_text(text)[:-1]
    found: dict[Name, None] = {}
    for view in views:
        for zone in estate.zones.get(view, {}).values():
            if not is_reverse(zone.apex):
                found.update((one.name, None) for one in zone.expectations if one.name.startswith(begin))
        found.update((name, None) for name, _ in estate.damaged_in(view) if name.startswith(begin))
    return sorted(found, key=to_text)


def leased_names(estate: Estate) -> set[Name]:
    """Return the names in the estate's files of leases; those that cannot be read give none. Such files may be long: only call
    this for a name that the estate does not expect."""
    if not estate.lease_files:
        return set()
    from salt_mirror.estate.exports import read_leases

    origin = next((zone.apex for zone in estate.all_zones() if not is_reverse(zone.apex)), b"\0")
    found: set[Name] = set()
    for path in estate.lease_files:
        try:
            leases = read_leases(path, estate.networks, origin, 0.0).values()
        except Unusable:
            continue
        found.update(lease.host for lease in leases if lease.host is not None)
    return found


def is_short(text: str) -> bool:
    """Return whether a text is a single label without a final dot."""
    return "." not in text


def completed(text: str, estate: Estate, views: Iterable[str], otherwise: Name | None = None) -> Name:
    """Return the one name that a text stands for: a whole one for itself, a single label for the only name of the estate that
    begins with it, else for a name in the estate's first forward zone of the views, or in the zone given as `otherwise`.

    Raises Unusable.
    """
    check_name(text)
    if not is_short(text):
        return from_text(text)
    among = list(views)
    known = whole_names(text, estate, among)
    if len(known) > 1:
        raise BadInput(f"{shown(text)} can mean {' and '.join(map(to_text, known))}; write the whole name")
    if known:
        return known[0]
    zones = (zone.apex for view in among for zone in estate.zones.get(view, {}).values() if not is_reverse(zone.apex))
    return from_text(text, next(zones, otherwise))


def not_a_type(word: str, types: Iterable[str]) -> str | None:
    """Return the type that was meant by a word that is none, such as AAA; None where the word may well be a name."""
    if "." in word or not word.isalnum():
        return None
    return nearest_word(word.upper(), types, 0.6 if word.isupper() else 0.85)

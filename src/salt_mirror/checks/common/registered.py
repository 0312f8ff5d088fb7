"""Names that are known to be registered without being expected: in zones that were taken whole, or in what a directory or an
export of it has.

Strategy: what lies in hand is checked, expected or not; nothing is asked here.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator

from salt_mirror.checks.common.part import Holdings, in_hand
from salt_mirror.dns.names import Name
from salt_mirror.estate.model import Estate, Zone


def registered_names(
    estate: Estate, holdings: Holdings, rdtypes: Collection[int], view: str | None = None
) -> Iterator[tuple[Name, int, Zone]]:
    """Yield names that have records of some types, with the type and the zone, as far as they are known; no wildcards."""
    for zone in estate.all_zones():
        if view not in (None, zone.view):
            continue
        holding = in_hand(zone, holdings)
        if holding is not None:
            for name, rdtype, *_ in holding.rrsets():
                if rdtype in rdtypes and not name.startswith(b"\x01*") and not holding.is_delegated(name):
                    yield name, rdtype, zone
            continue
        for source in estate.ages.zones.get((zone.view, zone.apex), ()):
            for name, rdtype, _ in source.stamps:
                if rdtype in rdtypes and not name.startswith(b"\x01*"):
                    yield name, rdtype, zone

"""Catalog zones (RFC 9432): the list of zones that servers keep for one another."""

from __future__ import annotations

from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text, is_within, labels, to_text
from salt_mirror.dns.records import PTR, TXT, character_strings

VERSION = b"2"


def members_of(catalog: Holding) -> list[Name]:
    """Return the member zones of a catalog zone (section 4.1). Raises ValueError for a zone that is none (section 4.2.1)."""
    versions = catalog.rdata(from_text("version", catalog.apex), TXT)
    if len(versions) != 1 or character_strings(versions[0]) != [VERSION]:
        raise ValueError(
            f'{to_text(catalog.apex)} is no catalog zone: it has no version.{to_text(catalog.apex)} TXT "2" (RFC 9432)'
        )
    zones = from_text("zones", catalog.apex)
    depth = len(labels(zones)) + 1
    found: dict[Name, None] = {}
    for owner, rdtype, _, values in catalog.rrsets():
        # More than one pointer at a label makes the catalog broken (section 4.1): that member is nobody's.
        if rdtype == PTR and len(values) == 1 and is_within(owner, zones) and len(labels(owner)) == depth:
            found[values[0]] = None
    return sorted(found, key=to_text)

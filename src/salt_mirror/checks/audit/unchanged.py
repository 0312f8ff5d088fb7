"""Which zones are as they were at their last whole look: by the serials of all servers, and a digest of what is expected."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from datetime import datetime
from typing import NamedTuple

from salt_mirror.checks.authority.judging import Inspected
from salt_mirror.checks.common.narrowing import InView
from salt_mirror.dns.names import to_text
from salt_mirror.estate.model import Estate, Zone


class ZoneLook(NamedTuple):
    """How a zone stood at a whole look: when, each server's serial by its endpoint, and a digest of what is expected."""

    at: datetime
    serials: dict[str, int]
    digest: str


def digest_of(zone: Zone) -> str:
    """Return a digest of everything that the estate says of a zone and expects in it."""
    digest = hashlib.sha256(repr((zone.closed, zone.allow, zone.transfer)).encode("utf-8"))
    for server in zone.servers or ():
        digest.update(server.endpoint.encode("utf-8"))
    for one in sorted(
        repr((expectation.name, expectation.rdtype, expectation.rdata, expectation.presence, expectation.ttl)).encode(
            "utf-8"
        )
        for expectation in zone.expectations
    ):
        digest.update(one)
    return digest.hexdigest()


def looks_of(estate: Estate, inspected: Iterable[Inspected], at: datetime) -> dict[InView, ZoneLook]:
    """Return the serials and the digest of each zone whose servers are all authoritative for it."""
    zones = {(zone.view, to_text(zone.apex)): zone for zone in estate.all_zones()}
    found = {}
    for one in inspected:
        sheet = one.sheet
        key = (sheet.view, sheet.zone)
        serials = {row.endpoint: row.serial for row in sheet.servers if row.serial is not None}
        certain = sheet.servers and len(serials) == len({row.endpoint for row in sheet.servers})
        if certain and key in zones and all(row.state == "authoritative" for row in sheet.servers):
            found[key] = ZoneLook(at, serials, digest_of(zones[key]))
    return found


def unchanged_zones(before: dict[InView, ZoneLook], now: dict[InView, ZoneLook]) -> dict[InView, datetime]:
    """Return zones that stand as at their last whole look, with the moment of that."""
    return {
        key: look.at
        for key, look in before.items()
        if key in now and (now[key].serials, now[key].digest) == (look.serials, look.digest)
    }

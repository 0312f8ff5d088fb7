"""Reading ages: exported master files with age marks, what a directory tells of its zones, and files of leases."""

from __future__ import annotations

from pathlib import Path

from salt_mirror.dns.errors import about
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.aging import Ages, Aging, Leased, Registered
from salt_mirror.estate.directory.found import FoundZone
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import Networks
from salt_mirror.estate.lists.leases import isc_leases, kea_leases, xml_leases
from salt_mirror.estate.masterfile import read_master_text
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import read_text, with_feeds


def read_ages(estate: Estate, now: float) -> Ages:
    """Read every export and file of leases that an estate names; `now` in seconds since 1970. Raises BadInput."""
    found = Ages()
    for zone in estate.all_zones():
        for path in zone.ages:
            found.zones.setdefault((zone.view, zone.apex), []).append(read_export(path, zone.apex, zone.aging))
    origin = next((zone.apex for zone in estate.all_zones() if not is_reverse(zone.apex)), b"\0")
    for path in estate.lease_files:
        found.leases |= read_leases(path, estate.networks, origin, now)
    return found


def read_export(path: Path, apex: Name, aging: Aging) -> Registered:
    """Read an exported master file; a record without a mark is static. Raises BadInput for one that cannot be read, and for
    one without any mark, of which nobody knows what it means."""
    records = read_master_text(read_text(path, as_is=True), path, apex)
    if not any(one.age_h for one in records):
        raise BadInput(f"{path}: has no age marks such as [AGE:3731280]; an export of a directory server has them")
    return Registered(str(path), {(one.name, one.rdtype, one.rdata): one.age_h or 0 for one in records}, aging)


def of_directory(zone: FoundZone, url: str, said: Aging) -> Registered:
    """Return what a directory tells of a zone; `said` is what the estate says, where the directory is silent."""
    aging = Aging(
        zone.aging if zone.aging is not None else said.on,
        zone.no_refresh_h if zone.no_refresh_h is not None else said.no_refresh_h,
        zone.refresh_h if zone.refresh_h is not None else said.refresh_h,
        said.scavenged,
    )
    stamps = {(one.name, one.rdtype, one.rdata): one.age_h for one in zone.records}
    return Registered(url, stamps, aging, zone.tombstones, tuple(zone.gone), zone.unread)


def read_leases(path: Path, networks: Networks, origin: Name, now: float) -> dict[bytes, Leased]:
    """Return the last entry of each address in a file of leases, live or not. Raises BadInput."""
    text = read_text(path, as_is=True)
    begin = text.lstrip("\ufeff \r\n")
    leases: dict[bytes, Leased] = {}
    reader = kea_leases if begin.startswith("address") else xml_leases if begin.startswith("<") else isc_leases
    for lease in reader(text if reader is kea_leases else with_feeds(text), path, None):
        name = None
        if lease.host:
            zone = networks.zone_at(lease.address) or origin
            with about(f"{path}, line {lease.line}"):
                name = from_text(lease.host, zone if "." not in lease.host.rstrip(".") else None)
        live = lease.live and (lease.until is None or lease.until > now)
        leases[lease.address] = Leased(live, name, lease.until)
    return leases

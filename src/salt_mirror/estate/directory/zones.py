"""The zones that a directory keeps, each with its records (MS-DNSP section 2.3).

Strategy: what an object lacks, or has in a form that it should not, is passed over and told by its name, since whoever may
write to a directory may write anything. A copy of an object that came into being on two controllers at once is no record
either.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.records import NS
from salt_mirror.estate.directory.found import FoundLost, FoundRecord, FoundZone
from salt_mirror.estate.directory.layout import (
    AGING,
    NO_REFRESH,
    REFRESH,
    SECURE_ALONE,
    TOMBSTONE,
    UPDATES,
    ZONE_DATA,
    BadLayout,
    read_property,
    read_record,
)
from salt_mirror.estate.directory.objects import CONFLICT, Entry, Session, rdns

MOST_GONE = 1000
"""So many names that are tombstones are kept by name."""
MOST_LOST = 100
"""So many objects that are no records are kept by name."""
_NO_ZONES = re.compile(r"rootdnsservers\Z|\.\.")


def zones_in(
    session: Session,
    base: str,
    partition: str,
    hosts: list[str],
    remarks: list[str],
    lost: list[FoundLost],
    *,
    records: bool = True,
) -> Iterator[FoundZone]:
    """Return the zones below a base, which `hosts` serve; what is none goes into `remarks`, and objects that are no records
    into `lost`. Without `records` none are read."""
    for entry in list(session.search(base, "(objectClass=dnsZone)", ["name", "dNSProperty"])):
        name = entry.text("name") or rdns(entry.dn)[0][1]
        if _NO_ZONES.match(name.lower()):
            continue
        twin = CONFLICT.match(name)
        if twin is not None:
            lost.append(FoundLost(name=twin[1], place="the zones", why="conflict"))
            continue
        try:
            apex = from_text(name)
        except Unusable:
            remarks.append(f"the directory has a zone whose name is none: {name[:60]!r}")
            continue
        properties = _properties(entry)
        found = _Records(to_text(apex).rstrip("."), apex)
        if records or name.lower().startswith("_msdcs."):  # it is small, and has the aliases of all controllers
            for node in session.search(
                entry.dn, "(objectClass=dnsNode)", ["name", "dnsRecord", "dNSTombstoned"], below=True
            ):
                found.take(node)
            lost += found.lost[: max(0, MOST_LOST - len(lost))]
        yield FoundZone(
            apex=apex, partition=partition, hosts=hosts, delegated=_delegated(session, entry.dn), records=found.records,
            tombstones=len(found.gone), gone=found.gone[:MOST_GONE], unread=found.unread,
            aging=bool(properties[AGING]) if AGING in properties else None, no_refresh_h=properties.get(NO_REFRESH),
            refresh_h=properties.get(REFRESH),
            secure_updates=properties[UPDATES] == SECURE_ALONE if UPDATES in properties else None,
        )  # fmt: skip


def _delegated(session: Session, zone_dn: str) -> list[Name]:
    """Return the name servers to which a zone delegates its `_msdcs`. No server tells that which holds both zones."""
    node = session.at(f"DC=_msdcs,{zone_dn}", ["dnsRecord", "dNSTombstoned"])
    if node is None or node.text("dnstombstoned").upper() == "TRUE":
        return []
    values = []
    for raw in node.raw("dnsrecord"):
        try:
            record = read_record(raw)
        except BadLayout:
            continue
        if record.rdtype == NS and record.rdata is not None:
            values.append(record.rdata)
    return sorted(values)


def _properties(zone: Entry) -> dict[int, int]:
    properties: dict[int, int] = {}
    for raw in zone.raw("dnsproperty"):
        try:
            said = read_property(raw)
        except BadLayout:
            continue
        if said is not None:
            properties[said.number] = said.value
    return properties


class _Records:
    """What a zone itself holds, the names that are tombstones in it, and what cannot be read."""

    def __init__(self, zone: str, apex: Name) -> None:
        self._zone = zone
        self._apex = apex
        self.records: list[FoundRecord] = []
        self.gone: list[Name] = []
        self.lost: list[FoundLost] = []
        self.unread = 0

    def take(self, node: Entry) -> None:
        """Take in a name of the zone with its records."""
        label = node.text("name")
        dead = node.text("dnstombstoned").upper() == "TRUE"
        twin = CONFLICT.match(label)
        if twin is not None:
            if not dead:
                self.lost.append(FoundLost(name=twin[1], place=self._zone, why="conflict"))
            return
        try:
            owner = self._apex if label == "@" else from_text(label, self._apex)
        except Unusable:
            self._cannot_read(label)
            return
        if dead:
            self.gone.append(owner)
            return
        for raw in node.raw("dnsrecord"):
            try:
                record = read_record(raw)
            except BadLayout:
                self._cannot_read(label)
                continue
            if record.rank == ZONE_DATA and record.rdtype != TOMBSTONE:
                if record.rdata is None:
                    self._cannot_read(label)
                else:
                    self.records.append(FoundRecord(owner, record.rdtype, record.ttl, record.rdata, record.age_h))

    def _cannot_read(self, label: str) -> None:
        self.unread += 1
        lost = FoundLost(name=label[:100], place=self._zone, why="unreadable")
        if lost not in self.lost and len(self.lost) < MOST_LOST:
            self.lost.append(lost)

"""What `stale` has to look at: every record that is registered in some zones, with its stamp where a source has one, laid out
so that a record's neighbours are at hand.

Strategy: what is registered comes from a zone in hand by transfer, else from sources of ages (exports, a directory), else
from what is expected. A stamp is None where no source says anything of a record.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from salt_mirror.checks.common.part import Holdings, in_hand, no_holding
from salt_mirror.dns.names import Name, is_within, labels, parent
from salt_mirror.dns.records import ADDRESS_TYPES, CNAME, DS, OF_SIGNERS, PTR, SOA, TARGET_AT, TLSA
from salt_mirror.dns.reverse import Network, address_of, in_network
from salt_mirror.estate.aging import Aging, Registered, newest
from salt_mirror.estate.model import Estate, Zone


class AgingRecord(NamedTuple):
    """One registered record. `stamp_h` are hours since 1601: 0 for a static one, None where no source tells."""

    name: Name
    rdtype: int
    rdata: bytes
    stamp_h: int | None
    zone: Zone

    @property
    def dynamic(self) -> bool:
        """Whether it was made by an update, and ages."""
        return bool(self.stamp_h)

    @property
    def address(self) -> bytes | None:
        """The address that it is about: a host's, or a pointer's."""
        if self.rdtype in ADDRESS_TYPES:
            return self.rdata
        return address_of(self.name) if self.rdtype == PTR else None

    @property
    def target(self) -> Name | None:
        """The name that it leads to, or is about, where there is one: of a TLSA record the host (RFC 6698 section 3)."""
        if self.rdtype == TLSA:
            first, *rest = labels(self.name)
            port, protocol = first[:1], rest[0][:1] if rest else b""
            return parent(parent(self.name)) if port == protocol == b"_" else None
        at = TARGET_AT.get(self.rdtype)
        return self.rdata[at:] if at is not None else None


@dataclass(slots=True)
class Inventory:
    """The records of one view: by name, the names on each address, the PTR records of each address, and who refers to a name.
    `current` are zones that were taken from a server in this very run; `ds` the DS records, which stand for other zones."""

    view: str
    records: list[AgingRecord] = field(default_factory=list)
    by_name: dict[Name, list[AgingRecord]] = field(default_factory=dict)
    on_address: dict[bytes, list[AgingRecord]] = field(default_factory=dict)
    pointers: dict[bytes, list[AgingRecord]] = field(default_factory=dict)
    referring: dict[Name, list[AgingRecord]] = field(default_factory=dict)
    current: set[Name] = field(default_factory=set)
    ds: list[AgingRecord] = field(default_factory=list)

    def add(self, record: AgingRecord) -> None:
        """Take in a record."""
        self.records.append(record)
        self.by_name.setdefault(record.name, []).append(record)
        if record.rdtype in ADDRESS_TYPES:
            self.on_address.setdefault(record.rdata, []).append(record)
        elif record.rdtype == PTR and (address := address_of(record.name)) is not None:
            self.pointers.setdefault(address, []).append(record)
        target = record.target
        if target is not None:
            self.referring.setdefault(target, []).append(record)


@dataclass(slots=True)
class StaleScope:
    """The work. `only` are zones and networks, all where there are none; `everything` says that other checks look at nothing
    of it, so that every reference is followed here."""

    estate: Estate
    view: str | None = None
    zones: list[Name] = field(default_factory=list)
    networks: list[Network] = field(default_factory=list)
    everything: bool = True
    sees: Callable[[Name, str], bool] = lambda _, __: True

    def views(self) -> list[str]:
        """Return the views that are looked at."""
        return [self.view] if self.view is not None else self.estate.views

    def sources(self, zone: Zone) -> list[Registered]:
        """Return the sources of ages of a zone."""
        return self.estate.ages.zones.get((zone.view, zone.apex), [])

    def aging(self, zone: Zone) -> Aging:
        """Return how a zone ages: by its sources, else as the estate says."""
        return next((source.aging for source in self.sources(zone)), zone.aging)

    @property
    def aged(self) -> bool:
        """Whether there is any source of ages."""
        return any(self.estate.ages.zones.values())

    def inventory(self, view: str, holdings: Holdings = no_holding) -> Inventory:
        """Return all that is registered in the zones of a view, as far as it is known."""
        found = Inventory(view)
        targets = self._targets(view, holdings) if self._follows_only else None
        for record in self._registered(view, holdings, found.current):
            if targets is None or record.rdtype in self.followed or record.name in targets or record.target in targets:
                self._add(found, record)
        return found

    @property
    def _follows_only(self) -> bool:
        """Whether there is nothing to judge but where records lead: then an inventory needs no others than those."""
        return not (self.everything or self.aged or self.estate.retired or self.estate.ages.leases)

    def _targets(self, view: str, holdings: Holdings) -> set[Name | None]:
        """Return the names to which the records lead that are followed."""
        return {one.target for one in self._registered(view, holdings, set()) if one.rdtype in self.followed} - {None}

    def _registered(self, view: str, holdings: Holdings, current: set[Name]) -> Iterator[AgingRecord]:
        """Return every record that is known; `current` gets the zones that were taken from a server."""
        for zone in self.estate.zones.get(view, {}).values():
            stamps = newest(self.sources(zone))
            holding = in_hand(zone, holdings)
            if holding is not None:
                if holding.whole:
                    current.add(zone.apex)
                for name, rdtype, _, values in holding.rrsets():
                    for value in values:
                        yield AgingRecord(name, rdtype, value, stamps.get((name, rdtype, value)), zone)
            elif stamps:
                for (name, rdtype, value), stamp in stamps.items():
                    yield AgingRecord(name, rdtype, value, stamp, zone)
            else:
                for wanted in zone.expectations:
                    if wanted.presence != "absent":
                        yield AgingRecord(wanted.name, wanted.rdtype, wanted.rdata, None, zone)

    @staticmethod
    def _add(found: Inventory, record: AgingRecord) -> None:
        at_apex = record.name == record.zone.apex
        if record.rdtype == DS:
            found.ds.append(record)  # judged by the zone below alone
        elif record.rdtype not in OF_SIGNERS and not (record.rdtype == SOA and at_apex):
            found.add(record)

    def wants(self, record: AgingRecord) -> bool:
        """Return whether a record is among those that were asked for."""
        if not self.sees(record.name, record.zone.view):
            return False
        if not self.zones and not self.networks:
            return True
        if any(is_within(record.name, zone) for zone in self.zones):
            return True
        address = record.address
        return address is not None and any(in_network(network, address) for network in self.networks)

    def bears(self, record: AgingRecord) -> bool:
        """Return whether anything is known by which a record could be judged: its age, leases or retired networks, or a
        target."""
        if record.stamp_h is not None or record.rdtype in self.followed:
            return True
        return record.rdtype in ADDRESS_TYPES and bool(self.estate.retired or record.rdata in self.estate.ages.leases)

    @property
    def followed(self) -> Collection[int]:
        """The types whose targets are looked at."""
        return (*TARGET_AT, TLSA, DS) if self.everything else (CNAME,)

    def retired(self, address: bytes) -> Network | None:
        """Return the retired network that holds an address; None where none does."""
        return next((network for network in self.estate.retired if in_network(network, address)), None)

    def expectations(self, view: str) -> Iterator[tuple[tuple[Name, int, bytes], str | None]]:
        """Return every record that is expected to be there in a view, with its lifetime where that is said."""
        for zone in self.estate.zones.get(view, {}).values():
            for expectation in zone.expectations:
                if expectation.presence != "absent":
                    yield (expectation.name, expectation.rdtype, expectation.rdata), expectation.lifetime

"""Which zones are as they were when they were last looked at whole, and what of them is asked nevertheless.

Strategy: a zone is unchanged when all its servers answer with the serials of the last whole look and everything expected of
it is the same. Of such zones the checks that ask for every record ask for a random sample, and for whatever was wrong before,
so that no fault is told unasked. A name touches its own zone, the reverse zones of its addresses and the zone that its alias
leads to: it is left out only where all of them are unchanged. Whatever in the sample is otherwise than before, or cannot be
verified, makes the zones that it touches whole.
"""

from __future__ import annotations

import ipaddress
import random
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime

from salt_mirror.catalogue import family_of
from salt_mirror.checks import check_of
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.records import CNAME
from salt_mirror.dns.reverse import address_of, reverse_name
from salt_mirror.estate.forms import address_in
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Finding

InView = tuple[str, str]
"""A zone as a history has it: its view and its apex as text."""

SAMPLED = frozenset(("pairs", "rollcall"))
"""The checks that ask for every record, and so for a sample of an unchanged zone; all others always ask whole."""


@dataclass(slots=True)
class Narrowing:
    """Unchanged zones with the moment of their last whole look, and the names and addresses that are asked nevertheless.

    `picked` counts those of the random sample by zone, `records` what there is.
    """

    estate: Estate
    unchanged: dict[InView, datetime]
    known: list[Finding]
    share: float
    seed: int
    names: set[tuple[Name, str]] = field(default_factory=set)
    addresses: set[tuple[bytes, str]] = field(default_factory=set)
    picked: dict[InView, int] = field(default_factory=dict)
    records: dict[InView, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        chance = random.Random(self.seed)
        for zone in self.estate.all_zones():
            key = (zone.view, to_text(zone.apex))
            if key in self.unchanged:
                self._pick(zone, key, chance)
        for finding in self.known:
            if finding.weight == "note":
                continue
            for text in {finding.name, finding.owner}:
                self.names.add((from_text(text), finding.view))
                address = address_of(from_text(text))
                if address is not None:
                    self.addresses.add((address, finding.view))
            if finding.address:
                packed = address_in(finding.address)
                if packed is not None:
                    self.addresses.add((packed, finding.view))

    def _pick(self, zone: Zone, key: InView, chance: random.Random) -> None:
        names = sorted({one.name for one in zone.expectations})
        picked = chance.sample(names, max(1, round(len(names) * self.share))) if names else []
        self.names.update((name, zone.view) for name in picked)
        self.picked[key], self.records[key] = len(picked), len(names)
        network = zone.network
        if not names and isinstance(network, ipaddress.IPv4Network):
            total = min(network.num_addresses, 1 << 16)
            numbers = chance.sample(range(total), max(1, round(total * self.share)))
            first = int(network.network_address)
            self.addresses.update(((first + number).to_bytes(4, "big"), zone.view) for number in numbers)
            self.picked[key], self.records[key] = len(numbers), total

    def without(self, zones: Collection[InView]) -> Narrowing:
        """Return the same with some zones looked at whole."""
        left = {key: at for key, at in self.unchanged.items() if key not in zones}
        return Narrowing(self.estate, left, self.known, self.share, self.seed)

    # What is asked

    def _key(self, name: Name, view: str) -> InView | None:
        zone = self.estate.zone_of(name, view)
        return (zone.view, to_text(zone.apex)) if zone is not None else None

    def _same(self, name: Name, view: str) -> bool:
        key = self._key(name, view)
        return key is not None and key in self.unchanged

    def asks_set(self, name: Name, view: str) -> bool:
        """Return whether what is expected at a name is asked for."""
        return (name, view) in self.names or not self._same(name, view)

    def asks_pair(self, name: Name, view: str, addresses: Iterable[bytes], aliases: Iterable[Name]) -> bool:
        """Return whether a name's addresses are asked for, and where they and its aliases lead."""
        if (name, view) in self.names or not self._same(name, view):
            return True
        touched = [*map(reverse_name, addresses), *aliases]
        return not all(self._same(one, view) for one in touched)

    def asks_pointer(self, address: bytes, view: str) -> bool:
        """Return whether an address's pointers are asked for."""
        return (address, view) in self.addresses or not self._same(reverse_name(address), view)

    def sweeps(self, network: ipaddress.IPv4Network, view: str, holders: Iterable[tuple[bytes, Name]]) -> bool:
        """Return whether a network is swept: where its zone has changed, or one that has names at its addresses (`holders`)."""
        if not self._same(reverse_name(network.network_address.packed), view):
            return True
        first, last = int(network.network_address), int(network.broadcast_address)
        return any(
            len(address) == 4 and first <= int.from_bytes(address, "big") <= last and not self._same(name, view)
            for address, name in holders
        )

    def aliases(self) -> dict[tuple[str, Name], list[Name]]:
        """Return where the expected aliases lead, by view and name."""
        found: dict[tuple[str, Name], list[Name]] = {}
        for zone in self.estate.all_zones():
            for expectation in zone.expectations:
                if expectation.rdtype == CNAME and expectation.rdata:
                    found.setdefault((zone.view, expectation.name), []).append(expectation.rdata)
        return found

    # What came of it

    def looked_at(self, finding: Finding) -> bool:
        """Return whether a finding would have been found: notes and acceptances of unchanged zones are not looked for."""
        if check_of(finding.code).name not in SAMPLED:
            return family_of(finding.code) != "accept"
        zones = self._zones(finding)
        asked = (from_text(finding.name), finding.view) in self.names or (
            from_text(finding.owner),
            finding.view,
        ) in self.names
        return asked or not all(key in self.unchanged for key in zones)

    def otherwise(self, findings: Iterable[Finding]) -> set[InView]:
        """Return the unchanged zones with a finding that is new, gone or unverified."""
        before = {one.identity for one in self.known}
        now = {}
        doubtful: set[InView] = set()
        for finding in findings:
            if check_of(finding.code).name in SAMPLED:
                now[finding.identity] = finding
                if finding.outcome == "unverified" or (finding.weight != "note" and finding.identity not in before):
                    doubtful.update(self._zones(finding))
        for finding in self.known:
            if check_of(finding.code).name in SAMPLED and finding.weight != "note" and finding.identity not in now:
                doubtful.update(self._zones(finding))
        return doubtful & set(self.unchanged)

    def _zones(self, finding: Finding) -> set[InView]:
        found = {self._key(from_text(text), finding.view) for text in (finding.name, finding.owner)}
        packed = address_in(finding.address) if finding.address else None
        if packed is not None:
            found.add(self._key(reverse_name(packed), finding.view))
        return {key for key in found if key is not None}

    def told(self) -> Iterator[tuple[InView, datetime, int, int]]:
        """Return each unchanged zone, since when it is that, how many of its names were picked, of how many."""
        for key, at in self.unchanged.items():
            yield key, at, self.picked.get(key, 0), self.records.get(key, 0)

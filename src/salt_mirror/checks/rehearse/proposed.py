"""What is proposed: zone files as they would be loaded, each record with the file and the line that it stands in.

Strategy: plain data. A file is what a server makes of it: what lies outside the zone is left out, a record without any TTL has
the SOA's minimum, and the records of a set have its smallest TTL.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.records import SOA, Record, soa_fields
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Zone


class FileProblem(NamedTuple):
    """What cannot be read of a file: where, and what is wrong there."""

    file: str
    line: int
    says: str


class ProposedZone:
    """One zone and the file that is to be loaded for it: its `records` in the order of the file, and what of it cannot be
    read."""

    def __init__(
        self, zone: Zone, path: Path, records: Sequence[Expectation], problems: Sequence[FileProblem] = ()
    ) -> None:
        self.zone = zone
        self.path = path
        self.records = records
        self.problems = problems

    @classmethod
    def of_holding(cls, zone: Zone, holding: Holding) -> ProposedZone:
        """Return a zone as a server has it, in the place of a file."""
        records = (
            Expectation(name, rdtype, value, ttl=ttl)
            for name, rdtype, ttl, values in holding.rrsets()
            for value in values
        )
        return cls(zone, Path(), list(records))

    @cached_property
    def holding(self) -> Holding:
        """The zone as a server has it that has loaded the file."""
        apex = self.zone.apex
        return Holding(apex, self._loaded(), of_one_set=len(self.records) + 1)

    def _loaded(self) -> Iterable[Record]:
        apex = self.zone.apex
        soa = self.soa
        usual = soa_fields(soa.rdata).minimum if soa is not None else 0
        for one in self.records:
            if is_within(one.name, apex) and (one.rdtype != SOA or one is soa):
                yield Record(one.name, one.rdtype, one.ttl if one.ttl is not None else usual, one.rdata)

    @cached_property
    def at(self) -> dict[Name, list[Expectation]]:
        """The records by their names."""
        found: dict[Name, list[Expectation]] = {}
        for one in self.records:
            found.setdefault(one.name, []).append(one)
        return found

    @property
    def soa(self) -> Expectation | None:
        """The SOA record, where the file has one."""
        return next((one for one in self.at.get(self.zone.apex, ()) if one.rdtype == SOA), None)


def updated(zone: Zone, now: Holding, sets: Iterable[PlannedSet]) -> ProposedZone:
    """Return a zone as its primary has it once an update was taken: the sets in place of its own, and the serial one ahead
    (RFC 2136 section 3.6)."""
    soa = now.rdata(zone.apex, SOA)[0]
    serial = ((now.serial + 1) % 2**32).to_bytes(4, "big")
    later: dict[tuple[Name, int], tuple[int, tuple[bytes, ...]]] = {}
    later[zone.apex, SOA] = now.ttl(zone.apex, SOA) or 0, (soa[:-20] + serial + soa[-16:],)
    for one in sets:
        later[one.key.name, one.key.rdtype] = (one.ttl_after or 0, tuple(sorted(one.after)))
    proposed = ProposedZone(zone, Path(), ())
    proposed.holding = now.with_sets(later)
    return proposed

"""Which records no longer belong, by evidence alone: rules over an inventory, without a question.

Strategy: each record gets at most one verdict, the gravest that its evidence bears: it is needed and will be taken; it is of
the wrong kind; it is left over from another time; it has aged. Evidence that strengthens a verdict is told with it, and
bears none by itself. What the rules suspect is looked up before anybody is told.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import Enum
from functools import cached_property

from salt_mirror.checks.common.directories import is_locator
from salt_mirror.checks.stale.scope import AgingRecord, Inventory, StaleScope
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import ADDRESS_TYPES, NS, PTR, SRV
from salt_mirror.dns.reverse import Network, address_of
from salt_mirror.estate.aging import Leased


class Reason(Enum):
    """Why a record is told of, by its code."""

    NEEDED = "age.still-needed"
    NOT_STATIC = "age.not-static"
    NOT_DYNAMIC = "age.not-dynamic"
    REUSED = "left.reused"
    RETIRED = "left.retired"
    STALE = "age.stale"
    MIXED = "age.mixed"

    @property
    def gone(self) -> bool:
        """Whether the record no longer belongs."""
        return self in (Reason.REUSED, Reason.RETIRED, Reason.STALE)


@dataclass(slots=True)
class Suspicion:
    """A record, why it is told of, and the evidence as data: what the wording makes sentences of."""

    record: AgingRecord
    reason: Reason
    due_h: float | None = None
    leased: Leased | None = None
    named: list[Name] = field(default_factory=list)
    newer: AgingRecord | None = None
    pointer: AgingRecord | None = None
    leases_known: bool = False
    network: Network | None = None
    in_use: bool = False


class Rules:
    """The rules for one view at one moment, `now_h` in hours since 1601."""

    def __init__(self, inventory: Inventory, scope: StaleScope, now_h: float) -> None:
        self._inventory = inventory
        self._scope = scope
        self._now_h = now_h
        self._damaged = {name for name, _ in scope.estate.damaged_in(inventory.view)}
        self._controllers = {
            from_text(controller.host, from_text(entry.domain) if "." not in controller.host else None)
            for entry in scope.estate.directories
            for controller in entry.controllers
        }

    @cached_property
    def _expected(self) -> dict[tuple[Name, int, bytes], str | None]:
        """Every record that is expected, with its lifetime where that is said: read when the first one is judged."""
        expected: dict[tuple[Name, int, bytes], str | None] = {}
        for key, lifetime in self._scope.expectations(self._inventory.view):
            expected[key] = expected.get(key) or lifetime
        return expected

    def suspicions(self) -> Iterator[Suspicion]:
        """Return every record that does not belong. Nothing is said of a name with a row in a list that cannot be used: it may
        be needed."""
        # Without leases and retired networks only a stamp says anything against a record.
        by_stamps = not (self._scope.estate.ages.leases or self._scope.estate.retired)
        for record in self._inventory.records:
            if record.name in self._damaged or (by_stamps and record.stamp_h is None):
                continue
            if self._scope.wants(record) and not (record.rdtype == NS and record.name == record.zone.apex):
                found = self._judge(record)
                if found is not None:
                    yield found

    def due_h(self, record: AgingRecord) -> float | None:
        """Return when a record has aged, in hours since 1601; None for a static one, and where nobody says how long they
        live."""
        life_h = self._scope.aging(record.zone).life_h
        return record.stamp_h + life_h if record.stamp_h and life_h is not None else None

    def taken(self, record: AgingRecord) -> bool:
        """Return whether what has aged is taken away in its zone, as far as anybody says."""
        aging = self._scope.aging(record.zone)
        return aging.on is not False and aging.scavenged is not False

    def needed(self, record: AgingRecord) -> bool:
        """Return whether somebody expects a record, or its host has the address by lease now."""
        return self._is_expected(record) or self._in_use(record)

    def _judge(self, record: AgingRecord) -> Suspicion | None:
        due_h, expected = self.due_h(record), self._is_expected(record)
        aged = due_h is not None and self._now_h > due_h
        suspicion = Suspicion(record, Reason.STALE, due_h, in_use=self._in_use(record))
        self._gather(suspicion)
        if aged and (expected or suspicion.in_use):
            suspicion.reason = Reason.NEEDED
            return suspicion if self.taken(record) else None
        if expected:
            return self._of_its_kind(suspicion) or self._mixed(suspicion)
        if suspicion.in_use:
            return self._mixed(suspicion)
        if self._is_reused(suspicion):
            suspicion.reason = Reason.REUSED
            return suspicion
        if suspicion.network is not None:
            suspicion.reason = Reason.RETIRED
            return suspicion
        return suspicion if aged else self._mixed(suspicion)

    def _mixed(self, suspicion: Suspicion) -> Suspicion | None:
        """Return a dynamic address beside static ones of the same name: the one goes some day, the others stay."""
        record = suspicion.record
        siblings = (
            self._inventory.by_name.get(record.name, ()) if record.rdtype in ADDRESS_TYPES and record.dynamic else ()
        )
        if any(one.rdtype in ADDRESS_TYPES and one.stamp_h == 0 for one in siblings):
            suspicion.reason = Reason.MIXED
            return suspicion
        return None

    def _of_its_kind(self, suspicion: Suspicion) -> Suspicion | None:
        """Return whether an expected record is static or dynamic as it should be."""
        record = suspicion.record
        lifetime = self._expected.get((record.name, record.rdtype, record.rdata))
        if record.stamp_h is None or lifetime is None:
            return None
        if lifetime == "static" and record.dynamic and self.taken(record):
            suspicion.reason = Reason.NOT_STATIC
            return suspicion
        if lifetime == "dynamic" and not record.dynamic:
            suspicion.reason = Reason.NOT_DYNAMIC
            return suspicion
        return None

    def _gather(self, suspicion: Suspicion) -> None:
        """The evidence around an address or a pointer."""
        record = suspicion.record
        address = record.address
        if address is None:
            return
        suspicion.network = self._scope.retired(address)
        suspicion.leased = self._scope.estate.ages.leases.get(address)
        suspicion.leases_known = bool(self._scope.estate.ages.leases)
        host = self._host(record)
        suspicion.named = [one.rdata for one in self._inventory.pointers.get(address, ()) if one.rdata != host]
        if record.rdtype in ADDRESS_TYPES:
            own = [one for one in self._inventory.pointers.get(address, ()) if one.rdata == host and one.stamp_h]
            suspicion.pointer = next(iter(own), None)
        others = [one for one in self._inventory.on_address.get(address, ()) if one.name != host and one.stamp_h]
        suspicion.newer = max(others, key=lambda one: one.stamp_h or 0, default=None)

    @staticmethod
    def _host(record: AgingRecord) -> Name:
        return record.rdata if record.rdtype == PTR else record.name

    def _is_reused(self, suspicion: Suspicion) -> bool:
        """Return whether the address is another host's by now: by lease, or by its pointer and a newer registration
        together."""
        record, leased = suspicion.record, suspicion.leased
        if record.rdtype not in ADDRESS_TYPES and record.rdtype != PTR:
            return False
        host = self._host(record)
        if leased is not None and leased.live and leased.host is not None:
            return leased.host != host
        refresh_h = self._scope.aging(record.zone).refresh_h
        newer = suspicion.newer
        if newer is None or newer.stamp_h is None or not record.dynamic or refresh_h is None:
            return False
        return newer.name in suspicion.named and newer.stamp_h > (record.stamp_h or 0) + refresh_h

    def _in_use(self, record: AgingRecord) -> bool:
        """Return whether the address server says that the host has the address now."""
        address = record.address
        leased = self._scope.estate.ages.leases.get(address) if address is not None else None
        return leased is not None and leased.live and leased.host == self._host(record)

    def _is_expected(self, record: AgingRecord) -> bool:
        key = (record.name, record.rdtype, record.rdata)
        if key in self._expected:
            return True
        if record.rdtype == PTR and (address := address_of(record.name)) is not None:
            rdtype = 1 if len(address) == 4 else 28
            return (record.rdata, rdtype, address) in self._expected
        if record.rdtype == SRV or is_locator(record.name):
            return record.target in self._controllers if record.target is not None else False
        if record.rdtype in ADDRESS_TYPES:  # a controller registers the domain's own name, and more, with its address
            return any(one.name in self._controllers for one in self._inventory.on_address.get(record.rdata, ()))
        return record.name in self._controllers

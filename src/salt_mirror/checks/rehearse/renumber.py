"""Renumbering as one job: every record set that is about the old network, in phases that each leave the zones sound.

Strategy: what is registered is taken as it is known, each phase begins where the one before ended, and every set is planned
whole. TTLs go down first. What may be beside the old is added: networks in SPF. Then hosts switch, address and PTR record
together, so that neither direction is ever without the other. What only the old network needed is removed last, and TTLs go up
again. IPv6 beside IPv4 has one phase: everything is added.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal, NamedTuple

from salt_mirror.checks.budget.judging import LOWERED_TTL, WORTH_LOWERING
from salt_mirror.checks.plan.sets import PlannedSet, SetKey
from salt_mirror.checks.rehearse.networks import TOKEN, Renumbering, text_of
from salt_mirror.dns.names import Name, from_text, label_text, labels, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, NS, PTR, TXT, A, address_type
from salt_mirror.dns.reverse import address_of, address_text, reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate

Phase = Literal["lower", "add", "switch", "remove"]
PHASES: tuple[Phase, ...] = ("lower", "add", "switch", "remove")
"""The phases, in their order: TTLs down, what may stand beside the old, addresses and PTR records, what is left of the old."""


class KnownSet(NamedTuple):
    """A set as it is registered: its TTL in seconds, its values."""

    ttl: int
    values: frozenset[bytes]


@dataclass(slots=True)
class PhasedPlan:
    """The sets of each phase, how many hosts move, and what has to be done besides, in words."""

    phases: dict[Phase, list[PlannedSet]] = field(default_factory=lambda: {phase: [] for phase in PHASES})
    hosts: int = 0
    advice: list[str] = field(default_factory=list)

    @property
    def sets(self) -> list[PlannedSet]:
        """Every set, in the order of the phases."""
        return [planned for phase in PHASES for planned in self.phases[phase]]

    def until(self, phase: Phase) -> list[PlannedSet]:
        """Return what has changed in all once a phase is done: each set once, from what it is now."""
        found: dict[SetKey, PlannedSet] = {}
        for one in PHASES[: PHASES.index(phase) + 1]:
            for planned in self.phases[one]:
                first = found.get(planned.key, planned)
                found[planned.key] = replace(
                    planned, before=first.before, ttl_before=first.ttl_before, named=first.named, phase=""
                )
        return list(found.values())


class Planner:
    """Plans a renumbering over what is known. `hosts` are the names that move, all where there are none."""

    def __init__(
        self,
        renumbering: Renumbering,
        estate: Estate,
        known: Mapping[SetKey, KnownSet],
        servers: Mapping[tuple[str, Name], Server | None],
        expected_ttl: Mapping[SetKey, int],
        hosts: Collection[Name] = (),
    ) -> None:
        self._move = renumbering
        self._estate = estate
        self._known = known
        self._servers = servers
        self._expected_ttl = expected_ttl
        self._hosts = set(hosts)
        self._plan = PhasedPlan()
        self._addresses: set[str] = set()
        self._begin()

    def _begin(self) -> None:
        """Have nothing planned, and every set as it is registered."""
        self._state: dict[SetKey, tuple[int | None, frozenset[bytes]]] = dict(self._known)
        self._names = {(key.view, key.name) for key, one in self._known.items() if one.values}
        self._steps: dict[Phase, dict[SetKey, PlannedSet]] = {phase: {} for phase in PHASES}

    @property
    def keys(self) -> set[SetKey]:
        """Every set that the plan changes."""
        return {key for steps in self._steps.values() for key in steps}

    def plan(self) -> PhasedPlan:
        """Return the plan. Raises BadInput where a zone for the new addresses is missing, or nothing is about the old one."""
        moving = [key for key, one in self._known.items() if key.rdtype == A and self._moves(key, one)]
        self._plan.hosts = len({(key.view, key.name) for key in moving})
        texts = [key for key, one in self._known.items() if key.rdtype == TXT and self._tokens(one)]
        leaving = {v for key in moving for v in self._known[key].values if self._move.moved(v) is not None}
        self._addresses = {address_text(value) for value in leaving}
        if not moving and not texts:
            raise BadInput(f"--renumber: nothing that is registered is about {self._move.old}")
        self._check_zones(moving)
        if self._move.beside:
            self._add_beside(moving, texts)
            return self._finished()
        self._carry(moving, texts)
        changed = [key for key in self.keys if key in self._known]
        # Once more from the beginning, with the TTLs of what turned out to change lowered first.
        self._begin()
        self._lower(sorted(changed))
        self._carry(moving, texts)
        self._restore()
        self._advise({key.name for key in moving if self._is_name_server(key)})
        return self._finished()

    def _finished(self) -> PhasedPlan:
        self._plan.phases = {phase: list(steps.values()) for phase, steps in self._steps.items()}
        return self._plan

    def _carry(self, moving: Iterable[SetKey], texts: Iterable[SetKey]) -> None:
        """Plan what is added, what switches, and what goes."""
        for key in texts:
            self._texts(key)
        for key in moving:
            self._host(key)
        self._pointer_sets(moving, [key for key, one in self._known.items() if key.rdtype == PTR and one.values])

    # What it is about

    def _moves(self, key: SetKey, one: KnownSet) -> bool:
        return (not self._hosts or key.name in self._hosts) and any(self._move.moved(v) is not None for v in one.values)

    def _is_name_server(self, key: SetKey) -> bool:
        return any(other.rdtype == NS and key.name in one.values for other, one in self._known.items())

    def _tokens(self, one: KnownSet) -> bool:
        """Return whether any text has an address or a network of the old network in it."""
        return any(
            self._move.moved_text(token) is not None for value in one.values for token in TOKEN.findall(text_of(value))
        )

    def _check_zones(self, moving: Iterable[SetKey]) -> None:
        views = dict.fromkeys(key.view for key in moving)
        address = self._move.new.network_address.packed
        for view in views:
            old_zone = self._estate.zone_of(reverse_name(self._move.old.network_address.packed), view)
            if old_zone is not None and self._estate.zone_of(reverse_name(address), view) is None:
                raise BadInput(
                    f"--renumber: the estate has no reverse zone for {self._move.new}"
                    + (f" in the view {view}" if view else "")
                    + ": create it on the servers, and add it to the estate first"
                )

    # The phases

    def _step(self, phase: Phase, key: SetKey, values: Collection[bytes], ttl: int | None, why: str) -> None:
        """Have a phase change a set to some values; what it was changed to in the same phase before does not count."""
        earlier = self._steps[phase].pop(key, None)
        before_ttl, before = self._state.get(key, (None, frozenset()))
        named = (key.view, key.name) in self._names
        if earlier is not None:
            before_ttl, before, named = earlier.ttl_before, earlier.before, earlier.named
        after = frozenset(values)
        ttl = ttl if after else None
        self._state[key] = (ttl, after)
        server = self._servers.get((key.view, key.zone))
        planned = PlannedSet(key, before, after, before_ttl if before else None, ttl, named, server, [why], phase)
        if planned.differs:
            self._steps[phase][key] = planned
        if after:
            self._names.add((key.view, key.name))

    def _lower(self, keys: Iterable[SetKey]) -> None:
        for key in keys:
            ttl, values = self._state[key]
            if ttl is not None and ttl >= WORTH_LOWERING:
                self._step("lower", key, values, LOWERED_TTL, f"{self._move.old} becomes {self._move.new}")

    def _later_ttl(self, key: SetKey) -> int | None:
        """Return the TTL of a set once it has switched: as the estate expects it, else the lowered one until the end."""
        return self._expected_ttl.get(key, self._state[key][0])

    def _host(self, key: SetKey) -> None:
        """A host moves: its addresses of the old network become those of the new one."""
        _, values = self._state[key]
        moved = {value: new for value in values if (new := self._move.moved(value)) is not None}
        after = (values - moved.keys()) | frozenset(moved.values())
        self._step("switch", key, after, self._later_ttl(key), f"{self._move.old} becomes {self._move.new}")

    def _pointer_sets(self, moving: Iterable[SetKey], pointers: Iterable[SetKey]) -> None:
        """PTR records go with their hosts: each new address gets one when its hosts have it, and the old one goes then. One
        that leads to no host of ours goes at the end, and to the new network where it leads out of our zones."""
        holders: dict[tuple[str, bytes], set[Name]] = {}
        for key, one in self._known.items():
            for value in one.values if key.rdtype == A else ():
                holders.setdefault((key.view, value), set()).add(key.name)
        going = {(key.view, key.name): key for key in moving}
        why = f"{self._move.old} becomes {self._move.new}"
        done: set[tuple[str, bytes]] = set()
        for view, address in [*((key.view, address_of(key.name) or b"") for key in pointers), *holders]:
            moved = self._move.moved(address)
            hosts = {name for name in holders.get((view, address), ()) if not name.startswith(b"\x01*")}
            if moved is None or (view, address) in done:
                continue
            done.add((view, address))
            movers = sorted(name for name in hosts if (view, name) in going)
            if (self._hosts and not movers) or (hosts and not movers):
                continue
            old = self._key_at(reverse_name(address), view)
            own = self._known.get(old, KnownSet(0, frozenset())) if old is not None else KnownSet(0, frozenset())
            foreign = {name for name in own.values if self._estate.zone_of(name, view) is None}
            named = frozenset(own.values & set(movers)) or frozenset(movers[:1]) or frozenset(foreign)
            phase: Phase = "switch" if movers else "remove"
            new = self._key_at(reverse_name(moved), view)
            if new is not None and named:
                ttl = self._expected_ttl.get(new, own.ttl or self._ttl_of(view, named))
                self._step(phase, new, self._state.get(new, (None, frozenset()))[1] | named, ttl, why)
            if old is not None and not hosts - set(movers):
                self._step(phase, old, (), None, why)

    def _ttl_of(self, view: str, names: Iterable[Name]) -> int:
        """Return the TTL of the addresses of some hosts, for a PTR record that is new."""
        ttls = [
            one.ttl for key, one in self._known.items() if key.view == view and key.rdtype == A and key.name in names
        ]
        return max(ttls, default=3600)

    def _key_at(self, name: Name, view: str) -> SetKey | None:
        zone = self._estate.zone_of(name, view)
        return SetKey(view, zone.apex, name, PTR) if zone is not None else None

    def _texts(self, key: SetKey) -> None:
        """SPF has both networks meanwhile (RFC 7208 section 5.6), and goes on having both where some hosts stay. In other texts
        the new address takes the place of the old, of hosts that move."""
        _, values = self._state[key]
        why = f"it has addresses of {self._move.old}"
        both = frozenset(self._move.with_both(value) for value in values)
        if both != values:
            self._step("add", key, both, self._state[key][0], f"{why}; both are allowed meanwhile")
            if not self._hosts:
                after = frozenset(self._move.text_value(value) for value in values)
                self._step("remove", key, after, self._later_ttl(key), why)
            return
        only = self._addresses if self._hosts else None
        after = frozenset(self._move.text_value(value, only) for value in values)
        self._step("switch", key, after, self._later_ttl(key), why)

    def _restore(self) -> None:
        """At the end every set that stays has the TTL that it had, or that the estate expects."""
        for key, own in self._known.items():
            now, values = self._state[key]
            if values and now == LOWERED_TTL and own.ttl >= WORTH_LOWERING:
                self._step("remove", key, values, self._expected_ttl.get(key, own.ttl), "the TTL is as it was")

    def _add_beside(self, moving: Iterable[SetKey], texts: Iterable[SetKey]) -> None:
        """IPv6 beside IPv4: an AAAA record for each address that moves, its PTR record, and SPF networks."""
        why = f"{self._move.new} beside {self._move.old}"
        for key in moving:
            ttl, values = self._known[key]
            beside = key._replace(rdtype=AAAA)
            there = self._state.get(beside, (None, frozenset()))[1]
            new = {moved for value in values if (moved := self._move.moved(value)) is not None}
            self._step("add", beside, there | new, self._expected_ttl.get(beside, ttl), why)
            for address in sorted(new):
                assert address_type(address) == AAAA
                pointer = self._key_at(reverse_name(address), key.view)
                if pointer is not None and not self._state.get(pointer, (None, frozenset()))[1]:
                    self._step("add", pointer, (key.name,), self._expected_ttl.get(pointer, ttl), why)
        for key in texts:
            ttl, values = self._known[key]
            self._step("add", key, [self._move.with_both(value) for value in values], ttl, why)

    def _advise(self, servers: Collection[Name]) -> None:
        if servers:
            names = ", ".join(to_text(name) for name in sorted(servers))
            self._plan.advice.append(
                f"{names}: a name server. It has to answer at both addresses until caches have dropped the old one, and "
                "whoever keeps the zone above has to change its glue there with the phase switch"
            )


def host_named(text: str, names: Collection[Name]) -> Name | None:
    """Return which of some names a word of a list of hosts means: a whole name, or its first label."""
    whole = from_text(text)
    if whole in names:
        return whole
    short = [name for name in names if label_text(labels(name)[0]) == text.lower()] if "." not in text else []
    return short[0] if len(short) == 1 else None

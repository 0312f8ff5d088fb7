"""What some changes touch, and what leans on it: all that has to be judged again after them.

Strategy: who leads to whom is known from what the estate expects, from every answer so far, and from the zones in hand. Views
are not told apart in it: at worst a name too many is judged again, and none too few.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from salt_mirror.checks import check_of
from salt_mirror.checks.common.directories import directory_of
from salt_mirror.checks.common.part import Holdings, in_hand
from salt_mirror.checks.mail.judging import mail_domains
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.dns.names import Name, ancestors, from_text, labels
from salt_mirror.dns.records import AAAA, CNAME, MX, PTR, SRV, TARGET_AT, A
from salt_mirror.dns.reverse import address_of, reverse_name
from salt_mirror.estate.forms import address_in
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding

InView = tuple[Name, str]

Spoken = tuple[Name, int, Iterable[bytes]]
"""A set that is, was or will be somewhere: its name, type and values."""


@dataclass(frozen=True, slots=True)
class Nearby:
    """Names and addresses that are judged, and nothing else. `mail` and `services` say whether their trees are judged too, and
    `zones` whose authority is; with `everywhere` the checks of authority, views and ages run over the whole estate."""

    names: frozenset[Name] = frozenset()
    addresses: frozenset[bytes] = frozenset()
    mail: bool = False
    services: bool = False
    zones: frozenset[InView] = frozenset()
    everywhere: bool = False

    def sees(self, name: Name) -> bool:
        """Return whether what stands at a name is judged."""
        if name in self.names:
            return True
        address = address_of(name)
        return address is not None and address in self.addresses

    def runs(self, check: str) -> bool:
        """Return whether a check has anything to look at."""
        if check in ("mail", "services"):
            return self.mail if check == "mail" else self.services
        return check != "resolvers" and (check != "authority" or self.everywhere or bool(self.zones))

    def looks_at(self, check: str, name: Name, view: str) -> bool:
        """Return whether a check looks at a name."""
        if check in ("pairs", "rollcall"):
            return self.sees(name)
        if check == "authority":
            return self.everywhere or (name, view) in self.zones
        return self.everywhere or self.sees(name)

    def judges(self, finding: Finding, estate: Estate) -> bool:
        """Return whether a finding would be found again, if it is still there."""
        check = check_of(finding.code).name
        name = from_text(finding.name)
        if check == "pairs":
            address = address_in(finding.address) if finding.address else address_of(name)
            return address in self.addresses if address is not None else name in self.names
        if check in ("mail", "services"):
            return self.runs(check)
        if check == "authority" and not self.everywhere:
            zone = estate.zone_of(name, finding.view)
            return zone is not None and (zone.apex, zone.view) in self.zones
        return check in ("authority", "rollcall", "views", "stale") and self.looks_at(check, name, finding.view)

    def with_all(self, other: Nearby) -> Nearby:
        """Return both together."""
        return Nearby(
            self.names | other.names, self.addresses | other.addresses, self.mail or other.mail,
            self.services or other.services, self.zones | other.zones, self.everywhere or other.everywhere,
        )  # fmt: skip


@dataclass(slots=True)
class Links:
    """Who leads to whom: `to` has the names with records that lead to a name, by type; `holders` the names of an address."""

    estate: Estate
    to: dict[Name, set[tuple[Name, int]]] = field(default_factory=dict)
    holders: dict[bytes, set[Name]] = field(default_factory=dict)
    addresses: dict[Name, set[bytes]] = field(default_factory=dict)
    aliases: dict[Name, set[Name]] = field(default_factory=dict)
    known: set[Name] = field(default_factory=set)
    _trees: dict[int, set[Name]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.add(
            (expectation.name, expectation.rdtype, (expectation.rdata,))
            for zone in self.estate.all_zones()
            for expectation in zone.expectations
            if expectation.rdata and expectation.presence != "absent"
        )
        self._trees[MX] = {name for name, _ in mail_domains(self.estate)}
        directories = [directory_of(entry) for entry in self.estate.directories]
        hosts = (controller.host for one in directories for controller in one.controllers)
        self._trees[SRV] = {*hosts, *(one.domain for one in directories)}

    def add(self, sets: Iterable[Spoken]) -> None:
        """Take in what some sets lead to."""
        for name, rdtype, values in sets:
            self.known.add(name)
            if rdtype in (A, AAAA):
                self.addresses.setdefault(name, set()).update(values)
                for value in values:
                    self.holders.setdefault(value, set()).add(name)
            at = TARGET_AT.get(rdtype)
            for value in values if at is not None else ():
                target = value[at:]
                self.to.setdefault(target, set()).add((name, rdtype))
                if rdtype == CNAME:
                    self.aliases.setdefault(name, set()).add(target)
                elif rdtype in self._trees:
                    self._trees[rdtype] |= {name, target}

    def add_holdings(self, holdings: Holdings) -> None:
        """Take in the zones that are in hand."""
        for zone in self.estate.all_zones():
            holding = in_hand(zone, holdings)
            if holding is not None:
                self.add((name, rdtype, values) for name, rdtype, _, values in holding.rrsets())

    def around(
        self, sets: Sequence[Spoken], addresses: Iterable[bytes] = (), zones: Iterable[InView] = (), *, everywhere: bool
    ) -> Nearby:
        """Return what some sets, and some addresses, touch: themselves, where they lead, and what leads to them."""
        names: set[Name] = set()
        near = set(addresses)
        waiting = [name for name, *_ in sets]
        for name, rdtype, values in sets:
            at = TARGET_AT.get(rdtype)
            if rdtype in (A, AAAA):
                near.update(values)
            elif at is not None:
                waiting += [value[at:] for value in values]
            if name.startswith(b"\x01*"):  # a wildcard speaks for names below its parent (RFC 4592)
                parent = name[2:]
                waiting += [one for one in self.known if len(one) > len(parent) and one.endswith(parent)]
        touched = {name for name, *_ in sets}
        if any(name.startswith(b"\x01*") for name in self.known):  # and where a name comes or goes, for those below it
            waiting += [name for name in self.known if not touched.isdisjoint(ancestors(name))]
        self._follow(waiting, names)
        for name in list(names):
            near |= self.addresses.get(name, set())
            pointers = [owner for owner, rdtype in self.to.get(name, ()) if rdtype == PTR]
            near.update(address for one in (name, *pointers) if (address := address_of(one)) is not None)
            self._follow([owner for one in pointers for owner, kind in self.to.get(one, ()) if kind == CNAME], names)
        near.update(address for name in names if (address := address_of(name)) is not None)
        self._follow([holder for address in near for holder in self.holders.get(address, ())], names)
        every = names | {reverse_name(address) for address in near}
        return Nearby(
            frozenset(names), frozenset(near), not every.isdisjoint(self._trees[MX]),
            not every.isdisjoint(self._trees[SRV]) or any(_is_locator(name) for name in every), frozenset(zones), everywhere,
        )  # fmt: skip

    def _follow(self, waiting: list[Name], names: set[Name]) -> None:
        """Add names, the aliases that lead to them, and where they lead as aliases."""
        while waiting:
            name = waiting.pop()
            if name not in names:
                names.add(name)
                waiting += [owner for owner, rdtype in self.to.get(name, ()) if rdtype == CNAME]
                waiting += self.aliases.get(name, ())


def _is_locator(name: Name) -> bool:
    return any(label.startswith(b"_") for label in labels(name))


def spoken(sets: Iterable[PlannedSet]) -> Iterator[Spoken]:
    """Planned sets as they were and as they are to be."""
    for planned in sets:
        yield planned.key.name, planned.key.rdtype, planned.before | planned.after

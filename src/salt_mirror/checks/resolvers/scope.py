"""What `resolvers` has to look at: the resolvers, the ways to each, and the names and zones that each is tried with.

Strategy: what a resolver is tried with follows from the view that it ought to give: the zones of that view, some of their
names, and what the estate says of the world. Names are taken in the order of the estate, so that two runs try the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from salt_mirror.dns.names import ROOT, Name, from_text, is_within
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import CNAME, MX, NS, SRV, TARGET_AT, TXT, A
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.duties import Duty, ResolverTests
from salt_mirror.estate.model import Estate, Zone

PRIVATE = tuple(map(from_text, ("10.in-addr.arpa", "16.172.in-addr.arpa", "168.192.in-addr.arpa", "d.f.ip6.arpa")))
"""Reverse zones of private networks that a resolver answers for itself, where nobody has them (RFC 6303 section 4)."""
_MOST_NAMES = 4
_LARGE_BYTES = 1232
_NAMES_HOSTS = (NS, MX, SRV)
MOST_VALUES = 200
"""So many record sets of a view are compared through each resolver."""
MOST_OF_A_VIEW = 16
"""So many names of another view of the same zone are tried."""


@dataclass(slots=True)
class TriedResolver:
    """One resolver with all that it is tried with. `outside` says whether this computer stands outside the networks that it
    serves, None where nobody knows; `values` are the record sets to compare, of `expected` that there are; `signed` names
    validate, and `broken` ones do not, on purpose."""

    label: str
    ways: list[Server]
    duty: Duty
    outside: bool | None
    zones: list[Zone] = field(default_factory=list)
    others: list[Zone] = field(default_factory=list)
    names: list[tuple[Name, str]] = field(default_factory=list)
    aliases: list[tuple[Name, str]] = field(default_factory=list)
    private: list[Name] = field(default_factory=list)
    external: tuple[Name, ...] = ()
    large: list[tuple[Name, int, str | None]] = field(default_factory=list)
    values: list[tuple[Name, int, str]] = field(default_factory=list)
    expected: int = 0
    signed: tuple[Name, ...] = ()
    broken: tuple[Name, ...] = ()

    @property
    def view(self) -> str:
        """The view that it ought to give, or whose zones it is tried with."""
        return self.duty.view or (self.zones[0].view if self.zones else "")


def tried_with(
    label: str, ways: list[Server], duty: Duty, estate: Estate, outside: Callable[[Server, Duty], bool | None]
) -> TriedResolver:
    """Return what a resolver is tried with. `outside` tells whether this computer stands outside of its networks."""
    views = [duty.view] if duty.view else _seen_by_all(estate)
    zones = [zone for view in views for zone in estate.zones.get(view, {}).values()]
    others = [zone for zone in estate.all_zones() if zone not in zones]
    tests: ResolverTests = estate.resolver_tests
    forward = [zone for zone in zones if not is_reverse(zone.apex)]
    held = [zone.apex for zone in estate.all_zones()]
    values = _record_sets(zones, others)
    return TriedResolver(
        label,
        ways,
        duty,
        outside(ways[0], duty),
        zones,
        others,
        _expected(forward, A)[:_MOST_NAMES],
        _expected(forward, CNAME)[:1],
        [one for one in PRIVATE if not any(is_within(one, apex) for apex in held)],
        tests.external,
        [*((name, rdtype, _view_of(name, estate, views)) for name, rdtype in tests.large), *_large(zones)],
        _sample(values, MOST_VALUES),
        len(values),
        tests.signed,
        tests.broken,
    )


def _seen_by_all(estate: Estate) -> list[str]:
    """Return the views that any resolver may be asked about: those of the whole world, or the only one there is."""
    public = [view for view in estate.views if view in estate.public_views]
    return public or (estate.views if len(estate.views) == 1 else [])


def _view_of(name: Name, estate: Estate, views: Iterable[str]) -> str | None:
    return next((view for view in views if estate.zone_of(name, view) is not None), None)


def _expected(zones: Iterable[Zone], rdtype: int) -> list[tuple[Name, str]]:
    """Names with records of a type that have to be there, each once."""
    found = {
        (expectation.name, zone.view): None
        for zone in zones
        for expectation in zone.expectations
        if expectation.rdtype == rdtype
        and expectation.presence != "absent"
        and not expectation.name.startswith(b"\x01*")
    }
    return list(found)


def _record_sets(zones: list[Zone], others: list[Zone]) -> list[tuple[Name, int, str]]:
    """Return what a resolver ought to give of some zones: each expected record set, the hosts of expected MX, SRV and NS
    records, and what other views of the same zones expect, since only contents tell two views with one SOA apart."""
    found: dict[tuple[Name, int, str], None] = {}
    apexes = {zone.apex: zone.view for zone in zones}
    for zone in zones:
        for expectation in zone.expectations:
            if expectation.presence == "absent" or expectation.name.startswith(b"\x01*"):
                continue
            found[expectation.name, expectation.rdtype, zone.view] = None
            host = (
                expectation.rdata[TARGET_AT[expectation.rdtype] :]
                if expectation.rdtype in _NAMES_HOSTS and expectation.rdata
                else None
            )
            if host is not None and host != ROOT and any(is_within(host, apex) for apex in apexes):
                found[host, A, zone.view] = None
    for zone in others:
        if zone.apex in apexes:
            view = apexes[zone.apex]
            names = {(one.name, one.rdtype, view): None for one in zone.expectations if one.presence != "absent"}
            differing = [key for key in names if not key[0].startswith(b"\x01*")]
            found.update(dict.fromkeys([*differing[:MOST_OF_A_VIEW], *((zone.apex, t, view) for t in (A, MX, TXT))]))
    return list(found)


def _sample(sets: list[tuple[Name, int, str]], most: int) -> list[tuple[Name, int, str]]:
    """At most so many of them, spread evenly, the same ones in each run."""
    step = max(1.0, len(sets) / most)
    return [sets[int(number * step)] for number in range(min(len(sets), most))]


def _large(zones: Iterable[Zone]) -> list[tuple[Name, int, str | None]]:
    """Return the largest expected set, where that is larger than a datagram."""
    sizes: dict[tuple[Name, int, str | None], int] = {}
    for zone in zones:
        for expectation in zone.expectations:
            if expectation.presence != "absent" and expectation.rdata:
                key = (expectation.name, expectation.rdtype, zone.view)
                sizes[key] = sizes.get(key, 0) + len(expectation.rdata) + 12
    largest = max(sizes, key=lambda key: sizes[key], default=None)
    return [largest] if largest is not None and sizes[largest] > _LARGE_BYTES else []

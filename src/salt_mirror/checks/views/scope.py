"""What `views` has to look at: names with the views that hold a zone for them, and what the estate says of them.

Strategy: names come from expectations, from zones in hand and from the arguments. A name of a zone that stands in several
views is compared; one that stands in a public view is looked at for what must not be told there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

from salt_mirror.checks.common.part import Holdings, no_holding
from salt_mirror.dns.names import Name, is_within, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, BETWEEN_VIEWS, MX, NS, PTR, SOA, TXT, A
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate, Zone

_ALWAYS = (A, AAAA)
_AT_APEX = (MX, TXT, NS, SOA)
Sets = dict[int, frozenset[bytes]]
"""Values by type; an alias stands as CNAME."""
NOTHING: frozenset[bytes] = frozenset()
APART = frozenset((NS, SOA))
"""Types that every view has for itself."""
_PROBES = 3


@dataclass(slots=True)
class NameInViews:
    """A name, the views that hold a zone for it in the order of the estate, the types to ask for."""

    name: Name
    views: list[str]
    rdtypes: tuple[int, ...]


@dataclass(slots=True)
class InsideZone:
    """A zone that no public view has, some names in it, and the public servers that must know nothing of it."""

    zone: Zone
    probes: list[tuple[Name, int]]
    servers: list[Server]


@dataclass(slots=True)
class ViewsScope:
    """The work. `only` are names or zones to look at, all where there are none; `sees` tells which names of a view are."""

    estate: Estate
    only: list[Name] = field(default_factory=list)
    sees: Callable[[Name, str], bool] = lambda _, __: True
    _expected: dict[tuple[str, Name], dict[int, frozenset[bytes]]] = field(default_factory=dict)

    def check(self) -> None:
        """Raise BadInput for an estate in which nothing can be compared."""
        if len(self.estate.zones) < 2:
            raise BadInput(
                'nothing to compare: an estate with zones in several views is needed (view = "…" in [[zones]])'
            )
        for number, entry in enumerate(self.estate.same, 1):
            for view in entry.views:
                if view not in self.estate.zones:
                    raise BadInput.unknown(f"same, entry {number}, views: there is no view", view, self.estate.zones)

    @property
    def publics(self) -> list[str]:
        """The views that the whole world sees."""
        return [view for view in self.estate.views if view in self.estate.public_views]

    def names(self, holdings: Holdings = no_holding) -> list[NameInViews]:
        """Return every name to look at, in the order of views and zones."""
        found: dict[Name, set[int]] = {}
        for zone in self.estate.all_zones():
            for name, rdtype in self._known_in(zone, holdings):
                if self._wanted(name) and self.sees(name, zone.view) and not name.startswith(b"\x01*"):
                    found.setdefault(name, set()).add(rdtype)
        for name in self.only:
            found.setdefault(name, set())
        listed = []
        for name, rdtypes in found.items():
            views = [view for view in self.estate.views if self.estate.zone_of(name, view) is not None]
            shared = len({self._apex(name, view) for view in views}) < len(views)
            outside = any(view in self.estate.public_views for view in views)
            if not (shared or outside):
                continue
            types = {PTR} if is_reverse(name) else {*_ALWAYS, *(rdtypes & BETWEEN_VIEWS)}
            types |= set(_AT_APEX) if any(self._apex(name, view) == name for view in views) else set()
            listed.append(NameInViews(name, views, tuple(sorted(types))))
        return listed

    def _apex(self, name: Name, view: str) -> Name | None:
        zone = self.estate.zone_of(name, view)
        return zone.apex if zone is not None else None

    def _wanted(self, name: Name) -> bool:
        return not self.only or any(is_within(name, one) for one in self.only)

    def _known_in(self, zone: Zone, holdings: Holdings) -> Iterator[tuple[Name, int]]:
        """Names with their types: those that are expected in a zone, and those that stand in it as far as it is in hand."""
        yield zone.apex, SOA
        yield from ((one.name, one.rdtype) for one in zone.expectations if one.presence != "absent")
        for server in zone.servers or ():
            holding = holdings(server, zone.apex)
            if holding is not None:
                yield from ((name, rdtype) for name, rdtype, *_ in holding.rrsets() if not holding.is_delegated(name))

    def is_same(self, name: Name) -> list[str] | None:
        """Return the views in which a name has to be the same, by the estate's rules; None where it need not."""
        for entry in self.estate.same:
            if fits(name, entry.names):
                return entry.views or self.estate.views
        return None

    def is_inside_only(self, name: Name) -> bool:
        """Return whether a name must stand in no public view."""
        return any(fits(name, entry.names) for entry in self.estate.inside_only)

    def is_inside(self, name: Name) -> bool:
        """Return whether a name stands in a zone that no public view has."""
        held = [self.estate.zone_of(name, view) for view in self.estate.views if view not in self.estate.public_views]
        outside = any(self.estate.zone_of(name, view) is not None for view in self.publics)
        return any(held) and not outside

    def expected(self, name: Name, view: str) -> dict[int, frozenset[bytes]]:
        """Return what is expected at a name in a view, by type; an empty set where it must be gone."""
        if not self._expected:
            for zone in self.estate.all_zones():
                for expectation in zone.expectations:
                    at = self._expected.setdefault((zone.view, expectation.name), {})
                    value = frozenset((expectation.rdata,)) if expectation.presence != "absent" else frozenset[bytes]()
                    at[expectation.rdtype] = at.get(expectation.rdtype, frozenset()) | value
        return self._expected.get((view, name), {})

    def inside_zones(self) -> Iterator[InsideZone]:
        """Return the zones that no public view has, with what to ask the public servers for."""
        servers = {
            server: None
            for view in self.publics
            for zone in self.estate.zones[view].values()
            for server in zone.servers or ()
        }
        if not servers:
            return
        for zone in self.estate.all_zones():
            public = zone.view in self.publics or any(zone.apex in self.estate.zones[view] for view in self.publics)
            if not public and self._wanted(zone.apex) and self.sees(zone.apex, zone.view):
                others = [server for server in servers if server not in (zone.servers or ())]
                yield InsideZone(zone, self._probes(zone), others)

    def _probes(self, zone: Zone) -> list[tuple[Name, int]]:
        """Return the apex and some expected names. Below a public zone the apex alone: what the zone above tells the world
        there is its own."""
        if any(self.estate.zone_of(zone.apex, view) is not None for view in self.publics):
            return [(zone.apex, SOA)]
        expected = [
            (expectation.name, expectation.rdtype)
            for expectation in zone.expectations
            if expectation.presence != "absent" and expectation.rdtype != SOA
        ]
        return [(zone.apex, SOA), *list(dict.fromkeys(expected))[:_PROBES]]


def fits(name: Name, patterns: Iterable[str]) -> bool:
    """Return whether any shell pattern fits a name, written with or without its final dot."""
    text = to_text(name)
    return any(fnmatchcase(shape, pattern.lower()) for pattern in patterns for shape in (text, text.rstrip(".")))

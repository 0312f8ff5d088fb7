"""The estate as the checks see it: zones with their servers by view, what is expected, how addresses are reached.

Strategy: built once from the file, or from nothing but arguments, and not changed after. Looking up a name's zone is a
few dictionary look-ups along its ancestors, since an audit does it for every name and address.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from salt_mirror.dns.names import ROOT, Name
from salt_mirror.dns.questions import Key, Server
from salt_mirror.dns.reverse import Network, zone_network
from salt_mirror.dns.system import DNS_PORT
from salt_mirror.estate.aging import Ages, Aging
from salt_mirror.estate.duties import Duty, ResolverTests
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import DamagedRow, Expectation
from salt_mirror.estate.file import (
    AcceptEntry,
    BoundsEntry,
    BrokerEntry,
    DirectoryEntry,
    InsideOnlyEntry,
    SameEntry,
    VantageEntry,
)
from salt_mirror.estate.forms import Networks

if TYPE_CHECKING:
    from salt_mirror.estate.replication import Replicated


@dataclass(frozen=True, slots=True)
class Updates:
    """How changes of a zone are sent (RFC 2136): to which server, signed with which key or with the user's Kerberos ticket.

    `short_signature`: answers signed without the length of the request's MAC are accepted. `tried`: whether unsigned changes
    are taken is to be tried.
    """

    server: Server | None = None
    key: Key | None = None
    kerberos: bool = False
    short_signature: bool = False
    tried: bool = False


@dataclass(frozen=True, slots=True)
class Zone:
    """A zone in one view. `servers` is None where they have to be found through NS records, `primary` where nobody says it."""

    apex: Name
    view: str
    servers: tuple[Server, ...] | None
    expectations: tuple[Expectation, ...] = ()
    transfer: bool = False
    updates: Updates = field(default_factory=Updates)
    closed: bool = False
    allow: tuple[str, ...] = ()
    ages: tuple[Path, ...] = ()
    aging: Aging = field(default_factory=Aging)
    primary: Server | None = None

    @property
    def network(self) -> Network | None:
        """The network whose pointers it holds, for a reverse zone."""
        return zone_network(self.apex)


BOTH_FAMILIES = frozenset((4, 16))
"""The lengths of IPv4 and IPv6 addresses, in bytes."""


@dataclass(slots=True)
class Estate:
    """Zones, servers, resolvers. An empty one is what a command has without an estate file.

    `twins` are the servers that a view has of its own, since the way to them differs or is shared (`estate.ways`).
    `unread` says why directories (by domain and view) that are to be read over LDAP were not; `replicated` are the zones (by
    view and apex) that those keep; `ages` are filled where wished; `remarks` are what every report says of what was read;
    `families` the lengths of the addresses that servers are asked at, in bytes; `damaged` rows of lists that cannot be used;
    `anchors` the rdata of DS records that are trusted, by the zone.
    """

    title: str = ""
    path: Path | None = None
    zones: dict[str, dict[Name, Zone]] = field(default_factory=dict)
    servers: dict[str, Server] = field(default_factory=dict)
    resolvers: dict[str, Server] = field(default_factory=dict)
    groups: dict[str, list[Server]] = field(default_factory=dict)
    finders: tuple[Server, ...] = ()
    reach: dict[bytes, tuple[bytes, int]] = field(default_factory=dict)
    public_views: frozenset[str] = frozenset()
    roots: dict[Name, tuple[bytes, ...]] = field(default_factory=dict)
    anchors: dict[Name, tuple[bytes, ...]] = field(default_factory=dict)
    directories: list[DirectoryEntry] = field(default_factory=list)
    unread: dict[tuple[str, str], str] = field(default_factory=dict)
    replicated: dict[tuple[str, Name], Replicated] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    accept: list[AcceptEntry] = field(default_factory=list)
    same: list[SameEntry] = field(default_factory=list)
    inside_only: list[InsideOnlyEntry] = field(default_factory=list)
    duties: dict[str, Duty] = field(default_factory=dict)
    resolver_tests: ResolverTests = field(default_factory=ResolverTests)
    bounds: BoundsEntry = field(default_factory=BoundsEntry)
    networks: Networks = field(default_factory=Networks)
    retired: tuple[Network, ...] = ()
    lease_files: tuple[Path, ...] = ()
    ages: Ages = field(default_factory=Ages)
    vantages: dict[str, VantageEntry] = field(default_factory=dict)
    broker: BrokerEntry | None = None
    keys: dict[str, Key] = field(default_factory=dict)
    twins: list[Server] = field(default_factory=list)
    families: frozenset[int] = BOTH_FAMILIES
    damaged: list[DamagedRow] = field(default_factory=list)

    @property
    def views(self) -> list[str]:
        """The views in the order of the file."""
        return list(self.zones)

    def check_view(self, view: str | None) -> None:
        """Raise BadInput for a view that no zone is in."""
        if view is not None and view not in self.zones:
            raise BadInput.unknown("--view: there is no view", view, self.zones)

    def zone_of(self, name: Name, view: str) -> Zone | None:
        """Return the zone of a view with the longest apex at or above a name."""
        zones = self.zones.get(view)
        if not zones:
            return None
        while name not in zones:
            if name == ROOT:
                return None
            name = name[name[0] + 1 :]
        return zones[name]

    def zone_for(self, name: Name, view: str) -> Zone | None:
        """Return the same, but with the one zone that other views hold for the name when this view has none."""
        zone = self.zone_of(name, view)
        if zone is not None:
            return zone
        others = [found for other in self.zones if (found := self.zone_of(name, other)) is not None]
        return others[0] if len(others) == 1 else None

    def nearest_zone(self, name: Name, view: str | None = None) -> Zone | None:
        """Return the zone with the longest apex at or above a name, of one view or of all; of equal ones the first."""
        views = self.zones if view is None else [view]
        held = [zone for one in views if (zone := self.zone_of(name, one)) is not None]
        return max(held, key=lambda zone: len(zone.apex), default=None)

    def all_zones(self) -> Iterator[Zone]:
        """Return every zone of every view."""
        for zones in self.zones.values():
            yield from zones.values()

    def asks(self, server: Server) -> bool:
        """Return whether a server may be asked: one whose address is not known, as over HTTPS, only by a run that uses both
        families."""
        return self.families == BOTH_FAMILIES or len(server.address) in self.families

    def damaged_in(self, view: str) -> dict[tuple[Name, int], str]:
        """Return what is wrong with rows of lists that a view expects, by the name and the type that they are about."""
        return {(row.name, row.rdtype): row.says for row in self.damaged if row.view == view and row.name}

    def keep_to(self, length: int) -> None:
        """Leave out every server whose address is not of a length (4 for IPv4, 16 for IPv6), and say so in a remark."""
        self.families = frozenset((length,))
        left = {server.label: None for server in self.servers.values() if len(server.address) != length}
        left |= {server.label: None for server in self.resolvers.values() if len(server.address) != length}
        for view, zones in self.zones.items():
            self.zones[view] = {apex: _kept_to(zone, length) for apex, zone in zones.items()}
        self.resolvers = {label: server for label, server in self.resolvers.items() if len(server.address) == length}
        self.groups = {
            group: [one for one in members if len(one.address) == length] for group, members in self.groups.items()
        }
        self.finders = tuple(server for server in self.finders if len(server.address) == length)
        self.twins = [server for server in self.twins if len(server.address) == length]
        if left:
            text = "IPv4" if length == 4 else "IPv6"
            self.remarks.append(f"not asked, since only {text} is used: {', '.join(left)}")

    def reached(self, address: bytes, port: int = DNS_PORT) -> tuple[bytes, int]:
        """Return where a published address is reached from here (`[reach]`); a port that was given stands."""
        return self.reach.get(address, (address, port)) if port == DNS_PORT else (address, port)


def _kept_to(zone: Zone, length: int) -> Zone:
    """Return a zone without its servers whose addresses are of another length."""
    if zone.servers is None:
        return zone
    servers = tuple(server for server in zone.servers if len(server.address) == length)
    return replace(zone, servers=servers, primary=zone.primary if zone.primary in servers else None)

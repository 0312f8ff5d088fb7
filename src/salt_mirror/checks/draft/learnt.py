"""What was learnt of an estate that nobody has written down: zones, servers, and why something was not learnt.

Strategy: every zone and server keeps where it comes from, since whoever reads the draft has to be able to tell what was asked
from what was merely said. A server counts for a zone when it has answered for it with authority, and for no other reason.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.reverse import Network, is_reverse, zone_network
from salt_mirror.estate.directory.found import FoundDirectory, FoundZone
from salt_mirror.estate.model import Estate

RRsets = dict[tuple[Name, int], tuple[int, tuple[bytes, ...]]]
"""RRsets by owner and type: the TTL in seconds, the sorted canonical rdata."""

_GENERATED = frozenset((6, 43, 46, 47, 48, 50, 51, 59, 60, 65534))
"""Types that a server or a signer makes by itself (SOA; RFC 4034, RFC 5155, RFC 7344), and that nobody lists as expected."""


@dataclass(slots=True)
class LearntServer:
    """A server: `published` is the address under which the world knows it, None where it was given as it is reached. It is
    `listed` unless a zone above alone leads to it."""

    server: Server
    whence: str
    name: Name | None = None
    published: bytes | None = None
    listed: bool = True


class InVain(NamedTuple):
    """A server that does not answer for a zone with authority, though something sends people there: what, and how not."""

    whence: str
    how: str


@dataclass(slots=True)
class LearntZone:
    """A zone. `servers` answer for it with authority; `others` are named for it in vain.

    `holding` is the whole zone, from the server `held_by`; `asked` what was asked for in single questions where nobody handed
    the zone over, which `refusals` tell of, or what the directory has where that keeps it in a `partition`. Then it may take
    `signed_changes` alone, as it was told or not (`updates_told`), and answer them with a `short_signature`; `ages` tell when
    its dynamic records were refreshed, in hours since 1601.
    """

    apex: Name
    whence: str
    servers: list[Server] = field(default_factory=list)
    others: dict[Server, InVain] = field(default_factory=dict)
    holding: Holding | None = None
    held_by: Server | None = None
    asked: RRsets = field(default_factory=dict)
    refusals: dict[Server, str] = field(default_factory=dict)
    partition: str = ""
    signed_changes: bool = False
    updates_told: bool = False
    short_signature: bool = False
    ages: dict[tuple[Name, int, bytes], int] = field(default_factory=dict)

    def take_kept(self, zone: FoundZone) -> None:
        """Take in what a directory has of it."""
        self.partition = zone.partition
        self.signed_changes = zone.secure_updates is not False  # what is not said is what a directory does by itself
        self.updates_told = zone.secure_updates is not None
        sets: dict[tuple[Name, int], tuple[int, set[bytes]]] = {}
        for record in zone.records:
            ttl, values = sets.get((record.name, record.rdtype), (record.ttl, set()))
            sets[record.name, record.rdtype] = (min(ttl, record.ttl), {*values, record.rdata})
            if record.age_h:
                self.ages[record.name, record.rdtype, record.rdata] = record.age_h
        self.asked = {key: (ttl, tuple(sorted(values))) for key, (ttl, values) in sets.items()}

    @property
    def network(self) -> Network | None:
        """The network whose pointers it holds, for a reverse zone."""
        return zone_network(self.apex)

    @property
    def registered(self) -> RRsets:
        """What is registered in it, as far as that is known; nothing from below a zone cut, and nothing that makes itself."""
        if self.holding is None:
            return {key: kept for key, kept in self.asked.items() if key[1] not in _GENERATED}
        return {
            (owner, rdtype): (ttl, values)
            for owner, rdtype, ttl, values in self.holding.rrsets()
            if rdtype not in _GENERATED and not self.holding.is_delegated(owner)
        }


@dataclass(slots=True)
class Learnt:
    """Everything that was learnt. `lost` are zones that should be there and that no server answers for, with why; `beyond`
    networks in which addresses were seen and whose pointers none of the servers keeps, with the number of addresses;
    `elsewhere` zones that are delegated to name servers of which these here know nothing: another view's; `met` bounds that
    the search met, and `left_out` what no estate can hold, with why."""

    view: str = ""
    zones: dict[Name, LearntZone] = field(default_factory=dict)
    servers: dict[Server, LearntServer] = field(default_factory=dict)
    lost: dict[Name, str] = field(default_factory=dict)
    elsewhere: dict[Name, tuple[Name, ...]] = field(default_factory=dict)
    beyond: dict[Network, int] = field(default_factory=dict)
    directories: dict[Name, list[str]] = field(default_factory=dict)
    directory: FoundDirectory | None = None
    remarks: list[str] = field(default_factory=list)
    met: list[str] = field(default_factory=list)
    left_out: dict[str, str] = field(default_factory=dict)

    @property
    def whole(self) -> bool:
        """Whether nothing was lost, left out or cut short."""
        return not (self.lost or self.met or self.left_out)

    def zone_at(self, name: Name) -> LearntZone | None:
        """Return the zone with the longest apex at or above a name."""
        while name not in self.zones:
            if len(name) == 1:
                return None
            name = name[name[0] + 1 :]
        return self.zones[name]

    def new_to(self, estate: Estate) -> list[LearntZone]:
        """Return the zones that an estate does not have in this view."""
        known = estate.zones.get(self.view, {})
        return [zone for zone in self.in_order if zone.apex not in known]

    @property
    def in_order(self) -> list[LearntZone]:
        """Forward zones before reverse ones, each by name with what stands below a zone behind it."""
        return sorted(self.zones.values(), key=lambda one: (is_reverse(one.apex), _backwards(one.apex)))

    @property
    def unheld(self) -> list[LearntZone]:
        """The zones that nobody handed over."""
        return [zone for zone in self.in_order if zone.holding is None]

    def serving(self, server: Server) -> list[LearntZone]:
        """Return the zones that a server answers for with authority."""
        return [zone for zone in self.zones.values() if server in zone.servers]

    def one_address_each(self) -> None:
        """Leave each server that was reached under addresses of both families under the IPv4 one alone, as the same machine;
        one that answers for no zone, and to which nothing sends people, is left out."""
        for server, learnt in list(self.servers.items()):
            twins = [
                other for other, known in self.servers.items() if known.name == learnt.name and len(other.address) == 4
            ]
            zones = self.serving(server)
            if learnt.name is None or len(server.address) == 4 or not twins:
                continue
            if all(any(twin in zone.servers for twin in twins) for zone in zones):
                del self.servers[server]
                for zone in self.zones.values():
                    zone.servers = [other for other in zone.servers if other is not server]
                    zone.others.pop(server, None)

    @property
    def written(self) -> list[LearntServer]:
        """The servers for the estate: those that answer for a zone, or that a zone's own servers list."""
        return [one for server, one in self.servers.items() if one.listed or self.serving(server)]

    def sending_to(self, server: Server) -> Iterator[tuple[LearntZone, str]]:
        """Return the zones that send people to a server which does not answer for them, with how it does not."""
        return ((zone, zone.others[server].how) for zone in self.in_order if server in zone.others)


def bare(name: Name) -> str:
    """Return a name as it stands in an estate file: without its final dot."""
    return to_text(name).rstrip(".") or "."


def _backwards(name: Name) -> tuple[str, ...]:
    return tuple(reversed(to_text(name).rstrip(".").split(".")))


def said(names: Iterable[Name], most: int = 3) -> str:
    """Return a few names as people read them, and how many more there are."""
    texts = [to_text(name) for name in names]
    more = f" and {len(texts) - most:,} more" if len(texts) > most else ""
    return ", ".join(texts[:most]) + more

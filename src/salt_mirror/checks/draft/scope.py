"""What a draft begins with, and the reverse zones that a network may stand for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.dns.reverse import Network, network_zone, reverse_name
from salt_mirror.estate.directory.found import FoundDirectory


@dataclass(slots=True)
class SearchStart:
    """What the search begins with: names that were given, zones that a list or a catalogue says are there (each with who says
    so), networks, servers, those that an estate knows already, and a directory with its controllers' addresses."""

    names: list[Name] = field(default_factory=list)
    zones: dict[Name, str] = field(default_factory=dict)
    networks: list[Network] = field(default_factory=list)
    servers: list[Server] = field(default_factory=list)
    known: list[Server] = field(default_factory=list)
    directory: FoundDirectory | None = None
    controllers: list[tuple[Name, bytes]] = field(default_factory=list)


def parts_of(network: Network) -> Iterator[Network]:
    """Return the /24 in a network that is larger, each of which may be a reverse zone."""
    if network.version == 4 and 16 <= network.prefixlen < 24:
        yield from network.subnets(new_prefix=24)


def place_of(network: Network) -> Name:
    """Return the name of a network's reverse zone, or the name of its first pointer where no zone ends there."""
    try:
        return network_zone(network)
    except ValueError:
        return reverse_name(network.network_address.packed)

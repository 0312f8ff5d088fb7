"""What a vantage lets itself be asked to do: which servers, how fast, with which keys.

Strategy: an address counts as it is sent, packed, so that no way of writing it leads past the list.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Collection
from dataclasses import dataclass, field

from salt_mirror.dns.questions import Key
from salt_mirror.dns.reverse import Network
from salt_mirror.dns.traffic.engine import TIMEOUT_S, TRIES
from salt_mirror.vantages.protocol import ServerAddress


@dataclass(frozen=True)
class WorkerRules:
    """What a vantage lets itself be asked to do: the networks and HTTPS servers that it asks, the TSIG keys that it has by
    name, and the most questions a second to each server (without it none on loopback, 200 for any other); and how it asks, as
    the engine's `timeout_s` and `tries`."""

    networks: tuple[Network, ...]
    urls: frozenset[str] = frozenset()
    keys: dict[str, Key] = field(default_factory=dict)
    pace: float | None = None
    timeout_s: float = TIMEOUT_S
    tries: int = TRIES

    def permits(self, place: ServerAddress) -> bool:
        """Return whether a server may be asked."""
        if place.over == "https":
            return place.url in self.urls
        try:
            address = ipaddress.ip_address(place.address)
        except ValueError:
            return False
        return any(address in network for network in self.networks)

    @property
    def allowed(self) -> list[str]:
        """The networks and servers, as they are shown."""
        return [*map(str, self.networks), *sorted(self.urls)]


def networks_of(texts: Collection[str]) -> tuple[Network, ...]:
    """Networks and addresses as somebody wrote them. Raises ValueError."""
    return tuple(ipaddress.ip_network(text.strip(), strict=False) for text in texts if text.strip())

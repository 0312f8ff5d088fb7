"""A stop of a tour, and what is done to the world before or during one."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from salt_mirror.demo.world import change
from salt_mirror.standin.server import StandIn


@dataclass(frozen=True, slots=True)
class Stop:
    """One stop of the tour: what is said, what is typed, the exit status that it must have, and what happens meanwhile or
    before, to the servers and in the world's folder."""

    says: str
    command: tuple[str, ...]
    status: int
    meanwhile: Callable[[dict[str, StandIn]], None] | None = None
    before: Callable[[dict[str, StandIn], Path], None] | None = None


SHOP_MOVED = ("shop      A    192.0.2.11", "shop      A    192.0.2.12")


def move_the_shop(servers: dict[str, StandIn]) -> None:
    """The shop moves: first on the primary, and a little later on the secondary."""
    for label, wait_s in (("ns1", 1.5), ("ns2", 1.5)):
        time.sleep(wait_s)
        change(servers[label], "gullmarsh.example", SHOP_MOVED)


def take_new_lists(_: dict[str, StandIn], folder: Path) -> None:
    """The lists with the new addresses take the place of the old ones."""
    for path in sorted((folder / "records").glob("*.renumbered")):
        path.replace(path.with_suffix(""))


def mend_and_break(servers: dict[str, StandIn], _: Path) -> None:
    """The provider's secondary catches up, the retired server is gone for good, and somebody takes a record away."""
    for label in ("ns1", "ns2"):
        change(servers[label], "gullmarsh.example", SHOP_MOVED, ("tasting   A    198.51.100.21\n", ""))
    for origin, zone in servers["ns1"].authority.zones.items():
        if origin in servers["ns3"].authority.zones:
            servers["ns3"].authority.hold(zone)
    servers["ns1"].followers.append(servers["ns3"])

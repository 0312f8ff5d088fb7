"""Estates and zones of any size, as files."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIn, StandIns
from support.program import Outcome

LABELS = ("one", "two", "three")
PUBLISHED = ("192.0.2.1", "198.51.100.2", "203.0.113.3")


def lay_out(
    path: Path,
    zone: str,
    servers: dict[str, int],
    more: str = "",
    reach: dict[str, str] | None = None,
    also: dict[str, dict[str, int]] | None = None,
) -> None:
    """An estate of one zone with servers by label and port, and of others besides; published addresses by where they are
    reached."""
    text = f"{more}\n"
    for name, ports in {zone: servers, **(also or {})}.items():
        text += f'[[zones]]\nname = "{name}"\nview = "public"\nservers = {json.dumps(list(ports))}\n'
    for label, port in {
        label: port for ports in (servers, *(also or {}).values()) for label, port in ports.items()
    }.items():
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n'
    text += "[reach]\n" + "".join(f'"{address}" = "{place}"\n' for address, place in (reach or {}).items())
    path.write_text(text, encoding="utf-8")


class Served:
    """Stand-ins that serve a zone, and the estate in a test's folder that lists them as `one`, `two` and `three`, at the
    addresses that are published for them."""

    def __init__(self, standins: StandIns, folder: Path) -> None:
        self._standins = standins
        self._path = folder / "estate.toml"

    def __call__(
        self,
        zone: str,
        *texts: str,
        listed: int = 3,
        more: str = "",
        reach: dict[str, StandIn] | None = None,
        also: dict[str, dict[str, int]] | None = None,
    ) -> list[StandIn]:
        """A server for each text; the first `listed` stand in the estate. `reach` gives more addresses their servers."""
        servers = self.serve(zone, *texts)
        self.publish(zone, servers[:listed], more, dict(zip(PUBLISHED, servers, strict=False)) | (reach or {}), also)
        return servers

    def serve(self, zone: str, *texts: str) -> list[StandIn]:
        """Servers that the estate says nothing of."""
        return [self._standins.add([read_zone(text, zone)]) for text in texts]

    def publish(
        self,
        zone: str,
        servers: Sequence[StandIn],
        more: str = "",
        reach: dict[str, StandIn] | None = None,
        also: dict[str, dict[str, int]] | None = None,
    ) -> None:
        """Writes the estate anew."""
        ports = {label: server.port for label, server in zip(LABELS, servers, strict=False)}
        places = {address: server.endpoint for address, server in (reach or {}).items()}
        lay_out(self._path, zone, ports, more, places, also)


def found(done: Outcome) -> list[str]:
    return sorted(finding["code"] for finding in done.report["findings"])


def estate_of(folder: Path, hosts: int, servers: dict[str, int]) -> Path:
    """An estate of many hosts in one forward and one reverse zone, on servers given by their ports."""
    records = [f"h{n},A,10.77.{n // 250}.{n % 250}" for n in range(hosts)]
    (folder / "hosts.csv").write_text("\n".join(["name,type,value", *records]) + "\n", encoding="utf-8")
    names = json.dumps(list(servers))
    text = f'[[zones]]\nname = "pans.example"\nservers = {names}\nexpect = ["hosts.csv"]\n'
    text += f'[[zones]]\nname = "{reverse_of(hosts)}"\nservers = {names}\n'
    text += "".join(f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n' for label, port in servers.items())
    path = folder / "estate.toml"
    path.write_text(text, encoding="utf-8")
    return path


def zones_of(hosts: int) -> dict[str, str]:
    head = "$TTL 300\n@ SOA ns.pans.example. h.pans.example. 1 3600 600 86400 300\n@ NS ns.pans.example.\n"
    forward = head + "ns A 127.0.0.1\n" + "".join(f"h{n} A 10.77.{n // 250}.{n % 250}\n" for n in range(hosts))
    reverse = head + "".join(f"{n % 250}.{n // 250}.77.10.in-addr.arpa. PTR h{n}.pans.example.\n" for n in range(hosts))
    return {"pans.example": forward, reverse_of(hosts): reverse}


def reverse_of(hosts: int) -> str:
    """The smallest reverse zone that holds them all."""
    return "0.77.10.in-addr.arpa" if hosts <= 250 else "77.10.in-addr.arpa"

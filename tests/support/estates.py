"""Estates and zones of any size, as files."""

from __future__ import annotations

import json
from pathlib import Path

from support.program import Outcome


def lay_out(
    path: Path, zone: str, servers: dict[str, int], more: str = "", reach: dict[str, str] | None = None
) -> None:
    """An estate of one zone with servers by label and port; published addresses by where they are reached."""
    labels = ", ".join(f'"{label}"' for label in servers)
    text = f'{more}\n[[zones]]\nname = "{zone}"\nview = "public"\nservers = [{labels}]\n'
    text += "".join(f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n' for label, port in servers.items())
    text += "[reach]\n" + "".join(f'"{address}" = "{place}"\n' for address, place in (reach or {}).items())
    path.write_text(text, encoding="utf-8")


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

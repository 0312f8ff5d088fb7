"""The settings of this computer, or of the one that was captured: the reader that fits, and this computer's own addresses."""

from __future__ import annotations

import ipaddress
import socket
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from salt_mirror.dns.computer import linux, macos, windows
from salt_mirror.dns.computer.settings import OwnAddress, Settings
from salt_mirror.dns.computer.sources import Captured, Live, Recording, Replayed, Source

READERS: dict[str, Callable[[Source], Settings]] = {
    "linux": linux.read,
    "windows": windows.read,
    "macos": macos.read,
}
_TEMPORARY = 0x01
"""IFA_F_TEMPORARY: an address of RFC 8981, which nobody registers."""


def captured_settings(folder: Path) -> Settings:
    """Return the settings that were captured into a folder."""
    source = Captured(folder)
    return READERS[source.system](source)


def recorded_settings() -> bytes:
    """Return everything that the reader of this computer's settings has read, for somebody elsewhere (`told_settings`)."""
    recording = Recording(Live())
    system = _this_system()
    host = READERS[system](recording).host or socket.gethostname()
    addresses = [(one.address, one.link, one.temporary) for one in own_addresses()]
    return msgspec.msgpack.encode(_Recorded(system, host, addresses, recording.told))


def told_settings(recorded: bytes) -> Settings:
    """Return the settings of the computer that sent them. Raises ValueError for what is none."""
    try:
        one = msgspec.msgpack.decode(recorded, type=_Recorded)
    except msgspec.MsgspecError as error:
        raise ValueError(str(error)) from None
    if one.system not in READERS:
        raise ValueError("it is of no system that is known here")
    settings = READERS[one.system](Replayed(one.told))
    settings.host = settings.host or one.host
    settings.addresses = [OwnAddress(*address) for address in one.addresses]
    return settings


class _Recorded(msgspec.Struct, array_like=True):
    """What a computer's settings were read from: its system and host, its addresses, and what its files and programs told."""

    system: str
    host: str
    addresses: list[tuple[bytes, str, bool]]
    told: dict[str, Any]


def _this_system() -> str:
    return {"win32": "windows", "darwin": "macos"}.get(sys.platform, "linux")


def own_settings() -> Settings:
    """Return the settings of this computer, with its name and addresses."""
    settings = READERS[_this_system()](Live())
    settings.host = settings.host or socket.gethostname()
    settings.addresses = own_addresses()
    return settings


def own_addresses() -> list[OwnAddress]:
    """Return the addresses of this computer's interfaces, but for loopback and link-local ones."""
    import psutil

    temporary = _temporary()
    found = []
    for link, addresses in psutil.net_if_addrs().items():
        for one in addresses:
            try:
                address = ipaddress.ip_address(one.address.partition("%")[0])
            except ValueError:
                continue  # a hardware address
            if not (address.is_loopback or address.is_link_local or address.is_multicast or address.is_unspecified):
                found.append(OwnAddress(address.packed, link, address.packed in temporary))
    return found


def _temporary() -> set[bytes]:
    """IPv6 addresses that change by the day, where the system tells them apart."""
    text = Live().text("/proc/net/if_inet6") or ""
    rows = [line.split() for line in text.splitlines()]
    return {bytes.fromhex(row[0]) for row in rows if len(row) >= 5 and int(row[4], 16) & _TEMPORARY}

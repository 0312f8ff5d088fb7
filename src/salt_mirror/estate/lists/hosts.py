"""Hosts files: an address, its name, and other names for it (RFC 952's heirs)."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from pathlib import Path

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.records import address_type
from salt_mirror.estate.errors import BadInput, put_aside
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import Networks, address_in


def read_hosts(
    text: str, path: Path, origin: Name, networks: Networks, problems: list[Unusable] | None
) -> Iterator[Expectation]:
    """Return the addresses of every name. What stands there for this computer alone (loopback, multicast) is nobody's record.

    Raises BadInput, unless there are `problems` to put a damaged line to.
    """
    for number, line in enumerate(text.splitlines(), 1):
        content, _, note = line.partition("#")
        words = content.split()
        if not words:
            continue
        try:
            address = address_in(words[0].partition("%")[0])
            if address is None or len(words) < 2:
                raise BadInput(f"{shown(content.strip())} is no entry; expected an address and its names")
            where = ipaddress.ip_address(address)
            if (
                where.is_loopback
                or where.is_multicast
                or where.is_link_local
                or where.is_unspecified
                or int(where) == _ALL
            ):
                continue
            zone = networks.zone_at(address) or origin
            for name in _names(words[1:], zone):
                yield Expectation(
                    name, address_type(address), address, source=path, line=number, note=note.strip() or None
                )
        except Unusable as error:
            put_aside(BadInput.at(path, number, str(error)), problems)


def _names(words: list[str], zone: Name) -> dict[Name, None]:
    """Return the names of one entry, each once. A short name that begins a full one of its entry is that one
    (`kiln-41.pans.example kiln-41`), whatever zone completes others."""
    full = {word.partition(".")[0].lower() for word in words if "." in word.rstrip(".")}
    names: dict[Name, None] = {}
    for word in words:
        if "." in word.rstrip("."):
            names[from_text(word)] = None
        elif word.rstrip(".").lower() not in full:
            names[from_text(word, zone)] = None
    return names


_ALL = 0xFFFFFFFF

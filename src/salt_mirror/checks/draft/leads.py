"""What the search for an estate follows: names whose zones are looked for, and zones whose servers are.

Strategy: plain data, with who led there; the search itself (`exploring.py`) decides what becomes of it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from types import MappingProxyType
from typing import NamedTuple

from salt_mirror.dns.names import Name, parent
from salt_mirror.dns.questions import Server


class SoughtName(NamedTuple):
    """A name whose zone is looked for: who led there, and whether resolvers may be asked. `holds` says what the zone holds
    where it begins further up; a `quiet` one is not told where it is in no zone."""

    whence: str
    holds: str = ""
    outside: bool = False
    is_zone: bool = False
    quiet: bool = False


class Lead(NamedTuple):
    """A zone whose servers are looked for: who led there, servers that may know it, the servers of the zone above, addresses
    of its name servers, and whether it was named by whoever drafts."""

    whence: str
    hints: tuple[Server, ...] = ()
    above: tuple[Server, ...] = ()
    glue: Mapping[Name, set[bytes]] = MappingProxyType({})
    named: bool = False


def upwards(name: Name, by: int) -> Name:
    """Return the name so many labels above."""
    for _ in range(by):
        name = parent(name)
    return name


def batches(wanted: list[tuple[Name, int]], size: int = 64) -> Iterator[list[tuple[Name, int]]]:
    """Part what is to be asked into batches of one dialogue each."""
    for at in range(0, len(wanted), size):
        yield wanted[at : at + size]

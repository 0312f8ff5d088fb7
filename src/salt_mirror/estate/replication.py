"""How zones that a directory keeps come from one domain controller to another: who has a copy, and when changes last came.

Strategy: plain data, filled when a directory is read. Such zones have no secondaries and no transfers: each controller writes,
and what is written on one is replicated to the others, partition by partition (MS-ADTS section 3.1.1.1.9).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import NamedTuple

from salt_mirror.dns.names import Name, from_text
from salt_mirror.estate.file import DirectoryEntry


class Inbound(NamedTuple):
    """One way by which changes come to a controller: the host that they come from (empty for one that is not known), when they
    last came, how many attempts have failed since, and the number of the last error (Win32; 0 for none)."""

    source: str
    succeeded: datetime | None
    failures: int
    error: int


@dataclass(frozen=True, slots=True)
class Replicated:
    """A zone in a directory: the partition that holds it, and every domain controller with a copy, each with the ways by which
    its changes come; None for one that did not tell, and why in `untold`. `delegated` are the name servers that its
    delegation of `_msdcs` names; `aliases` lead from GUIDs in `_msdcs` to hosts; `pointers` are the owners of all its PTR
    records, None where
    they were not read."""

    partition: str
    hosts: dict[Name, tuple[Inbound, ...] | None]
    untold: dict[Name, str] = field(default_factory=dict)
    delegated: tuple[Name, ...] = ()
    aliases: dict[Name, Name] = field(default_factory=dict)
    pointers: tuple[Name, ...] | None = None


def hosts_of(entry: DirectoryEntry) -> list[Name]:
    """Return the domain controllers of a directory, as far as they are declared or were read. Raises BadName."""
    return [host_of(one.host, from_text(entry.domain)) for one in entry.controllers]


def host_of(text: str, domain: Name) -> Name:
    """Return a domain controller's host: a single label stands in the domain. Raises BadName."""
    return from_text(text, domain if "." not in text else None)

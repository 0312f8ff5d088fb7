"""The sheet of a zone: what was seen, as plain data that a report can lay out; and the check at work, zone by zone.

Strategy: text and numbers alone, names absolute and escaped. Nothing is judged here; a row says what a server said, and the
findings say what that means.
"""

from __future__ import annotations

import msgspec

from salt_mirror.checks.common.soa import SoaField
from salt_mirror.checks.signed.sheet import SignedSheet
from salt_mirror.findings import Outcome


class ServerRow(msgspec.Struct, frozen=True, kw_only=True):
    """One authoritative server at one place. `behind` counts versions behind the newest (negative: ahead of the primary).

    `names` are the NS names that lead to it, `listed` who names it (parent, zone, estate); `udp` and `tcp` are `answers` or
    why not; `state` is `authoritative` or how it is not; `edns` the payload in bytes. None: not known. `updates` says what
    became of an unsigned change that changes nothing, where that was tried.
    """

    server: str
    endpoint: str
    names: list[str]
    addresses: list[str]
    listed: list[str]
    udp: str
    tcp: str
    state: str
    serial: int | None
    behind: int | None
    rtt_ms: float | None
    name_servers: list[str] | None
    edns: int | None
    cookies: bool | None
    recursion: bool | None
    transfer: bool | None
    updates: str = ""


class NameServer(msgspec.Struct, frozen=True, kw_only=True):
    """One name server's name: who lists it, its addresses on its own authoritative servers, its glue at the parent."""

    name: str
    listed: list[str]
    addresses: list[str]
    glue: list[str]
    trouble: str = ""


class Sheet(msgspec.Struct, frozen=True, kw_only=True):
    """A zone in one view. `parent` is the zone above with what it says in `parent_says`; `sums` what the timers add up to;
    `not_asked` are addresses of its servers that are not asked: no IPv6 here, or kept to one family; `signed` its signatures,
    where it has any."""

    zone: str
    view: str
    outcome: Outcome
    says: str
    soa: list[SoaField] = []
    sums: list[str] = []
    servers: list[ServerRow] = []
    name_servers: list[NameServer] = []
    parent: str = ""
    parent_says: str = ""
    content: str = ""
    not_asked: list[str] = []
    signed: SignedSheet | None = None

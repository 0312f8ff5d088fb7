"""Which servers of a zone are behind: whose word counts where they differ, and who only has to transfer.

Strategy: asked only where servers differ. The primary's version counts if it is among the servers, else the newest by serial.
Servers that each name another primary count serials by themselves, and serials without an order tell nothing: then nobody's
word counts for more than another's; so it is where some copies are a signer's and others are what it signs.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.lookup import Lookup, lookup
from salt_mirror.checks.wording import labels_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, DNSKEY, SOA, A, soa_fields
from salt_mirror.dns.serials import ahead, newest


class Standing(NamedTuple):
    """The servers whose version counts, and those that are behind them; none of either where that cannot be told."""

    counts: frozenset[Server] = frozenset()
    behind: frozenset[Server] = frozenset()

    def only_lag(self, servers: Iterable[Server]) -> bool:
        """Whether all of some servers are merely behind."""
        found = frozenset(servers)
        return bool(found) and found <= self.behind

    def right(self, found: Lookup) -> frozenset[bytes] | None:
        """The values on the servers whose version counts; None where that cannot be told, or where those differ themselves."""
        told = {frozenset(telling.values) for telling in found.usable if telling.server in self.counts}
        return told.pop() if len(told) == 1 else None


UNKNOWN = Standing()


def standing_of(found: Lookup, view: str, atlas: Atlas) -> Dialogue[Standing]:
    """Asks the servers that told of a name for the versions that they hold, and puts them in order."""
    zone = found.authority.zone
    if zone is None:
        return UNKNOWN
    answers = yield [Question(zone, SOA, telling.server) for telling in found.usable]
    keys = yield [Question(zone, DNSKEY, telling.server) for telling in found.usable]
    if len({bool(answer.values) for answer in keys if answer.trouble is None}) > 1:
        return UNKNOWN  # a signer raises the serial by itself: signed and unsigned copies have no order
    held = {
        answer.question.server: soa_fields(answer.values[0])
        for answer in answers
        if answer.trouble is None and answer.values
    }
    primaries = {soa.mname for soa in held.values()}
    if len(held) < 2 or len(primaries) != 1:
        return UNKNOWN
    (mname,) = primaries
    own = yield from lookup(mname, (A, AAAA), view, atlas)
    places = {atlas.estate.reached(address) for address in own.values}
    primary = next((server for server in held if (server.address, server.port) in places), None)
    serial = held[primary].serial if primary is not None else newest([soa.serial for soa in held.values()])
    if serial is None:
        return UNKNOWN
    counts = frozenset(server for server, soa in held.items() if soa.serial == serial)
    behind = frozenset(server for server, soa in held.items() if (ahead(serial, soa.serial) or 0) > 0)
    return Standing(counts, behind)


def let_transfer(servers: Iterable[Server]) -> str:
    """The advice for servers that are merely behind: no record of theirs is to be edited."""
    return f"let {labels_of(servers)} transfer the zone from its primary"

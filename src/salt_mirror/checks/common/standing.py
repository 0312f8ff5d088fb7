"""Which servers of a zone are behind: whose word counts where they differ, and who only has to transfer.

Strategy: asked only where servers differ. The primary's version counts if it is among the servers, else the newest by serial.
Domain controllers count serials by themselves and replicate: nobody's word counts for more than another's, and no record is to
be edited where one of them has it right. Nor does anybody's where serials have no order, or some copies are a signer's and
others are what it signs.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import Lookup, lookup
from salt_mirror.checks.common.replicas import Replicas, replicas_of
from salt_mirror.checks.common.wording import labels_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, DNSKEY, SOA, A, Soa, soa_fields
from salt_mirror.dns.serials import ahead, newest


class Standing(NamedTuple):
    """The servers whose version counts, and those that are behind them, none of either where that cannot be told; and those
    that replicate the zone, if any do."""

    counts: frozenset[Server] = frozenset()
    behind: frozenset[Server] = frozenset()
    replicas: Replicas | None = None

    def only_lag(self, servers: Iterable[Server]) -> bool:
        """Return whether all of some servers are merely behind."""
        found = frozenset(servers)
        return bool(found) and found <= self.behind

    def unreplicated(self, wrong: Iterable[Server], right: Iterable[Server]) -> list[Server]:
        """Return the domain controllers that lack what another one has, where that is all that is wrong; none where it is
        not."""
        lacking = [server for server in wrong if server not in self.behind]
        ours = self.replicas.servers if self.replicas is not None else frozenset[Server]()
        return lacking if lacking and ours.issuperset(lacking) and not ours.isdisjoint(right) else []

    def catching_up(self, wrong: Iterable[Server], right: Iterable[Server]) -> tuple[str, str]:
        """Return what to do, and the common cause, where servers only have to get what others have: by transfer, or by
        replication. Empty where a record has to be edited."""
        wrong = list(wrong)
        if self.only_lag(wrong):
            return let_transfer(wrong), ""
        lacking = self.unreplicated(wrong, right)
        if not lacking or self.replicas is None:
            return "", ""
        return self.replicas.advice(lacking), self.replicas.behind(lacking)

    def right(self, looked_up: Lookup) -> frozenset[bytes] | None:
        """Return the values on the servers whose version counts; None where that cannot be told, or where those differ
        themselves."""
        told = {frozenset(telling.values) for telling in looked_up.usable if telling.server in self.counts}
        return told.pop() if len(told) == 1 else None


UNKNOWN = Standing()


def standing_of(looked_up: Lookup, view: str, atlas: Atlas) -> Dialogue[Standing]:
    """Ask the servers that answered for a name for their serials, and order them."""
    zone = looked_up.authority.zone
    if zone is None:
        return UNKNOWN
    answers = yield [Question(zone, SOA, telling.server) for telling in looked_up.usable]
    keys = yield [Question(zone, DNSKEY, telling.server) for telling in looked_up.usable]
    if len({bool(answer.values) for answer in keys if answer.trouble is None}) > 1:
        return UNKNOWN  # a signer raises the serial by itself: signed and unsigned copies have no order
    held = {
        answer.question.server: soa_fields(answer.values[0])
        for answer in answers
        if answer.trouble is None and answer.values
    }
    replicas = yield from replicas_of(zone, view, held, atlas)
    if replicas is not None:
        return Standing(behind=_behind_replicas(held, replicas), replicas=replicas)
    primaries = {soa.mname for soa in held.values()}
    # Servers that name different primaries in the SOA do not serve copies of one zone: their serials cannot be compared.
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


def _behind_replicas(held: Mapping[Server, Soa], replicas: Replicas) -> frozenset[Server]:
    """Return the secondaries of domain controllers that have not transferred what the one has whose copy they serve."""
    serials = {soa.mname: soa.serial for server, soa in held.items() if replicas.hosts.get(server) == soa.mname}
    others = {server: soa for server, soa in held.items() if server not in replicas.hosts and soa.mname in serials}
    return frozenset(server for server, soa in others.items() if (ahead(serials[soa.mname], soa.serial) or 0) > 0)


def let_transfer(servers: Iterable[Server]) -> str:
    """Return the advice for servers that are merely behind: no record of theirs is to be edited."""
    return f"let {labels_of(servers)} transfer the zone from its primary"

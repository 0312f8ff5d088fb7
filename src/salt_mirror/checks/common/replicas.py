"""Which servers of a zone are domain controllers that replicate it among each other, in place of transferring it.

Strategy: a directory that was read says who has a copy. Where none was, the servers tell it: each controller names itself as
the primary in its own SOA, and a secondary names another. A read-only controller names another one too, and one that is reached
under an address of its own names itself all the same; the estate's labels and the directory's list of hosts tell those.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import lookup
from salt_mirror.checks.common.wording import labels_of, local_moment, many, together_said
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, A, Soa
from salt_mirror.estate.replication import Inbound, Replicated, hosts_of

Places = dict[Name, set[tuple[bytes, int]]]
"""Where hosts are reached: address and port."""
_ERRORS = {
    5: "access denied",
    1256: "the other one is not available",
    1722: "no RPC connection",
    1753: "no RPC endpoint",
    1908: "no domain controller found",
    8418: "the schemas differ",
    8439: "the partition is not there",
    8451: "its database is damaged",
    8452: "the partition is being removed",
    8453: "access denied",
    8456: "outbound replication is switched off there",
    8457: "inbound replication is switched off here",
    8524: "the other one's GUID alias is not found in DNS",
    8606: "lingering objects",
    8614: "it was off for longer than tombstones live",
}
"""What the numbers of errors mean that replication comes to (MS-ERREF section 2.2)."""


@dataclass(frozen=True, slots=True)
class Replicas:
    """The servers that replicate a zone, each with the host that it is; what the directory told of it, where one was read."""

    hosts: Mapping[Server, Name]
    kept: Replicated | None = None

    @property
    def servers(self) -> frozenset[Server]:
        """The servers that are domain controllers with a copy."""
        return frozenset(self.hosts)

    @property
    def through(self) -> str:
        """How they replicate: `through the directory (DomainDnsZones)`."""
        return f"through the directory ({self.kept.partition})" if self.kept is not None else "through a directory"

    def behind(self, servers: Iterable[Server]) -> str:
        """Return the cause behind every difference with some of them."""
        found = list(servers)
        lack = "lacks" if len(found) == 1 else "lack"
        return f"{labels_of(found)} {lack} what another domain controller has: it was not replicated ({self._what})"

    def advice(self, servers: Collection[Server]) -> str:
        """Return what to do where some of them lack what another has: no record is edited, replication is looked at."""
        text = "; ".join(filter(None, map(self.state_of, servers)))
        advice = f"look at the replication of {self._what} to {labels_of(servers)}; no record is changed by hand"
        return f"{advice} ({text})" if text else advice

    @property
    def _what(self) -> str:
        return self.kept.partition if self.kept is not None else "the directory's zones"

    def state_of(self, server: Server) -> str:
        """Return how changes come to one of them, as far as it told; empty where nothing was read."""
        host = self.hosts.get(server)
        if self.kept is None or host is None:
            return ""
        ways = self.kept.hosts.get(host)
        if ways is None:
            why = self.kept.untold.get(host, "")
            return f"{server.label} did not report when changes last came to it" + (f": {why}" if why else "")
        if not ways:
            return f"{server.label} has no other domain controller to replicate from"
        return f"to {server.label} changes last came {together_said(map(_said, ways))}"


def _said(way: Inbound) -> str:
    when = local_moment(way.succeeded) if way.succeeded is not None else "never"
    source = f" from {way.source.partition('.')[0]}" if way.source else ""
    failed = f", and {many(way.failures, 'attempt')} failed since" if way.failures else ""
    failed += f" (error {way.error}{f': {_ERRORS[way.error]}' if way.error in _ERRORS else ''})" if way.error else ""
    return f"{when}{source}{failed}"


def replicas_of(zone: Name, view: str, held: Mapping[Server, Soa], atlas: Atlas) -> Dialogue[Replicas | None]:
    """Tell the servers that replicate a zone by the SOA that each of them has; None where none do."""
    replicated = atlas.estate.replicated.get((view, zone))
    mnames = list(dict.fromkeys(soa.mname for soa in held.values()))
    if replicated is None and len(mnames) < 2:
        return None
    places = yield from places_of(mnames, view, atlas)
    hosts = {server: soa.mname for server, soa in held.items() if is_host(server, soa.mname, places)}
    if replicated is None and len(set(hosts.values())) < 2:
        return None
    if replicated is not None:
        candidates = list(replicated.hosts)
    else:
        declared = (hosts_of(entry) for entry in atlas.estate.directories if entry.view == view)
        candidates = [host for several in declared for host in several]
    for server in [one for one in held if one not in hosts]:
        called = next((host for host in candidates if _called(server, host)), None)
        if called is None:
            places |= yield from places_of([host for host in candidates if host not in places], view, atlas)
            called = next((host for host in candidates if is_host(server, host, places)), None)
        if called is not None:
            hosts[server] = called
    if replicated is not None:
        hosts = {server: host for server, host in hosts.items() if host in replicated.hosts}
    return Replicas(hosts, replicated) if hosts else None


def places_of(hosts: Sequence[Name], view: str, atlas: Atlas) -> Dialogue[Places]:
    """Look up where some hosts are reached."""
    lookups = yield from together([lookup(host, (A, AAAA), view, atlas) for host in hosts])
    return {
        host: {atlas.estate.reached(address) for address in lookup_.values}
        for host, lookup_ in zip(hosts, lookups, strict=True)
    }


def is_host(server: Server, host: Name, places: Places) -> bool:
    """Return whether a server is a host: it is reached at one of its places, or the estate's label for it is the host's
    name."""
    return (server.address, server.port) in places[host] or _called(server, host)


def _called(server: Server, host: Name) -> bool:
    """Return whether the estate's label for a server is the name of a host, whole or its first part."""
    name = to_text(host).rstrip(".")
    return server.label.lower().rstrip(".") in (name, name.partition(".")[0])

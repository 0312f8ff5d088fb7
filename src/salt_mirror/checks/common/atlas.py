"""Who is authoritative for a name: from the arguments, from the estate, or found through NS records.

Strategy: most names are settled by a look into the estate, without a question; `known` does that. For the rest `find` asks
the resolvers as a dialogue: the SOA tells the apex, NS and address records tell the servers. What was found is kept
by apex. A name whose servers cannot be found has an authority with `trouble`, and nothing about it is ever a fault.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import ROOT, Name, ancestors, from_text, is_within, labels, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import AAAA, NS, SOA, A, Record, soa_fields
from salt_mirror.dns.system import paced
from salt_mirror.estate.duties import Duty
from salt_mirror.estate.model import BOTH_FAMILIES, Estate

if TYPE_CHECKING:
    from salt_mirror.checks.common.expected import Expects


@dataclass(frozen=True, slots=True)
class Authority:
    """The servers to ask about a name, the apex of their zone where it is known, or why there are none."""

    zone: Name | None
    servers: tuple[Server, ...]
    trouble: str | None = None


class Atlas:
    """Finds the authoritative servers of names. `given` servers, when there are any, are asked about everything.

    `families` are the lengths of the addresses that can be asked at (4 for IPv4, 16 for IPv6): what this computer has a way to,
    and what the estate is kept to; servers found at others are left out. `try_updates` says whether it is to be tried which
    servers take unsigned changes, beside the zones for which the estate says so; `pace` is that of servers which are found
    (questions a second), None for the default of strangers; `source_of` returns the address from which a server is asked, None
    where that is not known.
    """

    def __init__(
        self,
        estate: Estate,
        *,
        given: Iterable[Server] = (),
        resolvers: Iterable[Server] | Callable[[], Iterable[Server]] = (),
        families: frozenset[int] = BOTH_FAMILIES,
    ) -> None:
        self.estate = estate
        self.families = families & estate.families
        self.try_updates = False
        self.unchanged: frozenset[tuple[str, Name]] = frozenset()  # zones of whose content little is compared
        self.pace: float | None = None
        self.source_of: Callable[[Server], bytes | None] = lambda _: None
        given = tuple(given)
        self._given = Authority(None, given) if given else None
        self._resolvers_from = resolvers
        self._by_zone: dict[tuple[str, Name], Authority] = {}
        self._found: dict[Name, Authority] = {}
        self._siblings: dict[tuple[Server, str], Server] = {}
        self._servers: dict[tuple[bytes, int], Server] = {
            (server.address, server.port): server for server in estate.servers.values()
        }

    @cached_property
    def _resolvers(self) -> tuple[Server, ...]:
        """The resolvers, looked for with the first zone whose servers nobody has named."""
        found = self._resolvers_from
        return tuple(found() if callable(found) else found)

    @property
    def root(self) -> Authority:
        """The root servers that the estate names; none when it names none."""
        servers = [
            self.server_at(name, address) for name, addresses in self.estate.roots.items() for address in addresses
        ]
        return Authority(ROOT, tuple(dict.fromkeys(servers)))

    def reachable(self, address: bytes) -> bool:
        """Return whether a published address can be asked at: many computers have no IPv6, and a command may be kept to one
        family."""
        return len(self.estate.reached(address)[0]) in self.families

    @property
    def _only(self) -> str:
        return "IPv4" if self.families == {4} else "IPv6"

    @property
    def given(self) -> tuple[Server, ...]:
        """The servers that are asked about everything, if there are any."""
        return self._given.servers if self._given is not None else ()

    @property
    def servers(self) -> Iterator[Server]:
        """Every server that is known so far, resolvers too, which are only looked for where somebody goes through them."""
        yield from self.given
        yield from self._resolvers
        yield from self._servers.values()
        yield from self.estate.twins

    def transfers(self, views: Iterable[str], *, everywhere: bool) -> list[tuple[Server, Name]]:
        """Return what to take by transfer: the zones of views that want it (all with `everywhere`), from each of their
        servers."""
        found: dict[tuple[Server, Name], None] = {}
        for view in views:
            for zone in self.estate.zones.get(view, {}).values():
                servers = self._given.servers if self._given is not None else zone.servers or ()
                if everywhere or zone.transfer:
                    found.update(dict.fromkeys((server, zone.apex) for server in servers))
        return list(found)

    def known(self, name: Name, view: str) -> Authority | None:
        """Return the authority of a name as far as no question is needed; None when `find` has to ask."""
        if self._given is not None:
            return self._given
        zone = self.estate.zone_for(name, view)
        if zone is None:
            return next((self._found[above] for above in ancestors(name) if self._reusable(above)), None)
        if zone.servers is None:
            return self._found.get(zone.apex)
        key = (zone.view, zone.apex)
        authority = self._by_zone.get(key)
        if authority is None:
            trouble = (
                None if zone.servers else f"none of its servers has an {self._only} address, and no other is asked"
            )
            authority = self._by_zone[key] = Authority(zone.apex, zone.servers, trouble)
        return authority

    def _reusable(self, apex: Name) -> bool:
        """Return whether names below a found apex may be asked there; not the top of the tree, which nobody should sweep."""
        return apex in self._found and len(labels(apex)) > 1

    def find(self, name: Name, view: str) -> Dialogue[Authority]:
        """Return the authority of a name, asking resolvers for its zone and the zone's servers as far as needed."""
        authority = self.known(name, view)
        if authority is not None:
            return authority
        zone = self.estate.zone_for(name, view)
        if zone is not None:
            return (yield from self._servers_of(zone.apex))
        if not self._resolvers:
            return Authority(None, (), "its zone is not in the estate, and there is no resolver to find it through")
        apex: Name | None = None
        for above in ancestors(name):
            answer = yield from self._resolve(above, SOA)
            if answer.trouble is not None:
                return Authority(
                    None,
                    (),
                    f"its zone is not in the estate, and could not be found: {answer.question.server.label} "
                    f"for {to_text(above)} SOA: {answer.trouble}",
                )
            record = soa_record(answer, above)
            if record is not None:
                apex = record.owner
                if is_placeholder(record):
                    return Authority(
                        apex,
                        (),
                        f"its zone is not in the estate, and the resolver knows only an empty {to_text(apex)} (RFC 6303)",
                    )
                break
        if apex is None:
            return Authority(None, (), "its zone is not in the estate, and no SOA above it could be found")
        if apex in self._found:
            return self._found[apex]
        return (yield from self._servers_of(apex))

    def descend(self, cut: Name, referrals: list[Answer]) -> Dialogue[Authority]:
        """Return the authority below a zone cut that servers referred to: by the glue that came with it, by what those
        servers know themselves, or by resolvers."""
        if cut in self._found:
            return self._found[cut]
        targets: dict[Name, None] = {}
        addresses: dict[Name, bytes] = {}
        for answer in referrals:
            sections = answer.sections
            for record in sections.authority:
                if record.rdtype == NS and record.owner == cut:
                    targets[record.rdata] = None
            for record in sections.additional:
                # Glue counts for servers inside the cut alone: for any other name the sender has no say.
                if (
                    record.rdtype in (A, AAAA)
                    and record.owner in targets
                    and is_within(record.owner, cut)
                    and self.reachable(record.rdata)
                ):
                    addresses.setdefault(record.owner, record.rdata)
        # Any other name may stand in the zone of the very servers that referred, which tell its address with authority.
        others = [target for target in targets if target not in addresses]
        batch = [
            Question(target, rdtype, one.question.server)
            for target in others
            for one in referrals
            for rdtype in (A, AAAA)
        ]
        for reply in (yield batch) if batch else ():
            if reply.trouble is None and reply.values and self.reachable(reply.values[0]):
                addresses.setdefault(reply.question.name, reply.values[0])
        if targets and all(target in addresses for target in targets):
            return self._keep(cut, {target: addresses[target] for target in targets})
        return (yield from self._servers_of(cut))

    def _servers_of(self, apex: Name) -> Dialogue[Authority]:
        if apex in self._found:
            return self._found[apex]
        if not self._resolvers:
            return Authority(
                apex, (), f"the servers of {to_text(apex)} are not in the estate, and there is no resolver"
            )
        answer = yield from self._resolve(apex, NS)
        if answer.trouble is not None or not answer.values:
            why = answer.trouble or "it has no NS records"
            return Authority(apex, (), f"the servers of {to_text(apex)} could not be found: {why}")
        found: dict[Name, list[bytes]] = {}
        resolver = answer.question.server
        batch = [Question(target, rdtype, resolver, True) for target in answer.values for rdtype in (A, AAAA)]
        for reply in (yield batch):
            if reply.trouble is None and reply.values:
                found.setdefault(reply.question.name, []).extend(reply.values)
        addresses = {
            target: usable[0]
            for target, values in found.items()
            if (usable := [one for one in values if self.reachable(one)])
        }
        if not addresses:
            over = f"{self._only} address" if found else "address that could be found"
            return Authority(apex, (), f"none of the servers of {to_text(apex)} has an {over}")
        return self._keep(apex, addresses)

    def _keep(self, apex: Name, addresses: dict[Name, bytes]) -> Authority:
        servers = [self.server_at(target, address) for target, address in sorted(addresses.items())]
        authority = self._found[apex] = Authority(apex, tuple(dict.fromkeys(servers)))
        return authority

    def server_at(self, target: Name, address: bytes) -> Server:
        """Return the server at a published address, by the label that the estate has for it, else by a name server's name."""
        place = self.estate.reached(address)
        if place not in self._servers:
            self._servers[place] = paced(Server(to_text(target).rstrip("."), *place, found=True), self.pace)
        return self._servers[place]

    def know(self, server: Server) -> Server:
        """Return the server that is known to be reached at the same place; this one from now on, where there is none."""
        return self._servers.setdefault((server.address, server.port), server)

    def sibling(self, server: Server, over: str) -> Server:
        """Return the same server spoken to over `tcp`, over `transfer` or `update` as by anyone, without its key, `unchecked`,
        or `signed`."""
        key = (server, over)
        if key not in self._siblings:
            plain = None if over in ("transfer", "update") else server.key
            changes: dict[str, Any] = {"over": over, "key": plain, "tls_name": "", "url": ""}
            if over in ("unchecked", "signed"):
                changes = {over: True}
            self._siblings[key] = server.again(**changes)
        return self._siblings[key]

    @cached_property
    def expects(self) -> Expects:
        """What the estate expects somewhere."""
        from salt_mirror.checks.common.expected import Expects

        return Expects(self.estate)

    def contradictions(self) -> list[str]:
        """Return what sources of the estate contradict each other about, where anybody has asked what it expects."""
        return self.expects.clashes() if "expects" in self.__dict__ and self.expects.read else []

    def outside_of(self, server: Server, duty: Duty) -> bool | None:
        """Return whether this computer stands outside the networks that a resolver serves; None where that is not known."""
        source = self.source_of(server) if duty.serves else None
        if source is None:
            return None
        address = ipaddress.ip_address(source)
        return not any(address in network for network in duty.serves if network.version == address.version)

    def tries_updates(self, zone: Name, view: str) -> bool:
        """Return whether it is to be tried if a zone's servers take unsigned changes."""
        held = self.estate.zones.get(view, {}).get(zone)
        return self.try_updates or (held is not None and held.updates.tried)

    def _resolve(self, name: Name, rdtype: int) -> Dialogue[Answer]:
        """Return the first usable answer of the resolvers, in their order; the last one's trouble when none has any."""
        for resolver in self._resolvers:
            (answer,) = yield [Question(name, rdtype, resolver, True)]
            if answer.trouble is None:
                break
        return answer


def is_placeholder(record: Record) -> bool:
    """Return whether an SOA is that of an empty zone which resolvers hold for address space without one (RFC 6303, RFC
    7534)."""
    # Brought in where a server was found through resolvers: where the estate names them all, it is not needed.
    from salt_mirror.dns.special import AS112_PRIMARIES

    soa = soa_fields(record.rdata)
    if soa.mname in AS112_PRIMARIES or soa.mname == from_text("localhost"):
        return True
    return soa.mname == record.owner and soa.rname == ROOT


def soa_record(answer: Answer, name: Name) -> Record | None:
    """Return the SOA of the zone that a name stands in, wherever in the answer it is; not one of an alias's target."""
    if answer.values:
        return Record(name, SOA, answer.ttl or 0, answer.values[0])
    if answer.alias is not None:
        return None
    for record in answer.sections.authority:
        if record.rdtype == SOA and is_within(name, record.owner):
            return record
    return None

"""What an authoritative server says (RFC 1034 section 4.3.2): zones in, a response for each query out. No socket.

Strategy: zones are read, and messages written, by dnspython, so that our own wire format is always tried against
somebody else's. The search goes down from the apex: a cut on the way is a referral, an alias is followed as far as the
server's own zones reach, a wildcard answers for what does not exist, and what is left is NODATA or NXDOMAIN with the SOA. Of a
signed zone (NSEC) whoever asks with DO gets signatures and proofs (RFC 4035 section 3.1).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

import dns.flags
import dns.message
import dns.name
import dns.node
import dns.rcode
import dns.rdatatype
import dns.rrset
import dns.zone

_MOST_ALIASES = 8


def read_zone(source: Path | str, origin: str) -> dns.zone.Zone:
    """Read a zone from a master file or from its text. Raises dnspython's errors for a malformed one."""
    if isinstance(source, Path):
        return dns.zone.from_file(str(source), origin=origin, relativize=False, allow_include=True)
    return dns.zone.from_text(source, origin=origin, relativize=False)


@lru_cache(maxsize=256)
def shared_zone(text: str, origin: str) -> dns.zone.Zone:
    """Read a zone from its text, once for all servers and worlds that have it alike. It is not to be changed."""
    return read_zone(text, origin)


Responses = dict[tuple[object, ...], bytes | None]
"""What was answered, by query."""


class _ZoneItself:
    """A zone, equal to nothing but that very object."""

    def __init__(self, zone: dns.zone.Zone) -> None:
        self._zone = zone

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _ZoneItself) and self._zone is other._zone

    def __hash__(self) -> int:
        return id(self._zone)


@lru_cache(maxsize=256)
def _answered_from(_zone: _ZoneItself, *, recursive: bool) -> Responses:
    """Return what was answered from a zone, whichever server holds it: a test run makes the same world over and over."""
    return {}


class HeldZones:
    """The zones that one server holds. With `recursive` it answers as a resolver would that knows just these.

    No zone is changed while it is held: a new version takes its place.
    """

    def __init__(self, zones: Iterable[dns.zone.Zone], *, recursive: bool = False) -> None:
        self.recursive = recursive
        self.zones: dict[dns.name.Name, dns.zone.Zone] = {}
        self.answered: Responses = {}
        self._there: dict[dns.name.Name, set[dns.name.Name]] = {}
        self._by_apex: dict[bytes, dns.zone.Zone] = {}
        for zone in zones:
            self.hold(zone)

    def hold(self, zone: dns.zone.Zone) -> None:
        """Take a zone in, or a new version of it."""
        assert zone.origin is not None
        self.answered = {}
        self.zones[zone.origin] = zone
        self._by_apex[zone.origin.to_digestable()] = zone
        self._there[zone.origin] = {
            dns.name.Name(name.labels[drop:]) for name in zone.nodes for drop in range(len(name) - len(zone.origin) + 1)
        }

    def answered_around(self, owner: bytes, rdtype: int) -> Responses | None:
        """Return what was answered from the zone in which a name is; None where none is held. `owner` is in small letters."""
        at = owner[0] + 1 if rdtype == dns.rdatatype.DS and owner != b"\0" else 0
        while owner[at:] not in self._by_apex:
            if at >= len(owner) - 1:
                return None
            at += owner[at] + 1
        return _answered_from(_ZoneItself(self._by_apex[owner[at:]]), recursive=self.recursive)

    def respond(self, query: dns.message.Message) -> dns.message.Message:
        """Return the response to a query, whole; the transport cuts it to size."""
        response = dns.message.make_response(query, recursion_available=self.recursive, our_payload=1232)
        if query.opcode() != 0 or len(query.question) != 1:
            response.set_rcode(dns.rcode.NOTIMP if query.opcode() else dns.rcode.FORMERR)
            return response
        question = query.question[0]
        if question.rdtype == dns.rdatatype.AXFR:
            response.set_rcode(dns.rcode.REFUSED)
            return response
        if self._zone_of(question.name, question.rdtype) is None:
            response.set_rcode(dns.rcode.NXDOMAIN if self.recursive else dns.rcode.REFUSED)
            return response
        self._search(response, question.name, question.rdtype)
        if query.ednsflags & dns.flags.DO:
            self._prove(response, question.name, question.rdtype)
        if self.recursive:
            response.flags &= ~dns.flags.AA
        return response

    def transfer(self, query: dns.message.Message) -> Iterator[bytes]:
        """Return the messages of a zone transfer (RFC 5936), a hundred RRsets in each, signed if the query was.

        REFUSED for a zone that is not held.
        """
        apex = query.question[0].name
        zone = self.zones.get(apex)
        soa = zone.get_rdataset(apex, dns.rdatatype.SOA) if zone is not None else None
        if zone is None or soa is None:
            response = dns.message.make_response(query)
            response.set_rcode(dns.rcode.REFUSED)
            yield response.to_wire()
            return
        first = dns.rrset.from_rdata_list(apex, soa.ttl, list(soa))
        others = [
            dns.rrset.from_rdata_list(name, rdataset.ttl, list(rdataset))
            for name, rdataset in zone.iterate_rdatasets()
            if rdataset.rdtype != dns.rdatatype.SOA
        ]
        whole = [first, *others, first]
        context: Any = None
        for start in range(0, len(whole), 100):
            response = dns.message.make_response(query)
            response.flags |= dns.flags.AA
            for rrset in whole[start : start + 100]:
                response.answer.append(rrset)
            wire = response.to_wire(max_size=65535, multi=query.had_tsig, tsig_ctx=context)
            context = response.tsig_ctx
            yield wire

    def _zone_of(self, name: dns.name.Name, rdtype: int) -> dns.zone.Zone | None:
        """Return the zone with the longest matching apex; for DS the one above the cut (RFC 4035 section 3.1.4.1)."""
        above = name.parent() if rdtype == dns.rdatatype.DS and name != dns.name.root else name
        while True:
            if above in self.zones:
                return self.zones[above]
            if above == dns.name.root:  # of DS whoever has the zone below alone denies that there is one
                return self.zones.get(name) if rdtype == dns.rdatatype.DS else None
            above = above.parent()

    def _search(self, response: dns.message.Message, name: dns.name.Name, rdtype: dns.rdatatype.RdataType) -> None:
        for step in range(_MOST_ALIASES):
            zone = self._zone_of(name, rdtype)
            if zone is None:
                return
            cut = self._cut(zone, name, rdtype)
            if cut is not None:
                if step == 0:
                    self._refer(response, zone, cut)
                return
            response.flags |= dns.flags.AA
            node = self._node(zone, name)
            if node is None:
                response.set_rcode(dns.rcode.NXDOMAIN)
                self._deny(response, zone)
                return
            found = [node.get_rdataset(zone.rdclass, rdtype)]
            if rdtype == dns.rdatatype.ANY:
                found = list(node.rdatasets)
            alias = node.get_rdataset(zone.rdclass, dns.rdatatype.CNAME)
            if any(found):
                for rdataset in found:
                    if rdataset is not None:
                        response.answer.append(dns.rrset.from_rdata_list(name, rdataset.ttl, list(rdataset)))
                return
            if alias is None:
                self._deny(response, zone)
                return
            response.answer.append(dns.rrset.from_rdata_list(name, alias.ttl, list(alias)))
            name = alias[0].target

    def _prove(self, response: dns.message.Message, name: dns.name.Name, rdtype: int) -> None:
        """Put signatures beside every set, and the proofs of what does not exist."""
        zone = self._zone_of(name, rdtype)
        if zone is None or zone.get_rdataset(zone.origin or name, dns.rdatatype.DNSKEY) is None:
            return
        cut = self._cut(zone, name, rdtype)
        if cut is not None:
            ds = zone.get_rdataset(cut, dns.rdatatype.DS)
            if ds is not None:
                response.authority.append(dns.rrset.from_rdata_list(cut, ds.ttl, list(ds)))
            else:
                self._add_proof(response, zone, cut)
        elif not response.answer:
            self._add_proof(response, zone, name)
            if response.rcode() == dns.rcode.NXDOMAIN or zone.get_node(name) is None:
                self._add_proof(response, zone, self._wildcard(zone, name))
        elif zone.get_node(name) is None:
            self._add_proof(response, zone, name)
        for section in (response.answer, response.authority):
            for rrset in list(section):
                held = self._zone_of(rrset.name, rrset.rdtype)
                owner = rrset.name
                if held is not None and held.get_node(owner) is None:
                    owner = self._wildcard(held, owner)
                signatures = held.get_rdataset(owner, dns.rdatatype.RRSIG, rrset.rdtype) if held is not None else None
                if signatures is not None:
                    section.append(dns.rrset.from_rdata_list(rrset.name, signatures.ttl, list(signatures)))

    def _wildcard(self, zone: dns.zone.Zone, name: dns.name.Name) -> dns.name.Name:
        """Return the wildcard below the closest name above another that exists (RFC 4592 section 3.3.1)."""
        assert zone.origin is not None
        above = name.parent()
        while above not in self._there[zone.origin] and above != zone.origin:
            above = above.parent()
        return dns.name.Name((b"*", *above.labels))

    @staticmethod
    def _add_proof(response: dns.message.Message, zone: dns.zone.Zone, name: dns.name.Name) -> None:
        """Put in the NSEC record that is of a name, or that covers it."""
        owners = sorted(owner for owner in zone.nodes if zone.get_rdataset(owner, dns.rdatatype.NSEC) is not None)
        owner = max((one for one in owners if one <= name), default=None)
        nsec = zone.get_rdataset(owner, dns.rdatatype.NSEC) if owner is not None else None
        if (
            owner is not None
            and nsec is not None
            and not any(r.name == owner for r in response.authority if r.rdtype == 47)
        ):
            response.authority.append(dns.rrset.from_rdata_list(owner, nsec.ttl, list(nsec)))

    @staticmethod
    def _cut(zone: dns.zone.Zone, name: dns.name.Name, rdtype: int) -> dns.name.Name | None:
        """Return the highest delegation between the apex and the name."""
        assert zone.origin is not None
        depth = len(name) - len(zone.origin)
        lowest = 1 if rdtype == dns.rdatatype.DS else 0
        for drop in range(depth - 1, lowest - 1, -1):
            above = dns.name.Name(name.labels[drop:])
            if zone.get_rdataset(above, dns.rdatatype.NS) is not None:
                return above
        return None

    @staticmethod
    def _refer(response: dns.message.Message, zone: dns.zone.Zone, cut: dns.name.Name) -> None:
        servers = zone.get_rdataset(cut, dns.rdatatype.NS)
        assert servers is not None
        response.authority.append(dns.rrset.from_rdata_list(cut, servers.ttl, list(servers)))
        for server in servers:
            for rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
                glue = zone.get_rdataset(server.target, rdtype)
                if glue is not None:
                    response.additional.append(dns.rrset.from_rdata_list(server.target, glue.ttl, list(glue)))

    def _node(self, zone: dns.zone.Zone, name: dns.name.Name) -> dns.node.Node | None:
        """Return the name's node, an empty one for an empty non-terminal, or the wildcard that covers it (RFC 4592)."""
        assert zone.origin is not None
        above = name
        while True:
            node = zone.get_node(above)
            if node is not None and above == name:
                return node
            if node is not None or above in self._there[zone.origin]:
                if above == name:
                    return dns.node.Node()  # type: ignore[no-untyped-call]
                return zone.get_node(dns.name.Name((b"*", *above.labels)))
            if above == zone.origin:
                return None
            above = above.parent()

    @staticmethod
    def _deny(response: dns.message.Message, zone: dns.zone.Zone) -> None:
        """The SOA that lets a cache keep the denial (RFC 2308 section 3)."""
        assert zone.origin is not None
        soa = zone.get_rdataset(zone.origin, dns.rdatatype.SOA)
        if soa is not None:
            ttl = min(soa.ttl, soa[0].minimum)
            response.authority.append(dns.rrset.from_rdata_list(zone.origin, ttl, list(soa)))

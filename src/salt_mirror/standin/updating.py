"""Changes of a zone by dynamic update, as a primary carries them out (RFC 2136 section 3): all of a message, or nothing.

Strategy: the zone is copied, changed, and taken in whole, so that a message that fails in the middle leaves no trace.
"""

from __future__ import annotations

import dns.exception
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdataset
import dns.rdatatype
import dns.rrset
import dns.update
import dns.zone

ANY, NONE = dns.rdataclass.ANY, dns.rdataclass.NONE
_KEPT = (dns.rdatatype.SOA, dns.rdatatype.NS)


def updated(zone: dns.zone.Zone, message: dns.update.UpdateMessage) -> tuple[dns.rcode.Rcode, dns.zone.Zone | None]:
    """Return what becomes of a zone: the rcode, and the zone with the changes and its serial raised, if there were any."""
    assert zone.origin is not None
    for rrset in (*message.prerequisite, *message.update):
        if not rrset.name.is_subdomain(zone.origin):
            return dns.rcode.NOTZONE, None
    rcode = _prerequisites(zone, message.prerequisite)
    if rcode != dns.rcode.NOERROR:
        return rcode, None
    after = _copied(zone)
    for rrset in message.update:
        _carry_out(after, rrset)
    if _shape(after) == _shape(zone):
        return dns.rcode.NOERROR, None
    soa = after.get_rdataset(zone.origin, dns.rdatatype.SOA, create=True)
    assert soa is not None
    soa.add(soa[0].replace(serial=(soa[0].serial + 1) & 0xFFFFFFFF), soa.ttl)
    return dns.rcode.NOERROR, after


def _prerequisites(zone: dns.zone.Zone, wanted: list[dns.rrset.RRset]) -> dns.rcode.Rcode:
    """Section 3.2: the first one that does not hold."""
    exact: dict[tuple[dns.name.Name, int], set[bytes]] = {}
    for rrset in wanted:
        node = zone.get_node(rrset.name)
        there = zone.get_rdataset(rrset.name, rrset.rdtype) if rrset.rdtype != dns.rdatatype.ANY else None
        named = node is not None and bool(node.rdatasets)
        kind = rrset.deleting if rrset.deleting is not None else rrset.rdclass
        if kind == ANY and rrset.rdtype == dns.rdatatype.ANY and not named:
            return dns.rcode.NXDOMAIN
        if kind == NONE and rrset.rdtype == dns.rdatatype.ANY and named:
            return dns.rcode.YXDOMAIN
        if kind == ANY and rrset.rdtype != dns.rdatatype.ANY and there is None:
            return dns.rcode.NXRRSET
        if kind == NONE and rrset.rdtype != dns.rdatatype.ANY and there is not None:
            return dns.rcode.YXRRSET
        if kind not in (ANY, NONE):
            exact.setdefault((rrset.name, rrset.rdtype), set()).update(_values(rrset))
    for (name, rdtype), values in exact.items():
        held = zone.get_rdataset(name, dns.rdatatype.RdataType.make(rdtype))
        if held is None or _values(held) != values:
            return dns.rcode.NXRRSET
    return dns.rcode.NOERROR


def _carry_out(zone: dns.zone.Zone, rrset: dns.rrset.RRset) -> None:
    """Section 3.4.2, one record set of the update section."""
    name, apex = rrset.name, rrset.name == zone.origin
    if rrset.deleting == ANY:
        rdtypes = [one.rdtype for one in getattr(zone.get_node(name), "rdatasets", [])]
        for rdtype in rdtypes if rrset.rdtype == dns.rdatatype.ANY else [rrset.rdtype]:
            if not (apex and rdtype in _KEPT):
                zone.delete_rdataset(name, rdtype)
    elif rrset.deleting == NONE:
        held = zone.get_rdataset(name, rrset.rdtype)
        if held is not None and not (apex and rrset.rdtype in _KEPT):
            for rdata in rrset:
                held.discard(rdata)  # type: ignore[no-untyped-call]
            if not len(held):
                zone.delete_rdataset(name, rrset.rdtype)
    else:
        node = zone.get_node(name)
        kinds = {one.rdtype for one in node.rdatasets} if node is not None else set()
        alias = dns.rdatatype.CNAME
        if (rrset.rdtype == alias and kinds - {alias}) or (rrset.rdtype != alias and alias in kinds):
            return  # silently, as section 3.4.2.2 has it
        held = zone.get_rdataset(name, rrset.rdtype, create=True)
        assert held is not None
        if rrset.rdtype == alias:
            held.clear()  # type: ignore[no-untyped-call]
        held.ttl = rrset.ttl
        for rdata in rrset:
            held.add(rdata, rrset.ttl)


def _copied(zone: dns.zone.Zone) -> dns.zone.Zone:
    copied = dns.zone.Zone(zone.origin, zone.rdclass, relativize=False)
    for name, rdataset in zone.iterate_rdatasets():
        target = copied.get_rdataset(name, rdataset.rdtype, create=True)
        assert target is not None
        target.ttl = rdataset.ttl
        for rdata in rdataset:
            target.add(rdata, rdataset.ttl)
    return copied


def _values(rdataset: dns.rdataset.Rdataset) -> set[bytes]:
    return {rdata.to_digestable() for rdata in rdataset}


def _shape(zone: dns.zone.Zone) -> set[tuple[str, int, int, frozenset[bytes]]]:
    return {
        (str(name).lower(), int(rdataset.rdtype), rdataset.ttl, frozenset(_values(rdataset)))
        for name, rdataset in zone.iterate_rdatasets()
    }

"""A signer for the stand-ins: keys from a seed, a zone in, the same zone signed out (RFC 4035 section 2, RFC 5155 section 7.1).

Strategy: the records are dnspython's, signature by signature, and nothing of our own judgement is used. Keys come from a seed,
and signatures by them are the same for the same times, so that a world can be made again.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, NamedTuple

import dns.dnssec
import dns.name
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.rdtypes.util
import dns.rrset
import dns.zone

_IN = dns.rdataclass.IN
_ED25519 = 15
_ENTRY, _ZONE = 257, 256


class SigningKey(NamedTuple):
    """A private key (cryptography's), and its DNSKEY record."""

    private: Any
    public: Any

    def ds(self, apex: str, digest: str = "SHA256") -> Any:
        """Return the DS record that a parent has for it."""
        return dns.dnssec.make_ds(apex, self.public, digest, policy=dns.dnssec.allow_all_policy)

    @property
    def is_entry(self) -> bool:
        """Whether it is meant as the one that the DS record leads to (SEP)."""
        return bool(self.public.flags & 1)


class Hashing(NamedTuple):
    """How names are hashed: NSEC3's parameters (RFC 5155 section 3.1)."""

    salt: str = ""
    iterations: int = 0
    opt_out: bool = False


def key_from(seed: str, *, entry: bool = True) -> SigningKey:
    """Return the Ed25519 key of a seed, always the same."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    private = Ed25519PrivateKey.from_private_bytes(hashlib.sha256(seed.encode("utf-8")).digest())
    return SigningKey(private, dns.dnssec.make_dnskey(private.public_key(), _ED25519, _ENTRY if entry else _ZONE))


def sign_zone(
    zone: dns.zone.Zone,
    keys: Sequence[SigningKey],
    *,
    inception: int,
    expiration: int,
    hashing: Hashing | None = None,
) -> dns.zone.Zone:
    """Return a copy of a zone, signed: the keys with SEP sign the keys, the others all else (where there are none, the same
    do); times in seconds since 1970. Denials are NSEC, or NSEC3 with `hashing`."""
    assert zone.origin is not None
    signed = dns.zone.Zone(zone.origin, relativize=False)
    for name, rdataset in zone.iterate_rdatasets():
        signed.find_rdataset(name, rdataset.rdtype, create=True).update(rdataset)  # type: ignore[no-untyped-call]
    apex, ttl = zone.origin, _negative_ttl(zone)
    for key in keys:
        signed.find_rdataset(apex, dns.rdatatype.DNSKEY, create=True).add(key.public, 3600)
    if hashing is not None:
        salt = hashing.salt or "-"
        text = f"1 0 {hashing.iterations} {salt}"
        parameters = dns.rdata.from_text(_IN, dns.rdatatype.NSEC3PARAM, text)
        signed.find_rdataset(apex, dns.rdatatype.NSEC3PARAM, create=True).add(parameters, 0)
    _add_denials(signed, ttl, hashing)
    entries = [key for key in keys if key.is_entry] or list(keys)
    others = [key for key in keys if not key.is_entry] or entries
    for name, rdataset in _to_sign(signed):
        for key in entries if rdataset.rdtype == dns.rdatatype.DNSKEY else others:
            rrset = dns.rrset.from_rdata_list(name, rdataset.ttl, list(rdataset))
            made = dns.dnssec.sign(
                rrset, key.private, apex, key.public, inception=inception, expiration=expiration,
                policy=dns.dnssec.allow_all_policy,
            )  # fmt: skip
            signed.find_rdataset(name, dns.rdatatype.RRSIG, rdataset.rdtype, create=True).add(made, rdataset.ttl)
    return signed


def _negative_ttl(zone: dns.zone.Zone) -> int:
    soa = zone.get_rdataset(zone.origin or dns.name.root, dns.rdatatype.SOA)
    assert soa is not None
    return int(min(soa.ttl, soa[0].minimum))


def _owners(zone: dns.zone.Zone) -> Iterator[tuple[dns.name.Name, bool]]:
    """Return the names with records of the zone itself, in canonical order, and whether each is a cut: what is below one, the
    zone does not have."""
    cut: dns.name.Name | None = None
    for name in sorted(zone.nodes):
        if cut is not None and name != cut and name.is_subdomain(cut):
            continue
        is_cut = name != zone.origin and zone.get_rdataset(name, dns.rdatatype.NS) is not None
        cut = name if is_cut else None
        yield name, is_cut


def _to_sign(zone: dns.zone.Zone) -> list[tuple[dns.name.Name, Any]]:
    """Return the sets that have to be signed: all of the zone's own, and DS and NSEC at a cut (RFC 4035 section 2.2)."""
    at_cut = (dns.rdatatype.DS, dns.rdatatype.NSEC)
    return [
        (name, rdataset)
        for name, is_cut in _owners(zone)
        for rdataset in zone.nodes[name].rdatasets
        if rdataset.rdtype != dns.rdatatype.RRSIG and (not is_cut or rdataset.rdtype in at_cut)
    ]


def _bitmap(types: Iterable[int]) -> Any:
    return dns.rdtypes.util.Bitmap.from_rdtypes([dns.rdatatype.RdataType.make(rdtype) for rdtype in types]).windows


def _add_denials(zone: dns.zone.Zone, ttl: int, hashing: Hashing | None) -> None:
    owners = list(_owners(zone))
    if hashing is None:
        from dns.rdtypes.ANY.NSEC import NSEC

        for (name, _), (following, _) in zip(owners, [*owners[1:], owners[0]], strict=True):
            types = {*(one.rdtype for one in zone.nodes[name].rdatasets), dns.rdatatype.NSEC, dns.rdatatype.RRSIG}
            record = NSEC(_IN, dns.rdatatype.NSEC, following, _bitmap(types))  # type: ignore[no-untyped-call]
            zone.find_rdataset(name, dns.rdatatype.NSEC, create=True).add(record, ttl)
        return
    from dns.rdtypes.ANY.NSEC3 import NSEC3

    types_of: dict[dns.name.Name, set[int]] = {}
    assert zone.origin is not None
    for name, is_cut in owners:
        types = {int(one.rdtype) for one in zone.nodes[name].rdatasets}
        if is_cut and hashing.opt_out and dns.rdatatype.DS not in types:
            continue  # RFC 5155 section 7.1: an unsigned delegation needs none
        types_of[name] = types | ({dns.rdatatype.RRSIG} if not is_cut or dns.rdatatype.DS in types else set())
        for drop in range(1, len(name) - len(zone.origin)):
            types_of.setdefault(dns.name.Name(name.labels[drop:]), set())
    hashed = sorted(
        (dns.dnssec.nsec3_hash(name, hashing.salt or None, hashing.iterations, 1), types)
        for name, types in types_of.items()
    )
    for (own, types), (after_own, _) in zip(hashed, [*hashed[1:], hashed[0]], strict=True):
        after = base64.b32decode(after_own.translate(_FROM_HEX))
        salt, flag = bytes.fromhex(hashing.salt), int(hashing.opt_out)
        record3 = NSEC3(  # type: ignore[no-untyped-call]
            _IN, dns.rdatatype.NSEC3, 1, flag, hashing.iterations, salt, after, _bitmap(types)
        )
        owner = dns.name.Name((own.lower().encode("ascii"), *zone.origin.labels))
        zone.find_rdataset(owner, dns.rdatatype.NSEC3, create=True).add(record3, ttl)


_FROM_HEX = str.maketrans("0123456789ABCDEFGHIJKLMNOPQRSTUV", "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567")

"""DNSSEC by the vectors of the RFCs: RFC 4034 section 5.4, RFC 4035 appendices A and B, RFC 5155 appendices A and B."""

from __future__ import annotations

import calendar
import random
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import dns.dnssec
import dns.name
import dns.zone
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns.dnssec.denial import Denial, denier, hash_of, hexed, order, types_in
from salt_mirror.dns.dnssec.keys import DnsKey, Ds, ds_of, key_tag, keys_in
from salt_mirror.dns.dnssec.signatures import Signature, State, prove, signatures_in
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import DNSKEY, DS, NSEC, NSEC3, RRSIG, Record, rdata_from_text, type_from_text

VECTORS = Path(__file__).parent / "vectors"
EXAMPLE = from_text("example")
THEN = {"4035": calendar.timegm((2004, 5, 1, 0, 0, 0)), "5155": calendar.timegm((2010, 1, 1, 0, 0, 0))}
KIND = {"4035": "NSEC", "5155": "NSEC3"}


class Response(NamedTuple):
    """One example of appendix B: what was asked, the rcode, all records of its answer and authority sections."""

    title: str
    name: Name
    rdtype: int
    rcode: int
    records: list[Record]


def _records(text: str) -> list[Record]:
    zone = dns.zone.from_text(f"$TTL 3600\n{text}", origin="example.", relativize=False, check_origin=False)
    return [
        Record(name.to_digestable(), int(rdata.rdtype), ttl, rdata.to_digestable())
        for name, ttl, rdata in zone.iterate_rdatas()
    ]


def zone_of(rfc: str) -> list[Record]:
    text = (VECTORS / f"rfc{rfc}-a.zone").read_text(encoding="utf-8")
    return _records(text.partition("\nThe apex DNSKEY set")[0])


def responses(rfc: str) -> dict[str, Response]:
    text = (VECTORS / f"rfc{rfc}-b.txt").read_text(encoding="utf-8")
    found = {}
    for part in re.split(r"\n(?=B\.\d)", text)[1:]:
        title, _, rest = part.partition("\n")
        number = title.split("  ")[0].rstrip(".")
        if ";; Question" not in rest:
            continue
        asked = rest.split(";; Question\n")[1].split("\n")[0].split()
        sections = rest.split(";; Answer\n")[1].split(";; Additional")[0]
        match = re.search(r"RCODE=(\d)", rest)
        assert match is not None
        rdtype = type_from_text(asked[2])
        found[number] = Response(title, from_text(asked[0]), rdtype, int(match[1]), _records(sections))
    return found


def proofs(
    rfc: str, records: Sequence[Record], keys: Sequence[DnsKey], now: float
) -> dict[tuple[Name, int], State | None]:
    """The state of every set among some records that is signed, or has to be."""
    sets: dict[tuple[Name, int], list[bytes]] = {}
    for record in records:
        if record.rdtype != RRSIG:
            sets.setdefault((record.owner, record.rdtype), []).append(record.rdata)
    return {
        (owner, rdtype): prove(owner, rdtype, values, signatures_in(records, owner, rdtype), keys, EXAMPLE, now).state
        for (owner, rdtype), values in sets.items()
    }


def keys_of(rfc: str) -> list[DnsKey]:
    return keys_in(tuple(r.rdata for r in zone_of(rfc) if r.rdtype == DNSKEY and r.owner == EXAMPLE))


def test_the_ds_of_rfc_4034_section_5_4_fits_its_key() -> None:
    owner = from_text("dskey.example.com")
    key = rdata_from_text(
        DNSKEY,
        "256 3 5 AQOeiiR0GOMYkDshWoSKz9XzfwJr1AYtsmx3TGkJaNXVbfi/2pHm822aJ5iI9BMzNXxeYCmZDRD99WYwYqUSdjMmmAphXdvx"
        "egXd/M5+X7OrzKBaMbCVdFLUUh6DhweJBjEVv5f2wwjM9XzcnOf+EPbtG9DMBmADjFDc2w/rljwvFw==",
    )
    ds = Ds.of(rdata_from_text(DS, "60485 5 1 2BB183AF5F22588179A53B0A98631FAD1A292118"))
    assert key_tag(key) == 60485
    assert ds.fits(owner, DnsKey(key))
    assert not ds.fits(from_text("example.com"), DnsKey(key))
    assert not ds.fits(owner, DnsKey(key[:-1] + b"\0"))


ENDS = {"4035": (2004, 5, 10, 0, 0, 0), "5155": (2015, 4, 22, 0, 0, 0)}


@pytest.mark.parametrize("rfc", ["4035", "5155"])
def test_every_signature_of_the_zones_of_the_rfcs_holds_until_it_ends(rfc: str) -> None:
    zone, keys = zone_of(rfc), keys_of(rfc)
    glue = {from_text(f"{host}.{cut}.example") for host in ("ns1", "ns2") for cut in "abc"}
    for (owner, rdtype), state in proofs(rfc, zone, keys, THEN[rfc]).items():
        delegation = rdtype == 2 and owner != EXAMPLE
        assert state is (None if owner in glue or delegation else State.VALID), (owner, rdtype)
    late = calendar.timegm(ENDS[rfc])
    assert set(proofs(rfc, zone, keys, late).values()) == {State.EXPIRED, None}
    assert set(proofs(rfc, zone, keys, late - 20 * 365 * 86_400).values()) == {State.EARLY, None}
    # without the key that signs, nothing but the DNSKEY set is good
    entry = [key for key in keys if key.is_entry]
    left = {key for key, state in proofs(rfc, zone, entry, THEN[rfc]).items() if state is State.VALID}
    assert left == {(EXAMPLE, DNSKEY)}


def test_what_this_computer_cannot_verify_proves_nothing_and_accuses_nobody() -> None:
    """A signature by an algorithm of which nothing is known here, and one by a key that no library takes."""
    for key in (b"\x01\x01\x03\xfd" + bytes(40), b"\x01\x01\x03\x0d" + bytes(64)):
        made = DnsKey(key)
        signature = Signature(EXAMPLE, 1, made.algorithm, 1, 60, 2_000_000_000, 0, made.tag, EXAMPLE, bytes(64), 60)
        proof = prove(EXAMPLE, 1, [bytes(4)], [signature], [made], EXAMPLE, 1_000_000_000)
        assert proof.state is State.UNKNOWN
        assert Ds.of(ds_of(EXAMPLE, made)).verified is (made.algorithm == 13)


@pytest.mark.parametrize(("rfc", "number"), [(rfc, number) for rfc in ("4035", "5155") for number in responses(rfc)])
def test_every_set_in_the_responses_of_the_rfcs_holds_and_no_other_does(rfc: str, number: str) -> None:
    response, keys = responses(rfc)[number], keys_of(rfc)
    states = proofs(rfc, response.records, keys, THEN[rfc])
    delegated = {(from_text(f"{cut}.example"), 2) for cut in "abc"}
    assert {key for key, state in states.items() if state is not State.VALID} <= delegated
    for (owner, rdtype), values in _sets(response.records).items():
        if (owner, rdtype) not in delegated and values:
            spoilt = [values[0][:-1] + bytes((values[0][-1] ^ 1,)), *values[1:]]
            signatures = signatures_in(response.records, owner, rdtype)
            proof = prove(owner, rdtype, spoilt, signatures, keys, EXAMPLE, THEN[rfc])
            assert proof.state is State.WRONG


def _sets(records: Sequence[Record]) -> dict[tuple[Name, int], list[bytes]]:
    sets: dict[tuple[Name, int], list[bytes]] = {}
    for record in records:
        if record.rdtype != RRSIG:
            sets.setdefault((record.owner, record.rdtype), []).append(record.rdata)
    return sets


def asked_of(rfc: str, response: Response, records: Sequence[Record]) -> Denial | None:
    """What the records prove of what the response says."""
    reads = denier(records, EXAMPLE)
    if reads is None:
        return None
    assert reads.kind == KIND[rfc]
    if response.rcode == 3:
        return reads.name(response.name)
    answered = [s for s in signatures_in(response.records, response.name, response.rdtype) if s.by_wildcard()]
    if answered:
        return reads.closer(response.name, from_text("w.example"))
    cut = next((r.owner for r in records if r.rdtype == 2 and r.owner != EXAMPLE), None)
    if cut is not None:
        return reads.rdtype(cut, DS)
    return reads.rdtype(response.name, response.rdtype)


@pytest.mark.parametrize(
    ("rfc", "number", "opt_out"),
    [
        ("4035", "B.2", False), ("4035", "B.3", False), ("4035", "B.5", False), ("4035", "B.6", False),
        ("4035", "B.7", False), ("5155", "B.1", True), ("5155", "B.2", False), ("5155", "B.2.1", False),
        ("5155", "B.3", True), ("5155", "B.4", True), ("5155", "B.5", True),
    ],
)  # fmt: skip
def test_each_denial_of_the_rfcs_is_proved_and_every_record_of_it_is_needed(
    rfc: str, number: str, opt_out: bool
) -> None:
    response = responses(rfc)[number]
    whole = asked_of(rfc, response, response.records)
    assert whole is not None and whole.proved, whole
    assert whole.opt_out is opt_out
    needed = 0
    for at, record in enumerate(response.records):
        if record.rdtype in (NSEC, NSEC3):
            left = response.records[:at] + response.records[at + 1 :]
            lacking = asked_of(rfc, response, left)
            assert lacking is None or not lacking.proved, record.owner
            needed += 1
    assert needed


@pytest.mark.parametrize(("rfc", "number"), [("4035", "B.8"), ("5155", "B.6")])
def test_the_apex_of_a_zone_does_not_deny_the_ds_that_is_its_parents(rfc: str, number: str) -> None:
    """RFC 6840 section 4.1: the record that both examples show is of the child, and says nothing of the parent's DS."""
    response = responses(rfc)[number]
    proof = asked_of(rfc, response, response.records)
    assert proof is not None and not proof.proved and "belongs to the zone above" in proof.why


def test_the_hashes_of_rfc_5155_appendix_a() -> None:
    text = (VECTORS / "rfc5155-a.zone").read_text(encoding="utf-8")
    listed = re.findall(r"; H\((\S+)\)\s*\n?;?\s*= (\w{32})", text)
    assert len(listed) == 12
    for name, expected in listed:
        assert hexed(hash_of(from_text(name), bytes.fromhex("aabbccdd"), 12)) == expected


def test_more_iterations_than_anybody_should_use_are_not_computed() -> None:
    response = responses("5155")["B.1"]
    many = [
        record._replace(rdata=record.rdata[:2] + (2_000).to_bytes(2, "big") + record.rdata[4:])
        if record.rdtype == NSEC3
        else record
        for record in response.records
    ]
    reads = denier(many, EXAMPLE)
    assert reads is not None
    denial = reads.name(response.name)
    assert denial.unknown and not denial.proved


def test_hundreds_of_keys_with_one_tag_and_hundreds_of_signatures_cost_a_few_verifications() -> None:
    """Whoever sends both has a careless validator try every pair."""
    tried = []

    class Counted(DnsKey):
        def verifies(self, signature: bytes, data: bytes) -> bool | None:
            tried.append(signature)
            return False

    # two bytes moved from one place to another leave the sum, and so the tag, as it was
    keys = [Counted(b"\x01\x01\x03\x0f" + bytes((n, 0, 255 - n, 0)) + bytes(28)) for n in range(250)]
    assert len({key.tag for key in keys}) == 1
    made = Signature(EXAMPLE, 1, 15, 1, 60, 2_000_000_000, 0, keys[0].tag, EXAMPLE, bytes(64), 60)
    others = [made._replace(tag=made.tag ^ 1) for _ in range(250)]
    proof = prove(EXAMPLE, 1, [bytes(4)], [*others, *[made] * 250], keys, EXAMPLE, 1_000_000_000)
    assert len(tried) == 32 and proof.state is State.UNKNOWN


_LABELS = st.sampled_from([b"a", b"b", b"*", b"w", b"\x01", b"z\x00"])
_NAMES = st.lists(_LABELS, min_size=0, max_size=3)


def _wire(parts: list[bytes]) -> Name:
    return b"".join(bytes((len(part),)) + part for part in parts) + EXAMPLE


@given(zone=st.sets(_NAMES.map(tuple), min_size=1, max_size=6), asked=_NAMES)
def test_a_chain_of_nsec_proves_what_a_look_into_the_zone_says(
    zone: set[tuple[bytes, ...]], asked: list[bytes]
) -> None:
    """All names of a zone, and the answer by search: a denial is proved exactly where there is one."""
    owners = sorted({_wire(list(parts)) for parts in zone} | {EXAMPLE}, key=order)
    types = bytes.fromhex("000162")  # window 0, one byte: types 1, 2 and 6, as at an apex: no cut, no alias
    chain = [
        Record(
            owner, NSEC, 60, owners[(at + 1) % len(owners)] + types[:2] + bytes((0x62 if owner == EXAMPLE else 0x40,))
        )
        for at, owner in enumerate(owners)
    ]
    reads = denier(chain, EXAMPLE)
    assert reads is not None
    name = _wire(asked)
    exists = any(owner.endswith(name) and _below(owner, name) for owner in owners)
    encloser = next(
        above for above in _up(name) if any(owner.endswith(above) and _below(owner, above) for owner in owners)
    )
    wild = b"\x01*" + encloser in owners
    assert reads.name(name).proved is (not exists and not wild)
    assert reads.rdtype(name, 28).proved is (exists or wild)
    assert reads.rdtype(name, 1).proved is (name not in owners if exists else False)


def _up(name: Name) -> list[Name]:
    found = [name]
    while name != EXAMPLE:
        name = name[name[0] + 1 :]
        found.append(name)
    return found


def _below(owner: Name, above: Name) -> bool:
    while len(owner) > len(above):
        owner = owner[owner[0] + 1 :]
    return owner == above


@given(st.binary(max_size=60))
def test_rdata_from_the_network_is_read_or_left_out(rdata: bytes) -> None:
    for rdtype in (NSEC, NSEC3, RRSIG):
        owner = b"\x20" + b"0" * 32 + EXAMPLE
        denier([Record(owner, rdtype, 60, rdata)], EXAMPLE)
        for signature in signatures_in([Record(EXAMPLE, RRSIG, 60, rdata)], EXAMPLE, int.from_bytes(rdata[:2], "big")):
            key = DnsKey(b"\x01\x00\x03" + bytes((signature.algorithm,)) + rdata)
            prove(
                EXAMPLE,
                signature.covered,
                [rdata],
                [signature._replace(tag=key.tag, signer=EXAMPLE)],
                [key],
                EXAMPLE,
                0,
            )
    try:
        assert all(0 <= one < 65536 for one in types_in(rdata))
    except ValueError as error:
        assert "breaks off" in str(error)


@pytest.mark.parametrize("number", [8, 10, 13, 14, 15, 16])
def test_what_another_library_signs_holds_here_and_its_ds_fits(number: int) -> None:
    from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa

    make: dict[int, Any] = {
        8: lambda: rsa.generate_private_key(65537, 1024), 10: lambda: rsa.generate_private_key(65537, 1024),
        13: lambda: ec.generate_private_key(ec.SECP256R1()), 14: lambda: ec.generate_private_key(ec.SECP384R1()),
        15: ed25519.Ed25519PrivateKey.generate, 16: ed448.Ed448PrivateKey.generate,
    }  # fmt: skip
    private = make[number]()
    public = dns.dnssec.make_dnskey(private.public_key(), number)
    owner = dns.name.from_text("pans.example")
    rrset = dns.rrset.from_text(owner, 300, "IN", "MX", "10 Mail.Example.", "5 a.mail.example.")
    now = 1_800_000_000 + random.Random(number).randrange(10_000)
    rrsig = dns.dnssec.sign(rrset, private, owner, public, inception=now - 60, expiration=now + 60)
    record = Record(owner.to_digestable(), RRSIG, 300, rrsig.to_digestable())
    key = DnsKey(public.to_digestable())
    values = [rdata.to_digestable() for rdata in rrset]
    for moment, state in ((now, State.VALID), (now + 61, State.EXPIRED), (now - 61, State.EARLY)):
        proof = prove(record.owner, 15, values, [Signature.of(record)], [key], record.owner, moment)
        assert proof.state is state
    for digest, name in ((1, "SHA1"), (2, "SHA256"), (4, "SHA384")):
        policy = dns.dnssec.allow_all_policy
        assert (
            ds_of(record.owner, key, digest) == dns.dnssec.make_ds(owner, public, name, policy=policy).to_digestable()
        )


@pytest.mark.parametrize("asked", ["new.pans.example", "*.pans.example", "*.new.pans.example", "a.b.pans.example"])
def test_a_set_made_from_a_wildcard_holds_whatever_name_was_asked_for(asked: str) -> None:
    from cryptography.hazmat.primitives.asymmetric import ed25519

    private = ed25519.Ed25519PrivateKey.from_private_bytes(b"s" * 32)
    public = dns.dnssec.make_dnskey(private.public_key(), 15)
    apex = dns.name.from_text("pans.example")
    rrset = dns.rrset.from_text("*.pans.example.", 300, "IN", "A", "192.0.2.9")
    rrsig = dns.dnssec.sign(rrset, private, apex, public, inception=1, expiration=9)
    owner = from_text(asked)
    signature = Signature.of(Record(owner, RRSIG, 300, rrsig.to_digestable()))
    zone = apex.to_digestable()
    proof = prove(owner, 1, [b"\xc0\0\2\x09"], [signature], [DnsKey(public.to_digestable())], zone, 5)
    assert proof.holds
    assert signature.encloser == zone

"""What a validator makes of an answer: a set with its signatures, a denial with its proof, keys that a DS leads to.

Strategy: RFC 4035 section 5, one step at a time, over answers that were asked for with DO. Every step says what is wrong in one
word (the flaw) and in a sentence. Only what came is judged: an answer that cannot be relied on is the caller's to leave out,
and what this computer cannot verify is `UNKNOWN`, which is no fault of anybody.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from enum import Enum
from typing import NamedTuple

from salt_mirror.dns.dnssec.denial import denier
from salt_mirror.dns.dnssec.keys import DnsKey, Ds, keys_in
from salt_mirror.dns.dnssec.signatures import Proof, State, Verified, prove, signatures_in
from salt_mirror.dns.names import Name, is_within, to_text
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import CNAME, DNAME, DNSKEY, NSEC, NSEC3, SOA, Record, type_text


class Flaw(Enum):
    """Why a validator would not take an answer; the last one says that this computer cannot tell."""

    EXPIRED = "expired"
    EARLY = "early"
    MISSING = "missing"
    WRONG = "wrong"
    NO_KEY = "no-key"
    UNPROVED = "denial"
    MISMATCH = "ds-mismatch"
    UNKNOWN = "unknown"


_BY_STATE = {
    State.VALID: None,
    State.UNKNOWN: Flaw.UNKNOWN,
    State.EARLY: Flaw.EARLY,
    State.EXPIRED: Flaw.EXPIRED,
    State.NO_KEY: Flaw.NO_KEY,
    State.NOT_FROM_ZONE: Flaw.WRONG,
    State.WRONG: Flaw.WRONG,
    None: Flaw.MISSING,
}


class Examined(NamedTuple):
    """One answer, as a validator sees it. `proofs` are all sets in it that have to be signed; `flaw` the first that is wrong
    with it, `why` the same in words; `kind` NSEC or NSEC3, where something was denied, and `opt_out` that the denial leaves
    room for unsigned delegations. `elsewhere`: it is of a zone below, and says nothing of this one."""

    answer: Answer
    proofs: tuple[Proof, ...] = ()
    flaw: Flaw | None = None
    why: str = ""
    kind: str = ""
    opt_out: bool = False
    elsewhere: bool = False

    @property
    def set_text(self) -> str:
        """What it is about, such as `www.gullmarsh.example. A`."""
        return f"{to_text(self.answer.question.name)} {type_text(self.answer.question.rdtype)}"

    @property
    def verified(self) -> list[Verified]:
        """Every signature in it."""
        return [one for proof in self.proofs for one in proof.signatures]


class Entrance(NamedTuple):
    """Whether the DS set of a zone leads to its keys: `keys` are all of the server's, `entries` those to which a DS that counts
    leads and which sign the set."""

    keys: list[DnsKey]
    entries: list[DnsKey]
    examined: Examined

    @property
    def flaw(self) -> Flaw | None:
        return self.examined.flaw


def counting(ds: Iterable[Ds]) -> list[Ds]:
    """Return the DS records that validators can use: those whose algorithm and digest are verified (RFC 4035 section 5.2). Of
    none a zone is treated as unsigned."""
    return [one for one in ds if one.verified]


def with_best_digest(ds: Sequence[Ds]) -> list[Ds]:
    """Return those of some DS records with the best digest: some validators only go by these (RFC 4509 section 3)."""
    best = max((one.digest_type for one in ds), default=0)
    return [one for one in ds if one.digest_type == best]


def entrance(zone: Name, ds: Sequence[Ds], answer: Answer, now: float) -> Entrance:
    """Judge a DNSKEY answer by the DS set above it (RFC 4035 section 5.2); without any DS by its own keys."""
    keys = keys_in(answer.values)
    proof = _proof(zone, DNSKEY, answer.values, answer.sections.answer, keys, zone, now)
    counted = counting(ds)
    fitting = [key for key in keys if any(one.fits(zone, key) for one in counted)] if counted else keys
    if not keys:
        return Entrance([], [], Examined(answer, (), Flaw.MISSING, "it has no DNSKEY record"))
    if not fitting:
        said = ", ".join(one.said for one in counted)
        why = f"no key fits {said}; it has {', '.join(key.said for key in keys)}"
        return Entrance(keys, [], Examined(answer, (proof,), Flaw.MISMATCH, why))
    tags = {(key.tag, key.algorithm) for key in fitting}
    mine = [one for one in proof.signatures if (one.signature.tag, one.signature.algorithm) in tags]
    narrow = Proof(zone, DNSKEY, mine)
    if narrow.holds:
        valid = {(one.signature.tag, one.signature.algorithm) for one in mine if one.state is State.VALID}
        entries = [key for key in fitting if (key.tag, key.algorithm) in valid]
        return Entrance(keys, entries, Examined(answer, (proof,)))
    flaw = _BY_STATE[narrow.state]
    why = f"the DNSKEY set is not signed by {' or '.join(key.said for key in fitting)}" if not mine else ""
    return Entrance(keys, [], Examined(answer, (proof,), flaw, why or _why(narrow)))


def examine(answer: Answer, zone: Name, keys: Sequence[DnsKey], now: float) -> Examined:
    """Judge an authoritative answer by a zone's keys (RFC 4035 section 5.3 and 5.4)."""
    question, sections = answer.question, answer.sections
    if answer.values:
        return _positive(answer, question.rdtype, answer.values, zone, keys, now)
    made = next((r for r in sections.answer if r.rdtype == DNAME and is_within(question.name, r.owner)), None)
    if made is not None:  # RFC 6672 section 5.3.1: the CNAME that is made of a DNAME is not signed
        proof = _proof(made.owner, DNAME, (made.rdata,), sections.answer, keys, zone, now)
        beside, _ = _believed(sections.authority, zone, keys, now)
        return Examined(answer, (proof, *beside), *_first((proof, *beside)))
    if answer.alias is not None:
        return _positive(answer, CNAME, (answer.alias,), zone, keys, now)
    return _denied(answer, zone, keys, now)


def _positive(
    answer: Answer, rdtype: int, values: Sequence[bytes], zone: Name, keys: Sequence[DnsKey], now: float
) -> Examined:
    owner, sections = answer.question.name, answer.sections
    proof = _proof(owner, rdtype, values, sections.answer, keys, zone, now)
    signers = {one.signature.signer for one in proof.signatures}
    if any(signer != zone and is_within(signer, zone) and is_within(owner, signer) for signer in signers):
        return Examined(answer, elsewhere=True)
    best = proof.best
    proofs, believed = _believed(sections.authority, zone, keys, now)
    if not proof.holds or best is None or not best.signature.by_wildcard():
        # Some validators take no answer beside which any set fails, needed or not.
        return Examined(answer, (proof, *proofs), *_first((proof, *proofs)))
    # RFC 4035 section 5.3.4: a wildcard only counts where nothing closer exists
    reads = denier(believed, zone)
    if reads is None:
        why = "it was made from a wildcard, and nothing shows that the name itself does not exist"
        return Examined(answer, (proof, *proofs), *_first(proofs, Flaw.UNPROVED, why))
    denial = reads.closer(owner, best.signature.encloser)
    if denial.proved or denial.unknown:
        return Examined(answer, (proof, *proofs), kind=reads.kind, opt_out=denial.opt_out)
    return Examined(answer, (proof, *proofs), Flaw.UNPROVED, denial.why, reads.kind)


def _denied(answer: Answer, zone: Name, keys: Sequence[DnsKey], now: float) -> Examined:
    name, rdtype = answer.question.name, answer.question.rdtype
    authority = answer.sections.authority
    of_child = any(r.rdtype == SOA and r.owner != zone and is_within(r.owner, zone) for r in authority)
    if of_child:
        return Examined(answer, elsewhere=True)
    proofs, believed = _believed(authority, zone, keys, now)
    reads = denier(believed, zone)
    if reads is None:
        why = "it has no NSEC or NSEC3 record"
        return Examined(answer, proofs, *_first(proofs, Flaw.UNPROVED, why))
    denial = reads.name(name) if answer.status == "NXDOMAIN" else reads.rdtype(name, rdtype)
    if denial.proved or denial.unknown:
        return Examined(answer, proofs, kind=reads.kind, opt_out=denial.opt_out)
    flaw, why = _first(proofs, Flaw.UNPROVED, denial.why)
    return Examined(answer, proofs, flaw, why, reads.kind)


def _believed(
    records: Sequence[Record], zone: Name, keys: Sequence[DnsKey], now: float
) -> tuple[tuple[Proof, ...], list[Record]]:
    """Return the proofs of all denial sets among some records, and the records of those that hold."""
    sets: dict[tuple[Name, int], list[bytes]] = {}
    for record in records:
        # a validator verifies the SOA of a denial as well, and believes only the others of what they say
        if record.rdtype in (NSEC, NSEC3) or (record.rdtype == SOA and record.owner == zone):
            sets.setdefault((record.owner, record.rdtype), []).append(record.rdata)
    proofs = tuple(_proof(*key, values, records, keys, zone, now) for key, values in sets.items())
    good = {(proof.owner, proof.rdtype) for proof in proofs if proof.holds}
    return proofs, [record for record in records if (record.owner, record.rdtype) in good]


def _first(proofs: Sequence[Proof], flaw: Flaw | None = None, why: str = "") -> tuple[Flaw | None, str]:
    """Return what is wrong with the first set that does not hold; the flaw given where all do."""
    first = next((proof for proof in proofs if not proof.holds), None)
    return (_BY_STATE[first.state], _why(first)) if first is not None else (flaw, why)


def _proof(
    owner: Name,
    rdtype: int,
    values: Iterable[bytes],
    records: Sequence[Record],
    keys: Sequence[DnsKey],
    zone: Name,
    now: float,
) -> Proof:
    return prove(owner, rdtype, values, signatures_in(records, owner, rdtype), keys, zone, now)


def _why(proof: Proof) -> str:
    what, best = f"{to_text(proof.owner)} {type_text(proof.rdtype)}", proof.best
    if best is None:
        return f"{what} has no signature"
    if best.state is State.VALID:
        return ""
    return f"the signature of key {best.signature.tag} over {what} {_SAYS[best.state]}"


_SAYS = {
    State.UNKNOWN: "cannot be verified on this computer",
    State.EARLY: "is not valid yet",
    State.EXPIRED: "has expired",
    State.NO_KEY: "is by a key that is not in the DNSKEY set",
    State.NOT_FROM_ZONE: "is in the name of another zone",
    State.WRONG: "does not fit the records",
}

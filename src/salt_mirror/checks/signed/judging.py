"""A zone's signatures judged: each server's copy by the DS set above it and by its own keys, at one moment.

Strategy: every copy is what some validator sees, so that each is judged by itself; what is the same on all of them is said
once. Nothing is worded here. A zone without a DS record is judged as well, by its own keys: nobody validates it yet, and
whoever adds the DS wants to know beforehand.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from salt_mirror.checks.common.trust import Entrance, Examined, Flaw, counting, entrance, examine
from salt_mirror.checks.signed.asking import SignedCopy, SignedSeen
from salt_mirror.checks.signed.whole import WholeZone, look_over
from salt_mirror.dns.dnssec.denial import Hashed
from salt_mirror.dns.dnssec.keys import DnsKey, Ds, ds_in, keys_in
from salt_mirror.dns.dnssec.signatures import Proof, State, Verified
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import CDNSKEY, CDS, DS, NSEC3, NSEC3PARAM, SOA, Soa, soa_fields


@dataclass(frozen=True, slots=True)
class CopyJudged:
    """One server's copy: how its keys are entered, and every answer examined, its DNSKEY set first; `whole` what its whole zone
    shows, where that was transferred."""

    copy: SignedCopy
    entrance: Entrance
    examined: tuple[Examined, ...]
    whole: WholeZone | None = None

    @property
    def flaws(self) -> dict[Flaw, list[Examined]]:
        """What a validator would not take, by why; flaws that only the whole zone shows have no answers."""
        found: dict[Flaw, list[Examined]] = {}
        for one in self.flawed:
            if one.flaw is not None and one.flaw is not Flaw.MISMATCH:
                found.setdefault(one.flaw, []).append(one)
        for flaw in self.whole.flawed if self.whole is not None else ():
            found.setdefault(flaw, [])
        return found

    @property
    def sound(self) -> bool:
        """Whether a validator takes all of it, as far as was seen."""
        return not self.flawed and not self.flaws

    @property
    def flawed(self) -> list[Examined]:
        """What a validator would not take, what this computer cannot tell left out."""
        return [one for one in self.examined if one.flaw not in (None, Flaw.UNKNOWN)]

    @property
    def proofs(self) -> Iterator[Proof]:
        for one in self.examined:
            yield from one.proofs

    @property
    def windows(self) -> list[tuple[Proof, Verified]]:
        """For each set the signature by which it is good, or comes nearest to that."""
        seen: dict[tuple[Name, int], tuple[Proof, Verified]] = {}
        for proof in self.proofs:
            if proof.best is not None:
                seen.setdefault((proof.owner, proof.rdtype), (proof, proof.best))
        return list(seen.values())

    @property
    def soa(self) -> Soa | None:
        answer = self.copy.answer(SOA)
        return soa_fields(answer.values[0]) if answer is not None and answer.values else None

    @property
    def longest_ttl(self) -> int:
        """The longest TTL that a cache keeps anything of it for, of all that was asked, in seconds."""
        return max((one.answer.ttl or 0 for one in self.examined if one.answer.trouble is None), default=0)

    @property
    def hashing(self) -> Hashed | None:
        """An NSEC3 record of its denials, with the parameters that all of them have."""
        records = [r for one in self.examined for r in one.answer.sections.authority if r.rdtype == NSEC3]
        zone = self.copy.keys.question.name
        return next((found for record in records if (found := Hashed.of(record, zone)) is not None), None)


@dataclass(frozen=True, slots=True)
class SignedJudged:
    """A zone's signatures at a moment (`now`, seconds since 1970). `ds` are all DS records above, `counted` those that
    validators go by; `above` what each of the parent's servers says of them, examined; `parent_signed` whether the parent has
    keys at all."""

    seen: SignedSeen
    now: float
    ds: list[Ds]
    counted: list[Ds]
    above: list[Examined]
    parent_signed: bool
    copies: list[CopyJudged] = field(default_factory=list)

    @property
    def validated(self) -> bool:
        """Whether validators have a way to the zone's keys: DS records that count, in a signed zone above or as an anchor."""
        return bool(self.counted) and (self.parent_signed or not self.seen.ds_values)

    @property
    def listed(self) -> list[CopyJudged]:
        """The copies that people are sent to."""
        return [one for one in self.copies if one.copy.listed]

    @property
    def clock_doubted(self) -> State | None:
        """Whether this computer's clock may be wrong: every signature is out of its time in the same way, the parent's own
        among them."""
        proofs = [proof for one in self.above for proof in one.proofs if proof.signatures]
        mine = [proof for copy in self.copies for proof in copy.proofs if proof.signatures]
        states = {proof.state for proof in (*proofs, *mine)}
        if proofs and mine and len(states) == 1 and states <= {State.EARLY, State.EXPIRED}:
            return states.pop()
        return None

    def waiting(self, copy: CopyJudged) -> tuple[list[Ds], list[DnsKey]] | None:
        """Return the DS records and keys that a copy wants of its parent (RFC 7344), where that is more, less or other than the
        parent has; None where nothing waits, or what it says does not hold."""
        cds, cdnskey = (copy.copy.answer(rdtype) for rdtype in (CDS, CDNSKEY))
        good = {one.answer for one in copy.examined if one.flaw is None and one.answer.values}
        wanted = ds_in(cds.values) if cds is not None and cds in good else []
        keys = keys_in(cdnskey.values) if cdnskey is not None and cdnskey in good else []
        if wanted:
            return (wanted, keys) if set(wanted) != set(self.ds) else None
        if keys:
            zone = self.seen.zone
            fit = all(any(ds.fits(zone, key) for ds in self.ds) for key in keys)
            return ([], keys) if not fit or any(not any(d.fits(zone, k) for k in keys) for d in self.ds) else None
        return None


def judge_signatures(seen: SignedSeen, now: float) -> SignedJudged:
    """Judge all that was seen of a zone's signatures at a moment."""
    ds = ds_in(seen.ds_values or seen.anchors)
    usable = [answer for answer in seen.ds if answer.trouble is None]
    above = []
    for answer in usable:
        keys = seen.above_keys.get(answer.question.server)
        if seen.above is not None and keys is not None and keys.trouble is None and keys.values:
            above.append(examine(answer, seen.above, keys_in(keys.values), now))
    told = [keys for keys in seen.above_keys.values() if keys.trouble is None]
    parent_signed = not told or any(keys.values for keys in told)  # one that says nothing of its keys is not unsigned
    judged = SignedJudged(seen, now, ds, counting(ds), above, parent_signed)
    for copy in seen.with_keys:
        way = entrance(seen.zone, ds, copy.keys, now)
        others = [
            examine(answer, seen.zone, way.keys, now)
            for answer in copy.answers
            if answer.trouble is None and not _says_nothing(answer)
        ]
        whole = look_over(copy.holding, way.keys, now) if copy.holding is not None else None
        judged.copies.append(CopyJudged(copy, way, (way.examined, *others), whole))
    return judged


def _says_nothing(answer: Answer) -> bool:
    """Return whether an answer is a second denial at the apex: of those the one for a type that nobody has is enough."""
    rdtype = answer.question.rdtype
    return rdtype in (CDS, CDNSKEY, NSEC3PARAM, DS) and not answer.values

"""The findings about a zone's signatures: its flaws, and what had better be otherwise.

Strategy: `flaws` has what hurts; here stand the parameters that RFCs advise against, what waits for the parent, and the order
in which all of it is said.
"""

from __future__ import annotations

from collections.abc import Iterator

from salt_mirror.checks.common.trust import with_best_digest
from salt_mirror.checks.common.wording import many, together_said
from salt_mirror.checks.signed.flaws import FlawWords
from salt_mirror.checks.signed.judging import SignedJudged
from salt_mirror.dns.dnssec.algorithms import algorithm, digest
from salt_mirror.dns.dnssec.denial import MOST_ITERATIONS
from salt_mirror.dns.dnssec.keys import ds_of
from salt_mirror.dns.dnssec.signatures import State
from salt_mirror.dns.records import DS, rdata_text
from salt_mirror.findings import Finding

MOST_TOLERATED = 50
"""NSEC3 records with more iterations are treated as unsigned, or refused, by current resolvers (RFC 9276 section 3.2)."""


def signature_findings(judged: SignedJudged) -> list[Finding]:
    """Return every finding about the signatures of a zone."""
    words = SignedWords(judged)
    if not judged.seen.is_signed:
        return list(words.above())
    if judged.clock_doubted is not None:
        return [words.clock(judged.clock_doubted)]
    steps = (
        words.parent_silent, words.above, words.parents_differ, words.delegation, words.unsigned, words.sets, words.unknown,
        words.ending, words.keys_differ, words.digests, words.algorithms, words.denial, words.waiting, words.extra,
    )  # fmt: skip
    return [finding for step in steps for finding in step()]


class SignedWords(FlawWords):
    """All findings about one zone."""

    def digests(self) -> Iterator[Finding]:
        counted = self.judged.counted
        if counted and all(digest(one.digest_type).use for one in counted):
            name = digest(counted[0].digest_type).name
            text = (
                f"The DS set of {self.zone} has {name} digests only: some validators take none of them (RFC 8624 section "
                "3.3)."
            )
            yield self.finding("sig.digest", text, self.judged.seen.ds, rdtype=DS, advice=self.lines_for_parent())
        best = with_best_digest(counted)
        fitting = [
            copy
            for copy in self.judged.listed
            if copy.entrance.flaw is None
            and not any(ds.fits(self.judged.seen.zone, key) for ds in best for key in copy.entrance.entries)
        ]
        if best and fitting:
            text = (
                f"{self.parent} has DS records of {self.zone} with {digest(best[0].digest_type).name} digests, which fit no "
                "key that signs the keys; only others do. Some validators only go by the best digest, and answer SERVFAIL "
                "(RFC 4509 section 3)."
            )
            yield self.finding("sig.ds-half", text, self.judged.seen.ds, rdtype=DS, advice=self.lines_for_parent())

    def algorithms(self) -> Iterator[Finding]:
        used = {
            verified.signature.algorithm
            for copy in self.judged.copies
            for proof in copy.proofs
            for verified in proof.signatures
            if verified.state is State.VALID
        }
        for number in sorted(used):
            use = algorithm(number).use
            if use:
                says = "must not be used for signing" if use == "must not" else "is not recommended for signing"
                text = f"{self.zone} is signed with {algorithm(number).name}, which {says} any more (RFC 8624 section 3.1)."
                yield self.finding("sig.algorithm", text)

    def denial(self) -> Iterator[Finding]:
        """The parameters of NSEC3 (RFC 9276 section 3.1), and opt-out (RFC 5155 section 6)."""
        hashing = next((found for copy in self.judged.copies if (found := copy.hashing) is not None), None)
        if hashing is None:
            return
        if hashing.iterations > MOST_TOLERATED:
            more = " No name in it could be proved not to exist here." if hashing.iterations > MOST_ITERATIONS else ""
            text = (
                f"{self.zone} has NSEC3 records with {hashing.iterations:,} iterations: resolvers treat its denials as "
                "unsigned, or "
                f"answer SERVFAIL (RFC 9276 section 3.2).{more}"
            )
            yield self.finding("sig.hash-iterations", text, rdtype=51, advice="sign with 0 iterations and no salt")
        elif hashing.iterations or hashing.salt:
            salt = f"a salt of {len(hashing.salt)} bytes" if hashing.salt else "no salt"
            text = (
                f"{self.zone} has NSEC3 records with {many(hashing.iterations, 'iteration')} and {salt}: both cost, and "
                "protect "
                "nothing (RFC 9276 section 3.1)."
            )
            yield self.finding("sig.hash-parameters", text, rdtype=51, advice="sign with 0 iterations and no salt")
        if any(one.opt_out for copy in self.judged.copies for one in copy.examined):
            text = (
                f"{self.zone} has NSEC3 records with opt-out: unsigned delegations can be added to it, and removed, "
                "unnoticed by "
                "validators (RFC 5155 section 6)."
            )
            yield self.finding("sig.opt-out", text, rdtype=51)

    def waiting(self) -> Iterator[Finding]:
        for copy in self.judged.listed:
            wanted = self.judged.waiting(copy)
            if wanted is None:
                continue
            records, keys = wanted
            zone = self.judged.seen.zone
            removal = any(one.algorithm == 0 for one in records) or any(key.algorithm == 0 for key in keys)
            lines = [ds_of(zone, key) for key in keys] if not records else [one.rdata for one in records]
            if removal:
                asks = "all DS records removed (RFC 8078 section 4)"
                advice = f"in {self.parent} remove the DS set of {self.zone}"
            else:
                asks = "the DS set " + ", ".join(rdata_text(DS, line) for line in lines)
                advice = f"in {self.parent}: " + "; ".join(map(self.ds_line, lines))
            has = ", ".join(rdata_text(DS, value) for value in self.judged.seen.ds_values) or "none"
            text = f"{self.zone} asks {self.parent} for {asks} (CDS, CDNSKEY; RFC 7344), which has {has}."
            if not self.judged.ds and (self.judged.seen.parentless or not self.judged.seen.ds):
                return
            yield self.finding("sig.parent-waits", text, self.judged.seen.ds, rdtype=59, advice=advice)
            return

    def extra(self) -> Iterator[Finding]:
        """DS records beside a good one that lead to no key: prepared, or left behind."""
        judged = self.judged
        entries = [copy for copy in judged.listed if copy.entrance.flaw is None]
        if not judged.validated or not entries or len(entries) < len(judged.listed):
            return
        zone = judged.seen.zone
        loose = [one for one in judged.ds if not any(one.fits(zone, k) for copy in entries for k in copy.entrance.keys)]
        known = [one for one in loose if digest(one.digest_type).verified]
        if known:
            said = together_said(one.said for one in known)
            text = (
                f"{self.parent} has {said} for {self.zone}, which {'fits' if len(known) == 1 else 'fit'} no key of the zone: "
                "prepared "
                "for a new key, or left over from an old one."
            )
            yield self.finding("sig.ds-extra", text, judged.seen.ds, rdtype=DS)

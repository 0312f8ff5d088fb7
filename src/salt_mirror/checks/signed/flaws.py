"""What is wrong with a zone's signatures: what validating resolvers fail with, or soon will.

Strategy: one finding for a flaw of a server, naming the sets that have it; what all servers have in common is said once,
without a server. What this computer cannot tell, by its libraries or its clock, accuses nobody.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from salt_mirror.checks.common.trust import Examined, Flaw
from salt_mirror.checks.common.wording import duration, many, moment_from, no_word_of, rounded, together_said
from salt_mirror.checks.signed.judging import CopyJudged
from salt_mirror.checks.signed.parents import ParentWords
from salt_mirror.dns.dnssec.algorithms import algorithm
from salt_mirror.dns.dnssec.signatures import Signature, State
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import DNSKEY, DS, NSEC, RRSIG, type_text
from salt_mirror.findings import Finding

_SHOWN = 3
_OF_SETS = {
    Flaw.EXPIRED: "sig.expired",
    Flaw.EARLY: "sig.not-yet-valid",
    Flaw.MISSING: "sig.missing",
    Flaw.WRONG: "sig.wrong",
    Flaw.NO_KEY: "sig.unknown-key",
    Flaw.UNPROVED: "sig.denial",
}


def ended(signature: Signature, now: float) -> str:
    """Return since when a signature has not been valid any more."""
    apart = signature.ends_in(now)
    return f"{moment_from(now, apart)}, {rounded(-apart)} ago"


def _some(names: Sequence[str]) -> str:
    """Return the first of some names, and how many more there are."""
    more = len(names) - _SHOWN
    return f"{', '.join(names[:_SHOWN])}{f' and {more:,} more' if more > 0 else ''}"


class FlawWords(ParentWords):
    """The findings about one zone that users are hurt by, or will be."""

    # What the zone's servers say

    def unsigned(self) -> Iterator[Finding]:
        """Servers that people are sent to, and that serve the zone without its keys."""
        judged = self.judged
        if not judged.validated or not judged.copies:
            return
        signing = together_said(one.copy.server.label for one in judged.copies)
        for copy in judged.seen.copies:
            if copy.listed and copy.keys.trouble is None and not copy.keys.values:
                label = copy.server.label
                text = (
                    f"{label} serves {self.zone} unsigned, and {signing} signed: validating resolvers answer SERVFAIL when "
                    "they ask "
                    f"{label}."
                )
                advice = f"have {label} take the signed zone from its signer"
                yield self.finding("sig.unsigned-copy", text, [copy.keys], server=copy.server, advice=advice)

    def sets(self) -> Iterator[Finding]:
        if not self.judged.validated:
            return
        mismatched = [one for one in self.judged.listed if one.entrance.flaw is Flaw.MISMATCH]
        yield from self._mismatched(mismatched)
        for copy in self.judged.listed:
            for flaw, those in copy.flaws.items():
                yield self._flawed(copy, flaw, those) if those else self._flawed_whole(copy, flaw)

    def _mismatched(self, copies: Sequence[CopyJudged]) -> Iterator[Finding]:
        groups: dict[str, list[CopyJudged]] = {}
        for copy in copies:
            groups.setdefault(copy.entrance.examined.why, []).append(copy)
        for why, those in groups.items():
            servers = together_said(one.copy.server.label for one in those)
            everywhere = len(those) == len(self.judged.listed)
            text = (
                f"The DS set of {self.zone} in {self.parent} fits no key of the zone on {servers}: {why}. Validating resolvers "
                f"answer SERVFAIL for every name in it{'' if everywhere else ' that they ask there'}."
            )
            advice = self.lines_for_parent() if everywhere else "have these servers take the zone from its signer anew"
            answers = [*self.judged.seen.ds, *(one.copy.keys for one in those)]
            server = None if everywhere else those[0].copy.server
            yield self.finding("sig.ds-mismatch", text, answers, rdtype=DS, server=server, advice=advice)

    def _flawed(self, copy: CopyJudged, flaw: Flaw, those: list[Examined]) -> Finding:
        label, first = copy.copy.server.label, those[0]
        names = list(dict.fromkeys(self._set_text(one) for one in those))
        what = _some(names)
        hold = len(names) == 1
        others = [one.copy.server.label for one in self.judged.listed if one is not copy and one.sound]
        beside = f" ({together_said(others)} {'has' if len(others) == 1 else 'have'} valid ones)" if others else ""
        signature = next((one.best.signature for one in first.proofs if one.best and not one.holds), None)
        now = self.judged.now
        if flaw is Flaw.EXPIRED and signature is not None:
            tells = (
                f"{label} serves {self.zone} with expired signatures{beside}: {what}; since {ended(signature, now)}."
            )
            advice = f"have the zone signed anew, and {label} take it"
        elif flaw is Flaw.EARLY and signature is not None:
            begins = moment_from(now, signature.begins_in(now))
            tells = f"{label} serves {self.zone} with signatures that are only valid from {begins} on{beside}: {what}."
            advice = "set the signer's clock, and have the zone signed anew"
        elif flaw is Flaw.MISSING and first.proofs and first.proofs[0].signatures:
            tells = f"On {label} {first.why}, to which the DS set of {self.zone} leads{beside}."
            advice = "have the key that the DS set leads to sign the keys"
        elif flaw is Flaw.MISSING:
            tells = f"{label} serves {what} of {self.zone} without {'its signature' if hold else 'their signatures'}{beside}."
            advice = (
                f"have {label} take the signed zone anew; a server must know DNSSEC to serve it (RFC 4035 section 3.1)"
            )
        elif flaw is Flaw.UNPROVED:
            tells = f"{label} does not prove what it denies of {self.zone}{beside}: {what}: {first.why}."
            advice = f"have the zone signed anew, and {label} take it"
        else:
            tells = f"The signatures over {what} of {self.zone} on {label} do not hold{beside}: {first.why}."
            advice = f"have the zone signed anew, and {label} take it"
        text = f"{tells} Validating resolvers that ask {label} answer SERVFAIL."
        rdtype = RRSIG if flaw is not Flaw.UNPROVED else NSEC
        return self.finding(
            _OF_SETS[flaw],
            text,
            [one.answer for one in those[:_SHOWN]],
            rdtype=rdtype,
            server=copy.copy.server,
            advice=advice,
        )

    def _flawed_whole(self, copy: CopyJudged, flaw: Flaw) -> Finding:
        """What nothing but the whole zone shows, which was transferred."""
        label, whole = copy.copy.server.label, copy.whole
        names = [f"{to_text(name)} {type_text(rdtype)}" for name, rdtype in whole.flawed[flaw]] if whole else []
        what = _some(names)
        how = {
            Flaw.EXPIRED: "with expired signatures",
            Flaw.EARLY: "with signatures that are not valid yet",
            Flaw.NO_KEY: "with signatures by keys that are not in the DNSKEY set",
        }.get(flaw, "without signatures")
        text = (
            f"{label} serves {what} {how}, as the whole zone shows. Validating resolvers that ask {label} answer SERVFAIL for "
            f"{'it' if len(names) == 1 else 'them'}."
        )
        advice = f"have the zone signed anew, and {label} take it"
        return self.finding(_OF_SETS[flaw], text, rdtype=RRSIG, server=copy.copy.server, advice=advice)

    def _set_text(self, examined: Examined) -> str:
        """A set by its type alone, where it is at the apex."""
        question = examined.answer.question
        return type_text(question.rdtype) if question.name == self.judged.seen.zone else examined.set_text

    def unknown(self) -> Iterator[Finding]:
        for copy in self.judged.listed:
            those = [one for one in copy.examined if one.flaw is Flaw.UNKNOWN]
            silent = [one for one in copy.copy.answers if one.trouble is not None]
            label = copy.copy.server.label
            if those:
                names = sorted({algorithm(one.signature.algorithm).name for e in those for one in e.verified})
                text = (
                    f"{many(len(those), 'answer')} of {label} about {self.zone} could not be verified: "
                    f"{together_said(names)} cannot "
                    "be verified on this computer."
                )
                yield self.finding(
                    "sig.unverified", text, [those[0].answer], rdtype=RRSIG, server=copy.copy.server, outcome="unverified",
                    cause=f"algorithms that this computer does not verify: {together_said(names)}",
                )  # fmt: skip
            elif silent:
                why = no_word_of(copy.copy.server, silent[0].trouble)
                text = f"{many(len(silent), 'answer')} of {label} about {self.zone} could not be verified: {why}."
                yield self.finding(
                    "sig.unverified",
                    text,
                    silent[:1],
                    rdtype=RRSIG,
                    server=copy.copy.server,
                    outcome="unverified",
                    cause=why,
                )
        for keyless in self.judged.seen.copies:
            if keyless.listed and keyless.keys.trouble is not None:
                why = no_word_of(keyless.server, keyless.keys.trouble)
                text = f"The keys of {self.zone} could not be seen: {why}."
                yield self.finding(
                    "sig.unverified", text, [keyless.keys], rdtype=RRSIG, server=keyless.server, outcome="unverified", cause=why
                )  # fmt: skip

    def clock(self, doubted: State) -> Finding:
        """Every signature, the parent's too, is out of its time in the same way: the clock here may be what is wrong."""
        now = self.judged.now
        here = moment_from(now, 0)
        says = "have expired" if doubted is State.EXPIRED else "are not valid yet"
        text = (
            f"All signatures of {self.zone} and of {self.parent} {says} by the clock of this computer ({here}): it may be "
            "wrong, "
            "and nothing is said of the signatures."
        )
        cause = "the clock of this computer is in doubt"
        return self.finding("sig.unverified", text, rdtype=RRSIG, outcome="unverified", cause=cause)

    def ending(self) -> Iterator[Finding]:
        """Signatures that end before new ones could reach every server and cache: a notify and one refresh lost, then TTLs."""
        if not self.judged.validated:
            return
        groups: dict[tuple[str, int], list[CopyJudged]] = {}
        for copy in self.judged.listed:
            soa = copy.soa
            valid = [(p, v.signature) for p, v in copy.windows if v.state is State.VALID]
            if soa is None or not valid:
                continue
            proof, first = min(valid, key=lambda one: one[1].ends_in(self.judged.now))
            needed = soa.refresh + soa.retry + copy.longest_ttl
            # A server that signs each answer as it gives it has short signatures, and always fresh ones.
            half = (first.ends_in(self.judged.now) - first.begins_in(self.judged.now)) // 2
            if first.ends_in(self.judged.now) < min(needed, half):
                what = f"{to_text(proof.owner)} {type_text(proof.rdtype)}"
                groups.setdefault((what, first.expiration), []).append(copy)
        for (what, _), those in groups.items():
            copy = those[0]
            soa = copy.soa
            assert soa is not None
            ends = min(v.signature.ends_in(self.judged.now) for _, v in copy.windows if v.state is State.VALID)
            servers = together_said(one.copy.server.label for one in those)
            text = (
                f"The signature of {what} ends in {rounded(ends)} ({moment_from(self.judged.now, ends)}) on {servers}. A "
                "new one may "
                f"take {duration(soa.refresh + soa.retry + copy.longest_ttl)} to reach every server and cache (refresh "
                f"{duration(soa.refresh)}, retry {duration(soa.retry)}, TTL {duration(copy.longest_ttl)}): it is late to "
                "sign anew."
            )
            server = copy.copy.server if len(those) < len(self.judged.listed) else None
            yield self.finding(
                "sig.ending",
                text,
                [copy.copy.keys],
                rdtype=RRSIG,
                server=server,
                advice="have the zone signed anew now",
            )

    def keys_differ(self) -> Iterator[Finding]:
        """A validator that has the keys of one server, and signatures of another, needs these to fit."""
        if not self.judged.validated:
            return
        listed = [one for one in self.judged.listed if one.sound]
        for copy in listed:
            for other in listed:
                keys = {(key.tag, key.algorithm) for key in other.entrance.keys}
                lacking = [
                    proof
                    for proof in copy.proofs
                    if proof.rdtype != DNSKEY
                    and proof.holds
                    and not any(
                        (one.signature.tag, one.signature.algorithm) in keys
                        for one in proof.signatures
                        if one.state is State.VALID
                    )
                ]
                if lacking:
                    here, there = copy.copy.server.label, other.copy.server.label
                    text = (
                        f"{here} serves {self.zone} with signatures by keys that are not in the DNSKEY set of {there}: a "
                        "resolver "
                        f"that has the keys of {there} in its cache fails with the records of {here}."
                    )
                    yield self.finding(
                        "sig.keys-differ", text, [copy.copy.keys, other.copy.keys], server=copy.copy.server
                    )
                    break

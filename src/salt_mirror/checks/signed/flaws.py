"""What is wrong with a zone's signatures: what validating resolvers fail with, or soon will.

Strategy: one finding for a flaw of a server, naming the sets that have it; what all servers have in common is said once,
without a server. Nobody validates a zone without a DS record, so that whatever is wrong with its signatures is one caution
there. Keys and DS records are never ours to change: every remedy is advice, with the exact line for the parent where there is
one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime

from salt_mirror.checks.common.trust import NSEC, Examined, Flaw
from salt_mirror.checks.common.wording import duration, local_moment, many, no_word_of, state, together_said
from salt_mirror.checks.signed.asking import DS
from salt_mirror.checks.signed.judging import CopyJudged, SignedJudged
from salt_mirror.dns.dnssec.algorithms import algorithm
from salt_mirror.dns.dnssec.keys import DnsKey, ds_of
from salt_mirror.dns.dnssec.signatures import Signature, State
from salt_mirror.dns.names import to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import DNSKEY, rdata_text, record_line, type_text
from salt_mirror.findings import Finding, Outcome

RRSIG = 46
_SHOWN = 3
_OF_SETS = {
    Flaw.EXPIRED: "sig.expired",
    Flaw.EARLY: "sig.not-yet-valid",
    Flaw.MISSING: "sig.missing",
    Flaw.WRONG: "sig.wrong",
    Flaw.NO_KEY: "sig.unknown-key",
    Flaw.UNPROVED: "sig.denial",
}


def moment_text(now: float, apart: int) -> str:
    """Return a moment so many seconds from now, as people read it."""
    return local_moment(datetime.fromtimestamp(now + apart, UTC))


def rounded(seconds: int) -> str:
    """Return a time as people say it of days and hours: seconds do not count beside these."""
    grain = 3600 if seconds >= 86_400 else 60 if seconds >= 3600 else 1
    return duration(seconds // grain * grain)


def ended(signature: Signature, now: float) -> str:
    """Return since when a signature has not been valid any more."""
    apart = signature.ends_in(now)
    return f"{moment_text(now, apart)}, {rounded(-apart)} ago"


class FlawWords:
    """The findings about one zone that users are hurt by, or will be."""

    def __init__(self, judged: SignedJudged) -> None:
        self.judged = judged
        self.zone = to_text(judged.seen.zone)
        above = judged.seen.above
        self.parent = to_text(above) if above is not None else "the parent"
        if not judged.seen.ds_values and judged.seen.anchors:
            self.parent = "the estate's trust_anchors"

    def finding(
        self,
        code: str,
        text: str,
        answers: Iterable[Answer | None] = (),
        *,
        rdtype: int = DNSKEY,
        advice: str = "",
        server: Server | None = None,
        outcome: Outcome | None = None,
        expected: Iterable[str] = (),
        cause: str = "",
    ) -> Finding:
        seen = self.judged.seen
        return state(
            code, text, name=seen.zone, rdtype=rdtype, view=seen.view, answers=answers, advice=advice, server=server,
            outcome=outcome, expected=expected, cause=cause,
        )  # fmt: skip

    # What the parent says

    def parent_silent(self) -> Iterator[Finding]:
        seen = self.judged.seen
        silent = [answer for answer in seen.ds if answer.trouble is not None]
        if seen.ds and len(silent) == len(seen.ds):
            why = "; ".join(dict.fromkeys(no_word_of(one.question.server, one.trouble) for one in silent))
            text = f"The DS set of {self.zone} could not be seen: {why}. Whether its signatures count is not known."
            yield self.finding("sig.unverified", text, silent, rdtype=DS, outcome="unverified", cause=why)

    def above(self) -> Iterator[Finding]:
        """What the parent says of the DS set, and cannot prove: a validator believes neither a DS nor that there is none."""
        by_why: dict[str, list[Examined]] = {}
        for one in self.judged.above:
            if one.flaw is not None and one.flaw is not Flaw.UNKNOWN and not one.elsewhere:
                by_why.setdefault(one.why, []).append(one)
        for why, those in by_why.items():
            servers = together_said(one.answer.question.server.label for one in those)
            what = "the DS set" if those[0].answer.values else "that there is no DS record"
            text = (
                f"{servers} cannot prove {what} of {self.zone}: {why}. Validating resolvers answer SERVFAIL for the whole "
                "zone."
            )
            server = those[0].answer.question.server if len(self.judged.above) > len(those) else None
            advice = f"have {self.parent} signed anew"
            answers = [one.answer for one in those]
            yield self.finding("sig.ds-unproved", text, answers, rdtype=DS, server=server, advice=advice)

    def parents_differ(self) -> Iterator[Finding]:
        usable = [answer for answer in self.judged.seen.ds if answer.trouble is None]
        if len({answer.values for answer in usable}) < 2:
            return
        said = "; ".join(
            f"{one.question.server.label}: {', '.join(rdata_text(DS, value) for value in one.values) or 'none'}"
            for one in usable
        )
        text = f"The servers of {self.parent} have different DS sets of {self.zone}: {said}."
        yield self.finding("sig.ds-differ", text, usable, rdtype=DS)

    def delegation(self) -> Iterator[Finding]:
        judged, seen = self.judged, self.judged.seen
        if judged.ds and not judged.counted:
            said = ", ".join(one.said for one in judged.ds)
            text = f"No validator can use the DS set of {self.zone} ({said}): it treats the zone as unsigned."
            yield self.finding("sig.ds-unusable", text, seen.ds, rdtype=DS, advice=self.lines_for_parent())
            return
        if judged.validated:
            if not judged.copies and any(copy.keys.trouble is None for copy in seen.copies):
                said = ", ".join(rdata_text(DS, value) for value in seen.ds_values)
                if seen.elsewhere:
                    text = (
                        f"{self.zone} is signed in public DNS ({self.parent} has a DS record, {said}), and not in this view: a "
                        "resolver of this view that validates answers SERVFAIL for it, unless it is told not to (RFC 7646)."
                    )
                    yield self.finding("sig.view-unsigned", text, seen.ds, rdtype=DS)
                    return
                text = (
                    f"{self.parent} has a DS record of {self.zone} ({said}), and no server serves it signed: validating "
                    "resolvers "
                    "answer SERVFAIL for every name in it."
                )
                advice = f"sign the zone with that key, or in {self.parent} remove: " + self.ds_line(seen.ds_values[0])
                yield self.finding("sig.not-signed", text, seen.ds, rdtype=DS, advice=advice)
            return
        usable = [answer for answer in seen.ds if answer.trouble is None]
        if not judged.copies or (not usable and not seen.alone):
            return
        if seen.alone:
            why = "and no zone above delegates it: only resolvers that have its key as a trust anchor validate it"
        elif judged.counted:
            why = f"and {self.parent} itself is not signed: nobody validates it"
        else:
            why = f"and {self.parent} has no DS record for it: resolvers treat it as unsigned"
        flaws = [(copy, one) for copy in judged.copies for one in copy.flawed]
        if not flaws:
            advice = "" if seen.alone or judged.counted else self.lines_for_parent()
            text = f"{self.zone} is signed, {why}."
            yield self.finding("sig.island", text, usable, rdtype=DS, advice=advice)
            return
        copy, first = flaws[0]
        text = (
            f"{self.zone} is signed, {why}; and its signatures do not hold on {copy.copy.server.label}: {first.why}. With a DS "
            "record it would fail to resolve."
        )
        yield self.finding("sig.island-broken", text, [first.answer], rdtype=DS)

    def entries(self) -> list[DnsKey]:
        """The keys that a DS record should lead to: those with SEP that sign the keys, else whichever sign them."""
        for copy in self.judged.copies:
            tags = {
                one.signature.tag for p in copy.examined[0].proofs for one in p.signatures if one.state is State.VALID
            }
            signing = [key for key in copy.entrance.keys if key.tag in tags and key.signs and not key.is_revoked]
            if signing:
                return [key for key in signing if key.is_entry] or signing
        return []

    def ds_line(self, rdata: bytes) -> str:
        return record_line(self.judged.seen.zone, DS, rdata)

    def lines_for_parent(self) -> str:
        zone = self.judged.seen.zone
        lines = "; ".join(self.ds_line(ds_of(zone, key)) for key in self.entries())
        return f"in {self.parent}: {lines}" if lines else ""

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
            by_flaw: dict[Flaw, list[Examined]] = {}
            for one in copy.flawed:
                if one.flaw is not None and one.flaw is not Flaw.MISMATCH:
                    by_flaw.setdefault(one.flaw, []).append(one)
            for flaw, those in by_flaw.items():
                yield self._flawed(copy, flaw, those)

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
        more = len(names) - _SHOWN
        what = f"{', '.join(names[:_SHOWN])}{f' and {more:,} more' if more > 0 else ''}"
        hold = len(names) == 1
        others = [one.copy.server.label for one in self.judged.listed if one is not copy and not one.flawed]
        beside = f" ({together_said(others)} {'has' if len(others) == 1 else 'have'} valid ones)" if others else ""
        signature = next((one.best.signature for one in first.proofs if one.best and not one.holds), None)
        now = self.judged.now
        if flaw is Flaw.EXPIRED and signature is not None:
            tells = (
                f"{label} serves {self.zone} with expired signatures{beside}: {what}; since {ended(signature, now)}."
            )
            advice = f"have the zone signed anew, and {label} take it"
        elif flaw is Flaw.EARLY and signature is not None:
            begins = moment_text(now, signature.begins_in(now))
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
                    "sig.unverified", text, [keyless.keys], server=keyless.server, outcome="unverified", cause=why
                )

    def clock(self, doubted: State) -> Finding:
        """Every signature, the parent's too, is out of its time in the same way: the clock here may be what is wrong."""
        now = self.judged.now
        here = moment_text(now, 0)
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
            if first.ends_in(self.judged.now) < needed:
                what = f"{to_text(proof.owner)} {type_text(proof.rdtype)}"
                groups.setdefault((what, first.expiration), []).append(copy)
        for (what, _), those in groups.items():
            copy = those[0]
            soa = copy.soa
            assert soa is not None
            ends = min(v.signature.ends_in(self.judged.now) for _, v in copy.windows if v.state is State.VALID)
            servers = together_said(one.copy.server.label for one in those)
            text = (
                f"The signature of {what} ends in {rounded(ends)} ({moment_text(self.judged.now, ends)}) on {servers}. A "
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
        listed = [one for one in self.judged.listed if not one.flawed]
        for copy in listed:
            for other in listed:
                keys = {(key.tag, key.algorithm) for key in other.entrance.keys}
                lacking = [
                    proof
                    for proof in copy.proofs
                    if proof.rdtype != DNSKEY
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

"""What the parent says of a signed zone: its DS set, and what follows from there being one or none.

Strategy: nobody validates a zone without a DS record, so that whatever is wrong with its signatures is one caution there. Keys
and DS records are never ours to change: every remedy is advice, with the exact line for the parent where there is one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from salt_mirror.checks.common.trust import Examined, Flaw
from salt_mirror.checks.common.wording import no_word_of, state, together_said
from salt_mirror.checks.signed.judging import CopyJudged, SignedJudged
from salt_mirror.dns.dnssec.keys import DnsKey, ds_of
from salt_mirror.dns.dnssec.signatures import State
from salt_mirror.dns.names import to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import DNSKEY, DS, RRSIG, rdata_text, record_line
from salt_mirror.findings import Finding, Outcome


class ParentWords:
    """The findings about what the parent says of one zone."""

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
        cause: str = "",
    ) -> Finding:
        seen = self.judged.seen
        return state(
            code, text, name=seen.zone, rdtype=rdtype, view=seen.view, answers=answers, advice=advice, server=server,
            outcome=outcome, cause=cause,
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
        flaws = [(copy, one) for copy in judged.copies for one in copy.flawed]
        if not judged.copies:
            return
        if not usable and not seen.parentless:
            if flaws:
                yield self._doubtful(*flaws[0])
            return
        if seen.parentless:
            why = "and no zone above delegates it: only resolvers that have its key as a trust anchor validate it"
        elif judged.counted:
            why = f"and {self.parent} itself is not signed: nobody validates it"
        else:
            why = f"and {self.parent} has no DS record for it: resolvers treat it as unsigned"
        if not flaws:
            advice = "" if seen.parentless or judged.counted else self.lines_for_parent()
            text = f"{self.zone} is signed, {why}."
            yield self.finding("sig.island", text, usable, rdtype=DS, advice=advice)
            return
        copy, first = flaws[0]
        text = (
            f"{self.zone} is signed, {why}; and its signatures do not hold on {copy.copy.server.label}: {first.why}. With a DS "
            "record it would fail to resolve."
        )
        yield self.finding("sig.island-broken", text, [first.answer], rdtype=DS)

    def _doubtful(self, copy: CopyJudged, first: Examined) -> Finding:
        """Signatures that do not hold, of a zone of which nobody has seen whether anybody validates it."""
        label = copy.copy.server.label
        text = (
            f"The signatures of {self.zone} do not hold on {label}: {first.why}. Whether a DS record leads to them was not "
            "seen: "
            "with one, validating resolvers answer SERVFAIL."
        )
        cause = f"whether {self.zone} has a DS record was not seen"
        return self.finding(
            "sig.unverified",
            text,
            [first.answer],
            rdtype=RRSIG,
            server=copy.copy.server,
            outcome="unverified",
            cause=cause,
        )

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

"""Everything that is said about resolvers: one method for each finding, with what was heard and what would mend it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from salt_mirror.checks.common.lookup import evidence_of
from salt_mirror.checks.common.overriding import validation_error
from salt_mirror.checks.common.wording import duration, many, no_word_of, state, together_said
from salt_mirror.checks.resolvers.asking import ResolverSeen, ThroughIt, Way
from salt_mirror.dns.names import ROOT, Name, parent, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import DNSKEY, SOA, A, rdata_text, type_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding, Outcome

_OVERS = {"udp": "UDP", "tcp": "TCP", "tls": "TLS", "https": "HTTPS"}
_FEW = 3


class ZoneSaid(NamedTuple):
    """A zone, what became of it through the resolver, and the answers behind that."""

    apex: Name
    says: str
    through: ThroughIt


class ValueSaid(NamedTuple):
    """A name's answer through the resolver, and what shows why it differs."""

    through: ThroughIt
    why: str


def over_text(server: Server) -> str:
    """Return a way to a resolver in words: `TCP over IPv6`."""
    text = _OVERS.get(server.over, server.over.upper())
    return f"{text} over IPv6" if len(server.address) == 16 else text


class ResolverWords:
    """The findings about one resolver."""

    def __init__(self, seen: ResolverSeen) -> None:
        self._seen = seen
        self._label = seen.tried.label
        self._server = seen.tried.ways[0]

    def _state(
        self,
        code: str,
        text: str,
        answers: Iterable[Answer] = (),
        *,
        advice: str = "",
        rdtype: int = SOA,
        cause: str = "",
        outcome: Outcome | None = None,
    ) -> Finding:
        return state(
            code, text, name=ROOT, rdtype=rdtype, view=self._seen.tried.view, server=self._server, advice=advice,
            evidence=[evidence_of(answer) for answer in answers], cause=cause, outcome=outcome,
            address=self._server.address or None,
        )  # fmt: skip

    def silent(self, answers: Sequence[Answer]) -> Finding:
        """Return nothing usable came over any way."""
        why = no_word_of(self._server, next((one.trouble for one in answers if one.trouble), "nothing came back"))
        text = f"What {self._label} does could not be seen: {why}."
        return self._state("res.unverified", text, answers[:2], cause=why, outcome="unverified")

    def no_transport(self, way: Way, why: str) -> Finding:
        """Report that one way to it is closed, and another is open."""
        over = over_text(way.server)
        text = f"{self._label} does not answer over {over} ({way.server.endpoint}): {why}. Over {self._main} it does."
        return self._state("res.no-transport", text, [way.simple])

    @property
    def _main(self) -> str:
        assert self._seen.main is not None
        return over_text(self._seen.main)

    def changes_case(self, way: Way) -> Finding:
        """Return that a resolver gives the letters of the question in another case."""
        text = (
            f"{self._label} does not preserve the case of the query over {over_text(way.server)}: clients that compare "
            "it drop the answer."
        )
        return self._state("res.changes-case", text, [way.simple])

    def no_recursion(self, answers: Sequence[Answer], said: str) -> Finding:
        """It looks up nothing for this computer."""
        asked = together_said(dict.fromkeys(to_text(one.question.name) for one in answers))
        text = f"{self._label} offers no recursion to this computer: {said} to queries for {asked}."
        return self._state("res.no-recursion", text, answers, advice=f"have {self._label} serve this network")

    def open_to_all(self, answers: Sequence[Answer]) -> Finding:
        """It looks up for whoever asks."""
        serves = together_said(map(str, self._seen.tried.duty.serves))
        text = f"{self._label} serves {serves}, and resolves names for this computer, which is in none of them."
        return self._state("res.open", text, answers, advice=f"have {self._label} answer only {serves}")

    def zones_unreached(self, zones: list[ZoneSaid], total: int) -> Finding:
        """Return zones whose servers answer us, and not through the resolver."""
        text = (
            f"{self._zones(zones, total)} not resolved by {self._label}, and their own servers answer. {_each(zones)}"
        )
        told = self._forwarders()
        advice = f"look at what {self._label} asks for {to_text(zones[0].apex)}"
        return self._state(
            "res.forwarding-fails", f"{text}{told}", [one.through.answer for one in zones], advice=advice
        )

    def zones_elsewhere(self, zones: list[ZoneSaid], total: int) -> Finding:
        """Return zones that somebody else answers for."""
        text = f"{self._label} does not forward {self._zones(zones, total, verb=False)}. {_each(zones)}"
        servers = dict.fromkeys(
            telling.server.label
            for zone_said in zones
            for telling in (zone_said.through.found.usable if zone_said.through.found is not None else ())
        )
        advice = f"have {self._label} send questions for {together_said(_few(to_text(one.apex) for one in zones))} to "
        return self._state(
            "res.not-forwarded", f"{text}{self._forwarders()}", [one.through.answer for one in zones],
            advice=advice + together_said(_few(servers)),
        )  # fmt: skip

    def held_on(self, zones: list[ZoneSaid], total: int) -> Finding:
        """Old copies that stay for longer than their zones say."""
        what = self._zones(zones, total, verb=False)
        text = f"{self._label} keeps an old copy of {what}, for longer than they say. {_each(zones)}"
        return self._state("res.beyond-ttl", text, [one.through.answer for one in zones])

    def old_copies(self, zones: list[ZoneSaid], total: int) -> Finding:
        """Old copies that go by themselves."""
        text = f"{self._label} still has an old copy of {self._zones(zones, total, verb=False)}. {_each(zones)}"
        return self._state("res.outdated-copy", text, [one.through.answer for one in zones])

    def zones_unknown(self, zones: list[ZoneSaid], total: int) -> Finding:
        """Return zones of which nothing can be said, since their own servers say nothing."""
        text = f"Whether {self._zones(zones, total)} reached through {self._label} could not be seen. {_each(zones)}"
        return self._state("res.unverified", text, outcome="unverified", cause=_each(zones).rstrip("."))

    @staticmethod
    def _zones(zones: list[ZoneSaid], total: int, *, verb: bool = True) -> str:
        be = (" is" if len(zones) == 1 else " are") if verb else ""
        return f"{len(zones)} of {many(total, 'zone')}{be}" if total > 1 else f"{to_text(zones[0].apex)}{be}"

    def blocked(self, values: list[ValueSaid], total: int) -> Finding:
        """Expected names that it hides."""
        text = f"{self._label} blocks {_of(values, total)}: {_values(values)}."
        advice = f"have {self._label} let {_names(values)} pass"
        return self._about_values("res.blocked", text, values, advice)

    def overridden(self, values: list[ValueSaid], total: int) -> Finding:
        """Expected names for which it makes up its own records."""
        text = f"{self._label} overrides {_of(values, total)} with its own: {_values(values)}."
        advice = f"take what {self._label} has for {_names(values)} out of its policy or local data"
        return self._about_values("res.overridden", text, values, advice)

    def other_view(self, values: list[ValueSaid], total: int) -> Finding:
        """Names that it gives as another view has them."""
        views = together_said(dict.fromkeys(one.why for one in values))
        text = f"{self._label} gives {_of(values, total)} as the view {views} has them: {_values(values, why=False)}."
        advice = f"have {self._label} ask the servers of the view {self._seen.tried.view}"
        return self._about_values("res.other-view", text, values, advice)

    def outdated(self, values: list[ValueSaid], total: int) -> Finding:
        """Names that differ, where nothing shows that they are no older entries."""
        text = (
            f"{self._label} has outdated or overridden answers for {_of(values, total)}: {_values(values)}. Nothing in them "
            f"shows "
            "which of the two."
        )
        left = [one.through.answer.ttl for one in values if one.through.answer.ttl]
        when = f" after {duration(max(left))}, when an older entry has expired" if left else " later"
        return self._about_values("res.outdated-answer", text, values, f"run this again{when}")

    def not_compared(self, values: list[ValueSaid], total: int) -> Finding:
        """Names whose values could not be compared."""
        text = f"{self._label}: {_of(values, total)} could not be compared: {_values(values)}."
        cause = together_said(dict.fromkeys(one.why for one in values))
        return self._state(
            "res.unverified",
            text,
            _answers(values),
            rdtype=A,
            outcome="unverified",
            cause=f"{self._label}, values: {cause}",
        )

    def _about_values(self, code: str, text: str, values: list[ValueSaid], advice: str) -> Finding:
        return self._state(code, text, _answers(values), rdtype=A, advice=advice)

    def unvalidated(self, failed: list[tuple[ThroughIt, Answer]]) -> list[Finding]:
        """Return zones whose signatures are at fault: a finding for each, about the zone."""
        by_zone: dict[tuple[Name, str], list[ThroughIt]] = {}
        for through, _ in failed:
            looked_up = through.found
            zone = looked_up.authority.zone if looked_up is not None else None
            by_zone.setdefault((zone or through.answer.question.name, self._seen.tried.view), []).append(through)
        findings = []
        for (zone, view), several in by_zone.items():
            answer = several[0].answer
            why = validation_error(answer)
            names = together_said(_few(dict.fromkeys(to_text(one.answer.question.name) for one in several)))
            text = (
                f"{to_text(zone)} does not validate (DNSSEC): {self._label} answers SERVFAIL for {names} ({why}), and answers "
                f"with "
                "checking disabled."
            )
            findings.append(
                state(
                    "auth.bogus", text, name=zone, rdtype=DNSKEY, view=view, cause=f"{to_text(zone)} does not validate",
                    advice="sign the zone anew, or correct the DS at its parent",
                    evidence=[evidence_of(one.answer) for one in several[:_FEW]],
                )
            )  # fmt: skip
        return findings

    def trust_anchor(self, answers: Sequence[Answer]) -> Finding:
        """Everything signed fails with it, and comes with checking disabled."""
        names = together_said(_few(dict.fromkeys(to_text(one.question.name) for one in answers)))
        text = (
            f"{self._label} answers SERVFAIL for signed names ({names}: {validation_error(answers[0])}), and answers with "
            "checking disabled: its trust anchor is missing or outdated, or its clock is wrong."
        )
        return self._state("res.trust-anchor", text, answers, rdtype=DNSKEY)

    def no_validation(self, answers: Sequence[Answer]) -> Finding:
        """It does not validate what it hands on."""
        names = together_said(_few(dict.fromkeys(to_text(one.question.name) for one in answers)))
        text = f"{self._label} does not validate (DNSSEC): it answers for {names} without having verified a signature."
        return self._state("res.no-validation", text, answers, rdtype=DNSKEY)

    def broken_names(self, answers: Sequence[Answer]) -> list[Finding]:
        """Names that the estate calls signed, and that do not validate while others do."""
        return [
            state(
                "auth.bogus",
                f"{to_text(one.question.name)} does not validate (DNSSEC): {self._label} answers SERVFAIL for it "
                f"({validation_error(one)}), and answers with checking disabled; other signed names validate there.",
                name=one.question.name, rdtype=DNSKEY, view=self._seen.tried.view, evidence=[evidence_of(one)],
                cause=f"{to_text(one.question.name)} does not validate",
                advice="sign the zone anew, or correct the DS at its parent: authority shows which",
            )
            for one in answers
        ]  # fmt: skip

    def _forwarders(self) -> str:
        """Return what those to which it forwards say of the same."""
        said: dict[str, None] = {}
        for answer in self._seen.forwarders:
            usable = answer.trouble is None and bool(answer.values)
            what = "answers it" if usable else answer.trouble or "gives NXDOMAIN or NODATA too"
            said.setdefault(f"{answer.question.server.label}, to which it forwards: {what}", None)
        return f" {'; '.join(said)}." if said else ""

    def no_external(self, answers: Sequence[Answer]) -> Finding:
        """Report that no public name is resolved."""
        each = "; ".join(f"{to_text(one.question.name)}: {one.trouble or 'no such name'}" for one in answers)
        text = f"No public name is resolved by {self._label}: {each}.{self._forwarders()}"
        return self._state("res.no-public-names", text, answers, rdtype=A)

    def rewrites(self, answers: Sequence[Answer]) -> Finding:
        """Return a "no" that was made into an address."""
        answer = answers[0]
        values = (
            ", ".join(rdata_text(A, value) for value in answer.values) or f"an alias of {to_text(answer.alias or ROOT)}"
        )
        where = to_text(parent(answer.question.name))
        text = f"{self._label} gives an address for nonexistent names: one below {where} is {values} there."
        return self._state("res.nxdomain-rewritten", text, answers, rdtype=A)

    def private_outside(self, answers: Sequence[Answer]) -> Finding:
        """Return questions about private networks that go out."""
        zones = together_said(to_text(one.question.name) for one in answers)
        text = f"{self._label} asks public DNS for {zones}: it shows strangers who talks to whom in the network."
        return self._state("res.private-reverse-leak", text, answers)

    def large_lost(self, lost: Sequence[ThroughIt]) -> Finding:
        """Long answers that do not arrive, or not whole."""
        each = []
        for through in lost:
            question = through.answer.question
            what = through.answer.trouble
            if what is None and through.found is not None:
                what = f"{len(through.answer.values)} of {many(len(through.found.values), 'record')}"
            each.append(f"{to_text(question.name)} {type_text(question.rdtype)}: {what}")
        text = f"Answers that are longer than a datagram do not arrive through {self._label}: {'; '.join(each)}."
        return self._state("res.large-lost", text, [one.answer for one in lost])

    def out_of_order(self, answer: Answer) -> Finding:
        """Return an alias that comes after what it leads to."""
        text = (
            f"{self._label} gives the records of {to_text(answer.question.name)} with the alias behind what it leads to: some "
            "programs find nothing then."
        )
        return self._state("res.order", text, [answer], rdtype=A)

    def keeps_longer(self, longer: list[tuple[ThroughIt, int]]) -> Finding:
        """Return entries that have more left than their zones give."""
        each = "; ".join(
            f"{to_text(through.answer.question.name)} for another {duration(through.answer.ttl or 0)}, "
            f"where its zone says {duration(whole)}"
            for through, whole in longer
        )
        text = (
            f"{self._label} keeps entries for longer than their zones say, or since before that was shortened: {each}."
        )
        return self._state("res.beyond-ttl", text, [one.answer for one, _ in longer], rdtype=A)

    def keeps_no_longer(self, given: int, whole: int) -> Finding:
        """Return a "no" that outlives what its zone says."""
        text = f"{self._label} caches NXDOMAIN for {duration(given)}, where the zone says {duration(whole)} (RFC 2308)."
        return self._state("res.beyond-ttl", text, rdtype=A)

    def caps(self, what: str) -> Finding:
        """Return what it keeps for a shorter time than it may."""
        return self._state("res.caps-ttl", f"{self._label} keeps {what}.", rdtype=A)

    def pool_differs(self, answers: Sequence[Answer]) -> Finding:
        """Return several that answer at one address, and do not say the same."""
        said: dict[tuple[bytes, ...], int] = {}
        for answer in answers:
            if answer.trouble is None:
                said[answer.values] = said.get(answer.values, 0) + 1
        each = "; ".join(
            f"{', '.join(address_text(value) for value in values) or 'none'} ({many(number, 'time')})"
            for values, number in said.items()
        )
        text = (
            f"{self._label} does not say the same each time: {to_text(answers[0].question.name)} A: {each}. Several answer at "
            "this address, and not all have the same."
        )
        return self._state("res.pool-differs", text, answers, rdtype=A)


def _each(zones: Sequence[ZoneSaid]) -> str:
    """Return what became of the zones, those of one fate together."""
    by_fate: dict[str, list[str]] = {}
    for zone_said in zones:
        by_fate.setdefault(zone_said.says, []).append(to_text(zone_said.apex))
    return "; ".join(f"{together_said(_few(names))}: {fate}" for fate, names in by_fate.items()) + "."


def _of(values: Sequence[ValueSaid], total: int) -> str:
    return f"{len(values)} of {many(total, 'expected record set')}"


def _answers(values: Sequence[ValueSaid]) -> list[Answer]:
    """Return what the resolver and the authoritative servers say of the first ones, as evidence."""
    found = []
    for value_said in values[:_FEW]:
        found.append(value_said.through.answer)
        if value_said.through.found is not None:
            found += [telling.answers[0] for telling in value_said.through.found.usable[:1]]
    return found


def _names(values: Sequence[ValueSaid]) -> str:
    return together_said(_few(dict.fromkeys(to_text(one.through.answer.question.name) for one in values)))


def _values(values: Sequence[ValueSaid], *, why: bool = True) -> str:
    """Return what it gives for each of the first ones, what their own servers have, and what shows why."""
    each = []
    for value_said in values[:_FEW]:
        answer, looked_up = value_said.through.answer, value_said.through.found
        name, rdtype, *_ = answer.question
        left = f" for another {duration(answer.ttl)}" if answer.ttl and not answer.authoritative else ""
        text = ", ".join(rdata_text(rdtype, value) for value in answer.values)
        text = text or (f"an alias of {to_text(answer.alias)}" if answer.alias is not None else _denial(answer))
        own = ", ".join(rdata_text(rdtype, value) for value in looked_up.values) if looked_up is not None else ""
        alias = (
            next((t.alias for t in looked_up.usable if t.alias is not None), None) if looked_up is not None else None
        )
        own = own or (f"an alias of {to_text(alias)}" if alias is not None else "none")
        reason = f" ({value_said.why})" if why and value_said.why else ""
        each.append(f"{to_text(name)} {type_text(rdtype)} is {text}{left}, and its own servers have {own}{reason}")
    more = f"; {len(values) - _FEW} more" if len(values) > _FEW else ""
    return "; ".join(each) + more


def _denial(answer: Answer) -> str:
    if answer.trouble is not None:
        return answer.trouble
    return "NXDOMAIN" if answer.status == "NXDOMAIN" else "NODATA"


def _few(words: Iterable[str]) -> list[str]:
    found = list(words)
    return found if len(found) <= _FEW + 1 else [*found[:_FEW], f"{len(found) - _FEW} more"]

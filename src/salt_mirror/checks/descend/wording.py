"""What was seen on the way down, in words and in findings.

Strategy: each level is judged by itself: who is lame, where the servers part ways, whose glue is wrong. The last leg's end is
the answer, and the first thing that is said.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from salt_mirror.checks.common.delegation import lameness
from salt_mirror.checks.common.trust import Flaw
from salt_mirror.checks.common.wording import state
from salt_mirror.checks.descend.rows import names_of, texts_of, words_of
from salt_mirror.checks.descend.walking import Descent, Leg, Level, Visit, dead_end
from salt_mirror.checks.signed.chain import Failing, TrustChain
from salt_mirror.dns.names import to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import address_type, record_line, type_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding, Outcome


def answer_words(descent: Descent) -> tuple[str, Outcome]:
    """Return the end of the way in one sentence, and the outcome that follows from it alone."""
    leg = descent.legs[-1]
    first = descent.legs[0]
    what = f"{to_text(first.name)} {type_text(first.rdtype)}"
    aliases = f", by way of {', '.join(to_text(one.name) for one in descent.legs[1:])}" if len(descent.legs) > 1 else ""
    if descent.looped is not None or descent.too_long:
        return f"{what}: its aliases lead nowhere{aliases}.", "differs"
    if not leg.ends:
        zone = to_text(leg.levels[-1].zone)
        if leg.levels[-1].stopped:
            return (
                f"{what}: the way down stops at {zone}: the questions for one name are used up{aliases}.",
                "unverified",
            )
        if not leg.levels[-1].asked:
            return f"{what}: the way down stops at {zone}, of which no server could be asked{aliases}.", "unverified"
        return f"{what}: the way down ends at {zone}, where no server gives a usable answer{aliases}.", "unverified"
    values = texts_of(leg.ends, leg.rdtype)
    servers = leg.levels[-1].asked
    who = f"{len(leg.ends)} of {len(servers)} servers of {to_text(leg.levels[-1].zone)} say so"
    if values:
        return f"{what} is {', '.join(values)}{aliases}; {who}.", "agrees"
    if any(one.answer.exists for one in leg.ends):
        return f"{to_text(leg.name)} exists, and has no {type_text(leg.rdtype)}{aliases}; {who}.", "differs"
    return f"{to_text(leg.name)} does not exist{aliases}; {who}.", "differs"


def findings_of(descent: Descent) -> list[Finding]:
    """Return everything that is wrong on the way."""
    found: dict[tuple[str, str], Finding] = {}
    for leg in descent.legs:
        words = DescentWords(leg)
        for finding in words.all():
            found.setdefault((finding.code, finding.text), finding)
    last = DescentWords(descent.legs[-1])
    found.update(((finding.code, finding.text), finding) for finding in last.end(descent))
    return list(found.values())


_USED_UP = "the servers lead to more questions than one name may cost (questions_for_a_name in [bounds])"


class DescentWords:
    def __init__(self, leg: Leg) -> None:
        self._leg = leg

    def _finding(
        self,
        code: str,
        text: str,
        asked: Iterable[Visit] = (),
        *,
        advice: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
        answers: Iterable[Answer] = (),
        server: Server | None = None,
    ) -> Finding:
        return state(
            code,
            text,
            name=self._leg.name,
            rdtype=self._leg.rdtype,
            answers=[*(one.answer for one in asked), *answers],
            advice=advice,
            outcome=outcome,
            cause=cause,
            server=server,
        )

    def all(self) -> Iterator[Finding]:
        """Return what is wrong on the levels of one leg."""
        for level in self._leg.levels:
            if level.stopped or level.left_out:
                text = (
                    f"The servers of {to_text(level.zone)} lead to more than is asked for one name: "
                    + ("the questions are used up here" if level.stopped else f"{level.left_out} were left out")
                    + " (questions_for_a_name in the estate's [bounds])."
                )
                yield self._finding("cut.unverified", text, outcome="unverified", cause=_USED_UP)
            yield from self._servers(level)
            yield from self._ways(level)
            yield from self._addresses(level)
        if self._leg.chain is not None:
            yield from self._trust(self._leg.chain)

    def _trust(self, chain: TrustChain) -> Iterator[Finding]:
        """Return where the chain of trust breaks, for everybody or on some servers."""
        what = f"{to_text(self._leg.name)} {type_text(self._leg.rdtype)}"
        broken = chain.broken
        links = chain.every
        if broken is not None:
            where = "" if broken is chain.end else f" from {to_text(broken.zone)} down"
            text = (
                f"{what} does not validate (DNSSEC){where}: {broken.why}. Validating resolvers answer SERVFAIL, others get the "
                "answer."
            )
            yield self._finding("cut.bogus", text, answers=[one.answer for one in broken.failing])
        by_server: dict[Server, list[Failing]] = {}
        for link in links if broken is None else ():
            for one in link.failing:
                if one.flaw not in (None, Flaw.UNKNOWN):
                    by_server.setdefault(one.server, []).append(one)
        for server, failing in by_server.items():
            text = (
                f"{what} does not validate (DNSSEC) on {server.label}: {failing[0].why}. Validating resolvers that ask there "
                "answer SERVFAIL, or ask another server."
            )
            yield self._finding("cut.bogus-server", text, answers=[failing[-1].answer], server=server)
        if chain.trust == "unverified" and broken is None:
            first = next(link for link in links if link.trust == "unverified")
            text = f"Whether {what} validates (DNSSEC) is not known: {first.why or 'no server was asked'}."
            answers = [one.answer for one in first.failing]
            yield self._finding("cut.unverified", text, answers=answers, outcome="unverified", cause=text)

    def _servers(self, level: Level) -> Iterator[Finding]:
        zone = to_text(level.zone)
        for visit in level.asked:
            if visit.usable:
                continue
            who = f"{visit.name} ({address_text(visit.address)}), a name server of {zone}"
            how = lameness(visit.answer, level.zone)
            if how is not None:
                yield self._finding("cut.lame", f"{who}, is lame: it {how}.", [visit])
            else:
                why = visit.answer.trouble or visit.answer.status
                yield self._finding(
                    "cut.unverified", f"{who}: {why}.", [visit], outcome="unverified", cause=f"{zone} servers: {why}"
                )

    def _ways(self, level: Level) -> Iterator[Finding]:
        """Return where the servers of one zone send people different ways."""
        ways: dict[tuple[bytes, tuple[bytes, ...]], list[Visit]] = {}
        for visit in level.asked:
            if visit.delegation is not None:
                ways.setdefault((visit.delegation.cut, visit.delegation.targets), []).append(visit)
        zone = to_text(level.zone)
        if len(ways) > 1:
            text = "; ".join(
                f"{names_of(group)}: {to_text(cut)} at {', '.join(map(to_text, targets))}"
                for (cut, targets), group in ways.items()
            )
            yield self._finding("cut.servers-differ", f"The servers of {zone} differ: {text}.", level.asked)
        answers: dict[tuple[tuple[bytes, ...], bytes | None, bool], list[Visit]] = {}
        for visit in level.asked:
            if visit.delegation is None and visit.answer.trouble is None:
                answers.setdefault((visit.answer.values, visit.answer.alias, visit.answer.exists), []).append(visit)
        if len(answers) > 1:
            text = "; ".join(f"{names_of(group)}: {words_of(group[0], self._leg.rdtype)}" for group in answers.values())
            yield self._finding("cut.answers-differ", f"The servers of {zone} answer differently: {text}.", level.asked)

    def _addresses(self, level: Level) -> Iterator[Finding]:
        zone = to_text(level.zone)
        for target in level.unglued:
            text = f"{zone} is delegated to {to_text(target)}, which is in {zone} itself, without its address (glue)."
            yield self._finding("cut.needs-itself", text)
        for target, why in level.homeless.items():
            code = "cut.needs-itself" if "needs this very" in why else "cut.no-address"
            text = f"{to_text(target)}, a name server of {zone}, has no address that can be found: {why}."
            yield self._finding(code, text)
        for target, why in level.unfound.items():
            text = f"The address of {to_text(target)}, a name server of {zone}, could not be found: {why}."
            yield self._finding("cut.unverified", text, outcome="unverified", cause=f"{zone} servers: {why}")
        for target, (values, own) in level.wrong_glue.items():
            has, right = ", ".join(map(address_text, values)), ", ".join(map(address_text, own)) or "none at all"
            text = f"The parent zone gives {has} as the address of {to_text(target)}, and {zone} itself says {right}."
            advice = "in the parent zone: " + record_line(target, address_type(own[0]), own[0]) if own else ""
            yield self._finding("cut.glue-wrong", text, level.asked, advice=advice)

    def end(self, descent: Descent) -> Iterator[Finding]:
        """Return what is wrong with the end of the way."""
        leg = self._leg
        if descent.looped is not None:
            chain = " -> ".join(to_text(one.name) for one in descent.legs)
            yield self._finding(
                "cut.alias-loop", f"The aliases lead in a circle: {chain} -> {to_text(descent.looped)}.", leg.ends
            )
        elif descent.too_long:
            yield self._finding("cut.alias-loop", f"More than {len(descent.legs) - 1} aliases in a row.", leg.ends)
        elif not leg.ends:
            level = leg.levels[-1]
            text = f"No server of {to_text(level.zone)} gives a usable answer: what lies below cannot be seen."
            if level.stopped:
                return  # that is told already
            if dead_end(level):
                yield self._finding("cut.dead-end", text, level.asked)
            else:
                yield self._finding("cut.unverified", text, level.asked, outcome="unverified", cause=text)
        elif not any(one.answer.values or one.answer.alias for one in leg.ends):
            code = "cut.no-such-type" if any(one.answer.exists for one in leg.ends) else "cut.no-such-name"
            yield self._finding(code, answer_words(descent)[0], leg.ends)

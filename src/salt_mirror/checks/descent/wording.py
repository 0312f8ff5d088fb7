"""What was seen on the way down, in words and in findings.

Strategy: each level is judged by itself: who is lame, where the servers part ways, whose glue is wrong. The last leg's end is
the answer, and the first thing that is said.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from salt_mirror.checks.delegation import lameness
from salt_mirror.checks.descent.walking import Asked, Descent, Leg, Level
from salt_mirror.checks.tests import Leg as LegSheet
from salt_mirror.checks.tests import Step, StepServer
from salt_mirror.checks.soa import negative_ttl
from salt_mirror.checks.wording import state
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import NS, SOA, rdata_text, record_line, soa_fields, type_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding, Outcome


def answer_words(descent: Descent) -> tuple[str, Outcome]:
    """The end of the way in one sentence, and the outcome that follows from it alone."""
    leg = descent.legs[-1]
    first = descent.legs[0]
    what = f"{to_text(first.name)} {type_text(first.rdtype)}"
    aliases = f", by way of {', '.join(to_text(one.name) for one in descent.legs[1:])}" if len(descent.legs) > 1 else ""
    if descent.looped is not None or descent.too_long:
        return f"{what}: its aliases lead nowhere{aliases}.", "differs"
    if not leg.ends:
        zone = to_text(leg.levels[-1].zone)
        return f"{what}: the way down ends at {zone}, where no server gives a usable answer{aliases}.", "unverified"
    values = _texts(leg.ends, leg.rdtype)
    servers = leg.levels[-1].asked
    who = f"{len(leg.ends)} of {len(servers)} servers of {to_text(leg.levels[-1].zone)} say so"
    if values:
        return f"{what} is {', '.join(values)}{aliases}; {who}.", "agrees"
    if any(one.answer.exists for one in leg.ends):
        return f"{to_text(leg.name)} exists, and has no {type_text(leg.rdtype)}{aliases}; {who}.", "differs"
    return f"{to_text(leg.name)} does not exist{aliases}; {who}.", "differs"


def findings_of(descent: Descent) -> list[Finding]:
    """Everything that is wrong on the way."""
    found: dict[tuple[str, str], Finding] = {}
    for leg in descent.legs:
        words = _Words(leg)
        for finding in words.all():
            found.setdefault((finding.code, finding.text), finding)
    last = _Words(descent.legs[-1])
    found.update(((finding.code, finding.text), finding) for finding in last.end(descent))
    return list(found.values())


class _Words:
    def __init__(self, leg: Leg) -> None:
        self._leg = leg

    def _finding(
        self,
        code: str,
        text: str,
        asked: Iterable[Asked] = (),
        *,
        remedy: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
    ) -> Finding:
        return state(
            code,
            text,
            name=self._leg.name,
            rdtype=self._leg.rdtype,
            answers=[one.answer for one in asked],
            remedy=remedy,
            outcome=outcome,
            cause=cause,
        )

    def all(self) -> Iterator[Finding]:
        """What is wrong on the levels of one leg."""
        for level in self._leg.levels:
            yield from self._servers(level)
            yield from self._ways(level)
            yield from self._addresses(level)

    def _servers(self, level: Level) -> Iterator[Finding]:
        zone = to_text(level.zone)
        for one in level.asked:
            if one.usable:
                continue
            who = f"{to_text(one.target)} ({address_text(one.address)}), a name server of {zone}"
            how = lameness(one.answer, level.zone)
            if how is not None:
                yield self._finding("cut.lame", f"{who}, is lame: it {how}.", [one])
            else:
                why = one.answer.trouble or one.answer.status
                yield self._finding(
                    "cut.unverified", f"{who}: {why}.", [one], outcome="unverified", cause=f"{zone} servers: {why}"
                )

    def _ways(self, level: Level) -> Iterator[Finding]:
        """Where the servers of one zone send people different ways."""
        ways: dict[tuple[bytes, tuple[bytes, ...]], list[Asked]] = {}
        for one in level.asked:
            if one.delegation is not None:
                ways.setdefault((one.delegation.cut, one.delegation.targets), []).append(one)
        zone = to_text(level.zone)
        if len(ways) > 1:
            said = "; ".join(
                f"{_who(group)}: {to_text(cut)} at {', '.join(map(to_text, targets))}"
                for (cut, targets), group in ways.items()
            )
            yield self._finding("cut.parts", f"The servers of {zone} part ways: {said}.", level.asked)
        answers: dict[tuple[tuple[bytes, ...], bytes | None, bool], list[Asked]] = {}
        for one in level.asked:
            if one.delegation is None and one.answer.trouble is None:
                answers.setdefault((one.answer.values, one.answer.alias, one.answer.exists), []).append(one)
        if len(answers) > 1:
            said = "; ".join(f"{_who(group)}: {_said(group[0], self._leg.rdtype)}" for group in answers.values())
            yield self._finding("cut.answers-differ", f"The servers of {zone} answer differently: {said}.", level.asked)

    def _addresses(self, level: Level) -> Iterator[Finding]:
        zone = to_text(level.zone)
        for target in level.unglued:
            text = (
                f"{zone} is delegated to {to_text(target)}, which stands in {zone} itself, without its address (glue)."
            )
            yield self._finding("cut.needs-itself", text)
        for target, why in level.homeless.items():
            code = "cut.needs-itself" if "needs this very" in why else "cut.no-address"
            text = f"{to_text(target)}, a name server of {zone}, has no address that can be found: {why}."
            yield self._finding(code, text)
        for target, (given, own) in level.wrong_glue.items():
            has, right = ", ".join(map(address_text, given)), ", ".join(map(address_text, own)) or "none at all"
            text = f"The zone above gives {has} as the address of {to_text(target)}, and {zone} itself says {right}."
            remedy = "; in the zone above: " + record_line(target, 1 if len(own[0]) == 4 else 28, own[0]) if own else ""
            yield self._finding("cut.glue-wrong", text, level.asked, remedy=remedy)

    def end(self, descent: Descent) -> Iterator[Finding]:
        """What is wrong with the end of the way."""
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
            lame = [one for one in level.asked if lameness(one.answer, level.zone) is not None]
            if len(lame) == len(level.asked):
                yield self._finding("cut.dead-end", text, level.asked)
            else:
                yield self._finding("cut.unverified", text, level.asked, outcome="unverified", cause=text)
        elif not any(one.answer.values or one.answer.alias for one in leg.ends):
            code = "cut.no-such-type" if any(one.answer.exists for one in leg.ends) else "cut.no-such-name"
            yield self._finding(code, answer_words(descent)[0], leg.ends)


def sheet_of(leg: Leg) -> LegSheet:
    """One leg laid out."""
    alias = next((one.answer.alias for one in leg.ends if one.answer.alias is not None), None)
    return LegSheet(
        name=to_text(leg.name),
        type=type_text(leg.rdtype),
        steps=[_step(level, leg.rdtype) for level in leg.levels],
        values=_texts(leg.ends, leg.rdtype),
        alias=to_text(alias) if alias is not None else "",
        cached=_cached(leg),
    )


def _step(level: Level, rdtype: int) -> Step:
    remarks = [f"{to_text(target)}: no address ({why})" for target, why in level.homeless.items()]
    remarks += [f"{to_text(target)}: no glue" for target in level.unglued]
    remarks += [f"{to_text(target)}: wrong glue" for target in level.wrong_glue]
    remarks += [f"{level.not_asked} addresses over IPv6, which this computer does not have"] if level.not_asked else []
    return Step(
        zone=to_text(level.zone),
        servers=[
            StepServer(
                server=to_text(one.target).rstrip("."),
                endpoint=one.server.endpoint,
                address=address_text(one.address),
                kind=_kind(one, level),
                says=_said(one, rdtype)
                if one.usable
                else f"lame: {how}"
                if (how := lameness(one.answer, level.zone))
                else (one.answer.trouble or one.answer.status),
                rtt_ms=round(one.answer.rtt_ms, 3) if one.answer.rtt_ms is not None else None,
            )
            for one in level.asked
        ],
        remarks=remarks,
    )


def _kind(asked: Asked, level: Level) -> str:
    if asked.delegation is not None:
        return "refers"
    if asked.usable:
        return "answers"
    return "lame" if lameness(asked.answer, level.zone) is not None else "silent"


def _said(asked: Asked, rdtype: int) -> str:
    answer, delegation = asked.answer, asked.delegation
    if delegation is not None:
        names = [to_text(target) for target in delegation.targets]
        shown = ", ".join(names) if len(names) <= 4 else f"{', '.join(names[:3])} and {len(names) - 3} more"
        return f"refers to {to_text(delegation.cut)} at {shown} (TTL {delegation.ttl})"
    if answer.values:
        return f"{', '.join(rdata_text(rdtype, value) for value in answer.values)} (TTL {answer.ttl})"
    if answer.alias is not None:
        return f"alias of {to_text(answer.alias)} (TTL {answer.ttl})"
    return "no such name" if answer.status == "NXDOMAIN" else "nothing of this type"


def _texts(asked: list[Asked], rdtype: int) -> list[str]:
    return [rdata_text(rdtype, value) for value in sorted({value for one in asked for value in one.answer.values})]


def _who(asked: list[Asked]) -> str:
    names = list(dict.fromkeys(to_text(one.target).rstrip(".") for one in asked))
    return ", ".join(names) if len(names) <= 3 else f"{', '.join(names[:2])} and {len(names) - 2} more"


def _cached(leg: Leg) -> list[str]:
    """What a resolver would keep that went this way: the delegations, and the answer or the "no" at its end."""
    found = []
    for level in leg.levels:
        for one in level.asked:
            if one.delegation is not None:
                found.append(f"{to_text(one.delegation.cut)} {type_text(NS)} for {one.delegation.ttl} s")
                break
    for one in leg.ends[:1]:
        if one.answer.ttl is not None:
            what = type_text(leg.rdtype) if one.answer.values else "CNAME"
            found.append(f"{to_text(leg.name)} {what} for {one.answer.ttl} s")
            continue
        for record in one.answer.sections.authority:
            if record.rdtype == SOA:
                seconds = negative_ttl(soa_fields(record.rdata), record.ttl)
                what = "no such name" if one.answer.status == "NXDOMAIN" else f"no {type_text(leg.rdtype)}"
                found.append(f'{to_text(leg.name)} "{what}" for {seconds} s')
    return found

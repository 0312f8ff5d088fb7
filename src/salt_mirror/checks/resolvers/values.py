"""The values that a resolver gives for expected names, compared with the authoritative answers of its view.

Strategy: what is the same is right. What differs is another view's, blocked, overridden, or an older entry, by the evidence in
the responses (`checks.overriding`); without any it is told as an older entry that may be an override. Names of a zone that is
not reached at all are left to that zone's own finding, and names whose servers did not all answer accuse nobody.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from salt_mirror.checks.common.overriding import has_denial, made_by_itself, stays
from salt_mirror.checks.common.test_tree import Judged, row
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.resolvers.asking import ResolverSeen, ThroughIt, gives_same
from salt_mirror.checks.resolvers.reaching import Reached
from salt_mirror.checks.resolvers.wording import ResolverWords, ValueSaid
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer
from salt_mirror.findings import Finding


class Fate(Enum):
    """What a resolver gives for a name."""

    SAME = "as its servers"
    OTHER_VIEW = "another view's"
    BLOCKED = "blocked"
    OVERRIDDEN = "overridden"
    OUTDATED = "an older entry"
    UNKNOWN = "not compared"


@dataclass(frozen=True, slots=True)
class ComparedValue:
    """A name and type, what becomes of it through the resolver, and what shows that."""

    through: ThroughIt
    fate: Fate
    why: str = ""

    @property
    def said(self) -> ValueSaid:
        """The same for a sentence."""
        return ValueSaid(self.through, self.why)


def values_test(seen: ResolverSeen, zones: list[Reached], words: ResolverWords) -> Judged | None:
    """Return whether the resolver gives what its view's servers have; None where nothing was compared."""
    own = {one.zone.apex for one in zones if one.own}
    holding = {one.zone.apex for one in zones if one.own and one.through.answer.authoritative}
    every = [_compared(one, seen, own, holding) for one in seen.values]
    looked = [one for one in every if one is not None]
    if not looked:
        return None
    by_fate = {fate: [one.said for one in looked if one.fate is fate] for fate in Fate}
    findings: list[Finding] = []
    for fate, say in (
        (Fate.BLOCKED, words.blocked),
        (Fate.OVERRIDDEN, words.overridden),
        (Fate.OTHER_VIEW, words.other_view),
        (Fate.OUTDATED, words.outdated),
        (Fate.UNKNOWN, words.not_compared),
    ):
        if by_fate[fate]:
            findings.append(say(by_fate[fate], len(looked)))
    sample = f", a sample of {seen.tried.expected:,}" if seen.tried.expected > len(seen.tried.values) else ""
    counts = [f"{len(by_fate[fate])} {fate.value}" for fate in Fate if fate is not Fate.SAME and by_fate[fate]]
    says = f"{len(by_fate[Fate.SAME])} of {many(len(looked), 'expected record set')} as its servers have them{sample}"
    return row("values", "; ".join([says, *counts]), findings)


def _compared(through: ThroughIt, seen: ResolverSeen, own: set[Name], holding: set[Name]) -> ComparedValue | None:
    """Return what becomes of one name; None where its zone is not reached, or its servers have nothing to compare with."""
    answer, looked_up = through.answer, through.found
    zone = looked_up.authority.zone if looked_up is not None else None
    if looked_up is None or not looked_up.usable or not (looked_up.values or looked_up.aliased or through.elsewhere):
        return None
    if zone is not None and zone in {z.apex for z, _ in seen.zones} and zone not in own:
        return None
    if answer.unasked:
        return ComparedValue(through, Fate.UNKNOWN, answer.trouble or "not asked")
    holds_zone = zone in holding
    why = made_by_itself([answer], holds_zone=holds_zone)
    if answer.trouble is not None:
        if answer.status == "REFUSED" and why is not None:
            return ComparedValue(through, Fate.BLOCKED, why)
        if _does_not_validate(through, seen):
            return None  # told of the zone, and not of the resolver
        return ComparedValue(through, Fate.UNKNOWN, answer.trouble)
    if gives_same(answer, looked_up):
        return ComparedValue(through, Fate.SAME)
    for view, other in through.elsewhere.items():
        if gives_same(answer, other):
            return ComparedValue(through, Fate.OTHER_VIEW, view)
    if looked_up.unverified:
        silent = ", ".join(telling.server.label for telling in looked_up.unverified)
        return ComparedValue(through, Fate.UNKNOWN, f"{silent} did not answer, and may have what it gives")
    if holds_zone and why is None:
        return ComparedValue(through, Fate.OUTDATED, "it holds a copy of the zone itself")
    if answer.values or answer.alias is not None:
        why = why or _staying(through, seen)
        return ComparedValue(through, Fate.OVERRIDDEN if why else Fate.OUTDATED, why or "")
    why = why or _bare_denial(answer, seen)
    return ComparedValue(through, Fate.BLOCKED if why else Fate.OUTDATED, why or "")


def _does_not_validate(through: ThroughIt, seen: ResolverSeen) -> bool:
    unchecked = seen.unchecked.get((through.answer.question.name, through.answer.question.rdtype))
    return unchecked is not None and unchecked.trouble is None


def _staying(through: ThroughIt, seen: ResolverSeen) -> str | None:
    """Return whether its TTL stays while that of another name of the same resolver counts down."""
    later = seen.later.get((through.answer.question.name, through.answer.question.rdtype))
    if later is None or seen.control is None:
        return None
    return "its TTL does not count down" if stays(through.answer, later, *seen.control) else None


def _bare_denial(answer: Answer, seen: ResolverSeen) -> str | None:
    """Return whether a denial has no SOA, from a resolver that hands on the SOA of others, fetched and from its cache."""
    if has_denial(answer) or not seen.denials or not all(has_denial(one) for one in seen.denials):
        return None
    return "its denial has no SOA of the zone, as its other denials do"


def unvalidated(seen: ResolverSeen) -> Iterator[tuple[ThroughIt, Answer]]:
    """Return what the resolver fails to answer as it does not validate: each with the answer that comes with checking
    disabled."""
    for one in (*(through for _, through in seen.zones), *seen.names, *seen.values):
        question = one.answer.question
        unchecked = seen.unchecked.get((question.name, question.rdtype))
        if one.answer.status == "SERVFAIL" and unchecked is not None and unchecked.trouble is None:
            yield one, unchecked

"""The roll call: is every expected record registered on every authoritative server of its zone?

Strategy: one dialogue for each expected RRset. Round one puts it to all servers of its zone, and each server is judged by
itself; a set that is right on one server and not on another is the commonest fault after a change, so that is said first.
Only for what is right, a name beside it that cannot exist is asked for, to see whether a wildcard answers; only for an
address that is missing, its pointer, to see under what name the host is registered instead.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.common.lookup import Lookup, Telling, at_name, lookup
from salt_mirror.checks.common.nearest import nearest
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.common.standing import UNKNOWN, standing_of
from salt_mirror.checks.rollcall.plain import RollRound
from salt_mirror.checks.rollcall.unexpected import told
from salt_mirror.checks.rollcall.wording import (
    ABSENT_NAME,
    ABSENT_TYPE,
    ALIAS,
    DIFFERENT,
    EXTRA,
    RIGHT,
    STILL_THERE,
    RollWords,
    grouped,
    may_be_wildcards,
)
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, join, parent, to_text
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import AAAA, CNAME, PTR, A, type_from_text
from salt_mirror.dns.reverse import address_text, reverse_name
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Finding, Outcome


class Called:
    """One expected set and what became of it; `unsure` where nobody knows whether a wildcard answers in its place."""

    __slots__ = ("expected", "findings", "outcome", "unsure")

    def __init__(
        self, expected: ExpectedSet, outcome: Outcome, findings: list[Finding], *, unsure: bool = False
    ) -> None:
        self.expected = expected
        self.outcome = outcome
        self.findings = findings
        self.unsure = unsure


class Roll(Part):
    """The roll call at work on some expected sets."""

    def __init__(self, sets: Iterable[ExpectedSet], atlas: Atlas, zones: Iterable[Zone] = ()) -> None:
        """`zones` are those of which it is told what nobody expects, as far as they are in hand."""
        super().__init__()
        self.called: list[Called] = []
        self.unexpected: list[Finding] = []
        self._zones = list(zones)
        self._sets = list(sets)
        self._atlas = atlas
        self.size = len(self._sets)

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Called]]]:
        strangers = set(setting.transferred) - {one.name for one in self._sets}

        def agreeing(one: ExpectedSet) -> Called:
            return Called(one, "agrees", [])

        def judge(one: ExpectedSet) -> Dialogue[Called]:
            return call(one, self._atlas, setting.stranger, strangers)

        yield RollRound(self._sets, self._atlas, setting.stranger, agreeing, judge)
        unsure = [one.expected for one in self.called if one.unsure]
        self.remarks += [may_be_wildcards(unsure)] if unsure else []
        self.unexpected = list(told(self._atlas.estate, setting.holdings, self._zones))

    def take(self, result: Called) -> None:
        self.called.append(result)

    def verdicts(self) -> Iterator[Verdict]:
        for called in self.called:
            yield Verdict(called.expected.name, called.expected.rdtype, called.expected.view, called.outcome)
        for finding in self.unexpected:
            if finding.weight == "fault":
                yield Verdict(from_text(finding.name), type_from_text(finding.type), finding.view, "differs")

    def counts(self) -> Counter[Outcome]:
        found = Counter(called.outcome for called in self.called)
        found["differs"] += sum(finding.weight == "fault" for finding in self.unexpected)
        return found

    def findings(self) -> list[Finding]:
        """Return every finding, those with one common old value given one cause."""
        return grouped([finding for one in self.called for finding in one.findings]) + self.unexpected


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Roll | None:
    """Return all that an estate expects, as far as it is covered."""
    sets = [one for one in atlas.expects.sets.values() if coverage.asks_set(one.name, one.view)]
    zones = [zone for zone in estate.all_zones() if coverage.sees(zone.apex, zone.view)]
    return Roll(sets, atlas, zones) if sets or any(zone.closed for zone in zones) else None


def call(expected: ExpectedSet, atlas: Atlas, sibling: bytes, strangers: Collection[Name]) -> Dialogue[Called]:
    """Ask all servers for one expected set and judge each."""
    looked_up = yield from at_name(expected.name, (expected.rdtype,), expected.view, atlas)
    words = RollWords(expected, looked_up)
    if expected.damaged:  # what is expected here is not known
        return Called(expected, "unverified", [words.damaged()])
    if expected.clash:
        return Called(expected, "differs", [words.clash()])
    if not looked_up.usable:
        return Called(expected, "unverified", [words.unverified()])
    kinds = {telling.server: kind_of(telling, expected) for telling in looked_up.usable}
    wrong = {kind for kind in kinds.values() if kind != RIGHT}
    findings: list[Finding] = []
    wild: bool | None = False
    if not wrong:
        findings += words.other_ttl()
        wild = (yield from _wildcard(expected, looked_up, sibling)) if expected.values else False
        findings += [words.wildcard()] if wild else []
    else:
        hint = ""
        if wrong & {ABSENT_NAME, ABSENT_TYPE} and RIGHT not in kinds.values():
            hint = yield from _registered_as(expected, atlas, strangers)
        standing = (
            (yield from standing_of(looked_up, expected.view, atlas)) if len(set(kinds.values())) > 1 else UNKNOWN
        )
        findings.append(words.fault([kinds[telling.server] for telling in looked_up.usable], hint, standing))
    if looked_up.unverified:
        findings.append(words.unverified())
    outcome: Outcome = "differs" if wrong else "unverified" if looked_up.unverified else "agrees"
    return Called(expected, outcome, findings, unsure=wild is None)


def kind_of(telling: Telling, expected: ExpectedSet) -> str:
    """Return how one usable telling stands to what is expected."""
    values = set(telling.values)
    if expected.gone or expected.absent:
        there = values if expected.gone else values & expected.absent
        if there or (expected.gone and telling.alias is not None):
            return STILL_THERE
        if not expected.values:
            return RIGHT
    if telling.alias is not None and expected.rdtype != CNAME:
        return ALIAS
    if not values:
        return ABSENT_TYPE if telling.exists else ABSENT_NAME
    if expected.values - values:
        return DIFFERENT
    return EXTRA if expected.exact and values - expected.values else RIGHT


def _wildcard(expected: ExpectedSet, looked_up: Lookup, sibling: bytes) -> Dialogue[bool | None]:
    """Return whether the set is not registered itself, but answered by a wildcard with the very same values; None where a
    server that would tell gave no answer.

    A name beside the expected one that cannot exist shows the wildcard. A name below it tells the two apart: what exists
    itself covers what is below it from the wildcard (RFC 4592 section 3.3.1), and what does not exist does not.
    """
    if expected.name == looked_up.authority.zone or expected.name.startswith(b"\x01*"):
        return False
    try:
        beside, below = join((sibling,), parent(expected.name)), join((sibling,), expected.name)
    except Unusable:
        return False
    is_beside = yield from _same_at(beside, expected.rdtype, looked_up)
    if not is_beside:
        return is_beside
    return (yield from _same_at(below, expected.rdtype, looked_up))


def _same_at(name: Name, rdtype: int, looked_up: Lookup) -> Dialogue[bool | None]:
    """Return whether any server gives at a name what it gave at the expected one; None where none does, and one gave no
    answer."""
    answers = yield [Question(name, rdtype, telling.server) for telling in looked_up.usable]
    told = zip(answers, looked_up.usable, strict=True)
    if any(answer.trouble is None and answer.values and answer.values == telling.values for answer, telling in told):
        return True
    return None if any(answer.trouble is not None for answer in answers) else False


def _registered_as(expected: ExpectedSet, atlas: Atlas, strangers: Collection[Name]) -> Dialogue[str]:
    """Under what other name the missing host is registered: by its address's pointer, or by a name that is nearly the same."""
    if expected.rdtype in (A, AAAA):
        for address in sorted(expected.values):
            reverse = reverse_name(address)
            if atlas.known(reverse, expected.view) is None:
                continue
            pointers = yield from lookup(reverse, (PTR,), expected.view, atlas)
            for target in pointers.values:
                if target == expected.name or atlas.known(target, expected.view) is None:
                    continue
                lead = yield from lookup(target, (expected.rdtype,), expected.view, atlas)
                if address in lead.values:
                    return f" {address_text(address)} is registered as {to_text(target)}."
    near = nearest(expected.name, strangers)
    return f" There is {' and '.join(map(to_text, near))}, which are not expected." if near else ""

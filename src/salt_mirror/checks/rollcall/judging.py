"""The roll call: is every expected record registered on every authoritative server of its zone?

Strategy: one dialogue for each expected RRset. Round one puts it to all servers of its zone, and each server is judged by
itself; a set that is right on one server and not on another is the commonest fault after a change, so that is said first.
Only for what is right, a name beside it that cannot exist is asked for, to see whether a wildcard answers; only for an
address that is missing, its pointer, to see under what name the host is registered instead.
"""

from __future__ import annotations

import secrets
from collections import Counter
from collections.abc import Callable, Collection, Iterable

from msgspec.structs import replace

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.lookup import Lookup, Telling, at_name, evidence_of, lookup
from salt_mirror.checks.nearest import nearest
from salt_mirror.checks.rollcall.scope import ExpectedSet
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.names import BadName, Name, join, parent, to_text
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import AAAA, CNAME, PTR, A, rdata_text, record_line, type_text
from salt_mirror.dns.reverse import address_text, reverse_name
from salt_mirror.findings import CATALOGUE, Evidence, Finding, Outcome

MANY = 3
"""So many records with one common old value are told as one cause."""

RIGHT, ABSENT_NAME, ABSENT_TYPE, DIFFERENT, EXTRA, ALIAS, STILL_THERE = (
    "right", "missing-name", "missing-type", "different", "extra", "alias", "still-there",
)  # fmt: skip
_SAID = {
    RIGHT: "as expected",
    ABSENT_NAME: "no such name",
    ABSENT_TYPE: "nothing of this type",
    DIFFERENT: "other values",
    EXTRA: "more than expected",
    ALIAS: "an alias in its place",
    STILL_THERE: "still there",
}


class Called:
    """One expected set and what became of it."""

    __slots__ = ("expected", "findings", "outcome")

    def __init__(self, expected: ExpectedSet, outcome: Outcome, findings: list[Finding]) -> None:
        self.expected = expected
        self.outcome = outcome
        self.findings = findings


class Roll:
    """What has been called so far; it can be read at any time, also after an interrupt."""

    def __init__(self) -> None:
        self.called: list[Called] = []

    def count(self, outcome: Outcome) -> int:
        """How many sets have an outcome."""
        return sum(one.outcome == outcome for one in self.called)

    def findings(self) -> list[Finding]:
        """Every finding, those with one common old value given one cause."""
        return grouped([finding for one in self.called for finding in one.findings])


def call_roll(
    sets: Iterable[ExpectedSet],
    atlas: Atlas,
    runner: Runner,
    roll: Roll,
    tick: Callable[[], None],
    *,
    strangers: Collection[Name] = (),
) -> None:
    """Calls every set; `roll` is filled as results come in. `strangers` are names that exist and nobody expects."""
    sibling = f"no-such-{secrets.token_hex(6)}".encode("ascii")
    for called in runner.run(call(one, atlas, sibling, strangers) for one in sets):
        roll.called.append(called)
        tick()


def call(expected: ExpectedSet, atlas: Atlas, sibling: bytes, strangers: Collection[Name]) -> Dialogue[Called]:
    """Asks all servers for one expected set and judges each."""
    found = yield from at_name(expected.name, (expected.rdtype,), expected.view, atlas)
    words = _Words(expected, found)
    if not found.usable:
        return Called(expected, "unverified", [words.unverified()])
    kinds = {telling.server: kind_of(telling, expected) for telling in found.usable}
    wrong = {kind for kind in kinds.values() if kind != RIGHT}
    findings: list[Finding] = []
    if not wrong:
        findings += words.other_ttl()
        if expected.values and (yield from _wildcard(expected, found, sibling)):
            findings.append(words.wildcard())
    else:
        hint = ""
        if wrong & {ABSENT_NAME, ABSENT_TYPE} and RIGHT not in kinds.values():
            hint = yield from _registered_as(expected, atlas, strangers)
        findings.append(words.fault([kinds[telling.server] for telling in found.usable], hint))
    if found.unverified:
        findings.append(words.unverified())
    outcome: Outcome = "differs" if wrong else "unverified" if found.unverified else "agrees"
    return Called(expected, outcome, findings)


def kind_of(telling: Telling, expected: ExpectedSet) -> str:
    """How one usable telling stands to what is expected."""
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


def _wildcard(expected: ExpectedSet, found: Lookup, sibling: bytes) -> Dialogue[bool]:
    """Whether a name beside the expected one, which cannot exist, has the very same values."""
    if expected.name == found.authority.zone or expected.name.startswith(b"\x01*"):
        return False
    try:
        beside = join((sibling,), parent(expected.name))
    except BadName:
        return False
    answers = yield [Question(beside, expected.rdtype, telling.server) for telling in found.usable]
    return any(
        answer.trouble is None and answer.values and answer.values == telling.values
        for answer, telling in zip(answers, found.usable, strict=True)
    )


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
    return f" There is {' and '.join(map(to_text, near))}, which nobody expects." if near else ""


def grouped(findings: list[Finding]) -> list[Finding]:
    """Gives findings that share an unexpected value one cause, where there are many: something moved, they did not follow."""
    olds = Counter(old for finding in findings for old in _old_values(finding))
    causes = {old: f"{number} record sets still lead to {old}" for old, number in olds.items() if number >= MANY}
    if not causes:
        return findings
    result = []
    for finding in findings:
        old = next((old for old in _old_values(finding) if old in causes), None)
        result.append(finding if old is None else replace(finding, cause=causes[old]))
    return result


def _old_values(finding: Finding) -> set[str]:
    """The values that servers give and nobody expects, as the host or address they lead to."""
    if finding.code not in ("roll.different", "roll.extra", "roll.still-there", "roll.servers-disagree"):
        return set()
    expected = {value.rsplit(" ", 1)[-1] for value in finding.expected}
    told = {value.rsplit(" ", 1)[-1] for one in finding.evidence for value in one.values}
    return told - expected


class _Words:
    """Words the findings about one expected set."""

    def __init__(self, expected: ExpectedSet, found: Lookup) -> None:
        self._expected = expected
        self._found = found
        self._kind = type_text(expected.rdtype)
        self._what = f"{to_text(expected.name)} {self._kind}"

    def _finding(
        self, code: str, text: str, *, outcome: Outcome | None = None, remedy: str = "", cause: str = ""
    ) -> Finding:
        expected, weight = self._expected, CATALOGUE[code].weight
        return Finding(
            code=code,
            weight=weight,
            outcome=outcome or ("differs" if weight == "fault" else "agrees"),
            name=to_text(expected.name),
            type=self._kind,
            view=expected.view,
            expected=self._texts(expected.values),
            evidence=self._evidence(),
            text=text[:-1] if text.endswith("..") else text,
            remedy=remedy,
            cause=cause,
        )

    def _evidence(self) -> list[Evidence]:
        return [evidence_of(answer) for telling in self._found.tellings for answer in telling.answers]

    def _texts(self, values: Iterable[bytes]) -> list[str]:
        return sorted(rdata_text(self._expected.rdtype, value) for value in values)

    def _remedy(self) -> str:
        """The records that would mend it, in master-file syntax, several of them on one line behind each other as comments."""
        expected = self._expected
        there = {value for telling in self._found.usable for value in telling.values}
        if expected.gone or (expected.absent and not expected.values - there):
            gone = there if expected.gone else there & expected.absent
            lines = [record_line(expected.name, expected.rdtype, value) for value in sorted(gone)]
            return "; remove: " + " ; ".join(lines)
        missing = sorted(
            value for value in expected.values if any(value not in telling.values for telling in self._found.usable)
        )
        if not missing:
            spare = sorted(there - expected.values)
            return "; remove: " + " ; ".join(record_line(expected.name, expected.rdtype, value) for value in spare)
        return record_line(expected.name, expected.rdtype, missing[0], expected.ttl) + (
            f" ; and {len(missing) - 1} more of this set" if len(missing) > 1 else ""
        )

    def fault(self, kinds: list[str], hint: str) -> Finding:
        """The set is not as expected on some or all of the servers that answered."""
        by_kind: dict[str, list[Telling]] = {}
        for telling, kind in zip(self._found.usable, kinds, strict=True):
            by_kind.setdefault(kind, []).append(telling)
        if len(by_kind) > 1:
            sides = "; ".join(f"{_SAID[kind]} on {_labels(tellings)}" for kind, tellings in by_kind.items())
            return self._finding("roll.servers-disagree", f"{self._what}: {sides}.{hint}", remedy=self._remedy())
        ((kind, tellings),) = by_kind.items()
        has = ", ".join(self._texts({value for telling in tellings for value in telling.values}))
        wants = ", ".join(self._texts(self._expected.values))
        where = f" on {_labels(tellings)}" if self._found.unverified else ""
        text = {
            ABSENT_NAME: f"{to_text(self._expected.name)} does not exist{where}.",
            ABSENT_TYPE: f"{to_text(self._expected.name)} exists, and has no {self._kind}{where}.",
            DIFFERENT: f"{self._what} is {has}{where}, and {wants} is expected.",
            EXTRA: f"{self._what} is {has}{where}, and only {wants} is expected.",
            ALIAS: f"{to_text(self._expected.name)} is an alias{where}, and {self._kind} {wants} is expected.",
            STILL_THERE: f"{self._what} must be gone, and is still there{where}: {has}.",
        }[kind]
        return self._finding(f"roll.{kind}", text + hint, remedy=self._remedy())

    def other_ttl(self) -> list[Finding]:
        """The values are right, and the TTL is not what the list says."""
        wanted = self._expected.ttl
        ttls = {telling.answers[0].ttl for telling in self._found.usable if telling.values}
        if wanted is None or not ttls or ttls == {wanted}:
            return []
        has = ", ".join(f"{ttl} s" for ttl in sorted(ttl for ttl in ttls if ttl is not None))
        text = f"{self._what} has the TTL {has}, and {wanted} s is expected."
        remedy = record_line(self._expected.name, self._expected.rdtype, min(self._expected.values), wanted)
        return [self._finding("roll.other-ttl", text, remedy=remedy)]

    def wildcard(self) -> Finding:
        """The set is answered by a wildcard, not registered."""
        return self._finding(
            "roll.wildcard",
            f"{self._what} is answered by a wildcard: it would be so for any name, and is not registered itself.",
            remedy=record_line(
                self._expected.name, self._expected.rdtype, min(self._expected.values), self._expected.ttl
            ),
        )

    def unverified(self) -> Finding:
        """Some or all servers gave no usable answer."""
        found = self._found
        why = "; ".join(f"{t.server.label} ({t.server.endpoint}): {t.trouble}" for t in found.unverified)
        why = why or f"no server to ask: {found.trouble}"
        return self._finding("roll.unverified", f"{self._what}: {why}.", outcome="unverified", cause=why)


def _labels(tellings: Iterable[Telling]) -> str:
    return ", ".join(telling.server.label for telling in tellings)

"""The plan proved before anything is sent: judge, plan, lay the plan over the answers, and judge again, until nothing is left.

Strategy: the judge is whoever is given, and always the same one; so what a repair brings with it (a host that moved needs
another pointer) is found and planned like anything else. A set that would cause a new fault is withdrawn and its finding left,
with the reason. Choices come last, so that nobody decides what the rest of the plan has settled.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import NamedTuple, Protocol

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.proposing import fate_of_advice
from salt_mirror.checks.plan.deciding import Decision, decided
from salt_mirror.checks.plan.laying import Laid, LaidOver
from salt_mirror.checks.plan.merging import CONTRADICTS, Merging
from salt_mirror.checks.plan.sets import Left, Plan, PlannedSet, SetKey, set_of, texts
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import type_text
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.forms import address_in
from salt_mirror.findings import About, Change, Fate, Finding

MOST_ROUNDS = 8
MOST_PASSES = 6


class Judge(Protocol):
    """Whoever runs every check over a runner's answers."""

    def __call__(self, runner: Runner, laid: Sequence[Laid] = ()) -> list[Finding]:
        """The findings that stand; zones in hand are to be seen as with some sets `laid` over them."""

    def servers_of(self, view: str, apex: Name) -> tuple[Server, ...]:
        """Return every server that was seen to serve a zone, also those that the estate does not list."""

    def widen(self, sets: Sequence[PlannedSet]) -> bool:
        """Judge from now on also what some sets touch; whether that is more than before."""


def proved(
    judge: Judge,
    runner: Runner,
    atlas: Atlas,
    decisions: Collection[Decision] = (),
    wanted: Callable[[Finding], bool] = lambda _: True,
    lines: Sequence[SetLine] = (),
    *,
    only_adding: bool = False,
) -> Plan:
    """Plans what mends the `wanted` findings, and proves it; `only_adding` takes nothing away. `given` are sets of an older
    plan: then only these are planned. Where the plan touches more than was judged, all is planned anew over that too."""
    while True:
        plan = _proved_once(judge, runner, atlas, decisions, wanted, lines, only_adding=only_adding)
        if not judge.widen(plan.sets):
            return plan


def _proved_once(
    judge: Judge,
    runner: Runner,
    atlas: Atlas,
    decisions: Collection[Decision],
    wanted: Callable[[Finding], bool],
    lines: Sequence[SetLine],
    *,
    only_adding: bool,
) -> Plan:
    findings = last = judge(runner, ())
    older = [set_of(line, None) for line in lines]
    merging = Merging(atlas, {one.key: (one.before, one.after) for one in older}, only_adding=only_adding)
    proof = _Proof(judge, runner, merging, tuple(decisions), wanted, [_change_to(line) for line in lines], findings)
    for _ in range(MOST_PASSES):
        before = {one.key: one.after for one in proof.merging.sets()}
        last = proof.one_pass(last)
        if before == {one.key: one.after for one in proof.merging.sets()}:
            break
    plan = _told(proof, findings, last)
    planned = {one.key for one in plan.sets}
    plan.left_out = {one.key: merging.blocked.get(one.key, "") for one in older if one.key not in planned}
    return plan


class _Proof(NamedTuple):
    """Who judges, what is planned so far, what is wanted; the changes of an older plan, if that is what is planned, and the
    findings of the first judgement, the only ones that a choice settles."""

    judge: Judge
    runner: Runner
    merging: Merging
    decisions: tuple[Decision, ...]
    wanted: Callable[[Finding], bool]
    older: list[Change]
    first: list[Finding]

    def one_pass(self, begin: list[Finding]) -> list[Finding]:
        """Plans on from what stood at the beginning, leaving out sets that would cause new faults; returns what stands then. A
        new fault in which no set has a part was there before, and has only come to light."""
        merging = self.merging
        merging.begin()
        sets = merging.kept()
        planned = {one.key: one.after for one in merging.sets()}
        while True:
            last = self._rounds(begin)
            suspects = {
                planned_set.key: finding
                for finding in _new_faults(begin, last)
                for planned_set in merging.sets()
                if finding.view == planned_set.key.view
                and to_text(planned_set.key.name) in names_of(finding)
                and planned.get(planned_set.key) != planned_set.after
                and not merging.brings_expected(planned_set)
            }
            if not suspects:
                return last
            # Only what is there with a set, and would not be without it, speaks against it.
            without = {_kind(one) for one in _new_faults(begin, self._judged(leave_out=suspects))}
            guilty = {key: finding for key, finding in suspects.items() if _kind(finding) not in without}
            if not guilty:
                return last
            planned_now = {one.key: one for one in merging.sets()}
            for key, finding in guilty.items():
                merging.refuse(key, f"it would cause another fault: {finding.text} {_freed_by(planned_now[key])}")
            merging.back_to(sets)

    def _rounds(self, begin: list[Finding]) -> list[Finding]:
        """Plans until a round brings nothing more; returns what stands then."""
        known = {(finding.code, finding.subject) for finding in begin}
        open_to_decide = {one.subject for one in self.first if one.choices}
        undecided = {
            one_finding.subject
            for one_finding in self.first
            if one_finding.choices and not one_finding.changes and decided(one_finding, self.decisions) is None
        }
        standing = begin
        for _ in range(MOST_ROUNDS):
            ours = [one for one in standing if self.wanted(one) or (one.code, one.subject) not in known]
            # What somebody has not decided is not settled by what the rest of the plan has made of it.
            changes = self.older or [
                change
                for one_finding in ours
                for change in one_finding.changes
                if one_finding.subject not in undecided or change.by == "expected"
            ]
            if not self._take(changes):
                if self.older:
                    break
                asked = [one for one in ours if self.wanted(one) and one.subject in open_to_decide]
                chosen = [choice for one in asked if (choice := decided(one, self.decisions)) is not None]
                if not self._take(changes, [change for choice in chosen for change in choice.changes]):
                    break
            standing = self._judged()
        return standing

    def _judged(self, leave_out: Collection[SetKey] = ()) -> list[Finding]:
        """Return what stands with the sets so far, but for some."""
        laid = [
            (planned, tuple(dict.fromkeys((*servers, *self.judge.servers_of(planned.key.view, planned.key.zone)))))
            for planned, servers in self.merging.laid()
            if planned.key not in leave_out
        ]
        return self.judge(Runner(LaidOver(self.runner, laid)), laid)

    def _take(self, changes: list[Change], chosen: Sequence[Change] = ()) -> bool:
        (done,) = self.runner.run([self.merging.take(changes, chosen)])
        return done


def _freed_by(planned: PlannedSet) -> str:
    """Return what would free a set that was refused: the line of a list, since what the estate expects is never refused."""
    key, come = planned.key, planned.after - planned.before
    wanted = f"{to_text(key.name)} {type_text(key.rdtype)}"
    if come:
        return f"A list that expects `{wanted} {texts(key.rdtype, come)[0]}` frees it."
    return f"A list that expects `{wanted}` to be absent frees it."


def _change_to(line: SetLine) -> Change:
    """Return a set of an older plan as a change: what somebody has looked through counts most."""
    reason = "; ".join(line.reasons) or "planned"
    add = [text for text in line.after if text not in line.before]
    return Change(
        view=line.view, zone=line.zone, name=line.name, type=line.type, ttl=line.ttl_after, add=add,
        remove=[text for text in line.before if text not in line.after], whole=line.after, by="expected", reason=reason,
    )  # fmt: skip


def _new_faults(begin: list[Finding], last: list[Finding]) -> list[Finding]:
    """Return faults about what had none before. A pointer that leads astray is another thing than one that is missing, or an
    address that is not there."""
    faults = {_kind(one) for one in begin if one.weight == "fault"}
    return [one for one in last if one.weight == "fault" and one.outcome == "differs" and _kind(one) not in faults]


def _kind(finding: Finding) -> tuple[About, bool]:
    return finding.subject, finding.code in _ASTRAY


_ASTRAY = frozenset(f"pair.{what}" for what in ("stale-pointer", "lost-pointer", "orphan-pointer", "missing-dot"))


def names_of(finding: Finding) -> set[str]:
    """Return the names that a fault may have come of: those that it is about, its address's too, those at the end of what was
    expected, and those that its evidence asks for. What was expected may end in what is no name."""
    address = address_in(finding.address) if finding.address else None
    pointer = to_text(reverse_name(address)) if address is not None else ""
    asked = (one.question.rpartition(" ")[0] for one in finding.evidence)
    targets = (one.rpartition(" ")[2] for one in finding.expected)
    return {finding.name, finding.owner, pointer, *targets, *asked}


def _told(proof: _Proof, findings: list[Finding], last: list[Finding]) -> Plan:
    merging, decisions, wanted = proof.merging, proof.decisions, proof.wanted
    ours = [one for one in findings if wanted(one) and one.weight != "note" and one.outcome != "unverified"]
    laid = merging.laid()
    plan = Plan([one for one, _ in laid], ours, servers={one.key: servers for one, servers in laid})
    plan.unverified = len({one.subject for one in last if wanted(one) and one.outcome == "unverified"})
    lit = _new_faults(findings, last)
    among_ours = _among(ours)
    left = [one for one in last if one.outcome != "unverified" and (one in lit or among_ours(one))]
    open_ones = {
        finding.subject: finding
        for finding in ours
        if finding.choices and not finding.changes and decided(finding, decisions) is None
    }
    for finding in left:
        if finding.subject in open_ones:
            plan.waiting.append(open_ones[finding.subject])
        elif finding.choices and (decided(finding, decisions) is None or finding in lit):
            plan.waiting.append(finding)
        else:
            plan.not_ours.append(Left(finding, *_why(finding, merging, decisions)))
    among_left = _among(left)
    # A fault about which nothing is known any more is not mended by that.
    doubtful = {one.subject for one in last if one.outcome == "unverified"}
    unknown = [one for one in ours if one.weight == "fault" and one.subject in doubtful and not among_left(one)]
    plan.not_ours += [Left(one, *_why(one, merging, decisions)) for one in unknown]
    plan.mended = [one for one in ours if not among_left(one) and one not in unknown]
    if not (plan.mended or proof.older or any(map(merging.brings_expected, plan.sets))):
        plan.sets = []  # what mends nothing is not planned
    return plan


def _among(findings: list[Finding]) -> Callable[[Finding], bool]:
    """Return whether a finding is one of some; another fault about the same subject is the same in another dress."""
    codes = {(one.code, one.subject) for one in findings}
    subjects = {one.subject for one in findings if one.weight == "fault"}
    return lambda one: (one.code, one.subject) in codes or (one.weight == "fault" and one.subject in subjects)


def _why(finding: Finding, merging: Merging, decisions: Collection[Decision]) -> tuple[str, Fate]:
    """Return why a finding is left standing, and what kind of reason that is."""
    changes = list(finding.changes)
    choice = decided(finding, decisions) if finding.choices else None
    changes += choice.changes if choice is not None else []
    for change in changes:
        key = merging.key_of(change)
        if isinstance(key, str):
            return key, "not ours"
        if key in merging.refused:
            return merging.refused[key], "refused"
        if key in merging.blocked:
            why = merging.blocked[key]
            return why, "contradiction" if why.startswith(CONTRADICTS) else "not ours"
    return finding.advice or catalogue()[finding.code].mend, fate_of_advice(finding.code)

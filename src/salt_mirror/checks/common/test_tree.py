"""Trees of tests: what was tested, what came of it, and why it matters, as plain data that a report can lay out.

Strategy: a test carries its findings with it, and the marks of the tests around it follow from those alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Literal, NamedTuple

import msgspec

from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name
from salt_mirror.findings import Finding, Outcome

Mark = Literal["ok", "note", "caution", "unverified", "fault"]
MARKS: tuple[Mark, ...] = ("ok", "note", "caution", "unverified", "fault")
"""How a test ended, from the best to the worst."""


class Test(msgspec.Struct, frozen=True, kw_only=True):
    """One test with the tests inside it: what was tested, what came of it, and why it matters, each in one line."""

    mark: Mark
    title: str
    says: str = ""
    why: str = ""
    tests: list[Test] = []


class Judged(NamedTuple):
    """A tree of tests, and every finding in it."""

    test: Test
    findings: list[Finding] = []  # noqa: RUF012


def worst(marks: Iterable[Mark]) -> Mark:
    """Return the worst of some marks; `ok` of none."""
    return max(marks, key=MARKS.index, default="ok")


def mark_of(findings: Iterable[Finding], over: Iterable[Lookup]) -> Mark:
    """Return how a test ended that these findings came of, and that rests on some look-ups: over none of them, or over one that
    not every server has answered, nothing is `ok`."""
    rests_on = list(over)
    certain = bool(rests_on) and all(found.certain == "agrees" for found in rests_on)
    return worst(["ok" if certain else "unverified", *marks_told(findings)])


def marks_told(findings: Iterable[Finding]) -> list[Mark]:
    """Return what each finding makes of the test that it came of."""
    return ["unverified" if one.outcome == "unverified" else one.weight for one in findings]


def row(title: str, says: str, findings: Iterable[Finding] = (), mark: Mark | None = None) -> Judged:
    """Return a test without tests inside it, marked by its findings, unless by a `mark` of its own."""
    found = list(findings)
    return Judged(Test(mark=mark or worst(marks_told(found)), title=title, says=says), found)


def outcome_of(mark: Mark) -> Outcome:
    """Return the outcome that a mark stands for."""
    return "differs" if mark == "fault" else "unverified" if mark == "unverified" else "agrees"


InView = tuple[Name, str]
"""A name in a view."""


class Trees(Part):
    """A check at work whose every subject is a tree of tests, for a name in a view.

    `make` gives the dialogues once the zones that are wanted by transfer are there; `size` is how many there will be.
    """

    def __init__(self, make: Callable[[Setting], dict[InView, Dialogue[Judged]]], size: int = 0) -> None:
        super().__init__()
        self.judged: dict[InView, Judged] = {}
        self.size = size
        self._make = make
        self._order: list[InView] = []

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[tuple[InView, Judged]]]]:
        made = self._make(setting)
        self.size = len(made)
        self.judged = {}
        self._order = list(made)
        yield (_keyed(key, dialogue) for key, dialogue in made.items())

    def take(self, result: tuple[InView, Judged]) -> None:
        key, judged = result
        self.judged[key] = judged

    def in_order(self) -> Iterator[tuple[InView, Test]]:
        """Return the trees, in the order in which they were wished for."""
        for key in self._order:
            if key in self.judged:
                yield key, self.judged[key].test

    def verdicts(self) -> Iterator[Verdict]:
        for (name, view), test in self.in_order():
            yield Verdict(name, 0, view, outcome_of(test.mark))

    def findings(self) -> list[Finding]:
        found = [finding for judged in self.judged.values() for finding in judged.findings]
        return list({(one.code, one.view, one.name, one.text): one for one in found}.values())


def _keyed(key: InView, dialogue: Dialogue[Judged]) -> Dialogue[tuple[InView, Judged]]:
    judged = yield from dialogue
    return key, judged

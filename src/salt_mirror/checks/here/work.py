"""`from-here` at work: things that were typed, the whole hosts file, and this computer's own registration, as one part."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from salt_mirror.checks.here.asking import inspect
from salt_mirror.checks.here.hosts import FileSeen, file_tree, look_up, names_in_file
from salt_mirror.checks.here.judging import judge
from salt_mirror.checks.here.own import OwnScope, judged_self
from salt_mirror.checks.here.resolvers import judged_resolvers
from salt_mirror.checks.here.scope import HereScope, Typed
from salt_mirror.checks.part import Part, Setting, Verdict
from salt_mirror.checks.tests import Judged, Test, outcome_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import ROOT, Name
from salt_mirror.findings import Finding


@dataclass(frozen=True, slots=True)
class JudgedSubject:
    """One subject that was judged: a name, its types, its tree."""

    number: int
    name: Name
    rdtype: int
    judged: Judged


class Here(Part):
    """What there is to look at: `typed` names and addresses, the file and the resolvers by themselves (`alone`), this computer
    (`own`)."""

    def __init__(
        self, scope: HereScope, typed: Sequence[Typed], *, alone: bool = False, own: OwnScope | None = None
    ) -> None:
        super().__init__()
        self._scope = scope
        self._typed = list(typed)
        self._own = own
        self._names, self._others = names_in_file(scope) if alone else ([], 0)
        self._alone = alone
        self._file: list[FileSeen] = []
        self._done: list[JudgedSubject] = []
        self.size = len(self._typed) + len(self._names) + (own is not None) + alone
        self.names = 20

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Any]]]:
        yield (self._look(number, one, setting.stranger) for number, one in enumerate(self._typed))
        if self._own is not None:
            yield [self._self(self._own)]
        if self._alone:
            yield [self._resolvers(setting.stranger)]
            yield (look_up(name, self._scope) for name in self._names)

    def _look(self, number: int, typed: Typed, stranger: bytes) -> Dialogue[JudgedSubject]:
        seen = yield from inspect(typed, self._scope, stranger)
        return JudgedSubject(number, seen.name, typed.rdtypes[0], judge(seen, self._scope))

    def _self(self, own: OwnScope) -> Dialogue[JudgedSubject]:
        return JudgedSubject(len(self._typed), own.name, 0, (yield from judged_self(own, self._scope)))

    def _resolvers(self, stranger: bytes) -> Dialogue[JudgedSubject]:
        return JudgedSubject(len(self._typed) + 1, ROOT, 0, (yield from judged_resolvers(self._scope, stranger)))

    def take(self, result: JudgedSubject | FileSeen) -> None:
        if isinstance(result, FileSeen):
            self._file.append(result)
        else:
            self._done.append(result)

    def trees(self) -> list[Test]:
        """What was tested, in the order in which it was asked for."""
        found = [one.judged.test for one in sorted(self._done, key=lambda one: one.number)]
        return [*found, *([file_tree(self._file, self._others, self._scope)] if self._alone else [])]

    def verdicts(self) -> Iterator[Verdict]:
        view = self._scope.view or ""
        for one in self._done:
            yield Verdict(one.name, one.rdtype, view, outcome_of(one.judged.test.mark))
        for seen in self._file:
            yield Verdict(seen.name, 0, view, seen.outcome)

    def findings(self) -> list[Finding]:
        found = [finding for one in self._done for finding in one.judged.findings]
        found += [finding for seen in self._file for finding in seen.findings]
        return list({(one.code, one.name, one.text): one for one in found}.values())

"""A name judged on its way through this computer: a row for each station, and the first that departs.

Strategy: what is right is what the servers of the views say, one or the other where they differ; a view of which not every
server told accuses nobody. Stations are judged in the order in which a name passes them, so that the first finding is the
one that explains what programs get.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from salt_mirror.checks.common.overriding import made_by_itself
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.common.test_tree import Judged, Mark, Test, outcome_of, row, worst
from salt_mirror.checks.common.wording import duration, labels_of, together_said
from salt_mirror.checks.from_here.asking import Heard, HereSeen, Said, ViewAnswers, inspect
from salt_mirror.checks.from_here.hosts import FileSeen, file_tree, hosts_row, look_up, names_in_file
from salt_mirror.checks.from_here.own import OwnScope, judged_self
from salt_mirror.checks.from_here.resolvers import judged_resolvers
from salt_mirror.checks.from_here.scope import HereScope, Typed
from salt_mirror.checks.from_here.wording import HereWords
from salt_mirror.dns.computer.settings import OWN_NAME, Kept
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.records import rdata_from_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding


def judge(seen: HereSeen, scope: HereScope) -> Judged:
    """Return the stations of one name, in their order, as a tree; what it says is the answer in one line."""
    words = HereWords(seen, scope)
    rows = list(_rows(seen, scope, words))
    findings = [finding for row in rows for finding in row.findings]
    mark = worst(row.test.mark for row in rows)
    says = words.answer(rows)
    address = seen.typed.address
    title = address_text(address) if address is not None else to_text(seen.name)
    return Judged(Test(mark=mark, title=title, says=says, tests=[row.test for row in rows]), findings)


def _rows(seen: HereSeen, scope: HereScope, words: HereWords) -> Iterator[Judged]:
    settings = scope.settings
    decided = settings.uses_files
    yield hosts_row(seen, scope, words, decides=decided)
    if seen.typed.address is None:
        yield _order(settings.order, settings.order_place)
        yield _suffixes(seen, scope, words)
    if settings.kept is not None:
        yield _cache(settings.kept, seen, words)
    if seen.kept is not None:
        yield _kept(seen.kept, seen, words)
    living = [one for one in seen.heard if one.said.usable]
    for number, heard in enumerate(seen.heard):
        before = any(later.said.usable for later in seen.heard[number + 1 :])
        first = not any(earlier.said.usable for earlier in seen.heard[:number])
        yield _resolver(heard, seen, scope, words, waited_for=first and (before or not living))
    if mixed := words.mixed(living):
        yield Judged(Test(mark="fault", title="the resolvers, taken together", says="differ"), [mixed])
    if seen.typed.programs is not None:
        yield _programs(seen, scope, words)
    for side in seen.sides:
        yield _side(side, seen, words)


def _order(order: list[str], place: str) -> Judged:
    return row(f"order ({place})", ", then ".join(order) or "none is set")


def _suffixes(seen: HereSeen, scope: HereScope, words: HereWords) -> Judged:
    """Return which names are tried for what was typed, and which of them wins."""
    there = {name for name, said in seen.tried.items() if said.values}
    tried = ", ".join(to_text(one) + (" (there)" if one in there else "") for one in seen.typed.candidates)
    title = f"names tried ({scope.settings.suffix_place})" if scope.settings.suffix_place else "names tried"
    wrong = (
        seen.typed.expected is not None
        and seen.winner is not None
        and seen.winner != seen.name
        and _before(seen.winner, seen.name, seen.typed.candidates)
        and any(side.certain and any(side.alternatives) for side in seen.sides)
    )
    return row(title, tried, [words.suffix_wins()] if wrong else [])


def _before(one: Name, other: Name, order: list[Name]) -> bool:
    return one in order and (other not in order or order.index(one) < order.index(other))


def matched(said: Said, sides: Iterable[ViewAnswers]) -> list[str]:
    """Return the views whose servers say the same."""
    return [side.view for side in sides if said.usable and said.values in side.alternatives]


def departs(said: Said, sides: list[ViewAnswers]) -> bool | None:
    """Return whether a usable answer is what no view's servers say; None where not all of them told."""
    if matched(said, sides):
        return False
    return True if sides and all(side.certain for side in sides) else None


def _resolver(heard: Heard, seen: HereSeen, scope: HereScope, words: HereWords, *, waited_for: bool) -> Judged:
    """Return one configured resolver by itself."""
    said, title = heard.said, f"resolver {heard.station.server.label} ({heard.station.configured.place})"
    if heard.made_up:
        return row(title, "rewrites NXDOMAIN", [words.made_up(heard)])
    if not said.usable:
        if heard.unasked:
            return row(title, said.trouble or "not asked", mark="unverified")
        if not said.heard:
            return row(title, said.trouble or "nothing came back", [words.dead(heard, waited_for=waited_for)])
        if heard.unchecked is not None and heard.unchecked.trouble is None:
            return row(title, "does not validate (DNSSEC)", [words.not_validated(heard)])
        known = all(side.certain for side in seen.sides) and bool(seen.sides)
        says = said.trouble or "no usable answer"
        return row(title, says, [words.not_reached(heard)]) if known else row(title, says, mark="unverified")
    findings = list(_said_wrong(heard, seen, words))
    mark: Mark | None = "unverified" if departs(said, seen.sides) is None else None
    if heard.no_stream:
        findings.append(words.no_stream(heard))
    return row(title, words.said_in_full(heard), findings, mark)


def _said_wrong(heard: Heard, seen: HereSeen, words: HereWords) -> Iterator[Finding]:
    if not departs(heard.said, seen.sides):
        return  # as it should be, or nobody knows what is right, which is told with the authoritative servers
    others = matched(heard.said, seen.others)
    own = made_by_itself(heard.answers, holds_zone=heard.apex is None or heard.apex.authoritative)
    if others:
        yield words.wrong_view(heard, others)
    elif own is not None:
        yield words.overridden(heard, own) if heard.said.values else words.blocked(heard, own)
    elif heard.said.values:
        yield words.old_answer(heard)
    else:
        yield words.elsewhere(heard) if denied_elsewhere(heard.said, seen.sides) else words.cached_no(heard)


def denied_elsewhere(said: Said, sides: list[ViewAnswers]) -> bool:
    """Return whether a "no" comes from the servers of another zone than the name stands in."""
    zones = {side.found.first.zone for side in sides}
    return said.apex is not None and None not in zones and said.apex not in zones


def _cache(kept: list[Kept], seen: HereSeen, words: HereWords) -> Judged:
    """Return what the system's own cache has for a name, where it can be read."""
    own = [one for one in kept if one.name == seen.name and one.rdtype in (0, *seen.typed.rdtypes)]
    if not own:
        return row("this computer's cache", "nothing kept")
    given = frozenset(value for one in own for value in values_of(one))
    ttl = min(one.ttl for one in own)
    said = Said(given, None, True, ttl, None)
    says = f"{words.values_text(sorted(given)) or 'NXDOMAIN or NODATA'}, for another {duration(ttl)}"
    wrong = departs(said, seen.sides) and not any(
        given and given < values for s in seen.sides for values in s.alternatives
    )
    return row("this computer's cache", says, [words.kept_wrong(said)] if wrong else [])


def values_of(kept: Kept) -> Iterator[bytes]:
    """Return the values of an entry of the cache; those that are none are left out."""
    for text in kept.values:
        try:
            yield rdata_from_text(kept.rdtype, text)
        except ValueError:
            continue


def _kept(heard: Heard, seen: HereSeen, words: HereWords) -> Judged:
    """Return what this computer's own resolver says, which is what it keeps."""
    title = f"this computer's own resolver ({heard.station.server.label})"
    if not heard.said.usable and not heard.said.heard:
        return row(title, heard.said.trouble or "nothing came back", [words.dead(heard, waited_for=True)])
    if not heard.said.usable:
        return row(title, heard.said.trouble or "", mark="note")
    behind = {one.said.values for one in seen.heard if one.said.usable}
    wrong = departs(heard.said, seen.sides)
    findings = []
    if wrong and heard.said.values not in behind:  # otherwise those behind it are told of that
        findings = [words.old_answer(heard) if heard.said.values else words.cached_no(heard)]
    return row(title, words.said_in_full(heard), findings)


def _programs(seen: HereSeen, scope: HereScope, words: HereWords) -> Judged:
    """Return what this computer's programs get, held against what the stations before them explain."""
    programs = seen.typed.programs
    assert programs is not None
    got = frozenset(programs.values)
    says = f"{words.values_text(programs.values) or programs.error}, in {programs.took_s:.1f} s"
    title = "programs here get"
    predicted = words.predicted()
    own = seen.name == scope.settings.full_name or seen.typed.text == scope.settings.host
    if predicted is None or (own and any(source in OWN_NAME or source == "resolve" for source in scope.settings.order)):
        return row(title, says)
    unlike = bool(got - predicted) or (not got and bool(predicted))
    return row(title, says, [words.programs_differ(predicted)] if unlike else [])


def _side(side: ViewAnswers, seen: HereSeen, words: HereWords) -> Judged:
    """Return the servers of one view."""
    view = f" of the view {side.view}" if side.view else ""
    if not side.found.tellings:
        why = side.found.trouble or "none is known"
        return row(f"authoritative servers{view}", why, [words.no_truth(side, why)])
    title = f"authoritative servers{view} ({together_said(dict.fromkeys(one.label for one in side.servers))})"
    text = " or ".join(words.values_text(sorted(values)) or "NXDOMAIN or NODATA" for values in side.alternatives)
    silent = [telling.server for telling in side.found.unverified]
    if silent:
        return row(
            title,
            f"{text or 'nothing usable'}; {labels_of(silent)} did not answer",
            [words.no_truth(side, "did not answer")],
        )
    return row(title, text)


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
        """Return what was tested, in the order in which it was asked for."""
        found = [one.judged.test for one in sorted(self._done, key=lambda one: one.number)]
        return [*found, *([file_tree(self._file, self._others, self._scope)] if self._alone else [])]

    def verdicts(self) -> Iterator[Verdict]:
        view = self._scope.view or ""
        for subject in self._done:
            yield Verdict(subject.name, subject.rdtype, view, outcome_of(subject.judged.test.mark))
        for seen in self._file:
            yield Verdict(seen.name, 0, view, seen.outcome)

    def findings(self) -> list[Finding]:
        found = [finding for one in self._done for finding in one.judged.findings]
        found += [finding for seen in self._file for finding in seen.findings]
        return list({(one.code, one.name, one.text): one for one in found}.values())

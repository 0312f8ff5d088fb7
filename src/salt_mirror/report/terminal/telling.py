"""How findings are told on a terminal, from one line to whole, and how much of that there is room for.

Strategy: a fold can be told in several ways, the shortest first. Where all fit whole into a screenful or two, they are told so;
else each is told in short, and the first of them at more length as far as there is room.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from rich.text import Text

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.wording import together_said
from salt_mirror.dns.names import from_text
from salt_mirror.dns.reverse import address_of, address_text
from salt_mirror.findings import Evidence, Finding
from salt_mirror.report.cleaning import clean
from salt_mirror.report.folding import FIRST, KINDS, Fold
from salt_mirror.report.phrases import same_mend

ROOM = 60
"""So many lines of findings are read; a whole report has no such bound."""

_OVER = 12
"""So much over that, before a fold is left out."""

_AT_LEAST = 5
"""So many folds of each kind are told, however many there are of the kinds before."""

_COLOURS = {"fault": "bold red", "caution": "yellow", "note": "cyan"}
_HOW = {"transfer": ", by transfer", "file": ", by the file", "tls": ", over TLS", "https": ", over HTTPS"}
_NO_SUCH_TYPE = "NODATA"

Line = tuple[Text, int]
"""A line and its indent."""


class ToldFold(NamedTuple):
    """A fold as it is told in one of its ways; a long one stands apart from what is before and behind it."""

    fold: Fold
    lines: list[Line]
    whole: bool


class Teller:
    """How the findings of one report are told: with their views, and with what the servers said, where that is wanted."""

    def __init__(self, *, views: bool, evidence: bool, everything: bool) -> None:
        self._views = views
        self._evidence = evidence or everything
        self._everything = everything

    def ways(self, fold: Fold) -> list[Callable[[], ToldFold]]:
        """Return the ways to tell a fold, the shortest first."""
        whole = lambda: ToldFold(fold, self._whole(fold), True)  # noqa: E731
        if self._everything:
            return [whole]
        ways = [lambda: ToldFold(fold, self._short(fold), False)]
        if fold.alone and fold.kind != "unverified":
            said = (Text(clean(fold.findings[0].text)), 8)
            lines = _file_lines(fold.findings)[:1]
            ways.append(lambda: ToldFold(fold, [*self._short(fold), said, *lines], False))
        return [*ways, whole]

    def place(self, finding: Finding) -> str:
        """Return what a finding is about, with its view where there are several."""
        return clean(finding.place) + self._view(finding)

    def _view(self, finding: Finding) -> str:
        return f"  [{clean(finding.view)}]" if self._views and finding.view else ""

    # In short

    def _short(self, fold: Fold) -> list[Line]:
        one_finding = fold.findings[0]
        if fold.cause:
            style = "yellow" if fold.kind == "unverified" else "bold red"
            titles = together_said(dict.fromkeys(titled(one.code).plain for one in fold.findings))
            return [
                (Text.assemble(("cause   ", style), (clean(fold.cause), "bold")), 0),
                (Text(f"{titles}: {fold.first()}{self._view(one_finding)}"), 8),
            ]
        if fold.alone:
            return [(self._head(one_finding), 0)]
        word = "" if fold.kind == "unverified" else fold.kind
        style = _COLOURS.get(fold.kind, "yellow")
        codes = ", ".join(dict.fromkeys(finding.code for finding in fold.findings))
        told = Text.assemble(
            (f"{word:<8}", style),
            (clean(fold.says), "bold"),
            (f" ({codes})", "dim"),
            f"{self._view(one_finding)}{fold.named}",
        )
        return [(told, 0)]

    # Whole

    def _whole(self, fold: Fold) -> list[Line]:
        if fold.kind == "unverified":
            return self._doubts(fold.findings)
        by_cause: dict[str, list[Finding]] = {}
        for finding in fold.findings:
            if finding.cause:
                by_cause.setdefault(finding.cause, []).append(finding)
        lines = [line for cause, findings in by_cause.items() for line in self._cause(cause, findings)]
        for finding in fold.findings:
            if not finding.cause or self._everything:  # told above, with what mends it
                lines += [(Text(), 0), *self._finding(finding)]
        return lines

    def _cause(self, cause: str, findings: Sequence[Finding]) -> list[Line]:
        lines: list[Line] = [(Text(), 0), (Text.assemble(("cause   ", "bold red"), (clean(cause), "bold")), 0)]
        lines += _file_lines(findings)[:FIRST]
        for finding, after in zip(findings, [*findings[1:], None], strict=True):
            lines.append((Text(f"{self.place(finding)}  {titled(finding.code).plain}"), 8))
            if finding.remedy and not same_mend(finding, after):
                lines += self._mend(finding, 16)  # what one change mends is told once
        return lines

    def _head(self, finding: Finding) -> Text:
        return Text.assemble(
            (f"{finding.weight:<8}", _COLOURS[finding.weight]),
            titled(finding.code),
            f"  {self.place(finding)}",
        )

    def _finding(self, finding: Finding) -> list[Line]:
        lines: list[Line] = [(self._head(finding), 0), (Text(clean(finding.text)), 8), *_file_lines([finding])]
        if self._everything or (self._evidence and finding.weight == "fault"):
            lines += [(Text(line, style="dim"), 8) for line in evidence_lines(finding.evidence, finding.type)]
        return lines + (self._mend(finding, 8) if finding.remedy else [])

    def _mend(self, finding: Finding, indent: int) -> list[Line]:
        """Return what would mend a finding, line by line, behind what becomes of that."""
        mark = finding.fate or "mend"
        text = finding.remedy if finding.fate in ("", "planned", "choice") else finding.remedy.removeprefix("; ")
        return [
            (Text.assemble((f"{'' if number else mark:<10}", "green"), clean(line)), indent)
            for number, line in enumerate(text.split("\n"))
        ]

    def _doubts(self, findings: list[Finding]) -> list[Line]:
        lines: list[Line] = []
        by_cause: dict[str, list[Finding]] = {}
        for finding in findings:
            by_cause.setdefault(finding.cause, []).append(finding)
        for cause, members in by_cause.items():
            shown = members if self._everything else members[:FIRST]
            lines += [(Text(), 0), (Text(clean(cause or members[0].text), style="yellow"), 0)]
            lines += [(Text(self.place(one)), 8) for one in shown]
            if len(members) > len(shown):
                lines.append((Text(f"and {len(members) - len(shown):,} more (--all lists them)"), 8))
            lines += [(Text(line, style="dim"), 8) for line in evidence_lines(members[0].evidence, members[0].type)]
        return lines


def _file_lines(findings: Sequence[Finding]) -> list[Line]:
    """Return the lines of files that some findings come of, each once."""
    places = dict.fromkeys(place for one in findings for place in one.lines or () if place.file)
    return [
        (Text.assemble((clean(one.place), "cyan"), f"  {clean(one.says)}" if one.says else ""), 8) for one in places
    ]


class Fitted(NamedTuple):
    """What there is room for: by kind, in the order of the folds; the folds that are left out; whether any is cut short."""

    told: dict[str, list[ToldFold]]
    left: list[Fold]
    short: bool


def fitted(folds: dict[str, list[Fold]], teller: Teller, height: Callable[[Line], int], room: int = ROOM) -> Fitted:
    """Tell folds at such length that all of it takes at most so much `room`; `height` is how many rows a line takes."""
    ways = [(fold, teller.ways(fold)) for kind in KINDS for fold in folds.get(kind, ())]
    headings = 2 * sum(bool(found) for found in folds.values())

    def size(fold: ToldFold) -> int:
        return sum(map(height, fold.lines)) + fold.whole

    whole: list[ToldFold] = []
    used = headings
    for _, some in ways:
        if len(some) > 1 and used > room:
            break
        whole.append(some[-1]())
        used += size(whole[-1]) if len(some) > 1 else 0
    if used <= room:
        return Fitted(_by_kind(whole), [], False)

    kept = _kept([(fold, some[0]()) for fold, some in ways], room + _OVER - headings - 4, size)
    used = headings + 4 + sum(map(size, kept.values()))
    for nth in (1, 2):
        for fold, some in ways:
            if id(fold) in kept and nth < len(some):
                longer = some[nth]()
                more = size(longer) - size(kept[id(fold)])
                if used + more > room:
                    break
                kept[id(fold)] = longer
                used += more
    left = [fold for fold, _ in ways if id(fold) not in kept]
    return Fitted(_by_kind([kept[id(fold)] for fold, _ in ways if id(fold) in kept]), left, True)


def _kept(short: list[tuple[Fold, ToldFold]], room: int, size: Callable[[ToldFold], int]) -> dict[int, ToldFold]:
    """Return the folds that are told at all, by their identity: the largest of each kind first, then what else there is room
    for."""
    largest = sorted(short, key=lambda pair: -len(pair[0].findings))
    first = [pair for kind in KINDS for pair in [pair for pair in largest if pair[0].kind == kind][:_AT_LEAST]]
    rest = sorted(
        (pair for pair in largest if pair not in first),
        key=lambda pair: (KINDS.index(pair[0].kind), -len(pair[0].findings)),
    )
    folds: dict[int, ToldFold] = {}
    used = 0
    for fold, told in [*first, *rest]:
        used += size(told)
        if used > room and folds:
            break
        folds[id(fold)] = told
    return folds


def _by_kind(folds: list[ToldFold]) -> dict[str, list[ToldFold]]:
    found: dict[str, list[ToldFold]] = {}
    for fold in folds:
        found.setdefault(fold.fold.kind, []).append(fold)
    return found


def titled(code: str) -> Text:
    """Return the title of a code, and the code: `explain`, `accept` and `--skip` take it."""
    return Text.assemble((catalogue()[code].title, "bold"), (f" ({code})", "dim"))


def evidence_lines(evidence: Sequence[Evidence], rdtype: str) -> list[str]:
    """Return one line for each thing that was said, with all servers that said it; empty answers of the other family left
    out."""
    said: dict[tuple[str, str, str], list[str]] = {}
    families = {"A": "AAAA", "AAAA": "A"}
    for evidence_line in evidence:
        words = _said(evidence_line)
        if words == _NO_SUCH_TYPE and evidence_line.question.endswith(" " + families.get(rdtype, "-")):
            continue
        how = (
            _HOW.get(evidence_line.over, "")
            if evidence_line.trouble
            else "authoritative" + _HOW.get(evidence_line.over, "")
            if evidence_line.authoritative
            else ""
        )
        key = (_asked(evidence_line.question), words, how)
        said.setdefault(key, []).append(clean(evidence_line.server))
    rows = [
        (", ".join(dict.fromkeys(who)) + (f" ({how})" if how else ""), f"{question}: {words}")
        for (question, words, how), who in said.items()
    ]
    width = max((len(who) for who, _ in rows), default=0)
    return [f"{who:<{width}}  {told}" for who, told in rows]


def _asked(question: str) -> str:
    """Return a question for people: `PTR of 10.77.20.12` in place of the reverse name."""
    name, _, rdtype = question.rpartition(" ")
    address = address_of(from_text(name))
    return f"{rdtype} of {address_text(address) if address is not None else name}"


def _said(evidence: Evidence) -> str:
    if evidence.values:
        return ", ".join(evidence.values)
    if evidence.trouble:
        return evidence.trouble
    return "NXDOMAIN" if evidence.status == "NXDOMAIN" else _NO_SUCH_TYPE

"""The report on a terminal, or as plain text in a pipe: the answer first, then what differs, then what is not known.

Strategy: the same words in both; colour and wrapping come from Rich and only where it finds a terminal. Everything that
came from the network is in RFC 1035 presentation form by now, printable ASCII alone; labels of the estate are cleaned here.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TextIO

from rich.text import Text

from salt_mirror.checks import check_named
from salt_mirror.checks.common.wording import duration, local_moment, many
from salt_mirror.findings import SubjectLine
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import MOST_SHEETS, Report
from salt_mirror.report.folding import Folding, largest
from salt_mirror.report.phrases import since_of, things_said
from salt_mirror.report.terminal.console import console_on, pieces, put_line, width_behind
from salt_mirror.report.terminal.telling import Line, Teller, fitted

_FEW = 6
"""So many findings are told one by one of what is new, and of what is gone; of more, so many folds."""


def print_report(
    report: Report,
    file: TextIO,
    agreeing: Iterable[SubjectLine] = (),
    *,
    several_views: bool = False,
    faults_alone: bool = False,
    everything: bool = False,
) -> None:
    """Print a report: with `faults_alone` the answer and the faults, with `everything` notes and `agreeing` subjects as well.

    With `several_views` each subject is shown with its view.
    """
    page = Page(report, file, several_views=several_views)
    page.answer()
    page.past(everything=everything)
    page.findings(*(["fault"] if faults_alone else ["fault", "unverified", "caution"]), everything=everything)
    if not faults_alone:
        if report.vantages:
            from salt_mirror.report.terminal.vantages import print_vantages

            page.notes(everything=True)
            print_vantages(report.vantages, page.line, file)
        if report.rehearsal:
            from salt_mirror.report.terminal.rehearse import print_rehearsal

            print_rehearsal(report.rehearsal, page.line, file, several_views=several_views, everything=everything)
        if not report.legs and not report.tests and not report.vantages:
            page.rest(agreeing, everything=everything)
        if report.ages:
            from salt_mirror.report.terminal.ages import print_ages

            print_ages(report.ages, page.line)
        if report.tests:
            from salt_mirror.report.terminal.trees import print_tests

            page.notes(everything=everything)
            print_tests(report.tests, page.line, everything=everything)
        if report.legs:
            from salt_mirror.report.terminal.legs import print_legs

            print_legs(report.legs, page.line, file, everything=everything)
        if report.sheets:
            from salt_mirror.report.terminal.sheets import print_sheets

            print_sheets(report.sheets, page.line, file, several_views=several_views, everything=everything)


class Page:
    """A report on its way to a terminal or a pipe, part by part."""

    def __init__(self, report: Report, file: TextIO, *, several_views: bool) -> None:
        self._report = report
        self._console = console_on(file)
        self._wrap = self._console.is_terminal
        self._views = several_views
        self._units = check_named(report.command).units[:2]

    def line(self, text: Text | str = "", indent: int = 0) -> None:
        """Print a line, wrapped behind its indent on a terminal, between words alone."""
        put_line(self._console, text, indent, wrap=self._wrap)

    def _heading(self, words: str, style: str) -> None:
        self.line()
        self.line(Text(words, style=style))

    def answer(self) -> None:
        report = self._report
        style = {"agrees": "bold green", "differs": "bold red", "unverified": "bold yellow"}[report.outcome]
        self.line(Text(report.headline, style=style))
        facts = [report.of, f"{many(report.counts.questions, 'question')} in {report.seconds:.1f} s"]
        if report.counts.spared:
            facts.append(f"{report.counts.spared:,} more answered from transferred zones")
        if report.counts.strays:
            facts.append(
                f"{report.counts.strays:,} stray {'reply' if report.counts.strays == 1 else 'replies'} ignored"
            )
        if report.counts.late:
            facts.append(f"{many(report.counts.late, 'reply', 'replies')} came late")
        facts += [
            many(len(found), weight) for weight in ("fault", "caution", "note") if (found := report.weighing(weight))
        ]
        self.line(Text(" · ".join(map(clean, facts)), style="dim"))
        past = report.history
        if past:
            text = f"since {local_moment(past.before)}: " if past.before is not None else ""
            text = f"{text}{past.says}" if text else "the first run about this in the history"
            self.line(Text(text, style="dim"))
        for remark in report.remarks:
            self.line(Text("Note: " + clean(remark), style="dim"))

    def past(self, *, everything: bool) -> None:
        """How the run stands to the one before: what is new, what is gone, how long faults have stood."""
        report, history = self._report, self._report.past
        if history is None or history.before is None or not (history.new or history.gone):
            return
        self._heading(f"SINCE {local_moment(history.before)}", "bold")
        for word, style, found in (("new", "bold red", history.new), ("gone", "green", history.gone)):
            told = [f"{one.code}  {one.name}  {one.address or one.type}" for one in found]
            if len(found) > _FEW and not everything:
                told, rest = largest(found, self._zones, _FEW)
                told += [f"and {rest:,} more (--all lists them)"] if rest else []
            for text in told:
                self.line(Text.assemble((f"{word:<8}", style), text), 8)
        since = since_of(report)
        ages = [
            (round((report.started - moment).total_seconds()), finding)
            for finding in report.weighing("fault")
            if (moment := since.get(finding.identity)) is not None and moment < report.started
        ]
        if ages:
            longest, finding = max(ages, key=lambda pair: pair[0])
            self.line(
                f"earlier {len(ages)} faults, the oldest for {duration(longest)}: {finding.code} {finding.name}", 8
            )

    @property
    def _zones(self) -> list[tuple[str, str]]:
        audit = self._report.audit
        return [(line.view, line.zone) for line in audit.zones] if audit else []

    def findings(self, *kinds: str, everything: bool) -> None:
        """The findings of some kinds, each whole where all of them are few, or `everything` is wanted; else what fits."""
        report = self._report
        # A whole sheet and a tree of tests show what the servers said; an audit is short, and its reports have it all.
        shown_whole = 0 < len(report.sheets or ()) <= MOST_SHEETS or bool(report.tests or report.audit)
        teller = Teller(views=self._views, evidence=not shown_whole, everything=everything)
        folding = Folding(report.findings, self._zones)
        found = fitted({kind: folding.of_kind(kind) for kind in kinds}, teller, self._height)
        for kind, folds in found.told.items():
            self._heading(self._title(kind), "bold red" if kind == "fault" else "bold yellow")
            after_whole = True
            for one in folds:
                if after_whole and not one.whole:
                    self.line()
                after_whole = one.whole
                for text, indent in one.lines:
                    self.line(text, indent)
        if found.short:
            more = sum(len(fold.findings) for fold in found.left)
            left = (
                f"{many(more, 'more finding')} of {many(len(found.left), 'other kind')} are not shown. " if more else ""
            )
            self.line()
            self.line(Text(f"{left}Shortened to fit: --all shows everything, and so does a --report.", style="dim"))

    def _height(self, line: Line) -> int:
        """Return how many rows a line takes."""
        text, indent = line
        return sum(1 for _ in pieces(text, width_behind(self._console, indent))) if self._wrap else 1

    def _title(self, kind: str) -> str:
        if kind == "unverified":
            findings = self._report.unverified
            subjects = max(self._report.counts.unverified, len({(one.name, one.type, one.view) for one in findings}))
            return f"UNVERIFIED: {many(subjects, *self._units)}"
        found = self._report.weighing(kind)
        new = "NEW " if self._report.rehearsal and self._report.rehearsal.compared else ""
        if kind == "caution":
            return f"{new}CAUTIONS: {len(found):,}"
        return f"{new}FAULTS: {things_said(found) or f'{len(found):,}'}"

    def notes(self, *, everything: bool) -> None:
        """The notes, if everything is wanted."""
        notes = self._report.weighing("note") if everything else []
        if notes:
            self._heading(f"NOTES: {len(notes):,}", "bold cyan")
        for finding in notes:
            self.line(clean(finding.text), 8)

    def rest(self, agreeing: Iterable[SubjectLine], *, everything: bool) -> None:
        report, notes = self._report, self._report.weighing("note")
        if not everything:
            folded = [many(report.counts.agrees, *self._units) + " in agreement"] if report.counts.agrees else []
            folded += [many(len(notes), "note")] if notes else []
            if folded:
                self.line()
                self.line(Text(f"Not shown: {' and '.join(folded)} (--all shows them).", style="dim"))
            return
        self.notes(everything=True)
        if report.counts.agrees:
            self._heading(f"AGREES: {many(report.counts.agrees, *self._units)}", "bold green")
        for subject in agreeing:
            view = f"  [{clean(subject.view)}]" if self._views and subject.view else ""
            self.line(f"{subject.name}  {subject.address or subject.type}{view}", 8)

"""The report on a terminal, or as plain text in a pipe: the answer first, then what differs, then what is not known.

Strategy: the same words in both; colour and wrapping come from Rich and only where it finds a terminal. Everything that
came from the network is in RFC 1035 presentation form by now, printable ASCII alone; labels of the estate are cleaned here.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import groupby
from typing import TextIO

from rich.text import Text

from salt_mirror.catalogue import catalogue
from salt_mirror.checks import check_named
from salt_mirror.checks.wording import many
from salt_mirror.dns.names import from_text
from salt_mirror.dns.reverse import address_of, address_text
from salt_mirror.findings import Evidence, Finding, SubjectLine
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import MOST_SHEETS, Report
from salt_mirror.report.forms.said import same_mend, things_said
from salt_mirror.report.terminal.console import console_on, put_line

_COLOURS = {"fault": "bold red", "caution": "yellow", "note": "cyan"}
_FEW = 3
_HOW = {"transfer": ", by transfer", "tls": ", over TLS", "https": ", over HTTPS"}
_NO_SUCH_TYPE = "nothing of this type"


def print_report(
    report: Report,
    file: TextIO,
    agreeing: Iterable[SubjectLine] = (),
    *,
    several_views: bool = False,
    faults_alone: bool = False,
    everything: bool = False,
) -> None:
    """Prints a report: with `faults_alone` the answer and the faults, with `everything` notes and `agreeing` subjects as well.

    With `several_views` each subject is shown with its view.
    """
    page = Page(report, file, several_views=several_views)
    page.answer()
    page.faults(everything=everything)
    if not faults_alone:
        page.unverified(everything=everything)
        page.cautions(everything=everything)
        if report.vantages:
            from salt_mirror.report.terminal.vantages import print_vantages

            page.notes(everything=True)
            print_vantages(report.vantages, page.line, file)
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
        """Prints a line, wrapped behind its indent on a terminal."""
        put_line(self._console, text, indent, wrap=self._wrap and bool(indent))

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
        for remark in report.remarks:
            self.line(Text("Note: " + clean(remark), style="dim"))

    def faults(self, *, everything: bool) -> None:
        faults = self._report.weighing("fault")
        if faults:
            things = things_said(faults)
            self._heading(f"DIFFERS: {things or many(len(faults), 'fault')}", "bold red")
        causes = [finding.cause for finding in faults]
        for cause in dict.fromkeys(filter(None, causes)):
            self.line()
            self.line(Text.assemble(("cause   ", "bold red"), (clean(cause), "bold")))
            group = [finding for finding in faults if finding.cause == cause]
            for finding, after in zip(group, [*group[1:], None], strict=True):
                self.line(f"{self._place(finding)}  {catalogue()[finding.code].title}", 8)
                if finding.remedy and not same_mend(finding, after):
                    self._mend(finding, 16)  # what one change mends is told once
        # A whole sheet and a tree of tests show what the servers said; an audit is short, and its reports have it all.
        shown_whole = 0 < len(self._report.sheets or ()) <= MOST_SHEETS or bool(
            self._report.tests or self._report.audit
        )
        for finding in faults:
            if finding.cause and not everything:
                continue  # told above, with what mends it
            self.line()
            self._finding(finding, evidence=everything or not shown_whole)

    def _place(self, finding: Finding) -> str:
        return clean(finding.place) + (f"  [{clean(finding.view)}]" if self._views and finding.view else "")

    def cautions(self, *, everything: bool) -> None:
        cautions = self._report.weighing("caution")
        if cautions:
            self._heading(f"WILL BITE: {many(len(cautions), 'caution')}", "bold yellow")
        for finding in cautions:
            self.line()
            self._finding(finding, evidence=everything)

    def _finding(self, finding: Finding, *, evidence: bool) -> None:
        head = Text.assemble(
            (f"{finding.weight:<8}", _COLOURS[finding.weight]),
            (catalogue()[finding.code].title, "bold"),
            f"  {self._place(finding)}",
        )
        self.line(head)
        self.line(clean(finding.text), 8)
        if evidence:
            for line in _evidence_lines(finding.evidence, finding.type):
                self.line(Text(line, style="dim"), 8)
        if finding.remedy:
            self._mend(finding, 8)

    def _mend(self, finding: Finding, indent: int) -> None:
        """What would mend a finding, line by line."""
        for number, line in enumerate(finding.remedy.split("\n")):
            self.line(Text.assemble((f"{'' if number else 'mend':<8}", "green"), clean(line)), indent)

    def unverified(self, *, everything: bool) -> None:
        findings = sorted(self._report.unverified, key=lambda finding: finding.cause)
        if not findings:
            return
        subjects = max(self._report.counts.unverified, len({(one.name, one.type, one.view) for one in findings}))
        self._heading(f"COULD NOT BE VERIFIED: {many(subjects, *self._units)}, and why", "bold yellow")
        for cause, group in groupby(findings, key=lambda finding: finding.cause):
            members = list(group)
            self.line()
            self.line(Text(clean(cause), style="yellow"))
            shown = members if everything else members[:_FEW]
            for finding in shown:
                self.line(self._place(finding), 8)
            if len(members) > len(shown):
                self.line(f"and {len(members) - len(shown):,} more (--all lists them)", 8)
            for line in _evidence_lines(members[0].evidence, members[0].type):
                self.line(Text(line, style="dim"), 8)

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


def _evidence_lines(evidence: Sequence[Evidence], rdtype: str) -> list[str]:
    """One line for each thing that was said, with all servers that said it; empty answers of the other family left out."""
    said: dict[tuple[str, str, str], list[str]] = {}
    families = {"A": "AAAA", "AAAA": "A"}
    for one in evidence:
        words = _said(one)
        if words == _NO_SUCH_TYPE and one.question.endswith(" " + families.get(rdtype, "-")):
            continue
        how = (
            _HOW.get(one.over, "")
            if one.trouble
            else "authoritative" + _HOW.get(one.over, "")
            if one.authoritative
            else ""
        )
        key = (_asked(one.question), words, how)
        said.setdefault(key, []).append(clean(one.server))
    rows = [
        (", ".join(dict.fromkeys(who)) + (f" ({how})" if how else ""), f"{question}: {words}")
        for (question, words, how), who in said.items()
    ]
    width = max((len(who) for who, _ in rows), default=0)
    return [f"{who:<{width}}  {told}" for who, told in rows]


def _asked(question: str) -> str:
    """A question for people: `PTR of 10.77.20.12` in place of the reverse name."""
    name, _, rdtype = question.rpartition(" ")
    address = address_of(from_text(name))
    return f"{rdtype} of {address_text(address) if address is not None else name}"


def _said(one: Evidence) -> str:
    if one.values:
        return ", ".join(one.values)
    if one.trouble:
        return one.trouble
    return "no such name" if one.status == "NXDOMAIN" else _NO_SUCH_TYPE

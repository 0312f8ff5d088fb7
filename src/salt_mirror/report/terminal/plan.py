"""A plan on a terminal: what it mends, then zone by zone what goes and what comes, then what it leaves, and why."""

from __future__ import annotations

from itertools import groupby
from typing import TextIO

from rich.text import Text

from salt_mirror.checks.common.proposing import lines_of
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sending import DONE, WOULD_BE_DONE
from salt_mirror.checks.plan.sheet import FATES, Carried, LeftLine, PlanSheet, SetLine
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report
from salt_mirror.report.terminal.console import console_on, put_line
from salt_mirror.report.terminal.telling import titled

_FEW = 5


class PlanPage:
    """A plan on its way to a terminal or a pipe."""

    def __init__(self, report: Report, file: TextIO, *, several_views: bool, everything: bool) -> None:
        assert isinstance(report.plan, PlanSheet)
        self._report = report
        self._plan = report.plan
        self._console = console_on(file)
        self._views = several_views
        self._all = everything

    def _line(self, text: Text | str = "", indent: int = 0) -> None:
        put_line(self._console, text, indent, wrap=self._console.is_terminal)

    def answer(self, state: str) -> None:
        """The first lines: what it does, and whether it was done (`state`)."""
        style = {"agrees": "bold green", "differs": "bold red", "unverified": "bold yellow"}[self._report.outcome]
        self._line(Text(clean(self._report.headline), style=style))
        asked = f"{many(self._report.counts.questions, 'question')} in {self._report.seconds:.1f} s"
        self._line(Text(clean(" · ".join((self._report.of, asked, state))), style="dim"))
        for remark in self._report.remarks:
            self._line(Text(f"Note: {clean(remark)}", style="dim"))

    def changes(self) -> None:
        """What goes and what comes, zone by zone, in the order in which it is sent."""
        if not self._plan.changes:
            return
        self._line()
        word = "CHANGES" if self._plan.carried else "PLANNED"
        number = many(len(self._plan.changes), "change")
        self._line(Text(f"{word}, in the order of sending: {number}", style="bold green"))
        for (view, zone, server), group in groupby(
            self._plan.changes, key=lambda one: (one.view, one.zone, one.server)
        ):
            sets = list(group)
            where = f"  [{clean(view)}]" if self._views and view else ""
            by = f", sent to {server}" if server else ", no server known that takes changes"
            self._line()
            self._line(Text.assemble((f"{zone}{where}", "bold"), f"  {many(len(sets), 'change')}{clean(by)}"))
            for line in sets:
                self._set(line)

    def _set(self, line: SetLine) -> None:
        why = f"  ({clean('; '.join(line.reasons))})" if line.reasons else ""
        self._line(Text.assemble((f"{line.name} {line.type}", "bold"), (why, "dim")), 4)
        for text in line.gone:
            self._line(Text(f"- {_record(line.ttl_before, text)}", style="bright_red"), 8)
        for text in line.come:
            self._line(Text(f"+ {_record(line.ttl_after, text)}", style="green"), 8)
        kept = len(line.before) - len(line.gone)
        if kept:
            self._line(
                Text(f"  {many(kept, 'other record')} of the set {'stays' if kept == 1 else 'stay'}", style="dim"), 8
            )

    def left(self) -> None:
        """What the plan leaves, and why."""
        self._undone(
            f"LEFT OUT: {many(len(self._plan.left_out), 'change')} of the older plan, and why", self._plan.left_out
        )
        for fate, title in FATES.items():
            lines = [one for one in self._plan.not_ours if one.fate == fate]
            self._group(f"{title}: {len(lines):,}", "bold yellow", lines)
        if not self._plan.waiting:
            return
        self._line()
        self._line(Text(f"NEEDS A DECISION: {len(self._plan.waiting):,}", style="bold yellow"))
        self._line(Text("(--choose remove or register settles all, a line in a --decisions file each)", style="dim"))
        for left_line in self._plan.waiting:
            self._line()
            self._line(self._head(left_line))
            self._line(clean(left_line.text), 8)
            for choice in left_line.choices:
                self._line(Text.assemble((f"{choice.word:<10}", "bold"), clean(choice.says)), 8)
                for change in choice.changes:
                    for line in lines_of(change):
                        gone = line.startswith("; remove: ")
                        text = f"- {line.removeprefix('; remove: ')}" if gone else f"+ {line}"
                        self._line(Text(text, style="bright_red" if gone else "green"), 18)

    def _group(self, title: str, style: str, lines: list[LeftLine]) -> None:
        if not lines:
            return
        self._line()
        self._line(Text(title, style=style))
        told: dict[str, list[LeftLine]] = {}
        for left_line in lines:
            told.setdefault(left_line.says, []).append(left_line)
        for says, group in told.items():
            self._line()
            for left_line in group if self._all else group[:_FEW]:
                self._line(self._head(left_line))
            if len(group) > _FEW and not self._all:
                self._line(f"and {len(group) - _FEW:,} more (--all lists them)", 8)
            self._line(Text.assemble(("advice  ", "green"), clean(says)), 8)

    def _head(self, left_line: LeftLine) -> Text:
        view = f"  [{clean(left_line.view)}]" if self._views and left_line.view else ""
        style = "bold red" if left_line.weight == "fault" else "yellow"
        return Text.assemble(
            (f"{left_line.weight:<8}", style),
            titled(left_line.code),
            f"  {left_line.name}  {left_line.address or left_line.type}{view}",
        )

    def carried(self) -> None:
        """What became of the changes that were sent."""
        undone = [one for one in self._plan.carried if one.outcome != "agrees"]
        self._undone(f"NOT DONE: {many(len(undone), 'change')}, and why", undone)
        for says in dict.fromkeys(
            carried_set.says
            for carried_set in self._plan.carried
            if carried_set.outcome == "agrees" and carried_set.says not in (DONE, WOULD_BE_DONE)
        ):
            self._line()
            self._line(Text(clean(says), style="yellow"))
        if self._plan.late:
            self._line()
            self._line(Text("NOT EVERYWHERE YET", style="bold yellow"))
            for late in self._plan.late:
                self._line(clean(late), 8)
        if self._plan.undo:
            self._line()
            self._line(Text(clean(f"The way back: salt-mirror mend --back {self._plan.undo}"), style="dim"))

    def _undone(self, title: str, sets: list[Carried]) -> None:
        """Sets that are not changed, those with one reason together."""
        if not sets:
            return
        self._line()
        self._line(Text(title, style="bold red"))
        told: dict[str, list[Carried]] = {}
        for carried_set in sets:
            told.setdefault(carried_set.says, []).append(carried_set)
        for says, group in told.items():
            self._line()
            self._line(Text(clean(says), style="yellow"))
            for carried_set in group if self._all else group[:_FEW]:
                view = f"  [{clean(carried_set.view)}]" if self._views and carried_set.view else ""
                self._line(f"{carried_set.name}  {carried_set.type}{view}", 8)
            if len(group) > _FEW and not self._all:
                self._line(f"and {len(group) - _FEW:,} more (--all lists them)", 8)


def _record(ttl: int | None, text: str) -> str:
    return f"{ttl} {text}" if ttl is not None else text

"""Changes that are sent by a command: agreed to, with the way back written down, waited for, and shown.

Strategy: what `mend` has in common whether it goes on or back. Nothing is sent that nobody has agreed to.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn

import typer

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.deciding import Decision
from salt_mirror.checks.plan.sets import PlannedSet, SetKey
from salt_mirror.checks.plan.sheet import PlanSheet
from salt_mirror.cli.execution import Progress, Ran
from salt_mirror.cli.finishing import reading_order
from salt_mirror.cli.mend.apply import Applying, await_servers
from salt_mirror.cli.messages import INTERRUPTED, UNWRITTEN, tell
from salt_mirror.cli.options import Asking, Showing
from salt_mirror.cli.outputs import parse_reports, wanted_files, written
from salt_mirror.dns.dialogue import Near
from salt_mirror.dns.questions import Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import STANDARD_STREAM
from salt_mirror.findings import Finding
from salt_mirror.keeping.undo import UndoFile, check_new
from salt_mirror.report.document import Counts, Report, now


@dataclass(frozen=True, slots=True)
class MendWish:
    """What the command line wants."""

    names: list[str]
    only: list[str]
    skip: list[str]
    taken: Path | None
    decisions: tuple[Decision, ...]
    write: Path | None
    zone_files: list[str]
    apply: bool
    yes: bool
    at_most: int | None
    undo: Path | None
    within_s: float
    only_adding: bool = False
    trial: bool = False
    valid_s: float | None = None
    phase: str | None = None


TICKETS = ("markdown", "html", "json")
"""The forms in which a plan is written for whoever has to approve it."""


def check_tickets(showing: Showing) -> None:
    """Raise BadInput for a report that no plan has, or that could not be written."""
    for form, path in parse_reports(showing.report or []):
        if form not in TICKETS:
            raise BadInput(f"--report: a plan is written as {', '.join(TICKETS)}, and not as {form}")
        if str(path) == STANDARD_STREAM:
            raise BadInput("--report: a plan is printed on standard output; name a file for the ticket")


class Sender:
    """What sends changes. Raises BadInput where nobody could agree to them, or the way back could not be kept."""

    def __init__(self, estate: Estate, wish: MendWish, asking: Asking, showing: Showing) -> None:
        self._estate = estate
        self._wish = wish
        self._asking = asking
        self._showing = showing
        self._remarks: list[str] = []
        self._interrupted = False
        self._unwritten = False
        self._undo = wish.undo or Path(f"mend-{now():%Y%m%dT%H%M%SZ}.undo")
        if wish.apply:
            check_new(self._undo)
        if wish.apply and showing.json and not wish.yes:
            raise BadInput("--json prints one document, at the end: changes are then sent without asking, with --yes")
        if wish.apply and not wish.yes and not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise BadInput("there is no terminal to ask on: --yes sends changes without asking")

    def _tried(self, atlas: Atlas, engine: Near, sets: list[PlannedSet]) -> tuple[Applying, str]:
        """Send every message with changes that change nothing, and say how many would be carried out."""
        applying = Applying(atlas, engine, None, timeout_s=self._asking.timeout * 5)
        try:
            applying.carry_out(sets)
        except KeyboardInterrupt:
            tell("interrupted: nothing was changed")
            raise typer.Exit(INTERRUPTED) from None
        would = sum(one.outcome == "agrees" for one in applying.outcomes)
        return applying, f"{would:,} of {many(len(sets), 'change')} would be carried out; nothing was changed."

    def _carried_out(
        self, atlas: Atlas, engine: Near, sets: list[PlannedSet], servers: dict[SetKey, tuple[Server, ...]]
    ) -> tuple[Applying, dict[str, int]]:
        """Send changes with the way back written down, and wait for the servers."""
        # Said first, so that it is known also if this process is killed.
        tell(f"the way back is in {self._undo}: salt-mirror mend --back {self._undo}")
        undo = UndoFile(self._undo, f"{now():%Y-%m-%dT%H:%M:%SZ}", str(self._estate.path or ""), sets)
        applying = Applying(atlas, engine, undo, timeout_s=self._asking.timeout * 5)
        try:
            applying.carry_out(sets)
        except KeyboardInterrupt:
            done = many(len(applying.done), "change")
            tell(f"interrupted: {done} were carried out; mend --back {self._undo} goes back, mend goes on")
            raise typer.Exit(INTERRUPTED) from None
        finally:
            undo.close()
        if applying.stopped:
            self._unwritten = True
            tell(
                f"{applying.stopped}; {many(applying.sent, 'message')} had been sent: mend --back {self._undo} goes back"
            )
        progress = Progress(0, "answers from servers that have to follow")
        told = [(one, servers.get(one.key, ())) for one in applying.done]
        try:
            late, missing = await_servers(told, engine, self._wish.within_s, progress.tick)
            applying.take_back(missing)
            return applying, late
        except KeyboardInterrupt:
            self._interrupted = True
            return applying, {"the wait was interrupted: which servers have it is not known": len(applying.done)}
        finally:
            progress.end()

    def _end(self, status: int) -> NoReturn:
        """End the command, by what kept it from its own end where something did."""
        raise typer.Exit(INTERRUPTED if self._interrupted else UNWRITTEN if self._unwritten else status)

    def _agree(self, question: str) -> None:
        if self._wish.yes:
            return
        tell(f"{question} y sends, anything else does not.", begin="")
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            tell("nothing was sent")
            raise typer.Exit(1)

    def _report(
        self, ran: Ran, findings: Iterable[Finding], sheet: PlanSheet, says: str, mended: int, unverified: int = 0
    ) -> Report:
        told = sorted(findings, key=reading_order)
        differs = sum(one.weight == "fault" and one.outcome == "differs" for one in told)
        undone = any(one.outcome != "agrees" for one in sheet.carried)
        doubts = unverified + sum(one.outcome == "unverified" for one in told)
        return Report(
            command="mend",
            title=self._estate.title,
            estate=str(self._estate.path) if self._estate.path else None,
            started=ran.started,
            seconds=ran.seconds,
            outcome="differs" if differs or undone else "unverified" if doubts or sheet.late else "agrees",
            counts=Counts(agrees=mended, differs=differs, unverified=doubts, questions=ran.questions),
            remarks=[*self._remarks, *ran.remarks],
            interrupted=ran.interrupted or self._interrupted,
            says=says,
            findings=told,
            plan=sheet,
        )

    def _show(self, report: Report, state: str, *, whole: bool) -> None:
        """Print a report, and write its tickets; without `whole`, what was shown before is not shown again."""
        for problem in written(report, wanted_files(self._showing)):
            self._unwritten = True
            tell(problem)
        if self._showing.json:
            if whole or not self._wish.apply or (report.plan and report.plan.carried):
                from salt_mirror.report.json.report import as_json

                sys.stdout.buffer.writelines(as_json(report, ()))
            return
        from salt_mirror.report.terminal.plan import PlanPage

        page = PlanPage(report, sys.stdout, several_views=len(self._estate.views) > 1, everything=self._showing.all)
        page.answer(state)
        if whole:
            page.changes()
            page.left()
        page.carried()
        sys.stdout.flush()

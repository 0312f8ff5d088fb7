"""What `settle` shows: the screen while it watches, the report and the figure at its end."""

from __future__ import annotations

import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import NoReturn, TextIO

import typer

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.budget import budget_of, inspect_budget
from salt_mirror.checks.settling.watch import Goal, Sighting, Slot, Watch
from salt_mirror.checks.settling.wording import event_text, findings_of, headline, local, rows_of
from salt_mirror.keeping.journal import Journal, Line
from salt_mirror.cli.following import Screen
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome
from salt_mirror.report.document import Counts, Report, as_json

_MOST_BUDGETED = 50


def bound_of(goals: list[Goal], view: str, atlas: Atlas, engine: Engine) -> int | None:
    """How long a cache may keep the old state, in seconds, from the authoritative servers; None when they do not tell."""
    now = datetime.now(UTC)
    kept = []
    for seen in Runner(engine).run(
        inspect_budget(goal.name, goal.rdtype, view, atlas) for goal in goals[:_MOST_BUDGETED]
    ):
        try:
            kept.append(budget_of(seen, now, now).kept_s)
        except ValueError:
            continue
    return max(kept, default=None)


def screen_for(what: str, file: TextIO, watch: Watch, *, json: bool) -> tuple[Screen, Callable[[], None]]:
    """Who is told of events: a live view on a terminal, plain lines in a pipe, nobody with `json`; and how that ends."""
    if json:
        return Screen(lambda _: None, lambda _: None), lambda: None
    if file.isatty():
        from salt_mirror.report.terminal.vantages import LiveView

        live = LiveView(what)
        return Screen(lambda _: None, live.look), live.end
    several = len({slot.goal for slot in watch.slots}) > 1

    def news(slot: Slot) -> None:
        file.write(f"{local(watch.now)}  {event_text(slot, several)}\n")
        file.flush()

    return Screen(news, lambda _: None), lambda: None


class Finish:
    """Keeps what was seen, and turns it into a figure and a report."""

    def __init__(
        self,
        estate: Estate,
        goals: list[Goal],
        watch: Watch,
        what: str,
        bound_s: int | None,
        past: list[Line],
    ) -> None:
        self._estate = estate
        self._watch = watch
        self._what = what
        self._bound_s = bound_s
        self._numbers = {goal: number for number, goal in enumerate(goals)}
        self._seen: list[tuple[float, str, bool, int, str, bool]] = [
            (one.at, one.vantage, one.kind == "cache", one.goal, one.state, one.settled) for one in past
        ]

    def recorder(self, journal: Journal | None) -> Callable[[Slot, Sighting], None]:
        """What is told of every sighting."""

        def record(slot: Slot, sighting: Sighting) -> None:
            vantage = slot.vantage
            self._seen.append(
                (
                    sighting.at,
                    vantage.server.label,
                    vantage.cache,
                    self._numbers[slot.goal],
                    slot.state,
                    slot.settled_at is not None,
                )
            )
            if journal is not None:
                journal.add(slot, sighting)

        return record

    def draw(self, path: Path) -> None:
        """Draws the figure. Raises BadInput."""
        from salt_mirror.report.figure import Bound, Seen, draw

        slots: dict[tuple[str, bool], int] = {}
        for slot in self._watch.slots:
            key = (slot.vantage.server.label, slot.vantage.cache)
            slots[key] = slots.get(key, 0) + 1
        ready = max(self._watch.ready_at.values(), default=None)
        bound = None
        if ready is not None and self._bound_s is not None and any(cache for _, cache in slots):
            bound = Bound(
                ready + self._bound_s, f"the last cache must have let go ({self._bound_s} s after the last server)"
            )
        try:
            draw(
                path,
                f"{self._what}: {headline(self._watch)}",
                [Seen(*one) for one in self._seen],
                slots,
                self._watch.began_at,
                bound,
            )
        except OSError as error:
            raise BadInput(f"--figure: {path} cannot be written: {error.strerror or error}") from None

    def report(self, file: TextIO, *, json: bool, interrupted: bool, strays: int) -> NoReturn:
        """Prints the report and ends the program with its exit status."""
        watch = self._watch
        rows = rows_of(watch)
        findings = sorted(findings_of(watch), key=_order)
        outcomes: list[Outcome] = []
        for row in rows:
            differs = {"old", "no", "new"} & set(row.states) and not row.settled
            outcomes.append("agrees" if row.settled else "differs" if differs else "unverified")
        counts = Counts(
            agrees=outcomes.count("agrees"),
            differs=outcomes.count("differs"),
            unverified=outcomes.count("unverified"),
            questions=sum(slot.asked for slot in watch.slots),
            strays=strays,
        )
        report = Report(
            command="settle",
            title=self._estate.title,
            estate=str(self._estate.path) if self._estate.path else None,
            started=datetime.fromtimestamp(watch.began_at, UTC).replace(microsecond=0),
            seconds=round(watch.now - watch.began_at, 3),
            outcome="differs" if counts.differs else "unverified" if counts.unverified else "agrees",
            counts=counts,
            interrupted=interrupted,
            says=headline(watch),
            vantages=rows,
            findings=findings,
        )
        if json:
            sys.stdout.buffer.writelines(as_json(report, ()))
        else:
            from salt_mirror.report.terminal.page import print_report

            print_report(report, file)
        raise typer.Exit(report.exit_status())


def _order(finding: Finding) -> tuple[bool, str, str]:
    return finding.weight != "fault", finding.code, finding.name

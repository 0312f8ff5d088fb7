"""A watch that is followed: the loop between the watch, the engine and the screen, and what is shown and kept of it.

Strategy: the watch says what is due and the engine asks it; a moment later it is told what came. The clock is the monotonic
one, set to the time of day once, so that nobody who sets the computer's clock disturbs a watch.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import NoReturn, TextIO

import typer

from salt_mirror.checks.budget.judging import budget_of, inspect_budget
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import lookup
from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Sighting, Slot, Watch, sighting_of
from salt_mirror.checks.settle.rows import rows_of
from salt_mirror.checks.settle.wording import event_text, findings_of, headline, local
from salt_mirror.cli.engines import engine_of
from salt_mirror.cli.finishing import status_of
from salt_mirror.cli.messages import UNDELIVERED, tell
from salt_mirror.cli.options import Asking, Showing
from salt_mirror.dns.dialogue import Near, Runner
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Question
from salt_mirror.estate.model import Estate
from salt_mirror.estate.notify import Channel
from salt_mirror.findings import Finding, Outcome
from salt_mirror.keeping.journal import Journal, Line
from salt_mirror.keeping.writing import write_whole
from salt_mirror.report.document import Counts, Report
from salt_mirror.report.figures.watch import Dot
from salt_mirror.report.json.report import as_json

_LOOK_S = 0.2
"""The longest time in which nothing is drawn or looked at."""


class Clock:
    """Seconds since 1970, that never go back. With a `speed` they go by so many times as fast (for the demo's world)."""

    def __init__(self, speed: float = 1.0) -> None:
        self.speed = speed
        self._wall = time.time()
        self._begin = time.monotonic()

    def __call__(self) -> float:
        return self._wall + (time.monotonic() - self._begin) * self.speed


@dataclass(slots=True)
class Screen:
    """Who is told of what happens: `news` of each event, `look` every moment."""

    news: Callable[[Slot], None]
    look: Callable[[Watch], None]


def follow(
    watch: Watch,
    engine: Near,
    clock: Clock,
    screen: Screen,
    *,
    within_s: float | None,
    record: Callable[[Slot, Sighting], None],
    beyond: Beyond | None = None,
) -> bool:
    """Follow a watch until all have settled, nobody is left but the silent, or the time is over; True when it was."""
    under_way: dict[Question, list[Slot]] = {}
    over_at = watch.began_at + within_s if within_s is not None else None
    while not watch.done and not watch.hopeless:
        now = clock()
        if over_at is not None and now >= over_at:
            return True
        for slot in list(watch.due(now)):
            question = Question(slot.goal.name, slot.goal.rdtype, slot.vantage.server, watch.recurses(slot))
            if question not in under_way:
                engine.submit(question)
            under_way.setdefault(question, []).append(slot)  # one server may be watched as an authority and as a cache
        screen.look(watch)
        due = watch.next_due()
        wait = _LOOK_S if due is None else min(_LOOK_S, max(0.0, (due - clock()) / clock.speed))
        if engine.backlog:
            for answer in engine.collect(wait):
                for slot in under_way.pop(answer.question):
                    peeked = slot.vantage.cache and not answer.question.recurse
                    sighting = sighting_of(answer, clock(), peeked=peeked, through=slot.goal.through)
                    if sighting.beyond is not None:
                        sighting = _ended(sighting, slot, beyond)
                    if watch.take(slot, sighting):
                        screen.news(slot)
                    record(slot, sighting)
        else:
            time.sleep(min(wait, _LOOK_S) or 0.001)
    screen.look(watch)
    return False


def _ended(sighting: Sighting, slot: Slot, beyond: Beyond | None) -> Sighting:
    """Return a sighting of a chain that goes on elsewhere, at its end: a cache's client gets nothing there, and for an
    authoritative server the servers of the target speak."""
    assert sighting.beyond is not None
    if slot.vantage.cache or beyond is None:
        where = to_text(sighting.beyond)
        return replace(
            sighting, values=(), trouble=None if sighting.peeked else f"its answer ends at the alias {where}"
        )
    values, ttl, trouble = beyond.end(sighting.beyond, slot.goal.rdtype)
    return replace(sighting, values=values, ttl=max(filter(None, (sighting.ttl, ttl)), default=None), trouble=trouble)


class Beyond:
    """What is at the end of aliases that lead out of the zones of a server, from the target's own servers."""

    def __init__(self, view: str, atlas: Atlas, asking: Asking) -> None:
        self._view = view
        self._atlas = atlas
        self._asking = asking
        self._known: dict[tuple[Name, int], tuple[float, tuple[tuple[bytes, ...], int | None, str | None]]] = {}

    def end(self, name: Name, rdtype: int) -> tuple[tuple[bytes, ...], int | None, str | None]:
        """Return the values there, their TTL in seconds, and why they are not known. What servers say is kept for a second."""
        known = self._known.get((name, rdtype))
        if known is not None and time.monotonic() - known[0] < 1.0:
            return known[1]
        # An engine of its own: the watch's has questions under way, whose answers are the watch's.
        with engine_of(self._asking) as engine:
            (looked_up,) = Runner(engine).run([lookup(name, (rdtype,), self._view, self._atlas)])
        trouble = looked_up.trouble
        if looked_up.divided or (looked_up.unverified and trouble is None):
            text = "; ".join(f"{one.server.label}: {one.trouble}" for one in looked_up.unverified)
            trouble = (
                f"{to_text(name)}, where its alias leads, is not the same on all of its servers{text and ': '}{text}"
            )
        ttl = next((one.answers[0].ttl for one in looked_up.usable if one.answers), None)
        end = (looked_up.values if trouble is None else (), ttl, trouble)
        self._known[name, rdtype] = time.monotonic(), end
        return end


_MOST_BUDGETED = 50


def bound_of(goals: list[Goal], view: str, atlas: Atlas, engine: Near) -> int | None:
    """Return how long a cache may keep the old state, in seconds, from the authoritative servers; None when they do not
    tell."""
    now = datetime.now(UTC)
    numbers = []
    for seen in Runner(engine, most=atlas.estate.bounds.questions_for_a_name).run(
        inspect_budget(goal.name, goal.rdtype, view, atlas) for goal in goals[:_MOST_BUDGETED]
    ):
        try:
            numbers.append(budget_of(seen, now, now).kept_s)
        except ValueError:
            continue
    return max(numbers, default=None)


def screen_for(what: str, file: TextIO, watch: Watch, *, json: bool) -> tuple[Screen, Callable[[], None]]:
    """Return who is told of events: a live view on a terminal, plain lines in a pipe, nobody with `json`; and how that ends."""
    if json:
        return Screen(lambda _: None, lambda _: None), lambda: None
    if file.isatty():
        from salt_mirror.report.terminal.vantages import LiveView

        live = LiveView(what)
        return Screen(lambda _: None, live.look), live.end
    several = len({slot.goal for slot in watch.slots}) > 1
    if len(watch.slots) > _MOST_TOLD:
        return Screen(_Shares(watch, file).news, lambda _: None), lambda: None

    def news(slot: Slot) -> None:
        tell(f"{local(watch.now)}  {event_text(slot, several)}", begin="", file=file)

    return Screen(news, lambda _: None), lambda: None


_MOST_TOLD = 100
"""Of so many records and places each event is a line of its own; of more, each tenth that has settled."""


class _Shares:
    """Says how far a large watch has come: a line for each tenth, and one for each place that has everything."""

    def __init__(self, watch: Watch, file: TextIO) -> None:
        self._watch = watch
        self._file = file
        self._tenths = 0
        self._left = Counter(slot.vantage.server.label for slot in watch.slots)
        self._settled: set[int] = set()

    def news(self, slot: Slot) -> None:
        """Take an event in, and say what it brings."""
        if slot.settled_at is None or id(slot) in self._settled:
            return
        self._settled.add(id(slot))
        label, total, done = slot.vantage.server.label, len(self._watch.slots), len(self._settled)
        self._left[label] -= 1
        if not self._left[label]:
            self._tell(f"{label} has everything")
        if done * 10 // total > self._tenths:
            self._tenths = done * 10 // total
            self._tell(f"{done:,} of {total:,} have settled ({10 * self._tenths} %)")

    def _tell(self, text: str) -> None:
        tell(f"{local(self._watch.now)}  {text}", begin="", file=self._file)


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
        remarks: list[str],
    ) -> None:
        self._estate = estate
        self._watch = watch
        self._what = what
        self._bound_s = bound_s
        self._remarks = remarks
        self._numbers = {goal: number for number, goal in enumerate(goals)}
        self._dots: list[Dot] = [
            Dot(line.at, line.vantage, line.kind == "cache", line.goal, line.state, line.settled) for line in past
        ]

    def recorder(self, journal: Journal | None) -> Callable[[Slot, Sighting], None]:
        """Return what is told of every sighting."""

        def record(slot: Slot, sighting: Sighting) -> None:
            vantage = slot.vantage
            self._dots.append(
                Dot(
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
        """Draw the figure. Raises BadInput."""
        from salt_mirror.report.figures.watch import Bound, draw

        slots: dict[tuple[str, bool], int] = {}
        for slot in self._watch.slots:
            key = (slot.vantage.server.label, slot.vantage.cache)
            slots[key] = slots.get(key, 0) + 1
        ready = max(self._watch.ready_at.values(), default=None)
        bound = None
        if ready is not None and self._bound_s is not None and any(cache for _, cache in slots):
            bound = Bound(
                ready + self._bound_s, f"the last cache entry expires ({self._bound_s} s after the last server)"
            )
        title = f"{self._what}: {headline(self._watch)}"
        drawn = draw(path.suffix[1:].lower(), title, self._dots, slots, self._watch.began_at, self._watch.now, bound)
        write_whole(path, drawn, "--figure")

    def report(
        self,
        file: TextIO,
        *,
        json: bool,
        interrupted: bool,
        strays: int,
        late: int,
        failed: list[str],
        channels: Sequence[Channel] = (),
    ) -> NoReturn:
        """Print the report, send it to channels, and end the program with its exit status."""
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
            late=late,
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
            remarks=self._remarks,
            says=f"{self._what}: {headline(watch)}",
            vantages=rows,
            findings=findings,
        )
        if json:
            sys.stdout.buffer.writelines(as_json(report, ()))
        else:
            from salt_mirror.report.terminal.page import print_report

            print_report(report, file)
        status = status_of(report, failed, Showing())
        undelivered = []
        if channels and not interrupted:
            from salt_mirror.cli.notifying import send_watch

            undelivered = send_watch(channels, report)
        for trouble in undelivered:
            tell(trouble)
        raise typer.Exit(status or (UNDELIVERED if undelivered else 0))


def _order(finding: Finding) -> tuple[bool, str, str]:
    return finding.weight != "fault", finding.code, finding.name

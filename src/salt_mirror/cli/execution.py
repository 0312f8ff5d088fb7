"""What every checking command does around its check: engine, transfers, progress, interrupt."""

from __future__ import annotations

import contextlib
import sys
import threading
import time
from collections.abc import Callable, Collection, Iterable
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Part, Setting, carry_out
from salt_mirror.cli.arguments import keep_pace
from salt_mirror.cli.collector import quiet_collector
from salt_mirror.cli.options import Asking
from salt_mirror.dns.dialogue import Exchange, Near, Runner
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.errors import BadInput
from salt_mirror.report.document import now

if TYPE_CHECKING:
    from rich.progress import Progress as Bar

    from salt_mirror.checks.audit.judge import AuditJudge
    from salt_mirror.checks.plan.sets import Plan
    from salt_mirror.dns.apart import ApartExchange
    from salt_mirror.dns.holding import HoldingExchange
    from salt_mirror.findings import Finding
    from salt_mirror.vantages.exchange import FarExchange

MOST_CLASHES = 5
"""So many contradictions of the estate are told with a command; `rollcall` has all."""
AHEAD, AHEAD_AFAR = 1024, 8192
"""So many questions are kept waiting or under way: those that travel take longer."""


class Ran(NamedTuple):
    """What the asking cost, and what the reader has to know about it; the `plan` that mends what was found, where one was
    made."""

    started: datetime
    seconds: float
    questions: int
    spared: int
    strays: int
    remarks: list[str]
    interrupted: bool
    saved: int = 0
    late: int = 0
    plan: Plan | None = None

    def after(self, first: Ran) -> Ran:
        """Return the same with what a first run has cost, of which nothing else counts any more."""
        return self._replace(
            started=first.started,
            seconds=round(first.seconds + self.seconds, 3),
            questions=first.questions + self.questions,
        )


Work = Callable[[Setting, Runner, Callable[[], None]], None]
"""What is done with a runner; the last one is called for each thing that was looked at."""


Transfers = list[tuple[Server, Name]]
"""Zones to take by transfer, each from a server."""


def run_part(
    part: Part,
    atlas: Atlas,
    views: Collection[str],
    asking: Asking,
    what: str,
    *,
    transfers: Transfers | None = None,
    far: FarExchange | None = None,
) -> Ran:
    """Run one check; `what` are the things that it looks at, in words."""
    plans: list[Plan] = []

    def work(setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        carry_out(part, setting, runner, tick)
        if far is None and any(one.changes or one.choices for one in part.findings()):
            plans.extend(planned(part.findings(), atlas, setting, runner))

    ran = run(work, atlas, views, asking, total=part.size, what=what, transfers=transfers, far=far)
    return ran._replace(plan=plans[0] if plans else None)


def run_again_if_apart(
    make: Callable[[], Part], atlas: Atlas, views: Collection[str], asking: Asking, what: str
) -> tuple[Part, Ran]:
    """Run one check; where servers differ, read the estate's directories and run it again: they tell whether those servers
    replicate, and how that stands. A run in which servers agree costs no reading."""
    from salt_mirror.cli.arguments import with_directories

    part = make()
    ran = run_part(part, atlas, views, asking, what)
    read = bool(atlas.estate.replicated)
    apart = any(catalogue()[one.code].servers_differ for one in part.findings())
    if apart and not read and with_directories(atlas.estate, asking, records=False):
        part = make()
        ran = run_part(part, atlas, views, asking, what).after(ran)
    return part, ran


def planned(
    findings: Iterable[Finding],
    atlas: Atlas,
    setting: Setting,
    runner: Runner,
    whole: AuditJudge | None = None,
    *,
    everything: bool = False,
) -> list[Plan]:
    """Return the plan that mends some findings, none where nobody could carry it out. Without `everything` there is none either
    where nothing is to be planned or the plan would be large. `whole` judges the whole estate, where that was audited."""
    if not atlas.estate.zones or atlas.given:
        return []
    from salt_mirror.checks.audit.repairs import MOST_PLANNED, plan_near, plannable
    from salt_mirror.checks.plan.proving import proved

    found = plannable(findings)
    if not everything and not 0 < len(found) <= MOST_PLANNED:
        return []
    if whole is not None:
        return [proved(whole, runner, atlas)]
    return [plan_near(found, atlas, setting, runner)] if found else []


def run(
    work: Work,
    atlas: Atlas,
    views: Collection[str],
    asking: Asking,
    *,
    total: int,
    what: str,
    through: Callable[[Exchange], Exchange] | None = None,
    transfers: Transfers | None = None,
    far: FarExchange | None = None,
) -> Ran:
    """Run some work over the engine, or over an exchange that leads `far`, with zones taken by transfer first: `transfers`,
    else those of the views where that is wished; `through` an exchange of its own."""
    if asking.transfer and not atlas.estate.zones:
        raise BadInput("--transfer takes the zones of an estate, and there is none here; name one with --estate")
    quiet_collector()
    atlas.pace = asking.pace or None
    keep_pace(atlas.servers, asking.pace)
    started, clock = now(), time.monotonic()
    progress = Progress(total, what, shown=threading.current_thread() is threading.main_thread())
    interrupted = False
    remarks: list[str] = []
    with contextlib.ExitStack() as stack:
        engine: Near = (
            far if far is not None else stack.enter_context(Engine(timeout_s=asking.timeout, tries=asking.tries))
        )
        apart = _telling_views_apart(engine) if atlas.estate.twins else None
        exchange: HoldingExchange | None = None
        most = atlas.estate.bounds.questions_for_a_name
        runner = Runner(apart or engine, most=most)
        try:
            wanted = transfers if transfers is not None else atlas.transfers(views, everywhere=asking.transfer)
            wanted, remarks = seen_views(wanted, apart)
            if wanted:
                from salt_mirror.cli.transfers import bounds_of, fetch_zones
                from salt_mirror.dns.holding import HoldingExchange

                exchange = HoldingExchange(apart or engine)
                remarks += fetch_zones(wanted, exchange, bounds_of(atlas.estate), timeout_s=asking.timeout * 5)
            source: Exchange = exchange if exchange is not None and exchange.holds else (apart or engine)
            ahead = AHEAD if far is None else AHEAD_AFAR
            runner = Runner(
                through(source) if through is not None else source, most=most, ahead=ahead, screens=not asking.no_screen
            )
            holds = (exchange.holding, exchange.names) if exchange is not None else ()
            work(Setting(started, *holds), runner, progress.tick)
        except KeyboardInterrupt:
            interrupted = True
        progress.end()
        remarks += atlas.estate.remarks
        remarks += [f"the estate contradicts itself: {clash}" for clash in atlas.contradictions()[:MOST_CLASHES]]
        seconds = round(time.monotonic() - clock, 3)
        spared = exchange.spared if exchange is not None else 0
        questions = runner.asked - spared
        return Ran(started, seconds, questions, spared, engine.strays, remarks, interrupted, runner.saved, engine.late)


def _telling_views_apart(engine: Near) -> ApartExchange:
    """Return the exchange through which servers of several views are asked; brought in only where there are such."""
    from salt_mirror.dns.apart import ApartExchange

    return ApartExchange(engine)


def seen_views(wanted: Transfers, apart: ApartExchange | None) -> tuple[Transfers, list[str]]:
    """Return the transfers from servers that give this computer the view that is meant, and a remark for each other server."""
    if apart is None:
        return wanted, []
    refused = {server: why for server in {server for server, _ in wanted} if (why := apart.refusal(server)) is not None}
    remarks = [f"{server.label} was not asked to hand over zones: {why}" for server, why in refused.items()]
    return [one for one in wanted if one[0] not in refused], sorted(remarks)


class Progress:
    """Says on standard error how far the work has come, from the first second on, where that is a terminal."""

    def __init__(self, total: int, what: str, *, shown: bool = True) -> None:
        """`total` is 0 where it is not known beforehand."""
        self._total = total
        self._what = what
        self._done = 0
        self._terminal = shown and sys.stderr.isatty()
        self._next = time.monotonic() + 1.0
        self._bar: Bar | None = None

    def tick(self) -> None:
        """One more is done."""
        self._done += 1
        if not self._terminal or (self._done & 15 and self._total > 200):
            return
        now = time.monotonic()
        if now >= self._next:
            self._next = now + 0.1
            self._show()

    def _show(self) -> None:
        if self._bar is None:
            from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

            from salt_mirror.report.terminal.console import console_on

            words = TextColumn("{task.description}", markup=False)
            console = console_on(sys.stderr)
            self._bar = Progress(
                MofNCompleteColumn(), words, BarColumn(), console=console, transient=True, auto_refresh=False
            )
            self._bar.add_task(self._what, total=self._total or None)
            self._bar.start()
        self._bar.update(self._bar.task_ids[0], completed=self._done, refresh=True)

    def end(self) -> None:
        """Take the bar away."""
        if self._bar is not None:
            self._bar.stop()

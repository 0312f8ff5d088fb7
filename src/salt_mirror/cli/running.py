"""What every checking command does around its check: engine, transfers, progress, interrupt; then the report and the status."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Collection, Iterable
from datetime import datetime
from pathlib import Path
from typing import NamedTuple, NoReturn

import typer

from salt_mirror.checks.atlas import Atlas
from salt_mirror.cli.opening import Progress, keep_pace, quiet_collector
from salt_mirror.cli.transfers import fetch_zones
from salt_mirror.dns.dialogue import Exchange, Runner
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.holding import HoldingExchange
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome
from salt_mirror.report.document import Counts, Report, Subject, as_json, now

_WEIGHTS = {"fault": 0, "caution": 1, "note": 2}


class Manner(NamedTuple):
    """How to ask: the options that every checking command has."""

    transfer: bool
    pace: float | None
    timeout: float
    tries: int


class Ran(NamedTuple):
    """What the asking cost, and what the reader has to know about it."""

    started: datetime
    seconds: float
    questions: int
    spared: int
    strays: int
    remarks: list[str]
    interrupted: bool
    saved: int = 0


Work = Callable[[Runner, HoldingExchange, Callable[[], None]], None]
"""The check itself: drives its dialogues with the runner, and calls the last one after each."""


def run_check(
    atlas: Atlas,
    views: Collection[str],
    manner: Manner,
    total: int,
    what: str,
    work: Work,
    *,
    through: Callable[[Exchange], Exchange] | None = None,
) -> Ran:
    """Runs a check over the engine, with zones taken by transfer first where that is wished; `through` an
    exchange of its own."""
    quiet_collector()
    keep_pace(atlas.servers, manner.pace)
    started, clock = now(), time.monotonic()
    progress = Progress(total, what)
    interrupted = False
    remarks: list[str] = []
    with Engine(timeout_s=manner.timeout, tries=manner.tries) as engine:
        exchange = HoldingExchange(engine)
        runner = Runner(exchange)
        try:
            wanted = atlas.transfers(views, everywhere=manner.transfer)
            remarks = fetch_zones(wanted, exchange, timeout_s=manner.timeout * 5)
            source: Exchange = exchange if exchange.holds else engine
            runner = Runner(through(source) if through is not None else source)
            work(runner, exchange, progress.tick)
        except KeyboardInterrupt:
            interrupted = True
        progress.end()
        seconds = round(time.monotonic() - clock, 3)
        questions = runner.asked - exchange.spared
        return Ran(started, seconds, questions, exchange.spared, engine.strays, remarks, interrupted, runner.saved)


def report_on(
    command: str,
    estate: Estate,
    ran: Ran,
    tally: Callable[[Outcome], int],
    findings: Iterable[Finding],
    remarks: list[str],
    *,
    total: int,
) -> Report:
    """The report of a check, its findings in the order in which they are read."""
    counts = Counts(
        agrees=tally("agrees"),
        differs=tally("differs"),
        unverified=tally("unverified"),
        questions=ran.questions,
        spared=ran.spared,
        strays=ran.strays,
    )
    remarks = [*remarks, *ran.remarks]
    if ran.interrupted:
        done = counts.agrees + counts.differs + counts.unverified
        remarks.append(f"interrupted: {done:,} were judged, of {total:,} to look at")
    return Report(
        command=command,
        title=estate.title,
        estate=str(estate.path) if estate.path else None,
        started=ran.started,
        seconds=ran.seconds,
        outcome="differs" if counts.differs else "unverified" if counts.unverified else "agrees",
        counts=counts,
        remarks=remarks,
        interrupted=ran.interrupted,
        findings=sorted(findings, key=_reading_order),
    )


def _reading_order(finding: Finding) -> tuple[int, str, bool, str, str]:
    """By weight, then view; servers that disagree come first, since that is what nobody expects."""
    return _WEIGHTS[finding.weight], finding.view, "disagree" not in finding.code, finding.code, finding.name


def print_and_end(
    report: Report,
    subjects: Callable[[], Iterable[Subject]],
    *,
    json: bool,
    faults: bool,
    everything: bool,
    strict: bool,
    several_views: bool,
) -> NoReturn:
    """Prints a report in the form that was chosen, and ends the program with its exit status."""
    if json:
        sys.stdout.buffer.writelines(as_json(report, subjects()))
    else:
        from salt_mirror.report.terminal.page import print_report

        agreeing = (subject for subject in subjects() if subject.outcome == "agrees") if everything else ()
        print_report(
            report, sys.stdout, agreeing, several_views=several_views, faults_alone=faults, everything=everything
        )
    raise typer.Exit(report.exit_status(strict=strict))


def write_whole(path: Path, text: str, option: str) -> None:
    """Writes a file whole or not at all: to a temporary one beside it, then in its place. Raises BadInput."""
    beside = path.with_name(f".{path.name}.new")
    try:
        beside.write_text(text, encoding="utf-8", newline="\n")
        beside.replace(path)
    except OSError as error:
        beside.unlink(missing_ok=True)
        raise BadInput(f"{option}: {path} cannot be written: {error.strerror}") from None

"""The audit on a terminal: the verdict, a line for each zone, then what differs with its causes, then the rest as counts."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import TextIO

import msgspec
from rich.text import Text

from salt_mirror.checks.audit.lines import Audit, Ending, Life, Run, Tally, ZoneLine
from salt_mirror.checks.common.wording import duration, local_moment, many, rounded
from salt_mirror.checks.pairs.scope import UNSEEN
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report
from salt_mirror.report.terminal.page import Page
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of

_MOST_ZONES = 24

_TO_THE_SECOND = "%Y-%m-%d %H:%M:%S"


def print_audit(report: Report, file: TextIO, *, faults_alone: bool, everything: bool, accepted: bool) -> None:
    """Print an audit: three lines for a clean estate, with what differs below them for any other."""
    audit = report.audit
    assert isinstance(audit, Audit)
    page = Page(report, file, several_views=len({line.view for line in audit.zones}) > 1)
    style = {"agrees": "bold green", "differs": "bold red", "unverified": "bold yellow"}[report.outcome]
    page.line(Text(report.headline, style=style))
    asked, saved = report.counts.questions, audit.saved
    facts = (
        f"{report.of} · {asked:,} questions in {report.seconds:.1f} s; {saved:,} more were saved, since "
        f"several checks had them"
    )
    page.line(Text(clean(facts), style="dim"))
    page.line(Text(clean(_sides(report, audit)), style="dim"))
    if faults_alone:
        page.past(everything=everything)
        page.findings("fault", everything=everything)
        return
    for remark in [*report.remarks, *audit.nothing]:
        if remark == UNSEEN:
            continue  # the third line says it
        page.line(Text(f"Note: {clean(remark)}", style="dim"))
    if report.findings or everything:
        page.line()
        _zones(audit, file, everything=everything)
    if audit.ending is not msgspec.UNSET:
        _ending(audit.ending, page, file)
    page.past(everything=everything)
    page.findings("fault", "unverified", "caution", everything=everything)
    if accepted and audit.accepted:
        page.line()
        page.line(Text(f"ACCEPTED: {len(audit.accepted):,}", style="bold cyan"))
        for one in audit.accepted:
            until = f" until {one.until.isoformat()}" if one.until is not None else ""
            page.line(f"{one.finding.code}  {one.finding.name}{until}: {clean(one.reason)}", 8)
            page.line(Text(clean(one.finding.text), style="dim"), 16)
    page.notes(everything=everything)


def _ending(endings: list[Ending], page: Page, file: TextIO) -> None:
    """Print the signatures that end within the time of the forecast, the first to end first."""
    page.line()
    count = f"{len(endings):,}" if endings else "none in this time"
    page.line(Text(f"SIGNATURES THAT END: {count}", style="bold"))
    table = table_of("ends", "in", "zone", "view", "what", "servers")
    for one in endings:
        what = one.what if one.sets == 1 else f"{one.what} and {one.sets - 1:,} more"
        table.add_row(
            local_moment(one.ends),
            rounded(one.left_s),
            one.zone,
            clean(one.view),
            clean(what),
            clean(", ".join(one.servers)),
        )
    if endings:
        print_table(console_for(file), table)


def _sides(report: Report, audit: Audit) -> str:
    """Return the third line: what is set aside, and how this run stands to the last."""
    parts = []
    if audit.history is not None:
        before = audit.history.before
        parts.append(
            f"since {local_moment(before)}: {audit.history.says}"
            if before is not None
            else "the first run in this history"
        )
    if audit.accepted:
        parts.append(f"{len(audit.accepted)} accepted (--accepted lists them)")
    notes = len(report.weighing("note"))
    if notes:
        parts.append(f"{notes} {'note' if notes == 1 else 'notes'} (--all shows them)")
    parts = parts or ["nothing is set aside"]
    return " · ".join([*parts, *([UNSEEN] if UNSEEN in report.remarks else [])])


def _zones(audit: Audit, file: TextIO, *, everything: bool) -> None:
    """A row for each zone; of many those that are not sound, the worst first."""
    checks = list(dict.fromkeys(check for line in audit.zones for check in line.checks))
    narrowed = any(line.unchanged for line in audit.zones)
    table = table_of("zone", "view", *checks, *(["looked at"] if narrowed else []))
    lines = audit.zones
    if not everything and len(lines) > _MOST_ZONES:
        odd = [
            line for line in lines if line.outcome != "agrees" or line.soa_alone or (narrowed and not line.unchanged)
        ]
        lines = sorted(odd, key=_badness)[:_MOST_ZONES]
    for line in lines:
        cells = [_cell(line.checks.get(check)) for check in checks]
        if line.soa_alone and line.outcome == "agrees":
            cells[checks.index("authority")] = Text("SOA only", style="yellow")
        table.add_row(line.zone, clean(line.view), *cells, *([_looked_at(line)] if narrowed else []))
    console = console_for(file)
    if lines:
        print_table(console, table)
    if len(lines) < len(audit.zones):
        rest = [line for line in audit.zones if line not in lines]
        sound = sum(line.outcome == "agrees" for line in rest)
        told = [f"{sound:,} more {'without a finding' if narrowed else 'that are sound'}"] if sound else []
        told += [f"{len(rest) - sound:,} more that are not"] if len(rest) > sound else []
        console.print(Text(f"        {' and '.join(told)} (--all lists every zone)", style="dim"))


def _looked_at(line: ZoneLine) -> Text:
    same = line.unchanged
    if not same:
        return Text("whole")
    return Text(f"sample, {same.sampled:,} of {same.of:,}" if same.of else "nothing to sample", style="dim")


def _badness(line: ZoneLine) -> tuple[int, int]:
    """Return what puts a zone before another: its faults, then its doubts."""
    return -sum(tally.faults for tally in line.checks.values()), -sum(
        tally.unverified for tally in line.checks.values()
    )


def _cell(tally: Tally | None) -> Text:
    if tally is None:
        return Text("-", style="dim")
    style = {"agrees": "green", "unverified": "yellow", "differs": "bold red"}[tally.outcome]
    parts = [f"{tally.agrees:,} of {tally.total:,}"] if tally.total > 1 else []
    parts += [f"{tally.faults} {'fault' if tally.faults == 1 else 'faults'}"] if tally.faults else []
    parts += [f"{tally.unverified} unverified"] if tally.unverified else []
    parts += [f"{tally.cautions} {'caution' if tally.cautions == 1 else 'cautions'}"] if tally.cautions else []
    return Text(", ".join(parts) or ("sound" if tally.total else "nothing there"), style=style)


def print_runs(runs: Iterable[Run], says: str, file: TextIO) -> None:
    """How the estate stands by its past, in a sentence; then the audits of the past, the latest first."""
    rows = list(runs)
    days = any(run.runs > 1 for run in rows)
    table = table_of("started", "outcome", "faults", "cautions", "unverified", "took", *(["for"] if days else []), "of")
    for run in rows:
        table.add_row(
            local_moment(run.started, _TO_THE_SECOND), run.outcome, str(run.faults), str(run.cautions), str(run.unverified),
            f"{run.seconds:.1f} s", *([many(run.runs, "run")] if days else []), clean(run.scope) or "everything",
        )  # fmt: skip
    console = console_for(file)
    console.print(Text(clean(says), style="bold"))
    number = sum(run.runs for run in rows)
    if rows:
        console.print(
            Text(f"{many(number, 'run')}{f', kept as {len(rows):,}' if number > len(rows) else ''}.", style="dim")
        )
    print_table(console, table)


def _stood(life: Life) -> str:
    """From when to when a finding stood, as far as the runs tell: it came before it was seen, and went before it was missed."""
    begin = f"first seen {_at(life.first)}"
    if life.ended is not None:
        longest = duration(round((life.ended - life.first).total_seconds()))
        return f"{begin}, last seen {_at(life.last)}, gone at {_at(life.ended)}: it was open for at most {longest} after that"
    least = duration(round((life.last - life.first).total_seconds()))
    if life.seen_last:
        return f"{begin}, still there {least} later" if life.last > life.first else f"{begin}, in the last run"
    return f"{begin}, last seen {_at(life.last)}; not looked at since, or not to be verified"


def _at(moment: datetime) -> str:
    return local_moment(moment, _TO_THE_SECOND)


def print_lives(lives: Iterable[Life], pattern: str, file: TextIO) -> None:
    """When findings were seen, the latest first."""
    console = console_for(file)
    rows = list(lives)
    standing = sum(life.ended is None for life in rows)
    console.print(
        Text(f"{len(rows)} {'life' if len(rows) == 1 else 'lives'} of {clean(pattern)}; {standing} still standing.")
    )
    for life in rows:
        view = f"  [{clean(life.view)}]" if life.view else ""
        console.print(Text(f"        {life.code}  {life.name}{view}: {_stood(life)}"))
        console.print(Text(f"                {clean(life.text)}", style="dim"))

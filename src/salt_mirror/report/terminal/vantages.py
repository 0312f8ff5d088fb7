"""A watch on a terminal: the live view, and the table at its end.

Strategy: the first line says how many have the new state and when the last one is due; authoritative servers stand on top,
then the vantages by group, each with what it has now, what is left of that, and when it should be over. Words carry the
meaning, colour helps.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TextIO

from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from salt_mirror.checks.common.wording import duration
from salt_mirror.checks.settle.judging import Watch
from salt_mirror.checks.settle.rows import rows_of
from salt_mirror.checks.settle.sheet import VantageRow
from salt_mirror.checks.settle.wording import SAID, headline, local, local_day
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.console import console_on
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of

_STYLES = {"new": "green", "old": "yellow", "no": "yellow", "silent": "bold red", "waiting": "dim"}
_EVERY_S = 0.25


class LiveView:
    """The view that is drawn again every moment while a watch goes on."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._live = Live(console=console_on(), auto_refresh=False, transient=True)
        self._next = 0.0
        self._live.start()

    def look(self, watch: Watch) -> None:
        """Draw a watch as it stands, a few times a second at most."""
        now = time.monotonic()
        if now < self._next and not watch.done:
            return
        self._next = now + _EVERY_S
        lines = [
            Text(headline(watch), style="bold green" if watch.done else "bold yellow"),
            Text(clean(self._what), style="dim"),
        ]
        self._live.update(Group(*lines, Text(), vantage_table(rows_of(watch))), refresh=True)

    def end(self) -> None:
        """Take the view away."""
        self._live.stop()


def print_vantages(rows: list[VantageRow], line: Callable[..., None], file: TextIO) -> None:
    """The table of vantages, and what is remarkable about each."""
    line()
    print_table(console_for(file), vantage_table(rows))


def vantage_table(rows: list[VantageRow]) -> Table:
    """Return a row for each vantage, a heading for each group."""
    table = table_of("vantage", "has", "left", "due", "settled", "asked", "remarks")
    group = None
    for row in rows:
        heading = (
            "authoritative servers"
            if row.kind == "authoritative"
            else f"caches: {row.group}"
            if row.group
            else "caches"
        )
        if heading != group:
            group = heading
            table.add_row(Text(clean(heading), style="bold"))
        remarks = [f"a pool of {row.members}"] if row.members > 1 else []
        table.add_row(
            "  " + clean(row.vantage),
            _has(row),
            duration(row.ttl_left) if row.ttl_left is not None and not row.settled else "",
            local_day(row.predicted.timestamp()) if row.predicted is not None and row.kind == "cache" else "",
            local(row.settled_at.timestamp()) if row.settled_at is not None else "",
            str(row.asked),
            clean("; ".join([*remarks, *row.notes])),
        )
    return table


def _has(row: VantageRow) -> Text:
    if sum(row.states.values()) == 1:
        (state,) = row.states
        return Text(clean(" ".join([SAID[state], ", ".join(row.values)])).strip(), style=_STYLES[state])
    text = ", ".join(f"{number:,} {SAID[state]}" for state, number in row.states.items())
    worst = next((state for state in ("silent", "old", "no", "waiting") if state in row.states), "new")
    return Text(text, style=_STYLES[worst])

"""Who is there of the vantages, for people and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, TextIO

from rich.text import Text

from salt_mirror.checks.common.wording import many
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.console import console_on, put_line
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of


class ShownVantage(Protocol):
    """What is shown of a vantage. Clocks and round trips in seconds."""

    name: str
    group: str
    version: str
    system: str
    resolvers: list[str]
    allowed: list[str]
    clock_apart_s: float | None
    round_trip_s: float | None
    trouble: str | None


def print_stations(vantages: Sequence[ShownVantage], address: str, file: TextIO) -> None:
    """The answer in a line, then a row for each vantage."""
    console = console_on(file)
    good = sum(one.trouble is None for one in vantages)
    says = (
        f"{good} of {many(len(vantages), 'vantage', 'vantages')} can be used." if vantages else "No vantage is there."
    )
    style = "bold green" if vantages and good == len(vantages) else "bold yellow"
    put_line(console, Text(says, style=style), 0, wrap=console.is_terminal)
    put_line(console, Text(f"broker {clean(address)}", style="dim"), 0, wrap=console.is_terminal)
    if not vantages:
        return
    table = table_of("vantage", "group", "state", "version", "clock", "round trip", "its resolvers", "may ask")
    for vantage in vantages:
        state = (
            Text("there", style="green")
            if vantage.trouble is None
            else Text(clean(vantage.trouble), style="bold yellow")
        )
        clock = "" if vantage.clock_apart_s is None else f"{round(vantage.clock_apart_s * 1000):+,} ms"
        trip = "" if vantage.round_trip_s is None else f"{vantage.round_trip_s * 1000:,.0f} ms"
        resolvers = ", ".join(clean(text.removesuffix(":53")) for text in vantage.resolvers)
        table.add_row(
            clean(vantage.name),
            clean(vantage.group),
            state,
            clean(vantage.version),
            clock,
            trip,
            resolvers,
            _few(vantage.allowed),
        )
    console.print()
    print_table(console_for(file), table)


def _few(allowed: Sequence[str]) -> str:
    shown = ", ".join(clean(one.removesuffix("/32").removesuffix("/128")) for one in allowed[:3])
    return f"{shown} and {len(allowed) - 3} more" if len(allowed) > 3 else shown

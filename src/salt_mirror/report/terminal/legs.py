"""The ways that `descend` went, on a terminal: one block a level, the servers that say the same on one line.

Strategy: a level where all agree is one line, however many servers it has; where they part ways each way has its own.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TextIO

from rich.text import Text

from salt_mirror.checks.descend.sheet import LegSheet, Step, StepServer
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of

_FEW = 3


def print_legs(legs: list[LegSheet], line: Callable[..., None], file: TextIO, *, everything: bool) -> None:
    """Print every leg; with `everything` a line for each server."""
    console = console_for(file)
    for leg in legs:
        line()
        line(Text.assemble(("PATH TO ", "dim"), (f"{leg.name} {leg.type}", "bold")))
        table = table_of("zone", "servers", "say", "ms", "DNSSEC")
        trust = {row.name: row.trust for row in leg.chain[:-1]}
        for step in leg.steps:
            for number, servers in enumerate(_grouped(step, everything)):
                style = "" if servers[0].kind in ("refers", "answers") else "bold red"
                table.add_row(
                    step.zone if not number else "",
                    _who(servers),
                    Text(clean(servers[0].says), style=style),
                    _times(servers),
                    _trusted(trust.get(step.zone, "")) if not number else "",
                )
            for remark in step.remarks:
                table.add_row("", "", Text(clean(remark), style="yellow"), "", "")
        print_table(console, table)
        if leg.chain:
            line(f"DNSSEC: {_chain(leg)}.", 8)
        if leg.cached:
            line(f"A resolver that followed this path has cached: {'; '.join(leg.cached)}.", 8)


def _trusted(trust: str) -> Text:
    return Text(trust, style="bold red" if trust == "bogus" else "")


def _chain(leg: LegSheet) -> str:
    """Return in one sentence what validators make of the name."""
    *zones, end = leg.chain
    why = f": {clean(end.why)}" if end.why else ""
    if end.trust == "insecure":
        first = next((row.name for row in zones if row.trust == "insecure"), end.name)
        return f"insecure from {first} down{why}; validators take the answer as it is"
    if end.trust == "signed":
        begins = f", from the keys of {zones[0].name}" if zones and zones[0].why else ""
        failing = dict.fromkeys(text.partition(":")[0] for row in leg.chain for text in row.failing)
        but = f"; not on {clean(', '.join(failing))}" if failing else ""
        return f"signed, and verified down to the answer{begins}{but}"
    return f"{end.trust}{why}"


def _grouped(step: Step, everything: bool) -> list[list[StepServer]]:
    """Return the servers of a level by what they say; each by itself when everything is wanted."""
    if everything:
        return [[server] for server in step.servers]
    groups: dict[str, list[StepServer]] = {}
    for server in step.servers:
        groups.setdefault(server.says, []).append(server)
    return list(groups.values())


def _who(servers: list[StepServer]) -> str:
    if len(servers) == 1:
        return f"{servers[0].server} {servers[0].address}"
    shown = ", ".join(server.server for server in servers[:_FEW])
    return shown if len(servers) <= _FEW else f"{len(servers)} servers: {shown} …"


def _times(servers: list[StepServer]) -> str:
    times = sorted(server.rtt_ms for server in servers if server.rtt_ms is not None)
    if not times:
        return ""
    return f"{times[0]:.1f}" if len(times) == 1 else f"{times[0]:.1f} to {times[-1]:.1f}"

"""A zone's past on a terminal: its line of days, and what of it stands."""

from __future__ import annotations

from typing import TextIO

from rich.text import Text

from salt_mirror.checks.audit.chronicle import Chronicle, ZoneRun
from salt_mirror.checks.common.wording import duration, local_moment, many
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of


def print_zones(chronicle: Chronicle, file: TextIO) -> None:
    """Each zone's days, the latest last, then what stands there, the oldest first."""
    console = console_for(file)
    standing = chronicle.standing()
    faults = sum(one.weight == "fault" for one in standing)
    console.print(Text(f"{many(faults, 'fault')} and {many(len(standing) - faults, 'caution')} open."))
    table = table_of("zone", "view", "day (UTC)", "last run of it")
    for (view, zone), days in chronicle.zone_days().items():
        for number, (day, run) in enumerate(days.items()):
            table.add_row("" if number else clean(zone), "" if number else clean(view), day.isoformat(), _said(run))
    print_table(console, table)
    now = chronicle.runs[0].started if chronicle.runs else None
    for one in standing:
        stood = f", for {duration(round((now - one.first).total_seconds()))}" if now and now > one.first else ""
        console.print(Text(f"        {one.code}  {clean(one.name)}: since {local_moment(one.first)}{stood}"))
        console.print(Text(f"                {clean(one.text)}", style="dim"))


def _said(zone_run: ZoneRun) -> Text:
    if zone_run.faults:
        return Text(many(zone_run.faults, "fault"), style="bold red")
    if zone_run.outcome == "unchanged":
        return Text("unchanged, a sample was asked", style="dim")
    return Text("unverified", style="yellow") if zone_run.outcome == "unverified" else Text("sound", style="green")

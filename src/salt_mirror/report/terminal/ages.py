"""Ages on a terminal: what no longer belongs by what it has in common, how zones age, and what goes when."""

from __future__ import annotations

from collections.abc import Callable

from rich.text import Text

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.stale.sheet import AgeSheet, ZoneAges
from salt_mirror.report.cleaning import clean


def print_ages(sheet: AgeSheet, line: Callable[..., None]) -> None:
    """Print the sheet under the findings."""
    if sheet.groups and sheet.by != "reason":
        line()
        line(Text(f"BY {sheet.by.upper()}", style="bold"))
        width = max(len(one.key) for one in sheet.groups)
        for group in sheet.groups:
            counts = {"stale": group.stale, "left over": group.left, "dangling": group.dangling}
            text = ", ".join(f"{number:,} {word}" for word, number in counts.items() if number)
            line(f"{clean(group.key):<{width}}  {text}", 8)
    if sheet.forecast:
        line()
        line(Text("SCAVENGING FORECAST, unless refreshed", style="bold"))
        for due in sheet.forecast:
            needed = f", {due.needed:,} of them needed" if due.needed else ""
            more = f" and {due.records - len(due.names):,} more" if due.records > len(due.names) else ""
            line(f"{due.day}  {many(due.records, 'record')}{needed}: {', '.join(map(clean, due.names))}{more}", 8)
    if sheet.zones:
        line()
        line(Text("AGES", style="bold"))
        for zone in sheet.zones:
            line(f"{zone.zone}  {_how(zone)}", 8)


def _how(zone: ZoneAges) -> str:
    kinds = [f"{zone.static:,} static, {zone.dynamic:,} dynamic"]
    kinds += [f"{zone.unknown:,} of unknown age"] if zone.unknown else []
    kinds += [f"{zone.tombstones:,} tombstoned"] if zone.tombstones else []
    aging = {True: "aging is on", False: "aging is off", None: "whether aging is on is not known"}[zone.aging]
    times = f"no-refresh interval {_time(zone.no_refresh_h)}, refresh interval {_time(zone.refresh_h)}"
    taken = {True: "scavenging is on", False: "scavenging is off", None: "whether anything scavenges is not known"}
    return f"{', '.join(kinds)}; {aging}, {times}, {taken[zone.scavenged]}; by {clean(', '.join(zone.sources))}"


def _time(hours: int | None) -> str:
    if hours is None:
        return "not known"
    return many(hours // 24, "day") if hours % 24 == 0 else many(hours, "hour")

"""A rehearsal on a terminal, behind its new findings: what vanishes, the zones on their servers, how long caches keep the
old."""

from __future__ import annotations

from collections.abc import Callable
from typing import TextIO

from rich.text import Text

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.wording import duration, many
from salt_mirror.checks.rehearse.sheet import RehearsalSheet, VanishingRow, WaitRow, ZoneRow
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of

_FEW = 6
Line = Callable[..., None]


def print_rehearsal(sheet: RehearsalSheet, line: Line, file: TextIO, *, several_views: bool, everything: bool) -> None:
    """Print what a rehearsal adds to its new findings; cut short but with `everything`."""
    _vanishing(sheet, line, several_views=several_views, everything=everything)
    if sheet.compared:
        _zones(sheet.zones, line, file, several_views=several_views)
    _waits(sheet.waits, line, everything=everything)
    _mended(sheet, line, everything=everything)


def _vanishing(sheet: RehearsalSheet, line: Line, *, several_views: bool, everything: bool) -> None:
    if not sheet.vanishing:
        return
    records = sum(len(row.values) for row in sheet.vanishing)
    line()
    line(
        Text(f"VANISHES: {many(records, 'record')}{'' if sheet.whole else ' that could be seen'}", style="bold yellow")
    )
    needed = [row for row in sheet.vanishing if row.needed]
    shown = sheet.vanishing if everything else [*needed[:_FEW], *_others(sheet.vanishing)[: max(0, _FEW - len(needed))]]
    for row in shown:
        view = f"  [{clean(row.view)}]" if several_views and row.view else ""
        what = Text.assemble((f"- {row.name} {row.type} ", "bright_red"), ", ".join(row.values), view)
        line(what, 8)
        for why in row.needed:
            line(Text.assemble(("needed  ", "bold red"), clean(why)), 16)
    if len(shown) < len(sheet.vanishing):
        line(Text(f"and {len(sheet.vanishing) - len(shown):,} more (--all lists them)", style="dim"), 8)


def _others(rows: list[VanishingRow]) -> list[VanishingRow]:
    return [row for row in rows if not row.needed]


def _zones(rows: list[ZoneRow], line: Line, file: TextIO, *, several_views: bool) -> None:
    if not rows:
        return
    line()
    line(Text("ZONES", style="bold"))
    by_files = all(row.takes == [row.file] for row in rows)  # no server is in it
    places = [] if by_files else ["seen as it is", "takes the file", "does not"]
    table = table_of("zone", *(["view"] if several_views else []), "serial", "sets", *places)
    for row in rows:
        before = str(row.serial_before) if row.serial_before is not None else "-"
        serial = f"{before} -> {row.serial_after if row.serial_after is not None else '-'}"
        sets = f"+{row.come:,} -{row.gone:,} ~{row.changed:,}"
        cells = [row.zone, *([clean(row.view)] if several_views else []), serial, sets]
        table.add_row(*cells, *([] if by_files else _places(row)))
    print_table(console_for(file), table)


def _places(row: ZoneRow) -> list[Text]:
    """Return how a zone was seen, and what its servers do with the file."""
    seen = {"whole": "whole", "asked": "as far as asked", "absent": "on no server", "unseen": "not seen"}[row.before]
    others = [*(f"{one} keeps the old" for one in row.keeps), *(f"not known: {one}" for one in row.unknown)]
    style = "yellow" if others else ""
    return [Text(seen), Text(clean(", ".join(row.takes)) or "-"), Text(clean("; ".join(others)) or "-", style=style)]


def _waits(rows: list[WaitRow], line: Line, *, everything: bool) -> None:
    if not rows:
        return
    line()
    line(Text(f"CACHES: the last one drops the old data {duration(rows[0].kept_s)} after the change", style="bold"))
    for row in rows if everything else rows[:_FEW]:
        what = f"{row.name} {row.type}" + (f" and {many(row.sets - 1, 'other set')}" if row.sets > 1 else "")
        kept = f"{duration(row.kept_s)} (negative TTL)" if row.negative else f"{duration(row.kept_s)} (TTL)"
        late = f", {duration(row.kept_s + row.spread_s)} when a notify is lost" if row.spread_s else ""
        line(Text.assemble((f"{kept}{late}  ", "bold"), f"{what}"), 8)
        if row.lower is not None and row.lead_s is not None:
            first = f"lower the TTL to {row.lower} s {duration(row.lead_s)} before"
            advice = f"{first}: caches then expire within {duration(row.lower)}"
            line(Text(advice, style="green"), 16)
    if not everything and len(rows) > _FEW:
        line(Text(f"and {len(rows) - _FEW:,} more waits, all shorter (--all lists them)", style="dim"), 8)


def _mended(sheet: RehearsalSheet, line: Line, *, everything: bool) -> None:
    if not sheet.mended:
        return
    line()
    line(Text(f"MENDED: {many(len(sheet.mended), 'finding')}", style="bold green"))
    for finding in sheet.mended if everything else sheet.mended[:_FEW]:
        line(Text(clean(f"{catalogue()[finding.code].title} ({finding.code})  {finding.place}")), 8)
    if not everything and len(sheet.mended) > _FEW:
        line(Text(f"and {len(sheet.mended) - _FEW:,} more (--all lists them)", style="dim"), 8)

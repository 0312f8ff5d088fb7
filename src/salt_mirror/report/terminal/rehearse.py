"""A rehearsal on a terminal, behind its new findings: what vanishes, the zones on their servers, how long caches keep the
old."""

from __future__ import annotations

from collections.abc import Callable
from typing import TextIO

from rich.text import Text

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.wording import duration, many
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.checks.rehearse.sheet import RehearsalSheet, VanishingRow, WaitRow, ZoneRow
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.sheets import console_for, print_table, table_of

_FEW = 6
Line = Callable[..., None]


def print_rehearsal(sheet: RehearsalSheet, line: Line, file: TextIO, *, several_views: bool, everything: bool) -> None:
    """Print what a rehearsal adds to its new findings; cut short but with `everything`."""
    _phases(sheet, line, file, everything=everything)
    _vanishing(sheet, line, several_views=several_views, everything=everything)
    if sheet.compared:
        _zones(sheet.zones, line, file, several_views=several_views)
    _waits(sheet.waits, line, everything=everything)
    _mended(sheet, line, everything=everything)


def _phases(sheet: RehearsalSheet, line: Line, file: TextIO, *, everything: bool) -> None:
    """Print the phases of a renumbering, what each changes, and how it is carried out."""
    if not sheet.phases:
        return
    line()
    line(Text("PHASES", style="bold"))
    table = table_of("phase", "changes", "new faults", "then wait until caches have it")
    for row in sheet.phases:
        late = f", {duration(row.wait_s + row.late_s)} when a notify is lost" if row.late_s else ""
        wait = f"{duration(row.wait_s)}{late}" if row.wait_s else "-"
        table.add_row(
            row.phase, f"{len(row.sets):,}", Text(str(row.faults), style="bold red" if row.faults else ""), wait
        )
    print_table(console_for(file), table)
    for row in sheet.phases:
        line()
        line(Text(f"{row.phase}: {many(len(row.sets), 'change')}", style="bold"))
        for one in row.sets if everything else row.sets[:_FEW]:
            line(Text.assemble((f"{one.name} {one.type}  ", "bold"), _becomes(one)), 8)
        if not everything and len(row.sets) > _FEW:
            line(Text(f"and {len(row.sets) - _FEW:,} more (--all lists them)", style="dim"), 8)
    if sheet.edits:
        files = ", ".join(dict.fromkeys(one.file for one in sheet.edits))
        line()
        line(Text(f"LISTS: {many(len(sheet.edits), 'line')} of {clean(files)} with the new addresses", style="bold"))
        for edit in sheet.edits if everything else sheet.edits[:_FEW]:
            line(Text.assemble((clean(edit.place), "cyan"), f"  {clean(edit.says)}"), 8)
        if not everything and len(sheet.edits) > _FEW:
            line(Text(f"and {len(sheet.edits) - _FEW:,} more (--all lists them)", style="dim"), 8)
    line()
    line(Text("TO CARRY IT OUT", style="bold"))
    plan = sheet.written or "FILE.jsonl"
    if not sheet.written:
        line(Text("write the plan first: --write FILE", style="dim"), 8)
    for row in sheet.phases:
        if row.phase == "switch" and sheet.edits:
            line("put the lists with the new addresses in the place of the old ones (*.renumbered)", 8)
        line(Text(f"salt-mirror mend --plan {clean(plan)} --phase {row.phase} --apply", style="green"), 8)
    line(Text(f"salt-mirror settle --plan {clean(plan)}", style="green"), 8)


def _becomes(one: SetLine) -> str:
    """Return what becomes of a set, on one line."""
    before, after = ", ".join(one.before) or "nothing", ", ".join(one.after) or "nothing"
    if sorted(one.before) == sorted(one.after):
        return clean(f"{after}: TTL {one.ttl_before} s -> {one.ttl_after} s")
    return clean(f"{before} -> {after}")


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
        counts = (("new", row.come), ("gone", row.gone), ("changed", row.changed))
        sets = ", ".join(f"{number:,} {word}" for word, number in counts if number) or "none"
        cells = [row.zone, *([clean(row.view)] if several_views else []), serial, sets]
        table.add_row(*cells, *([] if by_files else _places(row)))
    print_table(console_for(file), table)


def _places(row: ZoneRow) -> list[Text]:
    """Return how a zone was seen, and what its servers do with the file."""
    seen = {"whole": "whole", "asked": "as far as asked", "absent": "on no server", "unseen": "not seen"}[row.before]
    others = [*(f"{one} keeps what it has" for one in row.keeps), *(f"not known: {one}" for one in row.unknown)]
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
            first = f"{duration(row.lead_s)} before the change lower the TTL to {row.lower} s"
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

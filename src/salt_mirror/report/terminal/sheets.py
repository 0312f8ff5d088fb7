"""The sheets of `authority` on a terminal: the SOA, a row for each server, the name servers.

Strategy: a sheet is proof, not news; it comes after the findings. Tables are Rich's, without colour that carries meaning.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TextIO

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from salt_mirror.checks.authority.sheet import ServerRow, Sheet
from salt_mirror.checks.signed.sheet import SignedSheet
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import MOST_SHEETS
from salt_mirror.report.terminal.console import console_on, put_line

_MOST_ROWS = 24
_PIPED_WIDTH = 200
_LEAST_WIDTH = 24


def print_sheets(
    sheets: list[Sheet],
    line: Callable[..., None],
    file: TextIO,
    *,
    several_views: bool,
    everything: bool,
) -> None:
    """Print sheets: all of a few, and a line for each of many unless `everything` is wanted."""
    console = console_for(file)
    if len(sheets) > MOST_SHEETS and not everything:
        line()
        line(Text(f"The zones ({len(sheets)}; name one, or --all, for its whole sheet):", style="bold"))
        print_table(console, _overview(sheets))
        return
    for sheet in sheets:
        if not sheet.servers:
            continue
        line()
        view = f"  [{clean(sheet.view)}]" if several_views and sheet.view else ""
        line(
            Text.assemble(
                ("ZONE ", "dim"), (sheet.zone, "bold"), view, f"  {clean(sheet.says)}" if sheet.servers else ""
            )
        )
        if sheet.soa:
            print_table(console, _soa(sheet))
            for words in sheet.sums:
                line(words, 8)
        line()
        rows = sheet.servers if everything else _notable(sheet.servers)
        print_table(console, _servers(rows))
        if len(rows) < len(sheet.servers):
            line(f"and {len(sheet.servers) - len(rows):,} more of the same kind (--all shows them)", 8)
        line(f"Content: {sheet.content or 'not compared: no two servers have the same version'}.", 8)
        if sheet.name_servers or sheet.parent_says:
            line()
            if sheet.name_servers:
                print_table(console, _name_servers(sheet))
            above = f"{sheet.parent} {sheet.parent_says}" if sheet.parent else f"Parent: {sheet.parent_says}"
            line(clean(above) + ".", 8)
        if sheet.signed is not None:
            line()
            _print_signed(sheet.signed, line, console)


def _print_signed(signed: SignedSheet, line: Callable[..., None], console: Console) -> None:
    """Print what was seen of a zone's signatures: the answer, the keys, what ends first."""
    line(f"DNSSEC: {clean(signed.says)}.", 8)
    if signed.keys:
        table = table_of("key", "algorithm", "role", "DS at the parent", "signs the keys", "servers")
        for key in signed.keys:
            ds = ", ".join(text.partition("(")[2].rpartition(", ")[2].rstrip(")") for text in key.ds) or (
                "none" if signed.ds_seen else "not seen"
            )
            table.add_row(
                str(key.tag), clean(key.algorithm), key.role, ds, "yes" if key.signs_keys else "no",
                clean(", ".join(key.servers)),
            )  # fmt: skip
        print_table(console, table)
    else:
        line(f"DS set: {clean(', '.join(signed.ds)) or 'none'}.", 8)
    more = [
        f"first to end: {signed.first_end}" if signed.first_end else "",
        f"denial: {signed.denial}" if signed.denial else "",
    ]
    for text in (*more, signed.verified):
        if text:
            line(clean(text[0].upper() + text[1:]) + ".", 8)


def console_for(file: TextIO) -> Console:
    """Return a console for tables: as wide as the terminal, and wide enough for anything in a pipe."""
    console = console_on(file)
    if not console.is_terminal:
        console = console_on(file, width=_PIPED_WIDTH)
    return console


def print_table(console: Console, table: Table) -> None:
    """A table behind an indent, its lines without spaces at the end; a block for each row where it would break words, and so
    names, on a narrow terminal."""
    width = max(_LEAST_WIDTH, console.width - 8)
    lines = []
    for pieces in console.render_lines(table, console.options.update(width=width), pad=False):
        text = Text("        ")
        for piece in pieces:
            text.append(piece.text, piece.style)
        text.rstrip()
        lines.append(text)
    whole = {word for line in lines for word in line.plain.split()}
    words = {
        word
        for column in table.columns
        for cell in (column.header, *column.cells)
        for word in _text(cell).plain.split()
    }
    if not words <= whole:
        _print_blocks(console, table)
        return
    for line in lines:
        console.print(line, soft_wrap=True)


def _text(cell: object) -> Text:
    return cell if isinstance(cell, Text) else Text(str(cell))


def _print_blocks(console: Console, table: Table) -> None:
    """Each row as a block: its first cell, and below it each other one behind its heading."""
    headings = [_text(column.header).plain for column in table.columns]
    room = max(map(len, headings)) + 2
    for cells in zip(*(column.cells for column in table.columns), strict=True):
        first, *others = map(_text, cells)
        if not any(headings):
            put_line(console, Text("  ").join([first, *(cell for cell in others if cell.plain)]), 8, wrap=True)
            continue
        put_line(console, Text.assemble(first), 8, wrap=True)
        for heading, cell in zip(headings[1:], others, strict=True):
            if cell.plain.strip() not in ("", "-"):
                put_line(console, Text.assemble((f"{heading:<{room}}", "dim"), cell), 10, wrap=True)


def table_of(*headings: str) -> Table:
    """Return a table with these headings; numbers stand to the right."""
    table = Table(box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, header_style="bold")
    for heading in headings:
        right = heading in ("serial", "ms")
        table.add_column(heading, justify="right" if right else "left", overflow="fold", no_wrap=right)
    return table


def _overview(sheets: Iterable[Sheet]) -> Table:
    table = table_of("zone", "view", "outcome", "servers", "parent")
    for sheet in sheets:
        above = f"{sheet.parent} {sheet.parent_says}" if sheet.parent else sheet.parent_says
        table.add_row(sheet.zone, clean(sheet.view), sheet.outcome, clean(sheet.says), clean(above))
    return table


def _soa(sheet: Sheet) -> Table:
    table = Table(box=None, show_header=False, pad_edge=False)
    for field in sheet.soa:
        unit = " s" if field.reads and field.field not in ("serial", "mailbox", "primary") else ""
        judgement = Text("out of bounds", style="bold yellow") if field.judgement else Text()
        table.add_row(Text(field.field, style="bold"), field.value + unit, field.reads, judgement)
    return table


def _notable(rows: list[ServerRow]) -> list[ServerRow]:
    """Return all rows of a few; of many those that are not like the others first, then the others up to a screenful."""
    if len(rows) <= _MOST_ROWS:
        return rows
    odd = [row for row in rows if row.state != "authoritative" or row.behind]
    return (odd + [row for row in rows if row not in odd])[:_MOST_ROWS]


def _servers(rows: list[ServerRow]) -> Table:
    table = table_of("server", "reached at", "listed by", "state", "serial", "version", "ms", "TCP", "EDNS", "offers")
    for row in rows:
        offers = [words for words, true in (("recursion", row.recursion), ("transfer", row.transfer)) if true]
        offers += [f"changes {row.updates}"] if row.updates else []
        edns = f"{row.edns}{', cookie' if row.cookies else ''}" if row.edns is not None else "no" if row.rtt_ms else ""
        table.add_row(
            clean(row.server) + _as(row),
            row.endpoint,
            ", ".join(row.listed),
            Text(clean(_state(row)), style="" if row.state == "authoritative" else "bold red"),
            str(row.serial) if row.serial is not None else "",
            _version(row),
            f"{row.rtt_ms:.1f}" if row.rtt_ms is not None else "",
            "yes" if row.tcp == "answers" else "no",
            edns,
            ", ".join(offers) or "nothing",
        )
    return table


def _as(row: ServerRow) -> str:
    names = [name.rstrip(".") for name in row.names if row.server not in (name.rstrip("."), name.split(".")[0])]
    return f" ({', '.join(names)})" if names else ""


def _state(row: ServerRow) -> str:
    if row.state == "authoritative":
        return row.state
    return f"lame: {row.state}" if row.state != "unknown" else row.udp


def _version(row: ServerRow) -> str:
    if row.behind is None:
        return ""
    if row.behind == 0:
        return "newest"
    return f"{row.behind:,} behind" if row.behind > 0 else f"{-row.behind:,} ahead"


def _name_servers(sheet: Sheet) -> Table:
    table = table_of("name server", "listed by", "addresses in its zone", "glue at the parent")
    for name_server in sheet.name_servers:
        table.add_row(
            name_server.name,
            ", ".join(name_server.listed),
            ", ".join(name_server.addresses) or clean(name_server.trouble) or "none",
            ", ".join(name_server.glue),
        )
    return table

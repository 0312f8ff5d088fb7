"""`salt-mirror ask`: what does this name have, and who says so?

Strategy: a line from a prompt or a file is asked as it arrives, and is on its own: a bad one is reported with its number, and
the rest goes on.
"""

from __future__ import annotations

import sys
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.messages import INTERRUPTED, USAGE, tell
from salt_mirror.cli.options import WRITING, Asking, Showing, Where, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from collections.abc import Iterator

    from salt_mirror.checks.ask.judging import Asked
    from salt_mirror.cli.ask.inquiry import Inquiry
    from salt_mirror.dns.dialogue import Exchange
    from salt_mirror.estate.model import Estate
    from salt_mirror.report.terminal.answers import Printer


@takes("listed", "transfer", "faults", "all", "strict", *WRITING)
def ask(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="NAME|ADDRESS... [TYPE]...",
            help="What to ask for; without a name, or with -, names are read from a pipe.",
        ),
    ] = None,
    source: Annotated[Path | None, option("--names", "FILE", "Read names from a file, one a line.")] = None,
    suffix: Annotated[
        list[str] | None, option("--suffix", "ZONE", "Complete short names with this; may be repeated.")
    ] = None,
    every: Annotated[bool, typer.Option("--every", help="Ask for all the common types, one by one.")] = False,
    brief: Annotated[bool, typer.Option("--brief", help="Print only the values, one a line.")] = False,
    line: Annotated[
        bool,
        typer.Option("--line", help="Print a line for each answer: name, type, TTL, value, server, status."),
    ] = False,
    tcp: Annotated[bool, typer.Option("--tcp", help="Ask over TCP.")] = False,
    detail: Annotated[
        bool, typer.Option("--detail", help="Print flags, sizes, sections and type numbers too.")
    ] = False,
    raw: Annotated[bool, typer.Option("--bytes", help="Print the bytes of each message too.")] = False,
    *,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """Ask servers for the records of a name or an address, and show which server says what.

    Without a type: A and AAAA of a name, PTR of an address. Without --at the system's own resolvers are asked; --at also takes
    "authoritative" for all authoritative servers of the name, in every view that has it, the groups of the estate's
    resolvers, and "everywhere" for all views and all resolvers, grouped by what they say. Exit status: 0 answered, 1 no such
    name or type, or the servers differ, 3 no usable answer from some server.
    """
    from salt_mirror.cli.arguments import keep_pace, open_estate
    from salt_mirror.cli.ask.inquiry import Inquiry, lines_of
    from salt_mirror.report.json.answers import json_printer
    from salt_mirror.report.terminal.answers import brief_printer, line_printer, page_printer

    estate = open_estate(asking)
    if not words and source is None and sys.stdin.isatty():
        _prompt(estate)
        return
    inquiry = Inquiry(
        estate, words or [], asking, suffixes=suffix or [], every=every, tcp=tcp, from_afar=bool(where.vantages)
    )
    keep_pace(inquiry.servers, asking.pace)
    if showing.json:
        show = json_printer(sys.stdout.buffer)
    else:
        plain = brief_printer(sys.stdout) if brief else line_printer(sys.stdout) if line else None
        show = plain or page_printer(sys.stdout, detail=detail or raw, raw=raw)
    statuses = _put(inquiry, lines_of(inquiry, source), show, estate, asking, where)
    if not statuses:
        from salt_mirror.estate.errors import BadInput

        raise BadInput("nothing to ask: there is no name, neither on the command line nor in what was read")
    raise typer.Exit(next((status for status in (INTERRUPTED, USAGE, 1, 3) if status in statuses), 0))


def _prompt(estate: Estate) -> None:
    """Ask line by line, on a terminal; what was typed behind `ask` is kept for every line."""
    import typer.main

    from salt_mirror.cli.ask.prompt import AskPrompt
    from salt_mirror.cli.main import program

    group = typer.main.get_command(program(["ask", "explain"]))
    AskPrompt(group.commands["ask"], estate, sys.argv[2:]).run()  # type: ignore[attr-defined]


def _put(
    inquiry: Inquiry,
    lines: Iterator[tuple[int | None, str]],
    show: Printer,
    estate: Estate,
    asking: Asking,
    where: Where,
) -> set[int]:
    """Ask for every name, and show each as it is answered; return what became of them."""
    from salt_mirror.cli.engines import engine_of

    statuses: set[int] = set()
    with ExitStack() as stack:
        engine = stack.enter_context(engine_of(asking))
        exchange: Exchange = engine
        if where.vantages:
            from salt_mirror.cli.vantage.asking import afar

            found = stack.enter_context(afar(estate, where))
            exchange = found.beside(engine)
            inquiry.ask_from(found)
        try:
            next(show)
            for typed, asked in inquiry.answers(lines, exchange, _complain):
                if asked is None:
                    statuses.add(USAGE)
                    continue
                show.send((asked, typed))
                statuses.add(_status(asked))
        except KeyboardInterrupt:
            statuses.add(INTERRUPTED)
        finally:
            show.close()
    return statuses


def _status(asked: Asked) -> int:
    """Return what becomes of one name: a difference or a "no" is worth a look, and what a server did not say is not known."""
    if asked.usable and (not asked.answered or asked.differing):
        return 1
    return 3 if asked.doubtful or not asked.answered else 0


def _complain(line: int | None, what: str) -> None:
    place = f"line {line}: " if line is not None else ""
    tell(f"{place}{what}")

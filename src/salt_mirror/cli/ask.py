"""`salt-mirror ask`: what does this name have, and who says so?"""

from __future__ import annotations

import sys
from collections.abc import Generator, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.opening import (
    AtOption,
    EstateOption,
    JsonOption,
    PaceOption,
    TimeoutOption,
    TriesOption,
    ViewOption,
    finders,
    keep_pace,
    open_estate,
)

if TYPE_CHECKING:
    from salt_mirror.checks.ask import Asked
    from salt_mirror.cli.ask_work import Work

USAGE = 2


def ask(
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="NAME|ADDRESS... [TYPE]...", help="What to ask for; - reads names from standard input."),
    ] = None,
    estate_file: EstateOption = None,
    at: AtOption = None,
    view: ViewOption = None,
    source: Annotated[
        Path | None,
        typer.Option("--from", metavar="FILE", help="Read names from a file, one a line.", show_default=False),
    ] = None,
    suffix: Annotated[
        list[str] | None,
        typer.Option(
            "--suffix", metavar="ZONE", help="Complete short names with this; may be repeated.", show_default=False
        ),
    ] = None,
    every: Annotated[bool, typer.Option("--every", help="Ask for all the common types, one by one.")] = False,
    brief: Annotated[bool, typer.Option("--brief", help="Print the values alone, one a line.")] = False,
    detail: Annotated[
        bool, typer.Option("--detail", help="Print flags, sizes, sections and type numbers too.")
    ] = False,
    raw: Annotated[bool, typer.Option("--bytes", help="Print the bytes of each message too.")] = False,
    as_json: JsonOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Ask what a name or an address has, and who says so.

    Without a type: A and AAAA of a name, PTR of an address. Without --at the system's own resolvers are asked; --at also takes
    "authoritative" for all authoritative servers of the name, and the groups of the estate's resolvers. Exit status: 0
    answered, 1 no such name or type, 3 no usable answer.
    """
    from salt_mirror.cli.ask_work import Work

    estate = open_estate(estate_file)
    work = Work(estate, words or [], at=at, view=view, suffixes=suffix or [], every=every, finders=finders(estate))
    keep_pace(work.servers, pace)
    show = _printer(brief=brief, detail=detail or raw, raw=raw, as_json=as_json)
    statuses: set[int] = set()
    with work.engine(timeout_s=timeout, tries=tries) as engine:
        try:
            next(show)
            for typed, asked in work.answers(_lines(work, source), engine, _complain):
                if asked is None:
                    statuses.add(USAGE)
                    continue
                show.send((asked, typed))
                statuses.add(0 if asked.answered else 1 if asked.usable else 3)
        except KeyboardInterrupt:
            statuses.add(130)
        finally:
            show.close()
    raise typer.Exit(next((status for status in (130, 2, 1, 3) if status in statuses), 0))


def _lines(work: Work, source: Path | None) -> Iterator[tuple[int | None, str]]:
    """The names to ask for, those of a file or of standard input with the numbers of their lines."""
    for name in work.names:
        yield None, name
    if source is not None:
        from salt_mirror.estate.errors import BadInput

        try:
            with source.open(encoding="utf-8-sig") as file:
                yield from enumerate(file, 1)
        except (OSError, UnicodeDecodeError) as error:
            raise BadInput(
                f"--from: {source} cannot be read ({getattr(error, 'strerror', None) or 'no UTF-8 text'})"
            ) from None
    if work.from_stdin:
        yield from enumerate(iter(sys.stdin.readline, ""), 1)


def _complain(line: int | None, what: str) -> None:
    place = f"line {line}: " if line is not None else ""
    sys.stderr.write(f"salt-mirror: {place}{what}\n")
    sys.stderr.flush()


Printer = Generator[None, tuple["Asked", str], None]
"""Takes what was asked and how it was typed, one name at a time, and prints it."""


def _printer(*, brief: bool, detail: bool, raw: bool, as_json: bool) -> Printer:
    if as_json:
        return _json_printer()
    return _brief_printer() if brief else _page_printer(detail=detail, raw=raw)


def _page_printer(*, detail: bool, raw: bool) -> Printer:
    from salt_mirror.report.terminal.answers import AnswerPage

    page = AnswerPage(sys.stdout, detail=detail, raw=raw)
    while True:
        asked, typed = yield
        page.show(asked, typed)
        sys.stdout.flush()


def _brief_printer() -> Printer:
    from salt_mirror.report.terminal.answers import in_order

    while True:
        asked, _ = yield
        for rdtype in asked.rdtypes:
            values = sorted({value for told in asked.at(rdtype) for value in told.values})
            sys.stdout.writelines(f"{text}\n" for text, _ in in_order(rdtype, values))
        sys.stdout.flush()


def _json_printer() -> Printer:
    from salt_mirror.report.forms.answers import name_line, opening

    out = sys.stdout.buffer
    out.write(opening())
    between = b"\n"
    try:
        while True:
            asked, typed = yield
            out.write(between + name_line(asked, typed))
            out.flush()
            between = b",\n"
    finally:
        out.write(b"]}\n")
        out.flush()

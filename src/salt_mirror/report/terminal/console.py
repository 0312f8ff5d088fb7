"""The console that everything on a terminal or in a pipe is printed through."""

from __future__ import annotations

from typing import TextIO

from rich.console import Console


class Printed(Console):
    """A console that leaves it to the program what becomes of a pipe that nobody reads any more."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def console_on(file: TextIO | None = None, *, width: int | None = None) -> Console:
    """A console that prints text as it is: no markup, no emoji, no highlighting; on standard output without a file."""
    return Printed(file=file, highlight=False, markup=False, emoji=False, width=width)

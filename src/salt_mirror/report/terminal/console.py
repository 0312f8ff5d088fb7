"""The console that everything on a terminal or in a pipe is printed through, and made safe by."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TextIO

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment

from salt_mirror.report.cleaning import clean_lines


class Printed(Console):
    """A console that leaves it to the program what becomes of a pipe that nobody reads any more, and lets no character through
    that a terminal would act on, whoever wrote it."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            if segment.control or segment.text.isprintable():
                yield segment
            else:
                yield Segment(clean_lines(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def console_on(file: TextIO | None = None, *, width: int | None = None) -> Console:
    """A console that prints text as it is: no markup, no emoji, no highlighting; on standard output without a file."""
    return Printed(file=file, highlight=False, markup=False, emoji=False, width=width)

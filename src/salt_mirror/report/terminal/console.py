"""The console that everything on a terminal or in a pipe is printed through, and made safe by."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import TextIO

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text

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
    """Return a console that prints text as it is: no markup, no emoji, no highlighting; on standard output without a file."""
    return Printed(file=file, highlight=False, markup=False, emoji=False, width=width)


def put_line(console: Console, text: Text | str, indent: int, *, wrap: bool) -> None:
    """Print a line behind its indent; with `wrap` in as many as the terminal needs, all but the first further in."""
    text = Text(text) if isinstance(text, str) else text
    if not wrap:
        console.print(Text(" " * indent) + text, soft_wrap=True)
        return
    for number, piece in enumerate(pieces(text, width_behind(console, indent))):
        console.print(Text(" " * (indent + (2 if number else 0))) + piece, soft_wrap=True)


def width_behind(console: Console, indent: int) -> int:
    """Return how much room a line has behind its indent."""
    return max(console.width - indent, 26) - 2


def pieces(text: Text, width: int) -> Iterator[Text]:
    """Return a text in lines of a width, divided between words alone: a name that is longer is not broken inside a label."""
    offsets, begin = [], 0
    for word in re.finditer(r"\S+", text.plain):
        if word.end() - begin > width and word.start() > begin:
            begin = word.start()
            offsets.append(begin)
    for line in text.divide(offsets):
        line.rstrip()
        yield line

"""The findings of a page as compact data: what many of them say alike stands there once.

Strategy: a finding is a text of fields. What varies in it, names, addresses and numbers, is taken out, and what is left is a
template; a row is the number of its template and what goes into it. A word that comes often is a number into a list of words.
The script of the page puts them together again; nothing is lost on the way, and `texts` does the same here.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from typing import Any, NamedTuple

FIELD = "\x1e"
"""What stands between the fields of a finding; no cleaned text has it."""

ENTRY = "\x1f"
"""What stands between the entries of a field that has several."""

_VARIES = re.compile(
    r"(?<![A-Za-z0-9_*\\/.:-])([A-Za-z_*\\/-]*(?:[0-9]|(?<=[A-Za-z_*\\/-])[.:](?=[A-Za-z0-9_*\\/-]))[A-Za-z0-9_*\\/.:-]*(?<![.:]))"
)
_NAME = re.compile(r"([A-Za-z0-9_*\\/-]+)\.([A-Za-z0-9_*\\/.-]*[A-Za-z][A-Za-z0-9_*\\/.-]*)\Z")
_OFTEN = 3


class Compact(NamedTuple):
    """Rows as data: `templates` are lists of texts and of places (numbers) in a row, `words` what comes often, `rows` the
    number of a template, then what goes into it, a number where it is a word."""

    templates: list[list[str | int]]
    words: list[str]
    rows: list[list[int | str]]


def compact(texts: Iterable[str]) -> Compact:
    """Return texts as compact data."""
    numbers: dict[tuple[str | int, ...], int] = {}
    rows: list[tuple[int, list[str]]] = []
    for text in texts:
        shape, found = _taken_apart(text)
        rows.append((numbers.setdefault(shape, len(numbers)), found))
    templates, rows = _without_constants(list(numbers), rows)
    counts = Counter(value for _, found in rows for value in found)
    words = {word: number for number, (word, count) in enumerate(counts.most_common()) if count >= _OFTEN}
    return Compact(
        templates, list(words), [[number, *(words.get(value, value) for value in found)] for number, found in rows]
    )


def texts(data: Compact) -> list[str]:
    """Return the texts that compact data stands for."""
    found = []
    for number, *values in data.rows:
        said = [data.words[value] if isinstance(value, int) else value for value in values]
        parts = data.templates[int(number)]
        found.append("".join(part if isinstance(part, str) else said[part] for part in parts))
    return found


def _taken_apart(text: str) -> tuple[tuple[str | int, ...], list[str]]:
    """Return a text as a template, and what varies in it."""
    shape: list[str | int] = []
    places: dict[str, int] = {}
    known: dict[str, tuple[int, ...]] = {}
    for at, piece in enumerate(_VARIES.split(text)):
        if not at % 2:
            shape.append(piece)
            continue
        if piece not in known:
            name = _NAME.match(piece)
            known[piece] = tuple(
                places.setdefault(part, len(places)) for part in (name.groups() if name is not None else (piece,))
            )
        first, *above = known[piece]
        shape.append(first)
        if above:
            shape += (".", above[0])
    return tuple(shape), list(places)


def _without_constants(
    shapes: list[tuple[str | int, ...]], rows: list[tuple[int, list[str]]]
) -> tuple[list[list[str | int]], list[tuple[int, list[str]]]]:
    """Templates that have taken in what is the same in all of their rows, and the rows without that."""
    seen: dict[int, list[str | None]] = {}
    for number, found in rows:
        same = seen.setdefault(number, list(found))
        for at, value in enumerate(found):
            if same[at] is not None and same[at] != value:
                same[at] = None
    templates: list[list[str | int]] = []
    for number, shape in enumerate(shapes):
        left = [at for at, value in enumerate(seen[number]) if value is None]
        parts: list[Any] = []
        for part in shape:
            fixed = seen[number][part] if isinstance(part, int) else part
            if fixed is None:
                parts.append(left.index(int(part)))
            elif parts and isinstance(parts[-1], str):
                parts[-1] += fixed
            else:
                parts.append(fixed)
        templates.append(parts)
    return templates, [
        (number, [value for at, value in enumerate(found) if seen[number][at] is None]) for number, found in rows
    ]

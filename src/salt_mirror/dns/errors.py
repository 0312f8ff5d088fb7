"""The one base of everything that somebody wrote and that cannot be used: names, records, files, options.

Strategy: whoever reads text raises a kind of `Unusable`, whose message stands on one line and says what would be right; so
nobody has to translate one such error into another, and the command line catches one class. `about` puts the place in front.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager


class Unusable(ValueError):
    """Text that cannot be used as it was written; the message says what is wrong with it and what would be right."""


@contextmanager
def about(place: str) -> Iterator[None]:
    """Names the place (an option, a key, a file with its line) in front of whatever is unusable inside the block."""
    try:
        yield
    except Unusable as error:
        raise type(error)(f"{place}: {error}") from None


def number_in(text: str, most: int) -> int | None:
    """Return a whole number written in ASCII digits, from 0 to `most`; None for anything else, however long it is."""
    if not (text.isascii() and text.isdigit()) or len(text.lstrip("0")) > len(str(most)):
        return None
    number = int(text.lstrip("0") or "0")
    return number if number <= most else None

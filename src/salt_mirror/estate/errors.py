"""The error of everything that an administrator wrote: what was read, where, what is wrong, what would be right."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches
from pathlib import Path
from typing import Self

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import printable, shown


class BadInput(Unusable):
    """Something that cannot be used as it was written. The message stands on one line and names the place."""

    @classmethod
    def at(cls, path: Path | str, line: int | None, what: str) -> Self:
        """Return an error in a file, with its line where that is known."""
        text = shown_path(path)
        return cls(f"{text}, line {line}: {what}" if line else f"{text}: {what}")

    @classmethod
    def unknown(
        cls, what: str, word: str, known: Iterable[str], *, otherwise: str = "", alike: float = 0.6
    ) -> BadInput:
        """Return a word that is not among the known ones: `what` says so, such as "there is no view"; the nearest one is
        offered.

        `otherwise` stands in the place of the list of known words where none is near; `alike` (0 to 1) is how near one must be.
        """
        return cls(f"{what} {shown(word)}; {hint(word, known, otherwise=otherwise, alike=alike)}")


class BadRow(BadInput):
    """A row of a list that cannot be used; `subject` is the name (canonical) and the type of its record, as far as they can be
    read."""

    subject: tuple[bytes, int] | None = None


def put_aside(problem: BadInput, problems: list[Unusable] | None) -> None:
    """Keep the problem of a damaged line with others. Raises it where nobody collects them."""
    if problems is None:
        raise problem from None
    problems.append(problem)


def shown_path(path: Path | str) -> str:
    """Return a path as it stands in a message: printable, and not longer than anybody reads."""
    clean = printable(str(path))
    return clean if len(clean) <= 300 else f"{clean[:200]}…{clean[-60:]}"


def nearest_word(word: str, known: Iterable[str], alike: float = 0.6) -> str | None:
    """Return the known word that is nearest to one that is not known; None where none is near."""
    words = list(known)
    near = get_close_matches(word, words, 1, alike) or get_close_matches(word.lower(), words, 1, alike)
    return near[0] if near else None


def hint(word: str, known: Iterable[str], *, otherwise: str = "", alike: float = 0.6) -> str:
    """Return what was meant by a word that is not known: `did you mean …?`, or what there is."""
    words = list(known)
    near = nearest_word(word, words, alike)
    return f'did you mean "{near}"?' if near is not None else otherwise or f"known: {', '.join(words) or 'none'}"

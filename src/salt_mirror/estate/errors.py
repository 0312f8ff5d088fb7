"""The one error of everything that an administrator wrote: what was read, where, what is wrong, what would be right."""

from __future__ import annotations

from pathlib import Path


class BadInput(ValueError):
    """Something that cannot be used as it was written. The message stands on one line and names the place."""

    @classmethod
    def at(cls, path: Path | str, line: int | None, what: str) -> BadInput:
        """An error in a file, with its line where that is known."""
        return cls(f"{path}, line {line}: {what}" if line else f"{path}: {what}")

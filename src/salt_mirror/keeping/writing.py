"""Files written whole or not at all, by one writer for everything.

Strategy: a regular file is written under a name that nobody can guess and that must not exist yet, beside the place where it
belongs, synced, given the mode of the file that it replaces, and renamed into its place; a reader sees the old file or the new
one, and a link is followed to what it stands for. Anything else (a device, a pipe) is written through.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import stat
from collections.abc import Iterable
from pathlib import Path

from salt_mirror.estate.errors import BadInput

PRIVATE = 0o600
"""The mode of files that tell what nobody else needs to know."""


def write_whole(
    path: Path, content: bytes | str | Iterable[bytes], place: str = "", *, mode: int | None = None
) -> None:
    """Writes a file whole or not at all. `place` is the option that names it; `mode` is for a file that is new.

    Raises BadInput.
    """
    pieces = (
        [content.encode("utf-8")] if isinstance(content, str) else [content] if isinstance(content, bytes) else content
    )
    try:
        target = path.resolve() if path.is_symlink() else path
        there = target.stat() if target.exists() else None
        if there is not None and not stat.S_ISREG(there.st_mode):
            with target.open("wb") as file:
                file.writelines(pieces)
            return
        _replace(target, pieces, stat.S_IMODE(there.st_mode) if there is not None else mode)
    except (OSError, ValueError) as error:
        begin = f"{place}: " if place else ""
        raise BadInput(f"{begin}{path} cannot be written: {getattr(error, 'strerror', None) or error}") from None


def _replace(target: Path, pieces: Iterable[bytes], mode: int | None) -> None:
    beside = target.with_name(f".{target.name[:80]}.{secrets.token_hex(8)}")
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)
    handle = os.open(beside, flags, 0o666 if mode is None else mode)
    try:
        with os.fdopen(handle, "wb") as file:
            file.writelines(pieces)
            file.flush()
            os.fsync(file.fileno())
        if mode is not None:
            beside.chmod(mode)
        beside.replace(target)
    except BaseException:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise

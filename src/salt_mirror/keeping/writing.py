"""Files written whole or not at all, by one writer for everything.

Strategy: what is to be written at the end is tried before anything is asked. A regular file is written under a name that nobody
can guess and that must not exist yet, beside the place where it belongs, synced, given the mode of the file that it
replaces, and renamed into its place; a reader sees the old file or the new one, and a link is followed to what it stands for.
Anything else (a device, a pipe) is written through; `-` is standard output.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import secrets
import stat
import sys
from collections.abc import Iterable
from pathlib import Path

from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import STANDARD_STREAM

PRIVATE = 0o600
"""The mode of files that tell what nobody else needs to know."""
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)


def path_from(folder: Path, file: Path) -> str:
    """Return a file's path as it is written in a file of a folder, with slashes on every system."""
    try:
        return Path(os.path.relpath(file.absolute(), folder.absolute())).as_posix()
    except ValueError:  # on another drive
        return file.absolute().as_posix()


def check_writable(path: Path, place: str = "") -> None:
    """Raise BadInput for a file that cannot be written, before there is anything to write; leave no trace of the trial."""
    if str(path) == STANDARD_STREAM:
        return
    try:
        target = path.resolve() if path.is_symlink() else path
        if target.is_dir():
            raise IsADirectoryError(None, "is a folder")
        if target.exists() and not target.is_file():
            return  # a device or a pipe: opening it may already mean something to whoever is at its other end
        if not target.parent.is_dir():
            raise FileNotFoundError(None, f"there is no folder {target.parent}")
        if target.exists() and not os.access(target, os.W_OK):
            raise PermissionError(None, "Permission denied")
        beside = _beside(target)
        os.close(os.open(beside, _NEW, PRIVATE))
        beside.unlink()
    except (OSError, ValueError, RuntimeError) as error:
        raise _unwritable(path, place, error) from None


def digest_of_lines(lines: Iterable[bytes]) -> str:
    """Return the SHA-256 of lines, each with its end."""
    digest = hashlib.sha256()
    for line in lines:
        digest.update(line + b"\n")
    return digest.hexdigest()


def _beside(target: Path) -> Path:
    """Return a name beside a file that nobody can guess, in bytes that any file system takes."""
    short = target.name.encode("utf-8", "surrogateescape")[:80].decode("utf-8", "ignore")
    return target.with_name(f".{short}.{secrets.token_hex(8)}")


def _unwritable(path: Path, place: str, error: Exception) -> BadInput:
    begin = f"{place}: " if place else ""
    return BadInput(f"{begin}{shown_path(path)} cannot be written: {getattr(error, 'strerror', None) or error}")


def write_whole(
    path: Path, content: bytes | str | Iterable[bytes], place: str = "", *, mode: int | None = None
) -> None:
    """Write a file whole or not at all. `place` is the option that names it; `mode` is for a file that is new.

    Raises BadInput.
    """
    pieces = (
        [content.encode("utf-8")] if isinstance(content, str) else [content] if isinstance(content, bytes) else content
    )
    try:
        if str(path) == STANDARD_STREAM:
            sys.stdout.buffer.writelines(pieces)
            sys.stdout.buffer.flush()
            return
        target = path.resolve() if path.is_symlink() else path
        there = target.stat() if target.exists() else None
        if there is not None and not stat.S_ISREG(there.st_mode):
            with target.open("wb") as file:
                file.writelines(pieces)
            return
        _replace(target, pieces, stat.S_IMODE(there.st_mode) if there is not None else mode)
    except BrokenPipeError:
        raise
    except (OSError, ValueError, RuntimeError) as error:
        raise _unwritable(path, place, error) from None


def _replace(target: Path, pieces: Iterable[bytes], mode: int | None) -> None:
    beside = _beside(target)
    handle = os.open(beside, _NEW, 0o666 if mode is None else mode)
    try:
        with os.fdopen(handle, "wb") as file:
            file.writelines(pieces)
            file.flush()
            # Before the rename, or a crash could leave an empty file in the place of the old one.
            os.fsync(file.fileno())
        # Beyond the umask: what is private stays so, and what replaces a file keeps that one's mode.
        if mode is not None:
            beside.chmod(mode)
        beside.replace(target)
    except BaseException:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise

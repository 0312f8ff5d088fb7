"""Text files that people and other programs wrote: their encodings, and JSON Lines.

Strategy: everything that is read goes through here, so that a byte order mark, a file in UTF-16 as spreadsheets save it, and
a damaged line mean the same wherever they turn up.
"""

from __future__ import annotations

import codecs
import os
import stat
import time
from collections.abc import Iterable, Iterator
from itertools import chain
from pathlib import Path
from typing import BinaryIO, TypeVar

import msgspec

from salt_mirror.estate.errors import BadInput

T = TypeVar("T")

STANDARD_STREAM = "-"
"""The file that is standard input where something is read, and standard output where it is written."""
MOST_BYTES = 256 << 20
"""So large a file is read, and so much may be in one that is packed."""
SILENT_S = 30.0
"""So long a pipe may bring nothing."""
_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))


def read_text(path: Path, *, missing: str = "", as_is: bool = False) -> str:
    """Return the text of a file in UTF-8, or in UTF-16 with a byte order mark; line ends become line feeds unless `as_is`.

    Raises BadInput; `missing` says what a file that is not there means.
    """
    text = decoded(read_bytes(path, missing=missing), path)
    return text if as_is else with_feeds(text)


def read_bytes(path: Path, *, missing: str = "") -> bytes:
    """Return the bytes of a file, or of a pipe. Raises BadInput."""
    try:
        found = _from_pipe(path) if _waits(path) else _from_file(path)
    except FileNotFoundError:
        raise BadInput.at(path, None, missing or "cannot be read: No such file or directory") from None
    except (OSError, ValueError) as error:
        raise BadInput.at(path, None, f"cannot be read: {getattr(error, 'strerror', None) or error}") from None
    if len(found) > MOST_BYTES:
        raise BadInput.at(path, None, f"is larger than {MOST_BYTES >> 20} MiB, which no file for this is")
    return found


def _from_file(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(MOST_BYTES + 1)


def _waits(path: Path) -> bool:
    """Return whether reading may wait for somebody: a pipe, a socket or a terminal (POSIX)."""
    mode = path.stat().st_mode
    return os.name == "posix" and (stat.S_ISFIFO(mode) or stat.S_ISCHR(mode) or stat.S_ISSOCK(mode))


def _from_pipe(path: Path) -> bytes:
    """Return what comes through a pipe until its end; nobody is waited for longer than `SILENT_S` at a time."""
    import select

    found = bytearray()
    at_once = getattr(os, "O_NONBLOCK", 0)  # opening a pipe that nobody writes to would wait too
    handle = os.open(path, os.O_RDONLY | at_once)
    try:
        began = not stat.S_ISFIFO(os.fstat(handle).st_mode)  # a device without bytes is at its end
        over_at = time.monotonic() + SILENT_S
        while len(found) <= MOST_BYTES:
            ready = select.select([handle], [], [], max(0.0, over_at - time.monotonic()))[0]
            piece = os.read(handle, 1 << 20) if ready else b""
            if piece:
                found += piece
                began, over_at = True, time.monotonic() + SILENT_S
            elif began and ready:
                break
            elif time.monotonic() >= over_at:
                raise OSError(None, f"nothing came for {SILENT_S:g} s")
            else:
                time.sleep(0.01)  # nobody has opened its other end yet
    finally:
        os.close(handle)
    return bytes(found)


def is_there(path: Path) -> bool:
    """Return whether there is such a file; not for a path that no file can have."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def decoded(raw: bytes, path: Path | str) -> str:
    """Return bytes as text. Raises BadInput for what is neither UTF-8 nor marked as UTF-16."""
    mark, encoding = _encoding_of(raw)
    try:
        return raw[len(mark) :].decode(encoding)
    except UnicodeDecodeError as error:
        what = "UTF-8 text" if encoding == "utf-8" else "UTF-16 text, as its first bytes say"
        raise BadInput.at(path, None, f"is no {what} (byte {error.start + len(mark)})") from None


def _encoding_of(raw: bytes) -> tuple[bytes, str]:
    """Return the byte order mark that bytes begin with, and the encoding that it stands for."""
    return next(((mark, name) for mark, name in _MARKS if raw.startswith(mark)), (b"", "utf-8"))


def with_feeds(text: str) -> str:
    """Return a text whose lines end in line feeds alone."""
    return text.replace("\r\n", "\n").replace("\r", "\n")


def given_text(stream: BinaryIO) -> str:
    """Return the text of standard input, encoded in any way that a file may be. Raises BadInput."""
    return with_feeds(decoded(stream.read(), "standard input"))


def given_lines(stream: BinaryIO) -> Iterator[str]:
    """Return the lines of standard input as they come, in UTF-8, or in UTF-16 with a byte order mark as some shells pipe it.

    Bytes of a line that are neither stay in it as surrogates: that line is no name, and hides no other.
    """
    begin = stream.readline()
    mark, encoding = _encoding_of(begin)
    if encoding != "utf-8":
        yield from decoded(begin + stream.read(), "standard input").splitlines()
        return
    for line in chain([begin[len(mark) :]], iter(stream.readline, b"")):
        if not line:
            return
        yield line.decode(encoding, "surrogateescape")


def json_lines(
    lines: Iterable[bytes | str], kind: type[T], path: Path | str, first: int = 1
) -> Iterator[tuple[int, T | BadInput]]:
    """JSON Lines: each line's number (from `first`) with what it holds, or with the error for a damaged one. Empty ones are
    passed over."""
    decode = msgspec.json.Decoder(kind).decode
    for number, line in enumerate(lines, first):
        if not line.strip():
            continue
        try:
            yield number, decode(line)
        except (msgspec.DecodeError, UnicodeError, RecursionError) as error:
            yield number, BadInput.at(path, number, str(error).replace("`", '"'))


def whole(lines: Iterable[tuple[int, T | BadInput]]) -> Iterator[tuple[int, T]]:
    """Return the same where a damaged line is the end. Raises BadInput."""
    for number, one in lines:
        if isinstance(one, BadInput):
            raise one
        yield number, one

"""A message as one line of JSON at the end of a file."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from salt_mirror.estate.notify import Channel
from salt_mirror.keeping.writing import PRIVATE, check_writable
from salt_mirror.notify.trouble import Undelivered
from salt_mirror.report.json.notice import Notice


def check(channel: Channel) -> None:
    """Raise BadInput for a file that cannot be written."""
    check_writable(_file(channel), f"notify, {channel.name}")


def written(channel: Channel, notice: Notice) -> str:
    """Return the line."""
    return msgspec.json.encode(notice).decode("utf-8")


def send(channel: Channel, notice: Notice) -> None:
    """Append the line, in one write. Raises Undelivered."""
    path = _file(channel)
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_BINARY", 0), PRIVATE)
        with os.fdopen(handle, "ab", buffering=0) as file:
            line = f"{written(channel, notice)}\n".encode()
            if file.write(line) != len(line):
                raise Undelivered(f"{path}: only a part of the line could be written")
    except OSError as error:
        raise Undelivered(f"{path}: {error.strerror or error}") from None


def _file(channel: Channel) -> Path:
    assert isinstance(channel.way, Path)
    return channel.way

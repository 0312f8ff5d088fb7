"""A message to a program: the document on its standard input, no shell in between.

Strategy: nothing that came from the network is in an argument. The program has a time, and is ended when that is over.
"""

from __future__ import annotations

import shutil
import subprocess

import msgspec

from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.notify import Channel
from salt_mirror.notify.trouble import PATIENCE_S, Undelivered
from salt_mirror.report.json.notice import Notice

_LONGEST_S = 2 * PATIENCE_S


def check(channel: Channel) -> None:
    """Raise BadInput for a program that is not there."""
    _program(channel)


def written(channel: Channel, notice: Notice) -> str:
    """Return what the program reads."""
    return msgspec.json.encode(notice).decode("utf-8") + "\n"


def send(channel: Channel, notice: Notice) -> None:
    """Run the program. Raises Undelivered where it does not end with 0."""
    program, *arguments = _program(channel)
    process = subprocess.Popen(
        [program, *arguments],
        cwd=channel.folder,
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    try:
        _, said = process.communicate(written(channel, notice).encode("utf-8"), timeout=_LONGEST_S)
    except subprocess.TimeoutExpired:
        process.kill()
        raise Undelivered(f"{program} did not end within {_LONGEST_S:g} s, and was ended") from None
    if process.returncode:
        last = said.decode("utf-8", "replace").strip().splitlines()[-1:]
        raise Undelivered(f"{program} ended with status {process.returncode}" + (f": {last[0]}" if last else ""))


def _program(channel: Channel) -> list[str]:
    """Return the program by its path, found beside the estate or on the way to programs, with its arguments."""
    assert isinstance(channel.way, list)
    name, *arguments = channel.way
    beside = channel.folder / name
    found = str(beside) if beside.is_file() else shutil.which(name)
    if found is None:
        raise BadInput(f"notify, {channel.name}: command: there is no program {name}")
    return [found, *arguments]

"""Reads a directory, by a process of its own that is ended when nothing comes any more."""

from __future__ import annotations

import queue
import subprocess
import sys
import threading
import time

import msgspec

from salt_mirror.estate.directory.child import STILL, Ended
from salt_mirror.estate.directory.found import Access, DirectoryFailed, FoundDirectory

SILENCE_S = 20.0
"""So long nothing may come."""
WHOLE_S = 600.0
"""So long all of it may take."""


def read_directory(access: Access, *, silence_s: float = SILENCE_S, whole_s: float = WHOLE_S) -> FoundDirectory:
    """Return everything that a directory tells. Raises DirectoryFailed."""
    command = [sys.executable, "-m", "salt_mirror.estate.directory.child"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as child:
        try:
            return _result(child, access, silence_s, time.monotonic() + whole_s)
        finally:
            child.kill()


def _result(child: subprocess.Popen[bytes], access: Access, silence_s: float, until: float) -> FoundDirectory:
    assert child.stdin is not None and child.stdout is not None
    lines: queue.SimpleQueue[bytes] = queue.SimpleQueue()
    threading.Thread(target=_listen, args=(child, lines), daemon=True).start()
    try:
        child.stdin.write(msgspec.json.encode(access))
        child.stdin.close()
    except OSError:
        pass  # it has ended already; what it said, or that it said nothing, follows
    while True:
        left = min(silence_s, until - time.monotonic())
        try:
            line = lines.get(timeout=max(left, 0.0))
        except queue.Empty:
            raise DirectoryFailed(f"it said nothing for {silence_s:g} s, and was given up") from None
        if not line:
            raise DirectoryFailed("the connection came to grief: what it sent could not be read")
        if line.rstrip() != STILL:
            ended = msgspec.json.decode(line, type=Ended)
            if ended.found is None:
                raise DirectoryFailed(ended.failed, ended.detail, ours=ended.ours)
            return ended.found


def _listen(child: subprocess.Popen[bytes], lines: queue.SimpleQueue[bytes]) -> None:
    assert child.stdout is not None
    for line in child.stdout:
        lines.put(line)
    lines.put(b"")

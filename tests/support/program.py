"""The installed program, run as a user runs it."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema

from salt_mirror.report.json import schema_file

PROGRAM = Path(sys.executable).with_name("salt-mirror.exe" if os.name == "nt" else "salt-mirror")


class Outcome:
    """What a run of the installed program left behind."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.status = done.returncode
        self.out = done.stdout
        self.err = done.stderr

    @property
    def report(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.out)
        return found

    @property
    def document(self) -> dict[str, Any]:
        """The JSON document that was printed, which is as its schema has it."""
        found = self.report
        name = found["schema"].split("/")[1]
        jsonschema.validate(found, json.loads(schema_file(name).read_text(encoding="utf-8")))
        return found


Run = Callable[..., Outcome]
"""Runs the program with arguments, in a folder of the test's own."""


def begin(*arguments: str, cwd: Path | None = None, **more: Any) -> subprocess.Popen[str]:
    """Starts the program and leaves it running, in a process group of its own on Windows, so that it can be interrupted."""
    flags: int = getattr(subprocess, "CREATE_NEW_PROCESS_GROUP", 0)
    environment = os.environ | {"SALT_MIRROR_RESOLVERS": "", "NO_COLOR": "1"}
    return subprocess.Popen(
        [str(PROGRAM), *arguments], cwd=cwd, env=environment, text=True, encoding="utf-8", creationflags=flags, **more
    )


def interrupt(process: subprocess.Popen[Any]) -> None:
    """Ctrl-C, or what comes nearest to it for a process of its own on Windows."""
    if sys.platform == "win32":
        process.send_signal(signal.CTRL_BREAK_EVENT)
    else:
        process.send_signal(signal.SIGINT)

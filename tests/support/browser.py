"""A real browser without a window, to see what a page does."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from support.waiting import until


class Browser:
    """Chromium without a window, spoken to over a pipe."""

    def __init__(self, process: subprocess.Popen[bytes], to: int, back: int) -> None:
        self.process = process
        self._to, self._back = to, back
        self._held = b""
        self._number = 0
        self._session = ""

    def call(self, method: str, **parameters: Any) -> Any:
        self._number += 1
        message = {"id": self._number, "method": method, "params": parameters}
        if self._session:
            message["sessionId"] = self._session
        os.write(self._to, json.dumps(message).encode() + b"\0")
        while True:
            while b"\0" not in self._held:
                self._held += os.read(self._back, 65536)
            text, _, self._held = self._held.partition(b"\0")
            said = json.loads(text)
            if said.get("id") == self._number:
                assert "error" not in said, said
                return said["result"]

    def open(self, url: str) -> None:
        self._session = ""
        target = self.call("Target.createTarget", url=url)["targetId"]
        self._session = self.call("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        until(lambda: self.value("document.readyState + ' ' + location.href") == f"complete {url}")

    def value(self, expression: str) -> Any:
        return self.call("Runtime.evaluate", expression=expression, returnByValue=True, awaitPromise=True)[
            "result"
        ].get("value")


@contextmanager
def browser(folder: Path) -> Iterator[Browser]:
    path = shutil.which("chromium")
    if path is None or sys.platform == "win32":
        pytest.skip("chromium is not installed (make test installs it when run as root)")
    theirs_in, to = os.pipe()
    back, theirs_out = os.pipe()

    def wire() -> None:
        os.dup2(theirs_in, 3)
        os.dup2(theirs_out, 4)
        os.set_inheritable(3, True)  # where it was there already, it is still to be closed
        os.set_inheritable(4, True)

    command = [path, "--headless", "--no-sandbox", "--disable-gpu", "--remote-debugging-pipe"]
    process = subprocess.Popen(
        [*command, f"--user-data-dir={folder / 'profile'}"], close_fds=False, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL, preexec_fn=wire,  # noqa: PLW1509 (it puts the two pipes in their places, and nothing else)
    )  # fmt: skip
    try:
        yield Browser(process, to, back)
    finally:
        process.kill()
        process.wait()
        for end in (theirs_in, to, back, theirs_out):
            os.close(end)

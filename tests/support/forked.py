"""The program without its start-up: a process that has loaded all of it, and forks for each run.

Strategy: a run takes less time than the interpreter and the modules take to load, and the suite has more than a thousand.
So one process for each worker loads everything once; a run is a fork of it, with words, folder, environment and streams
of its own, through the very function that the installed program begins with. Start-up itself, signals, terminals and what
a shell sees are tested on the installed program (`support.program.begin`, subprocess). Where nothing can be forked the
installed program is run.
"""

from __future__ import annotations

import atexit
import gc
import os
import pkgutil
import selectors
import signal
import socket
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from typing import IO

import msgspec

ABLE = hasattr(os, "fork") and hasattr(socket, "send_fds") and sys.platform == "linux"
_LEFT_OUT = ("salt_mirror.__main__", "salt_mirror.demo.vantages")
_KILL = getattr(signal, "SIGKILL", signal.SIGTERM)


class Errand(msgspec.Struct):
    """A run: the program's words, where, and with which variables."""

    words: list[str]
    folder: str
    environment: dict[str, str]


class Forks:
    """The loaded process, from its first run until the tests end."""

    _process: subprocess.Popen[bytes]

    def __init__(self, folder: Path) -> None:
        if sys.platform == "win32":
            raise NotImplementedError
        self._path = str(folder / "forks")
        listener = socket.socket(socket.AF_UNIX)
        listener.bind(self._path)
        listener.listen(64)
        call = [sys.executable, "-c", "from support.forked import serve; serve()", str(listener.fileno())]
        environment = os.environ | {"PYTHONPATH": str(Path(__file__).parents[1])}
        self._process = subprocess.Popen(
            call, pass_fds=[listener.fileno()], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, env=environment
        )
        listener.close()

    def run(
        self, words: Sequence[str], folder: Path, environment: dict[str, str], stdin: IO[bytes] | None, timeout_s: float
    ) -> subprocess.CompletedProcess[str]:
        """Runs the program; raises TimeoutExpired where it does not end."""
        if sys.platform == "win32":
            raise NotImplementedError
        with socket.socket(socket.AF_UNIX) as asking, open(os.devnull, "rb") as nothing:  # noqa: PTH123
            asking.connect(self._path)
            outputs = [os.pipe(), os.pipe()]
            payload = msgspec.json.encode(Errand(list(words), str(folder), environment))
            streams = [(stdin or nothing).fileno(), *(end for _, end in outputs)]
            socket.send_fds(asking, [len(payload).to_bytes(4, "big")], streams)
            asking.sendall(payload)
            for _, end in outputs:
                os.close(end)
            return self._ended(words, asking, [os.fdopen(end, "rb") for end, _ in outputs], timeout_s)

    def _ended(
        self, words: Sequence[str], asking: socket.socket, outputs: list[IO[bytes]], timeout_s: float
    ) -> subprocess.CompletedProcess[str]:
        said: dict[IO[bytes], bytearray] = {output: bytearray() for output in outputs}
        over_at = time.monotonic() + timeout_s
        pid = int.from_bytes(_exactly(asking, 4), "big")
        with selectors.DefaultSelector() as selector:
            for output in outputs:
                selector.register(output, selectors.EVENT_READ)
            while selector.get_map():
                if time.monotonic() > over_at:
                    os.kill(pid, _KILL)
                    raise subprocess.TimeoutExpired(list(words), timeout_s)
                for key, _ in selector.select(1.0):
                    piece = os.read(key.fd, 1 << 16)
                    said[key.fileobj] += piece  # type: ignore[index]
                    if not piece:
                        selector.unregister(key.fileobj)
        for output in outputs:
            output.close()
        status = int.from_bytes(_exactly(asking, 4), "big", signed=True)
        out, err = (bytes(said[output]).decode("utf-8").replace("\r\n", "\n") for output in outputs)
        return subprocess.CompletedProcess(list(words), status, out, err)

    def close(self) -> None:
        """Ends the loaded process."""
        self._process.kill()
        self._process.wait()


def _exactly(sock: socket.socket, size: int) -> bytes:
    held = b""
    while len(held) < size:
        piece = sock.recv(size - len(held))
        if not piece:
            raise EOFError("the loaded process is gone")
        held += piece
    return held


def serve() -> None:
    """The loaded process: a fork for each connection, which waits for a fork of its own that is the run."""
    if sys.platform == "win32":
        raise NotImplementedError
    listener = socket.socket(fileno=int(sys.argv[1]))
    _load()
    while True:
        signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # whoever waits for a run ends unwatched
        asking, _ = listener.accept()
        if os.fork():
            asking.close()
            continue
        listener.close()
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        head, streams, _, _ = socket.recv_fds(asking, 4, 3)
        errand = msgspec.json.decode(_exactly(asking, int.from_bytes(head, "big")), type=Errand)
        pid = os.fork()
        if not pid:
            _become(asking, errand, streams)
            os._exit(_status())
        for stream in streams:
            os.close(stream)
        asking.sendall(pid.to_bytes(4, "big"))
        _, status = os.waitpid(pid, 0)
        asking.sendall(os.waitstatus_to_exitcode(status).to_bytes(4, "big", signed=True))
        os._exit(0)


def _load() -> None:
    """Loads everything that a run may want, but for what begins threads by being loaded."""
    import salt_mirror

    for module in pkgutil.walk_packages(salt_mirror.__path__, "salt_mirror."):
        if not module.name.startswith(_LEFT_OUT):
            import_module(module.name)
    for name in ("dns.message", "dns.update", "dns.zone", "httpx", "jinja2", "rapidfuzz", "markdown_it", "typer.main"):
        import_module(name)
    gc.collect()
    gc.freeze()  # a fork that never looks at these copies none of their pages


def _status() -> int:
    """Runs the program and does what an interpreter does at its end, but for taking every module apart; the exit status."""
    from salt_mirror.entry import run

    try:
        run()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        traceback.print_exc()
        status = 1
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except OSError:
        status = 120
    return status


def _become(asking: socket.socket, errand: Errand, streams: list[int]) -> None:
    """Makes this process what the program finds when it begins."""
    if sys.platform == "win32":
        raise NotImplementedError
    asking.close()
    for number, stream in enumerate(streams):
        os.dup2(stream, number)
        os.close(stream)
    os.chdir(errand.folder)
    os.environ.clear()
    os.environ.update(errand.environment)
    time.tzset()
    sys.argv = ["salt-mirror", *errand.words]
    sys.stdin, sys.stdout, sys.stderr = (open(at, mode, encoding="utf-8") for at, mode in enumerate("rww"))  # noqa: SIM115, PTH123
    signal.signal(signal.SIGINT, signal.default_int_handler)

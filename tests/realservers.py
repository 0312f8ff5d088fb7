"""Real name servers from Debian's packages, started on high ports of loopback and stopped again.

Where a server is not installed its tests are skipped with a plain message; in CI (CI=true) they fail instead.
"""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from salt_mirror.dns.engine import Engine
from salt_mirror.dns.names import ROOT, from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import SOA

LOOPBACK = bytes((127, 0, 0, 1))


def program(name: str) -> str:
    """The path of a server's program, or the end of the test."""
    found = shutil.which(name, path=os.environ.get("PATH", "") + os.pathsep + "/usr/sbin")
    if found is None:
        missing = f"{name} is not installed (make test installs it when run as root)"
        if os.environ.get("CI"):
            pytest.fail(missing)
        pytest.skip(missing)
    return found


def free_port() -> int:
    """A port that nobody listens on, UDP and TCP."""
    for _ in range(50):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as udp, socket.socket() as tcp:
            udp.bind(("127.0.0.1", 0))
            try:
                tcp.bind(udp.getsockname())
            except OSError:
                continue
            return int(udp.getsockname()[1])
    raise OSError("no free port")


@contextmanager
def running(command: list[str], folder: Path, label: str, port: int, zone: str | None) -> Iterator[Server]:
    """A server's process, from the moment it answers for a zone (the root where None) until the end of the block."""
    log = folder / "log"
    with log.open("wb") as output:
        process = subprocess.Popen(
            command, cwd=folder, stdout=output, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL
        )
        server = Server(label, LOOPBACK, port)
        try:
            name = from_text(zone) if zone is not None else ROOT
            _wait(server, name, process, log)
            yield server
        finally:
            process.terminate()
            try:
                process.wait(10)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()


def _wait(server: Server, name: bytes, process: subprocess.Popen[bytes], log: Path) -> None:
    until = time.monotonic() + 20
    while time.monotonic() < until and process.poll() is None:
        with Engine(timeout_s=0.2, tries=1) as engine:
            engine.submit(Question(name, SOA, server, True))
            if engine.collect()[0].status not in ("timeout", "unreachable", "SERVFAIL"):
                return
        time.sleep(0.05)
    raise RuntimeError(f"{server.label} did not come up:\n{log.read_text(errors='replace')[-2000:]}")


@contextmanager
def nsd(
    folder: Path, zones: dict[str, str], *, label: str = "nsd", provide: str = "", extra: str = ""
) -> Iterator[Server]:
    """NSD serving zones, given as texts by origin."""
    path = program("nsd")
    port = free_port()
    folder.mkdir(parents=True, exist_ok=True)
    lines = [
        "server:", "  server-count: 1", f"  ip-address: 127.0.0.1@{port}", '  username: ""', '  chroot: ""',
        f'  zonesdir: "{folder}"', f'  pidfile: "{folder}/pid"', f'  xfrdfile: "{folder}/xfrd.state"',
        f'  zonelistfile: "{folder}/zone.list"', f'  xfrdir: "{folder}"', '  database: ""', "  round-robin: yes",
        "  rrl-ratelimit: 0",
        "remote-control:", "  control-enable: no", extra,
    ]  # fmt: skip
    for number, (origin, text) in enumerate(zones.items()):
        (folder / f"zone{number}").write_text(text, encoding="utf-8")
        lines += ["zone:", f'  name: "{origin}"', f'  zonefile: "zone{number}"']
        lines += [f"  provide-xfr: {provide}"] if provide else []
    config = folder / "nsd.conf"
    config.write_text("\n".join(lines) + "\n", encoding="utf-8")
    with running([path, "-d", "-c", str(config)], folder, label, port, next(iter(zones))) as server:
        yield server

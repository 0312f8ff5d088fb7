"""Offices on one machine: a network namespace for each, with an Unbound of its own, around a hub with the authoritative
servers.

Made and taken away by the test; nothing in it leads out of the machine. Without root, or without iproute2, its tests are
skipped; in CI they fail.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from support.program import PROGRAM
from support.realservers import end, program
from support.waiting import until

INSIDE, PUBLIC, BROKER = "192.0.2.53", "192.0.2.54", "192.0.2.60"
PORT = 8883


def _ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True, capture_output=True)


def able() -> None:
    """Ends the test where namespaces cannot be made."""
    possible = sys.platform == "linux" and os.geteuid() == 0 and shutil.which("ip") is not None
    if possible:
        done = subprocess.run(["ip", "netns", "add", f"smtry{os.getpid()}"], capture_output=True, check=False)
        possible = done.returncode == 0
        subprocess.run(["ip", "netns", "del", f"smtry{os.getpid()}"], capture_output=True, check=False)
    if not possible:
        missing = "network namespaces cannot be made here (that wants root and iproute2)"
        if os.environ.get("CI"):
            pytest.fail(missing)
        pytest.skip(missing)


@dataclass
class Offices:
    """The hub and its offices. `folder` holds the estate, the keys and all that the servers need."""

    folder: Path
    stack: ExitStack
    hub: str
    names: dict[str, str] = field(default_factory=dict)
    joined: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)
    broker: subprocess.Popen[bytes] | None = None

    def at(self, where: str, *words: str) -> list[str]:
        """A command line that runs in a namespace."""
        return ["ip", "netns", "exec", where, *words]

    def begin(self, where: str, *words: str, log: str, **variables: str) -> subprocess.Popen[bytes]:
        """Begins a program in a namespace; it ends with the world."""
        output = self.stack.enter_context((self.folder / log).open("wb"))
        process = subprocess.Popen(
            self.at(where, *words), cwd=self.folder, stdout=output, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL,
            env=os.environ | {"NO_COLOR": "1"} | variables,
        )  # fmt: skip
        self.stack.callback(end, process)
        return process

    def run(self, *words: str, timeout: float = 90) -> subprocess.CompletedProcess[str]:
        """Runs the installed program at the hub."""
        return subprocess.run(
            self.at(self.hub, str(PROGRAM), *words), cwd=self.folder, text=True, encoding="utf-8", capture_output=True,
            timeout=timeout, check=False, env=os.environ | {"SALT_MIRROR_RESOLVERS": "", "NO_COLOR": "1"},
        )  # fmt: skip

    def join(self, name: str, *more: str, **variables: str) -> None:
        """Lets an office join the broker as a vantage, and waits until it has."""
        log = f"{name}.join.log"
        self.joined[name] = self.begin(
            self.names[name], str(PROGRAM), "vantage", "join", f"{BROKER}:{PORT}", "--name", name, "--keys",
            "keys", *more, log=log, SALT_MIRROR_RESOLVERS="127.0.0.1", **variables,
        )  # fmt: skip
        until(lambda: f"{name} is at" in (self.folder / log).read_text(encoding="utf-8"))

    def cut(self, name: str, *, again: bool = False) -> None:
        """Cuts an office's link, or mends it."""
        _ip("-n", self.hub, "link", "set", f"to-{name}", "up" if again else "down")
        if again:
            _ip("-n", self.hub, "route", "replace", f"{self._net(name)[1]}/32", "dev", f"to-{name}")

    def sent_by(self, name: str) -> int:
        """How many packets have come from an office."""
        words = ["ip", "-n", self.hub, "-s", "-j", "link", "show", "dev", f"to-{name}"]
        (link,) = json.loads(subprocess.run(words, check=True, capture_output=True).stdout)
        return int(link["stats64"]["rx"]["packets"])

    def _net(self, name: str) -> tuple[str, str]:
        at = 4 * list(self.names).index(name)
        return f"198.51.100.{at + 1}", f"198.51.100.{at + 2}"

    def _link(self, name: str) -> None:
        here, there = self._net(name)
        where = self.names[name]
        _ip("-n", self.hub, "link", "add", f"to-{name}", "type", "veth", "peer", "name", "hub", "netns", where)
        _ip("-n", self.hub, "addr", "add", f"{here}/30", "dev", f"to-{name}")
        _ip("-n", self.hub, "link", "set", f"to-{name}", "up")
        for words in (
            ("addr", "add", f"{there}/30", "dev", "hub"),
            ("link", "set", "hub", "up"),
            ("link", "set", "lo", "up"),
        ):
            _ip("-n", where, *words)
        _ip("-n", where, "route", "add", "default", "via", here)

    def nsd(self, label: str, address: str, zones: dict[str, str]) -> Path:
        """An NSD at the hub; returns the folder with its zone files."""
        folder = self.folder / label
        folder.mkdir()
        lines = [
            "server:", "  server-count: 1", f"  ip-address: {address}@53", '  username: ""', '  chroot: ""',
            f'  zonesdir: "{folder}"', f'  pidfile: "{folder}/pid"', f'  xfrdfile: "{folder}/xfrd.state"',
            f'  zonelistfile: "{folder}/zone.list"', f'  xfrdir: "{folder}"', '  database: ""', "  rrl-ratelimit: 0",
            "remote-control:", "  control-enable: no",
        ]  # fmt: skip
        for origin, text in zones.items():
            (folder / f"{origin}.zone").write_text(text, encoding="utf-8")
            lines += ["zone:", f'  name: "{origin}"', f'  zonefile: "{folder}/{origin}.zone"']
        (folder / "nsd.conf").write_text("\n".join(lines) + "\n", encoding="utf-8")
        process = self.begin(self.hub, program("nsd"), "-d", "-c", str(folder / "nsd.conf"), log=f"{label}.log")
        until((folder / "pid").exists)
        assert process.poll() is None
        return folder

    def unbound(self, name: str, stubs: dict[str, str]) -> None:
        """An office's own resolver, which asks servers by zone."""
        folder = self.folder / f"unbound-{name}"
        folder.mkdir()
        lines = [
            "server:", '  username: ""', '  chroot: ""', f'  directory: "{folder}"', f'  pidfile: "{folder}/pid"',
            "  use-syslog: no", "  num-threads: 1", "  interface: 127.0.0.1", "  do-ip6: no", '  module-config: "iterator"',
            '  local-zone: "." refuse', *(f'  local-zone: "{zone}" transparent' for zone in stubs),
            "remote-control:", "  control-enable: no",
        ]  # fmt: skip
        for zone, address in stubs.items():
            lines += ["stub-zone:", f'  name: "{zone}"', f"  stub-addr: {address}", "  stub-prime: no"]
        (folder / "unbound.conf").write_text("\n".join(lines) + "\n", encoding="utf-8")
        self.begin(
            self.names[name], program("unbound"), "-d", "-c", str(folder / "unbound.conf"), log=f"unbound-{name}.log"
        )
        until((folder / "pid").exists)


@contextmanager
def offices(folder: Path, names: Sequence[str]) -> Iterator[Offices]:
    """A hub and offices, linked; whoever wants servers starts them."""
    able()
    with ExitStack() as stack:
        number = os.getpid()
        hub = f"smhub{number}"
        found = Offices(folder, stack, hub, {name: f"sm{name}{number}" for name in names})
        for where in (hub, *found.names.values()):
            _ip("netns", "add", where)
            stack.callback(subprocess.run, ["ip", "netns", "del", where], capture_output=True, check=False)
        _ip("-n", hub, "link", "set", "lo", "up")
        for address in (INSIDE, PUBLIC, BROKER):
            _ip("-n", hub, "addr", "add", f"{address}/32", "dev", "lo")
        for name in names:
            found._link(name)
        yield found

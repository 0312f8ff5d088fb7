"""A computer in a network namespace of the test's own, with its own hosts file, nsswitch.conf and resolv.conf, and real servers
in another one beside it.

Each server has an address of its own at port 53, as in a real network; nothing of it can be reached from outside. It needs root
and iproute2; where they are not there its tests are skipped with a plain message.
"""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

import pytest

from support.program import PROGRAM, Outcome
from support.realservers import end, program
from support.waiting import PATIENCE_S

OWN = ("10.77.30.13",)
"""The addresses of the computer itself."""
_PROBE = """
import sys, dns.message, dns.query
query = dns.message.make_query(sys.argv[2], 'SOA')
dns.query.udp(query, sys.argv[1], timeout=0.3)
"""
_SILENT = """
import socket, sys, time
udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); udp.bind((sys.argv[1], 53))
tcp = socket.create_server((sys.argv[1], 53))
time.sleep(600)
"""


class Computer:
    """The computer: what it is set to, and programs run on it."""

    def __init__(self, folder: Path, stack: ExitStack) -> None:
        self.folder = folder
        self._space = f"salt-{os.getpid()}"
        self._etc = Path("/etc/netns") / self._space
        self._stack = stack
        self._etc.mkdir(parents=True)
        stack.callback(shutil.rmtree, self._etc)
        self._around = f"{self._space}-around"
        for space in (self._space, self._around):
            subprocess.run(["ip", "netns", "add", space], check=True)
            stack.callback(subprocess.run, ["ip", "netns", "del", space], check=False)
            _ip(space, "link", "set", "lo", "up")
        _ip(self._space, "link", "add", "eth0", "type", "veth", "peer", "name", "wall", "netns", self._around)
        for space, link in ((self._space, "eth0"), (self._around, "wall")):
            _ip(space, "link", "set", link, "up")
        _ip(self._around, "addr", "add", "10.77.30.1/32", "dev", "wall")
        for address in OWN:
            _ip(self._space, "addr", "add", f"{address}/32", "dev", "eth0")
            _ip(self._around, "route", "add", f"{address}/32", "dev", "wall")
        _ip(self._space, "route", "add", "default", "dev", "eth0")
        self.set()

    def set(
        self,
        *resolvers: str,
        hosts: str = "",
        order: str = "files dns",
        search: str = "pans.gullmarsh.internal",
        options: str = "timeout:1 attempts:1",
        name: str = "manifest",
    ) -> None:
        """Writes its settings anew."""
        text = f"search {search}\noptions {options}\n" + "".join(f"nameserver {one}\n" for one in resolvers)
        (self._etc / "resolv.conf").write_text(text, encoding="utf-8")
        (self._etc / "hosts").write_text(f"127.0.0.1 localhost\n127.0.1.1 {name}\n{hosts}", encoding="utf-8")
        (self._etc / "nsswitch.conf").write_text(f"passwd: files\nhosts: {order}\n", encoding="utf-8")
        (self._etc / "hostname").write_text(f"{name}\n", encoding="utf-8")

    def run(self, *arguments: str, timeout: float = PATIENCE_S) -> Outcome:
        """Runs the program on it."""
        environment = {key: value for key, value in os.environ.items() if key != "SALT_MIRROR_RESOLVERS"}
        return Outcome(
            subprocess.run(
                _within(self._space, str(PROGRAM), *arguments), cwd=self.folder, env=environment | {"NO_COLOR": "1"},
                capture_output=True, text=True, encoding="utf-8", timeout=timeout, check=False,
            )
        )  # fmt: skip

    def begin(self, address: str, command: Sequence[str], zone: str) -> subprocess.Popen[bytes]:
        """Starts a server at an address of its own, and waits until it answers for a zone (any answer; none where empty). On
        loopback it runs on the computer itself."""
        space = self._space if address.startswith("127.") else self._around
        if space is self._around:
            _ip(space, "addr", "add", f"{address}/32", "dev", "lo")
        log = self.folder / f"log-{address}"
        output = self._stack.enter_context(log.open("wb"))
        process = subprocess.Popen(_within(space, *command), stdout=output, stderr=output, stdin=subprocess.DEVNULL)
        self._stack.callback(end, process)
        over_at = time.monotonic() + PATIENCE_S
        while (
            zone
            and subprocess.run(
                _within(self._space, sys.executable, "-c", _PROBE, address, zone), capture_output=True, check=False
            ).returncode
        ):
            assert time.monotonic() < over_at and process.poll() is None, log.read_text(errors="replace")
            time.sleep(0.1)
        return process

    def nsd(self, address: str, zones: dict[str, str]) -> Authority:
        """An authoritative server."""
        place = self.folder / f"nsd-{address}"
        authority = Authority(place, zones)
        lines = [
            "server:", "  server-count: 1", f"  ip-address: {address}", '  username: ""', '  chroot: ""',
            f'  zonesdir: "{place}"', f'  pidfile: "{place}/pid"', f'  xfrdfile: "{place}/state"',
            f'  zonelistfile: "{place}/list"', f'  xfrdir: "{place}"', '  database: ""', "  rrl-ratelimit: 0",
            "remote-control:", "  control-enable: no",
        ]  # fmt: skip
        for zone in zones:
            lines += ["zone:", f'  name: "{zone}"', f'  zonefile: "{authority.file(zone)}"']
        (place / "nsd.conf").write_text("\n".join(lines) + "\n", encoding="utf-8")
        authority.process = self.begin(address, [program("nsd"), "-d", "-c", f"{place}/nsd.conf"], next(iter(zones)))
        return authority

    def unbound(self, address: str, behind: dict[str, str], *settings: str) -> None:
        """A caching resolver that asks servers, given by zone."""
        place = self.folder / f"unbound-{address}"
        place.mkdir()
        own = OWN[0] if address.startswith("127.") else address
        lines = [
            "server:", '  username: ""', '  chroot: ""', f'  directory: "{place}"', f'  pidfile: "{place}/pid"',
            "  use-syslog: no", "  num-threads: 1", f"  interface: {address}", f"  outgoing-interface: {own}",
            "  do-ip6: no", '  module-config: "iterator"', "  access-control: 0.0.0.0/0 allow",
            '  local-zone: "10.in-addr.arpa." nodefault', *(f"  {one}" for one in settings),
            "remote-control:", "  control-enable: no",
        ]  # fmt: skip
        for zone, server in behind.items():
            lines += ["stub-zone:", f'  name: "{zone}"', f"  stub-addr: {server}", "  stub-prime: no"]
        (place / "unbound.conf").write_text("\n".join(lines) + "\n", encoding="utf-8")
        self.begin(address, [program("unbound"), "-d", "-c", f"{place}/unbound.conf"], next(iter(behind)))

    def bind(self, address: str, behind: dict[str, str], *settings: str) -> None:
        """BIND as a resolver that forwards zones to servers."""
        place = self.folder / f"bind-{address}"
        place.mkdir()
        options = [
            f'directory "{place}"', f"listen-on {{ {address}; }}", "listen-on-v6 { none; }", "recursion yes",
            f"query-source address {address}", "pid-file none", "dnssec-validation no", "allow-query { any; }",
            "allow-recursion { any; }", 'empty-zones-enable no', *settings,
        ]  # fmt: skip
        text = "options { " + " ".join(f"{one};" for one in options) + " };\ncontrols { };\n"
        text += "".join(
            f'zone "{zone}" {{ type forward; forward only; forwarders {{ {server}; }}; }};\n'
            for zone, server in behind.items()
        )
        (place / "named.conf").write_text(text, encoding="utf-8")
        self.begin(address, [program("named"), "-f", "-n", "1", "-c", f"{place}/named.conf"], next(iter(behind)))

    def silent(self, address: str) -> None:
        """An address where everything is taken and nothing is said."""
        self.begin(address, [sys.executable, "-c", _SILENT, address], "")


class Authority:
    """An authoritative server's zones, which can be changed while it runs."""

    process: subprocess.Popen[bytes]

    def __init__(self, folder: Path, zones: dict[str, str]) -> None:
        self._folder = folder
        folder.mkdir()
        self.zones = dict(zones)
        for zone, text in zones.items():
            self.file(zone).write_text(f"$ORIGIN {zone.rstrip('.')}.\n{text}", encoding="utf-8")

    def file(self, zone: str) -> Path:
        return self._folder / f"{zone.strip('.') or 'root'}.zone"

    def change(self, zone: str, text: str) -> None:
        """Gives a zone another content; the serial has to be a later one."""
        self.file(zone).write_text(f"$ORIGIN {zone.rstrip('.')}.\n{text}", encoding="utf-8")
        self.process.send_signal(getattr(signal, "SIGHUP"))  # noqa: B009  (not on every system)


def _ip(space: str, *words: str) -> None:
    subprocess.run(["ip", "-n", space, *words], check=True)


def _within(space: str, *words: str) -> list[str]:
    return ["ip", "netns", "exec", space, *words]


@contextmanager
def computer(folder: Path) -> Iterator[Computer]:
    """A computer, or the end of the test where there can be none."""
    lacking = "" if hasattr(os, "geteuid") and os.geteuid() == 0 else "root"
    lacking = lacking or ("" if shutil.which("ip") else "iproute2")
    if lacking:
        missing = f"a computer in a network namespace needs {lacking}"
        if os.environ.get("CI"):
            pytest.fail(missing)
        pytest.skip(missing)
    with ExitStack() as stack:
        yield Computer(folder, stack)

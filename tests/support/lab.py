"""A directory of several controllers on a network of their own: each in a network namespace, joined by a bridge, with the
administrator's computer on it.

It needs root and Debian's packages, takes minutes to make, and is never for CI (`make directory`). Controllers are added,
registered, stopped and begun again one by one, so that a test makes the situation that it is about.
"""

from __future__ import annotations

import contextlib
import importlib.util
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType

from support.program import PROGRAM, Outcome

DOMAIN, FIRST_SITE, USER, PASSWORD = "pans.gullmarsh.internal", "Works", "worker", "Salt-Mirror-77"
BASE = ",".join(f"DC={part}" for part in DOMAIN.split("."))
TOOLS = ("samba", "samba-tool", "kinit", "ip")
NOTHING: Mapping[str, str] = MappingProxyType({})
OURS = "10.77.0.1"
PATIENCE_S = 180.0


def why_not() -> str:
    """Why there can be no directory here, or no client of one; empty where there can."""
    if os.environ.get("CI"):
        return "a directory server is not for CI"
    if not hasattr(os, "geteuid") or os.geteuid() != 0:
        return "a directory server in a network namespace needs root"
    lacking = [tool for tool in TOOLS if shutil.which(tool) is None]
    if lacking:
        return f"not installed: {', '.join(lacking)} (make directory installs them)"
    extras = [module for module in ("gssapi", "bonsai") if importlib.util.find_spec(module) is None]
    return f"not installed: {', '.join(extras)} (make directory installs them)" if extras else ""


def end_all_in(space: str) -> None:
    """Ends whatever runs in a namespace, by force what does not go; what ends by itself meanwhile is no error."""
    began = time.monotonic()
    while pids := subprocess.run(
        ["ip", "netns", "pids", space], capture_output=True, text=True, check=False
    ).stdout.split():
        for pid in pids:
            with contextlib.suppress(ProcessLookupError):
                os.kill(int(pid), 15 if time.monotonic() < began + 10 else 9)
        time.sleep(0.1)


@dataclass(frozen=True)
class Member:
    """A controller: its host's first label, its address, its namespace, its settings."""

    label: str
    address: str
    space: str
    settings: Path
    read_only: bool = False

    @property
    def host(self) -> str:
        return f"{self.label}.{DOMAIN}"


class Lab:
    """The network with the controllers on it. `call` runs a command on the administrator's computer."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.members: dict[str, Member] = {}
        self._spaces: list[str] = []
        self._ours = self._space("us")

    # The network

    def open(self) -> None:
        """Lays the network out, with nobody on it but us."""
        self._in(self._ours, "ip", "link", "add", "br0", "type", "bridge")
        self._in(self._ours, "ip", "address", "add", f"{OURS}/24", "dev", "br0")
        self._in(self._ours, "ip", "link", "set", "br0", "up")

    def close(self) -> None:
        """Ends whoever runs in it, and takes the network away."""
        for space in reversed(self._spaces):
            end_all_in(space)
            subprocess.run(["ip", "netns", "del", space], check=False)
            shutil.rmtree(Path("/etc/netns") / space, ignore_errors=True)

    def _space(self, label: str) -> str:
        space = f"salt-{os.getpid()}-{label}"
        subprocess.run(["ip", "netns", "add", space], check=True)
        self._spaces.append(space)
        (Path("/etc/netns") / space).mkdir(parents=True)
        self._in(space, "ip", "link", "set", "lo", "up")
        return space

    def _in(self, space: str, *command: str) -> None:
        subprocess.run(["ip", "netns", "exec", space, *command], check=True, capture_output=True)

    def _names(self) -> None:
        """Hosts and resolvers of every computer: each controller asks itself, then the first one; we ask all of them."""
        lines = ["127.0.0.1 localhost", *(f"{one.address} {one.host} {one.label}" for one in self.members.values())]
        addresses = [one.address for one in self.members.values()]
        for space in self._spaces:
            own = [one.address for one in self.members.values() if one.space == space]
            asked = list(dict.fromkeys([*addresses[:1], *own])) if own else addresses
            place = Path("/etc/netns") / space
            (place / "hosts").write_text("\n".join(lines) + "\n", encoding="utf-8")
            text = f"search {DOMAIN}\n" + "".join(f"nameserver {address}\n" for address in asked)
            (place / "resolv.conf").write_text(text, encoding="utf-8")

    # Controllers

    @property
    def first(self) -> Member:
        """The controller that was there first."""
        return next(iter(self.members.values()))

    def _add(self, label: str, address: str, *, read_only: bool = False) -> Member:
        member = Member(label, address, self._space(label), self.folder / label / "etc" / "smb.conf", read_only)
        self._in(
            self._ours, "ip", "link", "add", f"v-{label}", "type", "veth", "peer", "name", "eth0", "netns", member.space
        )
        self._in(self._ours, "ip", "link", "set", f"v-{label}", "master", "br0", "up")
        self._in(member.space, "ip", "address", "add", f"{address}/24", "dev", "eth0")
        self._in(member.space, "ip", "link", "set", "eth0", "up")
        self.members[label] = member
        self._names()
        return member

    def _options(self, member: Member) -> list[str]:
        run = self.folder / f"run-{member.label}"
        run.mkdir()
        chosen = {
            "posix:eadb": self.folder / f"{member.label}-eadb.tdb",
            "netbios name": member.label.upper(),
            "interfaces": "lo eth0",
            "bind interfaces only": "yes",
            "pid directory": run,
            "ncalrpc dir": run / "ncalrpc",
            "winbindd socket directory": run / "winbindd",
            "dns update command": "/bin/true",
            "dreplsrv:periodic_interval": "30",
            "dreplsrv:notify_interval": "1",
        }
        return [f"--option={key}={value}" for key, value in chosen.items()]

    def provision(self, label: str, address: str) -> None:
        """The first controller of the domain."""
        member = self._add(label, address)
        self._krb5(member)
        made = self.call(
            "samba-tool", "domain", "provision", "--server-role=dc", "--dns-backend=SAMBA_INTERNAL",
            f"--realm={DOMAIN.upper()}", "--domain=PANS", f"--adminpass={PASSWORD}", f"--host-name={label}",
            f"--host-ip={address}", f"--site={FIRST_SITE}", f"--targetdir={self.folder / label}", *self._options(member),
            where=member,
        )  # fmt: skip
        assert made.status == 0, made.err[-2000:]
        self.begin(label)
        self.insist("kinit", "administrator", stdin=PASSWORD + "\n")

    def join(self, label: str, address: str, site: str, *, read_only: bool = False) -> None:
        """A further controller of the domain."""
        member = self._add(label, address, read_only=read_only)
        first = self.first
        made = self.call(
            "samba-tool", "domain", "join", DOMAIN, "RODC" if read_only else "DC", f"-Uadministrator%{PASSWORD}",
            "--dns-backend=SAMBA_INTERNAL", f"--site={site}", f"--server={first.host}",
            f"--targetdir={self.folder / label}", f"--realm={DOMAIN.upper()}", *self._options(member),
            where=member,
        )  # fmt: skip
        assert made.status == 0, made.err[-2000:]
        self.begin(label)

    def _krb5(self, first: Member) -> None:
        realm = DOMAIN.upper()
        (self.folder / "krb5.conf").write_text(
            f"[libdefaults]\ndefault_realm = {realm}\ndns_lookup_kdc = false\nrdns = false\n"
            f"dns_canonicalize_hostname = false\n[realms]\n{realm} = {{\n kdc = {first.address}\n}}\n"
            f"[domain_realm]\n.{DOMAIN} = {realm}\n{DOMAIN} = {realm}\n",
            encoding="utf-8",
        )

    def begin(self, label: str) -> None:
        """Starts a controller, and waits until its DNS, Kerberos and LDAP answer."""
        member = self.members[label]
        text = member.settings.read_text(encoding="utf-8")
        lines = [line for line in text.splitlines() if "dns forwarder" not in line]
        member.settings.write_text("\n".join(lines) + "\n", encoding="utf-8")
        self.insist("samba", "-s", str(member.settings), "-D", where=member)
        self.insist(str(PROGRAM), "ask", DOMAIN, "SOA", "--at", member.address)
        for port in (88, 135, 389):
            self.insist(
                sys.executable, "-c", f"import socket; socket.create_connection(({member.address!r}, {port}), 2)"
            )

    def stop(self, label: str) -> None:
        """Ends a controller; its computer stays on the network, and is silent."""
        end_all_in(self.members[label].space)

    def register(self, label: str) -> None:
        """Lets a controller's logon service register its records; one that cannot write has the first one write them."""
        member = self.members[label]
        done = self.call(
            "samba_dnsupdate", "--use-samba-tool", f"--current-ip={member.address}", "-s", str(member.settings),
            where=member,
        )  # fmt: skip
        if not member.read_only:
            assert done.status == 0, done.out + done.err
            return
        for line in (self.folder / label / "private" / "dns_update_cache").read_text(encoding="utf-8").splitlines():
            rdtype, name, *data = line.split()
            zone = next(zone for zone in (f"_msdcs.{DOMAIN}", DOMAIN) if name.endswith(zone))
            value = f"{data[0]} {data[1]} 0 100" if rdtype == "SRV" else data[0]
            label_of = name.removesuffix(f".{zone}")
            self.tool("dns", "add", self.first.host, zone, label_of, rdtype, value, already="already exists")

    def replicate(self) -> None:
        """Brings every partition from each controller to every other one, now; one that is held up refuses."""
        for member in self.members.values():
            for source in self.members.values():
                if source is member or source.read_only:
                    continue
                for partition in (
                    f"DC=DomainDnsZones,{BASE}",
                    f"DC=ForestDnsZones,{BASE}",
                    BASE,
                    f"CN=Configuration,{BASE}",
                ):
                    self._samba_tool("drs", "replicate", member.host, source.host, partition)

    @contextmanager
    def held(self, *labels: str) -> Iterator[None]:
        """Holds up what comes to some controllers by replication; once that is over, everything is replicated."""
        try:
            for label in labels:
                self._hold(label, up=True)
            yield
        finally:
            for label in labels:
                self._hold(label, up=False)
            self.replicate()

    def _hold(self, label: str, *, up: bool) -> None:
        self._option(label, "DISABLE_INBOUND_REPL", on=up)

    def catalog(self, label: str, *, on: bool) -> None:
        """Makes a controller a global catalog, or no more one."""
        self._option(label, "IS_GC", on=on)

    def _option(self, label: str, option: str, *, on: bool) -> None:
        self._samba_tool("drs", "options", self.members[label].host, f"--dsa-option={'+' if on else '-'}{option}")

    def guid(self, label: str) -> str:
        """The GUID of a controller's settings object, which its alias in `_msdcs` has."""
        return self._python(
            "wanted = '(|(objectClass=nTDSDSA)(objectClass=nTDSDSARO))'\n"
            "for entry in connection.search('CN=Sites,CN=Configuration,' + base, 2, wanted, ['objectGUID']):\n"
            f"    if ',cn={label},' in str(entry.dn).lower():\n"
            "        print(uuid.UUID(bytes_le=entry['objectGUID'][0]))\n"
        ).split()[0]

    def delete(self, dn: str) -> None:
        """Takes an object away with all below it, and cleans nothing up."""
        self._python(f"connection.delete({dn!r}, recursive=True)")

    def move(self, dn: str, to: str) -> None:
        """Moves an object elsewhere."""
        self._python(f"connection.search({dn!r}, 0)[0].rename({to!r})")

    def _python(self, text: str) -> str:
        """Runs some lines with a connection to the first controller's directory; what they print."""
        host = self.first.host
        begin = (
            f"import bonsai, uuid\nbase = {BASE!r}\nclient = bonsai.LDAPClient('ldap://{host}')\n"
            "client.set_credentials('GSSAPI')\nclient.set_raw_attributes(['objectGUID'])\n"
            "client.set_server_chase_referrals(False)\nconnection = client.connect(timeout=10)\n"
        )
        done = self.call(sys.executable, "-c", begin + text)
        assert done.status == 0, done.err[-2000:]
        return done.out

    # Commands

    def call(
        self,
        *command: str,
        where: Member | None = None,
        stdin: str = "",
        user: str = "administrator",
        cwd: Path | None = None,
        more: Mapping[str, str] = NOTHING,
        timeout: float = PATIENCE_S,
    ) -> Outcome:
        """Runs a command on our computer, or on a controller, with a user's ticket."""
        environment = os.environ | {
            "KRB5_CONFIG": str(self.folder / "krb5.conf"),
            "KRB5CCNAME": f"FILE:{self.folder}/ticket-of-{user}",
            "LDAPSASL_NOCANON": "on",
            "NO_COLOR": "1",
        }
        environment.pop("SALT_MIRROR_RESOLVERS", None)
        space = where.space if where is not None else self._ours
        done = subprocess.run(
            ["ip", "netns", "exec", space, *command], cwd=cwd or self.folder, env=environment | dict(more), input=stdin,
            capture_output=True, text=True, encoding="utf-8", timeout=timeout, check=False,
        )  # fmt: skip
        return Outcome(done)

    def insist(
        self, *command: str, where: Member | None = None, stdin: str = "", user: str = "administrator"
    ) -> Outcome:
        """Runs a command until it succeeds."""
        over_at = time.monotonic() + PATIENCE_S
        while (done := self.call(*command, where=where, stdin=stdin, user=user)).status:
            assert time.monotonic() < over_at, f"{command}: {done.out} {done.err}"
            time.sleep(1)
        return done

    def tool(self, *arguments: str, already: str = "") -> Outcome:
        """An administrator's command of the directory, at its first controller; `already` says what means that it is done."""
        done = self._samba_tool(*arguments)
        assert done.status == 0 or (already and already in done.err), f"{arguments}: {done.out} {done.err}"
        return done

    def _samba_tool(self, *arguments: str) -> Outcome:
        settings = str(self.first.settings)
        return self.call("samba-tool", *arguments, f"-Uadministrator%{PASSWORD}", "-s", settings, where=self.first)

"""A real directory server: Samba as a domain controller, in a network namespace of the test's own, with an ordinary user.

It needs root and Debian's packages; where they are not there its tests are skipped with a plain message.
"""

from __future__ import annotations

import contextlib
import importlib.util
import os
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType

from support.program import PROGRAM, Outcome
from support.waiting import PATIENCE_S

DOMAIN, USER, PASSWORD = "pans.gullmarsh.internal", "worker", "Salt-Mirror-77"
HOST, ADDRESS = f"dc1.{DOMAIN}", "10.99.0.10"
TOOLS = ("samba", "samba-tool", "kinit", "ip")
InDirectory = Callable[..., Outcome]
NOTHING: Mapping[str, str] = MappingProxyType({})


def missing(module: str) -> str:
    """Why there can be no directory here, or no client with a Python module of an extra."""
    if os.environ.get("CI"):
        return "a directory server is not for CI"
    if not hasattr(os, "geteuid") or os.geteuid() != 0:
        return "a directory server in a network namespace needs root"
    lacking = [tool for tool in TOOLS if shutil.which(tool) is None]
    if lacking:
        return f"not installed: {', '.join(lacking)} (make directory installs them)"
    extra = {"gssapi": "kerberos", "bonsai": "directory"}[module]
    return (
        "" if importlib.util.find_spec(module) else f"the extra {extra} is not installed (make directory installs it)"
    )


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


@contextmanager
def directory_server(folder: Path) -> Iterator[InDirectory]:
    """A domain controller; calling it runs a command where that can be reached, with an administrator's ticket, another's
    (`user`), or none."""
    space = f"salt-{os.getpid()}"
    config = folder / "krb5.conf"
    realm = DOMAIN.upper()
    config.write_text(
        f"[libdefaults]\ndefault_realm = {realm}\ndns_lookup_kdc = false\nrdns = false\ndns_canonicalize_hostname = false\n"
        f"[realms]\n{realm} = {{\n kdc = 127.0.0.1\n}}\n[domain_realm]\n.{DOMAIN} = {realm}\n",
        encoding="utf-8",
    )
    own = Path("/etc/netns") / space
    own.mkdir(parents=True)
    (own / "hosts").write_text(f"127.0.0.1 localhost\n127.0.0.1 {HOST} dc1\n", encoding="utf-8")
    (own / "resolv.conf").write_text("nameserver 127.0.0.1\n", encoding="utf-8")
    environment = os.environ | {
        "KRB5_CONFIG": str(config),
        "SALT_MIRROR_RESOLVERS": "",
        "NO_COLOR": "1",
        "LDAPSASL_NOCANON": "on",
    }

    def call(
        *command: str,
        stdin: str = "",
        user: str = "administrator",
        cwd: Path = folder,
        more: Mapping[str, str] = NOTHING,
    ) -> Outcome:
        given = environment | {"KRB5CCNAME": f"FILE:{folder}/ticket-of-{user}"} | dict(more)
        done = subprocess.run(
            ["ip", "netns", "exec", space, *command], cwd=cwd, env=given, input=stdin, capture_output=True, text=True,
            encoding="utf-8", timeout=PATIENCE_S, check=False,
        )  # fmt: skip
        return Outcome(done)

    subprocess.run(["ip", "netns", "add", space], check=True)
    try:
        call("ip", "link", "set", "lo", "up")
        made = call(
            "samba-tool", "domain", "provision", "--server-role=dc", "--dns-backend=SAMBA_INTERNAL", f"--realm={realm}",
            "--domain=PANS", f"--adminpass={PASSWORD}", "--host-name=dc1", "--host-ip=127.0.0.1", f"--targetdir={folder}/t",
            f"--option=posix:eadb={folder}/eadb.tdb", "--option=interfaces=lo", "--option=bind interfaces only=yes",
        )  # fmt: skip
        assert made.status == 0, made.err[-2000:]
        settings = folder / "t" / "etc" / "smb.conf"
        lines = settings.read_text(encoding="utf-8").splitlines()
        settings.write_text("\n".join(line for line in lines if "dns forwarder" not in line) + "\n", encoding="utf-8")
        call("samba-tool", "user", "create", USER, PASSWORD, "-s", str(settings))
        call("samba", "-s", str(settings), "-D")
        over_at = time.monotonic() + PATIENCE_S

        def insist(*command: str, **more: str) -> None:
            while (done := call(*command, **more)).status:  # type: ignore[arg-type]
                assert time.monotonic() < over_at, f"{command}: {done.out} {done.err}"
                time.sleep(1)

        for user in ("administrator", USER):
            insist("kinit", user, stdin=PASSWORD + "\n", user=user)
        as_admin = ("-U", f"administrator%{PASSWORD}", "-s", str(settings))
        insist("samba-tool", "dns", "zonecreate", HOST, "0.99.10.in-addr.arpa", *as_admin)
        # On loopback it registers no address by itself.
        names = [(DOMAIN, name) for name in ("dc1", "@", "DomainDnsZones", "ForestDnsZones")]
        for zone, name in [*names, (f"_msdcs.{DOMAIN}", "gc")]:
            insist("samba-tool", "dns", "add", HOST, zone, name, "A", ADDRESS, *as_admin)
        insist("samba-tool", "dns", "add", HOST, DOMAIN, "rake", "A", "10.99.0.51", *as_admin)
        for name, rdtype in (("0.99.10.in-addr.arpa", "SOA"), (f"rake.{DOMAIN}", "A"), (f"gc._msdcs.{DOMAIN}", "A")):
            insist(str(PROGRAM), "ask", name, rdtype, "--at", "127.0.0.1")  # served, and not only written down
        yield call
    finally:
        end_all_in(space)
        subprocess.run(["ip", "netns", "del", space], check=False)
        shutil.rmtree(own, ignore_errors=True)

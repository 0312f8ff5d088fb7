"""`mend` against a real directory server, whose zones take changes by Kerberos alone: Samba as a domain controller, in a
network
namespace of the test's own. Never in CI: it needs root, Debian's packages, and the extra `kerberos`."""

from __future__ import annotations

import importlib.util
import os
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from support.program import PROGRAM, Outcome

DOMAIN, PASSWORD = "pans.gullmarsh.internal", "Salt-Mirror-77"
TOOLS = ("samba", "samba-tool", "kinit", "ip")
InDirectory = Callable[..., Outcome]


def missing() -> str:
    """Why there can be no directory here."""
    if os.environ.get("CI"):
        return "a directory server is not for CI"
    if not hasattr(os, "geteuid") or os.geteuid() != 0:
        return "a directory server in a network namespace needs root"
    lacking = [tool for tool in TOOLS if shutil.which(tool) is None]
    if lacking:
        return f"not installed: {', '.join(lacking)} (Debian: samba-ad-dc, samba-ad-provision, krb5-user, iproute2)"
    return (
        "" if importlib.util.find_spec("gssapi") else "the extra kerberos is not installed (pip install '.[kerberos]')"
    )


pytestmark = [pytest.mark.real, pytest.mark.skipif(bool(missing()), reason=missing())]


@pytest.fixture(scope="module")
def directory(tmp_path_factory: pytest.TempPathFactory) -> Iterator[InDirectory]:
    """A domain controller; calling it runs a command where that can be reached, with an administrator's ticket."""
    folder = tmp_path_factory.mktemp("directory")
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
    (own / "hosts").write_text(f"127.0.0.1 localhost\n127.0.0.1 dc1.{DOMAIN} dc1\n", encoding="utf-8")
    (own / "resolv.conf").write_text("nameserver 127.0.0.1\n", encoding="utf-8")
    environment = os.environ | {
        "KRB5_CONFIG": str(config), "KRB5CCNAME": f"FILE:{folder}/tickets", "SALT_MIRROR_RESOLVERS": "", "NO_COLOR": "1",
    }  # fmt: skip

    def call(*command: str, stdin: str = "", ticket: bool = True, cwd: Path = folder) -> Outcome:
        given = environment if ticket else environment | {"KRB5CCNAME": f"FILE:{folder}/none"}
        done = subprocess.run(
            ["ip", "netns", "exec", space, *command], cwd=cwd, env=given, input=stdin, capture_output=True, text=True,
            encoding="utf-8", timeout=120, check=False,
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
        call("samba", "-s", str(settings), "-D")
        until = time.monotonic() + 60
        while call("kinit", "administrator", stdin=PASSWORD + "\n").status:
            assert time.monotonic() < until, "the directory did not come up"
            time.sleep(1)
        as_admin = ("-U", f"administrator%{PASSWORD}", "-s", str(settings))
        host = f"dc1.{DOMAIN}"
        steps: list[tuple[str, ...]] = [("zonecreate", host, "0.99.10.in-addr.arpa")]
        steps += [
            ("add", host, DOMAIN, *record) for record in (("dc1", "A", "10.99.0.10"), ("rake", "A", "10.99.0.51"))
        ]
        for what in steps:
            while (done := call("samba-tool", "dns", *what, *as_admin)).status:
                assert time.monotonic() < until, done.err
                time.sleep(1)
        yield call
    finally:
        pids = subprocess.run(
            ["ip", "netns", "pids", space], capture_output=True, text=True, check=False
        ).stdout.split()
        for pid in map(int, pids):
            os.kill(pid, 15)
        time.sleep(1)
        subprocess.run(["ip", "netns", "del", space], check=False)
        shutil.rmtree(own, ignore_errors=True)


def lay_out(folder: Path, more: str = "short_signature = true\n") -> None:
    text = '[servers.dc1]\naddress = "127.0.0.1"\n[reach]\n"10.99.0.10" = "127.0.0.1"\n'
    for zone, expect in ((DOMAIN, 'expect = ["hosts.zone"]\n'), ("10.99.0.0/24", "")):
        text += f'[[zones]]\nname = "{zone}"\nservers = ["dc1"]\nkerberos = true\n{more}{expect}'
    (folder / "estate.toml").write_text(text, encoding="utf-8")
    (folder / "hosts.zone").write_text(
        'brine A 10.99.0.50\nrake A 10.99.0.52\nrake TXT "a; \\"b\\""\n', encoding="utf-8"
    )


def test_a_directory_takes_changes_by_ticket_and_the_way_back(directory: InDirectory, tmp_path: Path) -> None:
    lay_out(tmp_path)

    def mend(*options: str, ticket: bool = True) -> Outcome:
        return directory(str(PROGRAM), "mend", *options, ticket=ticket, cwd=tmp_path)

    nobody = mend("--apply", "--yes", "--undo", "none", ticket=False)
    assert nobody.status == 1 and nobody.out.startswith("0 of 5 changes were carried out")
    assert "no Kerberos context with dc1" in nobody.out and "is there a ticket?" in nobody.out
    done = mend("--apply", "--yes", "--undo", "undo", "--json").report
    assert [one["says"] for one in done["plan"]["carried"]] == ["done"] * 5 and not done["plan"]["late"]
    assert not [one for one in done["findings"] if one["weight"] == "fault"]
    assert mend("--json").report["plan"]["changes"] == []
    back = mend("--back", "undo", "--yes", "--undo", "again")
    assert back.status == 0 and back.out.startswith("5 of 5 sets restored.")
    # Its signatures leave out a length. Where that was not accepted, what the server has is the proof, and it is told.
    lay_out(tmp_path, "")
    strict = mend("--apply", "--yes", "--undo", "third")
    assert strict.out.startswith("5 of 5 changes were carried out") and "short_signature = true" in strict.out
    assert "is not signed with the key" in strict.out
    unsigned = directory(str(PROGRAM), "authority", DOMAIN, "--try-updates", "--json", cwd=tmp_path).report
    assert [row["updates"] for row in unsigned["sheets"][0]["servers"]] == ["refused unsigned"]

"""Servers that sign by themselves (BIND, Knot, PowerDNS), each by the means that it has, perhaps with a clock of long ago; and
the signed zone above them, with the DS record of whatever key they have made."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import dns.dnssec
import dns.message
import dns.name
import dns.query
import dns.rdatatype
import dns.zone

from salt_mirror.dns.questions import Key, Server
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.signing import key_from, sign_zone
from support.realservers import free_port, nsd, program, running, secret_text
from support.waiting import until

CHILD, ABOVE = "pans.example", "example"
TEXT = (
    "$TTL 300\n@ SOA ns1 h 1 7200 1800 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.53\nns2 A 198.51.100.53\n"
    'www A 192.0.2.80\nmail MX 10 www\n*.wild A 192.0.2.81\ndeep.er TXT "salt"\n'
)
"""The zone that is signed."""
POLICY = "dnssec-policy quick {{ keys {{ csk lifetime unlimited algorithm ecdsap256sha256; }}; {nsec3} }};\n"


def clock(days_ago: int) -> list[str]:
    """What stands before a server's command so that its clock is so many days behind."""
    if not days_ago:
        return []
    found = program("faketime")
    return ["env", "FAKETIME_DONT_FAKE_MONOTONIC=1", "DONT_FAKE_MONOTONIC=1", found, "-f", f"-{days_ago}d"]


@contextmanager
def bind_signing(folder: Path, *, nsec3: str = "", days_ago: int = 0, rolling: bool = False) -> Iterator[Server]:
    """BIND with its own policy, signing inline; `nsec3` are the parameters, such as `iterations 0 optout no salt-length 0`.
    What it signed so many days ago, or with keys of which some are `rolling`, is signed by the tools that come with it: its
    allocator and a faked clock do not go together."""
    path, port = program("named"), free_port()
    folder.mkdir(parents=True)
    (folder / "zone").write_text(f"$ORIGIN {CHILD}.\n{TEXT}", encoding="utf-8")
    offline = bool(days_ago or rolling)
    if offline:
        _sign_with_tools(folder, days_ago, rolling=rolling)
    how = f'file "zone{".signed" if offline else ""}";' + (
        "" if offline else " dnssec-policy quick; inline-signing yes;"
    )
    config = folder / "named.conf"
    config.write_text(
        f'options {{ directory "{folder}"; key-directory "{folder}"; listen-on port {port} {{ 127.0.0.1; }}; '
        "listen-on-v6 { none; }; recursion no; pid-file none; dnssec-validation no; notify no; minimal-responses yes; "
        "allow-transfer { any; }; };\ncontrols { };\n"
        "logging { channel err { stderr; severity warning; }; category default { err; }; };\n"
        + POLICY.format(nsec3=f"nsec3param {nsec3};" if nsec3 else "")
        + f'zone "{CHILD}" {{ type primary; {how} }};\n',
        encoding="utf-8",
    )
    with running([path, "-f", "-n", "1", "-c", str(config)], folder, "bind", port, CHILD) as server:
        yield signing(server)


def _sign_with_tools(folder: Path, days_ago: int, *, rolling: bool) -> None:
    """Signs the zone for two weeks from so many days ago. While keys are rolling there is a second key that signs the keys, and
    one that is published and signs nothing yet."""
    keygen = [program("dnssec-keygen"), "-a", "ECDSAP256SHA256", "-K", str(folder)]
    wanted = [["-f", "KSK"], []] + ([["-f", "KSK"], ["-A", "+30d"]] if rolling else [])
    for more in wanted:
        subprocess.run([*keygen, *more, CHILD], check=True, capture_output=True)
    begin = int(time.time()) - 86_400 * days_ago
    times = [time.strftime("%Y%m%d%H%M%S", time.gmtime(one)) for one in (begin - 3600, begin + 14 * 86_400)]
    sign = [
        program("dnssec-signzone"),
        "-S",
        "-P",
        "-K",
        str(folder),
        "-s",
        times[0],
        "-e",
        times[1],
        "-o",
        CHILD,
        "-f",
    ]
    subprocess.run([*sign, "zone.signed", "zone"], check=True, capture_output=True, cwd=folder)


@contextmanager
def knot_signing(
    folder: Path, *, nsec3: str = "", days_ago: int = 0, key: Key | None = None, text: str = TEXT, signs: bool = True
) -> Iterator[Server]:
    """Knot signing what it serves, unless it `signs` nothing; whoever has the key may change it."""
    path, port = program("knotd"), free_port()
    (folder / "db").mkdir(parents=True)
    (folder / "zone").write_text(f"$ORIGIN {CHILD}.\n{text}", encoding="utf-8")
    hashing = ["    nsec3: on", "    nsec3-iterations: 0", "    nsec3-salt-length: 0"] if nsec3 else []
    hashing += ["    nsec3-opt-out: on"] if "opt" in nsec3 else []
    lines = [
        "server:", f"  rundir: {folder}", f"  listen: 127.0.0.1@{port}", "  udp-workers: 1", "  tcp-workers: 1",
        "  background-workers: 1", "log:", "  - target: stderr", "    any: warning", "database:", f"  storage: {folder}/db",
        *(["key:", "  - id: mirror.test", f"    algorithm: {key.algorithm}", f"    secret: {secret_text(key)}"] if key else []),
        "acl:", "  - id: all", "    address: 127.0.0.1", "    action: transfer",
        *(["  - id: changes", "    key: mirror.test", "    action: update"] if key else []),
        "policy:", "  - id: quick", "    single-type-signing: on", "    algorithm: ecdsap256sha256",
        *hashing,
        "zone:", f'  - domain: "{CHILD}"', f"    dnssec-signing: {'on' if signs else 'off'}", "    dnssec-policy: quick",
        f"    acl: [{'all, changes' if key else 'all'}]",
        "    zonefile-sync: -1", "    zonefile-load: difference", f'    file: "{folder}/zone"',
    ]  # fmt: skip
    config = folder / "knot.conf"
    config.write_text("\n".join(lines) + "\n", encoding="utf-8")
    with running([*clock(days_ago), path, "-c", str(config)], folder, "knot", port, CHILD) as server:
        yield signing(server)


@contextmanager
def pdns_signing(folder: Path, *, nsec3: str = "", days_ago: int = 0) -> Iterator[Server]:
    """PowerDNS signing each answer as it gives it."""
    path, port, tool = program("pdns_server"), free_port(), program("pdnsutil")
    folder.mkdir(parents=True)
    schema = Path("/usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql")
    if not schema.is_file():
        program("pdns-backend-sqlite3")
    import sqlite3

    with sqlite3.connect(folder / "zones.db") as database:
        database.executescript(schema.read_text(encoding="utf-8"))
    (folder / "zone").write_text(f"$ORIGIN {CHILD}.\n{TEXT}", encoding="utf-8")
    (folder / "pdns.conf").write_text(
        f"launch=gsqlite3\ngsqlite3-database={folder}/zones.db\ngsqlite3-pragma-foreign-keys=yes\ngsqlite3-dnssec=yes\n"
        f"local-address=127.0.0.1\nlocal-port={port}\nsocket-dir={folder}\nsecurity-poll-suffix=\nguardian=no\ndaemon=no\n"
        "version-string=anonymous\ndisable-axfr=no\nallow-axfr-ips=127.0.0.0/8\ndefault-soa-edit=\n",
        encoding="utf-8",
    )

    def util(*words: str) -> None:
        subprocess.run([tool, f"--config-dir={folder}", *words], check=True, capture_output=True)

    util("load-zone", CHILD, str(folder / "zone"))
    util("secure-zone", CHILD)
    if nsec3:
        util("set-nsec3", CHILD, f"1 {int('opt' in nsec3)} 0 -", *(["narrow"] if nsec3 == "narrow" else []))
    util("rectify-zone", CHILD)
    with running([*clock(days_ago), path, f"--config-dir={folder}"], folder, "pdns", port, CHILD) as server:
        yield signing(server)


SIGNERS: dict[str, Callable[..., Any]] = {"bind": bind_signing, "knot": knot_signing, "pdns": pdns_signing}


def asked(server: Server, name: str, rdtype: str) -> dns.message.Message:
    """What a server answers to a question with DO, over TCP."""
    query = dns.message.make_query(name, rdtype, want_dnssec=True)
    return dns.query.tcp(query, server.host, port=server.port, timeout=5)


def signing(server: Server) -> Server:
    """The server, once its SOA is signed."""
    until(lambda: any(rrset.rdtype == dns.rdatatype.RRSIG for rrset in asked(server, CHILD, "SOA").answer))
    return server


def whole_zone(server: Server) -> dns.zone.Zone:
    """What a server hands over of the zone."""
    return dns.zone.from_xfr(dns.query.xfr(server.host, CHILD, port=server.port, relativize=False), relativize=False)


def ds_of(server: Server) -> list[str]:
    """The DS records of the keys that are meant for the parent."""
    keys = next(rrset for rrset in asked(server, CHILD, "DNSKEY").answer if rrset.rdtype == dns.rdatatype.DNSKEY)
    entries = [key for key in keys if key.flags & 1]
    return [str(dns.dnssec.make_ds(f"{CHILD}.", key, "SHA256")) for key in entries]


@contextmanager
def above(folder: Path, ds: list[str]) -> Iterator[Server]:
    """NSD with the signed zone above, which delegates to both name servers and has these DS records."""
    now = int(time.time())
    cut = "".join(f"pans DS {one}\n" for one in ds)
    text = (
        "$TTL 300\n@ SOA ns h 1 7200 1800 1209600 300\n@ NS ns\nns A 192.0.2.1\npans NS ns1.pans\npans NS ns2.pans\n"
        f"ns1.pans A 192.0.2.53\nns2.pans A 198.51.100.53\n{cut}"
    )
    keys = [key_from("above"), key_from("above zone", entry=False)]
    zone = sign_zone(
        read_zone(f"$ORIGIN {ABOVE}.\n{text}", ABOVE), keys, inception=now - 3600, expiration=now + 86_400 * 30
    )
    with nsd(folder, {ABOVE: zone.to_text(relativize=False) + "\n"}, label="above") as server:
        yield server

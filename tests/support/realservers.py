"""Real name servers from Debian's packages, started on high ports of loopback and stopped again.

Where a server is not installed its tests are skipped with a plain message; in CI (CI=true) they fail instead.
"""

from __future__ import annotations

import base64
import contextlib
import json
import os
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from itertools import cycle, islice
from pathlib import Path

import dns.message
import dns.opcode
import dns.query
import dns.tsigkeyring
import dns.update
import pytest

from salt_mirror.dns.names import ROOT, from_text
from salt_mirror.dns.questions import Key, Question, Server
from salt_mirror.dns.records import MX, SOA, SRV, TXT, type_text
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.standin.authority import read_zone
from support.waiting import PATIENCE_S, until

LOOPBACK = bytes((127, 0, 0, 1))
_STARTS = 5


def program(name: str) -> str:
    """The path of a server's program, or the end of the test."""
    found = shutil.which(name, path=os.environ.get("PATH", "") + os.pathsep + "/usr/sbin")
    if found is None:
        missing = f"{name} is not installed (make test installs it when run as root)"
        if os.environ.get("CI"):
            pytest.fail(missing)
        pytest.skip(missing)
    return found


_PORTS = cycle(range(10_000, 32_000))
"""Below what systems give to whoever asks for any port (RFC 6335 has it from 49152 on, Linux from 32768): between the moment
when a port is found free and the one when a server listens on it, no client of another test gets it."""
for _ in range(os.getpid() * 131 % 22_000):
    next(_PORTS)  # each process of the tests begins somewhere else


def free_port() -> int:
    """A port that nobody listens on, UDP and TCP, and that nobody was given before."""
    for port in islice(_PORTS, 22_000):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as udp, socket.socket() as tcp:
            try:
                udp.bind(("127.0.0.1", port))
                tcp.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise OSError("no free port")


@contextmanager
def running(command: list[str], folder: Path, label: str, port: int, zone: str | None) -> Iterator[Server]:
    """A server's process, from the moment it answers for a zone (the root where None) until the end of the block."""
    log, server = folder / "log", Server(label, LOOPBACK, port)
    with log.open("wb") as output:
        for left in reversed(range(_STARTS)):
            process = subprocess.Popen(
                command, cwd=folder, stdout=output, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL
            )
            (folder / "process").write_text(str(process.pid), encoding="utf-8")
            try:
                if _came_up(server, from_text(zone) if zone is not None else ROOT, process):
                    yield server
                    return
            finally:
                end(process)
            # A question of another test may have come from this very port, and be answered by now.
            assert left, f"{label} did not come up:\n{log.read_text(errors='replace')[-2000:]}"


def end(process: subprocess.Popen[bytes]) -> None:
    """Ends a server's process, by force where it does not go."""
    process.terminate()
    try:
        process.wait(10)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def _came_up(server: Server, name: bytes, process: subprocess.Popen[bytes]) -> bool:
    """Waits until a server answers for a name; False when its process has ended before."""
    over_at = time.monotonic() + PATIENCE_S
    while time.monotonic() < over_at and process.poll() is None:
        with Engine(timeout_s=0.2, tries=1) as engine:
            engine.submit(Question(name, SOA, server, True))
            # it may listen before it has its zones
            if engine.collect()[0].status in ("NOERROR", "NXDOMAIN", "BADCOOKIE"):
                return True
        time.sleep(0.05)
    return False


@contextmanager
def nsd(
    folder: Path,
    zones: dict[str, str],
    *,
    label: str = "nsd",
    provide: str = "",
    extra: str = "",
    secondary: str = "",
    port: int | None = None,
    keeping: frozenset[str] = frozenset(),
) -> Iterator[Server]:
    """NSD serving zones, given as texts by origin; `provide` says to whom it hands them over, but for those it is `keeping`."""
    path = program("nsd")
    port = port or free_port()
    folder.mkdir(parents=True, exist_ok=True)
    lines = [
        "server:", "  server-count: 1", f"  ip-address: 127.0.0.1@{port}", '  username: ""', '  chroot: ""',
        f'  zonesdir: "{folder}"', f'  pidfile: "{folder}/pid"', f'  xfrdfile: "{folder}/xfrd.state"',
        f'  zonelistfile: "{folder}/zone.list"', f'  xfrdir: "{folder}"', '  database: ""', "  round-robin: yes",
        "  rrl-ratelimit: 0",  # its default limits one client to 200 denials a second, and these tests are one client
        "remote-control:", "  control-enable: no", extra,
    ]  # fmt: skip
    for origin, file in _write_zones(folder, zones):
        lines += ["zone:", f'  name: "{origin}"', f'  zonefile: "{file}"']
        lines += [f"  provide-xfr: {provide}"] if provide and origin not in keeping else []
        lines += [secondary] if secondary else []
    config = folder / "nsd.conf"
    config.write_text("\n".join(lines) + "\n", encoding="utf-8")
    first = next(iter(zones))
    with running([path, "-d", "-c", str(config)], folder, label, port, first if first != "." else None) as server:
        yield server


def _write_zones(folder: Path, zones: dict[str, str]) -> list[tuple[str, Path]]:
    folder.mkdir(parents=True, exist_ok=True)
    found = []
    for number, (origin, text) in enumerate(zones.items()):
        path = folder / f"zone{number}"
        path.write_text(f"$ORIGIN {origin.rstrip('.')}.\n{text}", encoding="utf-8")
        found.append((origin, path))
    return found


@contextmanager
def knot(
    folder: Path,
    zones: dict[str, str],
    *,
    key: Key,
    port: int | None = None,
    generous: bool = False,
    notify: int | None = None,
) -> Iterator[Server]:
    """Knot serving zones, and handing them over to whoever signs with the key, who may also change them (RFC 2136); handing
    them to anyone on loopback if `generous`. `notify` is the port of a secondary that is told of changes."""
    path, port = program("knotd"), port or free_port()
    (folder / "db").mkdir(parents=True, exist_ok=True)
    written = _write_zones(folder, zones)
    lines = [
        "server:", f"  rundir: {folder}", f"  listen: 127.0.0.1@{port}", "  udp-workers: 1", "  tcp-workers: 1",
        "  background-workers: 1", "log:", "  - target: stderr", "    any: warning", "database:", f"  storage: {folder}/db",
        "key:", "  - id: mirror.test", f"    algorithm: {key.algorithm}", f"    secret: {secret_text(key)}",
        "acl:", "  - id: signed", "    address: 127.0.0.1" if generous else "    key: mirror.test", "    action: transfer",
        "  - id: changes", "    key: mirror.test", "    action: update",
        *([] if notify is None else ["remote:", "  - id: second", f"    address: 127.0.0.1@{notify}"]), "zone:",
    ]  # fmt: skip
    for origin, file in written:
        lines += [f'  - domain: "{origin}"', f"    file: {file}", "    acl: [signed, changes]", "    zonefile-sync: -1"]
        lines += [] if notify is None else ["    notify: second"]
    config = folder / "knot.conf"
    config.write_text("\n".join(lines) + "\n", encoding="utf-8")
    with running([path, "-c", str(config)], folder, "knot", port, written[0][0]) as server:
        yield server


@contextmanager
def knot_signer(folder: Path, zone: str, primary: Server) -> Iterator[Server]:
    """Knot taking a zone from a primary that hands it to anyone, and serving it signed, with serials of its own."""
    path, port = program("knotd"), free_port()
    (folder / "db").mkdir(parents=True, exist_ok=True)
    lines = [
        "server:", f"  rundir: {folder}", f"  listen: 127.0.0.1@{port}", "  udp-workers: 1", "  tcp-workers: 1",
        "  background-workers: 1", "log:", "  - target: stderr", "    any: warning", "database:", f"  storage: {folder}/db",
        "remote:", "  - id: primary", f"    address: {primary.host}@{primary.port}", "policy:", "  - id: quick",
        "    single-type-signing: on", "    algorithm: ecdsap256sha256", "zone:", f'  - domain: "{zone}"', "    master: "
        "primary",
        "    dnssec-signing: on", "    dnssec-policy: quick", "    zonefile-sync: -1", f'    file: "{folder}/signed.zone"',
    ]  # fmt: skip
    config = folder / "knot.conf"
    config.write_text("\n".join(lines) + "\n", encoding="utf-8")
    with running([path, "-c", str(config)], folder, "signer", port, zone) as server:
        yield server


@contextmanager
def bind(
    folder: Path,
    zones: dict[str, str],
    *,
    key: Key,
    tls: tuple[Path, Path] | None = None,
    options: tuple[str, ...] = (),
    open_to_all: bool = False,
    updates: bool = False,
    update_policy: str = "",
    notify: int | None = None,
) -> Iterator[Server]:
    """BIND serving zones, and handing them over to whoever signs with the key. With `tls` (certificate, private key) it also
    listens for DNS over TLS on the next free port, and for DNS over HTTPS on another: `server.tls_port`, `server.https_port`
    stand in its folder's file `ports`. With `open_to_all` anyone may take the zones, and look up other names; with `updates`
    whoever signs with the key may change them (RFC 2136). `notify` is the port of a secondary that is told of
    changes."""
    path, port = program("named"), free_port()
    written = _write_zones(folder, zones)
    takers = "any" if open_to_all else "key mirror.test"
    settings = [
        f'directory "{folder}"', f"listen-on port {port} {{ 127.0.0.1; }}", "listen-on-v6 { none; }",
        f"recursion {'yes' if open_to_all else 'no'}", "pid-file none", f"allow-transfer {{ {takers}; }}",
        "dnssec-validation no", "minimal-responses yes", "max-udp-size 1232", *options,
        "notify no" if notify is None else f"notify explicit; also-notify {{ 127.0.0.1 port {notify}; }}",
    ]  # fmt: skip
    texts = []
    if tls is not None:
        tls_port, https_port = free_port(), free_port()
        (folder / "ports").write_text(f"{tls_port} {https_port}", encoding="utf-8")
        texts.append(f'tls ours {{ cert-file "{tls[0]}"; key-file "{tls[1]}"; }};')
        settings.append(f"listen-on port {tls_port} tls ours {{ 127.0.0.1; }}")
        settings.append(f"listen-on port {https_port} tls ours http default {{ 127.0.0.1; }}")
    texts.append(f'key mirror.test {{ algorithm {key.algorithm}; secret "{secret_text(key)}"; }};')
    texts.append("options { " + " ".join(f"{option};" for option in settings) + " };")
    texts += ["controls { };", "logging { channel err { stderr; severity warning; }; category default { err; }; };"]
    more = "allow-update { key mirror.test; };" if updates else update_policy
    texts += [
        f'zone "{origin}" {{ type primary; file "{file}"; check-names ignore; {more} }};' for origin, file in written
    ]
    config = folder / "named.conf"
    config.write_text("\n".join(texts) + "\n", encoding="utf-8")
    with running([path, "-f", "-n", "1", "-c", str(config)], folder, "bind", port, written[0][0]) as server:
        yield server


@contextmanager
def bind_secondary(folder: Path, zone: str, primary: Server) -> Iterator[Server]:
    """BIND as a secondary of a primary, which it asks when it starts; what it has got stays in the folder."""
    path, port = program("named"), free_port()
    folder.mkdir(parents=True, exist_ok=True)
    config = folder / "named.conf"
    config.write_text(
        f'options {{ directory "{folder}"; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; recursion no; '
        "pid-file none; dnssec-validation no; notify no; minimal-responses yes; };\ncontrols { };\n"
        "logging { channel err { stderr; severity warning; }; category default { err; }; };\n"
        f'zone "{zone}" {{ type secondary; file "zone"; masterfile-format text; '
        f"primaries {{ {primary.host} port {primary.port}; }}; }};\n",
        encoding="utf-8",
    )
    with running([path, "-f", "-n", "1", "-c", str(config)], folder, "bind", port, zone) as server:
        yield server


@contextmanager
def bind_views(
    folder: Path, zone: str, key: Key, with_key: str, without: str, *, inside: str = "key mirror.test"
) -> Iterator[Server]:
    """BIND showing one text of a zone to whoever signs with the key, or asks from the address `inside`, who may change it; and
    to all others another that it hands over to anyone."""
    path, port = program("named"), free_port()
    folder.mkdir(parents=True, exist_ok=True)
    views = ""
    for label, takers, text in (("inside", inside, with_key), ("outside", "any", without)):
        (folder / f"{label}.zone").write_text(text, encoding="utf-8")
        views += (
            f"view {label} {{ match-clients {{ {takers}; }}; allow-transfer {{ {takers}; }}; "
            f'zone "{zone}" {{ type primary; file "{label}.zone"; '
            f"allow-update {{ {takers if label == 'inside' else 'none'}; }}; }}; }};\n"
        )
    config = folder / "named.conf"
    config.write_text(
        f'key mirror.test {{ algorithm {key.algorithm}; secret "{secret_text(key)}"; }};\n'
        f'options {{ directory "{folder}"; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; recursion no; '
        "pid-file none; dnssec-validation no; notify no; };\ncontrols { };\n"
        f"logging {{ channel err {{ stderr; severity warning; }}; category default {{ err; }}; }};\n{views}",
        encoding="utf-8",
    )
    with running([path, "-f", "-n", "1", "-c", str(config)], folder, "bind", port, zone) as server:
        yield server


def following(primary: Server, *, looks: bool = True) -> str:
    """Return NSD's lines for a zone that follows a primary: notified of changes, and where it `looks` by itself, every two
    seconds, since a NOTIFY may get lost between two changes."""
    lines = f"  request-xfr: AXFR {primary.host}@{primary.port} NOKEY\n  allow-notify: 127.0.0.1 NOKEY"
    return f"{lines}\n  max-refresh-time: 2\n  max-retry-time: 2" if looks else lines


@contextmanager
def nsd_secondary(folder: Path, zone: str, text: str, primary: Server, *, port: int | None = None) -> Iterator[Server]:
    """NSD as a secondary of a primary that hands its zone to anyone, beginning with a text of its own, until it is notified."""
    with nsd(folder, {zone: text}, label="nsd", secondary=following(primary, looks=False), port=port) as server:
        yield server


@contextmanager
def pdns(folder: Path, zones: dict[str, str]) -> Iterator[Server]:
    """PowerDNS serving zones from files."""
    path, port = program("pdns_server"), free_port()
    written = _write_zones(folder, zones)
    (folder / "zones.conf").write_text(
        "".join(f'zone "{origin}" {{ type master; file "{file}"; }};\n' for origin, file in written), encoding="utf-8"
    )
    (folder / "pdns.conf").write_text(
        f"launch=bind\nbind-config={folder}/zones.conf\nlocal-address=127.0.0.1\nlocal-port={port}\n"
        f"socket-dir={folder}\nsecurity-poll-suffix=\nguardian=no\ndaemon=no\nversion-string=anonymous\n"
        "disable-axfr=yes\nlog-dns-queries=no\n",
        encoding="utf-8",
    )
    with running([path, f"--config-dir={folder}"], folder, "pdns", port, written[0][0]) as server:
        yield server


@contextmanager
def pdns_primary(folder: Path, zones: dict[str, str], *, key: Key, notify: int) -> Iterator[Server]:
    """PowerDNS with zones in a database, which whoever signs with the key may change (RFC 2136), and anyone may take; it tells
    a secondary at the port `notify` of changes."""
    path, port = program("pdns_server"), free_port()
    folder.mkdir(parents=True, exist_ok=True)
    schema = Path("/usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql")
    if not schema.is_file():
        program("pdns-backend-sqlite3")  # which is no program, and so is missing
    with contextlib.closing(sqlite3.connect(folder / "zones.db")) as database, database:
        database.executescript(schema.read_text(encoding="utf-8"))
        database.execute(
            "insert into tsigkeys (name, algorithm, secret) values ('mirror.test', ?, ?)",
            (key.algorithm, secret_text(key)),
        )
        for number, (origin, text) in enumerate(zones.items(), 1):
            database.execute("insert into domains (id, name, type) values (?, ?, 'MASTER')", (number, origin))
            for kind, content in (
                ("TSIG-ALLOW-DNSUPDATE", "mirror.test"),
                ("NOTIFY-DNSUPDATE", "1"),
                ("SOA-EDIT-DNSUPDATE", "INCREASE"),
            ):
                database.execute(
                    "insert into domainmetadata (domain_id, kind, content) values (?, ?, ?)", (number, kind, content)
                )
            for name, rdataset in read_zone(f"$ORIGIN {origin}.\n{text}", origin).iterate_rdatasets():
                for rdata in rdataset:
                    said = rdata.to_text()
                    priority, content = said.split(" ", 1) if rdataset.rdtype in (MX, SRV) else ("0", said)
                    owner = name.to_text().rstrip(".")
                    content = content if rdataset.rdtype == TXT else content.replace(". ", " ").rstrip(".")
                    database.execute(
                        "insert into records (domain_id, name, type, content, ttl, prio, auth) values (?, ?, ?, ?, ?, ?, 1)",
                        (number, owner, type_text(rdataset.rdtype), content, rdataset.ttl, int(priority)),
                    )
    (folder / "pdns.conf").write_text(
        f"launch=gsqlite3\ngsqlite3-database={folder}/zones.db\ngsqlite3-pragma-foreign-keys=yes\nlocal-address=127.0.0.1\n"
        f"local-port={port}\nsocket-dir={folder}\nsecurity-poll-suffix=\nguardian=no\ndaemon=no\nversion-string=anonymous\n"
        "primary=yes\ndnsupdate=yes\nallow-dnsupdate-from=127.0.0.0/8\nallow-axfr-ips=127.0.0.0/8\n"
        f"also-notify=127.0.0.1:{notify}\nonly-notify=\ncache-ttl=0\nquery-cache-ttl=0\nnegquery-cache-ttl=0\nzone-cache-refresh-interval=0\n",
        encoding="utf-8",
    )
    with running([path, f"--config-dir={folder}"], folder, "pdns", port, next(iter(zones))) as server:
        yield server


_POLICY_HEAD = "$TTL 90\n@ SOA localhost. h. 1 3600 600 1209600 300\n@ NS localhost.\n"


@contextmanager
def unbound(
    folder: Path,
    zones: dict[str, str],
    *,
    behind: dict[str, Server] | None = None,
    most_ttl: int = 86_400,
    settings: Sequence[str] = (),
    known: str | None = None,
    policy: str = "",
    modules: str = "iterator",
) -> Iterator[Server]:
    """Unbound serving zones with authority, and refusing everything else; or as a cache before servers, given by zone, that
    keeps nothing longer than `most_ttl` seconds, `policy` being the records of a response policy zone. It has come up when it
    answers for the zone `known`, the first one without."""
    path, port = program("unbound"), free_port()
    written = _write_zones(folder, zones)
    lines = [
        "server:", '  username: ""', '  chroot: ""', f'  directory: "{folder}"', f'  pidfile: "{folder}/pid"',
        "  use-syslog: no", "  num-threads: 1", "  interface: 127.0.0.1", f"  port: {port}", "  do-ip6: no",
        f'  module-config: "{modules}"', "  do-not-query-localhost: no", f"  cache-max-ttl: {most_ttl}",
        *([] if behind else ['  local-zone: "." refuse']),
        *(f'  local-zone: "{origin}" transparent' for origin, _ in written), *(f"  {one}" for one in settings),
        "remote-control:", "  control-enable: no",
    ]  # fmt: skip
    for origin, file in written:
        lines += ["auth-zone:", f'  name: "{origin}"', f'  zonefile: "{file}"']
        lines += ["  for-downstream: yes", "  for-upstream: no"]
    for origin, server in (behind or {}).items():
        lines += ["stub-zone:", f'  name: "{origin}"', f"  stub-addr: {server.host}@{server.port}", "  stub-prime: no"]
    if policy:
        (folder / "policy.zone").write_text(_POLICY_HEAD + policy, encoding="utf-8")
        lines += [
            "rpz:",
            '  name: "policy"',
            f'  zonefile: "{folder}/policy.zone"',
            "server:",
            '  module-config: "respip iterator"',
        ]
    config = folder / "unbound.conf"
    config.write_text("\n".join(lines) + "\n", encoding="utf-8")
    up = known or next(iter(behind or zones))
    with running([path, "-d", "-c", str(config)], folder, "unbound", port, up) as server:
        yield server


@contextmanager
def bind_cache(
    folder: Path, behind: dict[str, Server], *, known: str, settings: Sequence[str] = (), policy: str = ""
) -> Iterator[Server]:
    """BIND as a resolver that forwards zones to servers; it has come up when it answers for the zone `known`. `policy` are the
    records of a response policy zone."""
    path, port = program("named"), free_port()
    folder.mkdir(parents=True, exist_ok=True)
    options = [
        f'directory "{folder}"', f"listen-on port {port} {{ 127.0.0.1; }}", "listen-on-v6 { none; }", "recursion yes",
        "pid-file none", "dnssec-validation no", "allow-query { any; }", "allow-recursion { any; }", *settings,
        *(['response-policy { zone "policy"; } qname-wait-recurse no'] if policy else []),
    ]  # fmt: skip
    texts = ["options { " + " ".join(f"{option};" for option in options) + " };", "controls { };"]
    texts.append("logging { channel err { stderr; severity warning; }; category default { err; }; };")
    texts += [
        f'zone "{zone}" {{ type forward; forward only; forwarders {{ {server.host} port {server.port}; }}; }};'
        for zone, server in behind.items()
    ]
    if policy:
        (folder / "policy.zone").write_text(_POLICY_HEAD + policy, encoding="utf-8")
        texts.append('zone "policy" { type primary; file "policy.zone"; };')
    config = folder / "named.conf"
    config.write_text("\n".join(texts) + "\n", encoding="utf-8")
    with running([path, "-f", "-n", "1", "-c", str(config)], folder, "bind", port, known) as server:
        yield server


@contextmanager
def kea(folder: Path, family: int) -> Iterator[Callable[..., None]]:
    """Kea for IPv4 or IPv6, which listens nowhere and keeps its leases in `leases.csv`; calling it carries a command out."""
    path = program(f"kea-dhcp{family}")
    folder.mkdir(parents=True, exist_ok=True)
    short = tempfile.mkdtemp()  # the path of a socket must not be long
    place = Path(short) / "sock"
    subnet = {4: "10.77.20.0/24", 6: "2001:db8:77:20::/64"}[family]
    hooks = next(Path("/usr/lib").glob("*/kea/hooks/libdhcp_lease_cmds.so"))
    settings: dict[str, object] = {
        "interfaces-config": {"interfaces": []}, "control-socket": {"socket-type": "unix", "socket-name": str(place)},
        "lease-database": {"type": "memfile", "persist": True, "name": str(folder / "leases.csv"), "lfc-interval": 0},
        "hooks-libraries": [{"library": str(hooks)}], f"subnet{family}": [{"id": 1, "subnet": subnet}],
        "loggers": [{"name": f"kea-dhcp{family}", "severity": "ERROR", "output_options": [{"output": "stderr"}]}],
    }  # fmt: skip
    if family == 6:  # it would make one up from a network card otherwise
        settings["server-id"] = {"type": "EN", "enterprise-id": 32473, "identifier": "5A17", "persist": False}
    (folder / "kea.conf").write_text(json.dumps({f"Dhcp{family}": settings}), encoding="utf-8")
    surroundings = os.environ | {"KEA_PIDFILE_DIR": str(folder), "KEA_LOCKFILE_DIR": "none"}
    log = folder / "log"
    with log.open("wb") as output:
        process = subprocess.Popen(
            [path, "-c", str(folder / "kea.conf")], env=surroundings, stdout=output, stderr=output
        )

    def command(name: str, **arguments: object) -> None:
        with socket.socket(getattr(socket, "AF_UNIX")) as sock:  # noqa: B009  (not on every system)
            sock.connect(str(place))
            sock.sendall(json.dumps({"command": name, "arguments": arguments}).encode("utf-8"))
            sock.shutdown(socket.SHUT_WR)
            said = b"".join(iter(lambda: sock.recv(65536), b""))
        assert json.loads(said)["result"] == 0, said

    try:
        until(lambda: place.exists() and process.poll() is None)
        yield command
    finally:
        process.terminate()
        process.wait(10)
        shutil.rmtree(short)


def change(server: Server, zone: str, key: Key, *steps: tuple[str | int, ...]) -> None:
    """Changes a zone by update (RFC 2136): steps such as `("add", "www", 300, "A", "192.0.2.1")`."""
    ring = dns.tsigkeyring.from_text({"mirror.test": (key.algorithm, secret_text(key))})
    update = dns.update.UpdateMessage(zone, keyring=ring)
    for verb, *rest in steps:
        getattr(update, str(verb))(*rest)
    assert dns.query.tcp(update, server.host, port=server.port, timeout=PATIENCE_S).rcode() == 0


def load_anew(folder: Path, zones: dict[str, str]) -> None:
    """Has a running BIND load other texts of some of its zones; `folder` is its own."""
    config = (folder / "named.conf").read_text(encoding="utf-8")
    for origin, text in zones.items():
        file = re.search(f'zone "{re.escape(origin)}" {{ type primary; file "([^"]+)"', config)
        assert file is not None, origin
        path = Path(file[1])
        path.write_text(f"$ORIGIN {origin.rstrip('.')}.\n{text}", encoding="utf-8")
        ahead = time.time() + 10  # BIND reads again what is newer than what it has, in whole seconds
        os.utime(path, (ahead, ahead))
    if sys.platform == "win32":
        raise OSError("not on Windows")
    os.kill(int((folder / "process").read_text(encoding="utf-8")), signal.SIGHUP)


def notify(server: Server, zone: str) -> None:
    """Tells a secondary that its zone has changed (RFC 1996)."""
    message = dns.message.make_query(zone, "SOA")
    message.set_opcode(dns.opcode.NOTIFY)
    dns.query.udp(message, server.host, port=server.port, timeout=PATIENCE_S)


def secret_text(key: Key) -> str:
    """A key's secret as configuration files want it."""
    return base64.b64encode(key.secret).decode("ascii")

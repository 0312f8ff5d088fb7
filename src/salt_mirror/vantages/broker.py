"""The broker between desks and vantages: what it is told to allow, and one of our own where the house has none.

Strategy: an MQTT broker ties each topic to the name on a certificate, so a vantage reads its errands, writes its replies and
its presence, and nothing else. The rules name each certificate, since patterns cannot tell a desk from a vantage. Mosquitto is
configured here, and `vantage serve` runs it; any other broker gets the same rules in its own form (docs/vantages.md).
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from salt_mirror.dns.traffic.descriptors import most_sockets
from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.protocol import MOST_BYTES, errand_topic, presence_topic, reply_topic
from salt_mirror.vantages.tls import AUTHORITY, PORT, REVOKED, shown

CONFIGURATION, RULES = "mosquitto.conf", "mosquitto.acl"
CERTIFICATE, KEY = "broker.pem", "broker.key"
LOOK_EVERY_S = 1.0
MOST_MEMORY = 1 << 30
_ENVELOPE = 16 << 10
_WINDOWS = Path("C:/Program Files/mosquitto/mosquitto.exe")
_HOW = "apt-get install mosquitto on Debian, brew install mosquitto on macOS, the installer of mosquitto.org on Windows"

Say = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class Listener:
    """Where a broker listens; an empty host stands for all addresses."""

    host: str = ""
    port: int = PORT


def rules(desks: Sequence[str], vantages: Sequence[str]) -> str:
    """Return Mosquitto's access rules: what each name may publish (write) and receive (read)."""
    lines = ["# Written by `salt-mirror vantage keys`: who may write and read what, by the name on the certificate."]
    for name in desks:
        lines += [
            "", f"user {name}", f"topic write {errand_topic('+', name, '+')}",
            f"topic read {reply_topic(name, '+', '+')}", f"topic read {presence_topic('+')}",
        ]  # fmt: skip
    for name in vantages:
        lines += ["", f"user {name}", f"topic read {errand_topic(name, '+', '+')}"]
        lines += [f"topic write {reply_topic(desk, '+', name)}" for desk in desks]
        lines.append(f"topic write {presence_topic(name)}")
    return "\n".join(lines) + "\n"


def configuration(folder: Path, listener: Listener) -> str:
    """Return Mosquitto's configuration, with certificates and rules in a folder."""
    host = f" {listener.host}" if listener.host else ""
    return f"""\
# Written by `salt-mirror vantage keys`: a broker for vantages. It keeps nothing on disk.
listener {listener.port}{host}
cafile {folder / AUTHORITY}
certfile {folder / CERTIFICATE}
keyfile {folder / KEY}
crlfile {folder / REVOKED}
tls_version tlsv1.2
require_certificate true
use_identity_as_username true
allow_anonymous false
acl_file {folder / RULES}
allow_zero_length_clientid false
# What a client may cost: bytes of a packet, messages and bytes that wait for it, seconds of silence, memory for all.
max_packet_size {MOST_BYTES + _ENVELOPE}
max_queued_messages 1000
max_queued_bytes {8 * MOST_BYTES}
max_inflight_messages 100
max_keepalive 60
memory_limit {MOST_MEMORY}
persistent_client_expiration 1h
set_tcp_nodelay true
"""


def find_mosquitto() -> str:
    """Return the path of Mosquitto's program. Raises BadInput, which says how to get it."""
    path = os.environ.get("PATH", "") + os.pathsep + "/usr/sbin" + os.pathsep + "/usr/local/sbin"
    text = shutil.which("mosquitto", path=path)
    if text is None and sys.platform == "win32" and _WINDOWS.is_file():
        text = str(_WINDOWS)
    if text is None:
        raise BadInput(
            f"Mosquitto, the MQTT broker, is not installed on this machine ({_HOW}); a broker elsewhere serves too"
        )
    return text


def run_broker(keys: Path, listener: Listener, say: Say) -> None:
    """Run Mosquitto until it ends or this process is interrupted; start it again when the certificates or rules have changed.
    Raises BadInput where it cannot start or has ended, KeyboardInterrupt when it is told to end."""
    program = find_mosquitto()
    most_sockets()  # the broker inherits the limit: idle connections end after 90 s, and must keep nobody out
    for name in ("SIGTERM", "SIGHUP"):
        if (number := getattr(signal, name, None)) is not None:
            signal.signal(number, signal.default_int_handler)
    with tempfile.TemporaryDirectory(prefix="salt-mirror-") as folder:
        path = Path(folder) / CONFIGURATION
        text = (
            configuration(keys.absolute(), listener)
            + "log_dest stderr\nlog_timestamp false\nconnection_messages true\n"
        )
        if hasattr(os, "geteuid") and os.geteuid() == 0:
            text += "user root\n"  # else it becomes a user who cannot read the keys
        path.write_text(text, encoding="utf-8")
        at = shown(listener.host or "0.0.0.0", listener.port)
        while _run_once([program, "-c", str(path)], keys, at, say):
            say("certificates or rules have changed: the broker is started again")


def _run_once(call: list[str], keys: Path, at: str, say: Say) -> bool:
    """Run Mosquitto; True where it has to be started again. It reads its rules and its list of revoked certificates when it
    starts, and a connection whose certificate was revoked ends then."""
    before, changed = _stamp(keys), threading.Event()
    process = subprocess.Popen(
        call, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, text=True, encoding="utf-8",
        errors="replace",
    )  # fmt: skip

    def watch() -> None:
        while process.poll() is None:
            if _stamp(keys) != before:
                changed.set()
                process.terminate()
                return
            time.sleep(LOOK_EVERY_S)

    threading.Thread(target=watch, name="broker", daemon=True).start()
    try:
        last = _follow(process, at, say)
    finally:
        process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(5)
        process.kill()
        process.wait()
    if not changed.is_set():
        raise BadInput(f"Mosquitto has ended: {last or 'it gave no reason'}")
    return True


def _stamp(keys: Path) -> list[tuple[int, int]]:
    """Return what changes when certificates or rules do."""
    found = []
    for name in (RULES, REVOKED, CERTIFICATE, AUTHORITY):
        with contextlib.suppress(OSError):
            stat = (keys / name).stat()
            found.append((stat.st_mtime_ns, stat.st_size))
    return found


_CONNECTED = re.compile(r"New client connected from (\S+) as (\S+) \(.* u'([^']*)'\)\.")
_ENDED = re.compile(r"Client (\S+) (?:disconnected|closed its connection|has exceeded timeout)(.*)")
_QUIET = (
    "New connection from",
    "mosquitto version",
    "Config loaded",
    "Opening ipv",
    "mosquitto ",
    "Warning: Mosquitto should",
)


def _follow(process: subprocess.Popen[str], at: str, say: Say) -> str:
    """Say in the log who comes and goes, and whatever else Mosquitto says; return its last line once it has ended."""
    assert process.stdout is not None
    names: dict[str, str] = {}
    last = ""
    for line in process.stdout:
        line = line.strip()
        if " running" in line:
            say(f"desks and vantages are awaited at {at}")
        elif connected := _CONNECTED.search(line):
            place, client, name = connected.groups()
            names[client] = name
            say(f"{name} is there, from {place}")
        elif (ended := _ENDED.search(line)) and ended[1] in names:
            say(f"{names.pop(ended[1])} has gone{ended[2].rstrip('.')}")
        elif line and not line.startswith(_QUIET):
            say(line)
        last = line or last
    return last

"""Three desks of Gullmarsh Saltworks as vantages on this computer: each has another resolver, and one gets the wrong view.

Strategy: a broker and three vantages as programs of their own, over TLS with certificates that are made for them, as on real
machines; all on loopback. They end with the block.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from salt_mirror.demo.stops import Stop, move_the_shop
from salt_mirror.demo.world import SPEED
from salt_mirror.estate.errors import BadInput
from salt_mirror.standin.server import StandIn
from salt_mirror.vantages.broker import find_mosquitto
from salt_mirror.vantages.keys import make_keys

DESKS = (
    ("harbour-desk", "offices", "internal", "harbour-office"),
    ("kiln-desk", "offices", "internal", "kiln-office"),
    ("home-desk", "homes", "public", "isp-one"),
)
"""Name, group, the view that people there should get, and the resolver that they have."""
_UP_S = 60.0

STOPS = (
    Stop("Three desks ask for us: two in offices, one at home. Who is there?", ("vantage", "list"), 0),
    Stop(
        "A user in the harbour office cannot open the shop; at home it works. What does each desk get?",
        ("ask", "shop.gullmarsh.example", "A", "--from", "everywhere"),
        1,
    ),
    Stop(
        "Does each desk get the view that people there should get?",
        ("views", "gullmarsh.example", "--from", "everywhere", "--faults"),
        1,
    ),
    Stop(
        "The shop moves. Which desks have it already, and when will the last one? (Time goes by 240 times as fast.)",
        ("settle", "shop.gullmarsh.example", "A", "--to", "192.0.2.12", "--from", "kiln-desk,homes", "--speed", f"{SPEED:.0f}"),
        0,
        move_the_shop,
    ),
)  # fmt: skip


@contextmanager
def stationed(estate: Path, servers: dict[str, StandIn]) -> Iterator[None]:
    """Return the broker and the desks, from the moment they are there; the estate knows of them. Raises BadInput."""
    folder = estate.parent
    find_mosquitto()
    make_keys(folder / "keys", [name for name, *_ in DESKS], days=30)
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        at = f"127.0.0.1:{sock.getsockname()[1]}"
    tables = [f'\n[vantages.{name}]\ngroup = "{group}"\nview = "{view}"\n' for name, group, view, _ in DESKS]
    tables.append(f'\n[vantage_broker]\naddress = "{at}"\ncertificate = "keys/desk.pem"\nkey = "keys/desk.key"\n')
    with estate.open("a", encoding="utf-8") as file:
        file.writelines(tables)
    with ExitStack() as stack:
        _begin(stack, folder, "broker", "serve", at)
        for name, _, _, resolver in DESKS:
            _begin(stack, folder, name, "join", at, "--name", name, resolver=f"127.0.0.1:{servers[resolver].port}")
        for log in ("broker", *(name for name, *_ in DESKS)):
            _wait(folder / f"{log}.log", "are awaited" if log == "broker" else f"{log} is at")
        yield


def _begin(stack: ExitStack, folder: Path, log: str, *words: str, resolver: str = "") -> None:
    output = stack.enter_context((folder / f"{log}.log").open("wb"))
    process = subprocess.Popen(
        [sys.executable, "-m", "salt_mirror", "vantage", *words, "--keys", "keys"], cwd=folder, stdout=output,
        stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, env=os.environ | {"SALT_MIRROR_RESOLVERS": resolver},
    )  # fmt: skip
    stack.callback(_end, process)


def _end(process: subprocess.Popen[bytes]) -> None:
    process.terminate()
    try:
        process.wait(10)
    except subprocess.TimeoutExpired:
        process.kill()


def _wait(log: Path, says: str) -> None:
    over_at = time.monotonic() + _UP_S
    while says not in log.read_text(encoding="utf-8", errors="replace"):
        if time.monotonic() > over_at:
            raise BadInput(
                f"a vantage did not come up: {log} says {log.read_text(encoding='utf-8', errors='replace')[-300:]!r}"
            )
        time.sleep(0.1)

"""Feeds every reader of files and messages with mutations of sound ones: python tools/fuzz.py [READER...] [--seconds N]

A reader may refuse what it is given with `Unusable` (messages: `MalformedMessage`), and nothing else. The first input that
breaks it in a way of its own is kept as a file, so that it can be given to the reader again.
"""

from __future__ import annotations

import argparse
import contextlib
import random
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import dns.message
import dns.rrset

from salt_mirror.checks.compare.judging import VERSION as SNAPSHOT
from salt_mirror.checks.plan.sets import set_of
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT
from salt_mirror.dns.transfer import TransferFailed, read_transfer_records
from salt_mirror.dns.wire import MalformedMessage, read_sections
from salt_mirror.estate.building import load_estate
from salt_mirror.estate.sources import read_expectations
from salt_mirror.keeping.history import lives_in, runs_in
from salt_mirror.keeping.journal import VERSION as JOURNAL
from salt_mirror.keeping.journal import read_journal
from salt_mirror.keeping.plans import check_lines
from salt_mirror.keeping.snapshots import read_snapshot
from salt_mirror.keeping.undo import read_undo

Reader = tuple[str, Callable[[Path], object], list[bytes]]

ESTATE = b"""title = "Gullmarsh Saltworks"
public_views = ["public"]
find_servers_by = ["office"]
[[zones]]
name = "gullmarsh.example"
view = "public"
servers = ["ns1"]
transfer = true
[servers.ns1]
address = "192.0.2.53:5353"
pace = 20.5
[resolvers.office]
address = "tls://192.0.2.54#dns.gullmarsh.example"
group = "offices"
[reach]
"192.0.2.53" = "127.0.0.1:5300"
[roots]
"a.roots.example" = ["203.0.113.241"]
[bounds]
questions_for_a_name = 100
[[accept]]
code = "pair.stale-pointer"
reason = "old"
until = 2027-01-01
[[directories]]
domain = "gullmarsh.example"
view = "public"
"""
MASTER = b"""$ORIGIN gullmarsh.example.
$TTL 1h
@ SOA ns1 hostmaster ( 7 3600 600 86400 300 ) ; a comment
  NS ns1
ns1 3600 IN A 192.0.2.53
www AAAA 2001:db8::1
mail MX 10 mail.gullmarsh.example.
_ldap._tcp SRV 0 100 389 dc1
text TXT "two" "str\\"ings\\032"
$GENERATE 1-20/2 h${0,3,d} A 192.0.2.$
type TYPE65280 \\# 4 0A000001
"""
CSV = (
    b"name,type,value,ttl,presence,lifetime,owner,note\n"
    b'www,A,192.0.2.1,300,present,,me,"a, b"\nmail,MX,10 m.gullmarsh.example.,,,,,\n'
)
LINES = (
    b'{"name":"www","type":"A","value":"192.0.2.1","ttl":300}\n'
    b'{"name":"x","type":"SRV","value":"0 1 2 h","presence":"absent"}\n'
)
HELD = (
    b'{"snapshot":"%s","taken_at":"2026-11-25T16:06:10+00:00","title":"Gullmarsh"}\n'
    % SNAPSHOT.encode()
    + b'{"server":"ns1","view":"public","zone":"gullmarsh.example.","name":"www.gullmarsh.example.","type":"A",'
    b'"values":["192.0.2.1"],"ttl":300}\n'
)
WATCH = (
    b'{"journal":"%s","began_at":1795622948.1,"goals":[{"name":"www.gullmarsh.example.","type":"A","values":["192.0.2.1"]}],'
    b'"bound_s":3600}\n'
    % JOURNAL.encode()
    + b'{"at":1795622948.2,"vantage":"ns1","kind":"authoritative","goal":0,"state":"old","values":["192.0.2.11"],"ttl":3600}\n'
)


UNDO = (
    b'{"undo":"salt-mirror/undo/1","begun":"2026-11-25T16:06:10Z","estate":"estate.toml","sets":1}\n'
    b'{"view":"","zone":"gullmarsh.example.","name":"www.gullmarsh.example.","type":"A","ttl_before":300,"before":["192.0.2.1"],'
    b'"ttl_after":300,"after":["192.0.2.2"],"server":"ns1"}\n'
    b'{"zone":"gullmarsh.example.","view":"","server":"ns1","names":1,"answered":"NOERROR"}\n'
)


def _messages() -> list[bytes]:
    message = dns.message.make_response(dns.message.make_query("www.gullmarsh.example", "A"))
    for line in (
        "www A 192.0.2.1", "www MX 10 mail.gullmarsh.example.", "_x SRV 0 1 2 h.gullmarsh.example.", "www TXT \"a\"",
        "@ SOA ns1.gullmarsh.example. h.gullmarsh.example. 1 2 3 4 5",
    ):  # fmt: skip
        owner, kind, value = line.split(None, 2)
        where = message.authority if kind == "SOA" else message.answer
        where.append(dns.rrset.from_text(f"{owner}.gullmarsh.example.".replace("@.", ""), 300, "IN", kind, value))
    return [message.to_wire()]


def _history() -> bytes:
    from datetime import UTC, datetime

    from salt_mirror.findings import Finding
    from salt_mirror.keeping.history import FinishedRun, add_run

    found = Finding(
        code="pair.stale-pointer", weight="fault", outcome="differs", name="www.gullmarsh.example.", type="A", view="",
        text="It differs.", expected=[], evidence=[],
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "history"
        add_run(path, FinishedRun("", datetime(2026, 11, 25, tzinfo=UTC), 1.0, "differs", [found]))
        return path.read_bytes()


def _read_message(path: Path) -> None:
    wire = path.read_bytes()
    for read in (read_sections, lambda message: read_transfer_records(message, ROOT)):
        with contextlib.suppress(MalformedMessage, TransferFailed):
            read(wire)


def _read_undo(path: Path) -> None:
    undo = read_undo(path)
    check_lines(undo.lines, path)
    for line in undo.lines:
        set_of(line, None)


def _read_history(path: Path) -> None:
    runs_in(path)
    lives_in(path, "*")


READERS: dict[str, Reader] = {
    "estate": (".toml", load_estate, [ESTATE]),
    "master": (".zone", lambda path: read_expectations(path, ROOT, []), [MASTER]),
    "undo": (".undo", _read_undo, [UNDO]),
    "csv": (".csv", lambda path: read_expectations(path, ROOT, []), [CSV]),
    "lines": (".jsonl", lambda path: read_expectations(path, ROOT, []), [LINES]),
    "snapshot": (".jsonl", read_snapshot, [HELD]),
    "journal": (".jsonl", read_journal, [WATCH]),
    "history": (".sqlite", _read_history, []),
    "message": (".wire", _read_message, _messages()),
}
_PIECES = [
    b"\0", b"\xff", b"\n", b'"', b"\\", b"[", b"]", b"{", b"}", b"(", b";", b"$", b"9" * 30, b"-1", b"1e999", b"..",
    b"\\u0000", b"\\ud800", b"\x1b[2J", b"\xef\xbb\xbf", b"nan", b"9999-12-31",
]  # fmt: skip


def mutated(seed: bytes, chance: random.Random) -> bytes:
    """A few bits, bytes, pieces or stretches of a sound one changed, doubled, moved or lost."""
    out = bytearray(seed)
    for _ in range(chance.choice((1, 1, 2, 4, 16))):
        at = chance.randrange(len(out) + 1)
        upto = min(len(out), at + chance.choice((1, 2, 8, 64)))
        kind = chance.randrange(6)
        if kind == 0 and at < len(out):
            out[at] ^= 1 << chance.randrange(8)
        elif kind == 1:
            out[at:upto] = b""
        elif kind == 2:
            out[at:at] = out[at:upto] * chance.choice((1, 2, 50))
        elif kind == 3:
            out[at:at] = chance.choice(_PIECES)
        elif kind == 4:
            out[at:upto] = chance.randbytes(upto - at)
        else:
            there = chance.randrange(len(out) + 1)
            out[there:there] = out[at:upto]
    return bytes(out)


def fuzz(name: str, seconds: float, seed: int) -> tuple[int, int, float]:
    """Runs one reader: how many inputs, how many broke it, and the longest that one took in seconds."""
    suffix, read, seeds = READERS[name]
    seeds = seeds or [_history()]
    chance = random.Random(seed)
    tried = broken = 0
    longest = 0.0
    ways: set[str] = set()
    until = time.monotonic() + seconds
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"input{suffix}"
        while time.monotonic() < until:
            path.write_bytes(mutated(chance.choice(seeds), chance))
            began = time.monotonic()
            try:
                read(path)
            except Unusable:
                pass
            except Exception as error:
                broken += 1
                way = f"{type(error).__name__}: {str(error)[:60]!r}"
                if way in ways:
                    continue
                ways.add(way)
                kept = Path(tempfile.gettempdir()) / f"broken-{name}-{broken}{suffix}"
                kept.write_bytes(path.read_bytes())
                sys.stdout.write(f"{name}: {way} ({kept})\n")
            longest = max(longest, time.monotonic() - began)
            tried += 1
    return tried, broken, longest


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("readers", nargs="*", choices=[[], *READERS])
    options.add_argument("--seconds", type=float, default=10.0)
    options.add_argument("--seed", type=int, default=1)
    wanted = options.parse_args()
    worst = 0
    for name in wanted.readers or READERS:
        tried, broken, longest = fuzz(name, wanted.seconds, wanted.seed)
        sys.stdout.write(f"{name}: {tried:,} inputs, {broken} broke it, longest {longest:.3f} s\n")
        sys.stdout.flush()
        worst += broken
    sys.exit(1 if worst else 0)


if __name__ == "__main__":
    main()

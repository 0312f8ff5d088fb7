"""Mending against auditing: python bench/mend.py [RECORDS [CHANGES]]

5,000 records, half of them hosts and half their PTR records, on one real BIND that takes signed updates; 400 hosts are
not as expected, in four ways. Each round runs `audit`, `mend` and `mend --apply` as whole processes, on the same servers'
files.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))

import world

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Key
from support.realservers import bind, secret_text

ROUNDS = 3
KEY = Key(from_text("mirror.test"), "hmac-sha256", b"0123456789abcdef0123456789abcdef")
SOA = "$TTL 300\n@ SOA ns.pans.example. h.pans.example. 1 3600 600 86400 300\n@ NS ns.pans.example.\n"


def lay_out(folder: Path, hosts: int, changes: int) -> dict[str, str]:
    """The zones, and the list of what is expected; every so many hosts one set is missing, foreign or beside the expected."""
    forward, reverse, listed = [SOA, "ns A 127.0.0.1\n"], [SOA], ["name,type,value\n"]
    every = hosts // changes
    for n in range(hosts):
        name, address = world.host(n), world.address(n)
        listed.append(f"{name}.pans.example,A,{address}\n")
        kind = n // every % 4 if n % every == 0 else -1
        if kind != 0:  # no address
            forward.append(f"{name} A {world.address(hosts + n) if kind == 1 else address}\n")
        leads_to = world.host(n + 1) if kind == 2 else name
        if kind != 3:  # no PTR record
            reverse.append(f"{n & 255}.{n >> 8 & 255}.{n >> 16} PTR {leads_to}.pans.example.\n")
    (folder / "hosts.csv").write_text("".join(listed), encoding="utf-8")
    return {"pans.example": "".join(forward), "10.in-addr.arpa": "".join(reverse)}


def estate(folder: Path, port: int) -> None:
    """The estate of these zones."""
    (folder / "mirror.key").write_text(secret_text(KEY) + "\n", encoding="utf-8")
    zones = "".join(
        f'[[zones]]\nname = "{name}"\nservers = ["one"]\nprimary = "one"\nupdate = "one"\nupdate_key = "mirror.test"\n{more}\n'
        for name, more in (("pans.example", 'expect = ["hosts.csv"]'), ("10.in-addr.arpa", ""))
    )
    (folder / "estate.toml").write_text(
        f'{zones}[servers.one]\naddress = "127.0.0.1"\nport = {port}\n[reach]\n"127.0.0.1" = "127.0.0.1:{port}"\n'
        '[keys."mirror.test"]\nalgorithm = "hmac-sha256"\nsecret_file = "mirror.key"\n',
        encoding="utf-8",
    )


def run(folder: Path, *words: str) -> tuple[float, dict[str, Any]]:
    """Runs the program; its seconds, and what it reports."""
    before = time.perf_counter()
    line = [sys.executable, "-m", "salt_mirror", words[0], "--estate", "estate.toml", *words[1:], "--json"]
    done = subprocess.run(line, cwd=folder, capture_output=True, text=True, check=False)
    took = time.perf_counter() - before
    if done.returncode not in (0, 1, 3):
        raise SystemExit(f"{words}: exit status {done.returncode}\n{done.stderr}")
    return took, json.loads(done.stdout)


def one_round(hosts: int, changes: int) -> tuple[float, float]:
    """Planning and applying, each against the audit."""
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        zones = lay_out(folder, hosts, changes)
        with bind(folder / "bind", zones, key=KEY, updates=True) as server:
            estate(folder, server.port)
            looked, audit = run(folder, "audit")
            planned, plan = run(folder, "mend")
            applied, done = run(folder, "mend", "--apply", "--yes", "--at-most", str(2 * changes))
        if len(plan["plan"]["changes"]) < changes * 0.9 or any(
            one["outcome"] != "agrees" for one in done["plan"]["carried"]
        ):
            raise SystemExit(f"not all was mended: {plan['says']} {done['says']}")
        print(
            f"  audit {looked:.1f} s, {len(audit['findings'])} findings; plan {planned:.1f} s, {len(plan['plan']['changes'])} "
            f"changes; applied {applied:.1f} s: {done['says']}",
            file=sys.stderr,
        )
    return planned / looked, applied / looked


def main() -> None:
    numbers = [int(word) for word in sys.argv[1:]]
    records, changes = (*numbers, 5000, 400)[:2] if len(numbers) != 1 else (numbers[0], 400)
    rounds = [one_round(records // 2, changes) for _ in range(ROUNDS)]
    for what, ratios in zip(("plan", "plan, send and judge again"), zip(*rounds, strict=True), strict=True):
        shown = " ".join(f"{one:.2f}" for one in sorted(ratios))
        print(
            f"{what} against the audit, {records:,} records and {changes} changes: {statistics.median(ratios):.2f} ({shown})"
        )


if __name__ == "__main__":
    main()

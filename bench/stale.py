"""What no longer belongs among 100,000 records with a known mixture, on a real NSD: python bench/stale.py

The zone is read from an export with age marks; what is suspected is asked for. Precision and recall of each planted kind, the
share of the time that asking and judging take, and the peak of memory.
"""

from __future__ import annotations

import json
import random
import re
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import nsd

from salt_mirror.estate.aging import hours_since_1601

RECORDS = 100_000
MIXTURE = {"fresh": 55, "static": 25, "age.stale": 8, "age.still-needed": 4, "left.reused": 4, "left.dangling": 4}
PROGRAM = Path(sys.executable).with_name("salt-mirror")


def write(folder: Path) -> tuple[str, dict[str, set[str]]]:
    """Writes export, expectations and leases; returns the zone as it is served, and what was planted."""
    chance, hours = random.Random(7), int(hours_since_1601(datetime.now(UTC)))
    planted: dict[str, set[str]] = {kind: set() for kind in MIXTURE if "." in kind}
    lines, expected = [], ["name,type,value"]
    leases = ["address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state"]
    for number, kind in enumerate(chance.choices(list(MIXTURE), list(MIXTURE.values()), k=RECORDS)):
        name, address = world.host(number), world.address(number)
        if kind in planted:
            planted[kind].add(f"{name}.pans.example.")
        if kind == "left.dangling":
            lines.append(f"{name} 3600 CNAME no-{name}")
            continue
        days = {"fresh": chance.randint(0, 13), "left.reused": 10}.get(kind, chance.randint(15, 400))
        mark = "" if kind == "static" else f"[AGE:{hours - 24 * days}] "
        lines.append(f"{name} {mark}1200 A {address}")
        if kind == "age.still-needed":
            expected.append(f"{name},A,{address}")
        elif kind == "left.reused":
            leases.append(f"{address},,,3600,{int(time.time()) + 36_000},1,1,1,new-{name}.pans.example,0")
    text = f"{world.HEAD}ns A 127.0.0.1\n" + "\n".join(lines) + "\n"
    (folder / "export.zone").write_text(text, encoding="utf-8")
    (folder / "expected.csv").write_text("\n".join(expected) + "\n", encoding="utf-8")
    (folder / "leases.csv").write_text("\n".join(leases) + "\n", encoding="utf-8")
    return re.sub(r"\[AGE:\d+\] ", "", text), planted


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        text, planted = write(folder)
        with nsd(folder / "nsd", {"pans.example": text}) as server:
            (folder / "estate.toml").write_text(
                'leases = ["leases.csv"]\n[[zones]]\nname = "pans.example"\nservers = ["one"]\nages = ["export.zone"]\n'
                'aging = true\nno_refresh = "7d"\nrefresh = "7d"\nexpect = ["expected.csv"]\n'
                f'[servers.one]\naddress = "127.0.0.1"\nport = {server.port}\n',
                encoding="utf-8",
            )
            before = time.perf_counter()
            with (folder / "report.json").open("wb") as out:
                child = subprocess.Popen([str(PROGRAM), "stale", "--json"], cwd=folder, stdout=out)
                peak_kib = 0
                while child.poll() is None:
                    status = Path(f"/proc/{child.pid}/status")
                    found = (
                        re.search(r"VmHWM:\s+(\d+)", status.read_text(encoding="utf-8")) if status.exists() else None
                    )
                    peak_kib = max(peak_kib, int(found[1]) if found else 0)
                    time.sleep(0.05)
            whole = time.perf_counter() - before
        report = json.loads((folder / "report.json").read_text(encoding="utf-8"))
    told: dict[str, set[str]] = {}
    for one in report["findings"]:
        told.setdefault(one["code"], set()).add(one["name"])
    for kind in sorted(planted):
        right = len(told.get(kind, set()) & planted[kind])
        precision, recall = right / max(1, len(told.get(kind, ()))), right / max(1, len(planted[kind]))
        print(f"{kind}: {len(planted[kind]):,} planted, precision {precision:.3f}, recall {recall:.3f}")
    if set(told) != set(planted):
        raise SystemExit(f"told beside what was planted: {set(told) - set(planted)}")
    asked = report["counts"]["questions"]
    share = report["seconds"] / whole
    print(f"{RECORDS:,} records, {asked:,} questions: {whole:.1f} s, {share:.0%} of it asking and judging;", end=" ")
    print(f"{peak_kib >> 10} MiB")


if __name__ == "__main__":
    main()

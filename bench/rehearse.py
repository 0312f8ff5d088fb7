"""Rehearsals of 50 zones with 100,000 records: without any server, and against a real NSD: python bench/rehearse.py

25 forward zones of 2,000 hosts and their 25 reverse zones; one host in a hundred has moved in the proposed files. The measure
of both is what an audit of the same zones costs that takes them from the same NSD by transfer, in the same run.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent))

from world import nsd

ZONES, HOSTS, ROUNDS = 25, 2_000, 3
PROGRAM = Path(sys.executable).with_name("salt-mirror")


class Cost(NamedTuple):
    """Seconds, and the peak of memory in MiB."""

    seconds: float
    mib: float


def texts(serial: int, *, moved: bool) -> dict[str, str]:
    """The zones as master files."""
    found = {}
    for number in range(ZONES):
        head = f"$TTL 3600\n@ SOA ns.p{number}.example. h.p{number}.example. {serial} 3600 600 1209600 300\n"
        head += f"@ NS ns.p{number}.example.\n"
        places = [(host, host + HOSTS if moved and host % 100 == 0 else host) for host in range(HOSTS)]
        hosts = "".join(f"h{host} A 10.{number}.{at >> 8}.{at & 255}\n" for host, at in places)
        pointers = "".join(f"{at & 255}.{at >> 8} PTR h{host}.p{number}.example.\n" for host, at in places)
        found[f"p{number}.example"] = f"{head}ns A 127.0.0.1\n{hosts}"
        found[f"{number}.10.in-addr.arpa"] = head + pointers
    return found


def written(folder: Path, zones: dict[str, str]) -> None:
    folder.mkdir(parents=True)
    for origin, text in zones.items():
        (folder / f"{origin}.zone").write_text(f"$ORIGIN {origin}.\n{text}", encoding="utf-8")


def cost(folder: Path, *words: str) -> Cost:
    """One run of the program."""
    if sys.platform == "win32":
        raise OSError("not on Windows")
    begun = time.perf_counter()
    process = subprocess.Popen([str(PROGRAM), *words], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, used = os.wait4(process.pid, 0)
    assert os.waitstatus_to_exitcode(status) in (0, 1, 3), process.stderr and process.stderr.read()
    return Cost(time.perf_counter() - begun, used.ru_maxrss / 1024)


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        today = texts(1, moved=False)
        written(folder / "before" / "zones", today)
        written(folder / "zones", texts(2, moved=True))
        with nsd(folder / "nsd", today, provide="127.0.0.1 NOKEY") as server:
            estate = "".join(f'[[zones]]\nname = "{zone}"\nservers = ["nsd"]\n' for zone in today)
            estate += f'[servers.nsd]\naddress = "127.0.0.1"\nport = {server.port}\n'
            estate += f'[reach]\n"127.0.0.1" = "{server.endpoint}"\n'
            (folder / "estate.toml").write_text(estate, encoding="utf-8")
            runs = {
                "audit --transfer": ("audit", "--transfer", "--skip", "resolvers", "--quiet"),
                "rehearse --offline": ("rehearse", "--offline", "--zone-file", "zones", "--quiet"),
                "rehearse --offline --before": (
                    *("rehearse", "--offline", "--zone-file", "zones", "--before", "before", "--quiet"),
                ),
                "rehearse, against NSD": ("rehearse", "--zone-file", "zones", "--quiet"),
            }
            costs: dict[str, list[Cost]] = {name: [] for name in runs}
            for _ in range(ROUNDS):
                for label, words in runs.items():
                    costs[label].append(cost(folder, *words))
    measure = statistics.median(one.seconds for one in costs["audit --transfer"])
    print(f"{2 * ZONES} zones, {2 * ZONES * HOSTS:,} records, median of {ROUNDS}")
    for label, found in costs.items():
        seconds = statistics.median(one.seconds for one in found)
        mib = statistics.median(one.mib for one in found)
        print(f"{label:<30} {seconds:6.1f} s  {seconds / measure:5.2f} of the audit  {mib:6.0f} MiB")


if __name__ == "__main__":
    main()

"""A history of years: python bench/history.py [RUNS [FINDINGS]]

1,000 runs, four a day, with 50,000 open findings, of which one in a thousand is mended in each run and another one comes: the
size of the file, how long a run takes to be written down, what a run with --changed reads beforehand, and what `history`, its
page, `--compact 30d` and the same after that take. Seconds are of whole processes, but for the first two, which are of a call.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from salt_mirror.checks.audit.lines import Tally, ZoneLine
from salt_mirror.keeping.history import FinishedRun, add_run, past_of
from support.large import ZONES, findings

PROGRAM = str(Path(sys.executable).with_name("salt-mirror"))
A_DAY = 4
CHURN = 1_000


def filled(path: Path, runs: int, number: int) -> list[float]:
    """Keep so many runs, and return how long each of the last ones took."""
    many = list(findings(number + runs * max(1, number // CHURN)))
    zones = [ZoneLine(zone=zone, view="internal", checks={"pairs": Tally(agrees=5, faults=3)}) for zone in ZONES]
    latest = datetime.now(UTC).replace(microsecond=0)
    took = []
    for run in range(runs):
        begin = run * max(1, number // CHURN)
        at = latest - timedelta(hours=24 // A_DAY * (runs - 1 - run))
        done = FinishedRun("", at, 60.0, "differs", many[begin : begin + number], zones)
        started = time.perf_counter()
        add_run(path, done)
        took.append(time.perf_counter() - started)
    return took[-5:]


def seconds(*words: str) -> float:
    """Return how long the program takes."""
    begin = time.perf_counter()
    subprocess.run([PROGRAM, *words], check=True, capture_output=True)
    return time.perf_counter() - begin


def main() -> None:
    given = [int(word) for word in sys.argv[1:]]
    runs, number = (*given, *(1_000, 50_000)[len(given) :])
    with tempfile.TemporaryDirectory() as folder:
        path, page = Path(folder) / "audits.db", f"html:{folder}/past.html"
        added = statistics.median(filled(path, runs, number))
        print(f"{runs:,} runs of {number:,} findings: {path.stat().st_size / 2**20:.0f} MiB")
        begin = time.perf_counter()
        past_of(path, "")
        print(
            f"a run is written down in {added:.1f} s; what --changed reads before it takes {time.perf_counter() - begin:.1f} s"
        )
        print(
            f"history {seconds('history', str(path)):.1f} s, its page {seconds('history', str(path), '--report', page):.1f} s"
        )
        compacted = seconds("history", str(path), "--compact", "30d")
        size = path.stat().st_size / 2**20
        print(f"--compact 30d {compacted:.1f} s, then {size:.0f} MiB and history {seconds('history', str(path)):.1f} s")


if __name__ == "__main__":
    main()

"""The whole `pairs` audit, from estate to findings, against the C floor: python bench/pairs.py [HOSTS]

Two real NSD servers, 50,000 hosts, expectations from CSV; rounds alternate with the floor. Counted in questions a second of the
whole process, start and report included, in ratios to the floor; memory is the peak over that of reading the estate alone.
`--growth` runs 5,000, 50,000 and 500,000 hosts instead; `--profile` shows where the time goes; `--against SRC` runs another
version's `src` folder in turns with this one; `--bind` asks BIND, which gives cookies and spells owners out, in place of NSD.
"""

from __future__ import annotations

import contextlib
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import KEY, bind, nsd

ROUNDS = 9
SIZES = (5_000, 50_000, 500_000)
PEAK = "import resource,sys; from pathlib import Path; from salt_mirror.estate.building import load_estate; "
PEAK += "from salt_mirror.checks.pairs.scope import PairsScope; s=PairsScope(load_estate(Path(sys.argv[1])));"
PEAK += "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)"
MEASURED = "import resource,sys,atexit; from salt_mirror.cli.main import main;"
MEASURED += (
    "atexit.register(lambda: print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, file=sys.stderr)); main()"
)


def audit(folder: Path, estate: Path, out: Path, env: dict[str, str] | None = None) -> tuple[float, int, int]:
    """Seconds, questions and peak memory in KiB of one whole audit, perhaps in another version's environment."""
    command = [sys.executable, "-c", MEASURED, "pairs", "--estate", str(estate), "--json"]
    before = time.perf_counter()
    with out.open("wb") as file:
        done = subprocess.run(command, cwd=folder, env=env, stdout=file, stderr=subprocess.PIPE, text=True, check=False)
    took = time.perf_counter() - before
    report = json.loads(out.read_bytes())
    hosts = report["counts"]["agrees"]
    if report["counts"]["differs"] or report["counts"]["unverified"] or done.returncode:
        raise SystemExit(f"the audit did not agree: {report['counts']}")
    print(f"  audit: {took:.1f} s, {report['counts']['questions']:,} questions, {hosts:,} hosts", file=sys.stderr)
    return took, report["counts"]["questions"], int(done.stderr.split()[-1])


def growth() -> None:
    """The questions a second of estates of three sizes, without what ten hosts take, which is the start."""
    rates: dict[int, list[float]] = {hosts: [] for hosts in SIZES}
    with tempfile.TemporaryDirectory() as text, contextlib.ExitStack() as stack:
        places = {}
        for hosts in (10, *SIZES):
            folder = Path(text) / str(hosts)
            folder.mkdir()
            zones = world.zones(hosts)
            ports = [stack.enter_context(nsd(folder / label, zones)).port for label in ("one", "two")]
            places[hosts] = folder, world.estate(folder, hosts, ports)
        for hosts in SIZES * 2:
            # What ten hosts take is measured beside each run: half of the time of a small estate is the start.
            for _ in range({min(SIZES): 9, max(SIZES): 1}.get(hosts, 3)):
                start = [audit(*places[10], places[10][0] / "report.json")[0] for _ in range(2)]
                took, questions, _ = audit(*places[hosts], places[hosts][0] / "report.json")
                start.append(audit(*places[10], places[10][0] / "report.json")[0])
                rates[hosts].append(questions / (took - statistics.median(start)))
    medians = {hosts: statistics.median(found) for hosts, found in rates.items()}
    print("growth: " + ", ".join(f"{hosts:,} hosts {rate:,.0f} questions/s" for hosts, rate in medians.items()))
    print(f"slowest to fastest: {min(medians.values()) / max(medians.values()):.2f} (at least 0.90)")


def main() -> None:
    if "--growth" in sys.argv:
        growth()
        return
    hosts = int(next((word for word in sys.argv[1:] if word.isdigit()), 50_000))
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        program = world.build_floor(folder)
        names = folder / "names"
        names.write_text("".join(f"{world.host(n)}.pans.example\n" for n in range(hosts)), encoding="utf-8")
        zones = world.zones(hosts)
        served = partial(bind, key=KEY) if "--bind" in sys.argv else nsd
        for label in ("one", "two"):
            (folder / label).mkdir()
        with served(folder / "one", zones) as one, served(folder / "two", zones) as two:
            estate = world.estate(folder, hosts, [one.port, two.port])
            if "--profile" in sys.argv:
                words = ["-m", "cProfile", "-s", "tottime", "-m", "salt_mirror", "pairs", "--estate", str(estate)]
                subprocess.run([sys.executable, *words], cwd=folder, env=os.environ | {"COLUMNS": "160"}, check=False)
                return
            world.floor_rate(program, one.port, names)
            ratios, floors, rates, peaks = [], [], [], []
            against = world.other_version()
            beside: list[float] = []
            for _ in range(ROUNDS):
                around = [world.floor_rate(program, one.port, names) for _ in range(3)]
                took, questions, peak = audit(folder, estate, folder / "report.json")
                # Behind it as well: the machine's speed changes within seconds.
                around += [world.floor_rate(program, one.port, names) for _ in range(3)]
                floor = statistics.median(around)
                floors.append(floor)
                rates.append(questions / took)
                ratios.append(questions / took / floor)
                if against:
                    beside.append(took / audit(folder, estate, folder / "report.json", against)[0])
                peaks.append(peak)
            done = subprocess.run([sys.executable, "-c", PEAK, str(estate)], capture_output=True, text=True, check=True)
            alone = int(done.stdout)
            print(f"pairs, {hosts:,} hosts, median of {ROUNDS}: floor {statistics.median(floors):,.0f}/s,", end=" ")
            print(f"audit {statistics.median(rates):,.0f} questions/s")
            shown = " ".join(f"{ratio:.2f}" for ratio in sorted(ratios))
            print(f"ratio audit/floor: {statistics.median(ratios):.2f} (0.35 is wanted; rounds {shown})")
            if beside:
                print(f"time against the other version, in turns: {statistics.median(beside):.2f}")
            print(
                f"memory above the expectations' own: {(max(peaks) - alone) * 1024 / hosts:,.0f} bytes a host (700 wanted)"
            )


if __name__ == "__main__":
    main()

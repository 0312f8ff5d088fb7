"""What the screen for plain agreement gains: python bench/screen.py [HOSTS]

50,000 hosts that all agree, and the same of which each tenth has no PTR record, on two real NSD servers: `pairs`, `rollcall`
and `audit` with the screen and without it (`--no-screen`), in turns; where all agree, `stale` and `authority` as well, over an
estate that expects both zones whole. Medians of the ratios of whole processes, time and processor time.
"""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import rollcall
import world
from world import nsd

ROUNDS = 3


def cost(command: str, estate: Path, *more: str) -> tuple[float, float]:
    """Seconds of one run, and of processors."""
    if sys.platform == "win32":
        raise NotImplementedError
    before, begin = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    words = [sys.executable, "-m", "salt_mirror", command, "--estate", str(estate), "--quiet", *more]
    subprocess.run(words, check=False, capture_output=True)
    took, after = time.perf_counter() - begin, resource.getrusage(resource.RUSAGE_CHILDREN)
    return took, after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def main() -> None:
    hosts = int(sys.argv[1]) if len(sys.argv) > 1 else 50_000
    for faults in (0, 10):
        zones = world.zones(hosts)
        if faults:
            back = next(origin for origin in zones if origin.endswith("arpa"))
            lines = zones[back].splitlines(keepends=True)
            kept = [line for number, line in enumerate(lines) if "PTR" not in line.split() or number % faults]
            zones[back] = "".join(kept)
        with tempfile.TemporaryDirectory() as text:
            folder = Path(text)
            with nsd(folder / "one", zones) as one, nsd(folder / "two", zones) as two:
                estate = world.estate(folder, hosts, [one.port, two.port])
                of = "one in ten at fault" if faults else "all agree"
                gained(("pairs", "rollcall", "audit"), estate, f"{hosts:,} hosts, {of}")
                if not faults:
                    whole = folder / "whole"
                    whole.mkdir()
                    both = rollcall.lay_out(whole, zones, (one.port, two.port))
                    gained(("stale", "authority"), both, f"{hosts:,} hosts, all agree")


def gained(commands: tuple[str, ...], estate: Path, of: str) -> None:
    """Print what the screen gains some commands."""
    for command in commands:
        pairs = [(cost(command, estate), cost(command, estate, "--no-screen")) for _ in range(ROUNDS)]
        took = statistics.median(ours[0] / judged[0] for ours, judged in pairs)
        used = statistics.median(ours[1] / judged[1] for ours, judged in pairs)
        whole = statistics.median(ours[0] for ours, _ in pairs)
        print(f"{command}, {of}: {whole:.1f} s, time {took:.2f}, processors {used:.2f} of without")


if __name__ == "__main__":
    main()

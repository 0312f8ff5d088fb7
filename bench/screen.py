"""What the screen for plain agreement gains: python bench/screen.py [HOSTS]

50,000 hosts that all agree, and the same of which each tenth has no PTR record, on two real NSD servers: `pairs`, `rollcall`
and `audit` with the screen and without it (`--no-screen`), in turns; where all agree, `stale` and `authority` as well, over an
estate that expects both zones whole, and `views` over one with half of the hosts in two views, a server for each. Medians of
the ratios of whole processes, time and processor time.
"""

from __future__ import annotations

import contextlib
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
    with tempfile.TemporaryDirectory() as text:
        of_views(Path(text), hosts // 2)


def of_views(folder: Path, hosts: int) -> None:
    """Two views of one zone, in each of which every host has the one address that is expected."""
    text = ""
    with contextlib.ExitStack() as stack:
        for view, network in (("internal", 10), ("public", 198)):
            place = folder / view
            place.mkdir()
            rows = [
                (world.host(n), world.address((18 << 16) + n).replace("10.", f"{network}.", 1)) for n in range(hosts)
            ]
            records = "".join(f"{host} A {address}\n" for host, address in rows)
            (place / "hosts.csv").write_text(
                "name,type,value\n" + "".join(f"{host},A,{address}\n" for host, address in rows), encoding="utf-8"
            )
            server = stack.enter_context(nsd(place, {"pans.example": f"{world.HEAD}ns A 192.0.2.1\n{records}"}))
            text += f'[[zones]]\nname = "pans.example"\nview = "{view}"\nservers = ["{view}"]\n'
            text += f'expect = ["{view}/hosts.csv"]\n[servers.{view}]\naddress = "127.0.0.1"\nport = {server.port}\n'
        estate = folder / "estate.toml"
        estate.write_text(text, encoding="utf-8")
        gained(("views",), estate, f"{hosts:,} names in two views, all agree")


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

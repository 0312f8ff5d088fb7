"""The audit of a whole estate against the single commands one after the other: python bench/audit.py [HOSTS]

50 zones (49 forward, one reverse) with 50,000 hosts on two real NSD servers. Each round runs `audit`, and then `authority`,
`pairs` and `rollcall`; questions, seconds and peak memory are those of whole processes, start and report included.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import nsd

ROUNDS = 3
ZONES = 49
SINGLE = ("authority", "pairs", "rollcall")
MEASURED = "import resource,sys,atexit; from salt_mirror.cli.main import main;"
MEASURED += (
    "atexit.register(lambda: print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, file=sys.stderr)); main()"
)


def apex(number: int) -> str:
    """A forward zone's name."""
    return f"z{number:02d}.pans.internal"


def lay_out(folder: Path, hosts: int) -> dict[str, str]:
    """The zones as master files by origin, and the files of expected records."""
    texts = {}
    for number in range(ZONES):
        rows = [(world.host(n), world.address(n)) for n in range(number, hosts, ZONES)]
        head = "$TTL 300\n@ SOA ns1 h 1 3600 600 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
        texts[apex(number)] = head + "".join(f"{name} A {address}\n" for name, address in rows)
        listed = "".join(f"{name},A,{address}\n" for name, address in rows)
        (folder / f"{number}.csv").write_text("name,type,value\n" + listed, encoding="utf-8")
    soa = f"$TTL 300\n@ SOA ns1.{apex(0)}. h 1 3600 600 1209600 300\n@ NS ns1.{apex(0)}.\n@ NS ns2.{apex(0)}.\n"
    texts["10.in-addr.arpa"] = soa + "".join(
        f"{n & 255}.{n >> 8 & 255}.{n >> 16} PTR {world.host(n)}.{apex(n % ZONES)}.\n" for n in range(hosts)
    )
    return texts


def estate(folder: Path, ports: list[int]) -> Path:
    """The estate of these zones."""
    zones = [(apex(number), f'expect = ["{number}.csv"]') for number in range(ZONES)] + [("10.0.0.0/8", "")]
    text = "".join(f'[[zones]]\nname = "{name}"\nservers = ["one", "two"]\n{more}\n' for name, more in zones)
    for label, port in zip(("one", "two"), ports, strict=True):
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n'
    text += f'[reach]\n"192.0.2.1" = "127.0.0.1:{ports[0]}"\n"198.51.100.2" = "127.0.0.1:{ports[1]}"\n'
    path = folder / "estate.toml"
    path.write_text(text, encoding="utf-8")
    return path


def run(command: str, folder: Path) -> tuple[float, int, int]:
    """Seconds, questions and peak memory in KiB of one command over the estate."""
    out = folder / "report.json"
    before = time.perf_counter()
    with out.open("wb") as file:
        words = [sys.executable, "-c", MEASURED, command, "--estate", "estate.toml", "--json"]
        done = subprocess.run(words, cwd=folder, stdout=file, stderr=subprocess.PIPE, text=True, check=False)
    took = time.perf_counter() - before
    report = json.loads(out.read_bytes())
    if done.returncode:
        raise SystemExit(f"{command} did not agree: {report['counts']}")
    questions = report["counts"]["questions"]
    print(f"  {command}: {took:.1f} s, {questions:,} questions", file=sys.stderr)
    return took, questions, int(done.stderr.split()[-1])


def main() -> None:
    hosts = int(next((word for word in sys.argv[1:] if word.isdigit()), 50_000))
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        zones = lay_out(folder, hosts)
        with nsd(folder / "one", zones) as one, nsd(folder / "two", zones) as two:
            estate(folder, [one.port, two.port])
            times, asked, peak = [], [], 0
            for _ in range(ROUNDS):
                took, questions, memory = run("audit", folder)
                single = [run(command, folder) for command in SINGLE]
                times.append(took / sum(seconds for seconds, *_ in single))
                asked.append(questions / sum(number for _, number, _ in single))
                peak = max(peak, memory)
            print(
                f"audit of {ZONES + 1} zones and {hosts:,} hosts, median of {ROUNDS}, against {', '.join(SINGLE)} one by one:"
            )
            shown = " ".join(f"{one:.2f}" for one in sorted(times))
            print(f"time {statistics.median(times):.2f} (rounds {shown}), questions {statistics.median(asked):.2f}")
            print(f"peak memory {peak / 1024:,.0f} MiB")


if __name__ == "__main__":
    main()

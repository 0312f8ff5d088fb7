"""What it costs to ask through a vantage, and what sharing an audit among several gains: python bench/vantages.py [HOSTS]

A real NSD, Mosquitto and vantages as installed programs on loopback, over TLS. First the same 20,000 questions through the
engine of this process and through a vantage, in batches of 500, in turns: microseconds a question, and the processor time of
each. Then a million questions through it, and what the broker and the vantage hold of memory. Then the
audit of HOSTS hosts (20,000) by itself and shared among 1, 2 and 4 vantages, and a model of it: t(n) = own + shared / n,
fitted to those that are there.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import psutil
import world
from world import nsd

from salt_mirror.cli.collector import quiet_collector
from salt_mirror.dns.dialogue import Near
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.vantages.desk import Desk
from salt_mirror.vantages.exchange import FarExchange
from salt_mirror.vantages.keys import make_keys
from salt_mirror.vantages.tls import papers_in

PROGRAM = str(Path(sys.executable).with_name("salt-mirror"))
QUESTIONS = 20_000
MILLION = 1_000_000
ROUNDS = 21
AHEAD = 8192
NAMES = ("north", "east", "south", "west")


@contextmanager
def service(folder: Path, *words: str, says: str) -> Iterator[int]:
    """A scheduler or a vantage, from the moment it is there."""
    log = folder / f"{'-'.join(words[1:5]).replace('/', '_')}.log"
    with log.open("w", encoding="utf-8") as out:
        process = subprocess.Popen([PROGRAM, *words], cwd=folder, stdout=out, stderr=out)
        try:
            while says not in log.read_text(encoding="utf-8"):
                time.sleep(0.05)
            yield process.pid
        finally:
            process.terminate()
            process.wait()


def through(exchange: Near, server: Server, names: list[bytes]) -> float:
    """Microseconds a question; every answer has to be right."""
    questions = iter([Question(name, 1, server) for name in names])
    good, more = 0, True
    before = time.perf_counter()
    while True:
        while more and exchange.backlog < AHEAD:
            question = next(questions, None)
            if question is None:
                more = False
                break
            exchange.submit(question)
        answers = exchange.collect()
        if not answers:
            break
        good += sum(len(answer.values) == 1 for answer in answers)
    if good != len(names):
        raise SystemExit(f"{len(names) - good} of {len(names)} questions were not answered")
    return (time.perf_counter() - before) / len(names) * 1e6


def _cpu(pids: dict[str, psutil.Process]) -> dict[str, float]:
    """Seconds of processor time by process."""
    return {name: sum(process.cpu_times()[:2]) for name, process in pids.items()}


def travel(server: Server, at: str, keys: Path, processes: dict[str, psutil.Process]) -> None:
    """The cost of a question here and through a vantage."""
    names = [from_text(f"{world.host(number)}.pans.example") for number in range(QUESTIONS)]
    here, there = [], []
    spent: dict[str, list[float]] = {}
    pids = processes | {"desk": psutil.Process()}
    desk = Desk(at, papers_in(keys, "desk"))
    present = desk.greet(["north"])
    for _ in range(ROUNDS):
        before = _cpu(pids)
        with Engine() as engine:
            here.append(through(engine, server, names))
        between = _cpu(pids)
        there.append(through(FarExchange(desk, present, choose=lambda _: "north"), server, names))
        after = _cpu(pids)
        spent.setdefault("here", []).append(between["desk"] - before["desk"])
        for name in pids:
            spent.setdefault(name, []).append(after[name] - between[name])
    ratios = sorted(far / near for near, far in zip(here, there, strict=True))
    print(
        f"{QUESTIONS:,} questions over TLS: here {statistics.median(here):.1f} us a question, through a vantage "
        f"{statistics.median(there):.1f} us: {statistics.median(ratios):.2f} (at most 1.4 is wanted; rounds "
        f"{' '.join(f'{one:.2f}' for one in ratios)})"
    )
    each = {name: statistics.median(times) / QUESTIONS * 1e6 for name, times in spent.items()}
    print("  processor time, us a question: " + ", ".join(f"{name} {one:.1f}" for name, one in each.items()))
    own = statistics.median(far / near for far, near in zip(spent["vantage"], spent["here"], strict=True))
    print(f"  the vantage's own part against asking here: {own:.2f} (at most 1.15 is wanted)")
    exchange = FarExchange(desk, present, choose=lambda _: "north")
    for _ in range(MILLION // QUESTIONS):
        through(exchange, server, names)
    held = {name: process.memory_info().rss / (1 << 20) for name, process in processes.items()}
    print(f"  after {MILLION:,} more: " + ", ".join(f"{name} {one:.0f} MiB" for name, one in held.items()))
    desk.close()


def audit(folder: Path, estate: Path, *more: str) -> float:
    """Seconds of an audit, by its own word."""
    done = subprocess.run(
        [PROGRAM, "audit", "--estate", str(estate), "--only", "pairs", "--only", "rollcall", "--json", *more],
        cwd=folder, capture_output=True, check=False, env=os.environ | {"SALT_MIRROR_RESOLVERS": ""},
    )  # fmt: skip
    report = json.loads(done.stdout)
    if report["counts"]["differs"] or report["counts"]["unverified"]:
        raise SystemExit(f"the audit did not agree: {report['counts']}")
    return float(report["seconds"])


def spread(folder: Path, estate: Path) -> None:
    """An audit by itself, and shared."""
    found: dict[int, list[float]] = {0: [], 1: [], 2: [], 4: []}
    for _ in range(3):
        for number, times in found.items():
            more = ["--spread", *(word for name in NAMES[:number] for word in ("--from", name))] if number else []
            times.append(audit(folder, estate, *more))
    medians = {number: statistics.median(times) for number, times in found.items()}
    print("audit: " + ", ".join(f"{number or 'no'} vantages {seconds:.1f} s" for number, seconds in medians.items()))
    # Least squares of t = own + shared / n over n = 1, 2, 4.
    points = [(1 / number, medians[number]) for number in (1, 2, 4)]
    mean_x, mean_y = (statistics.mean(values) for values in zip(*points, strict=True))
    shared = sum((x - mean_x) * (y - mean_y) for x, y in points) / sum((x - mean_x) ** 2 for x, _ in points)
    own = mean_y - shared * mean_x
    print(
        f"model: t(n) = {own:.1f} s + {shared:.1f} s / n; 8 vantages {own + shared / 8:.1f} s, any number {own:.1f} s"
    )


def main() -> None:
    hosts = int(next((word for word in sys.argv[1:] if word.isdigit()), 20_000))
    quiet_collector()
    with tempfile.TemporaryDirectory() as text, ExitStack() as stack:
        folder = Path(text)
        keys, at = folder / "keys", "127.0.0.1:18787"
        make_keys(keys, NAMES, days=2)
        one = stack.enter_context(nsd(folder / "one", world.zones(QUESTIONS)))
        two = stack.enter_context(nsd(folder / "two", world.zones(QUESTIONS)))
        estate = world.estate(folder, hosts, [one.port, two.port])
        with estate.open("a", encoding="utf-8") as file:
            file.write(
                f'\n[vantage_broker]\naddress = "{at}"\ncertificate = "{keys}/desk.pem"\nkey = "{keys}/desk.key"\n'
            )
        serve = stack.enter_context(service(folder, "vantage", "serve", at, "--keys", str(keys), says="are awaited"))
        (broker,) = psutil.Process(serve).children()
        pids = []
        for name in NAMES:
            words = ["vantage", "join", at, "--name", name, "--allow", "127.0.0.1", "--keys", str(keys)]
            pids.append(stack.enter_context(service(folder, *words, says=f"{name} is at")))
        travel(one, at, keys, {"broker": broker, "vantage": psutil.Process(pids[0])})
        spread(folder, estate)


if __name__ == "__main__":
    main()

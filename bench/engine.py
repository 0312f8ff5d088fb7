"""The engine against the C floor, and how its cost grows, on a real NSD: python bench/engine.py

One run, rounds alternating between the two, medians of the rates and of the ratios. NSD serves a zone of 50,000 names without a
rate limit; every name is asked once for A.
"""

from __future__ import annotations

import gc
import statistics
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import nsd

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.traffic.engine import Engine

HOSTS = 50_000
ROUNDS = 15
SIZES = (5_000, 50_000, 500_000)


def engine_rate(server: Server, number: int) -> float:
    """Answers a second of the engine, for so many questions about the zone's hosts; every answer has to be right."""
    base = [from_text(f"{world.host(n)}.pans.example") for n in range(min(number, HOSTS))]
    names = (base * (number // len(base)))[:number]
    questions = iter([Question(name, 1, server) for name in names])
    gc.collect()
    gc.freeze()
    good = 0
    before = time.perf_counter()
    with Engine() as engine:
        more = True
        while True:
            while more and engine.backlog < 1024:
                question = next(questions, None)
                if question is None:
                    more = False
                else:
                    engine.submit(question)
            answers = engine.collect()
            if not answers:
                break
            for answer in answers:
                good += len(answer.values) == 1
    took = time.perf_counter() - before
    if good != number:
        raise SystemExit(f"{number - good} of {number} questions were not answered")
    return number / took


def main() -> None:
    gc.set_threshold(100_000, 50, 100)
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        program = world.build_floor(folder)
        names = folder / "names"
        names.write_text("".join(f"{world.host(n)}.pans.example\n" for n in range(HOSTS)), encoding="utf-8")
        with nsd(folder / "nsd", world.zones(HOSTS)) as server:
            world.floor_rate(program, server.port, names)  # warms the server up
            floors, engines = [], []
            for _ in range(ROUNDS):
                floors.append(world.floor_rate(program, server.port, names))
                engines.append(engine_rate(server, HOSTS))
            ratios = [ours / floor for ours, floor in zip(engines, floors, strict=True)]
            print(
                f"engine, {HOSTS:,} questions, median of {ROUNDS}: floor {statistics.median(floors):,.0f}/s,", end=" "
            )
            print(f"engine {statistics.median(engines):,.0f}/s")
            shown = " ".join(f"{ratio:.2f}" for ratio in sorted(ratios))
            print(f"ratio engine/floor: {statistics.median(ratios):.2f} (0.70 is wanted; rounds {shown})")
            if "--quick" in sys.argv:
                return
            rates: dict[int, list[float]] = {size: [] for size in SIZES}
            for _ in range(5):
                for size in SIZES:  # as many questions in all for each size, so that each meets the same machine
                    runs = 1 if size == max(SIZES) else 5
                    rates[size].append(statistics.median(engine_rate(server, size) for _ in range(runs)))
            medians = {size: statistics.median(found) for size, found in rates.items()}
            print("growth: " + ", ".join(f"{size:,}: {rate:,.0f}/s" for size, rate in medians.items()))
            print(f"slowest to fastest: {min(medians.values()) / max(medians.values()):.2f} (at least 0.80)")


if __name__ == "__main__":
    main()

"""Lost packets: 5,000 questions with 0, 5 and 20 % lost in each direction, and how they end: python bench/loss.py

The stand-in drops datagrams on the way in and on the way out; TCP is left alone. Every usable answer is compared with the zone.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import world

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns

QUESTIONS = 5_000


def main() -> None:
    zone = read_zone(world.zones(QUESTIONS)["pans.example"], "pans.example")
    for loss in (0.0, 0.05, 0.2):
        with StandIns() as standins, Engine() as engine:
            standin = standins.add([zone])
            standin.loss = loss
            server = Server("standin", bytes((127, 0, 0, 1)), standin.port)
            before = time.perf_counter()
            for number in range(QUESTIONS):
                engine.submit(Question(from_text(f"{world.host(number)}.pans.example"), 1, server))
            right = wrong = unverified = again = streamed = 0
            while answers := engine.collect():
                for answer in answers:
                    number = int(answer.question.name[2:8])
                    again += answer.tries > 1
                    streamed += answer.over == "tcp"
                    if answer.trouble is not None:
                        unverified += 1
                    elif answer.values == (bytes(map(int, world.address(number).split("."))),):
                        right += 1
                    else:
                        wrong += 1
            took = time.perf_counter() - before
        print(f"loss {loss:.0%}: {right:,} right, {wrong} wrong, {unverified} unverified;", end=" ")
        print(f"{again:,} sent again, {streamed} of them over TCP in the end; {took:.1f} s")


if __name__ == "__main__":
    main()

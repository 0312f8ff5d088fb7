"""A watch of 1,000 records at 20 caches for an hour of simulated time, against the least possible: python bench/watch.py

The least: each record once at each authoritative server; at a cache once when it has let go by then, and twice when it has not
(a first look tells how long it will keep the entry, a second one that it has let go).
"""

from __future__ import annotations

import random
import time

from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Sighting, Vantage, Watch
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import A

RECORDS, CACHES, SERVERS, HOUR_S, PACE = 1000, 20, 2, 3600, 50.0
NEW, OLD = bytes((192, 0, 2, 12)), bytes((192, 0, 2, 11))


def main() -> None:
    rng = random.Random(3)
    goals = [Goal(from_text(f"h{number}.pans.example"), A, frozenset((NEW,))) for number in range(RECORDS)]
    authorities = [Vantage(Server(f"ns{number}", b"\x7f\0\0\1"), cache=False) for number in range(SERVERS)]
    caches = [Vantage(Server(f"cache-{number}", b"\x7f\0\0\1", pace=PACE), cache=True) for number in range(CACHES)]
    ends = {(id(cache), goal): rng.uniform(0, 3000) for cache in caches for goal in goals}
    watch = Watch([(goal, authorities) for goal in goals], caches, 0.0)
    now, begun, least = 0.0, time.perf_counter(), RECORDS * SERVERS
    while not watch.done and now < HOUR_S:
        for slot in list(watch.due(now)):
            end = ends.get((id(slot.vantage), slot.goal), 0.0)
            fresh = now >= end
            if slot.vantage.cache and slot.asked == 1:
                least += 1 if fresh else 2
            ttl = 3600 - int(now - end) if fresh else int(end - now)
            watch.take(slot, Sighting(now, (NEW,) if fresh else (OLD,), True, ttl))
        due = watch.next_due()
        now = max(now + 0.001, due) if due is not None else now + 1
    asked = sum(slot.asked for slot in watch.slots)
    print(
        f"{RECORDS:,} records, {CACHES} caches, {SERVERS} servers: {asked:,} questions, {least:,} the "
        f"least: {asked / least:.4f}"
    )
    print(
        f"settled {watch.settled:,} of {len(watch.slots):,} after {now:,.0f} s of {HOUR_S:,}; it took "
        f"{time.perf_counter() - begun:.1f} s"
    )


if __name__ == "__main__":
    main()

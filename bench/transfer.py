"""Zone transfer: our reader against dnspython's, in one run, from a real NSD: python bench/transfer.py

A zone of 50,000 hosts and its reverse zone, whole, rounds alternating; both sides get every record and keep them as RRsets.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import dns.query
import dns.zone
import world
from world import nsd

from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.transfer import transfer

HOSTS = 50_000
ROUNDS = 5


def ours(server: Server, zone: str) -> float:
    """Records a second, from the connection to RRsets that can answer."""
    apex = from_text(zone)
    before = time.perf_counter()
    holding = Holding(apex, (record for part in transfer(server, apex) for record in part))
    took = time.perf_counter() - before
    assert holding.size > HOSTS
    return holding.size / took


def theirs(server: Server, zone: str) -> float:
    """The same with dnspython's transfer into its zone."""
    found = dns.zone.Zone(zone)
    before = time.perf_counter()
    dns.query.inbound_xfr(server.host, found, port=server.port)
    took = time.perf_counter() - before
    records = sum(len(rdataset) for _, rdataset in found.iterate_rdatasets())
    assert records > HOSTS
    return records / took


def main() -> None:
    with (
        tempfile.TemporaryDirectory() as folder,
        nsd(Path(folder) / "nsd", world.zones(HOSTS), provide="127.0.0.1 NOKEY") as server,
    ):
        for zone in world.zones(1):
            rates = [(ours(server, zone), theirs(server, zone)) for _ in range(ROUNDS)]
            ratio = statistics.median(mine / library for mine, library in rates)
            print(
                f"transfer of {zone}, median of {ROUNDS}: ours {statistics.median(r[0] for r in rates):,.0f} records/s,",
                end=" ",
            )
            print(f"dnspython {statistics.median(r[1] for r in rates):,.0f}; ratio {ratio:.0f} (at least 10)")


if __name__ == "__main__":
    main()

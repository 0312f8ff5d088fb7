"""The roll call of 20,000 expected records in master-file form on two real NSD servers: python bench/rollcall.py

Where the time goes, in one process: reading the expectations, asking and judging, the report. Medians of several rounds.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.report.document import now

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import nsd

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.cli.collector import quiet_collector
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.building import load_estate

RECORDS = 20_000
ROUNDS = 5


def main() -> None:
    quiet_collector()
    zone = "pans.example"
    text = world.zones(RECORDS)[zone]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "expected.zone").write_text(text, encoding="utf-8")
        with nsd(folder / "one", {zone: text}) as one, nsd(folder / "two", {zone: text}) as two:
            estate_file = folder / "estate.toml"
            estate_file.write_text(
                f'[[zones]]\nname = "{zone}"\nservers = ["one", "two"]\nexpect = ["expected.zone"]\n'
                f'[servers.one]\naddress = "127.0.0.1"\nport = {one.port}\n'
                f'[servers.two]\naddress = "127.0.0.1"\nport = {two.port}\n',
                encoding="utf-8",
            )
            shares, reads, wholes = [], [], []
            for _ in range(ROUNDS):
                before = time.perf_counter()
                estate = load_estate(estate_file)
                read = time.perf_counter()
                roll = Roll(expected_sets(estate, None), Atlas(estate))
                with Engine() as engine:
                    runner = Runner(engine)
                    carry_out(roll, Setting(now()), runner)
                after = time.perf_counter()
                if roll.count("agrees") != len(roll.called) or len(roll.called) < RECORDS:
                    raise SystemExit(f"not everything agreed: {roll.count('agrees')} of {len(roll.called)}")
                shares.append((read - before) / (after - before))
                reads.append(read - before)
                wholes.append(after - before)
    print(
        f"roll call, {RECORDS:,} records, {runner.asked:,} questions, median of {ROUNDS}: {statistics.median(wholes):.2f} s,",
        end=" ",
    )
    print(f"of which reading {statistics.median(reads):.2f} s: {statistics.median(shares):.0%} (at most 33 %)")


if __name__ == "__main__":
    main()

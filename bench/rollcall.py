"""The roll call of expected records in master-file form on two real NSD servers: python bench/rollcall.py

First 20,000 records in one process: the share of reading the expectations. Then the whole program on 100,000 records, A and
PTR, start and report included, against the C floor, in turns. Medians of several rounds. `--against SRC` runs another version's
`src` folder in turns with this one.
"""

from __future__ import annotations

import json
import statistics
import subprocess
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
WHOLE = 100_000
ROUNDS = 9


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
                if roll.counts()["agrees"] != len(roll.called) or len(roll.called) < RECORDS:
                    raise SystemExit(f"not everything agreed: {roll.counts()['agrees']} of {len(roll.called)}")
                shares.append((read - before) / (after - before))
                reads.append(read - before)
                wholes.append(after - before)
    print(
        f"roll call, {RECORDS:,} records, {runner.asked:,} questions, median of {ROUNDS}: {statistics.median(wholes):.2f} s,",
        end=" ",
    )
    print(f"of which reading {statistics.median(reads):.2f} s: {statistics.median(shares):.0%} (at most 33 %)")


def lay_out(folder: Path, zones: dict[str, str], ports: tuple[int, int]) -> Path:
    """An estate that expects all that is in some zones."""
    text = ""
    for number, (zone, records) in enumerate(zones.items()):
        (folder / f"{number}.zone").write_text(records, encoding="utf-8")
        text += f'[[zones]]\nname = "{zone}"\nservers = ["one", "two"]\nexpect = ["{number}.zone"]\n'
    for label, port in zip(("one", "two"), ports, strict=True):
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n'
    path = folder / "estate.toml"
    path.write_text(text, encoding="utf-8")
    return path


def against_the_floor() -> None:
    """The whole program, in questions a second, in ratios to the floor."""
    zones = world.zones(WHOLE // 2)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        program = world.build_floor(folder)
        names = folder / "names"
        names.write_text("".join(f"{world.host(n)}.pans.example\n" for n in range(WHOLE // 2)), encoding="utf-8")
        with nsd(folder / "one", zones) as one, nsd(folder / "two", zones) as two:
            command = [sys.executable, "-m", "salt_mirror", "rollcall", "--json", "--estate"]
            command.append(str(lay_out(folder, zones, (one.port, two.port))))
            world.floor_rate(program, one.port, names)
            ratios, rates, beside = [], [], list[float]()
            against = world.other_version()
            for _ in range(ROUNDS):
                floors = [world.floor_rate(program, one.port, names) for _ in range(3)]
                before = time.perf_counter()
                done = subprocess.run(command, capture_output=True, check=False)
                took = time.perf_counter() - before
                # Behind it as well: the machine's speed changes within seconds.
                floor = statistics.median(floors + [world.floor_rate(program, one.port, names) for _ in range(3)])
                counts = json.loads(done.stdout)["counts"]
                if done.returncode or counts["differs"] or counts["unverified"]:
                    raise SystemExit(f"not everything agreed: {counts}")
                rates.append(counts["questions"] / took)
                ratios.append(rates[-1] / floor)
                if against:
                    before = time.perf_counter()
                    subprocess.run(command, capture_output=True, check=True, env=against)
                    beside.append(took / (time.perf_counter() - before))
    shown = " ".join(f"{ratio:.2f}" for ratio in sorted(ratios))
    print(
        f"rollcall, {counts['agrees']:,} sets, {counts['questions']:,} questions: {statistics.median(rates):,.0f} a second"
    )
    print(f"ratio rollcall/floor: {statistics.median(ratios):.2f} (0.40 is wanted; rounds {shown})")
    if beside:
        print(f"time against the other version, in turns: {statistics.median(beside):.2f}")


if __name__ == "__main__":
    main()
    against_the_floor()

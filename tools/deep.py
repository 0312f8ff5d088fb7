"""Tries every property and every seeded world with new seeds, round after round: python tools/deep.py --minutes 60

It ends with status 1 at the first round that falsified something (the example is printed as code), else when the time is over,
and says how many rounds and tests passed.
"""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import sys
import time

CALL = ("-q", "-m", "hypothesis or seeded", "--dist", "worksteal", "-p", "no:cacheprovider")


def main() -> int:
    """Runs the rounds."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=60.0, help="how long rounds are begun")
    parser.add_argument("--workers", default="2", help="as pytest-xdist takes them")
    given = parser.parse_args()
    over_at = time.monotonic() + given.minutes * 60
    rounds = passed = 0
    while time.monotonic() < over_at:
        seed = int.from_bytes(os.urandom(4), "big")
        environment = os.environ | {"HYPOTHESIS_PROFILE": "deep", "SALT_MIRROR_SEED": str(seed)}
        call = [sys.executable, "-m", "pytest", *CALL, "-n", given.workers]
        done = subprocess.run(call, env=environment, text=True, encoding="utf-8", stdout=subprocess.PIPE, check=False)
        last = done.stdout.rstrip().rpartition("\n")[2]
        rounds += 1
        print(f"round {rounds}, seeds from {seed}: {last}", flush=True)
        if done.returncode:
            print(done.stdout)
            return 1
        passed += int((re.search(r"(\d+) passed", last) or ["", "0"])[1])
    print(f"nothing found in {rounds} rounds, {passed} properties tried, {given.minutes:g} minutes")
    return 0


if __name__ == "__main__":
    sys.exit(main())

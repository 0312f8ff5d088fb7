"""Runs the tests while busy loops occupy every core: python tools/under_load.py --times 3 [pytest's words]

The last line has what each run counted. The status is that of the worst.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager

CALL = ("-q", "-n", "2", "--dist", "loadfile", "--no-loadscope-reorder", "-p", "no:cacheprovider")


@contextmanager
def load() -> Iterator[None]:
    """A busy loop for each core; they end with the block, or with this process."""
    loop = "import os\nparent = os.getppid()\nwhile os.getppid() == parent:\n    sum(range(1_000_000))"
    loops = [subprocess.Popen([sys.executable, "-c", loop]) for _ in range(os.cpu_count() or 1)]
    try:
        yield
    finally:
        for process in loops:
            process.kill()


def main() -> int:
    """Runs the tests so many times."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--times", type=int, default=3)
    given, words = parser.parse_known_args()
    counts, worst = [], 0
    with load():
        for _ in range(given.times):
            call = [sys.executable, "-m", "pytest", *CALL, *words]
            done = subprocess.run(call, text=True, encoding="utf-8", stdout=subprocess.PIPE, check=False)
            if done.returncode:
                print(done.stdout)
            counts.append(done.stdout.rstrip().rpartition("\n")[2])
            worst = max(worst, done.returncode)
            print(counts[-1], flush=True)
    print("; ".join(counts))
    return worst


if __name__ == "__main__":
    sys.exit(main())

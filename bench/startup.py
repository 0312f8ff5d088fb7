"""Start-up: `salt-mirror --help`, and a question to a port where nobody listens, against the help and a command of a bare Typer
program of two commands, in one run: python bench/startup.py"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

BARE = """
import typer
app = typer.Typer()
@app.command()
def one(name: str) -> None: pass
@app.command()
def two(name: str) -> None: pass
app()
"""
WITHOUT = """
import sys
from salt_mirror.cli import words
words._taken_plainly = lambda param: param
sys.argv[0] = "salt-mirror"
from salt_mirror.entry import run
run()
"""
"""Ours without the detour of cli/words.py."""
ASK = ("ask", "salt.invalid", "A", "--at", "127.0.0.1:9", "--tries", "1", "--timeout", "0.01", "--brief")
ROUNDS = 21
ENVIRONMENT = os.environ | {"SALT_MIRROR_RESOLVERS": ""}


def once(command: list[str]) -> float:
    """Seconds for one run."""
    before = time.perf_counter()
    subprocess.run(command, check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=ENVIRONMENT)
    return time.perf_counter() - before


def main() -> None:
    """Alternates the two programs, so that both meet the same machine."""
    with tempfile.TemporaryDirectory() as folder:
        bare = Path(folder) / "bare.py"
        bare.write_text(BARE, encoding="utf-8")
        commands = {
            "bare": [sys.executable, str(bare), "--help"],
            "ours": [sys.executable, "-m", "salt_mirror", "--help"],
            "bare command": [sys.executable, str(bare), "one", "kiln"],
            "our command": [sys.executable, "-m", "salt_mirror", *ASK],
            "without words.py": [sys.executable, "-c", WITHOUT, *ASK],
        }
        times: dict[str, list[float]] = {name: [] for name in commands}
        for number in range(ROUNDS + 1):
            for name, command in commands.items():
                took = once(command)
                if number:  # the first round only warms the caches up
                    times[name].append(took)
    medians = {name: statistics.median(found) for name, found in times.items()}
    print(f"start-up, median of {ROUNDS}: bare {medians['bare'] * 1000:.0f} ms, ours {medians['ours'] * 1000:.0f} ms")
    print(f"ratio ours/bare: {medians['ours'] / medians['bare']:.2f} (at most 1.2)")
    one, own = medians["bare command"] * 1000, medians["our command"] * 1000
    print(f"a command: bare {one:.0f} ms, ours {own:.0f} ms, ratio {own / one:.2f} (at most 1.1)")
    print(f"the same with all words looked at by Typer: {medians['without words.py'] * 1000:.0f} ms")


if __name__ == "__main__":
    main()

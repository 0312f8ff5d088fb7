"""Start-up: `salt-mirror --help` against a bare Typer program of two commands, in one run: python bench/startup.py"""

from __future__ import annotations

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
ROUNDS = 21


def once(command: list[str]) -> float:
    """Seconds for one run."""
    before = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - before


def main() -> None:
    """Alternates the two programs, so that both meet the same machine."""
    with tempfile.TemporaryDirectory() as folder:
        bare = Path(folder) / "bare.py"
        bare.write_text(BARE, encoding="utf-8")
        commands = {
            "bare": [sys.executable, str(bare), "--help"],
            "ours": [sys.executable, "-m", "salt_mirror", "--help"],
        }
        times: dict[str, list[float]] = {name: [] for name in commands}
        for number in range(ROUNDS + 1):
            for name, command in commands.items():
                took = once(command)
                if number:  # the first round only warms the caches up
                    times[name].append(took)
    medians = {name: statistics.median(found) for name, found in times.items()}
    print(f"start-up, median of {ROUNDS}: bare {medians['bare'] * 1000:.0f} ms, ours {medians['ours'] * 1000:.0f} ms")
    print(f"ratio ours/bare: {medians['ours'] / medians['bare']:.2f} (at most 1.6)")


if __name__ == "__main__":
    main()

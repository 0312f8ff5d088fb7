"""The demo: the tour ends well by itself, and a world that stays can be used from another program."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

import salt_mirror
from salt_mirror.cli.registry import COMMANDS, START
from support.program import PROGRAM, Run, begin, interrupt
from support.terminal import Terminal
from support.waiting import PATIENCE_S


@pytest.mark.parametrize(("words", "stops", "most"), [((), 8, 175), (("--whole",), 35, 2350)])
def test_a_tour_runs_every_stop_with_the_exit_status_it_promises(
    run: Run, words: tuple[str, ...], stops: int, most: int
) -> None:
    done = run("demo", *words)
    assert done.status == 0, done.out
    assert done.out.startswith("Gullmarsh Saltworks is up") and "demo --stay" in done.out
    assert done.out.count("$ salt-mirror") == done.out.count("(exit status ") == stops
    assert len(done.out.splitlines()) <= most
    assert "Traceback" not in done.out + done.err


def test_the_tour_waits_for_enter_on_a_terminal(tmp_path: Path) -> None:
    with Terminal([str(PROGRAM), "demo", "--folder", str(tmp_path / "world")], cwd=tmp_path) as terminal:
        terminal.until("[Enter: the next stop; Ctrl-C ends]")
        assert "2 of 8" not in terminal.seen
        terminal.type("\r")
        terminal.until("2 of 8")


def test_without_arguments_the_program_says_what_it_is_and_where_to_begin(run: Run) -> None:
    done = run()
    assert done.status == 0
    assert all(f"  salt-mirror {name}" in done.out for name in START)
    assert all(entry.name in done.out for entry in COMMANDS)


def test_three_desks_are_shown_with_the_exit_status_that_each_stop_promises(run: Run) -> None:
    done = run("demo", "--vantages")
    assert done.status == 0, done.out
    assert done.out.count("$ salt-mirror") == done.out.count("(exit status ") == 4
    assert "3 of 3 vantages can be used." in done.out
    assert "From kiln-desk: kiln-desk should give the view internal, and gives the view public" in done.out
    assert "Traceback" not in done.out + done.err


def test_a_world_that_stays_says_when_it_is_ready_and_where(run: Run, tmp_path: Path) -> None:
    process = begin("demo", "--stay", "--folder", str(tmp_path / "gullmarsh"), stdout=subprocess.PIPE)
    try:
        assert process.stdout is not None
        words = process.stdout.readline().split()
        assert words[0].startswith("ready")
        assert Path(words[-1]) == tmp_path / "gullmarsh" / "estate.toml"
        assert run("pairs", "rake-01", "--estate", words[-1]).status == 0
    finally:
        interrupt(process)
        assert process.wait(PATIENCE_S) in (0, 0xC000013A)


def test_help_and_version_tell_what_there_is(run: Run) -> None:
    assert run("--version").out.strip() == f"salt-mirror {salt_mirror.__version__}"
    done = run("--help")
    assert "pairs" in done.out and "demo" in done.out
    module = subprocess.run(
        [sys.executable, "-m", "salt_mirror", "--version"], capture_output=True, text=True, check=True
    )
    assert module.stdout.strip().endswith(salt_mirror.__version__)

"""A run that is ended, and a watch that goes on: nothing is left behind, nothing asked twice, whatever became of the clock."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIn, StandIns
from support.estates import lay_out
from support.program import PROGRAM, Run, begin, interrupt
from support.waiting import PATIENCE_S, until

POSIX = pytest.mark.skipif(sys.platform == "win32", reason="there are no such signals")
ZONE = "$TTL 60\n@ SOA ns h 1 7200 900 1209600 300\n@ NS ns\nns A 192.0.2.1\nshop A 192.0.2.{last}\n"


@pytest.fixture
def two(standins: StandIns, tmp_path: Path) -> list[StandIn]:
    """Two servers of a zone, of which the second has an older address."""
    servers = [standins.add([read_zone(ZONE.format(last=last), "salt.invalid")]) for last in (12, 11)]
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": servers[0].port, "two": servers[1].port})
    return servers


CALL = ("settle", "shop.salt.invalid", "A", "--to", "192.0.2.12", "--journal", "watch.jsonl")


def both_seen(tmp_path: Path) -> Path:
    """Waits until a watch has seen both servers; the journal that says so."""
    journal = tmp_path / "watch.jsonl"
    until(lambda: journal.is_file() and len(journal.read_bytes().splitlines()) >= 3)
    return journal


def interrupted_watch(tmp_path: Path) -> Path:
    """Begins a watch and interrupts it once both servers were seen."""
    process = begin(*CALL, cwd=tmp_path, stdout=subprocess.PIPE)
    journal = both_seen(tmp_path)
    interrupt(process)
    process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 130
    return journal


def test_a_watch_that_goes_on_asks_nobody_again_who_has_settled(run: Run, two: list[StandIn], tmp_path: Path) -> None:
    interrupted_watch(tmp_path)
    before = [server.asked for server in two]
    two[1].authority.hold(read_zone(ZONE.format(last=12), "salt.invalid"))
    done = run("settle", "--resume", "--journal", "watch.jsonl", "--json", "--within", "1h")
    assert (done.status, [row["settled"] for row in done.report["vantages"]]) == (0, [True, True])
    assert two[0].asked == before[0] and two[1].asked > before[1]


def test_a_watch_goes_on_when_the_clock_was_set_back(run: Run, two: list[StandIn], tmp_path: Path) -> None:
    journal = interrupted_watch(tmp_path)
    lines = [json.loads(line) for line in journal.read_text(encoding="utf-8").splitlines()]
    for line in lines:
        key = "began_at" if "began_at" in line else "at"
        line[key] += 86400.0
    journal.write_text("".join(json.dumps(line) + "\n" for line in lines), encoding="utf-8")
    two[1].authority.hold(read_zone(ZONE.format(last=12), "salt.invalid"))
    done = run("settle", "--resume", "--journal", "watch.jsonl", "--json", "--within", "1min")
    assert (done.status, [row["settled"] for row in done.report["vantages"]]) == (0, [True, True])
    assert done.report["seconds"] < 3600


def test_two_watches_do_not_write_one_journal(run: Run, two: list[StandIn], tmp_path: Path) -> None:
    interrupted_watch(tmp_path)
    process = begin("settle", "--resume", "--journal", "watch.jsonl", cwd=tmp_path, stdout=subprocess.PIPE)
    asked = two[1].asked
    until(lambda: two[1].asked > asked)
    refused = run("settle", "--resume", "--journal", "watch.jsonl")
    assert refused.status == 2 and "is being written by another watch" in refused.err
    interrupt(process)
    process.communicate(timeout=PATIENCE_S)


@POSIX
@pytest.mark.parametrize("name", ["SIGTERM", "SIGHUP"])
def test_whoever_ends_a_watch_gets_what_it_has_seen(two: list[StandIn], tmp_path: Path, name: str) -> None:
    ending: signal.Signals = getattr(signal, name)
    process = begin(
        *CALL, cwd=tmp_path, stdout=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(ending, signal.SIG_DFL),  # whatever started the tests may ignore it
    )  # fmt: skip
    both_seen(tmp_path)
    process.send_signal(ending)
    out, _ = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 130 and "Interrupted. So far:" in out


@POSIX
def test_the_demo_leaves_no_folder_and_no_server_behind_when_it_is_ended(tmp_path: Path) -> None:
    process = subprocess.Popen(
        [str(PROGRAM), "demo", "--stay"], env=os.environ | {"TMPDIR": str(tmp_path)}, stdout=subprocess.PIPE, text=True,
        encoding="utf-8",
    )  # fmt: skip
    assert process.stdout is not None and process.stdout.readline().startswith("ready: ")
    assert list(tmp_path.iterdir())
    process.terminate()
    assert process.wait(PATIENCE_S) in (0, 130)
    assert list(tmp_path.iterdir()) == []


@POSIX
def test_an_interrupt_while_the_program_is_still_loading_ends_it_with_a_word(tmp_path: Path) -> None:
    (tmp_path / "typer.py").write_text(
        "import os, signal, time\nos.kill(os.getpid(), signal.SIGINT)\ntime.sleep(5)\n", encoding="utf-8"
    )
    done = subprocess.run(
        [str(PROGRAM), "explain"], env=os.environ | {"PYTHONPATH": str(tmp_path)}, capture_output=True, text=True,
        encoding="utf-8", timeout=PATIENCE_S, check=False,
    )  # fmt: skip
    assert (done.returncode, done.stdout, done.stderr) == (130, "", "Interrupted.\n")


@POSIX
def test_a_program_that_is_to_outlive_its_terminal_does(two: list[StandIn], tmp_path: Path) -> None:
    hung_up: signal.Signals = getattr(signal, "SIGHUP")  # noqa: B009
    process = begin(
        *CALL, cwd=tmp_path, stdout=subprocess.PIPE, preexec_fn=lambda: signal.signal(hung_up, signal.SIG_IGN)
    )
    both_seen(tmp_path)
    process.send_signal(hung_up)
    two[1].authority.hold(read_zone(ZONE.format(last=12), "salt.invalid"))
    process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 0

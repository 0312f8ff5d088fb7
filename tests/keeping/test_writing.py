"""Nothing is lost or half-written: where the program writes, what it overwrites, what becomes of a run that cannot write."""

from __future__ import annotations

import json
import os
import sqlite3
import stat
import subprocess
import sys
import threading
from pathlib import Path

import junitparser
import pytest

from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.writing import check_writable, write_whole
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support.estates import lay_out
from support.program import PROGRAM, Run, begin, interrupt
from support.waiting import PATIENCE_S, until

World = tuple[Path, dict[str, StandIn]]
POSIX = pytest.mark.skipif(sys.platform == "win32", reason="there are no such files and streams")


@pytest.fixture
def small(standins: StandIns, tmp_path: Path) -> StandIn:
    """An estate of one zone on one server."""
    text = "$TTL 60\n@ SOA ns h 1 7200 900 1209600 300\n@ NS ns\nns A 192.0.2.1\nwww A 192.0.2.2\n"
    one = standins.add([read_zone(text, "salt.invalid")])
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": one.port}, reach={"192.0.2.1": one.endpoint})
    return one


def test_the_demo_takes_no_folder_that_it_has_not_made(run: Run, tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text("title = 'mine'\n", encoding="utf-8")
    refused = run("demo", "--stay", "--folder", ".")
    assert refused.status == 2 and "is not empty, and the demo has not made it" in refused.err
    assert (tmp_path / "estate.toml").read_text(encoding="utf-8") == "title = 'mine'\n"
    process = begin("demo", "--stay", "--folder", "own", cwd=tmp_path, stdout=subprocess.PIPE)
    assert process.stdout is not None and process.stdout.readline().startswith("ready: ")
    interrupt(process)
    process.wait(PATIENCE_S)
    again = begin("demo", "--stay", "--folder", "own", cwd=tmp_path, stdout=subprocess.PIPE)
    assert again.stdout is not None and again.stdout.readline().startswith("ready: ")
    interrupt(again)
    again.wait(20)


def test_a_snapshot_is_not_written_over_unless_told(run: Run, small: StandIn, tmp_path: Path) -> None:
    call = ("snapshot", "now.jsonl", "www.salt.invalid", "--types", "A")
    assert run(*call).status == 0
    first = (tmp_path / "now.jsonl").read_bytes()
    refused = run(*call)
    assert refused.status == 2 and "is there already; --force writes over it" in refused.err
    assert (tmp_path / "now.jsonl").read_bytes() == first
    assert run(*call, "--force").status == 0
    piped = run("snapshot", "-", "www.salt.invalid", "--types", "A")
    assert json.loads(piped.out.partition("\n")[0])["snapshot"] == "salt-mirror/snapshot/1"


def test_a_pipe_is_written_through_a_link_followed_and_a_mode_kept(tmp_path: Path) -> None:
    if sys.platform == "win32":
        pytest.skip("there are no such files")
    pipe, real, link = tmp_path / "pipe", tmp_path / "real", tmp_path / "link"
    os.mkfifo(pipe)
    found: list[bytes] = []
    reader = threading.Thread(target=lambda: found.append(pipe.read_bytes()))
    reader.start()
    check_writable(pipe)
    write_whole(pipe, "through")
    reader.join(10)
    assert found == [b"through"] and stat.S_ISFIFO(pipe.stat().st_mode)
    real.write_text("before", encoding="utf-8")
    real.chmod(0o640)
    link.symlink_to(real)
    write_whole(link, "after")
    assert (
        link.is_symlink() and real.read_text(encoding="utf-8") == "after" and stat.S_IMODE(real.stat().st_mode) == 0o640
    )
    assert sorted(path.name for path in tmp_path.iterdir()) == ["link", "pipe", "real"]


def test_two_writers_and_a_reader_see_whole_files_alone(tmp_path: Path) -> None:
    target = tmp_path / "report"
    contents = {letter * 200_000 for letter in "ab"}
    write_whole(target, "a" * 200_000)
    over = threading.Event()

    def write(letter: str) -> None:
        while not over.is_set():
            write_whole(target, letter * 200_000)

    writers = [threading.Thread(target=write, args=(letter,)) for letter in "ab"]
    for writer in writers:
        writer.start()
    seen = {target.read_text(encoding="utf-8") for _ in range(300)}
    over.set()
    for writer in writers:
        writer.join(10)
    assert seen <= contents and [path.name for path in tmp_path.iterdir()] == ["report"]


@pytest.mark.parametrize("target", [".", "nowhere/x", "estate.toml/x", "x" * 300])
def test_a_file_that_cannot_be_written_is_told_before_anything_is_asked(
    run: Run, small: StandIn, target: str, tmp_path: Path
) -> None:
    for options in (("--report", f"html:{target}"), ("--remedies", target), ("--history", target)):
        done = run("audit", *options)
        assert (done.status, done.out, "Traceback" in done.err) == (2, "", False), options
        assert options[0] in done.err
    assert small.asked == 0
    with pytest.raises(BadInput):
        write_whole(tmp_path / target, "x")


def test_a_history_that_cannot_take_the_run_is_told_first_or_leaves_the_result_printed(
    run: Run, small: StandIn, tmp_path: Path
) -> None:
    with sqlite3.connect(tmp_path / "newer.db") as newer:
        newer.execute("PRAGMA user_version = 99")
        newer.execute("CREATE TABLE x (y)")
    (tmp_path / "none.db").write_text("no history " * 200, encoding="utf-8")
    for name in ("newer.db", "none.db"):
        refused = run("audit", "--history", name)
        assert refused.status == 2 and small.asked == 0, name
    small.delay_s = 0.2
    process = begin(
        "audit", "--history", "own.db", "--report", "json:out.json", "--timeout", "2", cwd=tmp_path,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    until(lambda: small.asked > 0)
    (tmp_path / "own.db").unlink(missing_ok=True)
    (tmp_path / "own.db").write_text("somebody put something else in its place " * 50, encoding="utf-8")
    out, err = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 4 and "--history: " in err
    assert "of 1 zone is sound" in out and (tmp_path / "out.json").is_file()


@POSIX
@pytest.mark.parametrize("target", ["/dev/full", "closed"])
def test_a_result_that_cannot_be_printed_has_a_status_of_its_own(small: StandIn, tmp_path: Path, target: str) -> None:
    redirect = ">&-" if target == "closed" else f"> {target}"
    for command in ("audit", "audit --json", "ask www.salt.invalid A --at one", "explain", "pairs www.salt.invalid"):
        line = f"{PROGRAM} {command} {redirect}"
        done = subprocess.run(["sh", "-c", line], cwd=tmp_path, capture_output=True, text=True, check=False)
        assert (done.returncode, "Traceback" in done.stderr) == (4, False), (command, done.stderr)
        assert "standard output cannot be written" in done.stderr


@POSIX
def test_closed_streams_are_nobodys_else(small: StandIn, tmp_path: Path) -> None:
    for command, redirect, status in (
        ("ask - --at one", "<&-", 2), ("ask www.salt.invalid A --at one", "2>&-", 0),
        ("audit --only authority --history h.db --skip auth.no-parent", "<&- 2>&-", 0),
    ):  # fmt: skip
        line = f"{PROGRAM} {command} {redirect}"
        done = subprocess.run(["sh", "-c", line], cwd=tmp_path, capture_output=True, text=True, check=False)
        assert done.returncode == status, (command, done.stdout, done.stderr)
    with sqlite3.connect(tmp_path / "h.db") as history:
        assert history.execute("SELECT count(*) FROM runs").fetchone() == (1,)


@POSIX
def test_a_full_disk_under_the_journal_does_not_end_the_watch(run: Run, small: StandIn, tmp_path: Path) -> None:
    done = run("settle", "www.salt.invalid", "A", "--to", "192.0.2.2", "--journal", "/dev/full")
    assert done.status == 4 and "All 1 have settled" in done.out
    assert "--journal: it could not be written to the end: No space left on device" in done.err
    (tmp_path / "empty").touch()
    assert run("settle", "www.salt.invalid", "A", "--to", "192.0.2.2", "--journal", "empty").status == 0
    kept = run("settle", "www.salt.invalid", "A", "--to", "192.0.2.2", "--journal", "empty")
    assert kept.status == 2 and "is there already" in kept.err


@POSIX
def test_what_nobody_else_needs_to_know_is_readable_by_its_owner_alone(
    run: Run, small: StandIn, tmp_path: Path
) -> None:
    assert run("audit", "--history", "h.db").status in (0, 1)
    assert run("snapshot", "s.jsonl", "www.salt.invalid").status == 0
    assert run("settle", "www.salt.invalid", "A", "--to", "192.0.2.2", "--journal", "j.jsonl").status == 0
    assert {stat.S_IMODE((tmp_path / name).stat().st_mode) for name in ("h.db", "s.jsonl", "j.jsonl")} == {0o600}


def test_an_interrupted_run_marks_its_reports_and_leaves_whole_ones_alone(small: StandIn, tmp_path: Path) -> None:
    small.fault = Fault.SILENT
    (tmp_path / "whole.json").write_text("before", encoding="utf-8")
    reports = [f"json:{tmp_path / 'whole.json'}", f"json:{tmp_path / 'new.json'}", f"junit:{tmp_path / 'new.xml'}"]
    reports.append(f"openmetrics:{tmp_path / 'new.prom'}")
    more = [part for report in reports for part in ("--report", report)]
    for partial in ([], ["--partial"]):
        process = begin(
            "audit", "--timeout", "20", *more, *partial, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        asked = small.asked
        until(lambda before=asked: small.asked > before)  # type: ignore[misc]
        interrupt(process)
        out, err = process.communicate(timeout=PATIENCE_S)
        assert process.returncode == 130 and out.startswith("Interrupted. So far: Nothing was judged.")
        assert ("is left as it was" in err) == (not partial)
        told = json.loads((tmp_path / "new.json").read_text(encoding="utf-8"))
        assert (told["outcome"], told["interrupted"], told["counts"]["agrees"]) == ("unverified", True, 0)
        assert told["counts"]["unverified"] > 0
        assert junitparser.JUnitXml.fromfile(str(tmp_path / "new.xml")).errors == 1
        assert "saltmirror_run_interrupted 1.0" in (tmp_path / "new.prom").read_text(encoding="utf-8")
        whole = (tmp_path / "whole.json").read_text(encoding="utf-8")
        assert (whole == "before") == (not partial)


def test_an_accepted_finding_is_known_until_its_day_and_the_estate_keeps_its_comments(run: Run, tmp_path: Path) -> None:
    zone = '# the pans\n[[zones]]\nname = "salt.example"  # ours\nview = "in"\nservers = ["one"]\nexpect = ["x.zone"]\n'
    (tmp_path / "x.zone").write_text("www.salt.example. 300 IN A 192.0.2.1\n", encoding="utf-8")
    (tmp_path / "estate.toml").write_text(f'{zone}[servers.one]\naddress = "127.0.0.1:1"\n', encoding="utf-8")
    quick = ("audit", "--only", "rollcall", "--tries", "1", "--timeout", "0.05")
    assert run(*quick).status == 3
    done = run(
        "accept", "roll.unverified", "www.*", "--why", "closed for the winter", "--until", "2099-03-31", "--view", "in"
    )
    assert done.status == 0 and "until 2099-03-31" in done.out
    text = (tmp_path / "estate.toml").read_text(encoding="utf-8")
    assert text.startswith(zone) and '[[accept]]\ncode = "roll.unverified"' in text and "until = 2099-03-31" in text
    known = run(*quick, "--accepted")
    assert (
        known.status == 0 and "closed for the winter" in known.out
    )  # what is known to be unverified is no doubt any more
    assert (
        run("accept", "pair.*", "old.*", "--why", "being renamed", "--address", "10.77.*", "--server", "one").status
        == 0
    )
    assert (tmp_path / "estate.toml").read_text(encoding="utf-8").count("[[accept]]") == 2
    before = (tmp_path / "estate.toml").read_bytes()
    for words, says in (
        (("roll.unverified", "www.*", "--why", "again", "--view", "in"), "accepts roll.unverified for www.* already"),
        (("pair.no-pionter", "x", "--why", "y"), 'did you mean "pair.no-pointer"?'),
        (("pair.*", "x", "--why", "y", "--until", "tomorrow"), "is no date"),
        (("pair.*", "x", "--why", "y", "--until", "2001-01-01"), "is over"),
        (("pair.*", "x", "--why", "y", "--view", "out"), "there is no view"),
        (("pair.*", "x", "--why", "two\nlines"), "is no reason"),
        (("pair.*", "x", "--why", "y", "--estate", "nowhere.toml"), "there is no such file"),
    ):
        refused = run("accept", *words)
        assert refused.status == 2 and says in refused.err
    assert (tmp_path / "estate.toml").read_bytes() == before

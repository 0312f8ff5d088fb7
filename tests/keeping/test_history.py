"""The past of an estate: faults by day, each zone's days, what is new, what stands longest, how long until it was mended."""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from msgspec.structs import replace

from salt_mirror.checks.audit.lines import Tally, ZoneLine
from salt_mirror.findings import Finding
from salt_mirror.keeping.history import FinishedRun, add_run, chronicle_in
from salt_mirror.keeping.ledger import failed_run
from support.large import ZONES, findings
from support.program import Run

RECORDED = Path(__file__).parents[1] / "recorded"
BEGAN = datetime(2026, 11, 1, 3, tzinfo=UTC)
FAULTS = list(findings(30))[80:]


def keep(path: Path, day: int, found: list[Finding]) -> None:
    """One run at three in the morning of a day."""
    zones = []
    for zone in ZONES[:3]:
        faults = sum(one.name.endswith(zone) for one in found)
        zones.append(ZoneLine(zone=zone, view="internal", checks={"pairs": Tally(agrees=5, faults=faults)}))
    zone_of = lambda one: one.name.partition(".")[2]  # noqa: E731
    outcome = "differs" if found else "agrees"
    add_run(path, FinishedRun("", BEGAN + timedelta(days=day), 2.0, outcome, found, zones), zone_of=zone_of)


@pytest.fixture
def kept(tmp_path: Path) -> Path:
    """Twelve days, the fourth without a run: fault 0 stands throughout, 1 for two days, 2 since the eleventh day."""
    path = tmp_path / "audits.db"
    for day in range(12):
        if day != 3:
            also = [FAULTS[1]] if 1 <= day < 4 else []
            keep(path, day, [FAULTS[0], *also, *([FAULTS[2]] if day >= 10 else [])])
    return path


def test_a_chronicle_tells_days_news_the_longest_and_the_mean_until_mended(kept: Path) -> None:
    told = chronicle_in(kept)
    days = told.faults_by_day()
    assert [sum(days[day].values()) if day in days else None for day in told.days()] == [1, 2, 2, None, *[1] * 6, 2, 2]
    assert [one.code for one in told.new()] == [FAULTS[2].code]
    assert [one.code for one in told.standing()] == [FAULTS[0].code, FAULTS[2].code]
    (mended,) = told.mended()
    assert (mended.check, mended.faults, mended.mean_seconds) == ("rollcall", 1, timedelta(days=3).total_seconds())
    lines = {zone: [days[day].faults for day in days] for (_, zone), days in told.zone_days().items()}
    assert lines[ZONES[1]] == [0, 1, 1, *[0] * 8] and lines[ZONES[0]] == [1] * 11


def test_a_history_is_drawn_and_told_by_zone_and_time(kept: Path, run: Run) -> None:
    done = run("history", str(kept), "--report", "html:past.html", "--figure", "past.png", "--since", "2026-11-05")
    assert done.out.startswith("2 faults and 0 cautions open: 1 new this week.\n8 runs.") and done.status == 0
    page = (kept.parent / "past.html").read_text(encoding="utf-8")
    assert (
        "<h1>2 faults, 0 cautions; 1 fault more than on 05 Nov.</h1>" in page
        and "until a fault is gone, mean of 1" in page
    )
    assert (
        page.count('<td class="differs">') == 10 and 'src="data:image/svg+xml;base64,' in page and "<script" not in page
    )
    assert "12 Nov: 1 of pairs, 1 of pairs" not in page and "12 Nov: 2 of pairs" in page
    assert (kept.parent / "past.png").read_bytes().startswith(b"\x89PNG")
    zone = run("history", str(kept), "--zone", ZONES[1]).out
    assert zone.startswith("0 faults and 0 cautions open.") and "2026-11-02   1 fault" in zone
    told = json.loads(run("history", str(kept), "roll.*", "--json").out)
    assert told["schema"] == "salt-mirror/history/1" and len(told["runs"]) == 11 and len(told["matching"]) == 1
    assert run("history", str(kept), "--zone", "other.invalid").status == 2
    assert "expected one such as 14d, 12h or 2026-11-01" in run("history", str(kept), "--since", "soon").err
    assert "is neither a .png nor a .svg" in run("history", str(kept), "--figure", "a.gif").err


@pytest.mark.parametrize("version", [3, 1])
def test_a_history_of_an_older_version_is_brought_up_and_keeps_its_runs(tmp_path: Path, run: Run, version: int) -> None:
    """The third version's file was written by the program of that time: eight runs, a life that ended, and a doubt."""
    path = tmp_path / "old.db"
    shutil.copy(RECORDED / "history-3.db", path)
    if version == 1:
        with sqlite3.connect(path) as old:
            old.executescript("DROP TABLE doubts; DROP TABLE zone_runs; DROP TABLE looks; PRAGMA user_version = 1;")
            old.executescript("ALTER TABLE runs DROP COLUMN whole; ALTER TABLE lives DROP COLUMN zone;")
    done = run("history", "old.db", "--json")
    assert done.status == 0 and len(json.loads(done.out)["runs"]) == 8
    lives = {
        one.name.partition(".")[0]: (one.first.day, one.ended and one.ended.day) for one in chronicle_in(path).lives
    }
    assert lives == {"rake-00000": (1, None), "rake-00001": (2, 5), "rake-00003": (7, None)}
    keep(path, 9, FAULTS[:2])
    told = chronicle_in(path)
    assert len(told.runs) == 9 and len(told.zone_days()) == 3 and len(told.standing()) == 2
    with sqlite3.connect(path) as brought:
        assert brought.execute("PRAGMA user_version").fetchone() == (4,)
        assert brought.execute("SELECT count(*) FROM doubts").fetchone() == (0,)


def test_what_is_unverified_again_is_not_new_and_what_was_not_looked_at_stays(kept: Path) -> None:
    doubts = [replace(one, outcome="unverified") for one in FAULTS[:3]]

    def add(day: int, *findings: Finding, looked_at: Callable[[Finding], bool] = lambda _: True) -> list[Finding]:
        done = FinishedRun("", BEGAN + timedelta(days=day), 1.0, "unverified", list(findings))
        return add_run(kept, done, looked_at)[0].new_unverified

    assert add(20, doubts[0], doubts[1]) == doubts[:2]
    assert add(21, doubts[0], doubts[1], doubts[2]) == doubts[2:]
    assert add(22, doubts[0], looked_at=lambda one: one.name == doubts[0].name) == []
    assert add(23, *doubts) == []
    assert add(24) == [] and add(25, doubts[1]) == [doubts[1]]


def test_runs_about_something_else_are_not_mixed_into_a_chronicle(kept: Path) -> None:
    before = chronicle_in(kept)
    add_run(kept, FinishedRun("pairs rake-01", BEGAN + timedelta(days=30), 1.0, "differs", [FAULTS[0], FAULTS[3]]))
    assert chronicle_in(kept) == before
    alone = kept.with_name("pairs.db")
    add_run(alone, FinishedRun("pairs rake-01", BEGAN, 1.0, "differs", [FAULTS[0]]))
    assert chronicle_in(alone).about == "pairs rake-01" and len(chronicle_in(alone).standing()) == 1


def test_compaction_keeps_a_run_a_day_and_every_life(tmp_path: Path, run: Run) -> None:
    path, now = tmp_path / "audits.db", datetime.now(UTC).replace(microsecond=0)
    for quarter in range(80):  # four runs a day: a fault comes and goes with each, another stands
        found = [FAULTS[0], *([FAULTS[1]] if quarter % 2 else [])]
        add_run(path, FinishedRun("", now - timedelta(hours=6 * (79 - quarter)), 2.0, "differs", found))
    before = chronicle_in(path)
    said = run("history", "audits.db", "--compact", "10d").out
    after = chronicle_in(path)
    assert [life.first for life in after.lives] == [life.first for life in before.lives] and len(after.lives) == 41
    old = [one for one in after.runs if one.started.date() < (now - timedelta(days=10)).date()]
    assert {one.started.date() for one in old} == {one.started.date() for one in before.runs} - {
        one.started.date() for one in after.runs[: -len(old)]
    }
    assert len(old) == len({one.started.date() for one in old}) and sum(one.runs for one in after.runs) == 80
    assert f"became {len(old)} days" in said and after.faults_by_day() == before.faults_by_day()
    assert run("history", "audits.db", "--compact", "10d").out.startswith("Nothing to compact")
    assert f"80 runs, kept as {len(after.runs)}." in run("history", "audits.db").out
    assert run("history", "audits.db", "--compact", "2d").status == 2


def test_a_history_says_in_words_what_is_new_how_long_it_took_and_what_comes_back(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "audits.db"
    latest = datetime(2026, 11, 27, 12, tzinfo=UTC)  # a Friday, also far from here
    for back in range(35, -1, -1):  # a run a night: one host each Monday, one fault of the last two nights, one mended
        at = latest - timedelta(days=back)
        weekly = [FAULTS[0]] if at.astimezone().weekday() == 0 else []
        found = [*weekly, *([FAULTS[1]] if back < 2 else []), *([FAULTS[3]] if 4 <= back < 6 else [])]
        add_run(path, FinishedRun("", at, 2.0, "differs" if found else "agrees", found))
    says = run("history", "audits.db").out.splitlines()[0]
    assert says == (
        "1 fault and 0 cautions open: 1 new this week, 2 mended in 1 d and 2 d, "
        "1 comes back every Monday (rake-00000: 5 times)."
    )
    document = json.loads(run("history", "audits.db", "--json").out)
    assert document["says"] == says and document["recurring"][0]["weekday"] == 0
    hourly = tmp_path / "hourly.db"
    for hour in range(24 * 6):
        at = latest - timedelta(hours=24 * 6 - 1 - hour)
        found = [FAULTS[1]] if at.astimezone().hour == 2 else []
        add_run(hourly, FinishedRun("", at, 2.0, "agrees", found))
    assert "1 comes back at about 02:00 (rake-00001: 6 times)" in run("history", "hourly.db").out
    mondays = tmp_path / "mondays.db"
    for week in range(10):
        found = [FAULTS[0]] if week % 2 else []
        add_run(mondays, FinishedRun("", latest - timedelta(weeks=9 - week), 2.0, "agrees", found))
    assert "comes back again and again" in run("history", "mondays.db").out  # nobody looked on another day


def test_a_missed_run_and_a_failing_one_are_seen(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "audits.db"
    add_run(path, FinishedRun("", datetime.now(UTC) - timedelta(hours=3), 2.0, "agrees", []))
    call = ("history", "audits.db", "--check", "--at-least-every")
    sound = run(*call, "4h")
    assert (sound.status, sound.out[:17]) == (0, "The last run was ")
    missed = run(*call, "2h")
    assert missed.status == 1 and missed.out.startswith("No run since ")
    assert "(run.missed)" in missed.out and "one is expected every 2 h" in missed.out
    failed_run(path, "", datetime.now(UTC), "estate.toml: the key is missing")
    report = run(*call, "4h", "--json")
    (finding,) = report.document["findings"]
    assert report.status == 1 and (finding["code"], finding["weight"]) == ("run.failed", "fault")
    assert "the last one said: estate.toml: the key is missing" in finding["text"]
    add_run(path, FinishedRun("", datetime.now(UTC), 2.0, "agrees", []))
    assert run(*call, "4h").status == 0
    assert "run.missed" in run("explain", "run.missed").out and run("history", "audits.db", "--check").status == 2

"""The past of an estate: faults by day, each zone's days, what is new, what stands longest, how long until it was mended."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from msgspec.structs import replace

from salt_mirror.checks.audit.lines import Tally, ZoneLine
from salt_mirror.findings import Finding
from salt_mirror.keeping.history import FinishedRun, add_run, chronicle_in
from support.large import ZONES, findings
from support.program import Run

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
    assert done.out.startswith("8 runs.") and done.status == 0
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


def test_a_history_of_the_first_version_is_brought_up_and_keeps_its_runs(kept: Path, run: Run) -> None:
    with sqlite3.connect(kept) as old:
        old.executescript(
            "DROP TABLE doubts; DROP TABLE zone_runs; DROP TABLE looks; ALTER TABLE runs DROP COLUMN whole;"
        )
        old.executescript("ALTER TABLE lives DROP COLUMN zone; PRAGMA user_version = 1;")
    done = run("history", str(kept), "--zone", ZONES[0], "--json")
    assert done.status == 0 and len(json.loads(done.out)["runs"]) == 11
    keep(kept, 12, [FAULTS[0]])
    told = chronicle_in(kept)
    assert len(told.runs) == 12 and len(told.zone_days()) == 3


def test_what_is_unverified_again_is_not_new_and_what_was_not_looked_at_stays(kept: Path) -> None:
    doubts = [replace(one, outcome="unverified") for one in FAULTS[:3]]

    def add(day: int, *findings: Finding, looked_at: Callable[[Finding], bool] = lambda _: True) -> list[Finding]:
        done = FinishedRun("", BEGAN + timedelta(days=day), 1.0, "unverified", list(findings))
        return add_run(kept, done, looked_at)[0].new_unverified

    with sqlite3.connect(kept) as old:
        old.executescript("DROP TABLE doubts; PRAGMA user_version = 2;")
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

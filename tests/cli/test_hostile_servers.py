"""Fifty ways to be hostile, and the main commands over all of them: no false fault, no false agreement, no crash."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from support.hostile import MODES, VALUE, hostile_servers, lay_out_liars
from support.program import Run

BECOMES = {mode.name: "agrees" if mode.becomes == "truth" else "unverified" for mode in MODES}


@pytest.fixture(scope="module")
def ports() -> Iterator[dict[str, int]]:
    with hostile_servers() as found:
        yield found


@pytest.fixture
def estate(ports: dict[str, int], tmp_path: Path) -> Path:
    """A zone for each way, on its server alone, with one expected record."""
    lay_out_liars(tmp_path, ports)
    return tmp_path


SHORT = ("--timeout", "0.4", "--tries", "2")


def test_a_roll_call_believes_none_of_them(run: Run, estate: Path) -> None:
    done = run("rollcall", "--json", *SHORT)
    assert "Traceback" not in done.err
    outcomes = {one["name"].split(".")[1]: one["outcome"] for one in done.report["subjects"]}
    assert outcomes == BECOMES
    assert {one["weight"] for one in done.report["findings"] if one["outcome"] == "differs"} == set()
    assert done.status == 3


def test_pairs_accuse_nobody_for_what_a_liar_says(run: Run, estate: Path) -> None:
    done = run("pairs", "--json", *SHORT)
    assert "Traceback" not in done.err
    # The addresses' reverse zone is nowhere, so that a pair agrees with nobody's word.
    assert {one["outcome"] for one in done.report["subjects"]} == {"unverified"}
    assert [one["code"] for one in done.report["findings"] if one["outcome"] == "differs"] == []


def test_an_answer_is_printed_only_where_there_is_one(run: Run, estate: Path) -> None:
    names = estate / "names.txt"
    names.write_text("".join(f"host.{name}.invalid A\n" for name in BECOMES), encoding="utf-8")
    done = run("ask", "--names", "names.txt", "--at", "authoritative", "--json", *SHORT)
    assert "Traceback" not in done.err
    told = {one["name"].split(".")[1]: [line["values"] for line in one["answers"]] for one in done.report["names"]}
    # Who says it without authority is quoted, and said to have none.
    right = {name for name, outcome in BECOMES.items() if outcome == "agrees"} | {"secondhand"}
    assert {name for name, values in told.items() if [VALUE] in values} == right
    assert {name for name, values in told.items() if any(one not in ([], [VALUE]) for one in values)} == set()


def test_a_zones_authority_is_a_fault_only_where_the_server_itself_says_so(run: Run, estate: Path) -> None:
    done = run("authority", "--json", *SHORT)
    assert "Traceback" not in done.err
    states = {
        sheet["zone"].split(".")[0]: [row["state"] for row in sheet["servers"]] for sheet in done.report["sheets"]
    }
    assert {name for name, state in states.items() if "authoritative" in state} == {
        name for name, outcome in BECOMES.items() if outcome == "agrees"
    }
    # It answered, and said that it has no such zone: that is what lame means. Nobody else is accused of it.
    lame = {"refused", "notauth", "nonsuch", "secondhand", "rootreferral", "tldreferral"}
    assert {name for name, state in states.items() if "lame" in state} <= lame

"""The installed program `salt-mirror pairs` on Gullmarsh's world, on broken servers, on bad input, and on a real NSD."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from salt_mirror.catalogue import catalogue
from salt_mirror.demo.world import plantings
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support.estates import estate_of, reverse_of, zones_of
from support.program import Run, begin, interrupt
from support.realservers import nsd
from support.waiting import PATIENCE_S, until

World = tuple[Path, dict[str, StandIn]]


def test_every_planting_is_found_and_nothing_else(run: Run, world: World) -> None:
    done = run("pairs", "--json", "--estate", str(world[0]))
    planted = {(p["code"], p["name"], p.get("address"), p.get("view", "internal")) for p in plantings()["pairs"]}
    assert planted == {(f["code"], f["name"], f["address"], f["view"]) for f in done.report["findings"]}
    assert {code for code, *_ in planted} == {code for code in catalogue() if code.startswith("pair.")}, (
        "each kind is planted"
    )
    assert done.status == 1
    assert done.err == "", "nobody sees a progress bar in a pipe"


def test_the_report_keeps_its_contract(run: Run, world: World) -> None:
    report = run("pairs", "--json", "--estate", str(world[0])).document
    counts = report["counts"]
    assert report["schema"] == "salt-mirror/report/1"
    assert counts["agrees"] + counts["differs"] + counts["unverified"] == len(report["subjects"])
    assert all(finding["name"].endswith(".") for finding in report["findings"])
    finding = next(f for f in report["findings"] if f["code"] == "pair.no-pointer" and f["type"] == "A")
    assert {e["server"]: (e["status"], e["authoritative"], e["values"]) for e in finding["evidence"]} == {
        "dc-north": ("NXDOMAIN", True, []),
        "dc-kiln": ("NXDOMAIN", True, []),
    }


@pytest.mark.parametrize(
    ("arguments", "status", "first_line"),
    [
        (("rake-01",), 0, "2 of 2 addresses agree."),
        (("kiln-02",), 1, "1 of 2 addresses agrees; 1 differs."),
        (("crane",), 3, "0 of 1 address agrees; 1 could not be verified."),
        (("rake-08",), 0, "1 of 1 address agrees."),
        (("rake-08", "--strict"), 1, "1 of 1 address agrees."),
        (("10.77.10.17",), 1, "0 of 1 address agrees; 1 differs."),
        (("--view", "public"), 3, "11 of 12 addresses agree; 1 could not be verified."),
        (("10.77.20.12", "--at", "dc-kiln"), 1, "1 of 2 addresses agrees; 1 differs."),
    ],
)
def test_the_first_line_is_the_answer_and_the_exit_status_says_it_too(
    run: Run, world: World, arguments: tuple[str, ...], status: int, first_line: str
) -> None:
    done = run("pairs", *arguments, "--estate", str(world[0]))
    assert (done.out.splitlines()[0], done.status) == (first_line, status)
    assert "\x1b" not in done.out


def test_the_default_is_short_and_all_shows_everything(run: Run, world: World) -> None:
    estate = ("--estate", str(world[0]))
    short, whole, faults = (
        run("pairs", "10.77.20.0/24", *estate, *extra).out for extra in ((), ("--all",), ("--faults",))
    )
    assert "not ours  dc-north has it right: raise the serial on dc-north, or force a transfer to dc-kiln" in faults
    assert "dc-kiln (authoritative)   PTR of 10.77.20.20: NXDOMAIN" in faults
    assert "several PTR records" not in faults and "several PTR records" in short
    assert "kiln-03" not in short and "kiln-03.pans.gullmarsh.internal.  10.77.20.13" in whole


def test_the_estate_in_the_current_folder_is_found_by_itself(run: Run, world: World, tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text("[[zones]]\nname = 'gullmarsh.example'\nvieuw = 'x'\n", encoding="utf-8")
    done = run("pairs")
    assert (done.status, done.out) == (2, "")
    assert (
        done.err.strip()
        == 'salt-mirror: estate.toml, line 3: unknown key "vieuw" in zones, entry 1; did you mean "view"?'
    )


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("--estate", "gone.toml"), "gone.toml: there is no such file"),
        (("10.77.300.1/24", "--estate", "ESTATE"), '"10.77.300.1/24" is no network'),
        (("x" * 64 + ".example", "--estate", "ESTATE"), "64 bytes long; at most 63"),
        (("--view", "intern", "--estate", "ESTATE"), 'no view "intern"; did you mean "internal"'),
        (("--at", "127.0.0.1:99999", "--estate", "ESTATE"), "no usable port"),
        ((), "nothing to check"),
        (("10.0.0.0/8", "--estate", "ESTATE"), "needs --sweep-all"),
    ],
)
def test_bad_input_gets_one_clear_message_and_nothing_is_asked(
    run: Run, world: World, arguments: tuple[str, ...], message: str
) -> None:
    before = sum(server.asked for server in world[1].values())
    done = run("pairs", *(str(world[0]) if one == "ESTATE" else one for one in arguments))
    assert (done.status, done.out) == (2, "")
    assert message in done.err
    assert len(done.err.strip().splitlines()) == 1
    assert sum(server.asked for server in world[1].values()) == before


def test_a_malformed_zone_line_is_named(run: Run, tmp_path: Path) -> None:
    (tmp_path / "bad.zone").write_text("a A 10.77.20.1\nb A 10.77\n", encoding="utf-8")
    (tmp_path / "estate.toml").write_text('[[zones]]\nname = "x.example"\nexpect = ["bad.zone"]\n', encoding="utf-8")
    done = run("pairs")
    assert done.status == 3 and "bad.zone, line 2: " in done.out + done.err and "Traceback" not in done.err
    strict = run("pairs", "--strict")
    assert strict.status == 2 and "bad.zone, line 2: " in strict.err


@pytest.mark.parametrize("fault", [Fault.SILENT, Fault.REFUSING, Fault.GARBAGE])
def test_a_dead_server_makes_five_hundred_hosts_unverified_in_bounded_time(
    run: Run, standins: StandIns, tmp_path: Path, fault: Fault
) -> None:
    zones = [read_zone(text, origin) for origin, text in zones_of(500).items()]
    good, bad = standins.add(zones), standins.add(zones)
    bad.fault = fault
    path = estate_of(tmp_path, 500, {"good": good.port, "bad": bad.port})
    hosts = [f"h{n}.pans.example." for n in range(500)]
    wait = "1" if fault is Fault.SILENT else "2"  # the good one has to be heard beside the noise, on a slow machine too
    done = run("pairs", *hosts, "--json", "--timeout", wait, "--estate", str(path))
    assert done.status == 3
    assert [done.report["counts"][outcome] for outcome in ("agrees", "differs", "unverified")] == [0, 0, 500]
    assert all(f["weight"] == "note" and "bad" in f["cause"] for f in done.report["findings"])
    assert bad.asked < 900 or fault is Fault.REFUSING, "a dead server is probed, not asked everything three times over"
    assert all(any(e["server"] == "good" and e["values"] for e in f["evidence"]) for f in done.report["findings"])


def test_an_interrupt_prints_what_is_known_and_ends_with_130(standins: StandIns, tmp_path: Path) -> None:
    zones = [read_zone(text, origin) for origin, text in zones_of(200).items()]
    good, slow = standins.add(zones), standins.add(zones)
    slow.delay_s = 30
    path = estate_of(tmp_path, 200, {"good": good.port})
    text = path.read_text(encoding="utf-8")
    path.write_text(
        text.replace('["good"]', '["slow"]', 1) + f'[servers.slow]\naddress="127.0.0.1"\nport={slow.port}\n'
    )
    command = [
        "pairs",
        "h1.pans.example",
        "10.77.0.0/30",
        "--json",
        "--timeout",
        "30",
        "--estate",
        str(path),
    ]
    process = begin(*command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    until(lambda: slow.asked)
    interrupt(process)
    out, err = process.communicate(timeout=PATIENCE_S)
    report = json.loads(out)
    assert process.returncode == 130
    assert report["interrupted"] is True
    assert "interrupted: " in report["remarks"][-1]
    assert "Traceback" not in err


@pytest.mark.real
def test_two_real_servers_that_differ_in_one_record_give_just_that_finding(run: Run, tmp_path: Path) -> None:
    zones = zones_of(40)
    wrong = zones[reverse_of(40)].replace("7.0.77.10.in-addr.arpa. PTR h7.", "7.0.77.10.in-addr.arpa. PTR h8.", 1)
    other = zones | {reverse_of(40): wrong}
    with nsd(tmp_path / "one", zones) as one, nsd(tmp_path / "two", other) as two:
        path = estate_of(tmp_path, 40, {"one": one.port, "two": two.port})
        done = run("pairs", "--json", "--estate", str(path))
    faults = [f for f in done.report["findings"] if f["weight"] == "fault"]
    assert [(f["code"], f["name"], f["address"]) for f in faults] == [
        ("pair.servers-disagree", "h7.pans.example.", "10.77.0.7"),
        ("pair.stale-pointer", "h8.pans.example.", "10.77.0.7"),
    ]
    assert {e["server"]: e["values"] for e in faults[0]["evidence"]} == {
        "one": ["h7.pans.example."],
        "two": ["h8.pans.example."],
    }
    # The first of them has it right already, so that no change of ours would help.
    remedy = "; one has it right: raise the serial on one, or force a transfer to two (they have one serial)"
    assert (faults[0]["fate"], faults[0]["remedy"]) == ("not ours", remedy)
    assert (done.report["counts"]["agrees"], done.status) == (39, 1)

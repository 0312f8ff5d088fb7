"""`rehearse` as the installed program: files against each other, files against servers, records, plans, other estates."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support.program import Outcome, Run

FORWARD, REVERSE = "pans.example", "20.77.10.in-addr.arpa"
HEAD = "$TTL 3600\n@ SOA ns.pans.example. h.pans.example. {serial} 3600 600 1209600 300\n@ NS ns.pans.example.\n"
HOSTS = "ns A 192.0.2.1\nh1 A 10.77.20.1\nh2 A 10.77.20.2\nmail MX 10 h2\nwww CNAME h1\n"
POINTERS = "1 PTR h1.pans.example.\n2 PTR h2.pans.example.\n"


def zone(serial: int, body: str) -> str:
    return HEAD.format(serial=serial) + body


class Files:
    """Zone files of today in `before/zones`, and as they are proposed in `zones`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        for place in (folder / "before" / "zones", folder / "zones"):
            place.mkdir(parents=True)
            for name, body in ((FORWARD, HOSTS), (REVERSE, POINTERS)):
                (place / f"{name}.zone").write_text(zone(1, body), encoding="utf-8")

    def propose(self, name: str, *edits: tuple[str, str], serial: int = 2) -> None:
        text = zone(serial, HOSTS if name == FORWARD else POINTERS)
        for old, new in edits:
            assert old in text
            text = text.replace(old, new)
        (self.folder / "zones" / f"{name}.zone").write_text(text, encoding="utf-8")


@pytest.fixture
def files(tmp_path: Path) -> Files:
    return Files(tmp_path)


def codes(done: Outcome) -> set[tuple[str, str]]:
    return {(one["code"], one["name"]) for one in done.document["findings"] if one["weight"] != "note"}


def test_zone_files_are_judged_against_each_other_without_any_server(run: Run, files: Files) -> None:
    done = run("rehearse", "--offline", "--zone-file", "zones")
    assert (done.status, done.out.splitlines()[0].startswith("These 2 zone files have")) == (0, True)
    files.propose(REVERSE, ("2 PTR h2.pans.example.", "2 PTR h2"))
    done = run("rehearse", "--offline", "--zone-file", "zones", "--json")
    assert done.status == 1
    (fault,) = [one for one in done.document["findings"] if one["weight"] == "fault"]
    assert fault["code"] == "pair.missing-dot"
    assert {"file": f"zones/{REVERSE}.zone", "line": 5} in [
        {key: line[key] for key in ("file", "line")} for line in fault["lines"]
    ]


def test_what_was_wrong_before_does_not_fail_a_commit_and_what_is_new_does(run: Run, files: Files) -> None:
    old = files.folder / "before" / "zones" / f"{FORWARD}.zone"
    old.write_text(zone(1, f"{HOSTS}h9 A 10.77.20.9\n"), encoding="utf-8")
    files.propose(FORWARD, ("www", "h9 A 10.77.20.9\nwww"))
    options = ("rehearse", "--offline", "--zone-file", "zones", "--before", "before")
    done = run(*options)
    assert done.status == 0, done.out
    assert "causes no new fault, mends 0, leaves 1 as it is; nothing vanishes." in done.out
    files.propose(FORWARD, ("h2 A 10.77.20.2\n", ""))
    done = run(*options, "--json")
    assert done.status == 1
    assert ("pair.lost-pointer", "h2.pans.example.") in codes(done)
    (row,) = done.document["rehearsal"]["vanishing"][:1]
    assert (row["name"], row["values"]) == ("h2.pans.example.", ["10.77.20.2"])
    assert row["needed"] == ["2.20.77.10.in-addr.arpa. PTR and mail.pans.example. MX lead there"]
    assert "2 records vanish, 1 of them still needed" in run(*options, "--quiet", "--report", "markdown:-").out


def test_a_caution_fails_with_strict_only(run: Run, files: Files) -> None:
    files.propose(FORWARD, ("h1 A 10.77.20.1", "h1 300 A 10.77.20.1\nh1 600 A 10.77.20.1"))
    files.propose(FORWARD, ("www", "h3 300 A 10.77.20.3\nh3 600 A 10.77.20.4\nwww"))
    files.propose(REVERSE, ("2 PTR", "3 PTR h3.pans.example.\n4 PTR h3.pans.example.\n2 PTR"))
    options = ("rehearse", "--offline", "--zone-file", "zones", "--before", "before")
    done = run(*options, "--json")
    assert (done.status, codes(done)) == (0, {("reh.ttls-differ", "h3.pans.example.")})
    assert run(*options, "--strict").status == 1


def test_reports_for_review_have_the_file_and_the_line(run: Run, files: Files) -> None:
    files.propose(FORWARD, ("www CNAME h1", "h1 CNAME h2"))
    forms = ("sarif", "junit", "markdown", "csv")
    reports = [word for form in forms for word in ("--report", f"{form}:out.{form}")]
    assert run("rehearse", "--offline", "--zone-file", "zones", "--quiet", *reports).status == 1
    log = json.loads((files.folder / "out.sarif").read_text(encoding="utf-8"))
    assert log["version"] == "2.1.0"
    (judged,) = log["runs"]
    rules = judged["tool"]["driver"]["rules"]
    for result in judged["results"]:
        assert rules[result["ruleIndex"]]["id"] == result["ruleId"]
        assert result["level"] in ("error", "warning", "note", "none") and result["message"]["text"]
    (alias,) = [one for one in judged["results"] if one["ruleId"] == "reh.alias-and-other"]
    place = alias["locations"][0]["physicalLocation"]
    assert place == {"artifactLocation": {"uri": f"zones/{FORWARD}.zone"}, "region": {"startLine": 8}}
    suites = ET.parse(files.folder / "out.junit").getroot()
    assert [case.get("name") for case in suites.iter("testcase") if "CNAME and other data" in (case.get("name") or "")]
    for form in ("markdown", "csv"):
        assert f"zones/{FORWARD}.zone, line 8" in (files.folder / f"out.{form}").read_text(encoding="utf-8")


def test_a_hostile_zone_file_says_nothing_that_a_terminal_or_a_review_obeys(run: Run, files: Files) -> None:
    files.propose(FORWARD, ("www", '\\027]0;x\\007 TXT "<i onload=x>\\027[2J"\nh1 A "\x1b[2J"\nwww'))
    done = run("rehearse", "--offline", "--zone-file", "zones", "--report", "sarif:o.sarif", "--report", "html:o.html")
    assert done.status == 1 and "\x1b" not in done.out + done.err
    assert b"\x1b" not in (files.folder / "o.sarif").read_bytes() + (files.folder / "o.html").read_bytes()
    assert "<i onload" not in (files.folder / "o.html").read_text(encoding="utf-8")


WRONG = (
    ((), "nothing to rehearse"),
    (("--offline",), "--offline judges zone files: name them"),
    (("--offline", "--zone-file", "nowhere.zone"), "nowhere.zone"),
    (("--offline", "--zone-file", "empty"), "has no zone files"),
    (("--offline", "--zone-file", "hosts"), "does not say which zone it is"),
    (("--offline", "--zone-file", "=x"), "is no ZONE=FILE"),
    (("--offline", "--zone-file", "zones", "--before", "nowhere"), "--before: nowhere is no folder"),
    (("--offline", "--zone-file", "zones", "--before", "empty"), "has none of the 2 zone files"),
    (("--zone-file", "zones", "--before", "before"), "--before goes with --offline"),
    (("--zone-file", "zones"), "an estate with zones is needed"),
    (("--offline", "--records", "hosts"), "--offline judges zone files only"),
    (("--hosts", "hosts", "--zone-file", "zones"), "--hosts says which hosts --renumber moves"),
    (("--renumber", "10.77.20.0/24"), "is no OLD=NEW"),
    (("--renumber", "10.77.20.0/24=10.88.20.0/25"), "differ in size"),
    (("--renumber", "10.77.20.0/24=10.77.20.0/24"), "overlap"),
    (("--renumber", "2001:db8::/64=10.88.20.0/24"), "is IPv6"),
    (("--renumber", "10.77.20.0/24=10.88.20.0/24", "--offline"), "--renumber is a job of its own"),
)


@pytest.mark.parametrize(("words", "says"), WRONG, ids=[" ".join(words) for words, _ in WRONG])
def test_wrong_usage_says_what_is_wrong_and_asks_nothing(
    run: Run, files: Files, words: tuple[str, ...], says: str
) -> None:
    (files.folder / "empty").mkdir()
    (files.folder / "hosts").write_text("h1 A 10.77.20.1\n", encoding="utf-8")
    done = run("rehearse", *words)
    assert done.status == 2 and says in done.err, done.err
    assert not done.out


def test_no_file_is_passed_over_in_silence(run: Run, files: Files) -> None:
    zones = files.folder / "zones"
    (zones / f"{FORWARD}.zone").rename(zones / f"db.{FORWARD}")
    (zones / "lab.txt").write_text(zone(1, "lab A 192.0.2.9\n"), encoding="utf-8")
    (zones / "README").write_text("The SOA of each zone is raised by hand.\n", encoding="utf-8")
    done = run("rehearse", "--offline", "--zone-file", "zones")
    assert (done.status, done.out.splitlines()[0]) == (0, "These 2 zone files have 2 cautions.")  # one name server each
    assert "not in that set" not in done.out  # a file is no server
    assert "not read, since their names are none of zone files: zones/lab.txt;" in done.out
    (zones / f"{REVERSE}.zone").unlink()
    done = run("rehearse", "--offline", "--before", "before", "--zone-file", "zones")
    assert "(reh.removed)" in done.out and "what vanishes could not be seen whole" in done.out.splitlines()[0]
    done = run("rehearse", "--offline", "--before", "before", "--zone-file", "zones", "--json")
    assert codes(done) == {("reh.removed", f"{REVERSE}.")}
    (zones / "db.10.77.20").write_text("@ 3600 SOA ns h 1 1 1 1 1\n", encoding="utf-8")
    assert "db.10.77.20 does not say which zone it is" in run("rehearse", "--offline", "--zone-file", "zones").err


class Served:
    """Both zones on two servers, and the estate, which expects h1 and h2."""

    def __init__(self, standins: StandIns, folder: Path, *, primary: str = 'primary = "one"\n') -> None:
        self.folder = folder
        self.servers = [
            standins.add([read_zone(zone(8, body), name) for name, body in ((FORWARD, HOSTS), (REVERSE, POINTERS))])
            for _ in range(2)
        ]
        for server in self.servers:
            server.transfers = True
        (folder / "hosts.csv").write_text("name,type,value\nh1,A,10.77.20.1\nh2,A,10.77.20.2\n", encoding="utf-8")
        text = f'[reach]\n"192.0.2.1" = "{self.servers[0].endpoint}"\n'
        for name, expect in ((FORWARD, 'expect = ["hosts.csv"]\n'), (REVERSE, "")):
            text += f'[[zones]]\nname = "{name}"\nservers = ["one", "two"]\n{primary}{expect}'
        for label, server in zip(("one", "two"), self.servers, strict=True):
            text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
        (folder / "estate.toml").write_text(text, encoding="utf-8")

    def propose(self, body: str, *, serial: int = 9) -> None:
        (self.folder / "new.zone").write_text(zone(serial, body), encoding="utf-8")

    def load(self, *servers: StandIn) -> None:
        text = (self.folder / "new.zone").read_text(encoding="utf-8")
        for server in servers:
            server.authority.hold(read_zone(text, FORWARD))


@pytest.fixture
def served(standins: StandIns, tmp_path: Path) -> Served:
    return Served(standins, tmp_path)


LOAD = ("rehearse", "--zone-file", f"{FORWARD}=new.zone")


def test_a_serial_that_does_not_rise_keeps_the_secondary_where_it_is(run: Run, served: Served) -> None:
    served.propose(HOSTS.replace("h2 A 10.77.20.2", "h2 A 10.77.20.22"), serial=8)
    done = run(*LOAD, "--json")
    found = codes(done)
    assert done.status == 1
    assert {("reh.serial", "pans.example."), ("auth.same-serial", "pans.example.")} <= found
    (row,) = done.document["rehearsal"]["zones"]
    assert (row["takes"], row["keeps"]) == (["one"], ["two"])
    served.load(served.servers[0])
    real = {one for one in codes(run("audit", "--transfer", "--json")) if not one[0].startswith("accept")}
    assert {one for one in found if not one[0].startswith("reh.")} <= real


KEYS = "@ DNSKEY 257 3 13 AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA==\n"


@pytest.mark.parametrize(
    ("before", "after", "code"),
    [
        (HOSTS, "ns2 A 192.0.2.1\n@ NS ns2\n" + HOSTS, None),
        ("ns2 A 192.0.2.1\n@ NS ns2\n" + HOSTS, "ns2 A 192.0.2.1\n" + HOSTS, "reh.not-notified"),
        (KEYS + HOSTS, KEYS + HOSTS, None),
        (KEYS + HOSTS, HOSTS, "reh.unsigned"),
        (HOSTS + "h3 A 192.0.2.33\n", HOSTS, None),
        (
            HOSTS,
            HOSTS.replace("h2 A 10.77.20.2\n", ""),
            "reh.still-needed",
        ),  # what the roll call would say is not judged
    ],
)
def test_what_a_file_leaves_out_is_told_once_where_it_matters(
    run: Run, served: Served, before: str, after: str, code: str | None
) -> None:
    served.propose(before)
    served.load(*served.servers)
    served.propose(after, serial=10)
    done = run(*LOAD, "--only", "authority", "--json")
    own = [one["code"] for one in done.document["findings"] if one["code"].startswith("reh.")]
    assert own == ([code] if code else [])


def test_a_serial_that_no_secondary_waits_for_is_a_caution(run: Run, served: Served) -> None:
    text = (served.folder / "estate.toml").read_text(encoding="utf-8")
    (served.folder / "estate.toml").write_text(
        text.replace('servers = ["one", "two"]', 'servers = ["one"]'), encoding="utf-8"
    )
    served.propose(HOSTS + "h3 TXT x\n", serial=8)
    done = run(*LOAD, "--json")
    assert (done.status, codes(done)) == (0, {("reh.serial-kept", "pans.example.")})


def test_a_plan_of_what_changes_is_watched_and_proved_once_it_is_loaded(run: Run, served: Served) -> None:
    served.propose(HOSTS.replace("www CNAME h1", "www CNAME h2").replace("mail MX 10 h2\n", ""))
    assert run(*LOAD, "--write", "plan", "--quiet").status == 0
    assert "2 planned and not done" in run("compare", "--plan", "plan.jsonl").out
    served.load(*served.servers)
    assert run("settle", "--plan", "plan.jsonl", "--within", "30s").status == 0
    done = run("compare", "--plan", "plan.jsonl")
    assert (done.status, done.out.splitlines()[0]) == (
        0,
        "2 as planned, 0 planned and not done, 0 done and not planned.",
    )


def test_of_a_zone_that_was_not_seen_whole_nobody_says_that_nothing_vanishes(run: Run, served: Served) -> None:
    for server in served.servers:
        server.transfers = False
    served.propose(HOSTS)
    done = run(*LOAD)
    assert done.status == 3
    assert "nothing vanishes" not in done.out and "what vanishes could not be seen whole" in done.out
    served.propose(HOSTS.replace("h2 A 10.77.20.2\n", ""))
    assert "at least 1 record vanishes, and is still needed" in run(*LOAD).out


def test_records_of_a_list_are_rehearsed_as_if_they_were_registered(run: Run, served: Served) -> None:
    (served.folder / "new.csv").write_text("name,type,value\nh2,A,10.77.20.22\nh7,A,10.77.20.7\n", encoding="utf-8")
    wanted = {
        ("pair.no-pointer", "h2.pans.example."),
        ("pair.no-pointer", "h7.pans.example."),
        ("roll.different", "h2.pans.example."),
    }
    for handed_over in (True, False):  # a name that nobody expects is looked at all the same
        for server in served.servers:
            server.transfers = handed_over
        done = run("rehearse", "--records", "new.csv", "--json", *(("--transfer",) if handed_over else ()))
        assert (done.status, wanted <= codes(done)) == (1, True), handed_over
    served.propose(HOSTS.replace("h2 A 10.77.20.2", "h2 A 10.77.20.22\nh7 A 10.77.20.7"))
    served.load(*served.servers)
    for server in served.servers:
        server.transfers = True
    assert wanted <= codes(run("audit", "--transfer", "--json"))


def test_another_estate_judges_what_is_afterwards(run: Run, served: Served) -> None:
    text = (served.folder / "estate.toml").read_text(encoding="utf-8")
    (served.folder / "next.csv").write_text("name,type,value\nh1,A,10.77.20.1\nh3,A,10.77.20.3\n", encoding="utf-8")
    (served.folder / "next.toml").write_text(text.replace("hosts.csv", "next.csv"), encoding="utf-8")
    done = run("rehearse", "--new-estate", "next.toml", "--json")
    assert done.status == 1
    assert {one for one in codes(done) if one[1] == "h3.pans.example."} == {
        ("roll.missing-name", "h3.pans.example."),
        ("pair.no-address", "h3.pans.example."),
    }


def test_a_server_that_does_not_answer_now_is_not_known_to_be_sound_afterwards(run: Run, served: Served) -> None:
    served.servers[0].fault = Fault.SILENT
    (served.folder / "new.csv").write_text("name,type,value\nh3,TXT,new\n", encoding="utf-8")
    quick = ("--only", "rollcall", "--timeout", "1", "--tries", "2", "--json")
    done = run("rehearse", "--records", "new.csv", *quick)
    assert done.status == 3
    assert [one["name"] for one in done.document["findings"] if one["code"] == "reh.unverified"] == ["h3.pans.example."]
    served.propose(HOSTS)
    done = run(*LOAD, *quick)
    (row,) = done.document["rehearsal"]["zones"]
    assert (done.status, row["takes"], row["before"]) == (3, ["two"], "whole")
    assert row["unknown"] == ["one: no answer in time"]

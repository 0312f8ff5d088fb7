"""`salt-mirror audit`, `history` and `explain`: one run over everything, every form of report, hostile data through each."""

from __future__ import annotations

import csv
import io
import json
import re
import sqlite3
import subprocess
import sys
from datetime import datetime
from html.parser import HTMLParser
from itertools import pairwise
from pathlib import Path
from typing import Any

import jsonschema
import junitparser
import openpyxl
import pytest
from prometheus_client.openmetrics import parser as openmetrics

from salt_mirror.catalogue import catalogue, family_of
from salt_mirror.catalogue import families as code_families
from salt_mirror.checks import CHECKS
from salt_mirror.checks.audit.causes import with_causes
from salt_mirror.demo.world import gullmarsh, plantings
from salt_mirror.explaining import as_markdown
from salt_mirror.findings import Evidence, Finding
from salt_mirror.report.json import schema_file
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn
from support.estates import LABELS, PUBLISHED, Served
from support.program import PROGRAM, Run, begin, interrupt
from support.waiting import PATIENCE_S, until

World = tuple[Path, dict[str, StandIn]]
FORMS = {
    "json": "json",
    "csv": "csv",
    "xlsx": "xlsx",
    "junit": "xml",
    "markdown": "md",
    "openmetrics": "prom",
    "html": "html",
}
CHECKED = ("pairs", "rollcall", "authority", "services", "views", "resolvers")


def all_forms(folder: Path) -> list[str]:
    return [part for form, end in FORMS.items() for part in ("--report", f"{form}:{folder / f'report.{end}'}")]


@pytest.fixture(scope="module")
def audited(world: World, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, Any]]:
    """The demo's estate audited once, with a report in every form in the folder, and the report itself."""
    folder = tmp_path_factory.mktemp("audited")
    command = [
        str(PROGRAM),
        "audit",
        "--estate",
        str(world[0]),
        "--remedies",
        str(folder / "mend.zone"),
        *all_forms(folder),
    ]
    done = subprocess.run(command, cwd=folder, capture_output=True, encoding="utf-8", check=False)
    (folder / "out").write_text(done.stdout, encoding="utf-8")
    assert done.returncode == 1, done.stderr
    return folder, json.loads((folder / "report.json").read_text(encoding="utf-8"))


def test_an_audit_finds_what_the_single_checks_find_and_asks_nothing_twice(
    audited: tuple[Path, dict[str, Any]], demo: Run
) -> None:
    folder, report = audited
    planted = {(one["code"], one["name"]) for check in CHECKED for one in plantings()[check]}
    planted |= {(one["code"], one["name"]) for one in plantings()["mail"] if one["view"] == "public"}
    planted |= {
        (one["code"], one["name"])
        for one in plantings()["stale"]
        if not one["code"].startswith(("left.dangling", "left.unverified"))
    }
    assert planted == {(finding["code"], finding["name"]) for finding in report["findings"]}
    assert report["audit"]["saved"] > 100
    single = sum(demo(check, "--json").report["counts"]["questions"] for check in CHECKED)
    assert report["counts"]["questions"] < single
    out = (folder / "out").read_text(encoding="utf-8").splitlines()
    assert out[0] == "4 of 13 zones are sound; 50 faults, 11 cautions, 5 could not be verified."
    assert "more were saved, since several checks had them" in out[1]
    jsonschema.validate(report, json.loads(schema_file("report").read_text(encoding="utf-8")))


def test_every_form_says_the_same(audited: tuple[Path, dict[str, Any]]) -> None:
    folder, report = audited
    faults = [finding for finding in report["findings"] if finding["weight"] == "fault"]
    rows = list(csv.DictReader(io.StringIO((folder / "report.csv").read_text(encoding="utf-8"))))
    assert len(rows) == len(report["findings"]) and sum(row["weight"] == "fault" for row in rows) == len(faults)
    book = openpyxl.load_workbook(folder / "report.xlsx")
    assert book.sheetnames == ["Cover", "Findings", "Unverified", "Zones", "Changes"]
    tables = {sheet.title: list(sheet.iter_rows(values_only=True)) for sheet in book.worksheets}
    assert tables["Cover"][0][1] == (folder / "out").read_text(encoding="utf-8").splitlines()[0]
    assert sum(row[0] == "fault" for row in tables["Findings"]) == len(faults)
    assert len(tables["Findings"]) + len(tables["Unverified"]) == len(report["findings"]) + 2
    assert {row[:2] for row in tables["Zones"][1:]} == {
        (line["zone"], line["view"]) for line in report["audit"]["zones"]
    }
    remedies = {(one["view"], one["remedy"]) for one in report["findings"] if one["remedy"]}
    assert {(row[0], row[2]) for row in tables["Changes"][1:]} == remedies
    assert all(book[title].auto_filter.ref and book[title].freeze_panes == "A2" for title in book.sheetnames[1:])
    suites = junitparser.JUnitXml.fromfile(str(folder / "report.xml"))
    assert {suite.name for suite in suites} == {
        "pairs",
        "rollcall",
        "authority",
        "mail",
        "services",
        "views",
        "resolvers",
        "stale",
    }
    assert sum(suite.failures for suite in suites) == len(faults)
    assert sum(suite.skipped for suite in suites) == 5
    families = openmetrics.text_string_to_metric_families((folder / "report.prom").read_text(encoding="utf-8"))
    metrics = {family.name: family for family in families}
    lags = {sample.labels["server"]: sample.value for sample in metrics["saltmirror_serial_lag"].samples}
    assert lags == {"ns3.gullmarsh.example": 3}
    left = [sample.value for sample in metrics["saltmirror_signatures_remaining_seconds"].samples]
    assert min(left) < 0 < max(left) <= 14 * 86_400  # one zone's have ended, as it was planted
    weighed = [s for s in metrics["saltmirror_zone_findings"].samples if s.labels["weight"] == "fault"]
    assert sum(sample.value for sample in weighed) == sum(
        one["name"] != "." for one in faults
    )  # a resolver is of no zone
    buckets = [s.value for s in metrics["saltmirror_round_trip_seconds"].samples if s.name.endswith("_bucket")]
    assert buckets == sorted(buckets) and buckets[-1] > 1000
    markdown = (folder / "report.md").read_text(encoding="utf-8")
    assert (
        markdown.startswith("## 4 of 13 zones are sound")
        and f"### Faults: 39 things to mend, {len(faults)} findings" in markdown
    )
    mend = (folder / "mend.zone").read_text(encoding="utf-8")
    assert "; zone pans.gullmarsh.internal. in the view internal" in mend
    assert mend.index("; zone 10.77.10.in-addr.arpa.") < mend.index("\n13.10.77.10.in-addr.arpa. 3600 IN PTR rake-03.")


class Page(HTMLParser):
    """What a page consists of: its tags, what it asks for from elsewhere, and the headings in order."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.outside: list[str] = []
        self.headings: list[int] = []
        self.policy = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        found = dict(attrs)
        links = [value for key, value in attrs if key in ("src", "href", "action")]
        self.outside += [value for value in links if value and not value.startswith("#")]
        if found.get("http-equiv") == "Content-Security-Policy":
            self.policy = found.get("content") or ""
        if re.fullmatch(r"h\d", tag):
            self.headings.append(int(tag[1]))


def test_the_page_stands_by_itself_and_is_laid_out_for_every_reader(audited: tuple[Path, dict[str, Any]]) -> None:
    page = Page()
    page.feed((audited[0] / "report.html").read_text(encoding="utf-8"))
    assert "39 things to mend, 50 findings" in (audited[0] / "report.html").read_text(encoding="utf-8")
    assert page.outside == [] and page.tags.count("script") == 2
    assert page.policy.startswith("default-src 'none'; style-src 'sha256-") and "unsafe" not in page.policy
    assert page.headings[0] == 1 and all(b - a <= 1 or b >= 4 for a, b in pairwise(page.headings))
    assert page.tags.count("caption") == page.tags.count("table") and "main" in page.tags


def test_what_was_mended_is_gone_what_came_is_new_and_the_rest_stands(run: Run, tmp_path: Path) -> None:
    with gullmarsh(tmp_path / "world") as (estate, servers):
        call = ("audit", "--estate", str(estate), "--history", "audits.db", "--only", "authority", "--json")
        first = run(*call).report
        assert first["audit"]["history"]["before"] is None and first["audit"]["history"]["new"] == []
        ns1, ns3 = (servers[label].authority for label in ("ns1", "ns3"))
        (origin,) = [name for name in ns3.zones if name.to_text() == "gullmarsh.example."]
        ns3.hold(ns1.zones[origin])  # the provider's secondary has caught up
        servers["ns2"].fault = Fault.FAILING  # and another one has lost its zones
        second = run(*call).report["audit"]["history"]
        assert [finding["code"] for finding in second["gone"]] == ["auth.serial-behind"]
        assert {finding["code"] for finding in second["new"]} == {"auth.lame"}
        stood = {one["code"]: one["since"] for one in second["standing"]}
        assert stood["auth.glue-wrong"] == first["started"]
        out = run(*call[:-1]).out
        assert "0 new, 0 gone" in out
    runs = run("history", "audits.db")
    assert "3 runs." in runs.out and "+authority" in runs.out
    life = run("history", "audits.db", "auth.serial-behind")
    assert life.out.startswith("1 life of auth.serial-behind; 0 still standing.") and "gone at" in life.out


HEAD = "$TTL 300\n@ SOA ns1{zone} h{zone} 1 7200 1800 1209600 300\n@ NS ns1{zone}\n@ NS ns2{zone}\n"
SOUND = HEAD.format(zone="") + "ns1 A 192.0.2.1\nns2 A 198.51.100.2\nweb A 192.0.2.3\n"
BACK = HEAD.format(zone=".salt.invalid.") + "3 PTR web.salt.invalid.\n"


@pytest.fixture
def sound(served: Served, tmp_path: Path) -> list[StandIn]:
    """A small estate without a fault, on two servers."""
    servers = served.serve("salt.invalid", SOUND, SOUND)
    for server in servers:
        server.authority.hold(read_zone(BACK, "2.0.192.in-addr.arpa"))
    ports = {label: server.port for label, server in zip(LABELS, servers, strict=False)}
    reach = dict(zip(PUBLISHED, servers, strict=False))
    served.publish("salt.invalid", servers, "", reach, {"192.0.2.0/24": ports})
    estate = tmp_path / "estate.toml"
    text = estate.read_text(encoding="utf-8").replace('view = "public"', 'view = "inside"\nexpect = ["web.csv"]', 1)
    estate.write_text(text.replace('view = "public"', 'view = "inside"'), encoding="utf-8")
    (tmp_path / "web.csv").write_text("name,type,value\nweb,A,192.0.2.3\n", encoding="utf-8")
    return servers


def test_a_clean_estate_prints_three_lines(run: Run, sound: list[StandIn]) -> None:
    done = run("audit", "--skip", "auth.no-parent", "--skip", "mail", "--skip", "services")
    assert (done.status, len(done.out.splitlines())) == (0, 3), done.out
    assert done.out.startswith("Without mail, services: 2 of 2 zones looked at without a fault; no faults.")
    whole = run("audit", "--skip", "auth.no-parent")
    assert "mail: nothing to check" in whole.out and "services: nothing to check" in whole.out


def test_a_dead_server_is_one_cause_and_no_fault(run: Run, sound: list[StandIn]) -> None:
    sound[1].fault = Fault.SILENT
    done = run("audit", "--json", "--timeout", "0.3", "--tries", "2")
    causes = {f["cause"] for f in done.report["findings"] if f["outcome"] == "unverified"}
    assert done.status == 3 and len(causes) <= 2 and all("two" in cause for cause in causes)


def test_accepted_findings_are_counted_listed_and_come_back_when_their_day_is_over(
    run: Run, sound: list[StandIn], tmp_path: Path
) -> None:
    sound[1].authority.hold(read_zone(SOUND.replace("192.0.2.3", "192.0.2.4"), "salt.invalid"))
    plain = run("audit", "--json").report
    assert plain["outcome"] == "differs"
    estate = tmp_path / "estate.toml"
    before = estate.read_text(encoding="utf-8")
    accept = '[[accept]]\ncode = "*"\nname = "*salt.invalid"\nreason = "being moved"\n'
    unused = '[[accept]]\ncode = "pair.shared"\nreason = "old"\n'
    estate.write_text(f"{before}{accept}until = 2999-01-01\n{unused}", encoding="utf-8")
    done = run("audit", "--json", "--skip", "auth.no-parent")
    assert done.report["audit"]["accepted"] and {f["code"] for f in done.report["findings"]} == {"accept.unused"}
    assert done.status == 0
    assert "ACCEPTED" in run("audit", "--accepted").out
    estate.write_text(f"{before}{accept}until = 2020-01-01\n", encoding="utf-8")
    over = run("audit", "--json")
    assert over.status == 1 and "accept.expired" in {f["code"] for f in over.report["findings"]}
    estate.write_text(f'{before}[[accept]]\ncode = "x"\n', encoding="utf-8")
    assert 'the key "reason" is missing' in run("audit").err


def test_only_and_skip_take_checks_views_codes_and_zones(demo: Run) -> None:
    def codes(*words: str) -> set[str]:
        return {f["code"] for f in demo("audit", *words, "--json").report["findings"]}

    assert codes("--only", "mail") == {"mail.alias", "mail.missing-host", "mail.null", "pair.through-alias"}
    assert codes("--only", "auth.lame") == {"auth.lame"}
    assert codes("--only", "198.51.100.0/24", "--skip", "auth.no-parent") == {"auth.expire-short"}
    assert not codes("--only", "rollcall", "--skip", "internal")
    done = demo("audit", "--only", "rolcall")
    assert done.status == 2 and 'did you mean "rollcall"?' in done.err


def test_an_interrupted_audit_says_what_it_covers(world: World, tmp_path: Path) -> None:
    for server in world[1].values():
        server.delay_s = 0.4
    try:
        command = ["audit", "--estate", str(world[0]), "--report", "markdown:part.md", "--history", "part.db"]
        before = sum(server.asked for server in world[1].values())
        process = begin(*command, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        until(lambda: sum(server.asked for server in world[1].values()) > before + 100)
        interrupt(process)
        out, _ = process.communicate(timeout=PATIENCE_S)
    finally:
        for server in world[1].values():
            server.delay_s = 0.0
    assert process.returncode == 130 and out.startswith("Interrupted. So far: ")
    assert "interrupted: " in (tmp_path / "part.md").read_text(encoding="utf-8") and not (tmp_path / "part.db").exists()


@pytest.mark.skipif(sys.platform == "win32", reason="there are no limits on the size of files")
def test_a_full_disk_leaves_no_half_file(world: World, tmp_path: Path) -> None:
    (tmp_path / "report.html").write_text("before", encoding="utf-8")
    limit = f"import resource, os; resource.setrlimit(resource.RLIMIT_FSIZE, (4096, 4096)); os.execv({str(PROGRAM)!r}, "
    words = ["salt-mirror", "audit", "--only", "authority", "--estate", str(world[0])]
    words += ["--report", "html:report.html", "--report", "csv:r.csv"]
    command = [sys.executable, "-c", f"{limit}{words!r})"]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert "report.html cannot be written" in done.stderr
    assert done.stdout.startswith("Authority only, of 8 checks: 7 of 13 zones have a sound authority; 6 differ.")
    assert {path.name: path.read_text(encoding="utf-8") for path in tmp_path.iterdir()} == {"report.html": "before"}


def test_two_audits_at_once_are_kept_apart_and_what_is_no_history_is_refused(
    run: Run, sound: list[StandIn], tmp_path: Path
) -> None:
    sound[0].fault = Fault.SILENT  # so that the first one is still at work
    call = [str(PROGRAM), "audit", "--history", "h.db", "--timeout", "5"]
    first = subprocess.Popen(call, cwd=tmp_path, stdout=subprocess.DEVNULL)
    until(lambda: sound[0].asked)
    second = run("audit", "--history", "h.db")
    assert second.status == 2 and "another run is at work with h.db; this one is not begun" in second.err
    sound[0].fault = Fault.NONE
    assert first.wait(PATIENCE_S) in (0, 3)
    assert run("audit", "--history", "h.db").status == 0 and "2 runs." in run("history", "h.db").out
    (tmp_path / "no.db").write_text("this is no database, and never was one", encoding="utf-8")
    assert run("audit", "--history", "no.db").status == 2
    with sqlite3.connect(tmp_path / "h.db") as connection:
        connection.execute("PRAGMA user_version = 9")
    assert "version 9, expected 4" in run("audit", "--history", "h.db").err
    assert run("history", "none.db").status == 2
    assert 'did you mean "html:…"?' in run("audit", "--report", "htm:x").err


def test_metrics_have_the_names_that_the_page_has_and_say_since_when_a_server_has_its_serial(
    run: Run, sound: list[StandIn], tmp_path: Path
) -> None:
    call = ("audit", "--quiet", "--skip", "services", "--history", "h.db", "--report", "openmetrics:a.prom")
    began = [datetime.fromisoformat(run(*call[:1], *call[2:], "--json").report["started"]) for _ in range(2)]
    text = (tmp_path / "a.prom").read_text(encoding="utf-8")
    families = {family.name: family for family in openmetrics.text_string_to_metric_families(text)}
    assert all(name.endswith(f"_{family.unit}") for name, family in families.items() if family.unit)
    ages = families["saltmirror_zone_serial_age_seconds"].samples
    assert {sample.value for sample in ages} == {(began[1] - began[0]).total_seconds()}
    assert {sample.labels["server"] for sample in ages} == {"one", "two"}
    page = (Path(__file__).parents[2] / "docs" / "jobs" / "nightly.md").read_text(encoding="utf-8")
    assert set(re.findall(r"saltmirror_\w+", page)) - set(families) == set()


EVIL = r'"=cmd|calc" "<script>alert(1)</script>" "\027[2J\007\000" "&lt;|`*_"'
LONG = "x" * 63 + "." + "y" * 63 + "." + "z" * 40


def test_hostile_data_goes_through_every_form_harmlessly(run: Run, served: Served, tmp_path: Path) -> None:
    owner = r"\061\027\091<img\032src=x>.\=2+5"
    text = "$TTL 300\n@ SOA ns1 h 1 7200 1800 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\n"
    names = ("web", owner, LONG)
    served("salt.invalid", text + "".join(f"{name} TXT {EVIL}\n" for name in names), more='title = "=1+1 <b>Salt</b>"')
    estate = tmp_path / "estate.toml"
    expecting = estate.read_text(encoding="utf-8").replace('view = "public"', 'view = "public"\nexpect = ["x.zone"]')
    estate.write_text(expecting, encoding="utf-8")
    wanted = "".join(f'{name} TXT "harmless"\n' for name in names)
    (tmp_path / "x.zone").write_text(f"$TTL 300\n{wanted}", encoding="utf-8")
    done = run("audit", "--all", "--remedies", "mend.zone", *all_forms(tmp_path))
    lines = (tmp_path / "report.csv").read_text(encoding="utf-8").splitlines()
    assert done.status == 1 and sum("roll.different" in line for line in lines) == 3
    texts = {
        path.name: path.read_text(encoding="utf-8") for path in tmp_path.glob("report.*") if path.suffix != ".xlsx"
    }
    cells = [cell for sheet in openpyxl.load_workbook(tmp_path / "report.xlsx") for row in sheet for cell in row]
    texts["report.xlsx"] = "\n".join(str(cell.value) for cell in cells)
    assert not any(cell.data_type == "f" or cell.hyperlink for cell in cells)
    assert "=1+1 <b>Salt</b>" in texts["report.xlsx"] and all(
        cell.quotePrefix for cell in cells if str(cell.value).startswith(("=", "+", "-", "@"))
    )
    texts |= {"out": done.out, "mend.zone": (tmp_path / "mend.zone").read_text(encoding="utf-8")}
    assert len(texts) == 9
    for name, said in texts.items():
        assert not re.search(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]", said.replace("\r\n", "\n")), name
    html = texts["report.html"]
    assert "<img" not in html and "<script>alert" not in html and "&lt;script&gt;alert(1)&lt;/script&gt;" in html
    for row in csv.reader(io.StringIO(texts["report.csv"])):
        assert not any(cell.startswith(("=", "+", "-", "@")) for cell in row)
    assert "\\<script\\>" in texts["report.md"] and len(junitparser.JUnitXml.fromfile(str(tmp_path / "report.xml"))) > 0
    assert list(openmetrics.text_string_to_metric_families(texts["report.prom"]))
    assert LONG in html and json.loads(texts["report.json"])["title"] == "=1+1 <b>Salt</b>"


def test_every_code_has_its_texts_and_every_text_a_code(run: Run) -> None:
    assert {family_of(code) for code in catalogue()} == set(code_families())
    assert set(code_families()) == {family for check in CHECKS for family in check.codes}
    for code, entry in catalogue().items():
        assert entry.weight in ("fault", "caution", "note") and entry.title and entry.meaning, code
        assert entry.causes and entry.mend, code
    for code in ("auth.lame", "mail.unverified"):
        entry = catalogue()[code]
        said = run("explain", code).out
        assert said.startswith(f"{code}  {entry.weight}: {entry.title}") and entry.causes in said and entry.mend in said
    page = (Path(__file__).parents[2] / "docs" / "checks.md").read_text(encoding="utf-8")
    assert page == as_markdown(), "run tools/checks.py"
    everything = run("explain").out
    assert all(code in everything for code in catalogue())
    wrong = run("explain", "pair.no-pionter")
    assert wrong.status == 2 and 'did you mean "pair.no-pointer"?' in wrong.err


def finding(code: str, name: str, evidence: list[tuple[str, str]], outcome: str = "differs") -> Finding:
    found = [
        Evidence(
            server=server, endpoint="x", question=f"{name} A", status="NOERROR", authoritative=True, values=[value], ttl=1,
            rtt_ms=1,
        )
        for server, value in evidence
    ]  # fmt: skip
    return Finding(
        code=code, weight="fault", outcome=outcome, name=name, type="A", view="", expected=[], evidence=found, text=code  # type: ignore[arg-type]
    )  # fmt: skip


def test_a_secondary_that_lags_is_the_cause_of_what_disagrees_because_of_it() -> None:
    late = finding("auth.serial-behind", "salt.invalid.", [("two", "1"), ("one", "2")])
    shows = finding("roll.servers-disagree", "web.salt.invalid.", [("one", "192.0.2.1"), ("two", "192.0.2.2")])
    other = finding("roll.servers-disagree", "web.marsh.invalid.", [("one", "192.0.2.1"), ("two", "192.0.2.2")])
    causes = [one.cause for one in with_causes([late, shows, other])]
    assert causes == ["two has an old version of salt.invalid."] * 2 + [""]
    assert with_causes([shows])[0].cause == ""


@pytest.mark.parametrize(
    ("words", "first"),
    [
        (("--only", "mail"), "Mail only, of 8 checks: "),
        (("--only", "mail", "--only", "views"), "Mail, views only, of 8 checks: "),
        (("--skip", "stale"), "Without stale: "),
        (("--only", "public"), "In the view public only: "),
        ((), ""),
    ],
)
def test_a_headline_counts_what_was_looked_at(demo: Run, words: tuple[str, ...], first: str) -> None:
    said = demo("audit", *words).out.splitlines()[0]
    assert said.startswith(first), said
    assert ("domain" in said) == (words == ("--only", "mail"))
    assert ("sound" in said) == (first in ("", "In the view public only: ")), said


def test_an_audit_checks_what_it_has_in_hand_expected_or_not(run: Run, served: Served, tmp_path: Path) -> None:
    """After a whole transfer: an exchanger that is an alias, a service's host and an alias's target that do not exist, and a
    primary that nobody knows. Without it none of that was seen, and mail has nothing to check."""
    text = (
        "$TTL 300\n@ SOA nobody.pans.example. h 7 3600 600 86400 300\n@ NS ns\nns A 192.0.2.1\n"
        "@ MX 10 relay\nrelay CNAME ns\n_x._tcp SRV 0 0 80 gone\nold CNAME gone\n"
    )
    (server,) = served.serve("pans.example", text)
    estate = (
        '[[zones]]\nname = "pans.example"\nview = "inside"\nservers = ["one"]\n'
        f'[servers.one]\naddress = "{server.endpoint}"\n[reach]\n"192.0.2.1" = "{server.endpoint}"\n'
    )
    (tmp_path / "estate.toml").write_text(estate, encoding="utf-8")
    server.transfers = True
    done = run("audit", "--transfer", "--json")
    codes = {one["code"] for one in done.report["findings"]}
    assert {"mail.alias", "srv.missing-host", "left.dangling", "auth.primary-missing"} <= codes, codes
    assert not [line for line in done.report["audit"]["nothing"] if line.startswith(("mail", "services"))]
    server.transfers = False
    alone = run("audit", "--json")
    assert {one["code"] for one in alone.report["findings"]} & {
        "mail.alias",
        "srv.missing-host",
        "left.dangling",
    } == set()
    assert any(line.startswith("mail: nothing to check") for line in alone.report["audit"]["nothing"])

"""`salt-mirror ask`: the answer first, who said so, and why nothing came back."""

from __future__ import annotations

import json
import os
import re
import subprocess
from pathlib import Path

import pytest

from salt_mirror.checks.common.nearest import nearest
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import MX, TXT, rdata_from_text
from salt_mirror.report.terminal.answers import in_order
from salt_mirror.standin.server import Fault, StandIn
from support.estates import Served, lay_out
from support.program import PROGRAM, Outcome, Run
from support.realservers import nsd, unbound
from support.servers import ZONES
from support.waiting import PATIENCE_S, until

World = tuple[Path, dict[str, StandIn]]


@pytest.mark.parametrize(
    ("words", "status", "first_line"),
    [
        ("kiln-02 --at dc-north", 0, "kiln-02.pans.gullmarsh.internal.  A 10.77.20.12; AAAA 2001:db8:77:20::12"),
        ("kiln-02 28 --at dc-north", 0, "kiln-02.pans.gullmarsh.internal.  AAAA 2001:db8:77:20::12"),
        ("10.77.20.12 --at dc-north", 0, "10.77.20.12  PTR kiln-02.pans.gullmarsh.internal."),
        ("sluice A --at authoritative", 1,
         "sluice.pans.gullmarsh.internal.  A 10.77.10.22, 10.77.10.23, and the servers differ"),
        ("www.gullmarsh.example A --at ns1", 0, "www.gullmarsh.example.  A 192.0.2.10"),
        ("gullmarsh.example soa --at ns1", 0, "gullmarsh.example.  SOA serial 2026112304 of ns1.gullmarsh.example."),
        ("klin-02 --at dc-north", 1, "klin-02.pans.gullmarsh.internal.  does not exist"),
        ("kiln-02 TYPE15 --at dc-north", 1, "kiln-02.pans.gullmarsh.internal.  has no MX"),
        ("crane A --at 127.0.0.1:1", 3, "crane.pans.gullmarsh.internal.  A: no usable answer"),
        ("boiler TXT --at dc-north", 0, 'boiler.pans.gullmarsh.internal.  TXT "left over", "no network yet"'),
        ("crane --at dc-harbour", 3, "crane.pans.gullmarsh.internal.  A, AAAA: no usable answer"),
        ("crane A --at dc-harbour,dc-north", 3, "crane.pans.gullmarsh.internal.  A 10.77.30.11 (1 of 2 servers answered)"),
        ("kiln-03 --at dc-north", 0, "kiln-03.pans.gullmarsh.internal.  A 10.77.20.13; no AAAA"),
        ("kiln-02 A --at offices", 0, "kiln-02.pans.gullmarsh.internal.  A 10.77.20.12"),
        ("web A --suffix gullmarsh.example --at ns2", 0, "web.gullmarsh.example.  A 192.0.2.10"),
    ],
)  # fmt: skip
def test_the_first_line_is_the_answer(demo: Run, words: str, status: int, first_line: str) -> None:
    done = demo("ask", *words.split())
    assert (done.out.splitlines()[0], done.status) == (first_line, status)


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        ("klin-02 --at dc-north", "did you mean kiln-02.pans.gullmarsh.internal. or klin-07.pans.gullmarsh.internal.?"),
        ("kiln-07 --at dc-north", "why   the estate expects A 10.77.20.17 in the view internal ("),
        ("kiln-02 MX --at dc-north", "the name exists; it has A, AAAA"),
        (
            "web.gullmarsh.example MX --at ns1",
            "are at the apex of the zone, gullmarsh.example., not below it: 10 mail.",
        ),
        ("web.gullmarsh.example.gullmarsh.example --at ns1", "did you mean web.gullmarsh.example.?"),
        ("crane --at dc-harbour", "dc-harbour (127.0.0.1:"),
        ("nowhere.example --at ns1", "ns1 (127.0.0.1:"),
    ],
)
def test_nothing_is_explained(demo: Run, words: str, reason: str) -> None:
    done = demo("ask", *words.split(), "--view", "public" if "example" in words else "internal")
    assert reason in done.out
    assert done.status in (1, 3)


def test_several_servers_stand_side_by_side_with_what_differs_marked(demo: Run) -> None:
    out = demo("ask", "sluice", "A", "--at", "authoritative").out
    rows = [line for line in out.splitlines() if "10.77.10.2" in line][1:3]
    assert "why   the servers differ on A: dc-north: 10.77.10.22, 10.77.10.23; dc-kiln: 10.77.10.22" in out
    assert [("≠" in row, "other values" in row) for row in rows] == [(False, False), (True, True)]
    assert re.search(r"from dc-north \(127\.0\.0\.1:\d+\), authoritative, TTL 3600 s, \d+\.\d ms", out)


def test_forms_for_scripts_and_for_the_curious(demo: Run) -> None:
    def ask(*words: str) -> Outcome:
        return demo("ask", *words, "--at", "ns1")

    assert ask("www.gullmarsh.example", "A", "--brief").out == "192.0.2.10\n"
    detail = ask("www.gullmarsh.example", "A", "--bytes").out
    assert re.search(r"id \d+, NOERROR, flags QR AA, \d+ bytes udp", detail)
    assert "CNAME (5)  web.gullmarsh.example." in detail and "0000  " in detail
    assert "EDNS 0, payload 1232 bytes, no options" in detail
    soa = ask("gullmarsh.example", "SOA").out
    assert "mailbox             hostmaster@gullmarsh.example" in soa and "expire              1209600 s (14 d)" in soa
    (name,) = ask("www.gullmarsh.example", "A", "--json").report["names"]
    assert (name["answers"][0]["values"], name["answers"][0]["chain"]) == (["192.0.2.10"], ["web.gullmarsh.example."])
    every = ask("gullmarsh.example", "--every", "--brief").out.splitlines()
    assert "10 mail.gullmarsh.example." in every and len(every) == 8


def test_ten_thousand_names_on_standard_input_of_which_some_are_none(demo: Run, tmp_path: Path) -> None:
    lines = [b"kiln-0%d A" % (number % 6 + 1) for number in range(10_000)]
    bad = {
        17: b"bad..name", 40: b"\x00", 41: b"\xff\xfe", 42: b"a" * 70_000, 43: b"kiln-01 TYPE" + b"9" * 5000,
        5000: b"x" * 64, 9999: b"kiln-01 NONSENSE",
    }  # fmt: skip
    for number, line in bad.items():
        lines[number] = line
    (tmp_path / "names").write_bytes(b"\n".join(lines) + b"\n")
    with (tmp_path / "names").open("rb") as names:
        done = demo("ask", "-", "--brief", "--at", "dc-north", stdin=names)
    assert done.out.split() == [f"10.77.20.1{n % 6 + 1}" for n in range(10_000) if n not in bad]
    assert [line.split(": ")[1] for line in done.err.splitlines()] == [f"line {number + 1}" for number in bad]
    assert done.status == 2


def test_a_line_is_answered_before_the_next_one_is_typed(world: World) -> None:
    command = [str(PROGRAM), "ask", "-", "--brief", "--at", "dc-north", "--estate", str(world[0])]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdin is not None and process.stdout is not None
        for name, address in (("kiln-01 A", "10.77.20.11"), ("kiln-03 A", "10.77.20.13")):
            process.stdin.write(f"{name}\n")
            process.stdin.flush()
            assert process.stdout.readline().strip() == address
        process.stdin.close()
        assert process.wait(PATIENCE_S) == 0


def test_names_come_from_a_file_and_bad_arguments_are_told(run: Run, demo: Run, tmp_path: Path) -> None:
    (tmp_path / "empty").write_text("# nobody\n", encoding="utf-8")
    (tmp_path / "names").write_text("# the pans\nkiln-01 A\n\nkiln-03 A\n", encoding="utf-8")
    here = ("--at", "dc-north")
    assert demo("ask", "--names", "names", "--brief", *here).out.split() == ["10.77.20.11", "10.77.20.13"]
    for words, message in (
        (("--names", "gone"), "gone: cannot be read"),
        (("kiln-01", "TYPE99999"), "is no record type"),
        (("a..b",), "empty label"),
        (("kiln-01", "ANY"), "ANY is not asked as a question: servers trim"),
        (("kiln-01", "AXFR"), "AXFR is not asked as a question: a zone is taken whole by --transfer"),
        ((), "nothing to ask"),
        (("--names", "empty"), "nothing to ask"),
        (("kiln-01", "--suffix", "a..b"), "--suffix"),
    ):
        done = demo("ask", *words, *here)
        assert (done.status, message in done.err, "Traceback" in done.err) == (2, True, False)
    with (tmp_path / "empty").open("rb") as nothing:
        assert "nothing to ask" in demo("ask", "-", *here, stdin=nothing).err
    assert "no resolver that could be asked" in run("ask", "kiln-01.example").err


def two_zones(served: Served, here: str, there: str) -> StandIn:
    """Two servers, each with a zone of its own, in an estate that knows both; the second one."""
    head = "$TTL 300\n@ SOA ns h 1 7200 1800 1209600 300\n@ NS ns\n"
    (one,), (other,) = served.serve("ours.invalid", head + here), served.serve("there.invalid", head + there)
    served.publish("ours.invalid", [one], also={"there.invalid": {"there": other.port}})
    return other


def test_an_alias_that_leads_elsewhere_is_looked_up_there(run: Run, served: Served) -> None:
    other = two_zones(served, "www CNAME web.there.invalid.\n", "web A 192.0.2.80\n")
    call = ("ask", "www.ours.invalid", "A", "--at", "authoritative")
    done = run(*call)
    assert done.out.startswith("www.ours.invalid.  A 192.0.2.80\n") and done.status == 0
    assert "from one" in done.out and "its end by there" in done.out
    assert run(*call[:2], "MX", *call[3:]).out.startswith("www.ours.invalid.  has no MX\n")
    other.fault = Fault.REFUSING
    unknown = run(*call)
    first, *more = unknown.out.splitlines()
    assert first == "www.ours.invalid.  is an alias of web.there.invalid.; what A that has is not known"
    assert unknown.status == 3 and "there: answered REFUSED" in " ".join(more)


def test_a_circle_of_aliases_is_called_one(run: Run, served: Served) -> None:
    two_zones(served, "a CNAME b\nb CNAME a\nx CNAME y.there.invalid.\n", "y CNAME x.ours.invalid.\n")
    for name, chain in (
        ("a.ours.invalid", "a.ours.invalid. -> b.ours.invalid. -> a.ours.invalid."),
        ("x.ours.invalid", "x.ours.invalid. -> y.there.invalid. -> x.ours.invalid."),
    ):
        done = run("ask", name, "A", "--at", "authoritative")
        assert done.out.startswith(f"{name}.  is an alias that leads in a circle") and done.status == 1
        assert f"its aliases lead in a circle: {chain}" in done.out


def test_a_name_in_several_views_is_asked_in_each(demo: Run) -> None:
    call = ("ask", "gullmarsh.example", "SOA", "--at", "authoritative")
    heads = [line for line in demo(*call).out.splitlines() if line.startswith("gullmarsh.example.  [")]
    assert [head.split("  ")[1] for head in heads] == ["[internal]", "[public]"]
    assert [name["view"] for name in demo(*call, "--json").report["names"]] == ["internal", "public"]
    chosen = demo(*call, "--view", "public", "--json").report["names"]
    assert [name["view"] for name in chosen] == [""]


@pytest.mark.parametrize("way", ["authoritative", "chosen", "server", "resolver"])
def test_a_name_of_another_view_is_said_to_be_there(run: Run, served: Served, tmp_path: Path, way: str) -> None:
    apex = "@ 60 SOA ns h 1 2 3 4 5\n@ 60 NS ns\nns 60 A 192.0.2.1\n"
    (inside,) = served.serve("split.invalid", apex)
    (outside,) = served.serve(
        "split.invalid", apex + "shop 60 CNAME web\nweb 60 A 192.0.2.11\nbare 60 TXT x\nrue\\032 60 A 192.0.2.12\n"
    )
    (tmp_path / "estate.toml").write_text(
        "".join(
            f'[[zones]]\nname = "split.invalid"\nview = "{view}"\nservers = ["{view}"]\n'
            f'[servers.{view}]\naddress = "{one.endpoint}"\n'
            for view, one in (("internal", inside), ("public", outside))
        ),
        encoding="utf-8",
    )
    at = {
        "authoritative": ("--at", "authoritative"), "chosen": ("--at", "authoritative", "--view", "internal"),
        "server": ("--at", "internal"), "resolver": ("--at", inside.endpoint),
    }[way]  # fmt: skip
    done = {name: run("ask", f"{name}.split.invalid", "A", *at) for name in ("shop", "bare", "nothing", "rue\\ ")}
    told = way != "authoritative"  # there each view is asked, and says so itself
    heads = {name: one.out.splitlines()[0].partition("  ")[2] for name, one in done.items()}
    for name, has in (
        ("shop", "it has A 192.0.2.11"), ("rue\\ ", "it has A 192.0.2.12"), ("bare", "it exists, with nothing of this type"),
    ):  # fmt: skip
        assert heads[name] == (
            f"does not exist here; in the view public {has}" if told else "[internal]  does not exist"
        )
    assert "in the view" not in done["nothing"].out


def test_a_mailbox_that_is_the_root_is_no_crash(run: Run, served: Served) -> None:
    (server,) = served("salt.invalid", "@ 60 SOA ns . 1 2 3 4 5\n@ 60 NS ns\n")
    soa = run("ask", "salt.invalid", "SOA", "--at", server.endpoint)
    assert soa.status == 0 and "mailbox             ." in soa.out


@pytest.mark.real
def test_a_real_cache_shows_what_is_left_and_how_long_it_believes_a_no(run: Run, tmp_path: Path) -> None:
    with (
        nsd(tmp_path / "nsd", ZONES) as real,
        unbound(tmp_path / "unbound", {}, behind={"gullmarsh.example": real}) as cache,
    ):
        lay_out(tmp_path / "estate.toml", "gullmarsh.example", {"own": real.port})
        asked = ("ask", "web.gullmarsh.example", "A", "--at", f"127.0.0.1:{cache.port}")
        run(*asked)
        left: list[int] = []

        def counted_down() -> bool:
            match = re.search(r"from a cache, (\d+) s left of 300 s", run(*asked).out)
            assert match
            left.append(int(match[1]))
            return left[-1] < left[0]

        until(counted_down)
        assert 300 >= left[0] > left[-1] > 280
        gone = run("ask", "new.gullmarsh.example", "A", "--at", f"127.0.0.1:{cache.port}")
        assert gone.status == 1
        match = re.search(r"has this negative cache entry for another (\d) min", gone.out)
        assert match and match[1] in ("4", "5")
        side = json.loads(run(*asked[:-1], f"127.0.0.1:{cache.port},own", "--json").out)["names"][0]["answers"]
        assert [(one["authoritative"], one["whole_ttl"]) for one in side] == [(False, 300), (True, None)]


def test_the_nearest_names_are_those_with_the_fewest_slips() -> None:
    known = [from_text(f"{host}.pans.example") for host in ("kiln-02", "kiln-12", "rake-02", "klin-0", "weighbridge")]
    two = [from_text("kiln-02.pans.example"), from_text("klin-0.pans.example")]
    assert nearest(from_text("klin-02.pans.example"), known) == two
    assert nearest(from_text("wieghbridge.pans.example"), known) == [from_text("weighbridge.pans.example")]
    assert nearest(from_text("quay.pans.example"), known) == []


def test_a_zone_that_may_be_transferred_gives_the_names_that_nobody_listed(run: Run, world: World) -> None:
    unleased = world[0].with_name("unleased.toml")
    leases = world[0].read_text(encoding="utf-8").replace("leases = ", "# leases = ")
    unleased.write_text(leases, encoding="utf-8")
    words = ("ask", "klim-07", "--at", "dc-kiln", "--estate", str(unleased))
    assert "none that is near it" in run(*words).out
    assert "did you mean klin-07.pans.gullmarsh.internal.?" in run(*words[:-1], str(world[0])).out, "it was leased"
    world[1]["dc-north"].transfers = True
    try:
        assert "did you mean klin-07.pans.gullmarsh.internal.?" in run(*words).out
    finally:
        world[1]["dc-north"].transfers = False


def test_equal_preferences_are_marked_as_a_pool_and_texts_are_joined() -> None:
    mail = [rdata_from_text(MX, text) for text in ("20 c.example.", "10 b.example.", "10 a.example.")]
    pool = "one of a pool of 2"
    assert in_order(MX, sorted(mail)) == [("10 a.example.", pool), ("10 b.example.", pool), ("20 c.example.", "")]
    assert in_order(TXT, [rdata_from_text(TXT, '"two " "strings"')]) == [('"two strings"', "")]


def test_several_servers_stand_below_each_other_on_a_narrow_terminal(world: World) -> None:
    folder, _ = world
    more = {"COLUMNS": "46", "FORCE_COLOR": "1", "TERM": "xterm", "SALT_MIRROR_RESOLVERS": ""}
    done = subprocess.run(
        [str(PROGRAM), "ask", "sluice", "A", "--at", "authoritative"], cwd=folder.parent, text=True, capture_output=True,
        env=os.environ | more, check=False,
    )  # fmt: skip
    lines = re.sub(r"\x1b\[[0-9;]*m", "", done.stdout).splitlines()
    assert max(map(len, lines)) <= 46
    at = lines.index("         ≠ 10.77.10.23")
    assert [line.split()[0] for line in lines[at + 1 : at + 3]] == ["dc-north", "dc-kiln"]


def test_a_line_an_answer_is_for_programs_and_missing_names_keep_theirs(demo: Run) -> None:
    done = demo("ask", "kiln-02", "nobody-here", "A", "MX", "--at", "dc-north,dc-kiln", "--line")
    rows = [line.split("\t") for line in done.out.splitlines()]
    assert {len(row) for row in rows} == {6} and len(rows) == 8
    assert ["kiln-02.pans.gullmarsh.internal.", "A", "3600", "10.77.20.12", "dc-kiln", "NOERROR"] in rows
    assert {(row[1], row[3], row[5]) for row in rows if row[0].startswith("nobody-here")} == {
        ("A", "", "NXDOMAIN"), ("MX", "", "NXDOMAIN"),
    }  # fmt: skip
    assert {row[5] for row in rows if row[0].startswith("kiln") and row[1] == "MX"} == {"NODATA"}


@pytest.mark.parametrize(
    "words", [("--at", "dc-north", "--tcp"), ("--at", "tcp://dc-north"), ("--at", "authoritative", "--tcp")]
)
def test_what_is_asked_over_tcp_says_so(demo: Run, words: tuple[str, ...]) -> None:
    done = demo("ask", "kiln-02", "A", *words)
    assert done.status == 0 and "over TCP" in done.out and done.out.count("from ") == done.out.count("over TCP")


def test_a_network_is_no_name_and_names_come_from_a_pipe(demo: Run, tmp_path: Path) -> None:
    for typed in ("10.77.20.0/24", "10.77.20", "2001:db8:77::/64"):
        done = demo("ask", typed, "--at", "dc-north")
        assert done.status == 2 and "salt-mirror pairs" in done.err
    (tmp_path / "names").write_text("kiln-02\n\nkiln-04\n", encoding="utf-8")
    with (tmp_path / "names").open("rb") as names:
        done = demo("ask", "A", "--at", "dc-north", "--line", stdin=names)
    assert [line.split("\t")[3] for line in done.out.splitlines()] == ["10.77.20.12", "10.77.20.14"]

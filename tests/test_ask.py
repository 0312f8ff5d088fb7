"""`salt-mirror ask`: the answer first, who said so, and why nothing came back."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path

import pytest

from salt_mirror.checks.nearest import nearest
from salt_mirror.checks.wording import duration, mailbox
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import MX, TXT, rdata_from_text
from salt_mirror.report.terminal.answers import in_order
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support.program import PROGRAM, Run
from support.realservers import nsd, unbound
from support.servers import ZONES
from support.waiting import until

World = tuple[Path, dict[str, StandIn]]


@pytest.mark.parametrize(
    ("words", "status", "first_line"),
    [
        ("kiln-02 --at dc-north", 0, "kiln-02.pans.gullmarsh.internal.  A 10.77.20.12; AAAA 2001:db8:77:20::12"),
        ("kiln-02 28 --at dc-north", 0, "kiln-02.pans.gullmarsh.internal.  AAAA 2001:db8:77:20::12"),
        ("10.77.20.12 --at dc-north", 0, "10.77.20.12  PTR kiln-02.pans.gullmarsh.internal."),
        (
            "sluice A --at authoritative",
            1,
            "sluice.pans.gullmarsh.internal.  A 10.77.10.22, 10.77.10.23, and the servers differ",
        ),
        ("www.gullmarsh.example A --at ns1", 0, "www.gullmarsh.example.  A 192.0.2.10"),
        ("gullmarsh.example soa --at ns1", 0, "gullmarsh.example.  SOA serial 2026112304 of ns1.gullmarsh.example."),
        ("klin-02 --at dc-north", 1, "klin-02.pans.gullmarsh.internal.  does not exist"),
        ("kiln-02 TYPE15 --at dc-north", 1, "kiln-02.pans.gullmarsh.internal.  has no MX"),
        ("crane A --at 127.0.0.1:1", 3, "crane.pans.gullmarsh.internal.  A: no usable answer"),
        ("boiler TXT --at dc-north", 0, 'boiler.pans.gullmarsh.internal.  TXT "left over", "no network yet"'),
        ("crane --at dc-harbour", 3, "crane.pans.gullmarsh.internal.  A, AAAA: no usable answer"),
        (
            "crane A --at dc-harbour,dc-north",
            3,
            "crane.pans.gullmarsh.internal.  A 10.77.30.11 (1 of 2 servers answered)",
        ),
        ("kiln-03 --at dc-north", 0, "kiln-03.pans.gullmarsh.internal.  A 10.77.20.13; no AAAA"),
        ("kiln-02 A --at offices", 0, "kiln-02.pans.gullmarsh.internal.  A 10.77.20.12"),
        ("web A --suffix gullmarsh.example --at ns2", 0, "web.gullmarsh.example.  A 192.0.2.10"),
    ],
)
def test_the_first_line_is_the_answer(run: Run, world: World, words: str, status: int, first_line: str) -> None:
    done = run("ask", *words.split(), "--estate", str(world[0]))
    assert (done.out.splitlines()[0], done.status) == (first_line, status)


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        ("klin-02 --at dc-north", "did you mean kiln-02.pans.gullmarsh.internal.?"),
        ("kiln-02 MX --at dc-north", "the name exists; it has A, AAAA"),
        (
            "web.gullmarsh.example MX --at ns1",
            "stand at the apex of the zone, gullmarsh.example., not below it: 10 mail.",
        ),
        ("web.gullmarsh.example.gullmarsh.example --at ns1", "did you mean web.gullmarsh.example.?"),
        ("crane --at dc-harbour", "dc-harbour (127.0.0.1:"),
        ("nowhere.example --at ns1", "ns1 (127.0.0.1:"),
    ],
)
def test_nothing_is_explained(run: Run, world: World, words: str, reason: str) -> None:
    done = run(
        "ask", *words.split(), "--view", "public" if "example" in words else "internal", "--estate", str(world[0])
    )
    assert reason in done.out
    assert done.status in (1, 3)


def test_several_servers_stand_side_by_side_with_what_differs_marked(run: Run, world: World) -> None:
    out = run("ask", "sluice", "A", "--at", "authoritative", "--estate", str(world[0])).out
    rows = [line for line in out.splitlines() if "10.77.10.2" in line][1:3]
    assert "why   the servers differ on A: dc-north: 10.77.10.22, 10.77.10.23; dc-kiln: 10.77.10.22" in out
    assert [("≠" in row, "other values" in row) for row in rows] == [(False, False), (True, True)]
    assert re.search(r"said by dc-north \(127\.0\.0\.1:\d+\), authoritative, TTL 3600 s, \d+\.\d ms", out)


def test_forms_for_scripts_and_for_the_curious(run: Run, world: World) -> None:
    estate = ("--estate", str(world[0]), "--at", "ns1")
    assert run("ask", "www.gullmarsh.example", "A", "--brief", *estate).out == "192.0.2.10\n"
    detail = run("ask", "www.gullmarsh.example", "A", "--bytes", *estate).out
    assert re.search(r"id \d+, NOERROR, flags QR AA, \d+ bytes udp", detail)
    assert "CNAME (5)  web.gullmarsh.example." in detail and "0000  " in detail
    assert "EDNS 0, payload 1232 bytes, no options" in detail
    soa = run("ask", "gullmarsh.example", "SOA", *estate).out
    assert "mailbox             hostmaster@gullmarsh.example" in soa and "expire              1209600 s (14 d)" in soa
    (name,) = run("ask", "www.gullmarsh.example", "A", "--json", *estate).report["names"]
    assert (name["answers"][0]["values"], name["answers"][0]["chain"]) == (["192.0.2.10"], ["web.gullmarsh.example."])
    every = run("ask", "gullmarsh.example", "--every", "--brief", *estate).out.splitlines()
    assert "10 mail.gullmarsh.example." in every and len(every) == 8


def test_ten_thousand_names_on_standard_input_with_three_bad_lines(world: World, tmp_path: Path) -> None:
    lines = [f"kiln-0{number % 6 + 1} A" for number in range(10_000)]
    lines[17], lines[5000], lines[9999] = "bad..name", "x" * 64, "kiln-01 NONSENSE"
    command = [str(PROGRAM), "ask", "-", "--brief", "--at", "dc-north", "--estate", str(world[0])]
    done = subprocess.run(
        command, input="\n".join(lines) + "\n", capture_output=True, text=True, check=False, timeout=120
    )
    assert done.stdout.split() == [f"10.77.20.1{n % 6 + 1}" for n in range(10_000) if n not in (17, 5000, 9999)]
    assert [line.split(": ")[1] for line in done.stderr.splitlines()] == ["line 18", "line 5001", "line 10000"]
    assert done.returncode == 2


def test_a_line_is_answered_before_the_next_one_is_typed(world: World) -> None:
    command = [str(PROGRAM), "ask", "-", "--brief", "--at", "dc-north", "--estate", str(world[0])]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdin is not None and process.stdout is not None
        for name, address in (("kiln-01 A", "10.77.20.11"), ("kiln-03 A", "10.77.20.13")):
            process.stdin.write(f"{name}\n")
            process.stdin.flush()
            assert process.stdout.readline().strip() == address
        process.stdin.close()
        assert process.wait(10) == 0


def test_names_come_from_a_file_and_bad_arguments_are_told(run: Run, world: World, tmp_path: Path) -> None:
    (tmp_path / "empty").write_text("# nobody\n", encoding="utf-8")
    (tmp_path / "names").write_text("# the pans\nkiln-01 A\n\nkiln-03 A\n", encoding="utf-8")
    estate = ("--estate", str(world[0]), "--at", "dc-north")
    assert run("ask", "--names", "names", "--brief", *estate).out.split() == ["10.77.20.11", "10.77.20.13"]
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
        done = run("ask", *words, *estate)
        assert (done.status, message in done.err, "Traceback" in done.err) == (2, True, False)
    assert "no resolver that could be asked" in run("ask", "kiln-01.example").err


def two_zones(standins: StandIns, tmp_path: Path, here: str, there: str) -> tuple[StandIn, StandIn]:
    """Two servers, each with a zone of its own, in an estate that knows both."""
    head = "$TTL 300\n@ SOA ns h 1 7200 1800 1209600 300\n@ NS ns\n"
    one, other = (
        standins.add([read_zone(head + text, zone)])
        for zone, text in (("here.invalid", here), ("there.invalid", there))
    )
    text = "".join(
        f'[[zones]]\nname = "{label}.invalid"\nservers = ["{label}"]\n'
        f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
        for label, server in (("here", one), ("there", other))
    )
    (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
    return one, other


def test_an_alias_that_leads_elsewhere_is_looked_up_there(run: Run, standins: StandIns, tmp_path: Path) -> None:
    _, other = two_zones(standins, tmp_path, "www CNAME web.there.invalid.\n", "web A 192.0.2.80\n")
    call = ("ask", "www.here.invalid", "A", "--at", "authoritative")
    done = run(*call)
    assert done.out.startswith("www.here.invalid.  A 192.0.2.80\n") and done.status == 0
    assert "said by here" in done.out and "its end by there" in done.out
    assert run(*call[:2], "MX", *call[3:]).out.startswith("www.here.invalid.  has no MX\n")
    other.fault = Fault.REFUSING
    unknown = run(*call)
    first, *more = unknown.out.splitlines()
    assert first == "www.here.invalid.  is an alias of web.there.invalid.; what A that has is not known"
    assert unknown.status == 3 and "there: answered REFUSED" in " ".join(more)


def test_a_circle_of_aliases_is_called_one(run: Run, standins: StandIns, tmp_path: Path) -> None:
    two_zones(standins, tmp_path, "a CNAME b\nb CNAME a\nx CNAME y.there.invalid.\n", "y CNAME x.here.invalid.\n")
    for name, chain in (
        ("a.here.invalid", "a.here.invalid. -> b.here.invalid. -> a.here.invalid."),
        ("x.here.invalid", "x.here.invalid. -> y.there.invalid. -> x.here.invalid."),
    ):
        done = run("ask", name, "A", "--at", "authoritative")
        assert done.out.startswith(f"{name}.  is an alias that leads in a circle") and done.status == 1
        assert f"its aliases lead in a circle: {chain}" in done.out


def test_a_name_in_several_views_is_asked_in_each(run: Run, world: World) -> None:
    call = ("ask", "gullmarsh.example", "SOA", "--at", "authoritative", "--estate", str(world[0]))
    heads = [line for line in run(*call).out.splitlines() if line.startswith("gullmarsh.example.  [")]
    assert [head.split("  ")[1] for head in heads] == ["[internal]", "[public]"]
    assert [name["view"] for name in run(*call, "--json").report["names"]] == ["internal", "public"]
    chosen = run(*call, "--view", "public", "--json").report["names"]
    assert [name["view"] for name in chosen] == [""]


def test_a_mailbox_that_is_the_root_and_an_empty_input_are_no_crash(
    run: Run, standins: StandIns, world: World, tmp_path: Path
) -> None:
    server = standins.add([read_zone("@ 60 SOA ns . 1 2 3 4 5\n@ 60 NS ns\n", "salt.invalid")])
    soa = run("ask", "salt.invalid", "SOA", "--at", f"127.0.0.1:{server.port}")
    assert soa.status == 0 and "mailbox             ." in soa.out
    command = [str(PROGRAM), "ask", "-", "--at", "dc-north", "--estate", str(world[0])]
    empty = subprocess.run(command, input="", capture_output=True, text=True, check=False, timeout=60)
    assert (empty.returncode, "nothing to ask" in empty.stderr) == (2, True)


@pytest.mark.real
def test_a_real_cache_shows_what_is_left_and_how_long_it_believes_a_no(run: Run, tmp_path: Path) -> None:
    with (
        nsd(tmp_path / "nsd", ZONES) as real,
        unbound(tmp_path / "unbound", {}, behind={"gullmarsh.example": real}) as cache,
    ):
        estate = tmp_path / "estate.toml"
        estate.write_text(
            '[[zones]]\nname = "gullmarsh.example"\nservers = ["own"]\n'
            f'[servers.own]\naddress = "127.0.0.1"\nport = {real.port}\n',
            encoding="utf-8",
        )
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
        match = re.search(r'will believe this "no" for another (\d) min', gone.out)
        assert match and match[1] in ("4", "5")
        side = json.loads(run(*asked[:-1], f"127.0.0.1:{cache.port},own", "--json").out)["names"][0]["answers"]
        assert [(one["authoritative"], one["whole_ttl"]) for one in side] == [(False, 300), (True, None)]


def test_the_nearest_names_are_those_with_the_fewest_slips() -> None:
    known = [from_text(f"{host}.pans.example") for host in ("kiln-02", "kiln-12", "rake-02", "klin-0", "weighbridge")]
    assert nearest(from_text("klin-02.pans.example"), known) == [
        from_text("kiln-02.pans.example"),
        from_text("klin-0.pans.example"),
    ]
    assert nearest(from_text("wieghbridge.pans.example"), known) == [from_text("weighbridge.pans.example")]
    assert nearest(from_text("quay.pans.example"), known) == []


def test_a_zone_that_may_be_transferred_gives_the_names_that_nobody_listed(run: Run, world: World) -> None:
    words = ("ask", "klim-07", "--at", "dc-kiln", "--estate", str(world[0]))
    assert "none that is near it" in run(*words).out
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


def test_small_things_people_read() -> None:
    assert [duration(s) for s in (0, 59, 300, 7500, 90061, 1209600)] == [
        "0 s",
        "59 s",
        "5 min",
        "2 h 5 min",
        "1 d 1 h",
        "14 d",
    ]
    assert mailbox(from_text(r"host\.master.gullmarsh.example")) == "host.master@gullmarsh.example"

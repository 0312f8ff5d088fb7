"""`salt-mirror rollcall` and `expect`: the judgement on tables of answers, the program on the demo's world and real servers."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import dns.message
import dns.opcode
import dns.query
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.demo.world import plantings
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import ROOT, from_text
from salt_mirror.dns.questions import Answer
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.sources import contradictions, read_given, write_expectations
from salt_mirror.standin.server import StandIn
from support.estates import Served
from support.examples import examples
from support.program import PROGRAM, Outcome, Run
from support.realservers import bind_secondary, free_port, knot
from support.servers import HEAD, KEY
from support.tables import ADDRESS, HOST, NOW, REVERSE, Table, both, estate
from support.waiting import PATIENCE_S, until

World = tuple[Path, dict[str, StandIn]]
Told = dict[tuple[str, str, str], list[str] | str]
PANS = estate("pans.example", "10.77.20.0/24")


def called(text: str, told: Told, strangers: tuple[str, ...] = ()) -> list[tuple[str, str]]:
    """The code and outcome of every finding about expectations given as text."""
    roll = Roll(expected_sets(PANS, read_given(text, from_text("pans.example"))), Atlas(PANS))
    setting = Setting(NOW, transferred=[from_text(one) for one in strangers])
    carry_out(roll, setting, Runner(Table(told)))
    return [(finding.code, finding.text) for finding in roll.findings()]


def codes(text: str, told: Told) -> list[str]:
    return [code for code, _ in called(text, told)]


LINE = f"{HOST}. 300 A {ADDRESS}"


@pytest.mark.parametrize(
    ("told", "code"),
    [
        ({(HOST, "A"): [ADDRESS]}, None),
        ({}, "roll.missing-name"),
        ({(HOST, "TXT"): ['"x"']}, "roll.missing-type"),
        ({(HOST, "A"): ["10.77.20.9"]}, "roll.different"),
        ({(HOST, "A"): [ADDRESS, "10.77.20.9"]}, "roll.extra"),
        ({(HOST, "CNAME"): ["oven.pans.example"]}, "roll.alias"),
    ],
)
def test_each_way_of_not_being_as_expected_has_its_name(
    told: dict[tuple[str, str], list[str] | str], code: str | None
) -> None:
    assert codes(LINE, both(told)) == ([code] if code else [])


@pytest.mark.parametrize("status", ["timeout", "REFUSED", "SERVFAIL", "malformed"])
def test_a_server_without_an_answer_makes_nothing_missing(status: str) -> None:
    assert codes(LINE, both({(HOST, "A"): status})) == ["roll.unverified"]
    assert codes(LINE, {**both({(HOST, "A"): [ADDRESS]}), ("kiln", HOST, "A"): status}) == ["roll.unverified"]


def test_right_on_one_server_and_not_on_another_is_said_of_both() -> None:
    ((code, text),) = called(LINE, {**both({(HOST, "A"): [ADDRESS]}), ("kiln", HOST, "A"): "NXDOMAIN"})
    assert (code, text) == ("roll.servers-disagree", f"{HOST}. A: as expected on north; no such name on kiln.")


def test_presence_says_what_else_may_be_there() -> None:
    head = "name,type,value,presence,ttl\n"
    two = both({(HOST, "A"): [ADDRESS, "10.77.20.9"]})
    assert codes(f"{head}{HOST},A,{ADDRESS},present,\n", two) == []
    assert codes(f"{head}{HOST},A,{ADDRESS},exact,\n", two) == ["roll.extra"]
    assert codes(f"{head}{HOST},A,10.77.20.9,absent,\n", two) == ["roll.still-there"]
    assert codes(f"{head}{HOST},A,,absent,\n", two) == ["roll.still-there"]
    assert codes(f"{head}{HOST},A,10.77.20.8,absent,\n{HOST},A,{ADDRESS},,\n", two) == []
    assert codes(f"{head}{HOST},A,,absent,\n", both({})) == []
    assert codes(f"{head}{HOST},A,{ADDRESS},,900\n", two) == ["roll.other-ttl"]


@given(st.lists(st.sampled_from((*["right"] * 9, "gone", "other", "its TTL", "one server")), min_size=60, max_size=150))
@examples(25)
def test_of_many_sets_that_are_put_together_each_is_judged_by_itself_and_asked_for_once(kinds: list[str]) -> None:
    says = {"gone": "roll.missing-name", "other": "roll.different", "its TTL": "roll.other-ttl"}
    world = estate("pans.example", "h0.pans.example")
    digest = f"1 13 2 {'ab' * 32}"
    told: Told = {("kiln", "h0.pans.example", "DS"): [digest], ("north", "h0.pans.example", "DS"): [digest]}
    lines, wanted = [f"h0.pans.example. 300 DS {digest}\n"], dict[str, str]()
    for number, kind in enumerate(kinds, 1):
        host, address = f"h{number}.pans.example", f"10.77.20.{number}"
        lines.append(f"{host}. {900 if kind == 'its TTL' else 300} A {address}\n")
        if kind == "one server":
            told["north", host, "A"] = [address]
        elif kind != "gone":
            told |= both({(host, "A"): ["10.99.9.9" if kind == "other" else address]})
        if kind != "right":
            wanted[f"{host}."] = says.get(kind, "roll.servers-disagree")
    exchange = Table(told)
    roll = Roll(expected_sets(world, read_given("".join(lines), ROOT)), Atlas(world))
    carry_out(roll, Setting(NOW), Runner(exchange))
    assert {finding.name: finding.code for finding in roll.findings()} == wanted
    assert roll.counts()["agrees"] == len(lines) - len(wanted) + kinds.count("its TTL")
    assert len(exchange.asked) == len(set(exchange.asked))


def test_whoever_interrupts_a_long_roll_has_what_was_called_by_then_the_faults_too() -> None:
    class Stopped(Table):
        def collect(self, wait_s: float | None = None) -> list[Answer]:
            if len(self.asked) > 5000:
                raise KeyboardInterrupt
            return super().collect(wait_s)

    hosts = [f"h{number}.pans.example" for number in range(3000)]
    told = both({(host, "A"): [ADDRESS] for host in hosts if not host.startswith("h1")})
    roll = Roll(expected_sets(PANS, read_given("".join(f"{host}. A {ADDRESS}\n" for host in hosts), ROOT)), Atlas(PANS))
    with pytest.raises(KeyboardInterrupt):
        carry_out(roll, Setting(NOW), Runner(Stopped(told)))
    counts = roll.counts()
    assert roll.looked == counts.total() and 500 < roll.looked < 2500
    assert counts["agrees"] > 100 and counts["differs"] > 100


def test_a_wildcard_is_found_out_by_a_name_that_cannot_exist() -> None:
    class Wild(Table):
        def answer(self, question):  # type: ignore[no-untyped-def]
            host = from_text(HOST)
            return (
                super().answer(question)._replace(values=(bytes((10, 77, 20, 2)),), status="NOERROR", ttl=300)
                if (question.name.endswith(host[host[0] + 1 :]) and question.rdtype == 1)
                else super().answer(question)
            )

    roll = Roll(expected_sets(PANS, read_given(LINE, ROOT)), Atlas(PANS))
    carry_out(roll, Setting(NOW), Runner(Wild({})))
    assert [finding.code for finding in roll.findings()] == ["roll.wildcard"]


@pytest.mark.parametrize("screens", [True, False])
def test_where_the_name_beside_brings_no_answer_it_is_said_that_a_wildcard_is_not_ruled_out(screens: bool) -> None:
    hosts = [f"h{number}.pans.example" for number in range(3)]
    told = both({(host, "A"): [ADDRESS] for host in hosts}) | {("kiln", "nobody.pans.example", "A"): "timeout"}
    roll = Roll(expected_sets(PANS, read_given("".join(f"{host}. A {ADDRESS}\n" for host in hosts), ROOT)), Atlas(PANS))
    exchange = Table(told)
    carry_out(roll, Setting(NOW, stranger=b"nobody"), Runner(exchange, screens=screens))
    assert (roll.counts()["agrees"], list(roll.findings()), len(exchange.asked)) == (3, [], 8)
    (remark,) = roll.remarks
    assert remark.startswith("whether a wildcard answers for 3 record sets is not known: a server gave no answer for")
    assert remark.endswith("(h0.pans.example. A and 2 others)")


def test_a_host_under_a_mistyped_name_is_found_by_its_pointer_or_among_strangers() -> None:
    told = both({(REVERSE, "PTR"): ["klin-02.pans.example"], ("klin-02.pans.example", "A"): [ADDRESS]})
    ((_, text),) = called(LINE, told)
    assert text.endswith(f"{ADDRESS} is registered as klin-02.pans.example.")
    ((_, text),) = called(LINE, both({}), strangers=("klin-02.pans.example", "weighbridge.pans.example"))
    assert text.endswith("There is klin-02.pans.example., which are not expected.")


def test_many_records_that_lead_to_one_old_address_are_one_cause() -> None:
    hosts = [f"h{number}.pans.example" for number in range(4)]
    sets = expected_sets(PANS, read_given("".join(f"{host}. A 10.77.20.2\n" for host in hosts), ROOT))
    roll = Roll(sets, Atlas(PANS))
    olds: dict[tuple[str, str], list[str] | str] = {(host, "A"): ["10.77.10.5"] for host in hosts[:3]}
    told = both(olds | {(hosts[3], "A"): ["10.77.10.6"]})
    carry_out(roll, Setting(NOW), Runner(Table(told)))
    assert [finding.cause for finding in roll.findings()] == [
        "3 record sets lead to 10.77.10.5, and not to what is expected"
    ] * 3 + [""]


def test_every_planting_is_found_and_nothing_else(run: Run, world: World) -> None:
    done = run("rollcall", "--json", "--estate", str(world[0]))
    planted = {(one["code"], one["name"], one["type"]) for one in plantings()["rollcall"]}
    assert planted == {(f["code"], f["name"], f["type"]) for f in done.report["findings"]}
    only_where_asked_for = {"roll.unexpected", "roll.not-allowed", "roll.contradiction"}
    called = {code for code in catalogue() if code.startswith("roll.")} - only_where_asked_for
    assert {code for code, *_ in planted} == called
    assert done.status == 1
    assert done.report["findings"][0]["code"] == "roll.servers-disagree"


def test_the_choice_of_records_and_the_remedies_file(run: Run, world: World, tmp_path: Path) -> None:
    estate_file = ("--estate", str(world[0]))
    assert run("rollcall", "--name", "rake-0?", "--types", "A,AAAA", *estate_file).out.splitlines()[0] == (
        "8 of 9 record sets are as expected; 1 differs."
    )
    assert run("rollcall", "--zone", "gullmarsh.example", "--view", "public", *estate_file).status == 0
    done = run("rollcall", "--types", "SRV", "--remedies", "mend.zone", *estate_file)
    assert "cause   3 record sets lead to dc-north.pans.gullmarsh.internal., and not to what is expected" in done.out
    fixed = read_given((tmp_path / "mend.zone").read_text(encoding="utf-8"), ROOT)
    assert sorted(one.rdata[4:6] for one in fixed) == [b"\x00\x7b", b"\x02\x02", b"\x02\x77"]
    assert run("rollcall", "--name", "nothing-*", *estate_file).status == 2
    (tmp_path / "short.csv").write_text("name,type,value\nkiln-03,A,10.77.20.13\n", encoding="utf-8")
    assert run("rollcall", "short.csv", *estate_file).out.startswith("1 of 1 record set is as expected.")
    assert run("rollcall", "--types", "A,B", *estate_file).status == 2
    assert not (tmp_path / ".mend.zone.new").exists()


def test_a_controllers_list_is_read_as_it_is_and_a_damaged_line_hides_nothing(world: World) -> None:
    listed = (
        "_ntp._udp.pans.gullmarsh.internal. 600 IN SRV 0 0 123 dc-north.pans.gullmarsh.internal.\n"
        "this line is damaged\n"
        "kiln-03.pans.gullmarsh.internal. 3600 IN A 10.77.20.13\n"
        "web.gullmarsh.example. 3600 IN A 10.77.10.80\n"
    )
    command = [str(PROGRAM), "rollcall", "-", "--view", "internal", "--json", "--estate", str(world[0])]
    done = subprocess.run(command, input=listed, capture_output=True, text=True, check=False)
    report = json.loads(done.stdout)
    assert [(f["code"], f["name"]) for f in report["findings"]] == [
        ("roll.other-ttl", "_ntp._udp.pans.gullmarsh.internal.")
    ]
    assert (report["counts"]["agrees"], done.returncode) == (3, 0)
    assert "left out: standard input, line 2: " in report["remarks"][0]


def test_what_one_controller_writes_down_is_its_part_of_the_sets(run: Run, world: World, tmp_path: Path) -> None:
    """Its locators all lead to it; those of the other controllers stand beside them, and nobody offers to remove them."""
    of = {"ldap": 389, "kerberos": 88}
    lines = [
        f"_{name}._tcp.pans.gullmarsh.internal. 600 IN SRV 0 100 {port} dc-north.pans.gullmarsh.internal."
        for name, port in of.items()
    ]
    lines.append(
        "_ldap._tcp.north-pans._sites.pans.gullmarsh.internal. 600 IN SRV 0 100 389 dc-north.pans.gullmarsh.internal."
    )
    (tmp_path / "own.txt").write_text("\n".join(lines) + "\n", encoding="utf-8")
    command = ("rollcall", "--records", "own.txt", "--view", "internal", "--estate", str(world[0]))
    done = run(*command)
    assert done.status == 0 and done.out.startswith("3 of 3 record sets are as expected."), done.out
    # Of two controllers, or with the SOA of a zone, the sets are whole: then what else is there is too much.
    other = "_gc._tcp.pans.gullmarsh.internal. 600 IN SRV 0 100 3268 dc-kiln.pans.gullmarsh.internal."
    (tmp_path / "own.txt").write_text("\n".join([*lines, other]) + "\n", encoding="utf-8")
    assert "additional values" in run(*command).out


@pytest.mark.real
def test_a_secondary_that_could_not_transfer_is_named_until_it_has(run: Run, tmp_path: Path) -> None:
    before = {"gullmarsh.example": HEAD + "ns1 A 192.0.2.1\npress A 192.0.2.7\n"}
    after = {
        "gullmarsh.example": before["gullmarsh.example"].replace(" 7 3600", " 8 3600").replace("192.0.2.7", "192.0.2.8")
    }
    (tmp_path / "expected.zone").write_text("press.gullmarsh.example. 300 A 192.0.2.8\n", encoding="utf-8")
    port = free_port()

    def call(primary: int, secondary: int, *more: str) -> Outcome:
        text = '[[zones]]\nname = "gullmarsh.example"\nservers = ["knot", "bind"]\n'
        text += f'[servers.knot]\naddress = "127.0.0.1"\nport = {primary}\n'
        text += f'[servers.bind]\naddress = "127.0.0.1"\nport = {secondary}\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        return run("rollcall", *more, "--json")

    with (
        knot(tmp_path / "old", before, key=KEY, port=port, generous=True) as primary,
        bind_secondary(tmp_path / "bind", "gullmarsh.example", primary),
    ):
        pass
    with (
        knot(tmp_path / "closed", after, key=KEY, port=port) as primary,
        bind_secondary(tmp_path / "bind", "gullmarsh.example", primary) as secondary,
    ):
        done = call(primary.port, secondary.port, "expected.zone")
        (finding,) = done.report["findings"]
        assert (done.status, finding["code"], finding["name"]) == (
            1,
            "roll.servers-disagree",
            "press.gullmarsh.example.",
        )
        assert finding["remedy"] == "; let bind transfer the zone from its primary"
        assert finding["text"] == "press.gullmarsh.example. A: as expected on knot; other values on bind."
        assert {e["server"]: e["values"] for e in finding["evidence"]} == {"knot": ["192.0.2.8"], "bind": ["192.0.2.7"]}
    with (
        knot(tmp_path / "open", after, key=KEY, port=port, generous=True) as primary,
        bind_secondary(tmp_path / "bind", "gullmarsh.example", primary) as secondary,
    ):
        notify = dns.message.make_query("gullmarsh.example", "SOA")
        notify.set_opcode(dns.opcode.NOTIFY)
        dns.query.udp(notify, secondary.host, port=secondary.port, timeout=PATIENCE_S)
        until(lambda: call(primary.port, secondary.port, "expected.zone").status == 0)
        measured = call(primary.port, secondary.port, "--as-held-by", "knot")
        assert (measured.status, measured.report["counts"]["agrees"]) == (0, 3)


GIVEN = """{"name": "kiln-02.pans.example", "type": "A", "value": "10.77.20.2", "ttl": 300, "lifetime": "dynamic"}
{"name": "old.pans.example.", "type": "A", "presence": "absent", "note": "sold, with \\"love\\""}
{"name": "pans.example", "type": "MX", "value": "10 mail.pans.example.", "presence": "exact", "owner": "post"}
"""


def test_one_form_of_expectations_becomes_another_without_loss() -> None:
    first = read_given(GIVEN, ROOT)
    for form in ("csv", "jsonl"):
        again = read_given(write_expectations(first, form), ROOT)
        assert [(e.name, e.rdtype, e.rdata, e.ttl, e.presence, e.lifetime, e.owner, e.note) for e in again] == [
            (e.name, e.rdtype, e.rdata, e.ttl, e.presence, e.lifetime, e.owner, e.note) for e in first
        ]
    assert write_expectations(first, "zone").splitlines() == [
        "kiln-02.pans.example. 300 IN A 10.77.20.2",
        "; absent: old.pans.example. IN A",
        "pans.example. IN MX 10 mail.pans.example.",
    ]


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ("a.x,A,192.0.2.1\na.x,A,192.0.2.1\n", "a.x. A 192.0.2.1 is there twice"),
        ("a.x,CNAME,b.x\na.x,A,192.0.2.1\n", "is an alias and has other data too"),
        ("a.x,CNAME,b.x\na.x,CNAME,c.x\n", "two aliases at one name"),
        ("x.y,SOA,n.x. h.x. 1 2 3 4 5\nx.y,SOA,n.x. h.x. 2 2 3 4 5\n", "two SOA at one name"),
    ],
)
def test_duplicates_and_contradictions_are_reported(run: Run, tmp_path: Path, lines: str, said: str) -> None:
    (tmp_path / "list.csv").write_text(f"name,type,value\n{lines}", encoding="utf-8")
    done = run("expect", "list.csv", "--to", "jsonl")
    assert (done.status, said in done.err, len(done.out.splitlines())) == (1, True, 2)


def test_a_record_there_and_absent_at_once_is_a_contradiction_and_bad_cells_are_named() -> None:
    head = "name,type,value,presence\n"
    assert (
        "expected and absent at once" in contradictions(read_given(f"{head}a.x,A,192.0.2.1,\na.x,A,,absent\n", ROOT))[0]
    )
    both_ways = read_given(f"{head}a.x,A,192.0.2.1,\na.x,A,192.0.2.1,absent\n", ROOT)
    assert "expected and absent at once" in contradictions(both_ways)[0]
    assert contradictions(read_given(f"{head}a.x,A,192.0.2.1,\na.x,A,192.0.2.2,absent\n", ROOT)) == []
    for text, message in (
        (f"{head}a.x,A,192.0.2.1,maybe\n", 'line 2: "maybe" is no presence'),
        ('{"name": "a.x", "type": "A", "valu": "x"}\n', "line 1: .*valu"),
        ('{"name": "a.x", "type": "A", "value": "192.0.2.1"}\n{"name"\n', "line 2: "),
    ):
        with pytest.raises(BadInput, match=message):
            read_given(text, ROOT)


def test_a_row_that_cannot_be_used_stops_nothing_and_what_it_is_about_is_unverified(
    run: Run, served: Served, tmp_path: Path
) -> None:
    """The zone is closed, and a server has what the bad rows may have meant: nothing of that is accused, removed or planned."""
    server = served(
        "salt.example", "$TTL 300\n@ SOA ns h 7 3600 600 1209600 300\n@ NS ns\nns A 127.0.0.1\n"
        "kiln A 10.77.20.1\nrake A 10.77.20.2\npress A 10.77.20.3\n",
        listed=1, more="",
    )[0]  # fmt: skip
    server.transfers = True
    estate = tmp_path / "estate.toml"
    estate.write_text(
        estate.read_text(encoding="utf-8").replace(
            'servers = ["one"]',
            'servers = ["one"]\nexpect = ["hosts.csv", "more.jsonl"]\nclosed = true\ntransfer = true',
        ),
        encoding="utf-8",
    )
    rows = [f"bad-{number},A,spare" for number in range(12)]
    table = ["name,type,value", "ns,A,127.0.0.1", "kiln,A,10.77.20.1", "rake,A,dhcp", ",A,10.77.20.9", *rows]
    (tmp_path / "hosts.csv").write_text("\n".join(table) + "\n", encoding="utf-8")
    (tmp_path / "more.jsonl").write_text('{"name": "press", "type": "A", "value": "10.77.20.300"}\n', encoding="utf-8")

    called = run("rollcall", "--json")
    assert called.status == 3
    assert {one["code"] for one in called.report["findings"] if one["weight"] != "note"} <= {"roll.unverified"}
    unverified = {one["name"] for one in called.report["findings"] if one["outcome"] == "unverified"}
    assert unverified == {f"{label}.salt.example." for label in ("rake", "press", *(f"bad-{n}" for n in range(12)))}
    said = [remark for remark in called.report["remarks"] if remark.startswith("left out: ")]
    assert (
        len(said) == 11
        and said[0].startswith("left out: hosts.csv, line 4: ")
        and said[-1].startswith("left out: 5 more")
    )
    assert run("ask", "rake", "--at", "one").status == 0
    assert run("pairs", "rake").status == 3
    assert "rake.salt.example." not in {one["name"] for one in run("stale", "--json").report["findings"]}
    planned = run("mend", "rake", "press", "--json")
    assert planned.status == 3 and planned.report["plan"]["changes"] == []
    refused = run("rollcall", "--strict")
    assert refused.status == 2 and "hosts.csv, line 4" in refused.err and "--strict" in refused.err


def test_a_plan_over_servers_that_do_not_answer_says_that_nothing_could_be_verified(run: Run, tmp_path: Path) -> None:
    (tmp_path / "hosts.csv").write_text("name,type,value\nkiln,A,10.77.20.1\n", encoding="utf-8")
    zone = '[[zones]]\nname = "salt.example"\nservers = ["one"]\nexpect = ["hosts.csv"]\n'
    (tmp_path / "estate.toml").write_text(f'{zone}[servers.one]\naddress = "127.0.0.1:1"\n', encoding="utf-8")
    done = run("mend", "--tries", "1", "--timeout", "0.05")
    assert done.status == 3 and done.out.startswith("Nothing that could be verified differs; ")

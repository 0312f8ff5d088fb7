"""Two servers' whole zones against each other: random zones against an obvious judge, real servers, and one that hands nothing
over."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.differ.judging import Differing, TwoZones
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Key
from salt_mirror.dns.records import Record, rdata_from_text, type_from_text, type_text
from salt_mirror.estate.model import Estate
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support.estates import Served, found
from support.examples import examples
from support.program import Run
from support.realservers import knot, nsd, secret_text
from support.tables import KILN, NORTH, NOW, Table

ZONE = "pans.example"
APEX = from_text(ZONE)
SOA = f"ns.{ZONE}. h.{ZONE}. 8 3600 600 1209600 300"
VALUES = {"A": ["192.0.2.1", "192.0.2.2"], "TXT": ['"one"', '"two"']}
RECORDS = st.dictionaries(
    st.tuples(st.sampled_from(["a", "b", "c.d"]), st.sampled_from(["A", "TXT"])),
    st.tuples(st.sampled_from([300, 600]), st.frozensets(st.integers(0, 1), min_size=1)),
    max_size=5,
)
Zone = dict[tuple[str, str], tuple[int, frozenset[int]]]


def holding_of(zone: Zone) -> Holding:
    records = [Record(APEX, 6, 300, rdata_from_text(6, SOA))]
    for (label, kind), (ttl, values) in zone.items():
        rdtype = type_from_text(kind)
        texts = [VALUES[kind][value] for value in values]
        records += [Record(from_text(label, APEX), rdtype, ttl, rdata_from_text(rdtype, text)) for text in texts]
    return Holding(APEX, records)


@examples(200)
@given(RECORDS, RECORDS, st.booleans())
def test_every_difference_is_told_and_nothing_else(one: Zone, another: Zone, hands_over: bool) -> None:
    held = {NORTH: holding_of(one)} | ({KILN: holding_of(another)} if hands_over else {})
    told: dict[tuple[str, str, str], list[str] | str] = {(label, ZONE, "SOA"): [SOA] for label in ("north", "kiln")}
    for (label, kind), (_, values) in another.items():
        told["kiln", f"{label}.{ZONE}", kind] = [VALUES[kind][value] for value in values]
    part = Differing([TwoZones(APEX, "", (NORTH, KILN))], Atlas(Estate()))
    setting = Setting(NOW, lambda server, _: held.get(server))
    carry_out(part, setting, Runner(Table(told)))
    said = {(one.code, one.name, one.type) for one in part.findings()}
    wanted = set() if hands_over else {("diff.unverified", f"{ZONE}.", "SOA")}
    for label, kind in {*one, *another}:
        key, left, right = (f"{label}.{ZONE}.", kind), one.get((label, kind)), another.get((label, kind))
        if left is None or right is None:
            if left is not None or hands_over:  # what only the one that hands nothing over has is not seen
                wanted.add(("diff.only", *key))
        elif left[1] != right[1]:
            wanted.add(("diff.other", *key))
        elif left[0] != (right[0] if hands_over else 300):  # the table answers single questions with a TTL of 300 s
            wanted.add(("diff.ttl", *key))
    assert said == wanted
    differ = {(to_text(one.name), type_text(one.rdtype)) for one in part.verdicts() if one.outcome == "differs"}
    assert differ == {(name, kind) for code, name, kind in wanted if code in ("diff.only", "diff.other")}


HEAD = "$TTL 300\n@ SOA ns h {serial} 3600 600 1209600 {negative}\n@ NS ns\nns A 192.0.2.1\n"


def test_two_real_servers_are_compared_whole(run: Run, tmp_path: Path) -> None:
    key = Key(from_text("mirror.test"), "hmac-sha256", b"salt" * 8)
    (tmp_path / "mirror.key").write_text(secret_text(key), encoding="utf-8")
    hosts = "".join(f"h{number} A 10.88.{number // 250}.{number % 250 + 1}\n" for number in range(3000))
    one = HEAD.format(serial=7, negative=300) + hosts + "only-here TXT one\nboth A 192.0.2.7\n"
    another = HEAD.format(serial=8, negative=300) + hosts.replace("h2999 A", "h3000 A") + "both A 192.0.2.8\n"
    with (
        nsd(tmp_path / "nsd", {ZONE: one}, provide="127.0.0.1 NOKEY") as first,
        knot(tmp_path / "knot", {ZONE: another}, key=key) as second,
    ):
        (tmp_path / "estate.toml").write_text(
            f'[[zones]]\nname = "{ZONE}"\nservers = ["one", "two"]\n[keys."mirror.test"]\nsecret_file = "mirror.key"\n'
            f'[servers.one]\naddress = "{first.endpoint}"\n[servers.two]\naddress = "{second.endpoint}"\nkey = "mirror.test"\n',
            encoding="utf-8",
        )
        done = run("differ", "one", "two", "--json")
        report = done.report
        assert done.status == 1 and (report["counts"]["differs"], report["counts"]["agrees"]) == (4, 3001)
        assert {(finding["code"], finding["name"].partition(".")[0]) for finding in report["findings"]} == {
            *(("diff.only", label) for label in ("h2999", "h3000", "only-here")), ("diff.other", "both"),
            ("diff.serial", "pans"),
        }  # fmt: skip
        serial = next(one for one in report["findings"] if one["code"] == "diff.serial")
        assert "has serial 7 on one and 8 on two: one is behind" in serial["text"]
        assert run("differ", "one", "two", "--types", "NS").status == 0
        everything = run("differ", "one", "two", "--all").out
        assert everything.count("\n") > 3001 and "h17.pans.example." in everything


def test_one_serial_and_two_contents_of_the_soa_differ(run: Run, served: Served) -> None:
    for server in served(ZONE, HEAD.format(serial=7, negative=300), HEAD.format(serial=7, negative=60)):
        server.transfers = True
    done = run("differ", "one", "two", "--json")
    assert done.status == 1 and found(done) == ["diff.other"]
    assert "1209600 300 on one, and" in done.report["findings"][0]["text"]


def test_what_signers_make_is_told_once_and_is_no_difference(run: Run, served: Served) -> None:
    text = HEAD.format(serial=7, negative=300)
    for server in served(ZONE, text + "@ NSEC ns NS SOA\nns NSEC @ A\n", text + "@ NSEC ns NS SOA NSEC\n"):
        server.transfers = True
    done = run("differ", "one", "two", "--json")
    assert done.status == 0 and found(done) == ["diff.signed"]
    assert "differs in 2 record sets that signers generate" in done.report["findings"][0]["text"]


def test_what_signers_make_is_content_for_no_check(run: Run, served: Served) -> None:
    key = "@ DNSKEY 257 3 13 " + "{0}" * 20 + "AAAAAA==\n"
    own = "a RRSIG A 13 3 300 20301231000000 20201231000000 {} pans.example. c2FsdA==\n@ NSEC {} NS SOA\n"

    def signed(tag: int, following: str, salt: str) -> str:
        plain = HEAD.format(serial=7, negative=300) + "a A 192.0.2.7\n"
        return plain + own.format(tag, following) + key.format(salt)

    servers = served(ZONE, signed(1, "a", "AAAA"), signed(2, "b", "BBBB"), listed=2)
    for server in servers:
        server.transfers = True
    assert "auth.same-serial" not in run("authority", "--transfer", "--json").out
    called = run("rollcall", "--as-held-by", "one", "--json").report
    assert {subject["type"] for subject in called["subjects"]} == {"NS", "A"} and called["findings"] == []
    assert run("snapshot", "one.jsonl", "--transfer").status == 0
    servers[0].authority.hold(read_zone(signed(3, "c", "CCCC"), ZONE))
    assert run("compare", "one.jsonl", "--json", "--transfer").report["findings"] == []


def test_a_child_zone_in_hand_stays_when_its_parent_is_refused(run: Run, served: Served, standins: StandIns) -> None:
    text = HEAD.format(serial=7, negative=300)
    below = standins.add([read_zone(text + "deep A 192.0.2.9\n", f"sub.{ZONE}")])
    below.transfers = True
    below.authority.hold(read_zone(text, ZONE))
    respond = below.responses

    def refuses_the_parent(wire: bytes, source: str = "") -> Iterator[bytes]:
        refused = b"\x04pans\x07example\0\0\xfc" in wire and b"\x03sub" not in wire
        below.transfers = not refused
        yield from respond(wire)

    below.responses = refuses_the_parent  # type: ignore[method-assign]
    served(ZONE, text, listed=1, also={f"sub.{ZONE}": {"below": below.port}})
    report = run("rollcall", "--as-held-by", "below", "--json").report
    assert f"deep.sub.{ZONE}." in {subject["name"] for subject in report["subjects"]}


def test_a_server_that_hands_nothing_over_is_asked_and_accuses_nobody(run: Run, served: Served) -> None:
    text = HEAD.format(serial=7, negative=300)
    one, two = served(ZONE, text + "a A 192.0.2.7\n", text + "a A 192.0.2.7\nb A 192.0.2.8\n")
    one.transfers = True
    done = run("differ", "one", "two", "--json")
    assert done.status == 3 and found(done) == ["diff.unverified"] and done.report["counts"]["differs"] == 0
    assert "two does not allow its transfer: what only it has was not seen" in done.report["findings"][0]["text"]
    two.authority.hold(read_zone(text + "a A 192.0.2.9\n", ZONE))
    (other,) = (it for it in run("differ", "one", "two", "--json").report["findings"] if it["code"] == "diff.other")
    assert {said["server"]: said["over"] for said in other["evidence"]} == {"one": "transfer", "two": "udp"}
    one.transfers = False
    neither = run("differ", "one", "two", "--json")
    assert neither.status == 3 and neither.report["counts"]["agrees"] == 0


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("one", "one"), "two servers are wanted"),
        (("one", "nobody"), 'SERVER: "nobody" is no server'),
        (("192.0.2.77", "192.0.2.78"), "no zones to compare"),
    ],
)
def test_what_cannot_be_compared_is_told(run: Run, served: Served, arguments: tuple[str, str], says: str) -> None:
    served(ZONE, HEAD.format(serial=7, negative=300))
    done = run("differ", *arguments)
    assert done.status == 2 and says in done.err.replace("\n", " ")

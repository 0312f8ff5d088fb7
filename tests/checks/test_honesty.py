"""Nothing that was not asked may agree or accuse: the rule by rule, over tables of answers and stand-ins that misbehave."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from salt_mirror.checks.audit.lines import Tally, ZoneLine, verdict
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.pairs.judging import Pairs
from salt_mirror.checks.pairs.scope import UNSEEN, PairsScope
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import SOA, A, Record, rdata_from_text
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding
from salt_mirror.keeping.history import FinishedRun, add_run, lives_in
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support.program import Run
from support.tables import ADDRESS, HOST, KILN, NORTH, NOW, REVERSE, Table, both, estate

PANS = estate("pans.example", "10.77.20.0/24", expect=((HOST, "A", ADDRESS),))
Told = dict[tuple[str, str], list[str] | str]


def paired(told: dict[tuple[str, str, str], list[str] | str], *arguments: str, known: Estate = PANS) -> Pairs:
    found = Pairs(PairsScope(known, arguments), Atlas(known))
    carry_out(found, Setting(NOW), Runner(Table(told)))
    return found


# Agreement over nothing


@pytest.mark.parametrize(
    ("target", "more", "outcome", "code"),
    [
        ("host.elsewhere.example", {}, "unverified", "pair.unverified"),  # nobody knows who serves that zone
        ("dead.pans.example", {("dead.pans.example", "A"): "timeout"}, "unverified", "pair.unverified"),
        ("lame.pans.example", {("lame.pans.example", "A"): "REFUSED"}, "unverified", "pair.unverified"),
        (".", {}, "differs", "pair.lost-pointer"),
        (
            "a.pans.example",
            {("a.pans.example", "CNAME"): ["b.pans.example"], ("b.pans.example", "CNAME"): ["a.pans.example"]},
            "differs",
            "pair.orphan-pointer",
        ),
    ],
)
def test_a_pointer_that_leads_to_nobodys_word_does_not_agree(target: str, more: Told, outcome: str, code: str) -> None:
    found = paired(both({(REVERSE, "PTR"): [target], **more}), ADDRESS, known=estate("pans.example", "10.77.20.0/24"))
    assert set(found.outcomes.values()) == {outcome}
    assert [finding.code for finding in found.findings()] == [code]


def test_a_name_in_a_circle_of_aliases_is_told_as_one() -> None:
    circle: Told = {(HOST, "CNAME"): ["b.pans.example"], ("b.pans.example", "CNAME"): [HOST]}
    found = paired(both(circle), HOST)
    (finding,) = found.findings()
    assert finding.code == "pair.no-address" and f"in a circle: {HOST}. -> b.pans.example. -> {HOST}." in finding.text
    assert list(found.outcomes.values()) == ["differs"]


def test_a_sweep_over_nothing_says_so_and_a_run_without_answers_does_not_agree(run: Run, standins: StandIns) -> None:
    server = standins.add([read_zone("@ 60 SOA ns h 1 2 3 4 5\n@ 60 NS ns.\n", "20.77.10.in-addr.arpa")])
    swept = run("pairs", "10.77.20.0/28", "--at", f"127.0.0.1:{server.port}")
    assert swept.out.startswith("No PTR record at 16 addresses.") and swept.status == 0
    assert f"Note: {UNSEEN}" in swept.out


# What is in hand is judged


def test_an_address_in_a_transferred_zone_without_a_pointer_is_found_by_its_network() -> None:
    known = estate("pans.example", "10.77.20.0/24")
    lost, elsewhere = from_text("lost.pans.example"), from_text("far.pans.example")
    records = [
        Record(from_text("pans.example"), SOA, 60, rdata_from_text(SOA, "ns. h. 1 2 3 4 5")),
        Record(lost, A, 60, bytes((10, 77, 20, 9))),
        Record(elsewhere, A, 60, bytes((10, 9, 9, 9))),
        Record(from_text("*.pans.example"), A, 60, bytes((10, 77, 20, 9))),
    ]
    holding = Holding(from_text("pans.example"), records)
    part = Pairs(PairsScope(known, ("10.77.20.0/24",)), Atlas(known))
    setting = Setting(NOW, lambda _, apex: holding if apex == holding.apex else None)
    table = Table(both({("lost.pans.example", "A"): ["10.77.20.9"], ("pans.example", "SOA"): ["ns. h. 1 2 3 4 5"]}))
    carry_out(part, setting, Runner(table))
    assert [(one.code, one.name) for one in part.findings()] == [("pair.no-pointer", "lost.pans.example.")]
    assert UNSEEN not in part.remarks and elsewhere not in {question.name for question in table.asked}


def test_a_zone_is_sound_only_if_no_finding_lies_in_it_and_if_more_than_its_soa_was_looked_at() -> None:
    known = estate("pans.example", "10.77.20.0/24", "10.8.0.0/16", "salt.example", expect=((HOST, "A", ADDRESS),))
    soa: Told = {(zone, "SOA"): ["ns.salt.example. h.salt.example. 1 7200 900 1209600 3600"] for zone in (
        "pans.example", "20.77.10.in-addr.arpa", "8.10.in-addr.arpa", "salt.example")}  # fmt: skip
    ns: Told = {(zone, "NS"): ["ns.salt.example.", "nt.salt.example."] for zone, _ in soa}
    hosts: Told = {("ns.salt.example", "A"): ["127.0.0.1"], ("nt.salt.example", "A"): ["127.0.0.2"]}
    table = Table(
        both({(HOST, "A"): [ADDRESS], ("1.20.77.10.in-addr.arpa", "PTR"): ["gone.pans.example"]} | soa | ns | hosts)
    )
    work = AuditWork(known, Atlas(known), coverage([], ["mail"], known))
    for part in work.parts.values():
        carry_out(part, Setting(NOW), Runner(table))
    lines = {line.zone: line for line in work.zone_lines(work.findings())}
    assert lines["20.77.10.in-addr.arpa."].checks["pairs"].faults == 2  # no pointer, and one that leads to nothing
    assert lines["pans.example."].checks["pairs"].faults == 0
    assert lines["20.77.10.in-addr.arpa."].outcome == "differs"
    assert lines["8.10.in-addr.arpa."].checks["pairs"].total == 0 and not lines["8.10.in-addr.arpa."].soa_alone
    assert lines["salt.example."].soa_alone
    alone = [replace(lines["salt.example."], checks={"authority": Tally(agrees=1)})]
    assert verdict(alone, []).startswith("0 of 1 zone is sound, 1 looked at by the SOA only")


def test_what_was_not_judged_is_not_sound() -> None:
    assert verdict([ZoneLine(zone="pans.example.", view="", checks={})], []) == "Nothing was judged."
    assert ZoneLine(zone="pans.example.", view="", checks={}).outcome == "unverified"


def test_a_host_whose_address_and_pointer_both_stand_on_one_server_alone_is_told_for_both() -> None:
    found = paired(
        {("north", HOST, "A"): [ADDRESS], ("north", REVERSE, "PTR"): [HOST], ("kiln", "pans.example", "A"): []}, HOST
    )
    told = [(one.code, one.type) for one in found.findings()]
    assert sorted(told) == [("pair.servers-disagree", "A"), ("pair.servers-disagree", "PTR")]


# Wrong accusations


class Referring(Table):
    """A table in which one server refers everything below a cut to servers whose address comes along."""

    def __init__(self, told: dict[tuple[str, str, str], list[str] | str], silent: bool) -> None:
        super().__init__(told)
        self._silent = silent

    def answer(self, question: Question) -> Answer:
        if question.name.endswith(from_text("deep.pans.example")) and question.server is NORTH:
            return Answer(question, "NOERROR", message=REFERRAL)
        if question.name.endswith(from_text("deep.pans.example")) and question.server is KILN and self._silent:
            return Answer(question, "timeout")
        return super().answer(question)


REFERRAL = (
    bytes.fromhex("0000 8000 0001 0000 0001 0001")
    + from_text("h.deep.pans.example") + bytes.fromhex("0001 0001")
    + from_text("deep.pans.example") + bytes.fromhex("0002 0001 0000003c 0016") + from_text("ns.deep.pans.example")
    + from_text("ns.deep.pans.example") + bytes.fromhex("0001 0001 0000003c 0004 7f000001")
)  # fmt: skip


def test_one_silent_parent_does_not_hide_the_child() -> None:
    known = estate("pans.example", "10.77.20.0/24")
    name, pointer = "h.deep.pans.example", "4.20.77.10.in-addr.arpa"
    told = {("ns.deep.pans.example", name, "A"): ["10.77.20.4"], ("ns.deep.pans.example", name, "AAAA"): []}
    table = Referring({**told, **both({(pointer, "PTR"): [name]})}, silent=True)
    found = Pairs(PairsScope(known, (name,)), Atlas(known))
    carry_out(found, Setting(NOW), Runner(table))
    assert list(found.outcomes.values()) == ["agrees"]


@pytest.mark.parametrize(
    ("flags", "soa", "trouble"),
    [
        (0x8003, False, True),
        (0x8003, True, False),
        (0x8083, False, False),
        (0x8403, False, False),
        (0x8000, False, True),
    ],
)
def test_an_answer_with_neither_authority_nor_recursion_nor_soa_is_no_usable_one(
    flags: int, soa: bool, trouble: bool
) -> None:
    question = Question(from_text("x.example"), A, NORTH, recurse=True)
    header = b"\0\0" + flags.to_bytes(2, "big") + bytes.fromhex("0001 0000") + bytes((0, soa)) + b"\0\0"
    record = from_text("example") + bytes.fromhex("0006 0001 0000003c 0016") + b"\0\0" + bytes(20) if soa else b""
    message = header + question.name + bytes.fromhex("0001 0001") + record
    status = "NXDOMAIN" if flags & 3 else "NOERROR"
    answer = Answer(question, status, authoritative=bool(flags & 0x400), message=message)
    assert (answer.trouble is not None) == trouble


def test_a_referral_is_no_answer_also_when_recursion_was_asked_for() -> None:
    question = Question(from_text("h.deep.pans.example"), A, NORTH, recurse=True)
    assert Answer(question, "NOERROR", message=REFERRAL).trouble == "refers to other servers"


@pytest.mark.parametrize("own", [True, False])
def test_a_record_of_its_own_beside_a_wildcard_of_equal_values_is_told_from_the_wildcard(own: bool) -> None:
    class Wild(Table):
        def answer(self, question: Question) -> Answer:
            name = to_text(question.name)
            covered = name.startswith("no-such-") and not (own and name.endswith(f".{HOST}."))
            if question.rdtype == A and (covered or name == f"{HOST}."):
                return Answer(question, "NOERROR", authoritative=True, values=(bytes((10, 77, 20, 2)),), ttl=300)
            return super().answer(question)

    roll = Roll(expected_sets(PANS, None), Atlas(PANS))
    carry_out(roll, Setting(NOW), Runner(Wild({})))
    assert [finding.code for finding in roll.findings()] == ([] if own else ["roll.wildcard"])


@pytest.mark.parametrize(
    ("north", "kiln", "expected", "codes", "remedies"),
    [
        # kiln is behind: what it still has is no remedy, and it only has to transfer
        (8, 7, (), ["pair.servers-disagree"] * 2, ["; let kiln transfer the zone from its primary"] * 2),
        (7, 8, (), ["pair.servers-disagree"] * 2, ["; let north transfer the zone from its primary"] * 2),
        # one version and other content: nobody's word counts for more, unless something is expected
        (8, 8, (), ["pair.servers-disagree"] * 2, ["? remove, register"] * 2),
        (
            8,
            8,
            ((HOST, "A", "10.77.20.3"),),
            ["pair.servers-disagree"] * 2,
            [f"; remove: {HOST}. IN A 10.77.20.2\n{HOST}. IN A 10.77.20.3", "? remove, register"],
        ),
    ],
)
def test_the_value_of_a_server_that_is_behind_is_not_offered_as_the_remedy(
    north: int, kiln: int, expected: tuple[tuple[str, str, str], ...], codes: list[str], remedies: list[str]
) -> None:
    known = estate("pans.example", "10.77.20.0/24", expect=expected)
    told = both({(f"{last}.20.77.10.in-addr.arpa", "PTR"): [HOST] for last in (2, 3)})
    for label, serial, address in (("north", north, "10.77.20.3"), ("kiln", kiln, "10.77.20.2")):
        told[label, "pans.example", "SOA"] = [f"ns.pans.example. h.pans.example. {serial} 7200 900 1209600 300"]
        told[label, HOST, "A"] = [address]
    found = [one for one in paired(told, HOST, known=known).findings() if one.code in codes]
    assert [one.code for one in found] == codes
    open_ones = (
        f"? {', '.join(choice.word for choice in one.choices)}" if one.choices else one.remedy for one in found
    )
    assert sorted(open_ones) == remedies


# Lives of findings


def doubt(code: str, name: str, rdtype: str, **more: str) -> Finding:
    return replace(finding(code, name, rdtype=rdtype), outcome="unverified", **more)


def finding(code: str, name: str, *, rdtype: str = "A", **more: str) -> Finding:
    about = Finding(
        code=code, weight="fault", outcome="differs", name=name, type=rdtype, view="", expected=[], evidence=[], text=""
    )
    return replace(about, **more)


def gone_after(tmp_path: Path, before: list[Finding], after: list[Finding], **more: object) -> list[str]:
    path, zones = tmp_path / "history", [ZoneLine(zone="pans.example.", view="", checks={})]
    accepted: Any = more.pop("accepted", ())
    add_run(path, FinishedRun("", NOW, 1.0, "differs", before, zones))
    done = FinishedRun("", NOW + timedelta(hours=1), 1.0, "differs", after, zones, accepted)
    history, _ = add_run(path, done, **more)  # type: ignore[arg-type]
    return [one.code for one in history.gone]


STALE = finding("pair.stale-pointer", "h.pans.example.", address="10.77.20.2")
LAME = finding("auth.open-transfer", "pans.example.", rdtype="SOA", server="192.0.2.1:53")
OTHER = replace(LAME, server="192.0.2.2:53")


@pytest.mark.parametrize(
    ("before", "after", "gone"),
    [
        (STALE, [], ["pair.stale-pointer"]),
        # a pointer's doubt stands under the reverse name, its finding under the host's: the address is the same
        (STALE, [doubt("pair.unverified", f"{REVERSE}.", "PTR", address="10.77.20.2")], []),
        (STALE, [doubt("pair.unverified", "x.", "PTR", address="10.77.20.9")], ["pair.stale-pointer"]),
        (LAME, [OTHER], ["auth.open-transfer"]),  # of several servers each has a life of its own
        (LAME, [doubt("auth.unverified", "pans.example.", "NS", server="192.0.2.1:53")], []),
    ],
)  # fmt: skip
def test_silence_ends_no_life(tmp_path: Path, before: Finding, after: list[Finding], gone: list[str]) -> None:
    assert gone_after(tmp_path, [before], after) == gone


def test_what_was_accepted_or_not_looked_at_is_not_gone_and_the_lives_tell_how_long(tmp_path: Path) -> None:
    assert gone_after(tmp_path / "", [STALE], [], accepted=[STALE]) == []
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
    assert gone_after(tmp_path / "a", [STALE], [], looked_at=lambda _: False) == []
    (life,) = lives_in(tmp_path / "a" / "history", "pair.*")
    assert life.ended is None and not life.seen_last
    assert gone_after(tmp_path / "b", [STALE], []) == ["pair.stale-pointer"]
    (life,) = lives_in(tmp_path / "b" / "history", "pair.*")
    assert life.ended == datetime(2026, 11, 24, 1, tzinfo=UTC) and life.first == life.last


def test_a_life_is_told_by_when_it_was_seen_and_when_it_was_missed(run: Run, tmp_path: Path) -> None:
    gone_after(tmp_path, [STALE], [])
    told = run("history", "history", "pair.*").out
    assert "gone at 2026-11-24 01:00:00 UTC: it was open for at most 1 h after that" in told and "for 0 s" not in told

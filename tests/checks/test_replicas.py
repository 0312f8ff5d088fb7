"""Zones that domain controllers replicate: who lacks what another one has, and that no record is the repair."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.authority.judging import Inspection
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.part import Part, Setting, carry_out
from salt_mirror.checks.differ.judging import Differing, TwoZones
from salt_mirror.checks.pairs.judging import Pairs
from salt_mirror.checks.pairs.scope import PairsScope
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.estate.model import Estate
from salt_mirror.estate.replication import Inbound, Replicated
from salt_mirror.findings import Finding
from support.estates import Served, found
from support.examples import examples
from support.program import Run
from support.tables import HOST, KILN, NORTH, NOW, Table, estate

APEX = from_text("pans.example")
NORTH_HOST, KILN_HOST = from_text("north.pans.example"), from_text("kiln.pans.example")
SINCE = datetime(2026, 11, 23, 6, 0, tzinfo=UTC)
Told = dict[tuple[str, str, str], list[str] | str]


def soa(mname: str, serial: int) -> list[str]:
    return [f"{mname}.pans.example. h.pans.example. {serial} 900 600 86400 3600"]


def world(
    values: dict[str, list[str]], primaries: tuple[str, str] = ("north", "kiln"), serials: tuple[int, int] = (9, 4)
) -> Told:
    """Two servers with an SOA each, and what each has at the host."""
    told: Told = {}
    for label, mname, serial in zip(("north", "kiln"), primaries, serials, strict=True):
        told[label, "pans.example", "SOA"] = soa(mname, serial)
        told[label, "pans.example", "NS"] = ["north.pans.example.", "kiln.pans.example."]
        told[label, "north.pans.example", "A"], told[label, "kiln.pans.example", "A"] = ["192.0.2.7"], ["198.51.100.7"]
        if values[label]:
            told[label, HOST, "A"] = values[label]
    return told


def kept(estate_: Estate) -> Estate:
    """The same estate once its directory was read: kiln has no changes since the day before."""
    ways = {NORTH_HOST: (Inbound("kiln.pans.example", SINCE, 0, 0),),
            KILN_HOST: (Inbound("north.pans.example", SINCE, 12, 8524),)}  # fmt: skip
    return replace(estate_, replicated={("", APEX): Replicated("DomainDnsZones", dict(ways))})


def carried(part: Part, told: Told) -> list[Finding]:
    carry_out(part, Setting(NOW), Runner(Table(told)))
    return list(part.findings())


def rolled(known: Estate, told: Told) -> list[Finding]:
    return carried(Roll(expected_sets(known, None), Atlas(known)), told)


ADDRESS = "10.77.20.2"
EXPECTING = estate("pans.example", "20.77.10.in-addr.arpa", expect=((HOST, "A", ADDRESS),))
LACKING = {"north": [ADDRESS], "kiln": []}


@pytest.mark.parametrize("read", [True, False], ids=["from the directory", "by their own words"])
def test_what_did_not_replicate_is_no_records_fault_and_nothing_is_transferred(read: bool) -> None:
    known = kept(EXPECTING) if read else EXPECTING
    told = world(LACKING)
    (roll,) = rolled(known, told)
    pair = next(one for one in carried(Pairs(PairsScope(known, [HOST]), Atlas(known)), told) if "disagree" in one.code)
    for one in (roll, pair):
        assert one.code.endswith("servers-disagree") and one.outcome == "differs"
        assert not one.changes and not one.choices and "kiln lacks what another domain controller has" in one.cause
        assert "look at the replication of" in one.advice and "to kiln" in one.advice and "transfer" not in one.advice
    assert ("DomainDnsZones to kiln" in roll.advice) == read
    if read:
        # since when, how often it failed, and what the number of the error means
        assert "12 attempts failed since (error 8524: the other one's GUID alias is not found in DNS)" in roll.advice
        assert "06:00 UTC from north" in roll.advice or "from north" in roll.advice


def test_the_authority_says_which_controller_has_what_and_asks_for_no_transfer() -> None:
    known = kept(EXPECTING)
    told = {finding.code: finding for finding in carried(Inspection([(APEX, "")], Atlas(known)), world(LACKING))}
    assert "auth.not-replicated" in told and not [code for code in told if "serial" in code or "edited" in code]
    apart = told["auth.not-replicated"]
    assert f"{HOST}. A: north: {ADDRESS}; kiln: none" in apart.text and not apart.changes
    assert not [one for one in told.values() if "transfer" in one.text + one.advice or "Expire" in one.text]


def test_a_read_only_controller_and_one_under_another_address_are_no_secondaries() -> None:
    """A read-only one names another in its SOA; the other is reached under an address that no record of it has."""
    for known, primaries in ((kept(EXPECTING), ("north", "north")), (EXPECTING, ("north", "kiln"))):
        same = world({"north": [ADDRESS], "kiln": [ADDRESS]}, primaries)
        part = Inspection([(APEX, "")], Atlas(known))
        told = {finding.code for finding in carried(part, same)}
        assert (
            "auth.several-primaries" in told and not {"auth.serial-behind", "auth.timer", "auth.hidden-primary"} & told
        )
        assert "replicate it through" in part.inspected[0].sheet.says


def test_a_secondary_of_one_controller_still_follows_it() -> None:
    """Kiln is no controller of the directory: it transfers from north, and is behind."""
    known = replace(EXPECTING, replicated={("", APEX): Replicated("DomainDnsZones", {NORTH_HOST: ()})})
    (roll,) = rolled(known, world(LACKING, ("north", "north")))
    assert roll.advice == "let kiln transfer the zone from its primary" and not roll.cause
    told = [
        finding.code for finding in carried(Inspection([(APEX, "")], Atlas(known)), world(LACKING, ("north", "north")))
    ]
    assert "auth.serial-behind" in told and "auth.not-replicated" not in told


def test_serials_of_two_controllers_say_nothing_about_each_other() -> None:
    for known in (EXPECTING, kept(EXPECTING)):
        (note,) = [
            one for one in carried(Differing([TwoZones(APEX, "", (NORTH, KILN))], Atlas(known)), world(LACKING))
            if one.code in ("diff.serial", "diff.replicated")
        ]  # fmt: skip
        assert note.code == "diff.replicated" and "is behind" not in note.text


@examples(300)
@given(st.tuples(*[st.frozensets(st.sampled_from([ADDRESS, "10.77.20.9"])) for _ in range(2)]), st.booleans())
def test_a_record_is_changed_exactly_where_no_controller_has_it_right(
    held: tuple[frozenset[str], frozenset[str]], read: bool
) -> None:
    told = world(dict(zip(("north", "kiln"), map(sorted, held), strict=True)))
    findings = rolled(kept(EXPECTING) if read else EXPECTING, told)
    right = [ADDRESS in one for one in held]  # others beside it are somebody's, and not said to be wrong
    if all(right):
        assert not [one for one in findings if one.outcome == "differs"]
        return
    (one,) = findings
    assert bool(one.changes) == (not any(right))
    if any(right):
        lacking = [label for label, is_right in zip(("north", "kiln"), right, strict=True) if not is_right]
        assert f"to {lacking[0]};" in one.advice


DC = "$TTL 300\n@ SOA {dc} h {serial} 900 600 86400 300\n@ NS dc1\n@ NS dc2\ndc1 A 192.0.2.1\ndc2 A 198.51.100.2\n"


def test_mend_sends_nothing_to_a_controller_that_only_has_to_replicate(
    run: Run, served: Served, tmp_path: Path
) -> None:
    zones = [DC.format(dc="dc1", serial=7) + "brine A 10.77.20.2\n", DC.format(dc="dc2", serial=90)]
    (tmp_path / "hosts.zone").write_text("brine A 10.77.20.2\n", encoding="utf-8")
    served("salt.invalid", *zones)
    text = (tmp_path / "estate.toml").read_text(encoding="utf-8")
    (tmp_path / "estate.toml").write_text(
        text.replace('name = "salt.invalid"', 'name = "salt.invalid"\nexpect = ["hosts.zone"]'), encoding="utf-8"
    )
    done = run("mend", "--json").report
    assert done["plan"]["changes"] == [] and done["plan"]["waiting"] == []
    left = {one["code"]: one["says"] for one in done["plan"]["not_ours"]}
    assert "look at the replication of the directory's zones to two" in left["roll.servers-disagree"]
    assert "auth.not-replicated" in found(run("authority", "--json"))

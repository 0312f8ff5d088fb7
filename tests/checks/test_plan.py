"""Plans over random small worlds: what a plan says that it mends is mended once it was carried out, nothing else comes, and
planning again gives nothing. An oracle that knows nothing of plans holds what is expected against the zones before and after.
"""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.audit.judge import AuditJudge
from salt_mirror.checks.audit.repairs import plan_near, plannable, with_repairs
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.plan.deciding import Decision
from salt_mirror.checks.plan.laying import LaidOver
from salt_mirror.checks.plan.proving import proved
from salt_mirror.checks.plan.sending import by_server
from salt_mirror.checks.plan.sets import Plan, record_lines
from salt_mirror.cli.mend.wanted import Selection
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import TARGET_AT, rdata_from_text, type_text
from salt_mirror.findings import Change, Finding
from support.examples import examples
from support.oracle import Wishes, Zones, lost, unmet, zones_of
from support.tables import NOW
from support.worlds import (
    ADDRESSES,
    FORWARD,
    LABELS,
    REVERSE,
    SERVER,
    Asking,
    TwoViews,
    World,
    expectation,
    in_two_views,
    worlds,
)

SETTING = Setting(NOW)


def plan_of(
    world: World | TwoViews, decisions: list[Decision], *, only_adding: bool = False
) -> tuple[Plan, list[Finding]]:
    atlas = Atlas(world.estate)
    judge = AuditJudge(atlas, coverage([], [], world.estate), Setting(NOW), lambda: None)
    plan = proved(judge, Runner(Asking(world)), atlas, decisions, only_adding=only_adding)
    return plan, judge(Runner(Asking(world)))


def faults(findings: list[Finding]) -> set[tuple[str, ...]]:
    return {(one.code, *one.subject) for one in findings if one.weight == "fault" and one.outcome == "differs"}


@examples(50)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_what_a_plan_says_is_mended_is_so_once_it_was_carried_out_and_nothing_else_comes(
    world: World, word: str
) -> None:
    decisions = [Decision(word)] if word else []  # type: ignore[arg-type]
    plan, before = plan_of(world, decisions)
    world.carry_out(plan.sets)
    again, after = plan_of(world, decisions)
    for _ in range(4 if world.second in ("apart", "stuck", "twin") else 0):
        # What such a server has alone goes with the first transfer, and may take a host along: then there is more to plan.
        world.carry_out(again.sets)
        plan = again
        again, after = plan_of(world, decisions)
    assert not again.sets, again.sets
    listed = [one.finding for one in plan.not_ours] + plan.waiting
    assert faults(after) <= faults(listed), (faults(after) - faults(listed), before)
    assert not faults(plan.mended) & faults(after)


@pytest.mark.parametrize("second", ["follows", "unlisted", "silent", "none"])
def test_what_can_be_mended_is_planned_also_where_a_server_is_found_through_the_zone_itself(second: str) -> None:
    lines = {
        FORWARD: ["h0 A 10.77.20.1", "h1 A 10.77.20.3"],
        REVERSE: ["1 PTR h0.pans.example.", "2 PTR gone.pans.example."],
    }
    expected = [expectation(f"h{n}.pans.example", "A", f"10.77.20.{n + 1}", ttl=600) for n in range(3)]
    world = World([lines] * (1 if second == "none" else 2), second, expected)
    plan, _ = plan_of(world, [])
    sets = {(to_text(one.key.name), one.key.rdtype): set(map(bytes, one.after)) for one in plan.sets}
    assert sets == {
        ("h1.pans.example.", 1): {bytes((10, 77, 20, 2))},
        ("h2.pans.example.", 1): {bytes((10, 77, 20, 3))},
        ("2.20.77.10.in-addr.arpa.", 12): {from_text("h1.pans.example")},
        ("3.20.77.10.in-addr.arpa.", 12): {from_text("h2.pans.example")},
    }
    world.carry_out(plan.sets)
    again, after = plan_of(world, [])
    assert not again.sets and not [fault for fault in faults(after) if fault[0].startswith(("pair.", "roll."))]


def test_judging_again_asks_nothing_that_was_asked_before() -> None:
    lines = {FORWARD: ["h0 A 10.77.20.1"], REVERSE: ["1 PTR h0.pans.example."]}
    world = World([lines], "none", [expectation("h0.pans.example", "A", "10.77.20.1")])
    judge = AuditJudge(Atlas(world.estate), coverage([], [], world.estate), Setting(NOW), lambda: None)
    runner = Runner(Asking(world))
    first = judge(runner)
    asked = runner.asked
    assert {(one.code, one.subject) for one in judge(runner)} == {(one.code, one.subject) for one in first}
    assert runner.asked == asked


@examples(60)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_judging_what_a_plan_touches_finds_what_judging_the_whole_finds(world: World, word: str) -> None:
    atlas, runner = Atlas(world.estate), Runner(Asking(world))
    judge = AuditJudge(atlas, coverage([], [], world.estate), SETTING, lambda: None)
    plan = proved(judge, runner, atlas, [Decision(word)] if word else [])  # type: ignore[arg-type]
    laid = [
        (one, tuple(dict.fromkeys((*plan.servers[one.key], *judge.servers_of(one.key.view, one.key.zone)))))
        for one in plan.sets
    ]
    near = judge(Runner(LaidOver(runner, laid)), laid)
    whole = AuditJudge(atlas, coverage([], [], world.estate), SETTING, lambda: None)(Runner(LaidOver(runner, laid)))
    assert {(one.code, one.subject) for one in near} == {(one.code, one.subject) for one in whole}


@examples(40)
@given(worlds(), st.sampled_from(("", "remove", "register")), st.sampled_from([*LABELS, *ADDRESSES[:3]]))
def test_mending_one_host_judges_little_and_plans_what_judging_the_whole_plans(
    world: World, word: str, what: str
) -> None:
    atlas, covered = Atlas(world.estate), coverage([], [], world.estate)
    wanted = Selection(
        world.estate, [what if "." in what[1:] and what[0] == "1" else f"{what}.pans.example"], None, covered
    )
    decisions = [Decision(word)] if word else []  # type: ignore[arg-type]
    whole = proved(AuditJudge(atlas, covered, SETTING, lambda: None), Runner(Asking(world)), atlas, decisions, wanted)
    judge, runner = (
        AuditJudge(atlas, covered, SETTING, lambda: None, scope=wanted.scope()),
        Runner(Asking(world)),
    )
    plan = proved(judge, runner, atlas, decisions, wanted)
    assert judge.scope is not None
    # A PTR record at an address that nothing leads to is seen by a sweep only, and an alias to it that nobody expects by
    # calling the whole roll.
    in_sight = {one.key: one.after for one in whole.sets if judge.scope.sees(one.key.name)}
    assert {one.key: one.after for one in plan.sets} == in_sight


@examples(30)
@given(worlds())
def test_what_a_check_prints_as_repair_is_what_is_planned_over_the_whole(world: World) -> None:
    """Each finding of a check by itself is planned only where the plan of everything has it, and prints no line that is not
    there."""
    atlas, covered = Atlas(world.estate), coverage([], [], world.estate)
    judge = AuditJudge(atlas, covered, SETTING, lambda: None)
    plan = proved(judge, Runner(Asking(world)), atlas)
    whole = {(one.code, one.subject): one for one in with_repairs(judge.work.findings(), plan)}
    lines = {line for one in plan.sets for line in record_lines(one)}
    assert all(set(one.remedy.split("\n")) <= lines for one in whole.values() if one.fate == "planned")
    for check in ("pairs", "rollcall"):
        runner, work = Runner(Asking(world)), AuditWork(world.estate, atlas, coverage([check], [], world.estate))
        work.run(SETTING, runner, lambda: None)
        found = plannable(work.findings())
        for one in with_repairs(found, plan_near(found, atlas, SETTING, runner)) if found else []:
            # What only another check has seen may settle more: a choice, or nothing, is then planned over the whole.
            assert one.fate in (whole[one.code, one.subject].fate, "choice", "")
            assert one.fate != "planned" or set(one.remedy.split("\n")) <= lines


@examples(150, deep=3000)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_a_plan_restores_what_is_expected_and_takes_nothing_of_it_away(world: World, word: str) -> None:
    """Whatever else is wrong, and whoever decides what."""
    wishes, before = Wishes(world.expected), zones_of(world.held[SERVER].zones.values())
    plan, _ = plan_of(world, [Decision(word)] if word else [])  # type: ignore[arg-type]
    world.carry_out(plan.sets)
    after = zones_of(world.held[SERVER].zones.values())
    assert not lost(wishes, before, after), (before, after)
    assert not unmet(wishes, before, after), (before, after, [(one.finding.text, one.why) for one in plan.not_ours])


@examples(30)
@given(in_two_views(), st.sampled_from(("", "remove", "register")))
def test_in_two_views_each_gets_what_it_expects_and_loses_nothing(world: TwoViews, word: str) -> None:
    """Also where hosts are in both, and where a provider keeps the reverse zone."""
    sides = (world.internal, world.public)
    wishes = [Wishes(one.expected) for one in sides]
    before = [zones_of(one.held[SERVER].zones.values()) for one in sides]
    plan, _ = plan_of(world, [Decision(word)] if word else [])  # type: ignore[arg-type]
    world.carry_out(plan.sets)
    for one, wanted, was in zip(sides, wishes, before, strict=True):
        after = zones_of(one.held[SERVER].zones.values())
        if one is world.public or world.provider:  # nothing of a zone that the estate does not have is ours
            assert {key: was[key] for key in was if key[1] == "PTR"} == {
                key: after[key] for key in after if key[1] == "PTR"
            }
            wanted.there = {key: values for key, values in wanted.there.items() if key[1] != "PTR"}
            wanted.gone = {key for key in wanted.gone if key[1] != "PTR"}
        assert not lost(wanted, was, after), (was, after)
        assert not unmet(wanted, was, after), (was, after, [(left.finding.text, left.why) for left in plan.not_ours])


@examples(50)
@given(worlds())
def test_the_line_that_is_said_to_free_a_refused_set_frees_it(world: World) -> None:
    plan, _ = plan_of(world, [])
    for left in plan.not_ours:
        said = re.search(r"A list that expects `(\S+) (\S+) ?(.*?)`( to be absent)? frees it", left.why)
        assert (said is not None) == (left.fate == "refused")
        if said is None:
            continue
        name, rdtype, value, absent = said.groups()
        line = expectation(name.rstrip("."), rdtype, value, "absent" if absent else "present")
        freed, _ = plan_of(World(world.lines, world.second, [*world.expected, line]), [])
        after = {(to_text(one.key.name), type_text(one.key.rdtype)): one.after for one in freed.sets}
        assert (name, rdtype) in after, (left.finding.text, left.why)
        assert not after[name, rdtype] if absent else rdata_from_text(line.rdtype, value) in after[name, rdtype]


@examples(40)
@given(worlds(), st.sampled_from(("remove", "register")), st.sampled_from([*LABELS, *ADDRESSES[:3]]))
def test_a_decision_about_one_host_carries_out_no_choice_about_another(world: World, word: str, what: str) -> None:
    before = zones_of(world.held[SERVER].zones.values())
    pattern = what if what in ADDRESSES else f"{what}.pans.example"
    plan, _ = plan_of(world, [Decision(word, pattern)])  # type: ignore[arg-type]
    world.carry_out(plan.sets)
    after = zones_of(world.held[SERVER].zones.values())

    def made(zones: Zones, change: Change) -> bool:
        values = zones.get((change.name, change.type), set())
        return {one.lower() for one in change.add} <= values and values.isdisjoint(one.lower() for one in change.remove)

    for finding in plan.waiting:
        for choice in finding.choices:
            assert all(made(before, one) for one in choice.changes) or not all(
                made(after, one) for one in choice.changes
            )


@examples(30)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_a_plan_that_only_adds_takes_nothing_away(world: World, word: str) -> None:
    before = zones_of(world.held[SERVER].zones.values())
    plan, _ = plan_of(world, [Decision(word)] if word else [], only_adding=True)  # type: ignore[arg-type]
    assert all(one.before <= one.after for one in plan.sets)
    world.carry_out(plan.sets)
    after = zones_of(world.held[SERVER].zones.values())
    assert all(values <= after.get(key, set()) for key, values in before.items() if key[1] != "SOA")


@examples(30)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_what_others_lean_on_is_sent_before_them_and_what_only_goes_comes_last(world: World, word: str) -> None:
    plan, _ = plan_of(world, [Decision(word)] if word else [])  # type: ignore[arg-type]
    order = [one for *_, sets in by_server(plan.sets) for one in sets]
    assert sorted(map(id, order)) == sorted(map(id, plan.sets))
    at = {one.key: number for number, one in enumerate(order)}
    for one in order:
        if one.key.rdtype in TARGET_AT:
            targets = {value[TARGET_AT[one.key.rdtype] :] for value in one.after - one.before}
            bases = [key for key in at if key.name in targets and key.rdtype in (1, 28) and order[at[key]].after]
            alone = [key for key in bases if not any(k.name == key.name and k.rdtype in TARGET_AT for k in at)]
            assert all(at[key] < at[one.key] for key in alone), (one, alone)
        if not one.after and not any(k.name == one.key.name and k != one.key for k in at):
            assert all(at[one.key] > at[key] for key in at if order[at[key]].after and key.rdtype == 1)

"""Plans over random small worlds: what a plan says that it mends is mended once it was carried out, nothing else comes, and
planning again gives nothing.

A world is a forward and a reverse zone on a primary and perhaps a secondary, which follows, was edited apart with the primary's
own serial, is stuck with an old version, is a primary of its own that replicates, is silent, or
follows without standing in the estate. Names have addresses, are
aliases, have texts, lead to hosts that are not there; pointers lead anywhere; and anything may be expected, with
contradictions. Changes go through real update messages.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import dns.message
import dns.rcode
import dns.rdatatype
import dns.update
import dns.zone
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.audit.coverage import coverage
from salt_mirror.checks.audit.judge import AuditJudge
from salt_mirror.checks.audit.repairs import plan_near, plannable, with_repairs
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.part import Setting
from salt_mirror.checks.plan.deciding import Decision
from salt_mirror.checks.plan.laying import LaidOver
from salt_mirror.checks.plan.proving import proved
from salt_mirror.checks.plan.sending import by_server
from salt_mirror.checks.plan.sets import Plan, PlannedSet, edit_of, record_lines
from salt_mirror.cli.mend.wanted import Wanted
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, labels, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import TARGET_AT, rdata_from_text, rdata_text, type_from_text, type_text
from salt_mirror.dns.replies import Reader
from salt_mirror.dns.update import update_message
from salt_mirror.dns.wire import encode_question, question_tail, rcode_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Finding
from salt_mirror.standin.authority import HeldZones, read_zone
from salt_mirror.standin.updating import updated
from support.examples import examples
from support.tables import NOW

SETTING = Setting(NOW)
FORWARD, REVERSE = "pans.example", "20.77.10.in-addr.arpa"
LABELS = ("h0", "h1", "h2", "h3", "a.stores")
ADDRESSES = ("10.77.20.1", "10.77.20.2", "10.77.20.3", "203.0.113.9")
TARGETS = (
    *(f"{label}.pans.example." for label in LABELS),
    "gone.pans.example.",
    "h0.pans.example.pans.example.",
    "x.other.example.",
)
SERVER = Server("s0", bytes((127, 0, 0, 1)), 5300)
SECOND = Server("s1", bytes((127, 0, 0, 1)), 5301)
REACH = {bytes((192, 0, 2, 53 + number)): (one.address, one.port) for number, one in enumerate((SERVER, SECOND))}


@dataclass
class World:
    """The zones of each server as lines, how the second behaves, and what is expected."""

    lines: list[dict[str, list[str]]]
    second: str
    expected: list[Expectation]
    held: dict[Server, HeldZones] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for server, zones in zip((SERVER, SECOND), self.lines, strict=False):
            serial = 7 if server is SECOND and self.second == "stuck" else 8
            mname = "s1" if server is SECOND and self.second == "twin" else "s0"
            soa = f"SOA {mname}.pans.example. h.pans.example. {serial} 3600 600 1209600 300"
            more = "@ NS s1.pans.example.\n" if self.second == "unlisted" else ""
            head = f"$TTL 600\n@ {soa}\n@ NS s0.pans.example.\n{more}"
            own = {FORWARD: "s0 A 192.0.2.53\ns1 A 192.0.2.54\n", REVERSE: ""}
            texts = {origin: head + own[origin] + "\n".join(lines) + "\n" for origin, lines in zones.items()}
            self.held[server] = HeldZones([read_zone(text, origin) for origin, text in texts.items()])

    @property
    def servers(self) -> tuple[Server, ...]:
        """Those that the estate lists; one more may be found through the zones themselves."""
        return tuple(self.held)[:1] if self.second == "unlisted" else tuple(self.held)

    @property
    def estate(self) -> Estate:
        zones = {
            apex: Zone(apex, "", self.servers, tuple(one for one in self.expected if one.name.endswith(apex)))
            for apex in map(from_text, (FORWARD, REVERSE))
        }
        return Estate(zones={"": zones}, reach=REACH)

    # As an exchange

    backlog = 0

    def answer(self, question: Question) -> Answer:
        held = next((zones for server, zones in self.held.items() if server.port == question.server.port), None)
        silent = self.second == "silent" and question.server is SECOND
        if held is None or silent or question.server.over != "udp":
            return Answer(question, "timeout")
        parts = labels(question.name)
        if question.name.endswith(from_text(REVERSE)) and len(parts) == 6 and len(parts[0]) > 1:
            return Answer(question, "NXDOMAIN", True)  # a sweep's: nobody has more than nine addresses here
        asked = question.name + question_tail(question.rdtype)
        query = dns.message.from_wire(encode_question(b"\1\2", question.name, question.rdtype, opt=b""))
        wire = held.respond(query).to_wire()
        rcode, authoritative, _, values, ttl, alias, _ = Reader().read(wire, b"\1\2", asked)
        return Answer(question, rcode_text(rcode), authoritative, values, ttl, alias, wire)

    def carry_out(self, sets: list[PlannedSet]) -> None:
        """Sends each zone's changes to the primary, which hands the zones on as far as the second follows."""
        zones: dict[bytes, list[PlannedSet]] = {}
        for one in sets:
            assert one.server is SERVER
            zones.setdefault(one.key.zone, []).append(one)
        for apex, of_zone in zones.items():
            message = dns.message.from_wire(update_message(apex, map(edit_of, of_zone)).to_wire())
            assert isinstance(message, dns.update.UpdateMessage)
            origin = message.zone[0].name
            rcode, after = updated(self.held[SERVER].zones[origin], message)
            assert rcode == dns.rcode.NOERROR, (rcode, sets)
            assert after is not None, sets
            self.held[SERVER].hold(after)
            if SECOND in self.held and self.second == "twin":
                text = after.to_text(relativize=False).replace("SOA s0.pans.example.", "SOA s1.pans.example.")
                self.held[SECOND].hold(read_zone(text, str(origin)))
            elif SECOND in self.held and self.second != "silent":
                self.held[SECOND].hold(after)


class Asking:
    """The exchange of a world; `asked` counts what was put to it."""

    def __init__(self, world: World) -> None:
        self._world = world
        self._ready: list[Answer] = []

    @property
    def backlog(self) -> int:
        return len(self._ready)

    def submit(self, question: Question) -> None:
        self._ready.append(self._world.answer(question))

    def collect(self) -> list[Answer]:
        ready, self._ready = self._ready, []
        return ready


def expectation(name: str, rdtype: str, value: str, presence: str = "present", ttl: int | None = None) -> Expectation:
    kind = type_from_text(rdtype)
    rdata = rdata_from_text(kind, value) if value else b""
    return Expectation(from_text(name), kind, rdata, presence=presence, ttl=ttl)  # type: ignore[arg-type]


@st.composite
def owners(draw: st.DrawFn, label: str) -> list[str]:
    """The records of one name."""
    if draw(st.integers(0, 5)) == 0:
        return [f"{label} CNAME {draw(st.sampled_from(TARGETS))}"]
    values = draw(st.lists(st.sampled_from(ADDRESSES), max_size=2, unique=True))
    lines = [f"{label} {draw(st.sampled_from(('', '300')))} A {value}" for value in values[:1]]
    lines += [f"{label} A {value}" for value in values[1:]]
    if draw(st.integers(0, 4)) == 0:
        lines.append(f'{label} TXT "{draw(st.sampled_from(("one", "two")))}"')
    if draw(st.integers(0, 6)) == 0:
        lines.append(f"{label} MX 10 {draw(st.sampled_from((*TARGETS, '.')))}")
    if draw(st.integers(0, 6)) == 0:
        lines.append(f"_x._tcp.{label} SRV 0 0 99 {draw(st.sampled_from((*TARGETS, '.')))}")
    return lines


@st.composite
def contents(draw: st.DrawFn) -> dict[str, list[str]]:
    """The lines of both zones."""
    sound = draw(st.integers(0, 2)) > 0
    forward, reverse = [], []
    for number, label in enumerate(LABELS[:4]):
        if sound and draw(st.integers(0, 2)) > 0:
            forward.append(f"{label} A 10.77.20.{number + 1}")
            reverse.append(f"{number + 1} PTR {label}.pans.example.")
        else:
            forward += draw(owners(label))
            pointers = draw(st.lists(st.sampled_from(TARGETS), max_size=2, unique=True))
            reverse += [f"{number + 1} PTR {target}" for target in pointers]
    if draw(st.integers(0, 2)) == 0:
        forward.append(f"*.stores {draw(st.sampled_from(('A 10.77.20.1', 'TXT stores')))}")
    if draw(st.integers(0, 3)) == 0:
        forward += draw(owners("a.stores"))
    return {FORWARD: forward, REVERSE: reverse}


@st.composite
def worlds(draw: st.DrawFn) -> World:
    first = draw(contents())
    second = draw(st.sampled_from(("follows", "apart", "stuck", "silent", "twin", "unlisted", "none")))
    held = [first]
    if second != "none":
        held.append(
            first if second in ("follows", "silent", "unlisted") else draw(st.one_of(st.just(first), contents()))
        )
    forward = st.builds(
        expectation, st.sampled_from([f"{label}.pans.example" for label in LABELS]), st.just("A"), st.sampled_from(ADDRESSES),
        st.sampled_from(("present", "present", "exact", "absent")), st.sampled_from((None, None, 300, 900)),
    )  # fmt: skip
    others = st.sampled_from(
        [
            expectation(f"{label}.pans.example", rdtype, value, presence)
            for label in LABELS
            for rdtype, value in (("TXT", '"one"'), ("CNAME", "h3.pans.example."), ("MX", "10 h1.pans.example."))
            for presence in ("present", "exact")
        ]
        + [
            expectation(f"{label}.pans.example", rdtype, "", "absent")
            for label in LABELS
            for rdtype in ("A", "CNAME", "TXT")
        ]
        + [expectation("_x._tcp.h1.pans.example", "SRV", "0 0 99 h2.pans.example.")]
    )
    pointers = st.builds(
        expectation, st.sampled_from([f"{n}.{REVERSE}" for n in (1, 2, 3)]), st.just("PTR"), st.sampled_from(TARGETS[:6]),
        st.sampled_from(("present", "exact", "absent")),
    )  # fmt: skip
    expected = draw(st.lists(forward, max_size=4)) + draw(st.lists(st.one_of(others, pointers), max_size=2))
    return World(held, second, expected)


def plan_of(world: World, decisions: list[Decision], *, only_adding: bool = False) -> tuple[Plan, list[Finding]]:
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


@examples(100)
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


@examples(60)
@given(worlds(), st.sampled_from(("", "remove", "register")), st.sampled_from([*LABELS, *ADDRESSES[:3]]))
def test_mending_one_host_judges_little_and_plans_what_judging_the_whole_plans(
    world: World, word: str, what: str
) -> None:
    atlas, covered = Atlas(world.estate), coverage([], [], world.estate)
    wanted = Wanted(
        world.estate, [what if "." in what[1:] and what[0] == "1" else f"{what}.pans.example"], None, covered
    )
    decisions = [Decision(word)] if word else []  # type: ignore[arg-type]
    whole = proved(AuditJudge(atlas, covered, SETTING, lambda: None), Runner(Asking(world)), atlas, decisions, wanted)
    judge, runner = (
        AuditJudge(atlas, covered, SETTING, lambda: None, scope=wanted.scope()),
        Runner(Asking(world)),
    )
    plan = proved(judge, runner, atlas, decisions, wanted)
    while judge.widen(plan.sets):
        plan = proved(judge, runner, atlas, decisions, wanted)
    assert judge.scope is not None
    # A PTR record at an address that nothing leads to is seen by a sweep alone.
    in_sight = {one.key: one.after for one in whole.sets if one.key.rdtype != 12 or judge.scope.sees(one.key.name)}
    assert {one.key: one.after for one in plan.sets} == in_sight


@examples(60)
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


# What is expected goes first: an oracle that shares nothing with the plan but the zones before and after

Zones = dict[tuple[str, str], set[str]]
SEVERAL_HANDS = ("TXT", "MX", "SRV")


def zones_of(world: World) -> Zones:
    """The sets of both zones on the primary, as text."""
    found: Zones = {}
    for zone in world.held[SERVER].zones.values():
        for name, rdataset in zone.iterate_rdatasets():
            kind = dns.rdatatype.to_text(rdataset.rdtype)
            found[name.to_text(), kind] = {rdata.to_text().lower() for rdata in rdataset}
    return found


class Wishes:
    """What the estate expects, by name and type; `broken` are names about which it contradicts itself."""

    def __init__(self, expected: list[Expectation]) -> None:
        self.there: Zones = {}
        self.absent: Zones = {}
        self.gone: set[tuple[str, str]] = set()
        self.exact: set[tuple[str, str]] = set()
        for one in expected:
            key = (to_text(one.name), type_text(one.rdtype))
            value = rdata_text(one.rdtype, one.rdata).lower() if one.rdata else ""
            if one.presence == "absent":
                (self.absent.setdefault(key, set()).add(value)) if value else self.gone.add(key)
            else:
                self.there.setdefault(key, set()).add(value)
                if one.presence == "exact":
                    self.exact.add(key)
        names = {name for name, _ in self.there}
        self.broken = {
            name
            for name in names
            for kinds in [{kind for owner, kind in self.there if owner == name}]
            if ("CNAME" in kinds and len(kinds) > 1) or len(self.there.get((name, "CNAME"), ())) > 1
        }
        for key, values in self.there.items():
            if key in self.gone or values & self.absent.get(key, set()):
                self.broken.add(key[0])


def unmet(wishes: Wishes, before: Zones, after: Zones) -> list[str]:
    """What the estate expects and does not get, where nothing that stays there forbids it."""
    said = []
    for (name, kind), values in wishes.there.items():
        if name in wishes.broken or values <= after.get((name, kind), set()):
            continue
        # An alias stands alone: what is there besides, and is no address, keeps it out (RFC 1034 section 3.6.2).
        others = {other for owner, other in before if owner == name and other not in ("A", "AAAA", kind)}
        if kind == "CNAME" and (others or (name, "A") in wishes.there):
            continue
        said.append(f"{name} {kind} {values - after.get((name, kind), set())}")
    for name, kind in wishes.gone:
        if name not in wishes.broken and after.get((name, kind)):
            said.append(f"{name} {kind} is still there")
    return said


def lost(wishes: Wishes, before: Zones, after: Zones) -> list[str]:
    """What a plan took away and must not: expected values, what other hands keep, pointers of expected hosts."""
    said = []
    for (name, kind), values in before.items():
        kept = after.get((name, kind), set())
        key = (name, kind)
        if name not in wishes.broken and (wishes.there.get(key, set()) & values) - kept:
            said.append(f"expected, and removed: {name} {kind} {wishes.there[key] & values - kept}")
        own = wishes.absent.get(key, set())
        alone = key in wishes.gone or key in wishes.exact or (name, "CNAME") in wishes.there
        if kind in SEVERAL_HANDS and not alone and key in wishes.there and values - kept - own:
            said.append(f"another hand's, and removed: {name} {kind} {values - kept}")
        if kind == "PTR":
            address = ".".join(reversed(name.split(".")[:4]))
            hosts = {n for (n, k), v in wishes.there.items() if k == "A" and address in v and n not in wishes.broken}
            if (
                values & hosts
                and not kept & hosts
                and key not in wishes.there
                and key not in wishes.gone | set(wishes.absent)
            ):
                said.append(f"an expected host's pointer: {name} {values}")
    return said


@examples(150)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_a_plan_restores_what_is_expected_and_takes_nothing_of_it_away(world: World, word: str) -> None:
    """Whatever else is wrong, and whoever decides what."""
    wishes, before = Wishes(world.expected), zones_of(world)
    plan, _ = plan_of(world, [Decision(word)] if word else [])  # type: ignore[arg-type]
    world.carry_out(plan.sets)
    after = zones_of(world)
    assert not lost(wishes, before, after), (before, after)
    assert not unmet(wishes, before, after), (before, after, [(one.finding.text, one.why) for one in plan.not_ours])


@examples(60)
@given(worlds(), st.sampled_from(("", "remove", "register")))
def test_a_plan_that_only_adds_takes_nothing_away(world: World, word: str) -> None:
    before = zones_of(world)
    plan, _ = plan_of(world, [Decision(word)] if word else [], only_adding=True)  # type: ignore[arg-type]
    assert all(one.before <= one.after for one in plan.sets)
    world.carry_out(plan.sets)
    after = zones_of(world)
    assert all(values <= after.get(key, set()) for key, values in before.items() if key[1] != "SOA")


@examples(60)
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

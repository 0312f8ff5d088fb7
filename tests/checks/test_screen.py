"""What agrees plainly is screened before the judge: with and without that, over whatever world, the same is said and asked."""

from __future__ import annotations

import json
import re
from collections import deque
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Part, Setting, carry_out
from salt_mirror.checks.stale.judging import Stale
from salt_mirror.checks.stale.scope import StaleScope
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import A
from salt_mirror.dns.screening import ForeseenBatch, ForeseenSet, ForeseenSubject, ScreenTally
from salt_mirror.estate.model import Estate
from salt_mirror.standin.server import Fault, StandIn
from support.examples import examples
from support.exchanges import Instant
from support.hostile import hostile_servers, lay_out_liars
from support.program import Run
from support.tables import NOW
from support.worlds import SERVER, Asking, TwoViews, World, declared, in_two_views, worlds

SETTING = Setting(NOW, stranger=b"no-such-0123456789ab")
VALUE = b"\x0a\x00\x00\x01"
TWO = (Server("one", b"\x7f\x00\x00\x01", 1), Server("two", b"\x7f\x00\x00\x01", 2))


class Right(Instant):
    """An exchange in which everybody gives one value for everything."""

    def answer(self, question: Question) -> Answer:
        return Answer(question, "NOERROR", True, (VALUE,), ttl=300)


class Counting(Asking):
    """A world that counts how often each question is put."""

    def __init__(self, world: World | TwoViews) -> None:
        super().__init__(world)
        self.put: dict[tuple[object, ...], int] = {}

    def answer(self, question: Question) -> Answer:
        name, rdtype, server, recurse = question
        key = (name, rdtype, server.endpoint, server.over, server.unchecked, server.signed, recurse)
        self.put[key] = self.put.get(key, 0) + 1
        return super().answer(question)


def said(
    world: World | TwoViews, *, screens: bool, only: str = "", given: bool = False
) -> tuple[list[str], list[str], dict[tuple[object, ...], int]]:
    """The findings and verdicts of an audit, or of one check on its own, and how often each question was put; perhaps to a
    server that was given by hand, of whose zones nothing is known."""
    estate: Estate = world.estate
    exchange = Counting(world)
    runner, atlas = Runner(exchange, screens=screens), Atlas(estate, given=(SERVER,) if given else ())
    if only == "stale":  # its command follows more than the audit does
        parts: list[Part] = [Stale(StaleScope(estate), atlas)]
    else:
        assert atlas.expects.sets is not None  # as in an audit, of which another check reads what is expected
        parts = list(AuditWork(estate, atlas, coverage([only] if only else [], [], estate)).parts.values())
    for part in parts:
        carry_out(part, SETTING, runner)
    verdicts = sorted(repr(verdict) for part in parts for verdict in part.verdicts())
    findings = sorted(re.sub(r"rtt_ms=[^,)]*", "", repr(one)) for part in parts for one in part.findings())
    assert runner.asked == sum(exchange.put.values())
    return findings, verdicts, exchange.put


@given(st.one_of(worlds(), in_two_views()))
@examples(60)
def test_over_random_worlds_the_screen_changes_nothing_that_is_said_or_asked(world: World | TwoViews) -> None:
    with_it = said(world, screens=True)
    assert with_it == said(world, screens=False)


@given(declared(), st.booleans())
@examples(60)
def test_of_a_server_that_was_given_by_hand_it_says_and_asks_the_same(world: World | TwoViews, whole: bool) -> None:
    only = "rollcall" if whole else "pairs"
    assert said(world, screens=True, only=only, given=True) == said(world, screens=False, only=only, given=True)


@given(declared(), st.sampled_from(("", "authority", "views", "views", "stale", "rollcall")))
@examples(120)
def test_where_nearly_all_is_expected_each_check_says_and_asks_the_same(world: World | TwoViews, only: str) -> None:
    with_it = said(world, screens=True, only=only)
    assert with_it == said(world, screens=False, only=only)


def test_most_of_a_sound_world_is_screened_and_a_ttl_that_differs_is_not() -> None:
    class Two(Right):
        def answer(self, question: Question) -> Answer:
            return super().answer(question)._replace(ttl=300 if question[2] is TWO[0] else ttl)

    for ttl, fails in ((300, False), (301, True)):
        one = ForeseenSet(b"\x01a\x00", A, TWO, VALUE)
        runner = Runner(Two())
        (subject,) = runner.screen([ForeseenSubject("a", ((one,),))], deque())
        assert subject.failed is fails and runner.asked == 2
        known = [runner.known(Question(b"\x01a\x00", A, server)) for server in TWO]
        assert [answer and answer.ttl for answer in known] == [300, ttl]


@pytest.mark.parametrize("first", ["the screen", "the dialogue"])
def test_what_a_dialogue_foresees_and_what_another_asks_is_asked_once(first: str) -> None:
    def foreseeing() -> Dialogue[object]:
        subject = ForeseenSubject("a", ((ForeseenSet(b"\x01a\x00", A, TWO, VALUE),),))
        yield ForeseenBatch(subject)
        return subject.agreed

    def asking() -> Dialogue[object]:
        (answer,) = yield [Question(b"\x01a\x00", A, TWO[1])]
        return answer.values

    exchange = Right()
    runner = Runner(exchange)
    order = (foreseeing, asking) if first == "the screen" else (asking, foreseeing)
    # What is under way already is for the dialogue to hear: the subject then has to be judged.
    assert set(runner.run(one() for one in order)) == {first == "the screen", (VALUE,)}
    assert len(exchange.asked) == len(set(exchange.asked)) == (2 if first == "the screen" else 1)


@pytest.mark.parametrize("first", ["the screen", "the dialogue"])
def test_what_is_screened_and_what_a_dialogue_beside_it_asks_is_asked_once(first: str) -> None:
    names = [bytes((1, letter, 0)) for letter in b"abc"]
    sets = [ForeseenSet(name, A, TWO, VALUE) for name in names]

    def asking(server: Server) -> Dialogue[object]:
        return [answer.values for answer in (yield [Question(name, A, server) for name in names])]

    things: list[ForeseenSubject | Dialogue[object]] = [ForeseenSubject("all", (sets,), each=True), asking(TWO[0])]
    beside = deque([asking(TWO[1])] if first == "the dialogue" else ())
    exchange = Right()
    results = list(Runner(exchange).screen(things, beside))
    assert [one for one in results if isinstance(one, list)] == [[(VALUE,)] * 3] * (len(results) - 1)
    assert len(results) == (2 if first == "the screen" else 3) and not beside
    assert all(one.agreed == (first == "the screen") for one in sets)
    assert len(exchange.asked) == len(set(exchange.asked)) == 6


def test_an_exchange_that_compares_and_brings_no_answer_is_listened_to_until_the_last_round() -> None:
    class Compares(Right):
        def __init__(self) -> None:
            super().__init__()
            self.tally, self.later = ScreenTally(), list[ForeseenSet]()

        def foresee(self, sets: Sequence[ForeseenSet]) -> None:
            self.later += sets

        def collect(self, wait_s: float | None = None) -> list[Answer]:
            for one in self.later:
                one.ttl, one.over = 300, "udp"
                one.subject.left -= len(one.servers)
                self.tally.passed += [one.subject] * (not one.subject.left)
            self.later.clear()
            return []

    rounds = [[ForeseenSet(bytes((1, letter, 0)), A, TWO, VALUE)] for letter in b"abc"]
    subject = ForeseenSubject("all", rounds)
    runner = Runner(Compares())
    assert list(runner.screen([subject], deque())) == [subject] and (subject.at, subject.failed) == (3, False)
    assert runner.asked == 6


@pytest.mark.parametrize("fault", [Fault.SILENT, Fault.REFUSING, Fault.GARBAGE, Fault.WRONG_ID, Fault.CUT_SHORT])
def test_a_report_is_the_same_with_and_without_it_where_a_server_misbehaves(
    run: Run, world: tuple[Path, dict[str, StandIn]], fault: Fault
) -> None:
    call = ("--json", "--only", "internal", "--only", "pairs", "--only", "rollcall", "--estate", str(world[0]))
    before, world[1]["dc-kiln"].fault = world[1]["dc-kiln"].fault, fault
    try:
        reports = [run("audit", *call, "--timeout", "0.5", "--tries", "2", *more) for more in ((), ("--no-screen",))]
    finally:
        world[1]["dc-kiln"].fault = before
    keys = ("code", "name", "type", "view", "address", "server", "outcome", "weight")
    found = [
        (
            sorted(str([finding.get(key) for key in keys]) for finding in one.report["findings"]),
            one.report["audit"]["zones"],
        )
        for one in reports
    ]
    assert found[0] == found[1] and reports[0].status == reports[1].status


def test_of_fifty_liars_each_is_told_the_same_with_and_without_it(run: Run, tmp_path: Path) -> None:
    with hostile_servers() as ports:
        lay_out_liars(tmp_path, ports)
        told = []
        for more in ((), ("--no-screen",)):
            report = run("rollcall", "--json", "--timeout", "1", "--tries", "2", *more).report
            found = sorted((one["name"], one["code"], one["outcome"]) for one in report["findings"])
            told.append((found, sorted(json.dumps(one) for one in report["subjects"])))
    assert told[0] == told[1]

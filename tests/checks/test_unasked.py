"""What was not asked accuses nobody: a whole audit in which questions stay unput, against the same one with all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from random import Random

import pytest

from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.questions import AFAR, Answer, Question
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.building import load_estate
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding

Key = tuple[bytes, int, str, bool]


def key_of(question: Question) -> Key:
    server = question.server
    return question.name, question.rdtype, f"{server.over} {server.endpoint}", question.recurse


OF_SILENCE = ("auth.no-tcp", "auth.no-udp", "auth.lame", "res.no-transport", "res.forwarding-fails", "res.no-recursion")
"""What is said of servers that do not answer as they should."""
Unput = Callable[[Question], bool]


class Remembered:
    """An exchange that asks once and tells the same again, but for what is left `unput`."""

    def __init__(self, engine: Engine, known: dict[Key, Answer], unput: Unput) -> None:
        self._engine = engine
        self._known = known
        self._unput = unput
        self._ready: list[Answer] = []

    @property
    def backlog(self) -> int:
        return self._engine.backlog + len(self._ready)

    def submit(self, question: Question) -> None:
        if self._unput(question):
            why = f"{AFAR}not asked from quay: it was lost in the middle"
            self._ready.append(Answer(question, why, tries=0))
        elif (answer := self._known.get(key_of(question))) is not None:
            self._ready.append(answer._replace(question=question))
        else:
            self._engine.submit(question)

    def collect(self) -> list[Answer]:
        if self._ready:
            ready, self._ready = self._ready, []
            return ready
        answers = self._engine.collect()
        self._known.update((key_of(answer.question), answer) for answer in answers)
        return answers


def audited(estate: Estate, exchange: Remembered, setting: Setting) -> list[Finding]:
    atlas = Atlas(estate, resolvers=estate.finders)
    work = AuditWork(estate, atlas, coverage([], [], estate))
    work.run(setting, Runner(exchange, most=estate.bounds.questions_for_a_name), lambda: None)
    return work.findings()


@pytest.fixture(scope="module")
def engine() -> Iterator[Engine]:
    with Engine(timeout_s=0.3, tries=2) as engine:
        yield engine


def by_chance(share: float, seed: int) -> Unput:
    dice = Random(seed)
    return lambda _: dice.random() < share


def test_a_question_that_was_not_put_accuses_nobody(world: tuple[Path, object], engine: Engine) -> None:
    known: dict[Key, Answer] = {}
    setting = Setting(datetime.now(UTC))
    whole = audited(load_estate(world[0]), Remembered(engine, known, lambda _: False), setting)
    sure = [one for one in whole if one.outcome != "unverified"]
    told, names = {(one.code, one.view, one.name) for one in sure}, {one.name for one in sure}
    codes = {one.code for one in sure}
    assert len(told) > 40
    worlds = [by_chance(share, seed) for seed, share in enumerate([0.02, 0.1, 0.3, 0.3, 0.6])]
    worlds += [lambda question: question.server.over == "tcp", lambda question: question.server.over != "tcp"]
    ports = sorted({question.server.port for question in (answer.question for answer in known.values())})
    worlds += [lambda question, port=port: question.server.port == port for port in ports]  # type: ignore[misc]
    for number, unput in enumerate(worlds):
        found = audited(load_estate(world[0]), Remembered(engine, known, unput), setting)
        accused = [one for one in found if one.outcome != "unverified" and one.weight != "note"]
        # One server's word alone may be told as a fault of its own name; what was not asked never is.
        new = [
            (one.code, one.name, one.text)
            for one in accused
            if (one.code, one.view, one.name) not in told
            and (one.code in OF_SILENCE or (one.name not in names and one.code not in codes))
        ]
        assert new == [], number
        assert not any("not asked from" in one.text for one in accused), number
    nothing = audited(load_estate(world[0]), Remembered(engine, known, lambda _: True), setting)
    assert [one for one in nothing if one.outcome != "unverified" and one.weight != "note"] == []
    assert len(nothing) > 10

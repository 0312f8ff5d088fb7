"""Dialogues, and the runner that holds any number of them at once.

Strategy: a check is a generator that yields a batch of questions, is sent their answers in the same order, and returns
what it found. The runner pools the batches of all running dialogues, puts each distinct question to its server once, and
resumes a dialogue as soon as its batch is complete. It sees an Exchange and no socket, so a test can answer from a dict.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Iterator
from typing import Any, Protocol, TypeVar

from salt_mirror.dns.questions import Answer, Question

T = TypeVar("T")
Dialogue = Generator[list[Question], list[Answer], T]
"""Yields batches of questions, is sent the matching answers, returns a T."""


class Exchange(Protocol):
    """Whatever carries questions to servers: the engine, or a test's table of answers."""

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way."""

    def submit(self, question: Question) -> None:
        """Takes a question; its answer comes out of `collect` sooner or later, whatever happens."""

    def collect(self) -> list[Answer]:
        """Waits until at least one question has ended and returns those that have; empty when none is under way."""


class _Turn:
    """A dialogue that waits for the answers to its batch."""

    __slots__ = ("batch", "dialogue", "missing")

    def __init__(self, dialogue: Dialogue[Any], batch: list[Question], missing: int) -> None:
        self.dialogue = dialogue
        self.batch = batch
        self.missing = missing


class Runner:
    """Drives dialogues over an exchange. Answers are kept for the runner's life, so nothing is asked twice."""

    def __init__(self, exchange: Exchange, *, ahead: int = 1024) -> None:
        """`ahead`: new dialogues are begun while fewer questions than this are waiting or under way."""
        self._exchange = exchange
        self._ahead = ahead
        self._known: dict[Question, Answer] = {}
        self._waiting: dict[Question, list[_Turn]] = {}
        self.asked = 0
        self.saved = 0

    def run(self, dialogues: Iterable[Dialogue[T]]) -> Iterator[T]:
        """Runs dialogues to their ends and yields what each returns, in the order in which they end."""
        queue = iter(dialogues)
        results: list[T] = []
        exchange = self._exchange
        more = True
        while True:
            while more and exchange.backlog < self._ahead:
                dialogue = next(queue, None)
                if dialogue is None:
                    more = False
                else:
                    self._advance(dialogue, None, results)
                    if len(results) >= 256:
                        break
            if results:
                yield from results
                results.clear()
                if more and exchange.backlog < self._ahead:
                    continue
            answers = exchange.collect()
            if not answers:
                if more:
                    continue
                return
            for answer in answers:
                self._hear(answer, results)

    def _hear(self, answer: Answer, results: list[Any]) -> None:
        question = answer.question
        self._known[question] = answer
        for turn in self._waiting.pop(question):
            turn.missing -= 1
            if not turn.missing:
                self._advance(turn.dialogue, turn.batch, results)

    def _advance(self, dialogue: Dialogue[Any], batch: list[Question] | None, results: list[Any]) -> None:
        """Resumes a dialogue, again and again while everything that it asks is known already."""
        known = self._known
        try:
            while True:
                if batch is None:
                    batch = next(dialogue)
                else:
                    batch = dialogue.send([known[question] for question in batch])
                missing = self._ask(dialogue, batch)
                if missing:
                    return
        except StopIteration as end:
            results.append(end.value)

    def _ask(self, dialogue: Dialogue[Any], batch: list[Question]) -> int:
        """Asks what is not known yet; returns how many answers the dialogue has to wait for."""
        turn: _Turn | None = None
        for question in batch:
            if question in self._known:
                self.saved += 1
                continue
            if turn is None:
                turn = _Turn(dialogue, batch, 0)
            others = self._waiting.get(question)
            if others is None:
                self._waiting[question] = [turn]
                self._exchange.submit(question)
                self.asked += 1
            else:
                self.saved += 1
                if others[-1] is turn:
                    continue
                others.append(turn)
            turn.missing += 1
        return turn.missing if turn else 0


def together(dialogues: list[Dialogue[T]]) -> Dialogue[list[T]]:
    """Several dialogues as one, in step: their batches are joined, so that none waits for another's round."""
    results: dict[int, T] = {}
    batches: dict[int, list[Question]] = {}
    answers: dict[int, list[Answer] | None] = dict.fromkeys(range(len(dialogues)))
    while answers:
        batches.clear()
        for number, heard in answers.items():
            try:
                batches[number] = next(dialogues[number]) if heard is None else dialogues[number].send(heard)
            except StopIteration as end:
                results[number] = end.value
        answers = {}
        if batches:
            joined = yield [question for batch in batches.values() for question in batch]
            at = 0
            for number, batch in batches.items():
                answers[number] = joined[at : at + len(batch)]
                at += len(batch)
    return [results[number] for number in range(len(dialogues))]


def settled(dialogue: Dialogue[T], exchange: Exchange) -> T:
    """Runs a single dialogue to its end."""
    return next(Runner(exchange).run([dialogue]))

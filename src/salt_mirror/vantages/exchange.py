"""An exchange whose questions are put by vantages: the far counterpart of the engine.

Strategy: questions wait by vantage and leave in batches; how many are under way is bounded, so that a vantage has work while an
answer travels and no queue grows at its end. What a vantage does not answer within its patience is answered here, with the
vantage's name and the reason, and everything else that waits for it too: the rest goes on. A batch whose answers were lost on
the way, since the broker dropped them or was started again, is asked once more. Questions for no vantage go to the engine of
this computer.
"""

from __future__ import annotations

import contextlib
import queue
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field

from salt_mirror import __version__
from salt_mirror.dns.dialogue import Near
from salt_mirror.dns.questions import AFAR, Answer, Question
from salt_mirror.vantages.desk import GREET_S, Box, Desk, News, Present, clock_trouble, errand_number
from salt_mirror.vantages.protocol import (
    MOST_QUESTIONS,
    Absence,
    AnswerColumns,
    BatchAnswers,
    Facts,
    Presence,
    answers_of,
    batch_of,
    picked,
)
from salt_mirror.vantages.transport import Unreached

PATIENCE_S = 10.0
"""So long a vantage with work in hand may say nothing: it gives a sign of life every second."""
BROKER_PATIENCE_S = 30.0
"""So long the broker may be away."""
RETURN_S = 3.0
"""So long a vantage whose connection has ended may take to come back before it is given up."""
MOST_UNDER_WAY = 16 * MOST_QUESTIONS
ENOUGH = 2 * MOST_QUESTIONS
BATCHES_UNDER_WAY = 64
"""So many batches, however small: a vantage has at most four times as many in hand, whoever asks."""
WITHIN_S = 120.0
_GLANCE_S = 0.005


@dataclass(slots=True)
class _Errand:
    """A batch that is under way: its questions by their place in it, when it was last heard of (monotonic seconds), and whether
    it was sent before."""

    questions: dict[int, Question]
    heard_at: float
    again: bool


@dataclass(slots=True)
class _Far:
    """One vantage: what waits for it, what is under way, when it was last heard, and why it is given up."""

    name: str
    lost: str | None
    session: str = ""
    heard_at: float = field(default_factory=time.monotonic)
    called: int = 0
    called_at: float = 0.0
    missed_at: float | None = None  # since when it is awaited at the broker
    absent: bool = False  # the broker has seen its connection end
    waiting: deque[Question] = field(default_factory=deque)
    under_way: dict[int, _Errand] = field(default_factory=dict)

    @property
    def in_hand(self) -> int:
        return sum(len(errand.questions) for errand in self.under_way.values())


Choose = Callable[[Question], str]
"""The vantage that puts a question; empty for this computer."""


class FarExchange:
    """Puts questions through vantages. `choose` says which; without it the server's own (`via`)."""

    def __init__(
        self,
        desk: Desk | None,
        present: dict[str, Present],
        near: Near | None = None,
        choose: Choose | None = None,
        *,
        shared: bool = False,
        revived: bool = False,
        patience_s: float = PATIENCE_S,
        broker_patience_s: float = BROKER_PATIENCE_S,
        return_s: float = RETURN_S,
    ) -> None:
        """Those of the `present` vantages that have a trouble are asked nothing. Where all are `shared`, the others take over
        what a lost one leaves; `revived` ones are used again when they come back."""
        self._desk = desk
        self._near = near
        self._choose = choose or (lambda question: question[2].via)
        self._patience_s = patience_s
        self._broker_patience_s = broker_patience_s
        self._return_s = return_s
        self._far = {name: _Far(name, one.trouble) for name, one in present.items()}
        self._by_number: dict[int, _Far] = {}
        self._box: Box = queue.SimpleQueue()
        self._stopped = ""
        self._done: list[Answer] = []
        self._count = 0
        self._shared = shared
        self._revived = revived
        self._times = 0
        self._away_since: float | None = None
        self.strays = self.late = 0
        if desk is not None:
            desk.watch(self._box)
            desk.listen(list(self._far))
            self._times = desk.times
            for far in self._far.values():
                presence = desk.presence(far.name)
                if far.lost is None and presence is not None:
                    far.session = presence.session
                elif far.lost is None:
                    far.lost = "it is not there any more"

    @property
    def standing(self) -> list[str]:
        """The vantages that can be used still."""
        return [far.name for far in self._far.values() if far.lost is None]

    def stop(self, why: str) -> None:
        """End it, from whatever thread: what is left is answered with the reason."""
        self._stopped = why

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way, or have ended and were not collected yet."""
        return self._count + len(self._done) + (self._near.backlog if self._near is not None else 0)

    @property
    def lost(self) -> dict[str, str]:
        """The vantages that cannot be used any more, each with the reason."""
        return {far.name: far.lost for far in self._far.values() if far.lost is not None}

    def submit(self, question: Question) -> None:
        """Take a question; its answer comes out of `collect` sooner or later, whatever happens."""
        name = self._choose(question)
        if not name and self._near is not None:
            self._near.submit(question)
            return
        far = self._far.get(name)
        if far is not None and far.lost is not None and self._revived:
            self._listen(0.0)
            if far.lost is not None:
                self._call(far)
        if far is None:
            self._done.append(_unasked(question, name or "this computer", "it is not one of those that were asked for"))
        elif far.lost is not None:
            self._done.append(_unasked(question, name, far.lost))
        else:
            far.waiting.append(question)
            self._count += 1

    def collect(self, wait_s: float | None = None) -> list[Answer]:
        """Work until at least one question has ended, or `wait_s` seconds have passed; empty when none is under way."""
        until = time.monotonic() + wait_s if wait_s is not None else None
        while not self._done and self.backlog:
            if self._stopped:
                self._lose_all(self._stopped)
                break
            self._send()
            left = 1.0 if until is None else until - time.monotonic()
            if left <= 0:
                break
            near = self._near is not None and self._near.backlog > 0
            if near and self._near is not None:
                self._done += self._near.collect(_GLANCE_S if self._count else min(left, 1.0))
            if self._count:
                self._listen(0.0 if near else min(left, 0.25))
                self._give_up()
        done, self._done = self._done, []
        return done

    def _send(self) -> None:
        if self._desk is None or not self._desk.connected or self._desk.times != self._times:
            return
        for far in self._far.values():
            # While enough is under way, a batch is filled before it leaves.
            while (
                far.waiting
                and far.missed_at is None
                and len(far.under_way) < BATCHES_UNDER_WAY
                and (in_hand := far.in_hand) < (MOST_UNDER_WAY if len(far.waiting) >= MOST_QUESTIONS else ENOUGH)
            ):
                questions = [far.waiting.popleft() for _ in range(min(MOST_QUESTIONS, len(far.waiting)))]
                if not in_hand:
                    far.heard_at = time.monotonic()
                if not self._dispatch(far, questions, again=False):
                    far.waiting.extendleft(reversed(questions))
                    break

    def _dispatch(self, far: _Far, questions: list[Question], *, again: bool) -> bool:
        """Send a batch; False where the broker is away."""
        assert self._desk is not None
        batch, asked = batch_of(errand_number(), far.session, questions, until=time.time() + WITHIN_S)
        try:
            self._desk.send(far.name, self._box, batch)
        except Unreached:
            return False
        far.under_way[batch.number] = _Errand(dict(enumerate(asked)), time.monotonic(), again)
        self._by_number[batch.number] = far
        return True

    def _listen(self, wait_s: float) -> None:
        """Take what has come; wait for the first of it."""
        with contextlib.suppress(queue.Empty):
            news = self._box.get(timeout=wait_s) if wait_s else self._box.get_nowait()
            while True:
                if isinstance(news.message, BatchAnswers):
                    self._hear(news.at, news.message)
                else:
                    self._hear_news(news)
                news = self._box.get_nowait()

    def _hear(self, at: float, answers: BatchAnswers) -> None:
        trouble = clock_trouble(answers.clock - (time.time() - (time.monotonic() - at)), self._patience_s / 5)
        for number in (*answers.working, *(part.number for part in answers.parts)):
            far = self._by_number.get(number)
            if far is not None and far.lost is None:
                far.heard_at = far.under_way[number].heard_at = at
                if trouble is not None:
                    self._lose(far, trouble)
        for part in answers.parts:
            far = self._by_number.get(part.number)
            if far is not None and far.lost is None:
                self._take(far, far.under_way[part.number], part)

    def _take(self, far: _Far, errand: _Errand, part: AnswerColumns) -> None:
        """Take answers to questions that are open; each counts once."""
        take = errand.questions.pop
        questions = [take(place, None) for place in part.places]
        if None in questions:
            opened = [question is not None for question in questions]
            part = picked(part, opened)
            questions = [question for question in questions if question is not None]
        self._done += answers_of(part, questions)  # type: ignore[arg-type]
        self._count -= len(questions)
        if not errand.questions:
            self._end(far, part.number)

    def _hear_news(self, news: News) -> None:
        """Take in what a vantage says of itself, or what the broker says of its connection."""
        far = self._far.get(news.vantage)
        message = news.message
        if far is None:
            return
        if isinstance(message, Facts):
            if message.number == far.called:
                self._back(far, message)
        elif isinstance(message, Absence):
            if far.lost is None and message.session == far.session:
                far.missed_at, far.absent = time.monotonic(), True
        elif isinstance(message, Presence):
            if far.lost is not None and self._revived:
                self._call(far)
            elif far.lost is None and far.missed_at is None and message.session != far.session:
                self._ask_again(far, message.session)  # it was started again, and knows nothing of what was under way

    def _ask_again(self, far: _Far, session: str) -> None:
        """Put everything that is under way back in front of what waits."""
        far.waiting.extendleft(reversed(self._taken_back(far)))
        far.session, far.heard_at, far.missed_at, far.absent = session, time.monotonic(), None, False

    def _taken_back(self, far: _Far) -> list[Question]:
        """End every errand that is under way, and return the questions that were not answered."""
        left = [question for errand in far.under_way.values() for question in errand.questions.values()]
        for number in list(far.under_way):
            self._end(far, number)
        return left

    def _end(self, far: _Far, number: int) -> None:
        far.under_way.pop(number, None)
        self._by_number.pop(number, None)
        if self._desk is not None:
            self._desk.done(number)

    def _give_up(self) -> None:
        desk, now = self._desk, time.monotonic()
        if desk is None:
            return
        if desk.refused:
            self._lose_all(desk.refused)
        elif not desk.connected:
            self._away_since = self._away_since or now
            if now - self._away_since > self._broker_patience_s:
                self._lose_all(f"the broker at {desk.address} could not be reached for {self._broker_patience_s:.0f} s")
            return
        self._away_since = None
        if desk.times != self._times:
            self._times = desk.times
            for far in self._far.values():
                far.missed_at, far.absent = now if far.lost is None else None, False
        for far in list(self._far.values()):
            if far.lost is None:
                self._look_after(far, desk, now)

    def _look_after(self, far: _Far, desk: Desk, now: float) -> None:
        """Give up a vantage that is silent; ask again what was lost on the way."""
        if far.missed_at is not None:
            presence = desk.presence(far.name)
            if presence is not None:
                self._ask_again(far, presence.session)
            elif far.absent and now - far.missed_at > self._return_s:
                self._lose(far, "it was lost in the middle: its connection to the broker has ended")
            elif now - far.missed_at > self._patience_s:
                self._lose(far, "it was lost in the middle: it has not come back to the broker")
        elif desk.distrusted(far.name):
            self._lose(far, "it sends what was not asked for")
        elif far.under_way and now - far.heard_at > self._patience_s:
            self._lose(far, f"it was lost in the middle: nothing was heard of it for {self._patience_s:.0f} s")
        else:
            for number, errand in list(far.under_way.items()):
                if now - errand.heard_at > self._patience_s:
                    self._end(far, number)
                    if errand.again or not self._dispatch(far, list(errand.questions.values()), again=True):
                        self._count -= len(errand.questions)
                        why = "its answers were lost on the way"
                        self._done += [_unasked(question, far.name, why) for question in errand.questions.values()]

    def _lose_all(self, why: str) -> None:
        for far in list(self._far.values()):
            if far.lost is None:
                self._lose(far, why)

    def _lose(self, far: _Far, why: str) -> None:
        far.lost = why
        far.missed_at = None
        left = [*self._taken_back(far), *far.waiting]
        far.waiting.clear()
        self._count -= len(left)
        if self._shared and self.standing and not self._stopped:
            for question in left:
                self.submit(question)
        else:
            self._done += [_unasked(question, far.name, why) for question in left]

    def _call(self, far: _Far) -> None:
        """Greet a lost vantage that is there again."""
        now = time.monotonic()
        presence = self._desk.presence(far.name) if self._desk is not None else None
        if self._desk is None or presence is None or (far.called and now - far.called_at < GREET_S):
            return
        self._desk.done(far.called)
        self._desk.listen([far.name])
        with contextlib.suppress(Unreached):
            far.called, far.called_at = self._desk.greet_one(far.name, presence, self._box), now

    def _back(self, far: _Far, facts: Facts) -> None:
        """Use a vantage again that has answered, if it fits."""
        far.called = 0
        presence = self._desk.presence(far.name) if self._desk is not None else None
        if far.lost is None or presence is None:
            return
        if presence.version != __version__:
            far.lost = f"it has version {presence.version}"
            return
        far.lost = clock_trouble(facts.clock - time.time(), 1.0)
        far.session, far.heard_at, far.missed_at, far.absent = presence.session, time.monotonic(), None, False


def _unasked(question: Question, name: str, why: str) -> Answer:
    return Answer(question, f"{AFAR}not asked from {name}: {why}", tries=0)

"""An exchange whose questions are put by vantages: the far counterpart of the engine.

Strategy: questions wait by vantage and leave in batches; how many are on the way is bounded, so that a vantage has work while
an answer travels and no queue grows at its end. What a vantage does not answer within its patience is answered by us, with
the vantage's name and the reason, and everything else that waits for it too: the rest goes on. Questions for no vantage go to
the engine of this computer.
"""

from __future__ import annotations

import contextlib
import queue
import time
from collections import deque
from collections.abc import Callable
from functools import partial

from salt_mirror import __version__
from salt_mirror.dns.dialogue import Near
from salt_mirror.dns.questions import AFAR, Answer, Question
from salt_mirror.vantages.desk import Desk, Present, Unreached, clock_trouble
from salt_mirror.vantages.parcel import (
    MOST_QUESTIONS,
    BatchAnswers,
    Facts,
    Greeting,
    Reply,
    answer_of,
    batch_of,
)

PATIENCE_S = 10.0
"""So long a vantage with work in hand may say nothing: it gives a sign of life every second."""
MOST_UNDER_WAY = 16 * MOST_QUESTIONS
ENOUGH = 2 * MOST_QUESTIONS
WITHIN_S = 120.0
_GLANCE_S = 0.005

Box = queue.SimpleQueue[tuple[float, Reply]]


class _Far:
    """One vantage: what waits for it, what is under way, when it was last heard, and why it is given up."""

    __slots__ = ("calling", "heard_at", "lost", "name", "under_way", "waiting")

    def __init__(self, name: str, lost: str | None) -> None:
        self.name = name
        self.lost = lost
        self.calling = 0
        self.heard_at = time.monotonic()
        self.waiting: deque[Question] = deque()
        self.under_way: dict[int, dict[int, Question]] = {}

    @property
    def in_hand(self) -> int:
        return sum(map(len, self.under_way.values()))


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
    ) -> None:
        """Those of the `present` vantages that have a trouble are asked nothing. Where all are `shared`, the others take over
        what a lost one leaves; `revived` ones are used again when they come back."""
        self._desk = desk
        self._near = near
        self._choose = choose or (lambda question: question[2].via)
        self._patience_s = patience_s
        self._far = {name: _Far(name, one.trouble) for name, one in present.items()}
        self._by_number: dict[int, _Far] = {}
        self._box: Box = queue.SimpleQueue()
        self._stopped = ""
        self._done: list[Answer] = []
        self._count = 0
        self._shared = shared
        self._revived = revived
        self.strays = self.late = 0

    @property
    def standing(self) -> list[str]:
        """The vantages that can be used still."""
        return [far.name for far in self._far.values() if far.lost is None]

    def stop(self, why: str) -> None:
        """Ends it, from whatever thread: what is left is answered with the reason."""
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
        """Takes a question; its answer comes out of `collect` sooner or later, whatever happens."""
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
        """Works until at least one question has ended, or `wait_s` seconds have passed; empty when none is under way."""
        until = time.monotonic() + wait_s if wait_s is not None else None
        while not self._done and self.backlog:
            if self._stopped:
                for far in self._far.values():
                    if far.lost is None:
                        self._lose(far, self._stopped)
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
        for far in self._far.values():
            # While enough is under way, a batch is filled before it leaves.
            while (
                far.waiting
                and self._desk is not None
                and far.in_hand < (MOST_UNDER_WAY if len(far.waiting) >= MOST_QUESTIONS else ENOUGH)
            ):
                questions = [far.waiting.popleft() for _ in range(min(MOST_QUESTIONS, len(far.waiting)))]
                if not far.under_way:
                    far.heard_at = time.monotonic()
                try:
                    batch = partial(batch_of, reply_to=self._desk.name, questions=questions, within_s=WITHIN_S)
                    number = self._desk.send(far.name, self._box, batch)
                except Unreached as error:
                    far.waiting.extendleft(reversed(questions))
                    self._lose(far, str(error))
                    break
                far.under_way[number] = dict(enumerate(questions))
                self._by_number[number] = far

    def _listen(self, wait_s: float) -> None:
        """Takes what has come; waits for the first of it."""
        try:
            at, reply = self._box.get(timeout=wait_s) if wait_s else self._box.get_nowait()
            while True:
                if isinstance(reply, BatchAnswers):
                    self._hear(at, reply)
                elif isinstance(reply, Facts):
                    self._back(reply)
                at, reply = self._box.get_nowait()
        except queue.Empty:
            pass

    def _hear(self, at: float, told: BatchAnswers) -> None:
        trouble = clock_trouble(told.clock - (time.time() - (time.monotonic() - at)), self._patience_s / 5)
        for number, lines in told.parts:
            far = self._by_number.get(number)
            if far is None or far.lost is not None:
                continue
            far.heard_at = at
            if trouble is not None:
                self._lose(far, trouble)
                continue
            open_ones, before = far.under_way[number], len(self._done)
            take, done = open_ones.pop, self._done.append
            for line in lines:
                question = take(line[0], None)
                if question is not None:
                    done(answer_of(line, question))
            self._count -= len(self._done) - before
            if not open_ones:
                self._end(far, number)

    def _end(self, far: _Far, number: int) -> None:
        far.under_way.pop(number, None)
        self._by_number.pop(number, None)
        if self._desk is not None:
            self._desk.done(number)

    def _give_up(self) -> None:
        now = time.monotonic()
        for far in self._far.values():
            if far.lost is None and far.under_way and now - far.heard_at > self._patience_s:
                self._lose(far, f"it was lost in the middle: nothing was heard of it for {self._patience_s:.0f} s")

    def _lose(self, far: _Far, why: str) -> None:
        far.lost = why
        left = [*(question for batch in far.under_way.values() for question in batch.values()), *far.waiting]
        for number in list(far.under_way):
            self._end(far, number)
        far.waiting.clear()
        self._count -= len(left)
        if self._shared and self.standing and not self._stopped:
            for question in left:
                self.submit(question)
        else:
            self._done += [_unasked(question, far.name, why) for question in left]

    def _call(self, far: _Far) -> None:
        """Asks a lost vantage to say when it is back: the errand waits at the scheduler until it is."""
        if self._desk is None or far.calling:
            return
        reply_to = self._desk.name
        with contextlib.suppress(Unreached):
            far.calling = self._desk.send(far.name, self._box, lambda number: Greeting(number, reply_to))

    def _back(self, facts: Facts) -> None:
        for far in self._far.values():
            if far.calling == facts.number:
                far.calling = 0
                apart = facts.clock - time.time()
                far.lost = (
                    clock_trouble(apart, 1.0) if facts.version == __version__ else f"it has version {facts.version}"
                )


def _unasked(question: Question, name: str, why: str) -> Answer:
    return Answer(question, f"{AFAR}not asked from {name}: {why}", tries=0)

"""Dialogues, and the runner that holds any number of them at once.

Strategy: a check is a generator that yields a batch of questions, is sent their answers in the same order, and returns
what it found. The runner pools the batches of all running dialogues, puts each distinct question to its server once, and
resumes a dialogue as soon as its batch is complete. It sees an Exchange and no socket, so a test can answer from a dict.
What servers say leads to other servers, which never asked for our company: a dialogue may put only so many questions to those.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Generator, Iterable, Iterator
from struct import Struct
from typing import Any, Protocol, TypeVar

from salt_mirror.dns.foreseeing import Foreseeing
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import UNASKED, Answer, Question, Server
from salt_mirror.dns.records import AXFR, CNAME, SOA
from salt_mirror.dns.screening import ForeseenBatch, ForeseenSubject
from salt_mirror.dns.wire import first_record_only

_AT_ONCE = 256
"""So many results are handed on at a time, so that a large estate holds none of them."""
T = TypeVar("T")
Dialogue = Generator[list[Question], list[Answer], T]
"""Yields batches of questions, is sent the matching answers, returns a T."""


class Exchange(Protocol):
    """Whatever carries questions to servers: the engine, or a test's table of answers."""

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way."""

    def submit(self, question: Question) -> None:
        """Take a question; its answer comes out of `collect` sooner or later, whatever happens."""

    def collect(self) -> list[Answer]:
        """Wait until at least one question has ended and return those that have; empty when none is under way."""


class Near(Exchange, Protocol):
    """An exchange that can be listened to for a while, as the engine can."""

    @property
    def strays(self) -> int:
        """How many datagrams came in that answered nothing."""

    @property
    def late(self) -> int:
        """How many replies came too late."""

    def collect(self, wait_s: float | None = None) -> list[Answer]:
        """Return the same, but for no longer than `wait_s` seconds."""


class _Turn:
    """A dialogue that waits for the answers to its batch; `left` questions may still go to servers that were found."""

    __slots__ = ("answers", "dialogue", "left", "missing")

    def __init__(self, dialogue: Dialogue[Any], answers: list[Any]) -> None:
        self.dialogue = dialogue
        self.answers = answers
        self.left = 0
        self.missing = 0


class Runner:
    """Drives dialogues over an exchange. Answers are kept for the runner's life, so nothing is asked twice.

    Kept small: an audit has hundreds of thousands. An answer that is only what it says (values and their TTL, or that there
    are none) is folded into a few bytes and comes back without its message; any other, every SOA, and
    whatever was asked for with DO, is kept as it is.
    """

    def __init__(self, exchange: Exchange, *, ahead: int = 1024, most: int = 200, screens: bool = True) -> None:
        """`ahead`: new dialogues are begun while fewer questions than this are waiting or under way; `most`: so many questions
        a dialogue may put to servers that were found on the way; `screens`: whether what is foreseen is screened first."""
        self._exchange = exchange
        self._ahead = ahead
        self._most = most
        self._kept: dict[tuple[Server, int, bool], _Folder] = {}
        self._waiting: dict[Question, tuple[_Folder, _Turn, int]] = {}
        self._more: dict[Question, list[tuple[_Turn, int]]] = {}
        self._screening: dict[ForeseenSubject, _Turn] = {}
        self.screens = screens
        self.asked = 0
        self.saved = 0
        self._foreseen = Foreseeing(self, exchange, self._kept, _folded)

    def run(self, dialogues: Iterable[Dialogue[T]], *, names: int = 1) -> Iterator[T]:
        """Run dialogues to their ends and yields what each returns, in the order in which they end. A dialogue may cost as
        much as `names` names."""
        return self._drive(dialogues, deque(), names)

    def known(self, question: Question) -> Answer | None:
        """Return the answer to a question that was put already; None for any other."""
        name, rdtype, server, recurse = question
        kept = self._kept.get((server, rdtype, recurse), {}).get(name)
        return _unfolded(kept, question) if kept else self._foreseen.answer(question)

    def heard(self) -> Iterator[tuple[Name, int, tuple[bytes, ...]]]:
        """Return every set that any server has given so far, with its name and type, aliases as CNAME sets."""
        for (_, rdtype, _), folder in self._kept.items():
            for name, kept in folder.items():
                if isinstance(kept, bytes):  # what is under way, or says that there is nothing, is shorter
                    if len(kept) > _FOLD.size:
                        yield name, rdtype, (kept[_FOLD.size :],)
                    continue
                if kept.alias is not None:
                    yield name, CNAME, (kept.alias,)
                if kept.values:
                    yield name, rdtype, kept.values
        yield from self._foreseen.heard()

    def screen(
        self, things: Iterable[ForeseenSubject | Dialogue[T]], beside: deque[Dialogue[T]], *, names: int = 1
    ) -> Iterator[ForeseenSubject | T]:
        """Put what is foreseen of subjects to their servers, and yield each when all of it is known, or when it has failed:
        the answers that came are kept, and asked for by nobody again. Dialogues among them are run as ever, and so are those
        that whoever takes a subject puts `beside`, which come first: what each returns is yielded too."""
        return self._drive(things, beside, names)

    def _drive(
        self, things: Iterable[ForeseenSubject | Dialogue[Any]], beside: deque[Dialogue[Any]], names: int
    ) -> Iterator[Any]:
        queue, exchange, foreseen = iter(things), self._exchange, self._foreseen
        results: list[Any] = []
        more, begun, most = True, 0, self._most * names
        while True:
            # Thousands may wait for one and the same question: a bound of its own for dialogues that are under way at a time.
            # Results are handed on before there are many, so that an audit of a million names holds none of them.
            while exchange.backlog < self._ahead and begun < 2 * self._ahead and len(results) < _AT_ONCE:
                thing = beside.popleft() if beside else next(queue, None) if more else None
                if thing is None:
                    more = False
                    break
                if isinstance(thing, ForeseenSubject):
                    foreseen.begin(thing, results)
                else:
                    begun += 1
                    self._begin(thing, results, most)
            if results:
                for result in results:
                    yield result
                    if isinstance(result, ForeseenSubject):
                        result.rounds = ()  # its sets know it: a cycle, which would wait for the garbage collector
                results.clear()
                if (more or beside) and exchange.backlog < self._ahead and begun < 2 * self._ahead:
                    continue
            begun = 0
            if self._collect(results) or more or beside:
                continue
            blocked = foreseen.unblocked()
            if not blocked:
                return
            queue, more = iter(blocked), True

    def _collect(self, results: list[Any]) -> bool:
        """Wait for answers and go on with whatever waits for them; subjects that no dialogue waits for are results as well.
        False where nothing is under way."""
        answers = self._exchange.collect()
        if self._foreseen.agreed:
            ended: list[ForeseenSubject] = []
            # What went on to its next round has neither ended nor brought an answer.
            heard = bool(answers) or self._foreseen.has_passed
            answers = self._foreseen.hear(answers, ended)
            for subject in ended:
                self._end_subject(subject, results)
            for answer in answers:
                self._hear(answer, results)
            return heard
        for answer in answers:
            self._hear(answer, results)
        return bool(answers)

    def _begin(self, dialogue: Dialogue[Any], results: list[Any], most: int) -> None:
        try:
            batch = next(dialogue)
        except StopIteration as end:
            results.append(end.value)
        else:
            self._ask(dialogue, batch, results, most)

    def _hear(self, answer: Answer, results: list[Any]) -> None:
        question = answer[0]
        folder, turn, place = self._waiting.pop(question)
        folder[question[0]] = _folded(answer)
        turn.answers[place] = answer
        turn.missing -= 1
        if not turn.missing:
            self._go_on(turn, results)
        # Several dialogues may have asked the same: each gets the one answer.
        if self._more and question in self._more:
            self._pass_on(answer, results)

    def _end_subject(self, subject: ForeseenSubject, results: list[Any]) -> None:
        """Go on with the dialogue of a subject, or hand it on; and with those that asked the same meanwhile."""
        turn = self._screening.pop(subject, None)
        if turn is None:
            results.append(subject)
        else:
            self._go_on(turn, results)
        if not subject.awaited:
            return
        for one in (one for sets in subject.rounds for one in sets):
            for server in one.servers:
                question = Question(one.name, one.rdtype, server)
                answer = self.known(question) if question in self._more and question not in self._waiting else None
                if answer is not None:
                    self._pass_on(answer, results)

    def _pass_on(self, answer: Answer, results: list[Any]) -> None:
        """Hand an answer to the dialogues that wait for what another one has asked."""
        for turn, place in self._more.pop(answer[0]):
            turn.answers[place] = answer
            turn.missing -= 1
            if not turn.missing:
                self._go_on(turn, results)

    def _go_on(self, turn: _Turn, results: list[Any]) -> None:
        try:
            batch = turn.dialogue.send(turn.answers)
        except StopIteration as end:
            results.append(end.value)
        else:
            self._ask(turn.dialogue, batch, results, turn.left)

    def _ask(self, dialogue: Dialogue[Any], batch: list[Question], results: list[Any], left: int) -> None:
        """Ask what is not known yet; go on with the dialogue at once while everything is. `left` bounds what goes to servers
        that were found."""
        waiting, kept, submit, foreseen = self._waiting, self._kept, self._exchange.submit, self._foreseen
        while True:
            if batch.__class__ is ForeseenBatch and self.screens:
                subject = batch.subject
                if foreseen.begin_of_dialogue(subject):
                    held = _Turn(dialogue, [])
                    held.left = left
                    self._screening[subject] = held
                    return
            turn: _Turn | None = None
            answers: list[Any] = []
            for place, question in enumerate(batch):
                name, rdtype, server, recurse = question
                key = (server, rdtype, recurse)
                folder = kept.get(key)
                if folder is None:
                    folder = kept[key] = {}
                elif said_before := folder.get(name):
                    answers.append(_unfolded(said_before, question))
                    self.saved += 1
                    continue
                if foreseen.agreed and (said := foreseen.answer(question)) is not None:
                    answers.append(said)
                    self.saved += 1
                    continue
                if server.found:
                    left -= 1
                    if left < 0:
                        answers.append(Answer(question, UNASKED, tries=0))
                        continue
                answers.append(None)
                if turn is None:
                    turn = _Turn(dialogue, answers)
                turn.missing += 1
                if question in waiting or (foreseen.agreed and foreseen.awaits(question)):
                    self._more.setdefault(question, []).append((turn, place))
                    self.saved += 1
                else:
                    waiting[question] = (folder, turn, place)
                    folder[name] = _UNDER_WAY
                    submit(question)
                    self.asked += 1
            if turn is not None:
                turn.left = left
                return
            try:
                batch = dialogue.send(answers)
            except StopIteration as end:
                results.append(end.value)
                return


_Folder = dict[Name, bytes | Answer]
"""What one server has said about one type, by name; nothing yet while a dialogue waits for it."""

_UNDER_WAY = b""

_FOLD = Struct("!BIf")
_OVERS = {"udp": 0, "tcp": 1, "transfer": 2, "file": 3}
_OVER_TEXTS = list(_OVERS)
_NOTHING: dict[tuple[str, str], bytes] = {
    (status, over): bytes((number, code))
    for over, code in _OVERS.items()
    for number, status in enumerate(("NOERROR", "NXDOMAIN"))
}


def _folded(answer: Answer) -> bytes | Answer:
    question, status, authoritative, values, ttl, alias, _, rtt_ms, _, over = answer
    if question[2].signed:
        return answer  # signatures and proofs stand in the message alone
    if question[1] == AXFR and answer.message:
        # What a transfer begins with is judged again, and the rest is not needed.
        return answer._replace(message=first_record_only(answer.message))
    # Folded, an answer of one address takes 46 bytes and not 338 (sys.getsizeof): an audit keeps every one that it had.
    if authoritative and alias is None and over in _OVERS and not question[3] and question[1] != SOA:
        if not values:
            return _NOTHING.get((status, over)) or answer
        if len(values) == 1 and status == "NOERROR" and ttl is not None:
            return _FOLD.pack(_OVERS[over], ttl, rtt_ms or 0.0) + values[0]
    return answer


def _unfolded(answer: bytes | Answer, question: Question) -> Answer:
    if not isinstance(answer, bytes):
        return answer
    if len(answer) == 2:
        return Answer(question, "NXDOMAIN" if answer[0] else "NOERROR", True, over=_OVER_TEXTS[answer[1]])
    over, ttl, rtt_ms = _FOLD.unpack_from(answer)
    return Answer(question, "NOERROR", True, (answer[_FOLD.size :],), ttl, rtt_ms=rtt_ms, over=_OVER_TEXTS[over])


def put(batch: list[Question]) -> Dialogue[list[Answer]]:
    """Return one batch as a dialogue of its own, to be held together with others."""
    return (yield batch)


def together(dialogues: list[Dialogue[T]]) -> Dialogue[list[T]]:
    """Return several dialogues as one, in step: their batches are joined, so that none waits for another's round."""
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

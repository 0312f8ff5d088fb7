"""What is foreseen, put to its servers in bulk: the runner's other half, which holds no dialogue.

Strategy: a subject's rounds are begun one after the other, when the runner says so. An engine compares answers where they come
in, and hands over the subjects of which nothing is left; over any other exchange the answers themselves are compared here, so
that a world in a test is screened as well. Whatever came is known to the runner's dialogues from then on.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.screening import (
    AgreedSets,
    Comparing,
    ForeseenQuestion,
    ForeseenSet,
    ForeseenSubject,
    agreed_answer,
)

if TYPE_CHECKING:
    from salt_mirror.dns.dialogue import Exchange, Runner


class Foreseeing:
    """Screens subjects for a runner. `agreed` are the sets that all of some servers gave alike, by those servers and the type;
    `kept` is what the runner knows of each server, and `fold` how it keeps an answer."""

    def __init__(
        self,
        runner: Runner,
        exchange: Exchange,
        kept: dict[tuple[Server, int, bool], dict[Name, bytes | Answer]],
        fold: Callable[[Answer], bytes | Answer],
    ) -> None:
        self._runner = runner
        self._exchange = exchange
        self._kept = kept
        self._fold = fold
        # Only an exchange that compares answers itself is handed what is foreseen: any other may pass a question on to whoever.
        self._comparing = exchange if isinstance(exchange, Comparing) and exchange.tally is not None else None
        self._tally = self._comparing.tally if self._comparing is not None else None
        self.agreed: dict[tuple[tuple[Server, ...], int], AgreedSets] = {}
        self._of_server: dict[tuple[Server, int], list[AgreedSets]] = {}
        self._blocked: list[ForeseenSubject] = []

    def answer(self, question: Question) -> Answer | None:
        """Return the answer to a question that was screened, where all servers gave it."""
        if question[3]:
            return None
        for agreed in self._of_server.get((question[2], question[1]), ()):
            answer = agreed.answer(question)
            if answer is not None:
                return answer
        return None

    def heard(self) -> Iterator[tuple[Name, int, tuple[bytes, ...]]]:
        """Return every set that servers agreed on, with its name and type."""
        for (_, rdtype), agreed in self.agreed.items():
            for table in agreed.tables.values():
                for name, value in table.items():
                    if value is not None:
                        yield name, rdtype, (value,)

    def unblocked(self) -> list[ForeseenSubject]:
        """Return the subjects that wait for what others were asking, once that is known, so that none of them waits again."""
        blocked, self._blocked = self._blocked, []
        return blocked

    def begin_of_dialogue(self, subject: ForeseenSubject) -> bool:
        """Put a dialogue's subject of one round to its servers; False where it has ended at once, and nothing is asked."""
        ended: list[ForeseenSubject] = []
        self.begin(subject, ended)
        if self._blocked and self._blocked[-1] is subject:
            self._blocked.pop()
            subject.failed = True
            return False
        return not ended

    def awaits(self, question: Question) -> bool:
        """Return whether a question is being asked for a subject, which a dialogue waits for from now on."""
        if not question[3]:
            for agreed in self._of_server.get((question[2], question[1]), ()):
                one = agreed.pending.get(question[0])
                if one is not None:
                    one.subject.awaited = True
                    return True
        return False

    @property
    def has_passed(self) -> bool:
        """Whether a subject's round is over of which all was as foreseen, and was compared where it came in."""
        return self._tally is not None and bool(self._tally.passed)

    def hear(self, answers: list[Answer], ended: list[ForeseenSubject]) -> list[Answer]:
        """Take in what has come of what is foreseen, and the subjects that have `ended` by it; return the other answers."""
        if self._comparing is None:
            others = [answer for answer in answers if not self._hear_foreseen(answer, ended)]
        else:  # then each such question says itself what is foreseen
            others = [one for one in answers if one[0].__class__ is Question or not self._hear_foreseen(one, ended)]
        tally = self._tally
        if tally is not None:
            for subject in tally.passed:
                self._end_round(subject, ended)
            tally.passed.clear()
            tally.trips_s.clear()
        return others

    def begin(self, subject: ForeseenSubject, ended: list[ForeseenSubject]) -> None:
        """Ask for the sets of a subject's next round that are not known; it has `ended` where no round has any. It has failed
        where a server was asked for one before, and is blocked while another subject asks for one."""
        asked: list[ForeseenSet] = []
        saved, agreed = 0, None
        servers: tuple[Server, ...] = ()
        rdtype = 0
        for one in subject.rounds[subject.at]:
            if agreed is None or one.servers is not servers or one.rdtype != rdtype:
                servers, rdtype = one.servers, one.rdtype
                agreed = self.agreed.get((servers, rdtype)) or self._begin_sets(one)
            one.keeper = agreed
            if agreed.is_new(one.name):
                asked.append(one)
                continue
            fits = agreed.fit(one)
            if fits:
                saved += len(one.servers)
            elif one.name in agreed.pending:
                self._blocked.append(subject)
                return
            elif subject.each:
                one.others, subject.failed = one.servers, True
            else:
                subject.failed = True
                ended.append(subject)
                return
        self._runner.saved += saved
        for one in asked:
            one.subject = subject
            one.keeper.pending[one.name] = one
            subject.left += len(one.servers)
        self._runner.asked += subject.left
        if not asked:
            self._end_round(subject, ended)
        elif self._comparing is not None:
            self._comparing.foresee(asked)
        else:
            for one in asked:
                for server in one.servers:
                    self._exchange.submit(Question(one.name, one.rdtype, server))

    def _begin_sets(self, one: ForeseenSet) -> AgreedSets:
        """Return a place for what a set's servers give alike of its type."""
        agreed = self.agreed[one.servers, one.rdtype] = AgreedSets()
        for server in one.servers:
            agreed.folders.append(self._kept.setdefault((server, one.rdtype, False), {}))
            of_server = self._of_server.setdefault((server, one.rdtype), [])
            for other in of_server:
                if other not in agreed.others:
                    agreed.others.append(other)
                    other.others.append(agreed)
            of_server.append(agreed)
        return agreed

    def _hear_foreseen(self, answer: Answer, ended: list[ForeseenSubject]) -> bool:
        """Take an answer in that was not compared where it came in, and may still be as foreseen; False where it is no
        subject's."""
        question = answer[0]
        if isinstance(question, ForeseenQuestion):
            one = question.foreseen
            answer = answer._replace(question=question.plain)
        else:
            holders = self._of_server.get((question[2], question[1]), ()) if not question[3] else ()
            waiting = next((agreed.pending[question[0]] for agreed in holders if question[0] in agreed.pending), None)
            if waiting is None:
                return False
            one = waiting
        subject = one.subject
        if not one.fits(answer):
            subject.failed = True
            one.others = [*(one.others or ()), question[2]]
            self._kept.setdefault((question[2], one.rdtype, False), {})[one.name] = self._fold(answer)
        subject.left -= 1
        if not subject.left:
            self._end_round(subject, ended)
        return True

    def _end_round(self, subject: ForeseenSubject, ended: list[ForeseenSubject]) -> None:
        """Keep what came in a round of which nothing is left, and begin the next one, or end."""
        for one in subject.rounds[subject.at]:
            agreed = one.keeper
            agreed.pending.pop(one.name, None)
            if one.others is None:
                agreed.keep(one)
                continue
            for server in one.servers:
                if server not in one.others:
                    said = agreed_answer(Question(one.name, one.rdtype, server), one.value, one.ttl, one.over)
                    self._kept.setdefault((server, one.rdtype, False), {})[one.name] = said
        subject.at += 1
        if subject.failed or subject.at == len(subject.rounds):
            ended.append(subject)
        else:
            self.begin(subject, ended)

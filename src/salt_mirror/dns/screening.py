"""Questions whose right answer is known before they are asked, put in bulk and compared as they come in.

Strategy: in a large estate nearly everything agrees. A subject states the record sets that would settle it, a round after the
other as its dialogue would ask for them, each with the one value that is right (or that there is none). A server that gives
exactly that, with authority, no alias and the same TTL as the others, costs a comparison of bytes where the datagram is read
(`traffic/lane.py`), and no answer, look-up or dialogue is made. Anything else is an answer like any other; the subject has then
failed, which says nothing but that it is to be judged, from the answers that are in hand by now.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any, Protocol, runtime_checkable

from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer, Question, Server


class ForeseenSet:
    """A record set as every server has to give it: `value` is its only rdata (canonical), None where the name has to be there
    without the type. `ttl` (seconds; 0 for None) and `over` are those of the first server that gave it, empty until then;
    `others` the servers that did not, or in another way (all of them where something else was known before). Once it is asked
    for, `subject` is whose it is, and `keeper` where it is kept."""

    __slots__ = ("keeper", "name", "others", "over", "rdtype", "servers", "subject", "ttl", "value")

    keeper: AgreedSets
    subject: ForeseenSubject

    def __init__(self, name: Name, rdtype: int, servers: tuple[Server, ...], value: bytes | None) -> None:
        self.name = name
        self.rdtype = rdtype
        self.servers = servers
        self.value = value
        self.ttl = 0
        self.over = ""
        self.others: Sequence[Server] | None = None

    @property
    def agreed(self) -> bool:
        """Whether every server gave it, once its subject has ended."""
        return self.others is None and bool(self.over)

    def asked(self, server: Server) -> ForeseenQuestion:
        """Return the question for it to one of its servers."""
        # A foreseen set is asked for as it is: a question of its own for each server takes 5 % of the time of a check.
        return tuple.__new__(ForeseenQuestion, (self.name, self.rdtype, server, False, self))

    def fits(self, answer: Answer) -> bool:
        """Return whether an answer is what is foreseen; what it says of TTL and transport counts from the first one on."""
        values = () if self.value is None else (self.value,)
        if (
            answer.status != "NOERROR"
            or not answer.authoritative
            or answer.alias is not None
            or answer.values != values
        ):
            return False
        ttl = answer.ttl if self.value is not None else 0
        if ttl is None or (self.over and (ttl, answer.over) != (self.ttl, self.over)) or answer.extended:
            return False
        self.ttl, self.over = ttl, answer.over
        return True


class ForeseenSubject:
    """What would agree: `what` it is to the check that foresees it, its sets in rounds, how many questions of this round are
    `left`, whether anything came that was not foreseen, and whether a dialogue waits for any of it (`awaited`). With `each` its
    sets have nothing to do with each other but that they are put together: each counts by itself, and all are asked for,
    whatever comes of one."""

    __slots__ = ("at", "awaited", "each", "failed", "left", "rounds", "what")

    def __init__(self, what: Any, rounds: Sequence[Sequence[ForeseenSet]], *, each: bool = False) -> None:
        self.what = what
        self.rounds = rounds
        self.each = each
        self.at = 0
        self.left = 0
        self.failed = self.awaited = False

    @property
    def agreed(self) -> bool:
        """Whether all of it was put to its servers, and came as foreseen."""
        return not self.failed and self.at == len(self.rounds)


class ForeseenBatch(list[Question]):
    """What a dialogue may yield in place of a batch, and before it: a subject to be screened, of one round. It is sent an empty
    list, as anything that does not screen sends for an empty batch: the subject says itself whether it has `agreed`."""

    __slots__ = ("subject",)

    def __init__(self, subject: ForeseenSubject) -> None:
        super().__init__()
        self.subject = subject


class ForeseenQuestion(Question):
    """A question with the set that is foreseen behind its four fields: made where an answer was not as foreseen."""

    __slots__ = ()

    @property
    def foreseen(self) -> ForeseenSet:
        """What the answer should have been."""
        found: ForeseenSet = self[4]  # type: ignore[misc]
        return found

    @property
    def plain(self) -> Question:
        """The question without what is foreseen."""
        return Question(*self[:4])


@runtime_checkable
class Comparing(Protocol):
    """An exchange that compares answers itself where they come in."""

    @property
    def tally(self) -> ScreenTally | None:
        """What has been compared; None where that is not done."""

    def foresee(self, sets: Sequence[ForeseenSet]) -> None:
        """Take sets to be asked for, each on all of its servers."""


def agreed_answer(question: Question, value: bytes | None, ttl: int, over: str) -> Answer:
    """Return what a server said that gave what was foreseen. Its round trip is not kept."""
    if value is None:
        return Answer(question, "NOERROR", True, over=over)
    return Answer(question, "NOERROR", True, (value,), ttl, over=over)


class ScreenTally:
    """What the lanes of an engine have compared: how many answers were as foreseen since it was last looked at, the subjects of
    which nothing is left in this round, and the round trips (seconds)."""

    __slots__ = ("matched", "passed", "trips_s")

    def __init__(self) -> None:
        self.matched = 0
        self.passed: list[ForeseenSubject] = []
        self.trips_s: list[float] = []


class AgreedSets:
    """Sets that all of some servers gave alike, of one type: a value by name in one table for each TTL and transport, in place
    of an answer for each server. `pending` are those that are being asked for; `folders` what dialogues have asked each of the
    servers for, and `others` the tables of other sets of servers with some of these among them."""

    __slots__ = ("_over", "_table", "_ttl", "folders", "others", "pending", "tables")

    def __init__(self) -> None:
        self.folders: list[Collection[Name]] = []
        self.others: list[AgreedSets] = []
        self.pending: dict[Name, ForeseenSet] = {}
        self.tables: dict[tuple[int, str], dict[Name, bytes | None]] = {}
        self._table: dict[Name, bytes | None] = {}
        self._ttl, self._over = -1, ""

    def keep(self, one: ForeseenSet) -> None:
        """Keep a set that every server gave."""
        # Nearly all sets have one TTL and transport: the table of the last one is at hand.
        if one.ttl != self._ttl or one.over != self._over:
            self._ttl, self._over = one.ttl, one.over
            self._table = self.tables.setdefault((one.ttl, one.over), {})
        self._table[one.name] = one.value

    def knows(self, name: Name) -> bool:
        """Return whether a name was asked for, or is being."""
        return name in self.pending or any(name in table for table in self.tables.values())

    def is_new(self, name: Name) -> bool:
        """Return whether none of the servers was asked for a name so far, by whomever."""
        # Written out: it is asked for every set, and a generator for each takes as long as all the rest.
        if name in self.pending:
            return False
        for table in self.tables.values():
            if name in table:
                return False
        for folder in self.folders:
            if name in folder:
                return False
        return not self.others or not any(other.knows(name) for other in self.others)

    def fit(self, one: ForeseenSet) -> bool | None:
        """Return whether what is kept of a name is as foreseen; None where nothing is kept."""
        name = one.name
        for (ttl, over), table in self.tables.items():
            if name in table:
                one.ttl, one.over = ttl, over
                return table[name] == one.value
        return None

    def answer(self, question: Question) -> Answer | None:
        """Return what each of the servers gave; None where that is not known."""
        name = question[0]
        for (ttl, over), table in self.tables.items():
            if name in table:
                return agreed_answer(question, table[name], ttl, over)
        return None

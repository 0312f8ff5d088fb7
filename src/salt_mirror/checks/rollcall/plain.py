"""What plain agreement is for `rollcall`: the one value that is expected of a set, on every server, with the TTL that is
expected, and no wildcard that would give the same.

Strategy: a set is settled by itself, and costs less than a dialogue's overhead, so sets that lie side by side are put to their
servers many at a time. The wildcard shows at a name beside the expected one that nobody has registered, which is the same for
all names below one parent: the first set there is judged as ever, and asks for it; others wait for what that brings.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.common.foreseen import Screeners
from salt_mirror.checks.common.part import ForeseenRound
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.names import MAX_NAME, Name, join
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import DS, zone_side
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject

_TOGETHER = 64
"""So many sets are put to their servers as one subject."""


class _Below:
    """Sets of one type, of names below one parent, at one authority: those that are `expected` next with what is `foreseen` of
    each, and those that agree, and `wait` for what stands at the name that nobody has registered (an apex waits for nothing).
    `begun` says that one of them is judged, and asks for that; `beside` are the values there, once they are known."""

    __slots__ = ("above", "apex", "begun", "beside", "expected", "foreseen", "rdtype", "servers", "wait")

    def __init__(self, above: Name, rdtype: int, servers: tuple[Server, ...], *, apex: bool) -> None:
        self.above = above
        self.rdtype = rdtype
        self.servers = servers
        self.apex = apex
        self.begun = False
        self.beside: frozenset[bytes] | None = None
        self.expected: list[ExpectedSet] = []
        self.foreseen: list[ForeseenSet] = []
        self.wait: list[ExpectedSet] = []

    def subject(self) -> ForeseenSubject:
        """Return what is next as one subject, and begin with another."""
        subject = ForeseenSubject((self, self.expected), (self.foreseen,), each=True)
        self.expected, self.foreseen = [], []
        return subject


class RollRound(ForeseenRound):
    """Expected sets, of which most are registered; `sibling` is the label that nobody has registered, `agreeing` returns the
    result for one that agrees, and `judge` the dialogue for any other."""

    def __init__(
        self,
        sets: Sequence[ExpectedSet],
        atlas: Atlas,
        sibling: bytes,
        agreeing: Callable[[ExpectedSet], Any],
        judge: Callable[[ExpectedSet], Dialogue[Any]],
    ) -> None:
        self._sets = sets
        self._screeners = Screeners(atlas)
        self._sibling = sibling
        self._agreeing = agreeing
        self._judge = judge
        self._below: dict[tuple[Name, int, str], _Below | None] = {}

    def __iter__(self) -> Iterator[Dialogue[Any]]:
        return map(self._judge, self._sets)

    def results(self, runner: Runner, names: int) -> Iterator[Any]:
        beside = deque[Dialogue[Any]]()
        for result in runner.screen(self._things(), beside, names=names):
            if not isinstance(result, ForeseenSubject):
                yield result
                continue
            for agreeing, others in (self._taken(result), self._released(result.what[0], runner)):
                beside.extend(map(self._judge, others))
                yield from map(self._agreeing, agreeing)
        rest: list[ExpectedSet] = []
        for below in self._below.values():
            if below is not None:
                agreeing, others = self._released(below, runner)
                rest += [*others, *below.wait]
                yield from map(self._agreeing, agreeing)
        yield from runner.run(map(self._judge, rest), names=names)

    def _things(self) -> Iterator[ForeseenSubject | Dialogue[Any]]:
        """Return what would settle sets, many at a time; a dialogue for one of several values, or of which anything else is
        said."""
        places, apexes = self._below, self._screeners.apexes
        for expected in self._sets:
            value, name, rdtype = expected.plain_value, expected.name, expected.rdtype
            if value is None:
                yield self._judge(expected)
                continue
            # An apex is not in the zone of the names beside it, but for its DS set (RFC 4035 section 2.4).
            key = (name if name in apexes and rdtype != DS else name[name[0] + 1 :], rdtype, expected.view)
            try:
                below = places[key]
            except KeyError:
                below = places[key] = self._begin(expected)
            if below is None:
                yield self._judge(expected)
                continue
            below.expected.append(expected)
            below.foreseen.append(ForeseenSet(name, rdtype, below.servers, value))
            if len(below.foreseen) == _TOGETHER:
                yield below.subject()
        yield from [below.subject() for below in places.values() if below is not None and below.foreseen]

    def _begin(self, expected: ExpectedSet) -> _Below | None:
        """Return the place of a set and of those beside it; None where their servers are not asked in bulk."""
        name, rdtype, view = expected.name, expected.rdtype, expected.view
        authority = self._screeners.at(zone_side(name, rdtype), view)
        if authority is None:
            return None
        apex = rdtype != DS and self._screeners.is_apex(name, view)
        return _Below(name[name[0] + 1 :], rdtype, authority.servers, apex=apex)

    def _taken(self, subject: ForeseenSubject) -> tuple[list[ExpectedSet], list[ExpectedSet]]:
        """Return which sets of a subject agree at once (at an apex, at a wildcard, or where no name fits beside), and which
        have to be judged: those that are not as foreseen, and the first one of all. The others wait."""
        below, sets = subject.what
        agreeing: list[ExpectedSet] = []
        others: list[ExpectedSet] = []
        longest = MAX_NAME - len(self._sibling) - 1
        for expected, one in zip(sets, subject.rounds[0], strict=True):
            if not one.agreed or (expected.ttl is not None and expected.ttl != one.ttl):
                others.append(expected)
            elif below.apex or one.name.startswith(b"\x01*") or len(one.name) > longest:
                agreeing.append(expected)
            elif below.begun:
                below.wait.append(expected)
            else:
                below.begun = True
                others.append(expected)
        return agreeing, others

    def _released(self, below: _Below, runner: Runner) -> tuple[list[ExpectedSet], list[ExpectedSet]]:
        """Return which of the sets that wait agree, once it is known what is beside them, and which have to be judged, since
        that is the same; they go on waiting while it is not known."""
        if below.beside is None and below.wait:
            below.beside = self._beside(below, runner)
        if below.beside is None:
            return [], []
        agreeing, others = list[ExpectedSet](), list[ExpectedSet]()
        for expected in below.wait:
            (others if expected.plain_value in below.beside else agreeing).append(expected)
        runner.saved += len(agreeing) * len(below.servers)
        below.wait.clear()
        return agreeing, others

    def _beside(self, below: _Below, runner: Runner) -> frozenset[bytes] | None:
        """Return every value that a server gives at the name that nobody has registered; None where one was not asked, or gave
        no answer: then the judge tells."""
        beside, found = join((self._sibling,), below.above), set[bytes]()
        for server in below.servers:
            answer = runner.known(Question(beside, below.rdtype, server))
            if answer is None or answer.trouble is not None:
                return None
            found.update(answer.values)
        return frozenset(found)

"""A plan laid over the answers in hand: what every server would say once it has the change.

Strategy: an exchange like any other, so that the checks run over it unchanged. What the plan does not touch is what the servers
said; what it touches is worked out from that and the planned sets (RFC 1034 section 4.3.2, wildcards by RFC 4592). A server
that gave no usable answer gives none here either, and versions stay as they are: it is taken that every server follows its
primary.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from salt_mirror.checks.common.part import Holdings
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import ROOT, Name, ancestors, parent, wildcard_below
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import CNAME, SOA, SWEPT

_AtName = dict[int, PlannedSet]


Laid = tuple[PlannedSet, tuple[Server, ...]]
"""A planned set, and the servers that have to have it."""


def held_over(holdings: Holdings, laid: Sequence[Laid]) -> Holdings:
    """Return the zones that were taken by transfer, as they will be."""
    changed: dict[tuple[Server, Name], dict[tuple[Name, int], tuple[int, tuple[bytes, ...]]]] = {}
    for planned, servers in laid:
        for server in servers:
            sets = changed.setdefault((server, planned.key.zone), {})
            sets[planned.key.name, planned.key.rdtype] = (planned.ttl_after or 0, tuple(sorted(planned.after)))
    made: dict[tuple[Server, Name], Holding] = {}

    def held(server: Server, apex: Name) -> Holding | None:
        holding = holdings(server, apex)
        key = (server, apex)
        if holding is None or key not in changed:
            return holding
        if key not in made:
            made[key] = holding.with_sets(changed[key])
        return made[key]

    return held


class LaidOver:
    """The exchange. `behind` has the answers, and asks for what it has not; `servers` are those of each planned set."""

    def __init__(self, behind: Runner, sets: Iterable[Laid]) -> None:
        self._behind = behind
        self._at: dict[Server, dict[Name, _AtName]] = {}
        self._between: dict[Server, set[Name]] = {}
        self._waiting: list[Question] = []
        for planned, servers in sets:
            for server in servers:
                self._at.setdefault(server, {}).setdefault(planned.key.name, {})[planned.key.rdtype] = planned
                if planned.after:
                    above = self._between.setdefault(server, set())
                    above.update(name for name in ancestors(planned.key.name) if len(name) > len(planned.key.zone))

    @property
    def backlog(self) -> int:
        """How many questions are waiting."""
        return len(self._waiting)

    def submit(self, question: Question) -> None:
        """Take a question."""
        self._waiting.append(question)

    def collect(self) -> list[Answer]:
        """Return the answers to all that is waiting."""
        asked, self._waiting = self._waiting, []
        return list(self._behind.run(map(self._said, asked)))

    def _said(self, question: Question) -> Dialogue[Answer]:
        """Return what a server would say."""
        (answer,) = yield [question]
        planned = self._at.get(question.server)
        # Caches know nothing of the plan yet, a silent server stays silent, and the serial is the server's own business.
        if not planned or question.recurse or answer.trouble is not None or question.rdtype == SOA:
            return answer
        here = planned.get(question.name)
        if here is not None:
            return (yield from self._touched(answer, here))
        for name in ancestors(question.name):
            inside = planned.get(name)
            if inside is not None and name != question.name and _new(inside):
                return _answer(answer, (), None, exists=False)  # what exists keeps a wildcard off all that is below it
        if question.name in self._between.get(question.server, ()):
            return _answer(answer, answer.values, answer.ttl, exists=True, alias=answer.alias)
        return self._starred(answer, planned)

    def _starred(self, answer: Answer, planned: Mapping[Name, _AtName]) -> Answer:
        """Return a name that does not stand there itself, where a wildcard comes or goes."""
        question = answer.question
        for name in ancestors(question.name):
            wildcard = wildcard_below(name)
            star = planned.get(wildcard) if wildcard is not None else None
            planned_set = star.get(question.rdtype) if star is not None and name != question.name else None
            if planned_set is not None:
                if answer.status == "NXDOMAIN" and planned_set.after:
                    return _answer(answer, tuple(sorted(planned_set.after)), planned_set.ttl_after, exists=True)
                if answer.values and frozenset(answer.values) == planned_set.before:
                    return _answer(
                        answer, tuple(sorted(planned_set.after)), planned_set.ttl_after, exists=bool(planned_set.after)
                    )
        return answer

    def _touched(self, answer: Answer, here: _AtName) -> Dialogue[Answer]:
        """Return a name at which something is planned."""
        question = answer.question
        itself = all(one.named for one in here.values())  # else nothing but a wildcard spoke there
        alias = answer.alias if itself else None
        if CNAME in here:
            alias = next(iter(here[CNAME].after), None)
        planned = here.get(question.rdtype)
        values, ttl = (answer.values, answer.ttl) if itself else ((), None)
        if planned is not None:
            values, ttl = tuple(sorted(planned.after)), planned.ttl_after
        there = alias is not None or bool(values) or any(other.after for other in here.values())
        if not there and itself:
            there = any(self._known(question, rdtype) for rdtype in SWEPT if rdtype not in here)
        there = there or question.name in self._between.get(question.server, ())
        if not there:
            return (yield from self._below_a_wildcard(answer))
        if alias is not None and question.rdtype != CNAME:
            return _answer(answer, (), ttl, exists=True, alias=alias)
        return _answer(answer, values, ttl, exists=True)

    def _known(self, question: Question, rdtype: int) -> bool:
        """Return whether the server is known to have records of another type at the name."""
        known = self._behind.known(question._replace(rdtype=rdtype))
        return known is not None and bool(known.values)

    def _below_a_wildcard(self, answer: Answer) -> Dialogue[Answer]:
        """Return a name that is left without records: a wildcard beside it may speak in its place."""
        question = answer.question
        if question.name != ROOT and (star := wildcard_below(parent(question.name))) is not None:
            (wild,) = yield [question._replace(name=star)]
            if wild.trouble is None and wild.exists and star != question.name:
                return _answer(answer, wild.values, wild.ttl, exists=True, alias=wild.alias)
        return _answer(answer, (), None, exists=False)


def _new(here: _AtName) -> bool:
    """Return whether a name comes to stand there that did not before."""
    return not any(one.named for one in here.values()) and any(one.after for one in here.values())


def _answer(
    answer: Answer, values: tuple[bytes, ...], ttl: int | None, *, exists: bool, alias: Name | None = None
) -> Answer:
    return answer._replace(
        status="NOERROR" if exists else "NXDOMAIN", authoritative=True, values=values, ttl=ttl if values else None,
        alias=alias, message=b"",
    )  # fmt: skip

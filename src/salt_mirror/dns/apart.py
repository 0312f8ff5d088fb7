"""Views of one server that nobody can ask for apart: which of them we get, and no answer in the name of the others.

Strategy: a server tells its views apart by who asks (address or TSIG key). Where two views of an estate have one endpoint, one
key and one source address, this computer gets one of them, whatever it asks for. Before the first question to such a server
some names are asked whose expected values differ between the views: what comes back shows which view it is. Questions for any
other view are answered here as not asked; so are all of them where the contents show nothing.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from salt_mirror.dns.dialogue import Near
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import UNSEEN, Answer, Question, Server


class Probe(NamedTuple):
    """A name and type, and the values that each view expects there; views that expect none are left out."""

    name: Name
    rdtype: int
    expected: Mapping[str, frozenset[bytes]]


@dataclass(eq=False, slots=True)
class SharedWay:
    """The way to one server that several views share, and what tells these apart."""

    views: list[str] = field(default_factory=list)
    probes: list[Probe] = field(default_factory=list)


class WayOf(NamedTuple):
    """What a server has that is asked for one of several views: the way that they share, and the view."""

    way: SharedWay
    view: str


WAYS_OUT = "give the view a TSIG key or a source address in the estate, or ask from a vantage that gets it (--from)"


def recognised(way: SharedWay, answers: Sequence[Answer]) -> str | None:
    """Return the view whose expected values the answers to a way's probes have, while each other view expects something else
    there; None where they show none, or several. What only one view expects shows nothing: another may have it too."""
    denied: dict[str, set[str]] = {view: set() for view in way.views}
    for probe, answer in zip(way.probes, answers, strict=True):
        if answer.trouble is not None:
            continue
        fitting = {view for view, expected in probe.expected.items() if expected <= set(answer.values)}
        for view in fitting:
            denied[view] |= probe.expected.keys() - fitting
    found = [view for view, others in denied.items() if len(others) == len(way.views) - 1]
    conflicts = any(denied[view] for view in way.views if view not in found)
    return found[0] if len(found) == 1 and not conflicts else None


class _Meeting:
    """A way whose view is being found out: the probes that are under way, and the questions that wait for it."""

    __slots__ = ("answers", "waiting")

    def __init__(self) -> None:
        self.answers: dict[tuple[Name, int], Answer] = {}
        self.waiting: list[Question] = []


class ApartExchange:
    """An exchange that puts no question for a view that this computer does not get."""

    def __init__(self, inner: Near) -> None:
        self._inner = inner
        self._found: dict[SharedWay, str | None] = {}
        self._meetings: dict[SharedWay, _Meeting] = {}
        self._probing: dict[Question, SharedWay] = {}
        self._ready: list[Answer] = []

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way, or have ended and were not collected yet."""
        waiting = sum(len(one.waiting) for one in self._meetings.values())
        return self._inner.backlog + len(self._ready) + waiting

    @property
    def strays(self) -> int:
        """How many datagrams came in that answered nothing."""
        return self._inner.strays

    @property
    def late(self) -> int:
        """How many replies came too late."""
        return self._inner.late

    def submit(self, question: Question) -> None:
        """Take a question; its answer comes out of `collect` sooner or later, whatever happens."""
        shared = question[2].shared
        if shared is None:
            self._inner.submit(question)
        elif shared.way in self._found:
            self._pass_on(question)
        else:
            self._meet(question[2], shared.way, question)

    def collect(self, wait_s: float | None = None) -> list[Answer]:
        """Work until at least one question has ended, or `wait_s` seconds have passed; empty when none is under way."""
        while not self._ready:
            answers = self._inner.collect(wait_s)
            if not self._probing:
                return answers
            self._ready += [answer for answer in answers if not self._take(answer)]
            if wait_s is not None or not self.backlog:
                break
        ready, self._ready = self._ready, []
        return ready

    def refusal(self, server: Server) -> str | None:
        """Return why nothing can be asked of a server in the name of its view; None where it can. Asks the probes, where they
        have not been asked; no question may be under way then."""
        shared = server.shared
        if shared is None:
            return None
        if shared.way not in self._found:
            self._meet(server, shared.way)
            while shared.way not in self._found:
                self._ready += [answer for answer in self._inner.collect() if not self._take(answer)]
        return _refusal(shared, self._found[shared.way])

    def _meet(self, server: Server, way: SharedWay, *waiting: Question) -> None:
        """Ask the probes of a way, unless they are under way; some questions wait for what they show."""
        meeting = self._meetings.get(way)
        if meeting is None:
            meeting = self._meetings[way] = _Meeting()
            plain = server.again(shared=None)
            for probe in way.probes:
                question = Question(probe.name, probe.rdtype, plain)
                self._probing[question] = way
                self._inner.submit(question)
        meeting.waiting += waiting
        if not way.probes:
            self._decide(way)

    def _take(self, answer: Answer) -> bool:
        """Take in an answer to a probe; False for any other."""
        way = self._probing.pop(answer[0], None)
        if way is None:
            return False
        meeting = self._meetings[way]
        meeting.answers[answer.question.name, answer.question.rdtype] = answer
        if len(meeting.answers) == len(way.probes):
            self._decide(way)
        return True

    def _decide(self, way: SharedWay) -> None:
        meeting = self._meetings.pop(way)
        self._found[way] = recognised(way, [meeting.answers[probe.name, probe.rdtype] for probe in way.probes])
        for question in meeting.waiting:
            self._pass_on(question)

    def _pass_on(self, question: Question) -> None:
        shared = question[2].shared
        assert shared is not None
        why = _refusal(shared, self._found[shared.way])
        if why is None:
            self._inner.submit(question)
        else:
            self._ready.append(Answer(question, UNSEEN + why, tries=0))


def _refusal(shared: WayOf, found: str | None) -> str | None:
    if found == shared.view:
        return None
    views = ", ".join(shared.way.views)
    gets = (
        f"it gives this computer the view {found}"
        if found
        else f"which of its views ({views}) this computer gets is not known"
    )
    return f"not asked for the view {shared.view}: {gets}; {WAYS_OUT}"

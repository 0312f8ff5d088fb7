"""One name on all its authoritative servers: what each says, followed through aliases to the end.

Strategy: every check that needs records asks through here. Each server's telling is kept apart, since agreement between
servers is half of what is being checked; a server that gave no usable answer keeps its reason and accuses nobody.
Referrals downwards lead to the child's own servers; aliases to the servers of the target's zone.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from salt_mirror.checks.common.atlas import Atlas, Authority
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import rdata_text, type_text, zone_side
from salt_mirror.findings import Evidence, Outcome

MOST_ALIASES = 8
_MOST_CUTS = 4
# Past the constructor of the named tuple, which takes 1.8 times as long (timeit): one is made for every server and type.
_make = tuple.__new__


class Telling:
    """What one server says: its answers, the sorted values in them, the alias in their place, or why it proves nothing."""

    __slots__ = ("alias", "answers", "exists", "server", "trouble", "values")

    def __init__(self, server: Server, answers: Sequence[Answer]) -> None:
        self.server = server
        self.answers = answers
        first = answers[0]
        self.alias = first.alias
        self.trouble = first.trouble
        self.values = first.values
        self.exists = first.exists
        for answer in answers[1:]:
            self.trouble = self.trouble or answer.trouble
            self.exists = self.exists or answer.exists
            if answer.values:
                self.values = (*self.values, *answer.values)


class Lookup:
    """All that is known about one name: the tellings at its canonical name, and those at the aliases before it.

    `values` are all that any server gives, sorted; `divided` says that usable tellings differ; `trouble` why there is
    nothing usable at all; `unverified` the tellings without proof; `circle` the aliases that lead back to one of themselves;
    `wild` says that a wildcard made what is there, where somebody has looked;
    `first` the authority of the name itself, where `authority` is its canonical name's. Where all servers say the same
    (`plain`), as they mostly do, the tellings are made when somebody looks at them.
    """

    __slots__ = (
        "_answers",
        "_tellings",
        "_usable",
        "aliased",
        "authority",
        "canonical",
        "circle",
        "divided",
        "first",
        "name",
        "plain",
        "trail",
        "trouble",
        "unverified",
        "values",
        "wild",
    )

    def __init__(self, name: Name, canonical: Name, authority: Authority, tellings: list[Telling]) -> None:
        self._answers: list[Answer] = []
        self.name = name
        self.canonical = canonical
        self.authority = self.first = authority
        self._tellings: list[Telling] | None = tellings
        self.trail: list[Telling] = []
        self.unverified = [telling for telling in tellings if telling.trouble is not None]
        usable = [telling for telling in tellings if telling.trouble is None] if self.unverified else tellings
        self._usable: list[Telling] | None = usable
        self.trouble = authority.trouble
        self.divided = self.aliased = self.plain = self.wild = False
        self.circle: tuple[Name, ...] = ()
        self.values: tuple[bytes, ...] = ()
        if usable:
            first = usable[0]
            self.values = first.values
            for telling in usable:
                if telling.alias is not None:
                    self.aliased = True
                if telling.values != first.values or telling.alias != first.alias:
                    self.divided = True
            if self.divided:
                self.values = tuple(sorted({value for telling in usable for value in telling.values}))
        elif self.trouble is None:
            self.trouble = "; ".join(dict.fromkeys(f"{t.server.label}: {t.trouble}" for t in self.unverified))

    @classmethod
    def of_one_voice(cls, name: Name, authority: Authority, answers: list[Answer], values: tuple[bytes, ...]) -> Lookup:
        """Return what servers say that all give the same values at a name that is there, and is no alias."""
        # Past __init__, which looks through tellings that need not be made here: most lookups of an audit are of this kind.
        looked_up = cls.__new__(cls)
        looked_up._tellings = looked_up._usable = None
        looked_up.name = looked_up.canonical = name
        looked_up.authority = looked_up.first = authority
        looked_up.trail, looked_up.unverified = [], []
        looked_up.trouble = authority.trouble
        looked_up.divided = looked_up.aliased = looked_up.wild = False
        looked_up.plain = True
        looked_up.circle = ()
        looked_up.values = values
        looked_up._answers = answers
        return looked_up

    @property
    def tellings(self) -> list[Telling]:
        """What each server says; made now, where all of them say the same and nobody has looked yet."""
        if self._tellings is None:
            servers = self.authority.servers
            width = len(self._answers) // len(servers)
            self._tellings = self._usable = [
                Telling(server, self._answers[at : at + width])
                for server, at in zip(servers, range(0, len(self._answers), width), strict=True)
            ]
        return self._tellings

    @property
    def usable(self) -> list[Telling]:
        """The tellings that prove something."""
        if self._usable is None:
            return self.tellings
        return self._usable

    def forget(self) -> None:
        """Drop what was said: it leads in a circle, or without end, and proves nothing."""
        self._tellings, self._usable, self.unverified, self.values = [], [], [], ()

    @property
    def certain(self) -> Outcome:
        """The best that can be said of anything about the name: nothing agrees over tellings that are not there."""
        return "agrees" if not self.unverified and (self.plain or self.usable) else "unverified"

    @property
    def exists(self) -> bool:
        """Whether any server knows the canonical name, with whatever types."""
        return any(telling.exists for telling in self.usable)

    @property
    def followed(self) -> bool:
        """Whether an alias led here."""
        return self.canonical != self.name

    def saying(self, value: bytes) -> list[Server]:
        """Return the servers that give a value."""
        return [telling.server for telling in self.usable if value in telling.values]

    def evidence(self) -> list[Evidence]:
        """Return every answer on the way, as it is reported."""
        return [evidence_of(answer) for telling in (*self.trail, *self.tellings) for answer in telling.answers]


def lookup(name: Name, rdtypes: Sequence[int], view: str, atlas: Atlas) -> Dialogue[Lookup]:
    """Ask all authoritative servers of a name for some types, following referrals and aliases."""
    trail: list[Telling] = []
    passed = [name]
    divided = False
    first: Authority | None = None
    while True:
        looked_up = yield from at_name(passed[-1], rdtypes, view, atlas)
        first = first or looked_up.authority
        if not looked_up.aliased:
            break
        divided = divided or looked_up.divided
        trail += looked_up.tellings
        alias = next(telling.alias for telling in looked_up.usable if telling.alias is not None)
        # RFC 1034 section 3.6.2 sets no limit, and resolvers do: most of them give no answer at the end of a longer chain.
        if alias in passed or len(passed) > MOST_ALIASES:
            looked_up.trouble = f"an alias chain of more than {MOST_ALIASES} from {to_text(name)}"
            if alias in passed:
                looked_up.circle = (*passed[passed.index(alias) :], alias)
                looked_up.trouble = f"its aliases lead in a circle: {' -> '.join(map(to_text, looked_up.circle))}"
            looked_up.forget()
            break
        passed.append(alias)
    looked_up.name = name
    looked_up.first = first
    looked_up.trail = trail
    if trail:
        looked_up.divided = looked_up.divided or divided
        looked_up.unverified = [telling for telling in trail if telling.trouble is not None] + looked_up.unverified
    return looked_up


def at_name(name: Name, rdtypes: Sequence[int], view: str, atlas: Atlas) -> Dialogue[Lookup]:
    """Return the tellings at one name itself, aliases not followed, below any cut that its servers refer to."""
    of = zone_side(name, rdtypes[0]) if len(rdtypes) == 1 else name
    authority = atlas.known(of, view)
    if authority is None:
        authority = yield from atlas.find(of, view)
    width = len(rdtypes)
    for _ in range(_MOST_CUTS):
        servers = authority.servers
        answers = yield [_make(Question, (name, rdtype, server, False)) for server in servers for rdtype in rdtypes]
        if answers and (values := _one_voice(answers, width)) is not None:
            return Lookup.of_one_voice(name, authority, answers, values)
        tellings = [
            Telling(server, answers[at : at + width])
            for server, at in zip(servers, range(0, len(answers), width), strict=True)
        ]
        if not any(telling.trouble for telling in tellings):
            break
        referrals = [t.answers[0] for t in tellings if t.trouble is not None and t.answers[0].referral]
        cut = next((answer.referral for answer in referrals), None)
        # A server that says nothing hides no child: what the others refer to is followed, unless one has the answer itself.
        if cut is None or any(t.trouble is None for t in tellings) or cut == authority.zone:
            break
        authority = yield from atlas.descend(cut, referrals)
    return Lookup(name, name, authority, tellings)


def _one_voice(answers: list[Answer], width: int) -> tuple[bytes, ...] | None:
    """Return the values that all servers give, `width` answers each; None where they differ, or any answer is not a plain
    one."""
    for at, answer in enumerate(answers):
        if answer.status != "NOERROR" or not answer.authoritative or answer.alias is not None:
            return None
        if at >= width and answer.values != answers[at - width].values:
            return None
    if width == 1:
        return answers[0].values
    return tuple(value for answer in answers[:width] for value in answer.values)


def evidence_of(answer: Answer) -> Evidence:
    """Return an answer as it is reported; an alias is shown as what it leads to."""
    question = answer.question
    values = [rdata_text(question.rdtype, value) for value in answer.values]
    if answer.alias is not None and not values:
        values = [f"alias of {to_text(answer.alias)}"]
    return Evidence(
        server=question.server.label,
        endpoint=question.server.endpoint,
        question=f"{to_text(question.name)} {type_text(question.rdtype)}",
        status=answer.status,
        authoritative=answer.authoritative,
        values=values,
        ttl=answer.ttl,
        rtt_ms=round(answer.rtt_ms, 3) if answer.rtt_ms is not None else None,
        over=answer.over,
        trouble=answer.trouble,
        extended=[one.said for one in answer.extended] or msgspec.UNSET,
    )

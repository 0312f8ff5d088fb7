"""What does this name have, and who says so? One name, some types, any number of servers.

Strategy: round one puts every type to every server. What comes back is laid out side by side; an answer from a cache is told
from an authoritative one, with what is left of its TTL. Only where nothing came back are more questions asked, to say why:
is there no such name (and is one near), no such type (and which are there), or was it the wrong place to ask.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import Lookup, Telling, lookup
from salt_mirror.checks.common.nearest import nearest
from salt_mirror.checks.common.overriding import asked_unchecked
from salt_mirror.checks.common.standing import standing_of
from salt_mirror.checks.common.wording import duration, labels_of
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT, Name, is_within, join, labels, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import (
    AAAA,
    CNAME,
    DS,
    MX,
    NS,
    SOA,
    SWEPT,
    A,
    rdata_text,
    soa_fields,
    type_text,
)
from salt_mirror.dns.wire import offers_recursion

_AT_APEX = frozenset((MX, NS, SOA))
_MOST_CHAIN = 16


@dataclass(frozen=True, slots=True)
class TypeAnswer:
    """What one server says about one type.

    `chain` are the aliases followed, the asked name not among them; `ttl` seconds of the values or, where there are none,
    of the denial; `apex` the zone that denied. `whole_ttl` is the authoritative TTL, where that is known. `circle` says that
    the aliases lead back to one of themselves; where they lead out of what the server knows, `ended_by` are the servers that
    told of their end, `end_exists` whether it exists by those, `open_end` why nothing is known of it.
    """

    server: Server
    answer: Answer
    chain: tuple[Name, ...]
    values: tuple[bytes, ...]
    ttl: int | None
    apex: Name | None = None
    whole_ttl: int | None = None
    circle: bool = False
    ended_by: tuple[Server, ...] = ()
    end_exists: bool | None = None
    open_end: str | None = None

    @property
    def usable(self) -> bool:
        """Whether it says anything that can be relied on."""
        return self.answer.trouble is None and self.open_end is None

    @property
    def settled(self) -> bool:
        """Whether the server itself has told how it ends: with values, or with a denial of whatever its aliases lead to."""
        if self.values or not self.chain or not self.usable or self.circle or self.apex is not None:
            return True
        return self.from_cache and offers_recursion(self.answer.message)

    @property
    def from_cache(self) -> bool:
        """Whether the server had it from somebody else."""
        return self.answer.trouble is None and not self.answer.authoritative

    @property
    def denial(self) -> str | None:
        """`no such name`, `nothing of this type`, or None when there are values or trouble, or nothing is known."""
        if self.values or not self.usable or self.circle:
            return None
        exists = self.answer.status == "NOERROR" if self.end_exists is None else self.end_exists
        return "nothing of this type" if exists else "no such name"


@dataclass(slots=True)
class Asked:
    """All that is known about one name: what was asked for, what each server told for each type, and what explains silence.

    `view` is the one whose servers were asked, where that is one of several; `elsewhere` says what other views have at a name
    that does not exist here.
    """

    name: Name
    rdtypes: tuple[int, ...]
    told: list[TypeAnswer]
    why: list[str] = field(default_factory=list)
    view: str = ""
    elsewhere: list[str] = field(default_factory=list)

    @property
    def answered(self) -> bool:
        """Whether any server gave any value."""
        return any(told.values for told in self.told)

    @property
    def usable(self) -> bool:
        """Whether any server said anything that can be relied on."""
        return any(told.usable for told in self.told)

    @property
    def doubtful(self) -> list[Server]:
        """The servers that said nothing of use to one of the questions."""
        return list(dict.fromkeys(told.server for told in self.told if not told.usable))

    @property
    def led(self) -> TypeAnswer | None:
        """What leads to a name of which nothing is known, if anything does."""
        return next((told for told in self.told if told.open_end is not None), None)

    def at(self, rdtype: int) -> list[TypeAnswer]:
        """Return what the servers told about one type."""
        return [told for told in self.told if told.answer.question.rdtype == rdtype]

    def differs(self, rdtype: int) -> bool:
        """Return whether usable answers about a type are not the same set."""
        return len({told.values for told in self.at(rdtype) if told.usable}) > 1

    @property
    def differing(self) -> list[int]:
        """The types about which usable answers are not the same set."""
        return [rdtype for rdtype in self.rdtypes if self.differs(rdtype)]

    @property
    def missing(self) -> list[int]:
        """The types of which every usable answer says that there are none, beside others that are there."""
        return [
            rdtype
            for rdtype in self.rdtypes
            if self.answered
            and (answers := [one for one in self.at(rdtype) if one.usable])
            and not any(o.values for o in answers)
        ]


def found_in(views: Iterable[str], asked: Asked, atlas: Atlas) -> Dialogue[list[str]]:
    """Return a line for each of some other views whose authoritative servers have the name: with what."""
    lines: list[str] = []
    for view in views:
        founds = yield from together([lookup(asked.name, (rdtype,), view, atlas) for rdtype in asked.rdtypes])
        sets = [
            f"{type_text(rdtype)} {rdata_text(rdtype, value)}"
            for rdtype, looked_up in zip(asked.rdtypes, founds, strict=True)
            for value in looked_up.values
        ]
        if sets:
            lines.append(f"in the view {view} it has {', '.join(sets)}")
        elif any(found.exists and not found.followed for found in founds):
            lines.append(f"in the view {view} it exists, with nothing of this type")
    return lines


def told_by(answer: Answer) -> TypeAnswer:
    """Return an answer with its alias chain followed as far as the message itself goes (RFC 1034 section 3.6.2)."""
    question = answer.question
    server = question.server
    if answer.values or answer.trouble is not None or not answer.message:
        chain = (answer.alias,) if answer.alias is not None else ()
        return TypeAnswer(server, answer, chain, answer.values, answer.ttl)
    sections = answer.sections
    chain_found: list[Name] = []
    at = question.name
    ttls: list[int] = []
    values: tuple[bytes, ...] = ()
    while len(chain_found) < _MOST_CHAIN:
        rrset = [record for record in sections.answer if record.owner == at and record.rdtype == question.rdtype]
        if rrset:
            values = tuple(sorted({record.rdata for record in rrset}))
            ttls += [record.ttl for record in rrset]
            break
        alias = next((record for record in sections.answer if record.owner == at and record.rdtype == CNAME), None)
        if alias is None:
            break
        if alias.rdata in (question.name, *chain_found):
            return TypeAnswer(server, answer, (*chain_found, alias.rdata), (), alias.ttl, circle=True)
        chain_found.append(alias.rdata)
        ttls.append(alias.ttl)
        at = alias.rdata
    soa = next((record for record in sections.authority if record.rdtype == SOA and is_within(at, record.owner)), None)
    if values or soa is None:
        return TypeAnswer(server, answer, tuple(chain_found), values, min(ttls, default=None))
    negative = min(soa.ttl, soa_fields(soa.rdata).minimum)  # RFC 2308 section 5
    return TypeAnswer(server, answer, tuple(chain_found), (), negative, soa.owner)


def ask(
    name: Name,
    rdtypes: Sequence[int],
    servers: Sequence[tuple[Server, bool]],
    atlas: Atlas,
    *,
    known: Collection[Name] = (),
    suffixes: Sequence[Name] = (),
    view: str = "",
) -> Dialogue[Asked]:
    """Ask servers, each with or without recursion, about a name. `known` names and `suffixes` help to explain a "no"."""
    answers = yield [Question(name, rdtype, server, recurse) for rdtype in rdtypes for server, recurse in servers]
    told = [told_by(answer) for answer in answers]
    if not all(one.settled for one in told):
        told = yield from _with_ends(told, atlas, view)
    if any(one.from_cache and one.values for one in told):
        told = yield from _with_whole_ttls(told, atlas, view)
    asked = Asked(name, tuple(rdtypes), told)
    asked.why += _extended(told)
    if not asked.answered:
        yield from _explain(asked, known, suffixes)
    yield from _unchecked(asked, atlas)
    for rdtype in asked.differing:
        asked.why.append((yield from _difference(asked, rdtype, atlas, view)))
    return asked


def _extended(answers: Sequence[TypeAnswer]) -> list[str]:
    """Return the extended errors that came with answers, each once for a server (RFC 8914)."""
    said = {(one.server.label, error.said): None for one in answers for error in one.answer.extended}
    return [f"{label} adds the extended error {text}" for label, text in said]


def _unchecked(asked: Asked, atlas: Atlas) -> Dialogue[None]:
    """Say of what resolvers failed to answer whether it does not validate."""
    failed = [
        reply.answer.question
        for reply in asked.told
        if reply.answer.status == "SERVFAIL" and reply.answer.question.recurse
    ]
    for question, answer in (yield from asked_unchecked(failed, atlas)).items():
        if answer.trouble is None:
            values = ", ".join(rdata_text(question.rdtype, value) for value in told_by(answer).values) or "no record"
            asked.why.append(
                f"it does not validate (DNSSEC) at {question.server.label}: with checking disabled "
                f"{type_text(question.rdtype)} is {values}"
            )


def _with_ends(answers: list[TypeAnswer], atlas: Atlas, view: str) -> Dialogue[list[TypeAnswer]]:
    """Look up at its own servers what an alias leads to outside of what the asked server knows."""
    wanted = list(dict.fromkeys((one.chain[-1], one.answer.question.rdtype) for one in answers if not one.settled))
    lookups = yield from together([lookup(target, (rdtype,), view, atlas) for target, rdtype in wanted])
    ends = dict(zip(wanted, lookups, strict=True))
    return [one if one.settled else _ended(one, ends[one.chain[-1], one.answer.question.rdtype]) for one in answers]


def _ended(reply: TypeAnswer, end: Lookup) -> TypeAnswer:
    """Return what a server told, with what the servers of its alias's end tell."""
    chain = reply.chain if end.canonical == end.name else (*reply.chain, end.canonical)
    if end.circle or end.canonical in (reply.answer.question.name, *reply.chain[:-1]):
        return replace(reply, chain=(*reply.chain, *end.circle[1:]), circle=True)
    if not end.usable:
        return replace(reply, chain=chain, open_end=end.trouble)
    ttls = [reply.ttl, *(answer.ttl for telling in end.usable for answer in telling.answers)]
    ended_by = tuple(telling.server for telling in end.usable)
    ttl = min((ttl for ttl in ttls if ttl is not None), default=None)
    return replace(reply, chain=chain, values=end.values, ttl=ttl, ended_by=ended_by, end_exists=end.exists)


def _difference(asked: Asked, rdtype: int, atlas: Atlas, view: str) -> Dialogue[str]:
    """Return who says what of a type on which servers differ, and whose word counts where that can be told."""
    usable = [one for one in asked.at(rdtype) if one.usable]
    by_values: dict[tuple[bytes, ...], list[TypeAnswer]] = {}
    for answer in usable:
        by_values.setdefault(answer.values, []).append(answer)
    said = "; ".join(
        f"{labels_of(one.server for one in group)}: "
        + (", ".join(rdata_text(rdtype, value) for value in values) or group[0].denial or "none")
        for values, group in by_values.items()
    )
    text = f"the servers differ on {type_text(rdtype)}: {said}"
    own = [one for one in usable if one.answer.authoritative and not one.chain]
    authority = atlas.known(asked.name, view)
    if authority is not None and authority.zone is not None and len(own) > 1:
        looked_up = Lookup(asked.name, asked.name, authority, [Telling(one.server, (one.answer,)) for one in own])
        standing = yield from standing_of(looked_up, view, atlas)
        if standing.behind:
            text += f"; {labels_of(standing.behind)} {'is' if len(standing.behind) == 1 else 'are'} behind"
        elif standing.replicas is not None:
            text += f"; they replicate {standing.replicas.through}, and it has not come to all of them"
    return text


def _with_whole_ttls(told: list[TypeAnswer], atlas: Atlas, view: str) -> Dialogue[list[TypeAnswer]]:
    """Add the authoritative TTL to what came from a cache, where the estate knows who is authoritative."""
    cached = {one.answer.question.rdtype: one.answer.question.name for one in told if one.from_cache and one.values}
    name = next(iter(cached.values()))
    if atlas.estate.zone_for(name, view) is None:
        return told
    authority = atlas.known(name, view)
    if authority is None or not authority.servers:
        return told
    answers = yield [Question(name, rdtype, authority.servers[0]) for rdtype in cached]
    whole = {answer.question.rdtype: answer.ttl for answer in answers if answer.trouble is None}
    return [
        replace(reply, whole_ttl=whole.get(reply.answer.question.rdtype))
        if reply.from_cache and reply.values
        else reply
        for reply in told
    ]


def _explain(asked: Asked, known: Collection[Name], suffixes: Sequence[Name]) -> Dialogue[None]:
    """Say why nothing came back."""
    usable = next((one for one in asked.told if one.usable), None)
    if usable is None:
        if asked.led is not None:
            end = to_text(asked.led.chain[-1])
            asked.why.append(f"it is an alias of {end}, and what that has is not known: {asked.led.open_end}")
            return
        asked.why.append("no server gave a usable answer: nothing is known about the name, also not that it is missing")
        return
    server, recurse = usable.server, usable.answer.question.recurse
    if usable.circle:
        asked.why.append(f"its aliases lead in a circle: {' -> '.join(map(to_text, (asked.name, *usable.chain)))}")
        return
    if usable.from_cache and usable.ttl is not None:
        asked.why.append(f"{server.label} has this negative cache entry for another {duration(usable.ttl)} (RFC 2308)")
    if usable.denial == "no such name" and not usable.chain:
        yield from _explain_name(asked, server, recurse, known, suffixes)
    elif usable.chain:
        target = to_text(usable.chain[-1])
        gone = "does not exist" if usable.denial == "no such name" else "has nothing of this type"
        asked.why.append(f"it is an alias that leads to {target}, which {gone}")
    else:
        answers = yield [
            Question(asked.name, rdtype, server, recurse) for rdtype in SWEPT if rdtype not in asked.rdtypes
        ]
        there = [type_text(answer.question.rdtype) for answer in answers if answer.trouble is None and answer.values]
        names = (
            ", ".join(there) if there else "none of the common types: it is only a step on the way to names below it"
        )
        asked.why.append(f"the name exists; it has {names}")
    if DS in asked.rdtypes and usable.apex == asked.name and not usable.chain:
        asked.why.append(
            "the DS record of a zone is in the zone above (RFC 4035 section 2.4): --at authoritative asks there"
        )
    wrong_place = [rdtype for rdtype in asked.rdtypes if rdtype in _AT_APEX]
    if wrong_place and usable.apex is not None and usable.apex not in (asked.name, ROOT):
        answers = yield [Question(usable.apex, rdtype, server, recurse) for rdtype in wrong_place]
        for answer in answers:
            kind, apex = type_text(answer.question.rdtype), to_text(usable.apex)
            says = (
                ", ".join(rdata_text(answer.question.rdtype, value) for value in answer.values) or "none there either"
            )
            asked.why.append(f"{kind} records are at the apex of the zone, {apex}, not below it: {says}")


def _explain_name(
    asked: Asked, server: Server, recurse: bool, known: Collection[Name], suffixes: Sequence[Name]
) -> Dialogue[None]:
    """Is a name near this one, or the same with or without a suffix, there?"""
    others = list(dict.fromkeys([*_respelt(asked.name, suffixes), *nearest(asked.name, known)]))
    answers = yield [Question(other, rdtype, server, recurse) for other in others for rdtype in (A, AAAA)]
    there = dict.fromkeys(answer.question.name for answer in answers if answer.trouble is None and answer.exists)
    if there:
        asked.why.append("no such name; did you mean " + " or ".join(map(to_text, there)) + "?")
    else:
        asked.why.append("no such name, and none that is near it")


def _respelt(name: Name, suffixes: Iterable[Name]) -> list[Name]:
    """Return the name with each suffix put on, and with one that it ends in twice taken off."""
    values = []
    for suffix in suffixes:
        if suffix == ROOT:
            continue
        if not is_within(name, suffix):
            try:
                values.append(join(labels(name), suffix))
            except Unusable:
                continue
        inner = join(labels(name)[: -len(labels(suffix))])
        if inner != ROOT and is_within(inner, suffix):
            values.append(inner)
    return values

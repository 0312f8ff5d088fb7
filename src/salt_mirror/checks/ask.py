"""What does this name have, and who says so? One name, some types, any number of servers.

Strategy: round one puts every type to every server. What comes back is laid out side by side; an answer from a cache is told
from an authoritative one, with what is left of its TTL. Only where nothing came back are more questions asked, to say why:
is there no such name (and is one near), no such type (and which are there), or was it the wrong place to ask.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.nearest import nearest
from salt_mirror.checks.wording import duration
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT, Name, is_within, join, labels, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import (
    AAAA,
    CNAME,
    MX,
    NS,
    PTR,
    SOA,
    SRV,
    TXT,
    A,
    rdata_text,
    soa_fields,
    type_from_text,
    type_text,
)

EVERY = (
    A,
    AAAA,
    CNAME,
    MX,
    NS,
    SOA,
    TXT,
    SRV,
    PTR,
    *map(type_from_text, ("CAA", "HTTPS", "SVCB", "NAPTR", "TLSA", "DS", "DNSKEY")),
)
"""The types of a sweep. One by one, since servers refuse or trim a question for all of them at once (RFC 8482)."""
_AT_APEX = frozenset((MX, NS, SOA))
_MOST_CHAIN = 16


@dataclass(frozen=True, slots=True)
class Told:
    """What one server says about one type.

    `chain` are the aliases followed, the asked name not among them; `ttl` seconds of the values or, where there are none,
    of the denial; `apex` the zone that denied. `whole_ttl` is the authoritative TTL, where that is known.
    """

    server: Server
    answer: Answer
    chain: tuple[Name, ...]
    values: tuple[bytes, ...]
    ttl: int | None
    apex: Name | None = None
    whole_ttl: int | None = None

    @property
    def from_cache(self) -> bool:
        """Whether the server had it from somebody else."""
        return self.answer.trouble is None and not self.answer.authoritative

    @property
    def denial(self) -> str | None:
        """`no such name`, `nothing of this type`, or None when there are values or trouble."""
        if self.values or self.answer.trouble is not None:
            return None
        return "nothing of this type" if self.answer.status == "NOERROR" else "no such name"


@dataclass(slots=True)
class Asked:
    """All that is known about one name: what was asked for, what each server told for each type, and what explains silence."""

    name: Name
    rdtypes: tuple[int, ...]
    told: list[Told]
    why: list[str] = field(default_factory=list)

    @property
    def answered(self) -> bool:
        """Whether any server gave any value."""
        return any(told.values for told in self.told)

    @property
    def usable(self) -> bool:
        """Whether any server said anything that can be relied on."""
        return any(told.answer.trouble is None for told in self.told)

    def at(self, rdtype: int) -> list[Told]:
        """What the servers told about one type."""
        return [told for told in self.told if told.answer.question.rdtype == rdtype]

    def differs(self, rdtype: int) -> bool:
        """Whether usable answers about a type are not the same set."""
        return len({told.values for told in self.at(rdtype) if told.answer.trouble is None}) > 1


def told_by(answer: Answer) -> Told:
    """An answer with its alias chain followed as far as the message itself goes (RFC 1034 section 3.6.2)."""
    question = answer.question
    server = question.server
    if answer.values or answer.trouble is not None or not answer.message:
        chain = (answer.alias,) if answer.alias is not None else ()
        return Told(server, answer, chain, answer.values, answer.ttl)
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
        if alias is None or alias.rdata in chain_found:
            break
        chain_found.append(alias.rdata)
        ttls.append(alias.ttl)
        at = alias.rdata
    soa = next((record for record in sections.authority if record.rdtype == SOA and is_within(at, record.owner)), None)
    if values or soa is None:
        return Told(server, answer, tuple(chain_found), values, min(ttls, default=None))
    negative = min(soa.ttl, soa_fields(soa.rdata).minimum)  # RFC 2308 section 5
    return Told(server, answer, tuple(chain_found), (), negative, soa.owner)


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
    """Asks servers, each with or without recursion, about a name. `known` names and `suffixes` help to explain a "no"."""
    answers = yield [Question(name, rdtype, server, recurse) for rdtype in rdtypes for server, recurse in servers]
    told = [told_by(answer) for answer in answers]
    if any(one.from_cache and one.values for one in told):
        told = yield from _with_whole_ttls(told, atlas, view)
    asked = Asked(name, tuple(rdtypes), told)
    if not asked.answered:
        yield from _explain(asked, known, suffixes)
    return asked


def _with_whole_ttls(told: list[Told], atlas: Atlas, view: str) -> Dialogue[list[Told]]:
    """Adds the authoritative TTL to what came from a cache, where the estate knows who is authoritative."""
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
        Told(one.server, one.answer, one.chain, one.values, one.ttl, one.apex, whole.get(one.answer.question.rdtype))
        if one.from_cache
        else one
        for one in told
    ]


def _explain(asked: Asked, known: Collection[Name], suffixes: Sequence[Name]) -> Dialogue[None]:
    """Says why nothing came back."""
    usable = next((one for one in asked.told if one.answer.trouble is None), None)
    if usable is None:
        asked.why.append("no server gave a usable answer: nothing is known about the name, also not that it is missing")
        return
    server, recurse = usable.server, usable.answer.question.recurse
    if usable.from_cache and usable.ttl is not None:
        asked.why.append(f'{server.label} will believe this "no" for another {duration(usable.ttl)} (RFC 2308)')
    if usable.denial == "no such name" and not usable.chain:
        yield from _explain_name(asked, server, recurse, known, suffixes)
    elif usable.chain:
        target = to_text(usable.chain[-1])
        gone = "does not exist" if usable.denial == "no such name" else "has nothing of this type"
        asked.why.append(f"it is an alias that leads to {target}, which {gone}")
    else:
        answers = yield [
            Question(asked.name, rdtype, server, recurse) for rdtype in EVERY if rdtype not in asked.rdtypes
        ]
        there = [type_text(answer.question.rdtype) for answer in answers if answer.trouble is None and answer.values]
        names = (
            ", ".join(there) if there else "none of the common types: it is only a step on the way to names below it"
        )
        asked.why.append(f"the name exists; it has {names}")
    wrong_place = [rdtype for rdtype in asked.rdtypes if rdtype in _AT_APEX]
    if wrong_place and usable.apex is not None and usable.apex not in (asked.name, ROOT):
        answers = yield [Question(usable.apex, rdtype, server, recurse) for rdtype in wrong_place]
        for answer in answers:
            kind, apex = type_text(answer.question.rdtype), to_text(usable.apex)
            says = (
                ", ".join(rdata_text(answer.question.rdtype, value) for value in answer.values) or "none there either"
            )
            asked.why.append(f"{kind} records stand at the apex of the zone, {apex}, not below it: {says}")


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
    """The name with each suffix put on, and with one that it ends in twice taken off."""
    found = []
    for suffix in suffixes:
        if suffix == ROOT:
            continue
        if not is_within(name, suffix):
            try:
                found.append(join(labels(name), suffix))
            except Unusable:
                continue
        inner = join(labels(name)[: -len(labels(suffix))])
        if inner != ROOT and is_within(inner, suffix):
            found.append(inner)
    return found

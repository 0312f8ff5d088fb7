"""One resolver asked for all that tells what it does.

Strategy: first every way to it is tried with something simple, so that a dead one costs a few questions; then the first way
that answers is asked for zones, names and what must not be there, beside the authoritative servers; and where a zone was not
reached, those to which it forwards are asked for the same. Nothing is judged here.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import Lookup, at_name
from salt_mirror.checks.common.overriding import asked_unchecked
from salt_mirror.checks.resolvers.scope import TriedResolver
from salt_mirror.dns.dialogue import Dialogue, put, together
from salt_mirror.dns.names import ROOT, Name, from_text, labels
from salt_mirror.dns.questions import WRONG_CASE, Answer, Question, Server
from salt_mirror.dns.records import NS, SOA, A
from salt_mirror.estate.model import Zone

LOOKS = 4
"""How often the same is asked again, to see whether several answer behind one address."""
_INVALID = from_text("invalid")
_LATER_PACE = 0.6
_MOST_LATER = 8


@dataclass(slots=True)
class Way:
    """One way to a resolver: what it said to a simple question, and to questions that it has to look up (an internal name's and
    an external one's, as far as there are such)."""

    server: Server
    simple: Answer
    looked_up: list[Answer]

    @property
    def heard(self) -> list[Answer]:
        """The answers that came, whatever they say."""
        return [one for one in (self.simple, *self.looked_up) if one.message or one.status == WRONG_CASE]


@dataclass(slots=True)
class ThroughIt:
    """What a resolver says of something, and what its authoritative servers say, where those are known; `elsewhere` what those
    of other views say, where that differs."""

    answer: Answer
    found: Lookup | None = None
    elsewhere: dict[str, Lookup] = field(default_factory=dict)


def gives_same(answer: Answer, looked_up: Lookup) -> bool:
    """Return whether a resolver gives what one of some authoritative servers has, whole."""
    return any(answer.values == telling.values and answer.alias == telling.alias for telling in looked_up.usable)


@dataclass(slots=True)
class Validation:
    """What a resolver says of signed names and of broken ones, each asked for with DO; `unchecked` what it answers with
    checking disabled where it failed."""

    signed: list[Answer] = field(default_factory=list)
    broken: list[Answer] = field(default_factory=list)
    unchecked: dict[Question, Answer] = field(default_factory=dict)


@dataclass(slots=True)
class ResolverSeen:
    """All that was seen of a resolver. `main` is the way that everything else was asked over, None where nothing came back.

    `values` are the expected record sets, `denials` what it says twice of a name that nobody has, `unchecked` what it answers
    with checking disabled where it failed before; `later` a second look at what differs, and `control` two looks at the same
    time at something that it keeps.
    """

    tried: TriedResolver
    ways: list[Way]
    main: Server | None = None
    zones: list[tuple[Zone, ThroughIt]] = field(default_factory=list)
    others: list[tuple[Zone, Lookup]] = field(default_factory=list)
    private: list[Answer] = field(default_factory=list)
    external: list[Answer] = field(default_factory=list)
    nobody: list[ThroughIt] = field(default_factory=list)
    names: list[ThroughIt] = field(default_factory=list)
    aliases: list[Answer] = field(default_factory=list)
    large: list[ThroughIt] = field(default_factory=list)
    again: list[Answer] = field(default_factory=list)
    forwarders: list[Answer] = field(default_factory=list)
    values: list[ThroughIt] = field(default_factory=list)
    denials: list[Answer] = field(default_factory=list)
    unchecked: dict[tuple[Name, int], Answer] = field(default_factory=dict)
    later: dict[tuple[Name, int], Answer] = field(default_factory=dict)
    control: tuple[Answer, Answer] | None = None
    validation: Validation = field(default_factory=Validation)

    def answers(self) -> list[Answer]:
        """Return everything that the resolver itself said."""
        through = [*(one for _, one in self.zones), *self.nobody, *self.names, *self.large, *self.values]
        ways = [answer for way in self.ways for answer in (way.simple, *way.looked_up)]
        return [*ways, *(one.answer for one in through), *self.private, *self.external, *self.aliases, *self.again]


def inspect(tried: TriedResolver, atlas: Atlas, stranger: bytes) -> Dialogue[ResolverSeen]:
    """Ask all there is to ask of a resolver; `stranger` is a label that nobody has registered."""
    ways = yield from _ways(tried)
    seen = ResolverSeen(tried, ways)
    sound = [way for way in ways if any(one.trouble is None for one in way.heard)]
    heard = sound or [way for way in ways if any(one.status != WRONG_CASE for one in way.heard)]
    if not heard:
        return seen
    seen.main = heard[0].server
    if tried.outside or not recurses(heard[0].looked_up):
        return seen  # whom it serves it may look up for, and nobody here is to be misled by what it says to strangers
    main = seen.main
    yield from _together_with(tried, main, atlas, stranger, seen)
    yield from _values(tried, main, atlas, seen)
    yield from _doubts(main, atlas, seen)
    seen.validation = yield from _ask_validation(tried, main, atlas)
    unreached = [
        zone.apex
        for (zone, through) in seen.zones
        if through.found is not None and through.found.usable and not through.answer.values
    ]
    if unreached or (tried.external and all(answer.trouble for answer in seen.external)):
        wanted = [(apex, SOA) for apex in unreached] or [(name, A) for name in tried.external]
        batch = [
            Question(name, rdtype, server, True) for server in tried.duty.forwards_to for name, rdtype in wanted[:3]
        ]
        seen.forwarders = (yield batch) if batch else []
    return seen


def _ask_validation(tried: TriedResolver, main: Server, atlas: Atlas) -> Dialogue[Validation]:
    """Ask a resolver for signed and for broken names."""
    server = atlas.sibling(main, "signed")
    signed: list[tuple[Name, int]] = [(name, A) for name in tried.signed]
    if tried.external:  # on a network that leads nowhere the root cannot be found
        signed.append((ROOT, SOA))
    seen = Validation()
    batch = [Question(name, rdtype, server, True) for name, rdtype in [*signed, *((name, A) for name in tried.broken)]]
    answers = (yield batch) if batch else []
    seen.signed, seen.broken = answers[: len(signed)], answers[len(signed) :]
    failed = [answer.question for answer in answers if answer.status == "SERVFAIL"]
    seen.unchecked = yield from asked_unchecked([one._replace(server=main) for one in failed], atlas)
    return seen


def recurses(answers: Sequence[Answer]) -> bool:
    """Return whether a resolver looks up for us: it offers that, or has done it. Where nothing was asked for that tells, it is
    not denied."""
    came = [answer for answer in answers if answer.message]
    return not came or any(
        answer.values or answer.alias is not None or (answer.message[3] & 0x80 and answer.status != "REFUSED")
        for answer in came
    )


def _ways(tried: TriedResolver) -> Dialogue[list[Way]]:
    """Try every way to it: with a question for what it holds, and with some that it has to look up."""
    wanted = [(zone.apex, SOA) for zone in tried.zones[:1]] + [(name, A) for name in tried.external[:1]]
    wanted = wanted or [(ROOT, NS)]
    batch = []
    for server in tried.ways:
        batch.append(Question(*wanted[0], server))
        batch += [Question(name, rdtype, server, True) for name, rdtype in wanted]
    answers = yield batch
    step = 1 + len(wanted)
    return [
        Way(server, answers[at], answers[at + 1 : at + step])
        for server, at in zip(tried.ways, range(0, len(answers), step), strict=True)
    ]


def _together_with(
    tried: TriedResolver, main: Server, atlas: Atlas, stranger: bytes, seen: ResolverSeen
) -> Dialogue[None]:
    """Ask the resolver and the authoritative servers for everything at once."""
    top = labels(tried.external[0])[-1] if tried.external else b""
    unregistered: list[tuple[Name, str | None]] = [(_below(_INVALID, stranger), None)]
    unregistered += [(_below(zone.apex, stranger), zone.view) for zone in tried.zones[:1]]
    if tried.external and len(labels(tried.external[0])) > 1:
        unregistered.append((_below(bytes((len(top),)) + top + ROOT, stranger), None))
    again = tried.names[:1]
    looks = [main.again() for _ in range(LOOKS)] if again else []
    steps: list[Dialogue[Any]] = [
        together([_through(zone.apex, SOA, zone.view, main, atlas) for zone in tried.zones]),
        together([at_name(zone.apex, (SOA,), zone.view, atlas) for zone in tried.others]),
        together([_through(name, A, view, main, atlas) for name, view in unregistered]),
        together([_through(name, A, view, main, atlas) for name, view in tried.names]),
        together([_through(name, rdtype, view, main, atlas) for name, rdtype, view in tried.large]),
        put([Question(name, SOA, main, True) for name in tried.private]),
        put([Question(name, A, main, True) for name in tried.external]),
        put([Question(name, A, main, True) for name, _ in tried.aliases]),
        put([Question(name, A, look, True) for look in looks for name, _ in again]),
    ]
    (
        zones,
        others,
        seen.nobody,
        seen.names,
        seen.large,
        seen.private,
        seen.external,
        seen.aliases,
        seen.again,
    ) = yield from together(steps)
    seen.zones = list(zip(tried.zones, zones, strict=True))
    seen.others = list(zip(tried.others, others, strict=True))


def _through(name: Name, rdtype: int, view: str | None, main: Server, atlas: Atlas) -> Dialogue[ThroughIt]:
    """Return what the resolver says of a name, and what its own servers say where a view has it."""
    steps: list[Dialogue[Any]] = [_by_its_own(name, rdtype, view, atlas), put([Question(name, rdtype, main, True)])]
    found, (answer,) = yield from together(steps)
    return ThroughIt(answer, found)


def _by_its_own(name: Name, rdtype: int, view: str | None, atlas: Atlas) -> Dialogue[Any]:
    if view is None:
        return None
    return (yield from at_name(name, (rdtype,), view, atlas))


def _values(tried: TriedResolver, main: Server, atlas: Atlas, seen: ResolverSeen) -> Dialogue[None]:
    """Ask the resolver for expected record sets that their own servers have: what they do not have it would learn to deny."""
    founds = yield from together([at_name(name, (rdtype,), view, atlas) for name, rdtype, view in tried.values])
    beside = yield from together([_in_other_views(*one, atlas) for one in tried.values])
    wanted = [
        (Question(name, rdtype, main, True), looked_up, others)
        for (name, rdtype, _), looked_up, others in zip(tried.values, founds, beside, strict=True)
        if looked_up.usable and (looked_up.values or looked_up.aliased or others)
    ]
    answers = (yield [question for question, _, _ in wanted]) if wanted else []
    seen.values = [ThroughIt(answer, found, others) for answer, (_, found, others) in zip(answers, wanted, strict=True)]


def _in_other_views(name: Name, rdtype: int, view: str, atlas: Atlas) -> Dialogue[dict[str, Lookup]]:
    """Return what the servers of other views that have a zone around a name say of it, where that differs from what its own
    say."""
    zone = atlas.estate.zone_of(name, view)
    views = [
        other
        for other in atlas.estate.views
        if other != view and zone is not None and zone.apex in atlas.estate.zones[other]
    ]
    if not views:
        return {}
    own, *others = yield from together([at_name(name, (rdtype,), one, atlas) for one in (view, *views)])
    sets = [telling.values for telling in own.usable]
    return {
        other: looked_up
        for other, looked_up in zip(views, others, strict=True)
        if looked_up.usable
        and not looked_up.unverified
        and all(telling.values not in sets for telling in looked_up.usable)
    }


def _doubts(main: Server, atlas: Atlas, seen: ResolverSeen) -> Dialogue[None]:
    """Ask again what failed, with checking disabled (RFC 4035 section 3.2.2), and what differs, a moment later, so that an
    outdated entry can be distinguished from one that the resolver rewrites."""
    looked = [
        *(one.answer for _, one in seen.zones),
        *(one.answer for one in (*seen.names, *seen.values)),
        *seen.external,
    ]
    failed = dict.fromkeys(one.question for one in looked if one.status == "SERVFAIL")
    unchecked = yield from asked_unchecked(failed, atlas)
    seen.unchecked = {(question.name, question.rdtype): answer for question, answer in unchecked.items()}
    odd = [
        through
        for through in seen.values
        if through.answer.trouble is None
        and through.found is not None
        and not gives_same(through.answer, through.found)
    ]
    if not odd:
        return
    denial = next(
        (one.answer for one in seen.nobody if one.found is not None and one.answer.status == "NXDOMAIN"), None
    )
    if denial is not None:
        kept = yield [Question(denial.question.name, denial.question.rdtype, main.again(), True)]
        seen.denials = [denial, *kept]
    yield from _later(main, odd, seen)


def _later(main: Server, odd: list[ThroughIt], seen: ResolverSeen) -> Dialogue[None]:
    """Return a second look at some of what differs and is not authoritative, after a wait in which a TTL counts down."""
    doubtful = [one for one in odd if one.answer.values and not one.answer.authoritative][:_MOST_LATER]
    kept = next((one for _, one in seen.zones if one.answer.ttl and not one.answer.authoritative), None)
    if not doubtful or kept is None:
        return
    slow = main.again(pace=_LATER_PACE)
    question = kept.answer.question
    # A paced server is sent its second question late; so the wait is the engine's, and takes no clock here.
    _, after = yield [Question(ROOT, NS, slow, True), Question(question.name, question.rdtype, slow, True)]
    twin = main.again()
    answers = yield [Question(one.answer.question.name, one.answer.question.rdtype, twin, True) for one in doubtful]
    seen.later = {(answer.question.name, answer.question.rdtype): answer for answer in answers}
    seen.control = kept.answer, after


def _below(zone: Name, label: bytes) -> Name:
    return bytes((len(label),)) + label + zone

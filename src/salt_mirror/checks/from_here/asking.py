"""Every station on a name's way asked for the same thing, and the authoritative servers of each view beside them.

Strategy: first all names that are tried, at the resolvers that programs would ask, which tells which of them wins; then the
name that was meant, at every resolver by itself and at the servers of each view; and with that a name that nobody has, which
tells who makes up answers. Nothing is judged here.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from salt_mirror.checks.ask.judging import told_by
from salt_mirror.checks.common.lookup import Lookup, at_name, lookup
from salt_mirror.checks.common.overriding import asked_unchecked
from salt_mirror.checks.from_here.scope import HereScope, Typed, WayResolver
from salt_mirror.dns.dialogue import Dialogue, put, together
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.questions import UNREACHABLE, Answer, Question, Server
from salt_mirror.dns.records import SOA, A

_INVALID = from_text("invalid")


@dataclass(frozen=True, slots=True)
class Said:
    """What a server says of a name over all types that were asked for: values, or why there are none; seconds left and
    milliseconds taken; `apex` is the zone that denies."""

    values: frozenset[bytes]
    trouble: str | None
    heard: bool
    ttl: int | None
    rtt_ms: float | None
    refused_at_once: bool = False
    apex: Name | None = None

    @property
    def usable(self) -> bool:
        """Whether it says anything that can be relied on."""
        return self.trouble is None


def said_by(answers: Sequence[Answer]) -> Said:
    """Put together the answers of one server to one name."""
    told = [told_by(answer) for answer in answers]
    values = frozenset(value for one in told for value in one.values)
    troubles = [one.answer.trouble for one in told if one.answer.trouble is not None]
    ttls = [one.ttl for one in told if one.ttl is not None and (bool(one.values) or not values)]
    times = [one.answer.rtt_ms for one in told if one.answer.rtt_ms is not None]
    return Said(
        values,
        troubles[0] if troubles else None,
        any(answer.came for answer in answers),
        min(ttls, default=None),
        min(times, default=None),
        all(answer.status == UNREACHABLE for answer in answers),
        next((one.apex for one in told if one.apex is not None), None),
    )


@dataclass(slots=True)
class Heard:
    """A station, and what it said: to the name that was meant, over TCP, to names that nobody has, to the apex of the name's
    zone where that is known, and with checking disabled, where it failed without."""

    station: WayResolver
    said: Said
    answers: list[Answer]
    stream: Answer | None = None
    made_up: list[Answer] = field(default_factory=list)
    apex: Answer | None = None
    unchecked: Answer | None = None

    @property
    def unasked(self) -> bool:
        """Whether something was not put to it, so that its silence says nothing."""
        return any(answer.unasked for answer in self.answers)

    @property
    def no_stream(self) -> bool:
        """Whether it says nothing over TCP, having been asked."""
        answer = self.stream
        return answer is not None and answer.trouble is not None and not answer.message and not answer.unasked


@dataclass(frozen=True, slots=True)
class ViewAnswers:
    """One view, and what its own servers say."""

    view: str
    found: Lookup

    @property
    def alternatives(self) -> set[frozenset[bytes]]:
        """What its servers say, one or the other where they differ."""
        return {frozenset(telling.values) for telling in self.found.usable}

    @property
    def certain(self) -> bool:
        """Whether all of them told."""
        return bool(self.found.usable) and not self.found.unverified and self.found.trouble is None

    @property
    def servers(self) -> list[Server]:
        """The servers that were asked."""
        return [telling.server for telling in self.found.tellings]


@dataclass(slots=True)
class HereSeen:
    """All that was seen of something typed. `name` is what it stands for, `winner` the name that programs get, None where none
    of those tried is there; `first` what the first resolver that answers says of the winner. `sides` are the views that count,
    `others` those that the computer should not get."""

    typed: Typed
    name: Name
    winner: Name | None
    first: Said | None
    heard: list[Heard]
    sides: list[ViewAnswers]
    others: list[ViewAnswers]
    kept: Heard | None = None
    tried: dict[Name, Said] = field(default_factory=dict)


def inspect(typed: Typed, scope: HereScope, stranger: bytes) -> Dialogue[HereSeen]:
    """Ask every station for something typed; `stranger` is a label that nobody has registered."""
    stub = scope.stub
    asked = {name: [stub] if stub is not None else scope.stations(name) for name in typed.candidates}
    tried = yield from _tried(typed, asked)
    silent = _silent(asked, tried)
    first_of = {name: next((said for said in tried[name] if said.usable), None) for name in typed.candidates}
    winner = next((name for name, said in first_of.items() if said is not None and said.values), None)
    name = typed.expected or winner or typed.candidates[0]
    stations = scope.stations(name)
    twin = stub.server.again() if stub is not None else None
    heard_of = [
        station for station in stations if station.server not in silent
    ]  # what says nothing is not waited for twice
    steps: list[Dialogue[Any]] = [
        _rows([station.server for station in stations], name, typed.rdtypes),
        put([Question(name, typed.rdtypes[0], scope.atlas.sibling(resolver.server, "tcp"), True) for resolver in heard_of
                if resolver.server.over == "udp"]),
        together([lookup(name, typed.rdtypes, view, scope.atlas) for view in scope.views_of(name)]),
        _rows([twin] if twin is not None else [], name, typed.rdtypes),
        _made_up(heard_of, name, scope, stranger),
        _apexes(heard_of, name, scope),
    ]  # fmt: skip
    rows, streams, found, again, made_up, apexes = yield from together(steps)
    unchecked = yield from _unchecked(rows, scope)
    over = {one.question.server.label: one for one in streams}
    heard = [
        Heard(
            station,
            said_by(row),
            row,
            over.get(station.server.label),
            made_up.get(station.server, []),
            apexes.get(station.server),
            unchecked.get(station.server),
        )
        for station, row in zip(stations, rows, strict=True)
    ]
    sides = [ViewAnswers(view, one) for view, one in zip(scope.views_of(name), found, strict=True)]
    right = [side for side in sides if scope.view in (None, side.view)]
    kept = Heard(stub, said_by(again[0]), again[0]) if stub is not None else None
    first = first_of.get(winner or name)
    shown = {one: said for one, said in first_of.items() if said is not None}
    others = [side for side in sides if side not in right]
    return HereSeen(typed, name, winner, first, heard, right, others, kept, shown)


def _apexes(stations: Sequence[WayResolver], name: Name, scope: HereScope) -> Dialogue[dict[Server, Answer]]:
    """Return the SOA of the name's zone at each station: whether it holds the zone itself."""
    estate = scope.atlas.estate
    zone = next((zone for view in estate.views if (zone := estate.zone_of(name, view)) is not None), None)
    batch = [Question(zone.apex, SOA, station.server, True) for station in stations] if zone is not None else []
    return {answer.question.server: answer for answer in ((yield batch) if batch else [])}


def _unchecked(rows: Sequence[Sequence[Answer]], scope: HereScope) -> Dialogue[dict[Server, Answer]]:
    """Return what failed, asked again with checking disabled, by station."""
    first = (next((answer for answer in row if answer.status == "SERVFAIL"), None) for row in rows)
    found = yield from asked_unchecked([answer.question for answer in first if answer is not None], scope.atlas)
    return {question.server: answer for question, answer in found.items()}


def _silent(asked: dict[Name, list[WayResolver]], tried: dict[Name, list[Said]]) -> set[Server]:
    """Return the resolvers that were asked and said nothing to anything."""
    heard: dict[Server, bool] = {}
    for name, stations in asked.items():
        for station, said in zip(stations, tried[name], strict=True):
            heard[station.server] = heard.get(station.server, False) or said.heard
    return {server for server, came in heard.items() if not came}


def _tried(typed: Typed, asked: dict[Name, list[WayResolver]]) -> Dialogue[dict[Name, list[Said]]]:
    """Return what the resolvers say of each name that is tried."""
    batch = [
        Question(name, rdtype, station.server, True)
        for name, stations in asked.items()
        for station in stations
        for rdtype in typed.rdtypes
    ]
    answers = iter((yield batch) if batch else [])
    return {
        name: [said_by([next(answers) for _ in typed.rdtypes]) for _ in stations] for name, stations in asked.items()
    }


def _rows(servers: Iterable[Server], name: Name, rdtypes: tuple[int, ...]) -> Dialogue[Any]:
    """Return the answers of each server to a name."""
    listed = list(servers)
    answers = (
        (yield [Question(name, rdtype, server, True) for server in listed for rdtype in rdtypes]) if listed else []
    )
    step = len(rdtypes)
    return [answers[at : at + step] for at in range(0, len(answers), step)]


def _made_up(
    stations: Sequence[WayResolver], name: Name, scope: HereScope, stranger: bytes
) -> Dialogue[dict[Server, list[Answer]]]:
    """Return addresses that resolvers give for names that nobody has: one below `invalid`, one beside the name, where its own
    servers deny that."""
    begin = bytes((len(stranger),)) + stranger
    beside = begin + name[name[0] + 1 :]
    probes = [begin + _INVALID, *([beside] if len(beside) <= 255 else [])]
    views = scope.views_of(name) if len(beside) <= 255 else []
    steps: list[Dialogue[Any]] = [
        put([Question(probe, A, station.server, True) for station in stations for probe in probes]),
        together([at_name(beside, (A,), view, scope.atlas) for view in views]),
    ]
    answers, denied = yield from together(steps)
    sure = bool(denied) and all(one.usable and not one.unverified and not one.exists for one in denied)
    found: dict[Server, list[Answer]] = {}
    for answer in answers:
        given = answer.trouble is None and (answer.values or answer.alias is not None)
        if given and (answer.question.name != beside or sure):
            found.setdefault(answer.question.server, []).append(answer)
    return found

"""Two servers' whole zones against each other, in both directions.

Strategy: a zone that both hand over is compared set by set, without a question. Where one does not, it is asked for every set
that the other holds; what it alone has cannot be seen then, and that is told. What signers make by themselves (RRSIG, NSEC)
differs between servers that sign, and is told once a zone. Serials say who is behind; which of the two is right is not told.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import evidence_of
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.common.replicas import Replicas, replicas_of
from salt_mirror.checks.common.standing import let_transfer
from salt_mirror.checks.common.wording import many, state
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import NOT_CONTENT, SOA, rdata_text, soa_fields, type_text
from salt_mirror.dns.serials import ahead
from salt_mirror.findings import Evidence, Finding, Outcome

_BATCH = 256

Sets = dict[tuple[Name, int], tuple[int, tuple[bytes, ...]]]
"""RRsets by owner and type: the TTL in seconds, the sorted canonical rdata."""


class TwoZones(NamedTuple):
    """One zone of a view on two servers."""

    apex: Name
    view: str
    servers: tuple[Server, Server]


@dataclass(slots=True)
class ComparedZone:
    """What came of one zone: how many sets were compared, which differ, which could not be seen, and the findings."""

    zone: TwoZones
    sets: set[tuple[Name, int]] = field(default_factory=set)
    other: set[tuple[Name, int]] = field(default_factory=set)
    unseen: set[tuple[Name, int]] = field(default_factory=set)
    findings: list[Finding] = field(default_factory=list)


class Differing(Part):
    """The comparison of some zones on two servers."""

    names = 100_000

    def __init__(self, zones: Iterable[TwoZones], atlas: Atlas, rdtypes: frozenset[int] = frozenset()) -> None:
        """`rdtypes` are the types to compare, all of them when there are none."""
        super().__init__()
        self._atlas = atlas
        self._rdtypes = rdtypes
        self._zones = list(zones)
        self._compared: list[ComparedZone] = []
        self.size = len(self._zones)

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[ComparedZone]]]:
        yield (_compare(zone, self._atlas, setting, self._rdtypes) for zone in self._zones)

    def take(self, result: ComparedZone) -> None:
        self._compared.append(result)

    def verdicts(self) -> Iterator[Verdict]:
        for compared in self._compared:
            for name, rdtype in compared.sets:
                outcome: Outcome = (
                    "differs"
                    if (name, rdtype) in compared.other
                    else "unverified"
                    if (name, rdtype) in compared.unseen
                    else "agrees"
                )
                yield Verdict(name, rdtype, compared.zone.view, outcome)

    def findings(self) -> Iterator[Finding]:
        for compared in self._compared:
            yield from compared.findings


def _compare(zone: TwoZones, atlas: Atlas, setting: Setting, rdtypes: frozenset[int]) -> Dialogue[ComparedZone]:
    compared = ComparedZone(zone)
    serials = yield [Question(zone.apex, SOA, server) for server in zone.servers]
    held = [setting.holdings(server, zone.apex) for server in zone.servers]
    words = _Words(zone, [one is not None for one in held])
    told: list[Sets] = [_sets_of(one, rdtypes) if one is not None else {} for one in held]
    troubles: dict[tuple[Name, int], Answer] = {}
    for mine, other in ((0, 1), (1, 0)):
        if held[mine] is None and held[other] is not None:
            told[mine], troubles = yield from _asked(zone.servers[mine], told[other])
    compared.findings += words.unheld(held, serials)
    told_soa = {
        server: soa_fields(answer.values[0])
        for server, answer in zip(zone.servers, serials, strict=True)
        if answer.trouble is None and answer.values
    }
    words.replicas = yield from replicas_of(zone.apex, zone.view, told_soa, atlas)
    versions = list(words.versions(serials))
    compared.findings += versions
    if any(one.outcome == "differs" for one in versions):
        compared.other.add((zone.apex, SOA))
    if not any(held):
        compared.sets.add((zone.apex, SOA))
        compared.unseen.add((zone.apex, SOA))
        return compared
    compared.sets = {*told[0], *told[1], *compared.other}
    signed = 0
    for key in sorted({*told[0], *told[1]}):
        if key in troubles:
            compared.unseen.add(key)
            compared.findings.append(words.unseen(key, troubles[key]))
            continue
        one, another = told[0].get(key), told[1].get(key)
        if one == another:
            continue
        if key[1] in NOT_CONTENT:
            signed += 1
            continue
        finding = words.difference(key, one, another)
        compared.findings.append(finding)
        if finding.outcome == "differs":
            compared.other.add(key)
    if signed:
        compared.findings.append(words.signed(signed))
    return compared


def _sets_of(holding: Holding, rdtypes: frozenset[int]) -> Sets:
    return {
        (name, rdtype): (ttl, values)
        for name, rdtype, ttl, values in holding.rrsets()
        if rdtype != SOA and (not rdtypes or rdtype in rdtypes)
    }


def _asked(server: Server, wanted: Sets) -> Dialogue[tuple[Sets, dict[tuple[Name, int], Answer]]]:
    """Return what a server says of sets that the other holds, and the answers that prove nothing."""
    found: Sets = {}
    troubles: dict[tuple[Name, int], Answer] = {}
    keys = [key for key in wanted if key[1] not in NOT_CONTENT]
    for at in range(0, len(keys), _BATCH):
        for answer in (yield [Question(name, rdtype, server) for name, rdtype in keys[at : at + _BATCH]]):
            key = answer.question.name, answer.question.rdtype
            if answer.trouble is not None:
                troubles[key] = answer
            elif answer.values:
                found[key] = (answer.ttl or 0, answer.values)
    found.update({key: kept for key, kept in wanted.items() if key[1] in NOT_CONTENT})  # they are not asked for
    return found, troubles


class _Words:
    """The findings about one zone, in words."""

    def __init__(self, zone: TwoZones, handed_over: list[bool]) -> None:
        self._zone = zone
        self._overs = ["transfer" if whole else "udp" for whole in handed_over]
        self._apex = to_text(zone.apex)
        self.replicas: Replicas | None = None
        self._one, self._another = (server.label for server in zone.servers)

    def unheld(self, held: list[Holding | None], serials: list[Answer]) -> Iterator[Finding]:
        """Return what cannot be seen of a server that does not hand the zone over."""
        for server, holding, answer in zip(self._zone.servers, held, serials, strict=True):
            if holding is not None:
                continue
            cause = f"{server.label} does not allow its transfer: what only it has was not seen"
            why = f" ({answer.trouble})" if answer.trouble else ""
            yield self._state(
                "diff.unverified", f"{self._apex}: {cause}{why}.", name=self._zone.apex, rdtype=SOA, outcome="unverified",
                server=server, cause=cause,
            )  # fmt: skip

    def versions(self, serials: list[Answer]) -> Iterator[Finding]:
        """Return which of the two is behind, by their serials (RFC 1982)."""
        if any(answer.trouble is not None or not answer.values for answer in serials):
            return
        first, second = (soa_fields(answer.values[0]) for answer in serials)
        one, another = first.serial, second.serial
        if first == second:
            return
        if self.replicas is not None and self.replicas.servers.issuperset(self._zone.servers):
            evidence = [evidence_of(answer) for answer in serials]
            text = (
                f"{self._one} and {self._another} replicate {self._apex} {self.replicas.through}, and count serials by "
                f"themselves ({one}, {another}): that these differ says nothing."
            )
            yield self._state("diff.replicated", text, name=self._zone.apex, rdtype=SOA, evidence=evidence)
            return
        if one == another:
            kept = [(answer.ttl or 0, answer.values) for answer in serials]
            yield self.difference((self._zone.apex, SOA), *kept)
            return
        apart = ahead(one, another)
        text = f"{self._apex} has serial {one} on {self._one} and {another} on {self._another}"
        behind = self._zone.servers[1 if apart and apart > 0 else 0]
        text += f": {behind.label} is behind." if apart else ": there is no order between them."
        advice = let_transfer([behind]) if apart else ""
        evidence = [evidence_of(answer) for answer in serials]
        yield self._state("diff.serial", text, name=self._zone.apex, rdtype=SOA, evidence=evidence, advice=advice)

    def difference(
        self,
        key: tuple[Name, int],
        one: tuple[int, tuple[bytes, ...]] | None,
        another: tuple[int, tuple[bytes, ...]] | None,
    ) -> Finding:
        """Return one set that is not the same on both."""
        name, rdtype = key
        what = f"{to_text(name)} {type_text(rdtype)}"
        if one is None or another is None:
            label, kept = (self._one, one) if one is not None else (self._another, another)
            assert kept is not None
            other = self._another if one is not None else self._one
            text = f"{what} is only on {label}, and not on {other}: {_said(rdtype, kept[1])}."
            return self._state("diff.only", text, name=name, rdtype=rdtype, evidence=self._evidence(key, one, another))
        if one[1] != another[1]:
            text = (
                f"{what} is {_said(rdtype, one[1])} on {self._one}, and {_said(rdtype, another[1])} on {self._another}."
            )
            return self._state("diff.other", text, name=name, rdtype=rdtype, evidence=self._evidence(key, one, another))
        text = f"{what} has the TTL {one[0]} s on {self._one}, and {another[0]} s on {self._another}."
        return self._state("diff.ttl", text, name=name, rdtype=rdtype, evidence=self._evidence(key, one, another))

    def unseen(self, key: tuple[Name, int], answer: Answer) -> Finding:
        """Return a set that one of them gave no usable answer for."""
        server = answer.question.server
        text = f"{to_text(key[0])} {type_text(key[1])} could not be compared: {server.label}: {answer.trouble}."
        return self._state(
            "diff.unverified", text, name=key[0], rdtype=key[1], outcome="unverified",
            cause=f"{server.label}: {answer.trouble}", evidence=[evidence_of(answer)], server=server,
        )  # fmt: skip

    def signed(self, number: int) -> Finding:
        """Sets that each server's signer makes by itself."""
        text = (
            f"{self._apex} differs in {many(number, 'record set')} that signers generate (RRSIG, NSEC), as it should."
        )
        return self._state("diff.signed", text, name=self._zone.apex, rdtype=SOA)

    def _evidence(self, key: tuple[Name, int], *told: tuple[int, tuple[bytes, ...]] | None) -> list[Evidence]:
        name, rdtype = key
        return [
            Evidence(
                server=server.label, endpoint=server.endpoint, question=f"{to_text(name)} {type_text(rdtype)}",
                status="NOERROR", authoritative=True, values=[rdata_text(rdtype, value) for value in kept[1]] if kept else [],
                ttl=kept[0] if kept else None, rtt_ms=None, over=over,
            )
            for server, kept, over in zip(self._zone.servers, told, self._overs, strict=True)
        ]  # fmt: skip

    def _state(self, code: str, text: str, **more: object) -> Finding:
        return state(code, text, view=self._zone.view, **more)  # type: ignore[arg-type]


def _said(rdtype: int, values: Iterable[bytes]) -> str:
    return ", ".join(rdata_text(rdtype, value) for value in values)

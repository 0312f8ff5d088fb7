"""Staleness at work: what the rules suspect is looked up, every target is followed, and what stands is told.

Strategy: an export may be older than the zone, so that nothing is said of a record before the zone's own servers have said
that it is still there. A target needs no question only where its zone was taken from a server in this very run.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from itertools import pairwise
from typing import Any

from msgspec.structs import replace

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.lookup import at_name, lookup
from salt_mirror.checks.common.part import ForeseenThings, Part, Setting, Verdict
from salt_mirror.checks.common.wording import many, no_word_of, troubles_of
from salt_mirror.checks.stale.plain import PlainReferences
from salt_mirror.checks.stale.rows import forecast, zone_ages
from salt_mirror.checks.stale.rules import Reason, Rules, Suspicion
from salt_mirror.checks.stale.scope import AgingRecord, Inventory, StaleScope
from salt_mirror.checks.stale.sheet import AgeSheet, Due, Group
from salt_mirror.checks.stale.wording import StaleWords
from salt_mirror.dns.dialogue import Dialogue, put, together
from salt_mirror.dns.names import ROOT, Name, from_text, labels, to_text
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import AAAA, ADDRESS_TYPES, DNSKEY, DS, NS, PTR, TLSA, A
from salt_mirror.dns.reverse import address_of, zone_network
from salt_mirror.dns.screening import ForeseenSubject
from salt_mirror.dns.special import undelegated
from salt_mirror.estate.aging import hours_since_1601
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Finding, Outcome


@dataclass(slots=True)
class Confirmed:
    """What came of one name with one reason, or of one reference: its records, the finding if there is one, and whether it was
    gone already."""

    records: list[AgingRecord]
    view: str
    reason: str
    outcome: Outcome
    finding: Finding | None = None
    gone: bool = False


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Stale:
    """Return what ages in an estate, and where its aliases lead, as far as it is covered."""
    return Stale(StaleScope(estate, sees=partial(coverage.looks_at, "stale"), everything=False), atlas)


class Stale(Part):
    """The look at ages and references."""

    def __init__(self, scope: StaleScope, atlas: Atlas, *, days: int = 0, by: str = "reason") -> None:
        super().__init__()
        self._scope = scope
        self._atlas = atlas
        self._days = days
        self._by = by
        self._seen: list[Confirmed] = []
        self._rules: list[tuple[Inventory, Rules]] = []
        self._records = 0
        self._now: datetime | None = None

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Confirmed]]]:
        self._now, self._seen = setting.moment, []
        now_h = hours_since_1601(setting.moment)
        self._rules = []
        for view in self._scope.views():
            inventory = self._scope.inventory(view, setting.holdings)
            self._rules.append((inventory, Rules(inventory, self._scope, now_h)))
        self._records = sum(self._judges(one) for found, _ in self._rules for one in (*found.records, *found.ds))
        self.size = self._records
        self._remark()
        for inventory, rules in self._rules:
            words = StaleWords(inventory, now_h)
            yield (self._confirm(group, words) for group in _grouped(rules.suspicions()))
            yield self._references_of(inventory, words)
            yield (self._follow_ds(one, words) for one in inventory.ds if self._judges(one))
            yield (self._tombstone(name, zone, words) for zone in self._zones(view) for name in self._tombstones(zone))
        yield [self._unread(domain, view, why) for (domain, view), why in self._scope.estate.unread.items()]

    def take(self, result: Confirmed) -> None:
        self._seen.append(result)

    def _remark(self) -> None:
        """What would be needed to judge more."""
        scope = self._scope
        if not scope.aged and scope.everything:
            self.remarks.append(
                "no source of ages: an export with age marks (ages in [[zones]]), or a directory to read "
                "(directory in [[directories]]), shows what is stale; references and retired networks are judged without"
            )
        for view in scope.views():
            self.remarks += [said for zone in self._zones(view) if (said := _stamps_apart(zone, scope))]
        for inventory, _ in self._rules:
            for zone in self._zones(inventory.view):
                if scope.sources(zone) and scope.aging(zone).life_h is None:
                    self.remarks.append(
                        f"no scavenging interval is known for {to_text(zone.apex)}: no_refresh and refresh in its [[zones]] do"
                    )
                elif scope.sources(zone) and scope.aging(zone).on is False:
                    self.remarks.append(f"aging is switched off for {to_text(zone.apex)}: nothing is taken there")

    # What is asked

    def _references_of(self, inventory: Inventory, words: StaleWords) -> ForeseenThings:
        """Return the look at where records of a view lead."""

        def agreeing(subject: ForeseenSubject) -> Confirmed:
            return Confirmed([subject.what], inventory.view, "", "agrees")

        plain = PlainReferences(self._atlas, inventory)
        return ForeseenThings(
            self._references(inventory), plain.foresee, agreeing, lambda record: self._follow(record, words)
        )

    def _confirm(self, group: list[Suspicion], words: StaleWords) -> Dialogue[Confirmed]:
        """Return whether records that the rules tell of are still there, by every server of their zone."""
        records = [one.record for one in group]
        first = records[0]
        rdtypes = tuple(dict.fromkeys(one.rdtype for one in records))
        lookups = yield from together([at_name(first.name, (one,), first.zone.view, self._atlas) for one in rdtypes])
        there = {(rdtype, value) for rdtype, one in zip(rdtypes, lookups, strict=True) for value in one.values}
        still = [one for one in group if (one.record.rdtype, one.record.rdata) in there]
        view, reason = first.zone.view, group[0].reason
        unsaid = any(one.certain != "agrees" for one in lookups)
        if still and not unsaid:
            life_h = self._scope.aging(first.zone).life_h
            finding = words.told(still, lookups, life_h)
            return Confirmed([one.record for one in still], view, reason.value, finding.outcome, finding)
        if unsaid:  # what one server has not said is not known, and nothing is offered to be removed for it
            return Confirmed(records, view, reason.value, "unverified", words.unverified(group, lookups))
        return Confirmed(records, view, reason.value, "agrees", gone=True)

    def _judges(self, record: AgingRecord) -> bool:
        """Return whether a record is wanted, and anything is known to judge it by."""
        return self._scope.wants(record) and self._scope.bears(record)

    def _zones(self, view: str) -> Iterable[Zone]:
        return self._scope.estate.zones.get(view, {}).values()

    def _tombstones(self, zone: Zone) -> list[Name]:
        """Return the names that a directory keeps as gone."""
        names = dict.fromkeys(name for source in self._scope.sources(zone) for name in source.gone)
        return [name for name in names if self._scope.sees(name, zone.view)]

    def _tombstone(self, name: Name, zone: Zone, words: StaleWords) -> Dialogue[Confirmed]:
        """Return whether a name that is gone in the directory is still served."""
        looked_up = yield from at_name(name, (A, AAAA, PTR), zone.view, self._atlas)
        serving = [telling.server for telling in looked_up.usable if telling.values]
        if not serving:
            return Confirmed([], zone.view, "age.tombstone", "agrees", gone=True)
        finding = words.tombstone(name, zone, serving, looked_up)
        return Confirmed([], zone.view, "age.tombstone", finding.outcome, finding)

    def _unread(self, domain: str, view: str, why: str) -> Dialogue[Confirmed]:
        """Return a directory that could not be read: of its ages nothing is known."""
        yield from ()
        finding = StaleWords.unread(domain, view, why)
        return Confirmed([], view, "age.unverified", "unverified", finding)

    def _references(self, inventory: Inventory) -> Iterator[AgingRecord]:
        """Return the records whose targets are to be looked at: those that no look at the data tells to be there."""
        for record in inventory.records:
            target = record.target
            if (
                record.rdtype not in self._scope.followed
                or target is None
                or target == ROOT
                or not self._scope.wants(record)
            ):
                continue
            if record.rdtype == NS and record.name != record.zone.apex:
                continue  # what lies below a delegation is the child's
            zone = self._scope.estate.zone_of(target, inventory.view)
            if target not in inventory.by_name or zone is None or zone.apex not in inventory.current:
                yield record

    def _follow(self, record: AgingRecord, words: StaleWords) -> Dialogue[Confirmed]:
        """Return whether a record's target exists."""
        target = record.target
        assert target is not None
        view = record.zone.view
        looked_up, own = yield from together(
            [
                lookup(target, (A, AAAA), view, self._atlas),
                at_name(record.name, (record.rdtype,), view, self._atlas),
            ]
        )
        if own.certain == "agrees" and record.rdata not in own.values and not own.aliased:
            return Confirmed([record], view, "left.dangling", "agrees", gone=True)
        if looked_up.certain != "agrees" or own.certain != "agrees":
            doubt = looked_up if looked_up.certain != "agrees" else own
            return Confirmed(
                [record], view, "left.dangling", "unverified", words.target_unverified(record, target, doubt)
            )
        # The owner of a TLSA record is below its host, so that this exists in any case: what counts is that it has an address.
        if looked_up.values if record.rdtype == TLSA else looked_up.exists:
            return Confirmed([record], view, "", "agrees")
        zone = looked_up.first.zone
        free = zone is not None and len(labels(zone)) == 1 and undelegated(target) is None
        finding = words.dangling(record, target, open_to_all=free, found=looked_up)
        return Confirmed([record], view, finding.code, finding.outcome, finding)

    def _follow_ds(self, record: AgingRecord, words: StaleWords) -> Dialogue[Confirmed]:
        """Return whether a DS record has a delegation beside it, and keys below (RFC 4035 section 2.4)."""
        view, zone = record.zone.view, record.zone
        authority = yield from self._atlas.find(zone.apex, view)
        # The zone above has the DS record: whoever has the one below as well would be asked of that for anything else.
        steps: list[Dialogue[Any]] = [
            put([Question(record.name, DS, server) for server in authority.servers]),
            put([Question(record.name, NS, server) for server in authority.servers]),
            at_name(record.name, (DNSKEY,), view, self._atlas),
        ]
        own, cut, below = yield from together(steps)
        doubt = next((one for one in own if one.trouble is not None), None)
        if doubt is not None or not own:
            why = no_word_of(doubt.question.server, doubt.trouble) if doubt is not None else "no server to ask"
            return Confirmed([record], view, "left.dangling", "unverified", words.ds_unverified(record, why))
        if not any(record.rdata in answer.values for answer in own):
            return Confirmed([record], view, "left.dangling", "agrees", gone=True)
        delegated = any(answer.values or answer.referral == record.name for answer in cut)
        if delegated and (below.certain != "agrees" or below.values):
            if below.values:
                return Confirmed([record], view, "", "agrees")
            return Confirmed(
                [record], view, "left.dangling", "unverified", words.ds_unverified(record, troubles_of(below))
            )
        finding = words.dangling_ds(record, own, delegated=delegated)
        return Confirmed([record], view, finding.code, finding.outcome, finding)

    # What came of it

    def verdicts(self) -> Iterator[Verdict]:
        apart = {(one.view, *record[:3]) for one in self._seen if one.gone or one.finding for record in one.records}
        for confirmed in self._seen:
            if confirmed.finding is not None and not confirmed.records:
                yield Verdict(from_text(confirmed.finding.name), 0, confirmed.view, confirmed.outcome)
            for record in confirmed.records if confirmed.finding is not None else ():
                yield Verdict(record.name, record.rdtype, confirmed.view, confirmed.outcome)
        for inventory, _ in self._rules:
            for record in inventory.records:
                if (inventory.view, *record[:3]) not in apart and self._judges(record):
                    yield Verdict(record.name, record.rdtype, inventory.view, "agrees")

    def addresses(self) -> dict[bytes, None]:
        """Return the addresses of what no longer belongs: where a host might still answer."""
        gone = (one for one in self._seen if one.finding is not None and _KINDS.get(one.reason) in ("stale", "left"))
        return {record.rdata: None for one in gone for record in one.records if record.rdtype in ADDRESS_TYPES}

    def hear(self, answered: Mapping[bytes, str]) -> None:
        """Take in whether hosts answer (in words, by address): it is told with the evidence, and judge nothing."""
        for confirmed in self._seen:
            said = [answered[record.rdata] for record in confirmed.records if record.rdata in answered]
            if confirmed.finding is not None and said and _KINDS.get(confirmed.reason) in ("stale", "left"):
                confirmed.finding = replace(
                    confirmed.finding, text=f"{confirmed.finding.text} {' '.join(dict.fromkeys(said))}"
                )

    def findings(self) -> list[Finding]:
        return [one.finding for one in self._seen if one.finding is not None]

    def sheet(self) -> AgeSheet:
        """Return the counts, the ages, and what goes when."""
        inventories = [inventory for inventory, _ in self._rules]
        wanted = [one for inventory in inventories for one in inventory.records if self._scope.wants(one)]
        assert self._now is not None
        now_h = hours_since_1601(self._now)
        days = Counter(int((now_h - one.stamp_h) // 24) for one in wanted if one.stamp_h)
        counts = self._counts(self._seen)
        due: list[Due] = forecast(self._rules, self._scope, self._now, self._days) if self._days else []
        return AgeSheet(
            records=len(wanted), static=sum(one.stamp_h == 0 for one in wanted),
            dynamic=sum(bool(one.stamp_h) for one in wanted), unknown=sum(one.stamp_h is None for one in wanted),
            stale=counts["stale"], left=counts["left"], dangling=counts["dangling"], needed=counts["needed"],
            days=dict(sorted(days.items())), zones=zone_ages(inventories, self._scope), forecast=due,
            groups=self._groups(), by=self._by,
        )  # fmt: skip

    @staticmethod
    def _counts(seen: Iterable[Confirmed]) -> Counter[str]:
        """Return how many records there are of each kind, each counted once."""
        found: Counter[str] = Counter()
        counted: set[tuple[Any, ...]] = set()
        for confirmed in seen:
            if confirmed.finding is not None and confirmed.finding.outcome != "unverified":
                new = {record[:3] for record in confirmed.records} - counted
                counted |= new
                found[_KINDS.get(confirmed.reason, "")] += len(new)
        return found

    def _groups(self) -> list[Group]:
        """Return what no longer belongs, by what was wished."""
        by_key: dict[str, list[Confirmed]] = {}
        for confirmed in self._seen:
            if (
                confirmed.finding is not None
                and confirmed.finding.outcome != "unverified"
                and _KINDS.get(confirmed.reason) in _GONE
            ):
                by_key.setdefault(self._key(confirmed), []).append(confirmed)
        found = []
        for key, members in sorted(by_key.items()):
            counts = self._counts(members)
            found.append(Group(key=key, stale=counts["stale"], left=counts["left"], dangling=counts["dangling"]))
        return found

    def _key(self, confirmed: Confirmed) -> str:
        record = confirmed.records[0]
        if self._by == "network":
            import ipaddress

            address = (
                record.rdata
                if record.rdtype in ADDRESS_TYPES
                else address_of(record.name)
                if record.rdtype == PTR
                else None
            )
            if address is None:
                return "no network"
            network = zone_network(record.zone.apex)
            return str(network or ipaddress.ip_network((address, 24 if len(address) == 4 else 64), strict=False))
        if self._by == "age":
            assert self._now is not None
            if not record.stamp_h:
                return "static" if record.stamp_h == 0 else "not known"
            return _age_band(int((hours_since_1601(self._now) - record.stamp_h) // 24))
        if self._by == "owner":
            return to_text(record.zone.apex)
        return confirmed.reason

    @property
    def says(self) -> str:
        """The answer in one sentence."""
        counts = self._counts(self._seen)
        total = counts["stale"] + counts["left"] + counts["dangling"]
        belong = "belongs" if total == 1 else "belong"
        text = f"{total:,} of {many(self._records, 'record')} no longer {belong}"
        parts = [f"{counts[kind]:,} {word}" for kind, word in _WORDS.items() if counts[kind]]
        text += f": {', '.join(parts)}" if parts else ""
        if counts["needed"]:
            text += (
                f"; {counts['needed']:,} that will be scavenged {'is' if counts['needed'] == 1 else 'are'} still needed"
            )
        doubts = self.counts()["unverified"]
        return f"{text}{f'; {doubts:,} could not be verified' if doubts else ''}."


_WORDS = {"stale": "stale", "left": "left over", "dangling": "dangling"}
_GONE = frozenset(_WORDS)
_KINDS = {
    Reason.STALE.value: "stale", Reason.REUSED.value: "left", Reason.RETIRED.value: "left", Reason.NEEDED.value: "needed",
    Reason.NOT_STATIC.value: "needed", "left.dangling": "dangling", "left.unregistered-domain": "dangling",
}  # fmt: skip
_BANDS = (14, 30, 90, 365)


def _age_band(days: int) -> str:
    for number, least in enumerate(_BANDS):
        if days < least:
            return f"under {least} days" if not number else f"{_BANDS[number - 1]} to {least} days"
    return f"over {_BANDS[-1]} days"


_APART_H = 24


def _stamps_apart(zone: Zone, scope: StaleScope) -> str:
    """Return what is to be told where copies of a zone have other stamps of the same records, as when changes do not travel."""
    sources = scope.sources(zone)
    for first, other in pairwise(sources):
        apart = [key for key, stamp in first.stamps.items() if abs(other.stamps.get(key, stamp) - stamp) > _APART_H]
        if apart:
            return (
                f"{first.source} and {other.source} have other stamps of {many(len(apart), 'record')} of "
                f"{to_text(zone.apex)}, {to_text(apart[0][0])} among them: the later one counts"
            )
    return ""


def _grouped(suspicions: Iterable[Suspicion]) -> list[list[Suspicion]]:
    """Suspicions of one name with one reason together."""
    groups: dict[tuple[Name, Reason, Any], list[Suspicion]] = {}
    for suspicion in suspicions:
        groups.setdefault((suspicion.record.name, suspicion.reason, suspicion.record.zone.apex), []).append(suspicion)
    return list(groups.values())

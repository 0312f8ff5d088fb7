"""A change rehearsed: the estate judged as it is, and as it will be, by the same checks over the answers in hand.

Strategy: two audits over one runner. The first is today's; over the second the zone files and the sets that are proposed are
laid, so that nothing is asked twice and nothing is judged by another rule. What only the second finds is new, what only the
first finds is mended. Each new finding is led back to the lines that it comes of. What is wrong with the files themselves,
with their serials, and what vanishes without a check that would miss it, is found here.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Literal

from salt_mirror.checks.audit.accepting import sort_out
from salt_mirror.checks.audit.causes import with_causes
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.part import Setting, in_hand
from salt_mirror.checks.plan.laying import Laid, LaidOver, held_over
from salt_mirror.checks.plan.proving import names_of
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.checks.rehearse.caches import waits_of
from salt_mirror.checks.rehearse.changes import changes_between, referring_in, vanishing
from salt_mirror.checks.rehearse.files import refusals
from salt_mirror.checks.rehearse.lines import Causes
from salt_mirror.checks.rehearse.listing import listed
from salt_mirror.checks.rehearse.loading import Loaded, Loading, Uptake, loaded_holdings, loading_of
from salt_mirror.checks.rehearse.proposed import ProposedZone, updated
from salt_mirror.checks.rehearse.sheet import RehearsalSheet, VanishingRow, WaitRow, ZoneRow
from salt_mirror.checks.rehearse.transfers import transfer_findings
from salt_mirror.checks.rehearse.wording import needed_finding, unseen_finding
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import SOA, soa_fields
from salt_mirror.estate.expectations import Expectation
from salt_mirror.findings import Finding, Outcome


def identity_of(finding: Finding) -> tuple[str, ...]:
    """Return a finding's identity."""
    return finding.identity


@dataclass(frozen=True, slots=True)
class ProposedChange:
    """What is proposed: zone files, sets beside them, and another estate by which to judge afterwards (its atlas). `known_as`
    says as what a finding of afterwards may have been known before, where what it is about gets another address; `partly`:
    what is there now is not known of every set."""

    zones: Sequence[ProposedZone] = ()
    sets: Sequence[PlannedSet] = ()
    atlas: Atlas | None = None
    known_as: Callable[[Finding], tuple[str, ...]] = identity_of
    partly: bool = False


@dataclass(slots=True)
class ZoneChange:
    """One zone file on its way: what its servers do with it, the zone as it is now on one of them (None where that could not be
    seen), and the record sets that change."""

    loading: Loading
    before: Holding | None = None
    sets: list[PlannedSet] = field(default_factory=list)

    @property
    def seen(self) -> Literal["whole", "asked", "absent", "unseen"]:
        """How it was seen as it is now: `whole`, as far as it was `asked` for, not at all, or it is `absent` on each server."""
        if self.before is not None:
            return "whole" if self.before.whole else "asked"
        return "unseen" if self.loading.why or self.loading.serials else "absent"

    def refused(self) -> list[Finding]:
        """Return what is wrong with the file, but for what is wrong with the zone today."""
        proposed = self.loading.proposed
        found = refusals(proposed)
        if not found or self.before is None:
            return found
        today = {one.identity for one in refusals(ProposedZone.of_holding(proposed.zone, self.before))}
        return [one for one in found if one.identity not in today]

    def waits(self) -> list[WaitRow]:
        """Return how long caches keep what changes."""
        secondaries = len(self.loading.fates) > 1 and self.loading.primary.replicas is None
        return waits_of(self.sets, self.before, secondaries=secondaries)

    def row(self) -> ZoneRow:
        """Return the zone as it is reported."""
        loading, sets = self.loading, self.sets
        zone, soa = loading.proposed.zone, loading.served.soa
        before = self.before.rdata(zone.apex, SOA) if self.before is not None else ()
        return ZoneRow(
            zone=to_text(zone.apex), view=zone.view, file=str(loading.proposed.path),
            serial_before=soa_fields(before[0]).serial if before else None,
            serial_after=soa_fields(soa).serial if soa else None,
            come=sum(not one.before for one in sets), gone=sum(not one.after for one in sets),
            changed=sum(bool(one.before and one.after) for one in sets), before=self.seen,
            takes=[one.label for one in loading.takers],
            keeps=[one.label for one, fate in loading.fates.items() if fate is Uptake.KEEPS],
            unknown=[f"{server.label}: {why}" for server, why in loading.why.items()],
        )  # fmt: skip


class Rehearsal:
    """A rehearsal at work: `before` and `after` are the findings that stand now and afterwards, `zones` the zone files.

    With `first` there is nothing before: files without servers, of which everything is new. Where another rehearsal has judged
    `today`, that is not judged again.
    """

    def __init__(
        self,
        atlas: Atlas,
        coverage: Coverage,
        proposal: ProposedChange,
        tick: Callable[[], None],
        *,
        first: bool = False,
        today: Rehearsal | None = None,
    ) -> None:
        self._atlas = atlas
        self._after_atlas = proposal.atlas or atlas
        self._coverage = coverage
        self._proposal = proposal
        self._tick = tick
        self._first = first
        self._today = today
        self._work: AuditWork = today._work if today is not None else AuditWork(atlas.estate, atlas, coverage)
        self.before: list[Finding] = []
        self.after: list[Finding] = []
        self.zones: list[ZoneChange] = []
        self.counts: dict[Outcome, int] = dict.fromkeys(("agrees", "differs", "unverified"), 0)
        self._vanishing: list[VanishingRow] = []

    def run(self, setting: Setting, runner: Runner) -> None:
        """Judge both states. Zones in hand by transfer are in the setting."""
        proposal = self._proposal
        holdings = [self._zone_now(one, setting, runner) for one in proposal.zones]
        known = _with_asked(setting, [*holdings, *self._around_sets(setting, runner)])
        work = self._work
        if self._today is not None:
            self.before = self._today.before
        elif not self._first:
            work.run(known, runner, self._tick)
            self.before = _standing(work, self._atlas, known)
        for proposed, (_, _, now) in zip(proposal.zones, holdings, strict=True):
            zone = proposed.zone
            loading = self._loading(proposed, work.servers_of(zone.view, zone.apex), known, runner)
            after = loading.served.holding
            sets = [] if self._first else changes_between(zone, now, after)
            self.zones.append(ZoneChange(loading, now, sets))
        sent = self._sent(work, known, runner)
        loadings = [*(one.loading for one in self.zones), *sent]
        over = Runner(Loaded(runner, loadings)) if loadings else runner
        held = loaded_holdings(known.holdings, loadings)
        laid = self._laid(work, {(one.proposed.zone.view, one.proposed.zone.apex) for one in sent})
        if laid:
            over, held = Runner(LaidOver(over, laid)), held_over(held, laid)
        names = _names_after(known, loadings)
        later = replace(known, holdings=held, transferred=names)
        done = AuditWork(self._after_atlas.estate, self._after_atlas, self._coverage)
        done.run(later, over, self._tick)
        self.after = _standing(done, self._after_atlas, later)
        self.counts = done.counts(doubts=True)
        referring = referring_in(self._after_atlas.estate, held, over)
        self._vanishing = vanishing(self.changes, self._after_atlas, referring)

    def _zone_now(
        self, proposed: ProposedZone, setting: Setting, runner: Runner
    ) -> tuple[Server | None, Name, Holding | None]:
        """Return a zone as it is: on its primary if that handed it over, else on the first server that did, else as far as the
        first server that has it answers for what is known."""
        apex = proposed.zone.apex
        if self._first:
            return None, apex, None
        loading = self._loading(proposed, (), setting, runner)
        servers = list(dict.fromkeys([*([one] if (one := loading.primary.server) else []), *loading.serials]))
        for server in servers:
            holding = setting.holdings(server, apex)
            if holding is not None:
                return server, apex, holding
        serving = next((one for one in servers if one in loading.serials), None)
        return serving, apex, listed(proposed, serving, runner) if serving is not None else None

    def _around_sets(self, setting: Setting, runner: Runner) -> Iterator[tuple[Server | None, Name, Holding | None]]:
        """Return what is at the names of sets that are proposed beside files, where their zones are not in hand: the checks
        look at what is known to be there, before and afterwards."""
        for (view, apex), sets in self._sets_by_zone().items():
            wanted = [Expectation(one.key.name, one.key.rdtype, b"") for one in sets]
            zone = self._atlas.estate.zones[view][apex]
            serving = next(iter(zone.servers or ()), None)
            if in_hand(zone, setting.holdings) is None and serving is not None:
                yield serving, apex, listed(ProposedZone(zone, Path(), wanted), serving, runner)

    def _loading(self, proposed: ProposedZone, seen: Sequence[Server], setting: Setting, runner: Runner) -> Loading:
        return next(iter(runner.run([loading_of(proposed, seen, self._atlas, setting.holdings)], names=10)))

    def _sent(self, work: AuditWork, known: Setting, runner: Runner) -> list[Loading]:
        """Return the zones in hand to which sets are proposed, as their primary has them once it took the update."""
        loadings = []
        for (view, apex), sets in self._sets_by_zone().items():
            zone = self._atlas.estate.zones[view][apex]
            now = in_hand(zone, known.holdings)
            if now is None or not now.whole:
                continue
            proposed = updated(zone, now, sets)
            loading = self._loading(proposed, work.servers_of(view, apex), known, runner)
            # Of several primaries each has its own content, and adds the change to that.
            if loading.primary.replicas is None and loading.takers:
                loadings.append(loading)
        return loadings

    def _sets_by_zone(self) -> dict[tuple[str, Name], list[PlannedSet]]:
        """Return the sets that are proposed beside files, by view and zone; those of zones with a file are laid over it."""
        files = {(one.zone.view, one.zone.apex) for one in self._proposal.zones}
        found: dict[tuple[str, Name], list[PlannedSet]] = {}
        for one in self._proposal.sets:
            if (one.key.view, one.key.zone) not in files:
                found.setdefault((one.key.view, one.key.zone), []).append(one)
        return found

    def _laid(self, work: AuditWork, sent: Collection[tuple[str, Name]]) -> list[Laid]:
        """Return the sets that are proposed beside files, each with the servers that have to have it; without those of zones to
        which theirs were `sent`."""
        laid: list[Laid] = []
        for planned in self._proposal.sets:
            if (planned.key.view, planned.key.zone) in sent:
                continue
            zone = self._atlas.estate.zones[planned.key.view][planned.key.zone]
            seen = work.servers_of(planned.key.view, planned.key.zone)
            servers = (*(zone.servers or ()), *([planned.server] if planned.server is not None else []), *seen)
            laid.append((planned, tuple(dict.fromkeys(servers))))
        return laid

    # What came of it

    @property
    def changes(self) -> list[PlannedSet]:
        """Every record set that changes, of the files and beside them."""
        own = [one for one in self._proposal.sets if one.differs]
        return [*(planned for zone in self.zones for planned in zone.sets), *own]

    @property
    def whole(self) -> bool:
        """Whether every zone that is loaded was seen whole as it is now, so that what vanishes is complete."""
        return all(one.seen in ("whole", "absent") for one in self.zones)

    @cached_property
    def new(self) -> list[Finding]:
        """What is new, once it was judged: faults of the files, of their transfer, what the checks find only afterwards, what
        vanishes and is needed, and what could not be seen."""
        known = {one.identity for one in self.before}
        causes = Causes(self.changes, [one.loading.proposed for one in self.zones], first=self._first)
        found = [causes.traced(one) for one in self.after if self._proposal.known_as(one) not in known]
        own = [finding for zone in self.zones for finding in zone.refused()]
        for zone in () if self._first else self.zones:
            own += transfer_findings(zone.loading, zone.before, changed=bool(zone.sets))
            if zone.seen in ("asked", "unseen") or zone.loading.why:
                own.append(unseen_finding(zone.loading, zone.before))
        blamed = {name for one in found if one.weight == "fault" for name in names_of(one)}
        needed = [row for row in self._vanishing if row.needed and row.name not in blamed]
        return [*own, *(causes.traced(needed_finding(row)) for row in needed), *found]

    def sheet(self) -> RehearsalSheet:
        """Return what there is to tell beside the new findings."""
        now = {self._proposal.known_as(one) for one in self.after}
        certain = [one for one in self.before if one.outcome != "unverified" and one.weight != "note"]
        # A fault about which nothing is known any more is not mended by that.
        doubtful = {one.subject for one in self.after if one.outcome == "unverified"}
        return RehearsalSheet(
            zones=[one.row() for one in self.zones],
            vanishing=self._vanishing,
            waits=sorted((row for one in self.zones for row in one.waits()), key=lambda row: -row.kept_s),
            mended=[one for one in certain if one.identity not in now and one.subject not in doubtful],
            left=sum(one.identity in now and one.weight == "fault" for one in certain),
            whole=self.whole,
            compared=not self._first,
        )


def _with_asked(setting: Setting, zones: Sequence[tuple[Server | None, Name, Holding | None]]) -> Setting:
    """Return a setting with what was asked of zones that nobody handed over."""
    asked = {(server, apex): holding for server, apex, holding in zones if holding is not None and not holding.whole}
    if not asked:
        return setting
    handed = setting.holdings

    def held(server: Server, apex: Name) -> Holding | None:
        return handed(server, apex) or asked.get((server, apex))

    return replace(setting, holdings=held)


def _names_after(known: Setting, loadings: Sequence[Loading]) -> set[Name]:
    """Return the names that stand in the zones that were or will be handed over: what a new version lacks is gone."""
    names = set(known.transferred)
    for one in loadings:
        old = in_hand(one.proposed.zone, known.holdings)
        names -= set(old.names) if old is not None else set()
    return names.union(*(one.served.holding.names for one in loadings))


def _standing(work: AuditWork, atlas: Atlas, setting: Setting) -> list[Finding]:
    standing, _ = sort_out(with_causes(work.findings()), atlas.estate.accept, setting.moment.date())
    return standing

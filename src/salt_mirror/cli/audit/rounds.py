"""The audit at work: whole, or of what has changed since the last whole look."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from salt_mirror.checks.audit.accepting import sort_out
from salt_mirror.checks.audit.unchanged import ZoneLook, looks_of, unchanged_zones
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.narrowing import InView, Narrowing
from salt_mirror.checks.common.part import Setting
from salt_mirror.cli.collector import quiet_collector
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.keeping.history import Past, past_of

if TYPE_CHECKING:
    from salt_mirror.cli.execution import Ran
    from salt_mirror.cli.options import Asking, Where
    from salt_mirror.vantages.exchange import FarExchange


class Round:
    """One audit: `work` is what came of it. With a `past` it asks whole only for what has changed since, and a share of the
    rest."""

    def __init__(self, estate: Estate, atlas: Atlas, covered: Coverage, past: Past | None, share: float) -> None:
        self.work = AuditWork(estate, atlas, covered)
        self._estate = estate
        self.atlas = atlas
        self.covered = covered
        self._past = past
        self._share = share
        self._narrowing: Narrowing | None = None

    @property
    def whole(self) -> bool:
        """Whether nothing was left out."""
        return self._narrowing is None or not self._narrowing.unchanged

    def run(self, setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        """Run it to its end; what is looked at again is asked once."""
        if self._past is None or not self._past.looks:
            self.work.run(setting, runner, tick)
            return
        authority = replace(
            self.covered,
            only=replace(self.covered.only, checks={"authority"}, codes=[]),
            skip=replace(self.covered.skip, checks=set()),
        )
        self._compare_little(self._past.looks)
        first = AuditWork(self._estate, self.atlas, authority)
        first.run(setting, runner, tick)
        same = unchanged_zones(self._past.looks, looks_of(self._estate, first.inspected, setting.moment))
        narrowing = Narrowing(self._estate, same, self._past.standing, self._share, secrets.randbits(64))
        while True:
            self._narrowing = narrowing
            self._compare_little(narrowing.unchanged)
            self.work = AuditWork(self._estate, self.atlas, replace(self.covered, narrowing=narrowing))
            self.work.run(setting, runner, tick)
            standing, _ = sort_out(self.work.findings(), self._estate.accept, setting.moment.date())
            otherwise = narrowing.otherwise(standing)
            if not otherwise:
                return
            narrowing = narrowing.without(otherwise)

    def _compare_little(self, zones: Iterable[InView]) -> None:
        """Let the content of some zones be compared in a few sets alone, but of those in which it was found to differ."""
        assert self._past is not None
        apart = {(one.view, one.name) for one in self._past.standing if one.code == "auth.same-serial"}
        self.atlas.unchanged = frozenset((view, from_text(zone)) for view, zone in zones if (view, zone) not in apart)

    def looks(self, at: datetime) -> dict[InView, ZoneLook]:
        """Return how the zones stand that were looked at whole."""
        left_out = self._narrowing.unchanged if self._narrowing is not None else {}
        found = looks_of(self._estate, self.work.inspected, at)
        return {key: look for key, look in found.items() if key not in left_out}


def past_for(history: Path | None, scope: str, *, whole_every: int, remedies: bool) -> Past | None:
    """Return what a run with --changed has to know; None where it has to be a whole one. Raises BadInput."""
    if history is None:
        raise BadInput("--changed: what has changed is only known from a history; name one with --history FILE")
    if remedies:
        raise BadInput("--changed and --remedies: what mends is planned over the whole estate; leave one of them out")
    quiet_collector()
    past = past_of(history, scope)
    if past.since_whole is None or (whole_every and past.since_whole + 1 >= whole_every):
        return None
    return past


def audit_from(where: Where, asking: Asking, estate: Estate, covered: Coverage) -> tuple[Round, Ran]:
    """Return an audit from each vantage, side by side, put together as one: what came of it, and what it cost."""
    from salt_mirror.checks.vantage.judging import FromPlaces
    from salt_mirror.cli.arguments import open_estate
    from salt_mirror.cli.execution import run
    from salt_mirror.cli.vantage.asking import afar, atlas_at, refuse_transfer, seen_as, side_by_side, whole

    refuse_transfer(asking)
    with afar(estate, where) as found:

        def one(name: str, exchange: FarExchange) -> tuple[Ran, AuditWork]:
            seen = seen_as(open_estate(asking, directories=True, ages=True), name, found.present[name])
            atlas = atlas_at(seen)
            work = AuditWork(seen, atlas, covered)
            ran = run(
                work.run,
                atlas,
                seen.views,
                asking,
                total=work.total,
                what="things looked at",
                transfers=[],
                far=exchange,
            )
            return ran, work

        done, lost, interrupted = side_by_side(found, one)
        troubles = found.troubles
    together = Round(estate, atlas_at(estate), covered, None, 0.0)
    works = {name: work for name, (_, work) in done.items()}
    checks = dict.fromkeys(check for work in works.values() for check in work.parts)
    together.work.parts = {
        check: FromPlaces(
            {name: work.parts[check] for name, work in works.items() if check in work.parts}, {}, {}, audited=True
        )
        for check in checks
    }
    together.work.vantages = FromPlaces({}, troubles, lost, audited=True)
    ran = whole({name: ran for name, (ran, _) in done.items()}, interrupted=interrupted)
    used = ", ".join(works) or "nowhere"
    return together, ran._replace(remarks=[f"asked from {used}", *ran.remarks])

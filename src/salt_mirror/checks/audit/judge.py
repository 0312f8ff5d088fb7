"""The audit as a judge: every check over whatever answers are handed to it, and what of its findings stands.

Strategy: a plan is proved by judging again, so that the same words have to come of the same answers each time. The whole is
judged once; with a plan laid over the answers only what it touches is, and what leans on that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from salt_mirror.checks.audit.accepting import sort_out
from salt_mirror.checks.audit.causes import with_causes
from salt_mirror.checks.audit.nearby import Links, Nearby, spoken
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.lookup import lookup
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.plan.laying import Laid, held_over
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import ADDRESS_TYPES
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.findings import Finding


class AuditJudge:
    """Judges an estate, or what of it is `scope`. `work` is the audit that was run first, with nothing laid over its
    answers."""

    def __init__(
        self,
        atlas: Atlas,
        coverage: Coverage,
        setting: Setting,
        tick: Callable[[], None],
        done: AuditWork | None = None,
        scope: Nearby | None = None,
    ) -> None:
        """`done` is an audit that was run in this setting: it is not run again where nothing is laid over its answers."""
        self.atlas = atlas
        self._coverage = coverage
        self._setting = setting
        self._tick = tick
        self._done = done
        self.scope = scope
        self.work = done or self._work(scope)
        self._found: list[Finding] = []
        self._links: tuple[int, Links] | None = None
        self._runner: Runner | None = None

    def _work(self, nearby: Nearby | None) -> AuditWork:
        return AuditWork(self.atlas.estate, self.atlas, replace(self._coverage, nearby=nearby))

    def __call__(self, runner: Runner, laid: Sequence[Laid] = ()) -> list[Finding]:
        """The findings that stand over a runner's answers: those that nobody has accepted. Zones in hand are seen with the
        sets of a plan `laid` over them."""
        if laid:
            setting = replace(self._setting, holdings=held_over(self._setting.holdings, laid))
            near = self._around([one for one, _ in laid], everywhere=self.scope is None)
            if self.scope is not None:  # where the authority of zones was not judged first, it has no say
                near = replace(near, zones=frozenset())
            return self._standing(self._found_near(near, setting, runner))
        if self._done is None:
            if self.scope is not None:
                self._look_up(self.scope.names, runner)
            self.work = self._work(self.scope)
            self.work.run(self._setting, runner, self._tick)
            self._done = self.work
        self._runner, self._found = runner, self.work.findings()
        return self._standing(self._found)

    def judged_again(self, sets: Iterable[PlannedSet], setting: Setting, runner: Runner) -> list[Finding]:
        """Return the findings that stand after some sets were changed: what they touch is asked anew, and all else is as it
        was."""
        near = self._around(list(sets), everywhere=False)
        return self._standing(self._found_near(near, setting, runner))

    def widen(self, sets: Sequence[PlannedSet]) -> bool:
        """Have also judged what some sets touch, and what is known by now to lean on it; whether that is more than before."""
        if self.scope is None:
            return False
        own = [(name, 0, ()) for name in self.scope.names]
        near = self._around(sets, everywhere=False).with_all(
            self._known().around(own, self.scope.addresses, everywhere=False)
        )
        wider = self.scope.with_all(replace(near, zones=frozenset()))
        if wider == self.scope:
            return False
        self.scope, self._done = wider, None
        return True

    def zones(self, sets: Iterable[PlannedSet]) -> set[tuple[str, Name]]:
        """Return the zones, by view and apex, of what some sets touch."""
        near, estate = self._around(list(sets), everywhere=False), self.atlas.estate
        held = [
            zone for view in estate.views for name in near.names if (zone := estate.zone_of(name, view)) is not None
        ]
        return {(zone.view, zone.apex) for zone in held} | {(one.key.view, one.key.zone) for one in sets}

    def servers_of(self, view: str, apex: Name) -> tuple[Server, ...]:
        """Return every server that was seen to serve a zone when it was first judged."""
        return self.work.servers_of(view, apex)

    def _look_up(self, names: Iterable[Name], runner: Runner) -> None:
        """Have the addresses of hosts known, also of those that nobody expects: what leads there leans on them."""
        estate = self.atlas.estate
        for _ in runner.run(
            lookup(name, ADDRESS_TYPES, view, self.atlas)
            for name in sorted(names)
            for view in estate.views
            if estate.zone_of(name, view) is not None and not is_reverse(name) and not name.startswith(b"\x01*")
        ):
            pass

    def _found_near(self, near: Nearby, setting: Setting, runner: Runner) -> list[Finding]:
        """Return what is found in some places now, with what was found first everywhere else."""
        work = self._work(near)
        work.run(setting, runner, self._tick)
        estate = self.atlas.estate
        findings = [one for one in self._found if not near.judges(one, estate)]
        known = {(one.code, one.subject) for one in findings}
        return findings + [one for one in work.findings() if (one.code, one.subject) not in known]

    def _around(self, sets: Sequence[PlannedSet], *, everywhere: bool) -> Nearby:
        links, zones = self._known(), {(one.key.zone, one.key.view) for one in sets}
        return links.around(list(spoken(sets)), zones=zones, everywhere=everywhere)

    def _known(self) -> Links:
        """Return who leads to whom, as far as that is known by now."""
        asked = self._runner.asked if self._runner is not None else 0
        if self._links is None or self._links[0] != asked:
            links = Links(self.atlas.estate)
            links.add_holdings(self._setting.holdings)
            if self._runner is not None:
                links.add(self._runner.heard())
            self._links = asked, links
        return self._links[1]

    def _standing(self, findings: Iterable[Finding]) -> list[Finding]:
        standing, _ = sort_out(with_causes(findings), self.atlas.estate.accept, self._setting.moment.date())
        if self.scope is not None:  # what an acceptance is for may lie where nobody looked
            standing = [one for one in standing if one.code != "accept.unused"]
        return standing

"""The audit as a judge: every check over whatever answers are handed to it, and what of its findings stands.

Strategy: a plan is proved by judging again, so that the same words have to come of the same answers each time.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.audit.accepting import sort_out
from salt_mirror.checks.audit.causes import with_causes
from salt_mirror.checks.audit.coverage import Coverage
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.part import Setting
from salt_mirror.checks.plan.laying import Laid, held_over
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.findings import Finding

_UNTOUCHED = ("resolvers",)
"""Checks of what no plan changes: what caches have now goes by itself, and says nothing against a change."""


class AuditJudge:
    """Judges an estate. `work` is the audit that was run last."""

    def __init__(
        self,
        atlas: Atlas,
        coverage: Coverage,
        setting: Setting,
        tick: Callable[[], None],
        done: AuditWork | None = None,
    ) -> None:
        """`done` is an audit that was run in this setting: it is not run again where nothing is laid over its answers."""
        self._atlas = atlas
        self._coverage = coverage
        self._setting = setting
        self._tick = tick
        self._done = self._first = done
        self.work = done or AuditWork(atlas.estate, atlas, coverage)

    def __call__(self, runner: Runner, laid: Sequence[Laid] = ()) -> list[Finding]:
        """The findings that stand over a runner's answers: those that nobody has accepted. Zones in hand are seen with the
        sets of a plan `laid` over them."""
        estate = self._atlas.estate
        if self._done is not None and not laid:
            self.work = self._done
        else:
            setting = (
                replace(self._setting, holdings=held_over(self._setting.holdings, laid)) if laid else self._setting
            )
            self.work = AuditWork(estate, self._atlas, self._coverage)
            if laid and self._first is not None:
                self.work.keep(self._first, _UNTOUCHED)
            self.work.run(setting, runner, self._tick)
            self._first = self._first if laid else self.work
        standing, _ = sort_out(with_causes(self.work.findings()), estate.accept, self._setting.moment.date())
        return standing

    def servers_of(self, view: str, apex: Name) -> tuple[Server, ...]:
        """Every server that was seen to serve a zone when it was last judged."""
        return self.work.servers_of(view, apex)

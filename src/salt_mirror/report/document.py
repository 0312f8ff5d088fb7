"""The report as one document: what `--json` prints, and what every other form is made from.

Strategy: the types here are the contract; the JSON Schema that is shipped beside them is generated from them.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING, Literal

import msgspec

from salt_mirror import __version__
from salt_mirror.checks import check_named
from salt_mirror.checks.audit.lines import NOTHING, Audit, History, verdict
from salt_mirror.checks.common.test_tree import Test
from salt_mirror.findings import Finding, Outcome, SubjectLine

if TYPE_CHECKING:
    from salt_mirror.checks.authority.sheet import Sheet
    from salt_mirror.checks.descend.sheet import LegSheet
    from salt_mirror.checks.plan.sheet import PlanSheet
    from salt_mirror.checks.rehearse.sheet import RehearsalSheet
    from salt_mirror.checks.settle.sheet import VantageRow
    from salt_mirror.checks.stale.sheet import AgeSheet

MOST_SHEETS = 3
"""So many sheets of zones are shown whole; of more, a line for each."""


class Counts(msgspec.Struct, frozen=True, kw_only=True):
    """How many subjects have each outcome, how many questions were put to servers, how many were spared by transfers of whole
    zones, how many datagrams answered nothing that was asked, and how many replies came too late to count."""

    agrees: int
    differs: int
    unverified: int
    questions: int
    spared: int = 0
    strays: int = 0
    late: int = 0


class Report(msgspec.Struct, frozen=True, kw_only=True):
    """All that a command found. `started` is UTC; `remarks` say what the coverage was, `interrupted` that it is cut short.

    `says` is the answer in one sentence where it is not a count; `sheets` are what `authority` saw of each zone, `legs` the
    ways that `descend` went, `tests` the trees of `mail` and `services`, `vantages` what `settle` watched,
    `audit` what an audit adds, `plan` what `mend` plans and sends, `ages` how old records are, `rehearsal` what a change
    does beside its new findings, `history` how the run stands to
    the ones before (an audit has it in its own part).
    """

    schema: Literal["salt-mirror/report/1"] = "salt-mirror/report/1"
    command: str
    version: str = __version__
    title: str
    estate: str | None
    started: datetime
    seconds: float
    outcome: Outcome
    counts: Counts
    remarks: list[str] = []
    interrupted: bool = False
    sheets: list[Sheet] | msgspec.UnsetType = msgspec.UNSET
    legs: list[LegSheet] | msgspec.UnsetType = msgspec.UNSET
    audit: Audit | msgspec.UnsetType = msgspec.UNSET
    vantages: list[VantageRow] | msgspec.UnsetType = msgspec.UNSET
    tests: list[Test] | msgspec.UnsetType = msgspec.UNSET
    plan: PlanSheet | msgspec.UnsetType = msgspec.UNSET
    ages: AgeSheet | msgspec.UnsetType = msgspec.UNSET
    rehearsal: RehearsalSheet | msgspec.UnsetType = msgspec.UNSET
    history: History | msgspec.UnsetType = msgspec.UNSET
    says: str | msgspec.UnsetType = msgspec.UNSET
    findings: list[Finding]
    subjects: list[SubjectLine] = []

    @property
    def of(self) -> str:
        """What it is a report of: the estate by its title, or by its file."""
        return self.title or self.estate or "no estate"

    def weighing(self, weight: str) -> list[Finding]:
        """Return the findings of one weight that are not about something unverified."""
        return [finding for finding in self.findings if finding.weight == weight and finding.outcome != "unverified"]

    @property
    def unverified(self) -> list[Finding]:
        """The findings about what could not be verified."""
        return [finding for finding in self.findings if finding.outcome == "unverified"]

    @property
    def headline(self) -> str:
        """The first line: the answer in one sentence."""
        begin = "Interrupted. So far: " if self.interrupted else ""
        if self.audit:
            audit, counts = self.audit, self.counts
            says = verdict(audit.zones, self.findings, all_checks=not audit.only)
            if len(audit.only) == 1 and says != NOTHING:
                says = check_named(audit.only[0]).headline(counts.agrees, counts.differs, counts.unverified)
            return begin + (f"{audit.partly}: {says}" if audit.partly else says)
        counts = self.counts
        return begin + (
            self.says or check_named(self.command).headline(counts.agrees, counts.differs, counts.unverified)
        )

    @property
    def past(self) -> History | None:
        """How the run stands to the ones before; None where nothing was kept."""
        if isinstance(self.audit, Audit):
            return self.audit.history
        return self.history or None

    def exit_status_of_new(self, *, strict: bool = False) -> int:
        """1 with a fault that the run before did not have (with `strict`, a caution too), 3 with something unverified that was
        not so in the run before, else 0. Of a first run everything is new."""
        past = self.past if self.past is not None and self.past.before is not None else None
        findings = self.findings if past is None else past.new
        certain = [one.weight for one in findings if one.outcome != "unverified"]
        if "fault" in certain or (strict and "caution" in certain):
            return 1
        # A subject without a finding of its own has no past, and counts as new.
        unverified = self.unverified if past is None else past.new_unverified
        return 3 if unverified or (self.counts.unverified and not self.unverified) else 0

    def exit_status(self, *, strict: bool = False) -> int:
        """130 interrupted, 1 with a fault (with `strict`, a caution too), 3 with something unverified, else 0."""
        if self.interrupted:
            return 130
        if self.weighing("fault") or (strict and self.weighing("caution")):
            return 1
        return 3 if self.counts.unverified or self.unverified or self.outcome == "unverified" else 0


def now() -> datetime:
    """Return the present moment in UTC, in whole seconds."""
    return datetime.now(UTC).replace(microsecond=0)


def bring_in_sheets() -> None:
    """Put the sheets of all checks among this module's names, where msgspec looks the annotations up for the schema.

    A command writes its report without the sheets of other checks, and so without loading them.
    """
    from salt_mirror.checks.authority.sheet import Sheet
    from salt_mirror.checks.descend.sheet import LegSheet
    from salt_mirror.checks.plan.sheet import PlanSheet
    from salt_mirror.checks.rehearse.sheet import RehearsalSheet
    from salt_mirror.checks.settle.sheet import VantageRow
    from salt_mirror.checks.stale.sheet import AgeSheet

    sheets = (Sheet, LegSheet, PlanSheet, VantageRow, AgeSheet, RehearsalSheet)
    globals().update({sheet.__name__: sheet for sheet in sheets})

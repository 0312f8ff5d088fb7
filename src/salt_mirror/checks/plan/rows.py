"""The rows of a plan: what changes, what is not ours, what waits for a decision."""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.plan.sending import carried, in_order
from salt_mirror.checks.plan.sets import Plan, line_of
from salt_mirror.checks.plan.sheet import LeftLine, PlanSheet
from salt_mirror.findings import Finding


def sheet_of(plan: Plan, risks: Iterable[str] = (), decided: Iterable[str] = ()) -> PlanSheet:
    """Return a plan laid out."""
    return PlanSheet(
        says=plan.headline,
        mends=len(plan.mended),
        changes=[line_of(one) for one in in_order(plan.sets)],
        risks=list(risks),
        decided=list(decided),
        not_ours=[_left(one.finding, one.why, one.fate) for one in plan.not_ours],
        waiting=[_left(one, "") for one in plan.waiting],
        left_out=[carried(key, "differs", why) for key, why in plan.left_out.items()],
    )


def _left(finding: Finding, why: str, fate: str = "") -> LeftLine:
    return LeftLine(
        code=finding.code, weight=finding.weight, view=finding.view, name=finding.name, type=finding.type,
        address=finding.address, text=finding.text, says=why, fate=fate, choices=finding.choices,
    )  # fmt: skip

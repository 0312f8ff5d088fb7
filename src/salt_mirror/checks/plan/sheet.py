"""The plan as it is reported: what changes, what is not ours, what waits for a decision, what became of it."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from salt_mirror.checks.plan.sending import Carried, carried, in_order
from salt_mirror.checks.plan.sets import Plan, SetLine, line_of
from salt_mirror.findings import Choice, Fate, Finding

FATES: dict[Fate, str] = {
    "refused": "REFUSED, since it would do harm",
    "contradiction": "CONTRADICTIONS IN THE ESTATE, to be settled there",
    "not ours": "NOT OURS TO CHANGE",
    "advice": "NO CHANGE IS KNOWN, ADVICE ONLY",
}
"""What stands above the findings that a plan does not mend, by what becomes of them."""


class LeftLine(msgspec.Struct, frozen=True, kw_only=True):
    """A finding that the plan does not mend: what it is about, why, and its `fate` (refused, contradiction, not ours, advice);
    with the choices that would settle it, if there are."""

    code: str
    weight: str
    view: str
    name: str
    type: str
    address: str | None
    text: str
    says: str
    fate: str = ""
    choices: list[Choice] = []


class PlanSheet(msgspec.Struct, frozen=True, kw_only=True):
    """A plan: sets before and after, how many findings it `mends`, those that are `not_ours` to change, those `waiting` for a
    decision, and sets of an older plan that are `left_out`, with the reason.

    `changes` stand in the order in which they are sent; `digest` is the SHA-256 of their lines. `risks` say what they may do,
    and `decided` what a person has decided.

    After changes were sent, `carried` says what became of each set, `late` which servers do not have them, `undo` where the way
    back is written down.
    """

    says: str
    mends: int
    digest: str = ""
    changes: list[SetLine]
    risks: list[str] = []
    decided: list[str] = []
    not_ours: list[LeftLine]
    waiting: list[LeftLine]
    left_out: list[Carried] = []
    carried: list[Carried] = []
    late: list[str] = []
    undo: str = ""


def sheet_of(plan: Plan, risks: Iterable[str] = (), decided: Iterable[str] = ()) -> PlanSheet:
    """A plan laid out."""
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

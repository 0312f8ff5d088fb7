"""The plan as it is reported: what changes, what is not ours, what waits for a decision, what became of it."""

from __future__ import annotations

import msgspec

from salt_mirror.findings import Choice, Fate, Outcome

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


class Carried(msgspec.Struct, frozen=True, kw_only=True):
    """What became of a set that was to change: `agrees` once it was done, and why it was not."""

    view: str
    zone: str
    name: str
    type: str
    outcome: Outcome
    says: str


class SetLine(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A planned set as it is written down: rdata in presentation form, names absolute, TTLs in seconds; `phase` is the part of
    a larger job that it belongs to."""

    view: str
    zone: str
    name: str
    type: str
    ttl_before: int | None = None
    before: list[str]
    ttl_after: int | None = None
    after: list[str]
    named: bool = True
    server: str = ""
    reasons: list[str] = []
    phase: str | msgspec.UnsetType = msgspec.UNSET

    @property
    def gone(self) -> list[str]:
        """The values that go; all of them where their TTL changes."""
        return [text for text in self.before if self.ttl_before != self.ttl_after or text not in self.after]

    @property
    def come(self) -> list[str]:
        """The values that come."""
        return [text for text in self.after if self.ttl_before != self.ttl_after or text not in self.before]

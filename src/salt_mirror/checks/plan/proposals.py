"""What checks propose for a set, and a set while it is planned: by whose right each value came or went.

Strategy: a value that a stronger right has added or removed stays so, whatever a weaker one says later.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple, get_args

from salt_mirror.checks.plan.sets import Held
from salt_mirror.dns.records import rdata_from_text
from salt_mirror.findings import Change, Rule

RIGHTS: tuple[Rule, ...] = get_args(Rule)
"""The rights from the weakest to the strongest."""


@dataclass(slots=True)
class OpenSet:
    """A set that is being planned: as it is at the source, as it is to be, and by whose right each value came or went."""

    held: Held
    values: set[bytes]
    ttl: int | None = None
    rights: dict[bytes, int] = field(default_factory=dict)
    reasons: dict[str, None] = field(default_factory=dict)


class Proposal(NamedTuple):
    """A change with its values read."""

    change: Change
    right: int
    add: frozenset[bytes]
    remove: frozenset[bytes]
    whole: frozenset[bytes] | None


def read_proposal(change: Change, rdtype: int) -> Proposal:
    """Read the values of a change. Raises Unusable."""
    add, remove = (frozenset(rdata_from_text(rdtype, text) for text in texts) for texts in (change.add, change.remove))
    whole = frozenset(rdata_from_text(rdtype, text) for text in change.whole) if change.whole is not None else None
    return Proposal(change, RIGHTS.index(change.by), add, remove, whole)


def apply(being: OpenSet, add: Iterable[bytes], remove: Iterable[bytes], proposal: Proposal) -> None:
    """Add and remove values by the right of a proposal, unless a stronger one has decided."""
    for values, gone in ((remove, True), (add, False)):
        for value in values:
            if being.rights.get(value, -1) > proposal.right:
                continue
            being.rights[value] = proposal.right
            (being.values.discard if gone else being.values.add)(value)
            being.reasons[proposal.change.reason] = None
    ttl = proposal.change.ttl
    if ttl is not None and proposal.change.by == "expected":
        being.ttl = ttl
        being.reasons[proposal.change.reason] = None
    elif ttl is not None and being.ttl is None and not being.held.values:
        being.ttl = ttl

"""What checks propose for a set, and a set while it is planned: with the precedence by which each value came or went.

Strategy: a value stays as the proposal of the highest precedence has it, whatever one of a lower precedence says later.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple

from salt_mirror.checks.plan.rules import PRECEDENCE
from salt_mirror.checks.plan.sets import Held
from salt_mirror.dns.records import rdata_from_text
from salt_mirror.findings import Change


@dataclass(slots=True)
class OpenSet:
    """A set that is being planned: as it is at the source, as it is to be, and by which precedence each value came or went."""

    held: Held
    values: set[bytes]
    ttl: int | None = None
    precedence: dict[bytes, int] = field(default_factory=dict)
    reasons: dict[str, None] = field(default_factory=dict)


class Proposal(NamedTuple):
    """A change with its values read."""

    change: Change
    precedence: int
    add: frozenset[bytes]
    remove: frozenset[bytes]
    whole: frozenset[bytes] | None


def read_proposal(change: Change, rdtype: int) -> Proposal:
    """Read the values of a change. Raises Unusable."""
    add, remove = (frozenset(rdata_from_text(rdtype, text) for text in texts) for texts in (change.add, change.remove))
    whole = frozenset(rdata_from_text(rdtype, text) for text in change.whole) if change.whole is not None else None
    return Proposal(change, PRECEDENCE[change.by], add, remove, whole)


def apply(being: OpenSet, add: Iterable[bytes], remove: Iterable[bytes], proposal: Proposal) -> None:
    """Add and remove values of a proposal, unless one of a higher precedence has decided."""
    for values, gone in ((remove, True), (add, False)):
        for value in values:
            if being.precedence.get(value, -1) > proposal.precedence:
                continue
            being.precedence[value] = proposal.precedence
            (being.values.discard if gone else being.values.add)(value)
            being.reasons[proposal.change.reason] = None
    ttl = proposal.change.ttl
    if ttl is not None and proposal.change.by == "expected":
        being.ttl = ttl
        being.reasons[proposal.change.reason] = None
    elif ttl is not None and being.ttl is None and not being.held.values:
        being.ttl = ttl

"""How long caches keep the old state of what changes: the arithmetic of `budget`, for many record sets at once.

Strategy: a changed set is kept for its old TTL, one that is new for the negative TTL of the zone (RFC 2308 section 5); sets
with the same wait in one zone are one row. Longer waits first.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.budget.judging import LOWERED_TTL, WORTH_LOWERING
from salt_mirror.checks.common.soa import negative_ttl
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.checks.rehearse.sheet import WaitRow
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import SOA, soa_fields, type_text


def waits_of(changes: Iterable[PlannedSet], before: Holding | None, *, secondaries: bool) -> list[WaitRow]:
    """Return how long caches keep what some sets of one zone are now; `secondaries` follow its primary."""
    apex = before.apex if before is not None else b""
    soa_rdata = next(iter(before.rdata(apex, SOA)), None) if before is not None else None
    if before is None or soa_rdata is None:
        return []
    soa = soa_fields(soa_rdata)
    negative = negative_ttl(soa, before.ttl(apex, SOA))
    spread = soa.refresh if secondaries else 0
    grouped: dict[tuple[int, bool], list[PlannedSet]] = {}
    for one in changes:
        kept = one.ttl_before if one.before and one.ttl_before is not None else negative
        grouped.setdefault((kept, not one.before), []).append(one)
    rows = []
    for (kept, is_negative), members in sorted(grouped.items(), reverse=True):
        key = members[0].key
        lowers = not is_negative and kept >= WORTH_LOWERING
        rows.append(
            WaitRow(
                view=key.view,
                zone=to_text(key.zone),
                name=to_text(key.name),
                type=type_text(key.rdtype),
                sets=len(members),
                kept_s=kept,
                negative=is_negative,
                spread_s=spread,
                lower=LOWERED_TTL if lowers else None,
                lead_s=kept + spread if lowers else None,
            )
        )
    return rows

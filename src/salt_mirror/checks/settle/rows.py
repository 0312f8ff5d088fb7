"""The rows of a watch, from its slots."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime

from salt_mirror.checks.settle.judging import Slot, Vantage, Watch
from salt_mirror.checks.settle.sheet import VantageRow
from salt_mirror.dns.records import rdata_text


def rows_of(watch: Watch) -> list[VantageRow]:
    """Return a row for each vantage, the authoritative servers first."""
    by_vantage: dict[int, list[Slot]] = {}
    for slot in watch.slots:
        by_vantage.setdefault(id(slot.vantage), []).append(slot)
    rows = [_row(slots[0].vantage, slots, watch.now) for slots in by_vantage.values()]
    return sorted(rows, key=lambda row: (row.kind != "authoritative", row.group))


def _row(vantage: Vantage, slots: list[Slot], now: float) -> VantageRow:
    settled = [slot.settled_at for slot in slots if slot.settled_at is not None]
    whole = len(settled) == len(slots)
    predicted = max((slot.predicted for slot in slots if slot.predicted is not None), default=None)
    pending = [slot.predicted for slot in slots if slot.settled_at is None and slot.predicted is not None]
    values = {
        rdata_text(slot.goal.rdtype, value) for slot in slots if slot.last is not None for value in slot.last.values
    }
    return VantageRow(
        vantage=vantage.server.label,
        endpoint=vantage.server.endpoint,
        kind="cache" if vantage.cache else "authoritative",
        group=vantage.group,
        states=dict(Counter(slot.state for slot in slots)),
        settled=whole,
        settled_at=_utc(max(settled)) if whole else None,
        predicted=_utc(predicted) if predicted is not None else None,
        ttl_left=max(0, round(max(pending) - now)) if pending else None,
        asked=sum(slot.asked for slot in slots),
        members=vantage.members,
        values=sorted(values) if len(slots) == 1 else [],
        notes=list(vantage.notes.values()),
    )


def _utc(moment: float) -> datetime:
    return datetime.fromtimestamp(moment, UTC)

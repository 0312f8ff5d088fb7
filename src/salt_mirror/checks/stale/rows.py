"""How zones age, and what ages away when, from the records and the rules."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from datetime import datetime

from salt_mirror.checks.stale.rules import Rules
from salt_mirror.checks.stale.scope import Inventory, StaleScope
from salt_mirror.checks.stale.sheet import Due, ZoneAges
from salt_mirror.dns.names import to_text
from salt_mirror.estate.aging import hours_since_1601, moment_of

_FEW = 3


def zone_ages(inventories: Iterable[Inventory], scope: StaleScope) -> list[ZoneAges]:
    """Return a line for each zone with a source of ages."""
    found = []
    for inventory in inventories:
        kinds: dict[bytes, Counter[str]] = {}
        for record in inventory.records:
            kind = "unknown" if record.stamp_h is None else "dynamic" if record.stamp_h else "static"
            kinds.setdefault(record.zone.apex, Counter())[kind] += 1
        for zone in scope.estate.zones.get(inventory.view, {}).values():
            sources, aging = scope.sources(zone), scope.aging(zone)
            if sources:
                counts = kinds.get(zone.apex, Counter())
                found.append(
                    ZoneAges(
                        zone=to_text(zone.apex), view=zone.view, sources=[one.source for one in sources], aging=aging.on,
                        no_refresh_h=aging.no_refresh_h, refresh_h=aging.refresh_h, scavenged=aging.scavenged,
                        static=counts["static"], dynamic=counts["dynamic"], unknown=counts["unknown"],
                        tombstones=sum(one.tombstones for one in sources),
                    )
                )  # fmt: skip
    return found


def forecast(rules: Iterable[tuple[Inventory, Rules]], scope: StaleScope, now: datetime, days: int) -> list[Due]:
    """Return what ages away from now on, day by day, where aging takes it; what has aged already is of today."""
    now_h = hours_since_1601(now)
    by_day: dict[str, list[tuple[str, bool]]] = {}
    for inventory, one in rules:
        for record in inventory.records:
            due_h = one.due_h(record)
            if due_h is None or due_h > now_h + days * 24 or not one.taken(record) or not scope.wants(record):
                continue
            day = moment_of(int(max(due_h, now_h))).astimezone().date().isoformat()
            by_day.setdefault(day, []).append((to_text(record.name), one.needed(record)))
    found = []
    for day, rows in sorted(by_day.items()):
        names = list(dict.fromkeys(name for name, _ in sorted(rows, key=lambda row: not row[1])))
        found.append(Due(day=day, records=len(rows), needed=sum(needed for _, needed in rows), names=names[:_FEW]))
    return found

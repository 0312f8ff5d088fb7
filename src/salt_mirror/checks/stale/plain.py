"""What plain agreement is for a reference: its own record as it is registered, and its target's addresses as they are known.

Strategy: what is known of both comes from the inventory (an export, a directory, expectations), which may be older than the
zone: where a server says anything else, the reference is followed and judged.
"""

from __future__ import annotations

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.foreseen import Screeners
from salt_mirror.checks.stale.scope import AgingRecord, Inventory
from salt_mirror.dns.names import Name
from salt_mirror.dns.records import AAAA, A
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject


class PlainReferences:
    """Foresees where records lead, by what is known of one view."""

    def __init__(self, atlas: Atlas, inventory: Inventory) -> None:
        self._screeners = Screeners(atlas)
        self._inventory = inventory

    def foresee(self, record: AgingRecord) -> ForeseenSubject | None:
        """Return what would settle a reference; None where a set is not known, or has several values."""
        own = self._value(record.name, record.rdtype)
        holder = self._screeners.at(record.name, self._inventory.view)
        target = record.target
        if own is None or holder is None or target is None:
            return None
        authority = self._screeners.at(target, self._inventory.view)
        four, six = self._value(target, A), self._value(target, AAAA)
        if authority is None or four is None or six is None or not (four or six):
            return None
        sets = [ForeseenSet(record.name, record.rdtype, holder.servers, own)]
        sets += [ForeseenSet(target, rdtype, authority.servers, v or None) for rdtype, v in ((A, four), (AAAA, six))]
        return ForeseenSubject(record, (sets,))

    def _value(self, name: Name, rdtype: int) -> bytes | None:
        """Return the only value that a set is known to have, an empty one where it has none; None where it has several."""
        values = [one.rdata for one in self._inventory.by_name.get(name, ()) if one.rdtype == rdtype]
        return None if len(values) > 1 else values[0] if values else b""

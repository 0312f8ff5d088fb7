"""What changes between a zone as it is and as it will be: record sets before and after, those that vanish, what still needs
them.

Strategy: set arithmetic over two holdings; signatures and the serial are no content. What needs a record is known from the
state afterwards (every zone in hand and every answer), from what the estate expects, and from leases.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Holdings, in_hand
from salt_mirror.checks.common.wording import together_said
from salt_mirror.checks.plan.sets import PlannedSet, SetKey
from salt_mirror.checks.rehearse.sheet import VanishingRow
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import AAAA, CNAME, NOT_COMPARED, PTR, TARGET_AT, A, rdata_text, type_text
from salt_mirror.dns.reverse import address_of, address_text
from salt_mirror.estate.model import Estate, Zone

_FEW = 3
_LEADS_TO_HOSTS = (A, AAAA, CNAME)


def changes_between(zone: Zone, before: Holding | None, after: Holding) -> list[PlannedSet]:
    """Return the record sets that differ, the SOA left out. Nothing is known to go where nothing is known of before."""
    old = _sets(before) if before is not None else {}
    new = _sets(after)
    names = set(before.names) if before is not None else set()
    changes = []
    for name, rdtype in sorted(old.keys() | new.keys()):
        ttl_before, was = old.get((name, rdtype), (None, frozenset()))
        ttl_after, becomes = new.get((name, rdtype), (None, frozenset()))
        key = SetKey(zone.view, zone.apex, name, rdtype)
        change = PlannedSet(key, was, becomes, ttl_before, ttl_after, name in names, None)
        if change.differs and (before is not None or was != becomes):
            changes.append(change)
    return changes


def _sets(holding: Holding) -> dict[tuple[Name, int], tuple[int | None, frozenset[bytes]]]:
    return {
        (name, rdtype): (ttl, frozenset(values))
        for name, rdtype, ttl, values in holding.rrsets()
        if rdtype not in NOT_COMPARED
    }


@dataclass(slots=True)
class Referring:
    """Who leads to whom, in the state after a change: by view and target the owners with their types, by view and address the
    hosts; `standing` are the names with addresses or an alias."""

    to: dict[tuple[str, Name], set[tuple[Name, int]]] = field(default_factory=dict)
    holders: dict[tuple[str, bytes], set[Name]] = field(default_factory=dict)
    standing: set[tuple[str, Name]] = field(default_factory=set)

    def add(self, view: str, sets: Iterable[tuple[Name, int, Iterable[bytes]]]) -> None:
        """Take in some sets of a view."""
        for name, rdtype, values in sets:
            at = TARGET_AT.get(rdtype)
            if rdtype in _LEADS_TO_HOSTS:
                self.standing.add((view, name))
            for value in values:
                if rdtype in (A, AAAA):
                    self.holders.setdefault((view, value), set()).add(name)
                if at is not None:
                    self.to.setdefault((view, value[at:]), set()).add((name, rdtype))


def referring_in(estate: Estate, holdings: Holdings, runner: Runner) -> Referring:
    """Return who leads to whom in an estate, by its zones in hand, and by every answer of a runner where a zone is not."""
    found = Referring()
    held: set[tuple[str, Name]] = set()
    for zone in estate.all_zones():
        holding = in_hand(zone, holdings)
        if holding is not None:
            if holding.whole:
                held.add((zone.view, zone.apex))
            found.add(zone.view, ((name, rdtype, values) for name, rdtype, _, values in holding.rrsets()))
    if len(held) < sum(1 for _ in estate.all_zones()):
        heard = list(runner.heard())
        for view in estate.views:
            for name, rdtype, values in heard:
                zone_of = estate.zone_of(name, view)
                if zone_of is not None and (view, zone_of.apex) not in held:
                    found.add(view, [(name, rdtype, values)])
    return found


def vanishing(changes: Iterable[PlannedSet], atlas: Atlas, after: Referring) -> list[VanishingRow]:
    """Return the record sets that go without others in their place, those first that are still needed."""
    gone = [one for one in changes if one.before - one.after and not one.after - one.before]
    rows = [_row(one, atlas, after) for one in gone]
    return sorted(rows, key=lambda row: (not row.needed, row.view, row.zone, row.name, row.type))


def _row(change: PlannedSet, atlas: Atlas, after: Referring) -> VanishingRow:
    key, gone = change.key, sorted(change.before - change.after)
    return VanishingRow(
        view=key.view, zone=to_text(key.zone), name=to_text(key.name), type=type_text(key.rdtype),
        values=[rdata_text(key.rdtype, value) for value in gone], needed=list(_needs(change, gone, atlas, after)),
    )  # fmt: skip


def _needs(change: PlannedSet, gone: list[bytes], atlas: Atlas, after: Referring) -> Iterator[str]:
    """Return by what a set is still needed: an expectation, a lease, records that lead to it, a host at the address."""
    key = change.key
    expected = atlas.expects.set_at(key.view, key.name, key.rdtype)
    if expected is not None and not expected.gone and (expected.values - expected.absent) & set(gone):
        yield f"expected by {expected.where}"
    for value in gone if key.rdtype in (A, AAAA) else ():
        leased = atlas.estate.ages.leases.get(value)
        if leased is not None and leased.live and leased.host in (None, key.name):
            yield f"{address_text(value)} is leased to {to_text(leased.host or key.name)}"
    if key.rdtype in _LEADS_TO_HOSTS and (key.view, key.name) not in after.standing:
        owners = sorted(after.to.get((key.view, key.name), set()))
        if owners:
            said = [f"{to_text(name)} {type_text(rdtype)}" for name, rdtype in owners[:_FEW]]
            said += [f"{len(owners) - _FEW:,} more"] if len(owners) > _FEW else []
            yield f"{together_said(said)} {'leads' if len(owners) == 1 else 'lead'} there"
    address = address_of(key.name) if key.rdtype == PTR else None
    if address is not None and not change.after:
        hosts = sorted(after.holders.get((key.view, address), ()))
        if hosts:
            yield f"{address_text(address)} is an address of {together_said(map(to_text, hosts[:_FEW]))}"

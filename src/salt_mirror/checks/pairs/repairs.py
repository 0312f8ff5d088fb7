"""What would mend the pairs: changes to the addresses of a name, and to the PTR records of an address.

Strategy: each is a change to one set, by whose right and for which reason it comes. Which of them fits a case, and whether a
person has to choose, is said where the case is worded.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.proposing import changed, whole_set
from salt_mirror.checks.common.wording import together_said
from salt_mirror.dns.names import Name
from salt_mirror.dns.records import AAAA, CNAME, PTR, A, address_type
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Change, Precedence


def as_expected(forward: Lookup, view: str, expected: Collection[bytes]) -> list[Change]:
    """Return a name's address sets as they are expected, with an alias in their place taken away."""
    where: dict[str, Any] = {"view": view, "zone": forward.first.zone}
    reason = f"expected at {together_said(map(address_text, sorted(expected)))}"
    changes = [
        changed(forward.name, CNAME, "expected", reason, remove={telling.alias}, **where)
        for telling in forward.trail
        if telling.alias is not None and telling.answers[0].question.name == forward.name
    ]
    for rdtype in (A, AAAA):
        wanted = {value for value in expected if address_type(value) == rdtype}
        there = [{value for value in telling.values if address_type(value) == rdtype} for telling in forward.usable]
        if wanted and (forward.followed or any(wanted - one for one in there) or not there):
            there = [] if forward.followed else there
            changes.append(whole_set(forward.name, rdtype, "expected", reason, whole=wanted, there=there, **where))
    return list({(one.type, *one.add, *one.remove): one for one in changes}.values())


def alias_to(forward: Lookup, view: str, target: Name, reason: str) -> Change:
    """Return the last alias on the way from a name, with another target."""
    last = next(one for one in reversed(forward.trail) if one.alias is not None)
    name = last.answers[0].question.name
    zone = forward.first.zone if name == forward.name else None
    there = [one.values or (one.alias,) for one in forward.trail if one.alias is not None]
    return whole_set(name, CNAME, "registered", reason, view=view, zone=zone, whole={target}, there=there)


def address_changed(looked_up: Lookup, view: str, address: bytes, reason: str, *, register: bool) -> Change:
    """Return an address that comes to a name, or goes."""
    return changed(
        looked_up.canonical, address_type(address), "registered", reason, view=view, zone=looked_up.authority.zone,
        add=[address] if register else [], remove=[] if register else [address],
    )  # fmt: skip


def pointers_changed(
    reverse: Lookup,
    view: str,
    reason: str,
    add: Iterable[Name] = (),
    remove: Iterable[Name] = (),
    by: Precedence = "forward",
) -> Change:
    """Pointers that come and go, at the name that owns them."""
    zone = reverse.authority.zone
    gone = () if reverse.wild else remove  # what a wildcard makes is no record that could be removed
    return changed(reverse.canonical, PTR, by, reason, view=view, zone=zone, add=add, remove=gone)


def one_pointer(reverse: Lookup, view: str, target: Name, reason: str) -> Change:
    """Return the one pointer that an address has to have, at the name that owns it."""
    there = [telling.values for telling in reverse.usable if not reverse.wild]
    zone = reverse.authority.zone
    return whole_set(reverse.canonical, PTR, "forward", reason, view=view, zone=zone, whole={target}, there=there)

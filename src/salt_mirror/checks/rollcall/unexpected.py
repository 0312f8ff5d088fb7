"""What nobody expects: records that stand in a zone in hand and that no expectation covers, folded as people would say it.

Strategy: only whole zones tell, so nothing is said of one that was not taken by transfer. A pointer is covered by the host that
is expected at its address; locators are the directory's, signatures the signer's, what lies below a delegation the child's.
Where a zone is closed each record is a fault of its own, so that it can be mended; elsewhere they are told by network and by
pattern.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from typing import NamedTuple

from salt_mirror.checks.common.directories import is_locator
from salt_mirror.checks.common.part import Holdings, in_hand
from salt_mirror.checks.common.proposing import whole_set
from salt_mirror.checks.common.wording import many, state
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, ancestors, from_text, label_text, to_text
from salt_mirror.dns.records import AAAA, NS, OF_SIGNERS, PTR, SOA, A, rdata_text, type_text
from salt_mirror.dns.reverse import address_of, network_zone
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Choice, Finding

_FEW = 3
_NUMBERS = re.compile(r"\d+")


class Unexpected(NamedTuple):
    """One set that nobody expects."""

    name: Name
    rdtype: int
    ttl: int
    values: tuple[bytes, ...]


class WantedSets(NamedTuple):
    """All that a view expects: the sets, and the addresses of its hosts."""

    sets: frozenset[tuple[Name, int]]
    addresses: frozenset[bytes]


def wanted_in(estate: Estate, view: str) -> WantedSets:
    """Return what the expectations of a view cover."""
    every = [one for held in estate.zones[view].values() for one in held.expectations]
    damaged = estate.damaged_in(view)
    hosts = (one.rdata for one in every if one.rdtype in (A, AAAA) and one.presence != "absent")
    return WantedSets(frozenset((one.name, one.rdtype) for one in every) | damaged.keys(), frozenset(hosts))


def unexpected_in(zone: Zone, holding: Holding, wanted: WantedSets) -> list[Unexpected]:
    """Return the sets of a whole zone that nothing of its view covers, and no pattern of `allow`."""
    sets, addresses = wanted
    cuts = {name for name, rdtype, _, _ in holding.rrsets() if rdtype == NS and name != zone.apex}
    unexpected = []
    for name, rdtype, ttl, values in holding.rrsets():
        if (name, rdtype) in sets or rdtype in OF_SIGNERS or (name == zone.apex and rdtype in (SOA, NS)):
            continue
        if cuts and any(above in cuts for above in ancestors(name)):
            continue
        if rdtype == PTR and address_of(name) in addresses:
            continue
        if is_locator(name) or b"\x06_msdcs" in name or _allowed(name, zone.allow):
            continue
        unexpected.append(Unexpected(name, rdtype, ttl, values))
    return sorted(unexpected)


def _allowed(name: Name, patterns: Iterable[str]) -> bool:
    text = to_text(name)
    shapes = (text, text.rstrip("."), text.split(".", 1)[0])
    return any(fnmatchcase(shape, pattern.lower()) for pattern in patterns for shape in shapes)


def told(estate: Estate, holdings: Holdings, zones: Iterable[Zone]) -> Iterator[Finding]:
    """Return what nobody expects in the zones that are in hand, from the first server that handed each over."""
    by_view: dict[str, WantedSets] = {}
    for zone in zones:
        holding = in_hand(zone, holdings)
        if holding is None:
            continue
        wanted = by_view.get(zone.view) or wanted_in(estate, zone.view)
        by_view[zone.view] = wanted
        if not (zone.expectations or zone.closed or _covered(zone, wanted)):
            continue
        unexpected = unexpected_in(zone, holding, wanted)
        # A row that cannot be used may be about any of these: they are worth a note then, and accused of nothing.
        uncertain = any(row.view == zone.view for row in estate.damaged)
        yield from (
            (_fault(one, zone) for one in unexpected) if zone.closed and not uncertain else _folded(unexpected, zone)
        )


def _covered(zone: Zone, wanted: WantedSets) -> bool:
    """Return whether anything is expected of a reverse zone by way of its hosts."""
    network = zone.network
    return network is not None and any(
        len(one) * 8 == network.max_prefixlen and ipaddress.ip_address(one) in network for one in wanted.addresses
    )


def _fault(unexpected: Unexpected, zone: Zone) -> Finding:
    says = ", ".join(rdata_text(unexpected.rdtype, value) for value in unexpected.values)
    what = f"{to_text(unexpected.name)} {type_text(unexpected.rdtype)}"
    gone = whole_set(
        unexpected.name, unexpected.rdtype, "registered", f"it is not expected, and {to_text(zone.apex)} is closed",
        view=zone.view,
        zone=zone.apex, whole=(), there=[unexpected.values],
    )  # fmt: skip
    choices = [
        Choice(word="remove", says="it is not needed", changes=[gone]),
        Choice(word="register", says="expect it in the estate, or allow it there", changes=[]),
    ]
    text = f"{what} is registered ({says}), and it is not expected: {to_text(zone.apex)} is closed."
    return state(
        "roll.not-allowed", text, name=unexpected.name, rdtype=unexpected.rdtype, view=zone.view, choices=choices
    )


def _folded(found: list[Unexpected], zone: Zone) -> Iterator[Finding]:
    """Return a note for each network of addresses, and for each pattern of names."""
    groups: dict[tuple[Name, int, str], list[Unexpected]] = {}
    for unexpected in found:
        groups.setdefault(_group(unexpected, zone), []).append(unexpected)
    for (name, rdtype, where), members in groups.items():
        names = list(dict.fromkeys(to_text(one.name) for one in members))
        said = ", ".join(names[:_FEW]) + (f" and {len(names) - _FEW:,} more" if len(names) > _FEW else "")
        kind = type_text(rdtype)
        text = f"{many(len(names), 'name')} with {kind} records {where}, none of them expected: {said}."
        yield state("roll.unexpected", text, name=name, rdtype=rdtype, view=zone.view)


def _group(unexpected: Unexpected, zone: Zone) -> tuple[Name, int, str]:
    """Return what a set is told with: the network of its address, else the pattern of its first label."""
    address = (
        unexpected.values[0]
        if unexpected.rdtype in (A, AAAA)
        else address_of(unexpected.name)
        if unexpected.rdtype == PTR
        else None
    )
    if address is not None:
        network = ipaddress.ip_network((address, 24 if len(address) == 4 else 64), strict=False)
        return network_zone(network), unexpected.rdtype, f"in {network}"
    label = label_text(unexpected.name[1 : unexpected.name[0] + 1])
    pattern = _NUMBERS.sub("*", label) if unexpected.name != zone.apex else ""
    try:
        name = from_text(pattern, unexpected.name[unexpected.name[0] + 1 :]) if pattern else zone.apex
    except ValueError:
        name = unexpected.name
    return name, unexpected.rdtype, f"like {to_text(name)}" if "*" in pattern else f"at {to_text(name)}"

"""What a plan has to do, and must not: an oracle that shares nothing with it but the zones before and after."""

from __future__ import annotations

from collections.abc import Iterable

import dns.message
import dns.rcode
import dns.rdatatype
import dns.update
import dns.zone

from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.estate.expectations import Expectation

Zones = dict[tuple[str, str], set[str]]
SEVERAL_HANDS = ("TXT", "MX", "SRV")


def zones_of(held: Iterable[dns.zone.Zone]) -> Zones:
    """The sets of some zones, as text."""
    found: Zones = {}
    for zone in held:
        for name, rdataset in zone.iterate_rdatasets():
            kind = dns.rdatatype.to_text(rdataset.rdtype)
            found[name.to_text(), kind] = {rdata.to_text().lower() for rdata in rdataset}
    return found


class Wishes:
    """What the estate expects, by name and type; `broken` are names about which it contradicts itself."""

    def __init__(self, expected: list[Expectation]) -> None:
        self.there: Zones = {}
        self.absent: Zones = {}
        self.gone: set[tuple[str, str]] = set()
        self.exact: set[tuple[str, str]] = set()
        for one in expected:
            key = (to_text(one.name), type_text(one.rdtype))
            value = rdata_text(one.rdtype, one.rdata).lower() if one.rdata else ""
            if one.presence == "absent":
                (self.absent.setdefault(key, set()).add(value)) if value else self.gone.add(key)
            else:
                self.there.setdefault(key, set()).add(value)
                if one.presence == "exact":
                    self.exact.add(key)
        names = {name for name, _ in self.there}
        self.broken = {
            name
            for name in names
            for kinds in [{kind for owner, kind in self.there if owner == name}]
            if ("CNAME" in kinds and len(kinds) > 1) or len(self.there.get((name, "CNAME"), ())) > 1
        }
        for key, values in self.there.items():
            if key in self.gone or values & self.absent.get(key, set()):
                self.broken.add(key[0])


def unmet(wishes: Wishes, before: Zones, after: Zones) -> list[str]:
    """What the estate expects and does not get, where nothing that stays there forbids it."""
    said = []
    for (name, kind), values in wishes.there.items():
        if name in wishes.broken or values <= after.get((name, kind), set()):
            continue
        # An alias stands alone: what is there besides, and is no address, keeps it out (RFC 1034 section 3.6.2).
        others = {other for owner, other in before if owner == name and other not in ("A", "AAAA", kind)}
        if kind == "CNAME" and (others or (name, "A") in wishes.there):
            continue
        said.append(f"{name} {kind} {values - after.get((name, kind), set())}")
    for name, kind in wishes.gone:
        if name not in wishes.broken and after.get((name, kind)):
            said.append(f"{name} {kind} is still there")
    return said


def lost(wishes: Wishes, before: Zones, after: Zones) -> list[str]:
    """What a plan took away and must not: expected values, what other hands keep, PTR records of expected hosts."""
    said = []
    for (name, kind), values in before.items():
        kept = after.get((name, kind), set())
        key = (name, kind)
        if name not in wishes.broken and (wishes.there.get(key, set()) & values) - kept:
            said.append(f"expected, and removed: {name} {kind} {wishes.there[key] & values - kept}")
        own = wishes.absent.get(key, set())
        alone = key in wishes.gone or key in wishes.exact or (name, "CNAME") in wishes.there
        if kind in SEVERAL_HANDS and not alone and key in wishes.there and values - kept - own:
            said.append(f"another hand's, and removed: {name} {kind} {values - kept}")
        if kind == "PTR":
            address = ".".join(reversed(name.split(".")[:4]))
            hosts = {n for (n, k), v in wishes.there.items() if k == "A" and address in v and n not in wishes.broken}
            if (
                values & hosts
                and not kept & hosts
                and key not in wishes.there
                and key not in wishes.gone | set(wishes.absent)
            ):
                said.append(f"an expected host's pointer: {name} {values}")
    return said


def delivers(zones: Zones) -> set[str]:
    """The names whose mail arrives: one of their MX hosts has an address."""
    return {
        name
        for (name, kind), values in zones.items()
        if kind == "MX" and any((value.split()[1], "A") in zones for value in values)
    }


def worse(wishes: Wishes, before: Zones, after: Zones) -> list[str]:
    """Mail that arrived and does not any more, though nobody wished for that; also where not all of a plan was taken."""
    gone = delivers(before) - delivers(after)
    wished = {
        name for name in gone if (name, "MX") in wishes.gone or (name, "MX") in wishes.there or name in wishes.broken
    }
    hosts = {value.split()[1] for name in gone - wished for value in before.get((name, "MX"), ())}
    if all((host, "A") in wishes.gone or (host, "CNAME") in wishes.there for host in hosts):
        return []  # its only hosts must be gone
    return [f"no mail for {name} any more" for name in sorted(gone - wished)]

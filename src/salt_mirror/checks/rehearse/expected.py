"""What an estate expects once a network is renumbered: the same records with other addresses, and the lines that say so.

Strategy: expectations are changed in memory for the judgement, and line by line for the files: an address, a network or a
reverse name of the old network is replaced where it is written out. A line without any of these is left to a person.
"""

from __future__ import annotations

import copy
from collections.abc import Collection, Mapping
from dataclasses import replace
from pathlib import Path

from salt_mirror.checks.plan.sets import SetKey
from salt_mirror.checks.rehearse.networks import Renumbering
from salt_mirror.checks.rehearse.renumber import Phase
from salt_mirror.dns.names import Name
from salt_mirror.dns.records import PTR, TXT, A
from salt_mirror.dns.reverse import address_of, reverse_name
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate
from salt_mirror.findings import FileLine

Pairs = list[tuple[Expectation, Expectation]]
"""Expectations as they are, each with what is expected in its place."""


def moved_expectations(
    estate: Estate, move: Renumbering, hosts: Collection[Name], phase: Phase, changed: Collection[SetKey] = ()
) -> Pairs:
    """Return the expectations that are about the old network, with what is expected once a phase is done. Until the last phase
    is, no TTL is expected of the sets that are `changed`: they are low."""
    keys = {(key.view, key.name, key.rdtype) for key in changed} if phase != "remove" else set()
    pairs: Pairs = []
    for zone in estate.all_zones():
        for one in zone.expectations:
            new = _moved(one, move, hosts, phase)
            if (zone.view, one.name, one.rdtype) in keys or (zone.view, (new or one).name, one.rdtype) in keys:
                new = new or copy.copy(one)
                new.ttl = None
            if new is not None:
                pairs.append((one, new))
    return pairs


def _moved(one: Expectation, move: Renumbering, hosts: Collection[Name], phase: Phase) -> Expectation | None:
    switched = phase in ("switch", "remove")
    new = copy.copy(one)
    if one.rdtype == A and switched and (address := move.moved(one.rdata)) is not None and _is_meant(one.name, hosts):
        new.rdata = address
        return new
    pointed = address_of(one.name) if one.rdtype == PTR and switched else None
    if pointed is not None and (address := move.moved(pointed)) is not None and _is_meant(one.rdata, hosts):
        new.name = reverse_name(address)
        return new
    if one.rdtype == TXT and phase != "lower":
        both = move.with_both(one.rdata)
        # Where some hosts stay, both networks do.
        last = not hosts and (phase == "remove" or (switched and both == one.rdata))
        new.rdata = move.text_value(one.rdata) if last else both
        return new if new.rdata != one.rdata else None
    return None


def _is_meant(name: Name, hosts: Collection[Name]) -> bool:
    return not hosts or name in hosts


def renumbered(estate: Estate, pairs: Pairs, reach: Mapping[bytes, tuple[bytes, int]]) -> Estate:
    """Return an estate with other expectations in the place of some, each in the zone that it lies in then. `reach` says where
    new addresses are reached."""
    instead = {id(old): new for old, new in pairs}
    zones = {view: dict(of_view) for view, of_view in estate.zones.items()}
    for view, of_view in estate.zones.items():
        homeless: list[Expectation] = []
        for apex, zone in of_view.items():
            kept: list[Expectation] = []
            for one in zone.expectations:
                new = instead.get(id(one), one)
                at_home = new is one or estate.zone_of(new.name, view) is zone
                (kept if at_home else homeless).append(new)
            zones[view][apex] = replace(zone, expectations=tuple(kept))
        for one in homeless:
            home = estate.zone_of(one.name, view)
            if home is not None:
                held = zones[view][home.apex]
                zones[view][home.apex] = replace(held, expectations=(*held.expectations, one))
    return replace(estate, zones=zones, reach={**reach, **estate.reach})


def edited_lines(
    texts: dict[Path, str], pairs: Pairs, move: Renumbering
) -> tuple[dict[Path, str], list[FileLine], list[FileLine]]:
    """Return the texts of lists with the new addresses, the lines that change, and those that a person has to change. `texts`
    are the lists as they are."""
    wanted: dict[Path, set[int]] = {}
    for old, _ in pairs:
        if old.source is not None:
            wanted.setdefault(old.source, set()).add(old.line)
    changed: dict[Path, str] = {}
    edits: list[FileLine] = []
    by_hand: list[FileLine] = []
    for path, numbers in wanted.items():
        lines = texts[path].split("\n") if path in texts else []
        for number in sorted(numbers):
            line = lines[number - 1] if 0 < number <= len(lines) else ""
            new = move.rewritten(line)
            place = FileLine(file=str(path), line=number, says=(new if new != line else line).strip())
            (edits if new != line else by_hand).append(place)
            if new != line:
                lines[number - 1] = new
        if any(one.file == str(path) for one in edits):
            changed[path] = "\n".join(lines)
    return changed, edits, by_hand

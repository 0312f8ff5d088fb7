"""What every server tells at one moment, and two such moments held against each other, and against a plan.

Strategy: a snapshot is what each server told of each RRset, or why it told nothing; comparing is set arithmetic over that, by
zone and server. What is the same on several servers is told once. An RRset that one side could not see is unverified,
and no change.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import msgspec

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.directories import all_wanted, directory_of
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.lookup import at_name
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.wording import state
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.records import (
    AAAA,
    CNAME,
    NOT_COMPARED,
    NOT_CONTENT,
    PTR,
    SOA,
    A,
    rdata_text,
    type_from_text,
    type_text,
)
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome

VERSION = "salt-mirror/snapshot/1"


_LEFT_OUT = frozenset(map(type_text, NOT_CONTENT))


class SnapshotHead(msgspec.Struct, frozen=True):
    """The first line of a snapshot: when it was taken (ISO 8601, UTC), and of what."""

    snapshot: str
    taken_at: str
    title: str = ""


class HeldSet(msgspec.Struct, frozen=True, omit_defaults=True):
    """What one server answers for one RRset: its values in presentation form, its TTL in seconds, or the alias in its place; or
    why nothing is known."""

    server: str
    view: str
    zone: str
    name: str
    type: str
    values: list[str] = []
    ttl: int | None = None
    trouble: str | None = None
    alias: str = ""

    @property
    def shown(self) -> tuple[str, ...]:
        """What is there: the values, or the alias."""
        return (*self.values, f"alias of {self.alias}") if self.alias else tuple(self.values)

    @property
    def key(self) -> tuple[str, str, str, str]:
        """What it is about: server, view, name, type."""
        return self.server, self.view, self.name, self.type


@dataclass(frozen=True, slots=True)
class Difference:
    """One difference of one RRset, with the servers that show it."""

    kind: str
    view: str
    zone: str
    name: str
    type: str
    before: tuple[str, ...]
    after: tuple[str, ...]
    ttls: tuple[int | None, int | None]
    servers: tuple[str, ...]
    why: str = ""


def differences(before: Iterable[HeldSet], after: Iterable[HeldSet]) -> list[Difference]:
    """Return everything that is not the same, in the order of zone, name and type."""
    old, new = ({one.key: one for one in side if one.type not in _LEFT_OUT} for side in (before, after))
    found: dict[Difference, list[str]] = {}
    for key in old.keys() | new.keys():
        held_set, other = old.get(key), new.get(key)
        told = other or held_set
        assert told is not None
        kind, why = _kind(held_set, other)
        if kind:
            difference = Difference(
                kind, told.view, told.zone, told.name, told.type,
                held_set.shown if held_set is not None else (), other.shown if other is not None else (),
                (held_set.ttl if held_set is not None else None, other.ttl if other is not None else None), (), why,
            )  # fmt: skip
            found.setdefault(difference, []).append(told.server)
    merged = [
        Difference(d.kind, d.view, d.zone, d.name, d.type, d.before, d.after, d.ttls, tuple(sorted(servers)), d.why)
        for d, servers in found.items()
    ]
    return sorted(merged, key=lambda d: (d.view, d.zone, d.name, d.type, d.servers))


def _kind(held_set: HeldSet | None, other: HeldSet | None) -> tuple[str, str]:
    """Return how an RRset differs, empty when it does not; and why it could not be seen."""
    for side, when in ((held_set, "before"), (other, "after")):
        if side is not None and side.trouble is not None:
            return "unseen", f"{when}: {side.trouble}"
    before = set(held_set.shown) if held_set is not None else set()
    after = set(other.shown) if other is not None else set()
    if before != after:
        return ("added" if not before else "gone" if not after else "changed"), ""
    if before and held_set is not None and other is not None and held_set.ttl != other.ttl:
        return "ttl", ""
    return "", ""


def compared(
    found: list[Difference], before: Iterable[HeldSet], after: Iterable[HeldSet], plan: list[Expectation] | None
) -> Iterator[Finding]:
    """Return the findings of a comparison: every difference, or what the plan says of it."""
    planned = _planned(plan or [])
    for difference in found:
        if difference.kind == "unseen":
            yield _unseen(difference)
        elif plan is None or difference.kind == "ttl":
            yield _difference(f"cmp.{difference.kind}", difference)
        elif (from_text(difference.name), type_from_text(difference.type)) not in planned:
            yield _difference("cmp.unplanned", difference, " That was not planned.")
    if plan is not None:
        now = {one.key: one for one in after}
        gone = [
            msgspec.structs.replace(held_set, values=[], ttl=None, trouble=None, alias="")
            for held_set in before
            if held_set.key not in now
        ]
        yield from _plan_kept(planned, [*now.values(), *gone])


def _planned(plan: list[Expectation]) -> dict[tuple[Name, int], list[Expectation]]:
    found: dict[tuple[Name, int], list[Expectation]] = {}
    for expectation in plan:
        if expectation.rdtype != SOA:
            found.setdefault((expectation.name, expectation.rdtype), []).append(expectation)
    return found


def _plan_kept(planned: dict[tuple[Name, int], list[Expectation]], after: list[HeldSet]) -> Iterator[Finding]:
    """For each planned RRset, whether it stands as planned on every server that told of it."""
    told: dict[tuple[str, str], list[HeldSet]] = {}
    for held in after:
        told.setdefault((held.name, held.type), []).append(held)
    for (name, rdtype), wanted in planned.items():
        what = f"{to_text(name)} {type_text(rdtype)}"
        values = {rdata_text(rdtype, one.rdata) for one in wanted if one.presence != "absent"}
        absent = {rdata_text(rdtype, one.rdata) for one in wanted if one.presence == "absent" and one.rdata}
        gone = any(one.presence == "absent" and not one.rdata for one in wanted)
        seen = told.get((to_text(name), type_text(rdtype)), [])
        if not seen:
            text = f"{what} is planned, and in neither snapshot: take one that has it."
            yield state("cmp.unverified", text, name=name, rdtype=rdtype, outcome="unverified", cause=text)
            continue
        late = [
            held_set.server
            for held_set in seen
            if held_set.trouble is None
            and (values - set(held_set.values) or absent & set(held_set.values) or (gone and held_set.shown))
        ]
        view = seen[0].view
        if late:
            wish = ", ".join(sorted(values)) or "gone"
            text = f"{what} is planned to be {wish}, and is not yet on {', '.join(sorted(late))}."
            changes = [
                changed(
                    name, rdtype, "expected", "planned", view=view, zone=None,
                    add=[one.rdata for one in wanted if one.presence != "absent"],
                    remove=[one.rdata for one in wanted if one.presence == "absent" and one.rdata],
                )
            ]  # fmt: skip
            yield state("cmp.not-done", text, name=name, rdtype=rdtype, view=view, changes=changes)
        elif all(one.trouble is None for one in seen):
            text = f"{what} is as planned."
            yield state("cmp.done", text, name=name, rdtype=rdtype, view=view)


def _difference(code: str, difference: Difference, more: str = "") -> Finding:
    what = f"{difference.name} {difference.type}"
    where = f" on {', '.join(difference.servers)}"
    before, after = ", ".join(difference.before), ", ".join(difference.after)
    text = {
        "added": f"{what} is new{where}: {after}.",
        "gone": f"{what} is gone{where}; it was {before}.",
        "changed": f"{what} was {before} and is {after}{where}.",
        "ttl": f"{what} has another TTL{where}: {difference.ttls[1]} s, and {difference.ttls[0]} s before.",
    }[difference.kind]
    return state(
        code, text + more, name=from_text(difference.name), rdtype=type_from_text(difference.type), view=difference.view
    )


def _unseen(difference: Difference) -> Finding:
    text = f"{difference.name} {difference.type} could not be compared on {', '.join(difference.servers)} ({difference.why})."
    return state(
        "cmp.unverified", text, name=from_text(difference.name), rdtype=type_from_text(difference.type), view=difference.view,
        outcome="unverified", cause=f"{', '.join(difference.servers)}, {difference.why}",
    )  # fmt: skip


SetKey = tuple[str, Name, int]
"""An RRset in a view: view, name, type."""


def everything_known(estate: Estate, view: str | None) -> list[SetKey]:
    """Return all that an estate expects: records, PTR records of expected addresses in its zones, a directory's locators."""
    expected = expected_sets(estate, None, view=view)
    found: dict[SetKey, None] = {(one.view, one.name, one.rdtype): None for one in expected}
    for expected_set in expected:
        for address in expected_set.values if expected_set.rdtype in (A, AAAA) else ():
            pointer = reverse_name(address)
            if estate.zone_of(pointer, expected_set.view) is not None:
                found[expected_set.view, pointer, PTR] = None
    for directory in map(directory_of, estate.directories):
        if view in (None, directory.view):
            found.update(
                ((directory.view, wanted.name, rdtype), None)
                for wanted in all_wanted(directory)
                for rdtype in wanted.rdtypes
            )
    return list(found)


class Snapshot(Part):
    """What every server tells now of some RRsets, and all that stands in zones that were transferred."""

    def __init__(self, sets: Iterable[SetKey], estate: Estate, views: Iterable[str], atlas: Atlas) -> None:
        super().__init__()
        self._sets = list(sets)
        self._estate = estate
        self._views = list(views)
        self._atlas = atlas
        self._found: dict[tuple[str, str, str, str], HeldSet] = {}
        self.size = len(self._sets)

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[list[HeldSet]]]]:
        yield (_told(view, name, rdtype, self._atlas) for view, name, rdtype in self._sets)
        for view in self._views:
            for zone in self._estate.zones.get(view, {}).values():
                for server in zone.servers or ():
                    holding = setting.holdings(server, zone.apex)
                    for owner, rdtype, ttl, values in holding.rrsets() if holding is not None else ():
                        if rdtype not in NOT_COMPARED:
                            self.take([_held(server.label, view, zone.apex, owner, rdtype, values, ttl)])

    def take(self, result: list[HeldSet]) -> None:
        self._found.update((one.key, one) for one in result)

    @property
    def held(self) -> list[HeldSet]:
        """Everything, in the order of view, zone, name and type."""
        return sorted(self._found.values(), key=lambda one: (one.view, one.zone, one.name, one.type, one.server))

    def verdicts(self) -> Iterator[Verdict]:
        return iter(())

    def findings(self) -> list[Finding]:
        return []


def _told(view: str, name: Name, rdtype: int, atlas: Atlas) -> Dialogue[list[HeldSet]]:
    seen = yield from at_name(name, (rdtype,), view, atlas)
    zone = seen.authority.zone or name
    if not seen.tellings:
        why = seen.trouble or "no server"
        return [HeldSet("", view, to_text(zone), to_text(name), type_text(rdtype), trouble=why)]
    return [
        _held(
            telling.server.label,
            view,
            zone,
            name,
            rdtype,
            telling.values,
            telling.answers[0].ttl,
            telling.trouble,
            telling.alias if rdtype != CNAME else None,
        )
        for telling in seen.tellings
    ]


def _held(
    server: str,
    view: str,
    zone: Name,
    name: Name,
    rdtype: int,
    values: Iterable[bytes],
    ttl: int | None,
    trouble: str | None = None,
    alias: Name | None = None,
) -> HeldSet:
    texts = sorted(rdata_text(rdtype, value) for value in values)
    leads = to_text(alias) if alias is not None else ""
    ttl = ttl if texts or leads else None
    return HeldSet(server, view, to_text(zone), to_text(name), type_text(rdtype), texts, ttl, trouble, leads)


class Comparison:
    """Two moments compared, and the plan between them if there was one: findings, counts, and what to say."""

    def __init__(self, before: list[HeldSet], after: list[HeldSet], plan: list[Expectation] | None) -> None:
        found = differences(before, after)
        self.findings = list(compared(found, before, after, plan))
        self._planned = plan is not None
        sets = {one.key[1:] for one in (*before, *after)}
        self.unseen = {(one.view, one.name, one.type) for one in found if one.kind == "unseen"}
        other = {(one.view, one.name, one.type) for one in found if one.kind not in ("unseen", "ttl")}
        self.total = len(sets)
        self.counts: dict[Outcome, int] = {
            "differs": len(other),
            "unverified": len(self.unseen - other),
            "agrees": len(sets - other - self.unseen),
        }

    @property
    def more(self) -> dict[str, Any]:
        """What a report says beyond the counts: how the plan was kept."""
        if not self._planned:
            return {}
        codes = [finding.code for finding in self.findings]
        done, late, strange = (codes.count(f"cmp.{kind}") for kind in ("done", "not-done", "unplanned"))
        says = f"{done} as planned, {late} planned and not done, {strange} done and not planned."
        kept = not late and not strange
        return {"says": says, "outcome": "unverified" if kept and self.unseen else "agrees" if kept else "differs"}

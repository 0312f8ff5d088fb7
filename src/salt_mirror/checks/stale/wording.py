"""Everything that is said about records that no longer belong: the evidence in words, and what would mend it.

Strategy: one finding for each name and reason. What is to go is a choice for a person, and takes everything of a host together:
addresses, pointers, aliases and locators.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.wording import answers_of, labels_of, many, state, together_said, troubles_of
from salt_mirror.checks.stale.rules import Reason, Suspicion
from salt_mirror.checks.stale.scope import AgingRecord, Inventory
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import ADDRESS_TYPES, PTR, SOA, TLSA, A, rdata_text, record_line, type_text
from salt_mirror.dns.reverse import address_of, address_text
from salt_mirror.estate.aging import moment_of
from salt_mirror.estate.model import Zone
from salt_mirror.findings import Change, Choice, Finding


def moment_text(moment: datetime) -> str:
    """Return a moment in local time with its offset: `24 Aug 2026 03:00 +0200`."""
    local = moment.astimezone()
    return f"{local.day} {local:%b %Y %H:%M %z}"


def ago(stamp_h: int, now_h: float) -> str:
    """Return how long ago a stamp was, in days, or in hours of the last two."""
    hours = max(0, int(now_h - stamp_h))
    return many(hours // 24, "day") if hours >= 48 else many(hours, "hour")


def evidence_of(suspicion: Suspicion, now_h: float, life_h: int | None) -> list[str]:
    """Return the evidence behind a verdict, in words."""
    record, said = suspicion.record, []
    if record.stamp_h:
        said.append(f"last refreshed {ago(record.stamp_h, now_h)} ago ({moment_text(moment_of(record.stamp_h))})")
    elif record.stamp_h == 0 and suspicion.reason is not Reason.NOT_DYNAMIC:
        said.append("static")
    if life_h is not None and suspicion.reason in (Reason.STALE, Reason.NEEDED):
        said.append(f"records live {many(life_h // 24, 'day') if life_h % 24 == 0 else many(life_h, 'hour')} there")
    leased = suspicion.leased
    if leased is not None and leased.live and leased.host is not None and not suspicion.in_use:
        said.append(f"its address is leased to {to_text(leased.host)} now")
    elif leased is not None and leased.live and suspicion.in_use:
        said.append("its host has the address by lease now")
    elif leased is not None and not leased.live:
        until = f" on {moment_text(datetime.fromtimestamp(leased.until, UTC))}" if leased.until else ""
        said.append(f"its lease ended{until}")
    elif (
        suspicion.leases_known
        and leased is None
        and record.rdtype in ADDRESS_TYPES
        and suspicion.reason is Reason.STALE
    ):
        said.append("no lease of its address")
    if suspicion.named and record.rdtype in ADDRESS_TYPES:
        said.append(f"its PTR record names {together_said(map(to_text, suspicion.named))} now")
    if suspicion.pointer is not None and record.stamp_h and (suspicion.pointer.stamp_h or 0) < record.stamp_h - 24:
        said.append(f"its PTR record is older, last refreshed {ago(suspicion.pointer.stamp_h or 0, now_h)} ago")
    if (
        suspicion.newer is not None
        and suspicion.newer.stamp_h
        and suspicion.newer.stamp_h > (record.stamp_h or 0)
        and not suspicion.in_use
    ):
        said.append(
            f"{to_text(suspicion.newer.name)} was registered at its address {ago(suspicion.newer.stamp_h, now_h)} ago"
        )
    if suspicion.network is not None:
        said.append(f"{suspicion.network} is retired")
    return said


_SAYS = {
    Reason.STALE: "has aged",
    Reason.REUSED: "is left over",
    Reason.RETIRED: "is left over",
    Reason.NEEDED: "is needed, and scavenging takes it, since it has aged",
    Reason.NOT_STATIC: "should be static, and is a dynamic record that ages",
    Reason.NOT_DYNAMIC: "should be dynamic, and is a static record that nothing ever takes",
    Reason.MIXED: "is dynamic, and other addresses of the name are static",
}


class StaleWords:
    """The findings of one view."""

    def __init__(self, inventory: Inventory, now_h: float) -> None:
        self._inventory = inventory
        self._now_h = now_h

    def told(self, group: Sequence[Suspicion], found: Sequence[Lookup], life_h: int | None) -> Finding:
        """Report one name's records with one reason."""
        first = group[0]
        record, reason = first.record, first.reason
        evidence = dict.fromkeys(text for one in group for text in evidence_of(one, self._now_h, life_h))
        due = ""
        if reason is Reason.NOT_STATIC and first.due_h is not None:
            due = f" It ages away on {moment_text(moment_of(int(first.due_h)))} unless it is refreshed."
        text = f"{_what(group)} {_SAYS[reason]}{': ' if evidence else ''}{'; '.join(evidence)}.{due}"
        choices = [self._removal(record.name, group)] if reason.gone else []
        advice = "" if reason.gone else _ADVICE[reason]
        return state(
            reason.value, text, name=record.name, rdtype=record.rdtype, view=self._inventory.view, choices=choices,
            advice=advice, answers=[answer for one in found for answer in answers_of(one)],
        )  # fmt: skip

    def unverified(self, group: Sequence[Suspicion], found: Iterable[Lookup]) -> Finding:
        """Return records that would be told of, and of which nobody knows whether they are still registered."""
        record = group[0].record
        why = next((troubles_of(one) for one in found if one.certain != "agrees"), "no usable answer")
        text = f"Whether {_what(group)} is still registered on every server could not be seen: {why}."
        code = "age.unverified" if group[0].reason.value.startswith("age") else "left.unverified"
        return state(
            code,
            text,
            name=record.name,
            rdtype=record.rdtype,
            view=self._inventory.view,
            outcome="unverified",
            cause=why,
        )

    def tombstone(self, name: Name, zone: Zone, serving: Sequence[Server], looked_up: Lookup) -> Finding:
        """Report a name that the directory keeps as gone, and that a server still gives out."""
        text = f"{to_text(name)} is gone in the directory (a tombstone), and {labels_of(serving)} still gives it out."
        return state("age.tombstone", text, name=name, rdtype=A, view=zone.view, answers=answers_of(looked_up)[:4])

    @staticmethod
    def unread(domain: str, view: str, why: str) -> Finding:
        """Return a directory that could not be read."""
        text = f"How old the records of {domain} are could not be seen: {why}."
        return state(
            "age.unverified", text, name=from_text(domain), rdtype=SOA, view=view, outcome="unverified", cause=why
        )

    def dangling(self, record: AgingRecord, target: Name, *, open_to_all: bool, found: Lookup) -> Finding:
        """Return a record that leads to a name that does not exist."""
        what = f"{to_text(record.name)} {type_text(record.rdtype)} leads to {to_text(target)}, which does not exist"
        if record.rdtype == TLSA:
            what = f"{to_text(record.name)} TLSA is about {to_text(target)}, which has no address"
        gone = changed(
            record.name, record.rdtype, "registered", "it leads nowhere", view=record.zone.view, zone=record.zone.apex,
            remove=[record.rdata],
        )  # fmt: skip
        choice = Choice(word="remove", says="it is not needed", changes=[gone])
        if open_to_all:
            who = to_text(record.name)
            text = f"{what}: its domain is not registered, and anyone who registers it gets the traffic of {who}."
            code = "left.unregistered-domain"
        else:
            text, code = f"{what}.", "left.dangling"
        others = self._inventory.referring.get(target, [])
        cause = f"{to_text(target)} does not exist, and {many(len(others), 'record')} lead there" if others[1:] else ""
        return state(
            code, text, name=record.name, rdtype=record.rdtype, view=record.zone.view, choices=[choice], cause=cause,
            answers=answers_of(found)[:6],
        )  # fmt: skip

    def dangling_ds(self, record: AgingRecord, own: list[Answer], *, delegated: bool) -> Finding:
        """Return a DS record without a zone that it could be of."""
        name = to_text(record.name)
        why = (
            f"{name} is not signed: validating resolvers answer SERVFAIL for every name in it"
            if delegated
            else f"{name} is not delegated"
        )
        # Keys and DS records are never changed by this program: who removes one at the wrong moment breaks the zone.
        advice = f"in {to_text(record.zone.apex)} remove: {record_line(record.name, record.rdtype, record.rdata)}"
        text = f"{name} has a DS record ({rdata_text(record.rdtype, record.rdata)}), and {why}."
        return state(
            "left.dangling", text, name=record.name, rdtype=record.rdtype, view=record.zone.view, advice=advice,
            answers=own[:4],
        )  # fmt: skip

    def ds_unverified(self, record: AgingRecord, why: str) -> Finding:
        """Return a DS record of which nobody knows what it is about."""
        text = f"What the DS record of {to_text(record.name)} is about could not be seen: {why}."
        return state(
            "left.unverified", text, name=record.name, rdtype=record.rdtype, view=record.zone.view, outcome="unverified",
            cause=why,
        )  # fmt: skip

    def target_unverified(self, record: AgingRecord, target: Name, looked_up: Lookup) -> Finding:
        """Return a target of which nobody knows whether it exists."""
        why = troubles_of(looked_up)
        text = f"Whether {to_text(target)}, to which {to_text(record.name)} leads, exists could not be seen: {why}."
        return state(
            "left.unverified", text, name=record.name, rdtype=record.rdtype, view=record.zone.view, outcome="unverified",
            cause=why,
        )  # fmt: skip

    def _removal(self, name: Name, group: Sequence[Suspicion]) -> Choice:
        """Return everything of a host together: what no longer belongs, its pointers, and what leads to it."""
        records = [one.record for one in group]
        if all(one.rdtype in ADDRESS_TYPES for one in records):
            left = {one.rdata for one in self._inventory.by_name.get(name, ()) if one.rdtype in ADDRESS_TYPES}
            for address in {one.rdata for one in records}:
                records += [one for one in self._inventory.pointers.get(address, ()) if one.rdata == name]
                left.discard(address)
            if not left:  # nothing of the host stays, so that nothing may lead to it
                records += self._inventory.referring.get(name, [])
        by_set: dict[tuple[Name, int], list[AgingRecord]] = {}
        for record in records:
            by_set.setdefault((record.name, record.rdtype), []).append(record)
        changes: list[Change] = [
            changed(
                owner, rdtype, "registered", "it no longer belongs", view=members[0].zone.view, zone=members[0].zone.apex,
                remove={one.rdata for one in members},
            )
            for (owner, rdtype), members in by_set.items()
        ]  # fmt: skip
        says = "the host is gone, with all that leads to it"
        if group[0].reason is Reason.REUSED:
            says = "the address is another host's"
        return Choice(word="remove", says=says, changes=changes)


_ADVICE = {
    Reason.NEEDED: "have its host register again, or make the record static; or stop expecting it",
    Reason.NOT_STATIC: "make it a static record",
    Reason.NOT_DYNAMIC: "take it out, and have its host register itself",
    Reason.MIXED: "",
}


def _what(group: Sequence[Suspicion]) -> str:
    """Return the records of a name in words."""
    name = group[0].record.name
    values = [f"{type_text(one.record.rdtype)} {rdata_text(one.record.rdtype, one.record.rdata)}" for one in group]
    address = address_of(name) if group[0].record.rdtype == PTR else None
    owner = f"the PTR record of {address_text(address)}" if address is not None else to_text(name)
    return f"{owner} ({', '.join(values)})"

"""How long a change can take until nobody sees the old state any more: known beforehand, from the zone's own numbers.

Strategy: a change has to reach every authoritative server (at once by notify, by refresh without it), and then every cache
that has fetched the old state just before has to let go of it: after the TTL of the RRset, or after the negative TTL where
the old state is a "no" (RFC 2308 section 5). Servers that each are their own primary replicate among themselves, and the zone
does not say how long that takes. Pure arithmetic over what was asked; the moment of the change is handed in.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import Lookup, Telling, at_name, lookup
from salt_mirror.checks.common.soa import negative_ttl
from salt_mirror.checks.common.wording import duration, local_moment, troubles_of
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import Name, parent, to_text
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import DNSKEY, DS, NS, SOA, Soa, rdata_text, record_line, soa_fields, type_text
from salt_mirror.dns.serials import ahead

LOWERED_TTL = 300
WORTH_LOWERING = 2 * LOWERED_TTL
"""TTLs in seconds: what one is lowered to before a change, and from which on that pays."""


@dataclass(slots=True)
class Link:
    """One record on the way, and how long a cache may keep it (seconds): an alias, the record itself, or a delegation."""

    name: Name
    rdtype: int
    ttl: int
    values: tuple[bytes, ...]


@dataclass(frozen=True, slots=True)
class OtherSide:
    """What the waits of a change of keys also hang on: the set on the other side of the cut (the keys of a DS set, the DS set
    of keys), its TTL, and the refresh of its zone's secondaries, both in seconds and 0 where they are not known."""

    ttl: int
    spread_s: int


@dataclass(slots=True)
class BudgetSeen:
    """What the budget of a change rests on. `links` are the records on the way, the asked one last; `soa` the zone's, with its
    TTL; `serials` what each server has, `primaries` whom they name; `delegated_ttl` the parent's NS TTL, where the change is
    one of name servers; `other` the other side of a cut, where it is one of keys."""

    name: Name
    rdtype: int
    found: Lookup
    links: list[Link] = field(default_factory=list)
    soa: Soa | None = None
    soa_ttl: int | None = None
    serials: dict[str, int] = field(default_factory=dict)
    primaries: set[Name] = field(default_factory=set)
    delegated_ttl: int | None = None
    other: OtherSide | None = None

    @property
    def exists(self) -> bool:
        """Whether there is an RRset to change; otherwise a "no" is what caches hold."""
        return bool(self.found.values)

    @property
    def replicated(self) -> bool:
        """Whether the servers each name themselves as the primary, and replicate in ways that the zone does not tell."""
        return len(self.primaries) > 1 and len(self.primaries) == len(self.serials)

    @property
    def several_servers(self) -> bool:
        """Whether there are secondaries that a change has to reach."""
        return len(self.found.tellings) > 1 and not self.replicated


def inspect_budget(name: Name, rdtype: int, view: str, atlas: Atlas) -> Dialogue[BudgetSeen]:
    """Ask for what the budget of a change rests on."""
    looked_up = yield from lookup(name, (rdtype,), view, atlas)
    seen = BudgetSeen(name, rdtype, looked_up)
    for telling in looked_up.trail:
        _add_link(seen, name, 5, telling)
    for telling in looked_up.usable:
        if telling.values:
            _add_link(seen, looked_up.canonical, rdtype, telling)
    zone = looked_up.authority.zone
    if zone is None:
        return seen
    steps: list[Dialogue[Any]] = [at_name(zone, (SOA,), view, atlas)]
    if rdtype == NS:
        steps.append(_delegated_ttl(name, view, atlas))
    done = yield from together(steps)
    for telling in done[0].usable:
        if telling.values:
            fields = soa_fields(telling.values[0])
            seen.serials[telling.server.label] = fields.serial
            seen.primaries.add(fields.mname)
            if seen.soa is None or (ahead(fields.serial, seen.soa.serial) or 0) > 0:
                seen.soa, seen.soa_ttl = fields, telling.answers[0].ttl
    if rdtype == NS:
        seen.delegated_ttl = done[1]
    if rdtype in (DS, DNSKEY):
        seen.other = yield from _other_side(name, DNSKEY if rdtype == DS else DS, view, atlas)
    return seen


def _other_side(name: Name, rdtype: int, view: str, atlas: Atlas) -> Dialogue[OtherSide]:
    """Return the keys that a DS set is of, or the DS set that leads to some keys."""
    looked_up = yield from at_name(name, (rdtype,), view, atlas)
    ttl = max((telling.answers[0].ttl or 0 for telling in looked_up.usable if telling.values), default=0)
    zone = looked_up.authority.zone
    if zone is None or len(looked_up.tellings) < 2:
        return OtherSide(ttl, 0)
    soa = yield from at_name(zone, (SOA,), view, atlas)
    refresh = max((soa_fields(one.values[0]).refresh for one in soa.usable if one.values), default=0)
    return OtherSide(ttl, refresh)


def _add_link(seen: BudgetSeen, name: Name, rdtype: int, telling: Telling) -> None:
    answer = telling.answers[0]
    owner = answer.question.name if rdtype == 5 else name
    values = (telling.alias,) if rdtype == 5 and telling.alias is not None else telling.values
    for link in seen.links:
        if (link.name, link.rdtype) == (owner, rdtype):
            link.ttl = max(link.ttl, answer.ttl or 0)
            return
    if values and answer.ttl is not None:
        seen.links.append(Link(owner, rdtype, answer.ttl, values))


def _delegated_ttl(name: Name, view: str, atlas: Atlas) -> Dialogue[int | None]:
    """Return the TTL that the parent gives the NS set of a zone."""
    authority = atlas.known(parent(name), view)
    if authority is None:
        authority = yield from atlas.find(parent(name), view)
    answers = yield [Question(name, NS, server) for server in authority.servers]
    ttls = [
        record.ttl
        for answer in answers
        for record in (*answer.sections.answer, *answer.sections.authority)
        if record.rdtype == NS and record.owner == name
    ]
    return max(ttls, default=None)


@dataclass(frozen=True, slots=True)
class Moment:
    """A moment of the timeline, and what has come to pass by then."""

    at: datetime
    says: str
    key: str = ""


@dataclass(frozen=True, slots=True)
class Budget:
    """The bounds of a change made at a moment.

    `spread_s` is how long secondaries may lag, `kept_s` how long a cache may keep the old state, both in seconds; `capped`
    that this is what caches are known to do; `last` when the last cache that keeps the rules has let go of it; `advice` are
    words, and lines of a master file, each behind what it is (`advice`, `now`, `then`).
    """

    change_at: datetime
    spread_s: int
    kept_s: int
    timeline: tuple[Moment, ...]
    advice: tuple[tuple[str, str], ...] = ()
    capped: bool = False

    @property
    def last(self) -> datetime:
        """When the last cache has let go, with a notify that arrived."""
        return self.change_at + timedelta(seconds=self.kept_s)

    @property
    def last_without_notify(self) -> datetime:
        """The same when the notify was lost and a secondary had to wait for its refresh."""
        return self.last + timedelta(seconds=self.spread_s)


def budget_of(
    seen: BudgetSeen,
    change_at: datetime,
    now: datetime,
    *,
    cap: int | None = None,
    before: frozenset[bytes] = frozenset(),
    to: frozenset[bytes] = frozenset(),
) -> Budget:
    """Return the budget of a change of the asked records at a moment. `cap` is how long caches are known to keep entries
    instead, `to` the new values: in the place of `before`, or of the whole set.

    Raises ValueError where nothing usable was seen.
    """
    soa = seen.soa
    if soa is None:
        raise ValueError(troubles_of(seen.found))
    negative = negative_ttl(soa, seen.soa_ttl)
    own = next((link for link in reversed(seen.links) if link.rdtype == seen.rdtype), None)
    # A client gets what is at the end of its aliases, and any of them may be what changes.
    links = [link.ttl for link in seen.links] if seen.exists and own is not None else [negative]
    kept = max(*links, seen.delegated_ttl or 0)
    spread = soa.refresh if seen.several_servers else 0
    by_ttl, kept = kept, kept if cap is None else cap
    what = f"the negative cache entry for {to_text(seen.name)}" if not seen.exists else "the old value"

    def after(seconds: int) -> datetime:
        return change_at + timedelta(seconds=seconds)

    moments = [Moment(change_at, "the change is made" + (" on the primary" if seen.several_servers else ""), "change")]
    if seen.replicated:
        says = (
            "every authoritative server has it as soon as it has replicated: the zone does not say how long that takes"
        )
        moments.append(Moment(change_at, says, "replicated"))
    elif spread:
        moments.append(Moment(change_at, "every authoritative server has it, when the notify arrives", "notified"))
        moments.append(Moment(after(spread), "every authoritative server has it, when the notify is lost", "refreshed"))
    if cap is None:
        moments.append(Moment(after(kept), f"the last cache has dropped {what}", "settled"))
    else:
        moments.append(Moment(after(by_ttl), f"by its TTL, the last cache would have dropped {what}", "by-ttl"))
        moments.append(Moment(after(cap), f"resolvers that keep entries for {cap} s have dropped {what}", "settled"))
    if spread:
        moments.append(
            Moment(after(spread + kept), f"the same, when the notify is lost: {what} is gone everywhere", "latest")
        )
    moments.sort(key=lambda one: one.at)
    advice = _advice(
        seen, own, change_at, now, spread, (frozenset(seen.found.values) - before if before else frozenset()) | to
    )
    return Budget(change_at, spread, kept, tuple(moments), tuple(advice if cap is None else ()), cap is not None)


def _advice(
    seen: BudgetSeen, own: Link | None, change_at: datetime, now: datetime, spread: int, then: frozenset[bytes]
) -> list[tuple[str, str]]:
    """Return what would shorten the time in which users see this or that, where it pays. `then` is the whole set after the
    change."""
    if seen.other is not None and seen.exists and own is not None:
        return _advice_on_keys(own, spread, seen.other)
    if not seen.exists:
        words = "Do not ask a resolver for the name before it is there: the NXDOMAIN that it caches is what you would wait for."
        return [("advice", words)]
    if own is None or own.ttl < WORTH_LOWERING:
        return []
    delegated = seen.delegated_ttl or 0
    if delegated >= own.ttl:
        words = (
            f"Lowering the TTL here shortens nothing: the parent gives the NS set {delegated} s. Have it lowered there, or "
            "keep the old servers answering for as long."
        )
        return [("advice", words)]
    lead, lowest = own.ttl + spread, max(LOWERED_TTL, delegated)
    ready = now + timedelta(seconds=lead)
    words = (
        f"Lower the TTL to {LOWERED_TTL} s now and change after {clock(max(ready, change_at))}: cache entries then "
        f"expire within {lowest} s of the change, instead of {own.ttl} s. Raise the TTL again when all has settled."
    )
    if change_at - now >= timedelta(seconds=lead):
        words += f" There is time for that until {clock(change_at - timedelta(seconds=lead))}."
    advice = [("advice", words)]
    advice += [("now", record_line(own.name, own.rdtype, value, LOWERED_TTL)) for value in own.values]
    return [*advice, *(("then", record_line(own.name, own.rdtype, value, LOWERED_TTL)) for value in sorted(then))]


def _advice_on_keys(own: Link, spread: int, other: OtherSide) -> list[tuple[str, str]]:
    """Return the order of a change of keys, and its waits (RFC 7583 sections 3.2.1 and 3.3.1)."""
    if own.rdtype == DS:
        before, after = other.ttl + other.spread_s, own.ttl + spread
        first = (
            f"Before: the new key has to be in the DNSKEY set, and sign it, for {duration(before)} (DNSKEY TTL "
            f"{duration(other.ttl)}, refresh {duration(other.spread_s)}) before its DS record comes: until then some resolvers "
            "have a DNSKEY set without it (RFC 7583 section 3.3.1)."
        )
        second = (
            f"After: keep the old key, and its signature over the keys, for {duration(after)} (DS TTL {duration(own.ttl)}, "
            "refresh "
            f"{duration(spread)}) after the DS set was changed: until then some resolvers have the old DS record."
        )
        return [("advice", first), ("advice", second)]
    first = (
        f"A new key may sign {duration(own.ttl + spread)} after it was published (DNSKEY TTL {duration(own.ttl)}, refresh "
        f"{duration(spread)}); one that replaces the key of the DS record needs its own DS record then (RFC 7583 section "
        "3.2.1)."
    )
    second = (
        "An old key may go when nothing signed by it is in any cache: the longest TTL of the zone after the last signature "
        "by it "
        f"was replaced; the key of the DS record, {duration(other.ttl + other.spread_s)} (DS TTL {duration(other.ttl)}, "
        "refresh "
        f"{duration(other.spread_s)}) after that DS record is gone."
    )
    return [("advice", first), ("advice", second)]


def clock(moment: datetime) -> str:
    """Return a moment as people say it: local time with its distance from UTC, which changes with summer time."""
    return local_moment(moment, "%a %Y-%m-%d %H:%M:%S")


def link_text(link: Link) -> str:
    """Return a record on the way as text."""
    values = ", ".join(rdata_text(link.rdtype, value) for value in link.values)
    return f"{to_text(link.name)} {type_text(link.rdtype)} {values}"


def wish_text(seen: BudgetSeen, to: Iterable[bytes]) -> str:
    """Return what the record is to be, as it was understood."""
    values = ", ".join(rdata_text(seen.rdtype, value) for value in sorted(to))
    return f"{to_text(seen.name)} {type_text(seen.rdtype)} is to be {values}"


def headline(seen: BudgetSeen, budget: Budget) -> str:
    """Return the answer: by when, and how long that is."""
    what = f"{to_text(seen.name)} {type_text(seen.rdtype)}"
    whole = duration(budget.kept_s)
    if seen.replicated:
        best = f"by {clock(budget.last)} at best"
        return f"{what}: settled {whole} after every server has it, which is up to their replication; {best}."
    if budget.spread_s:
        late = duration(budget.kept_s + budget.spread_s)
        return f"{what}: settled {whole} after the change, by {clock(budget.last)}; {late} when a notify is lost."
    return f"{what}: settled {whole} after the change, by {clock(budget.last)}."


def remarks_on(seen: BudgetSeen, before: frozenset[bytes], after: frozenset[bytes]) -> list[str]:
    """Return what is remarkable about the values that were said to be there, and to come."""

    def said(values: Iterable[bytes]) -> str:
        return ", ".join(rdata_text(seen.rdtype, value) for value in values) or "nothing"

    has, remarks = set(seen.found.values), []
    if not before <= has:
        remarks.append(f"the authoritative servers have {said(seen.found.values)}, and not {said(before)}")
    # As a watch counts it: the whole set on a server, and no old value beside the new one.
    having = [
        telling.server.label
        for telling in seen.found.usable
        if set(telling.values) == (set(telling.values) - before | after if before else after)
    ]
    total = len(seen.found.usable) + len(seen.found.unverified)
    if after and having and len(having) == total:
        remarks.append(f"the authoritative servers have {said(after)} already: what is left is up to the caches")
    elif after and having:
        remarks.append(
            f"{len(having)} of {total} authoritative servers ({', '.join(having)}) have {said(after)} already"
        )
    if len(seen.links) > 1:
        text = ", ".join(f"{to_text(link.name)} {type_text(link.rdtype)} {link.ttl} s" for link in seen.links)
        longest = max(seen.links, key=lambda link: link.ttl)
        remarks.append(
            f"{to_text(seen.name)} is an alias, and the change may be at any link ({text}): counted with the longest, that of "
            f"{to_text(longest.name)} {type_text(longest.rdtype)}"
        )
    return remarks

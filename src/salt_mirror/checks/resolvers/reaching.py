"""Whether each zone of a resolver's view is reached through it: the SOA that it gives, held against the zone's own servers.

Strategy: four things can go wrong, and each has another cause: nothing comes back (a forwarder or stub that points to a server
which is gone), somebody else answers (the world, or another view), an old copy is given for longer than the zone allows, or the
zone's own servers tell nothing, and then nothing is known.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from salt_mirror.checks.common.atlas import is_placeholder
from salt_mirror.checks.common.overriding import validation_error
from salt_mirror.checks.common.test_tree import Judged, Mark, Test, worst
from salt_mirror.checks.common.wording import duration, many
from salt_mirror.checks.resolvers.asking import ResolverSeen, ThroughIt, gives_same
from salt_mirror.checks.resolvers.wording import ResolverWords, ZoneSaid
from salt_mirror.dns.names import ROOT, Name, is_within, to_text
from salt_mirror.dns.records import SOA, soa_fields
from salt_mirror.dns.serials import ahead
from salt_mirror.estate.model import Zone
from salt_mirror.findings import Finding


class Reach(Enum):
    """How a zone is reached."""

    OWN = "reached"
    OLD = "an older copy"
    HELD_ON = "an old copy, for longer than the zone allows"
    ELSEWHERE = "not forwarded"
    NOT = "not reached"
    BOGUS = "does not validate"
    UNKNOWN = "not known"


@dataclass(frozen=True, slots=True)
class Reached:
    """One zone, how it is reached, and that in words."""

    zone: Zone
    reach: Reach
    says: str
    through: ThroughIt

    @property
    def own(self) -> bool:
        """Whether it is the zone that its own servers have, if perhaps from a while ago."""
        return self.reach in (Reach.OWN, Reach.OLD, Reach.HELD_ON)


_MARKS: dict[Reach, Mark] = {
    Reach.OWN: "ok", Reach.OLD: "note", Reach.HELD_ON: "caution", Reach.ELSEWHERE: "fault", Reach.NOT: "fault",
    Reach.UNKNOWN: "unverified", Reach.BOGUS: "ok",
}  # fmt: skip


def reached(seen: ResolverSeen) -> list[Reached]:
    """Return how each zone of its view is reached through the resolver."""
    by_content = _other_views(seen)
    return [_reached(zone, through, seen, by_content.get(zone.apex)) for zone, through in seen.zones]


def _other_views(seen: ResolverSeen) -> dict[Name, str]:
    """Return the zones of which the resolver gives another view's records, and none that is only its own view's, each with that
    view: where two views have one SOA, only their contents tell."""
    given: dict[Name, set[str]] = {}
    for through in seen.values:
        if through.found is None or through.answer.trouble is not None or not through.elsewhere:
            continue
        views = {view for view, found in through.elsewhere.items() if gives_same(through.answer, found)}
        own = gives_same(through.answer, through.found)
        if (views or own) and through.found.authority.zone is not None:
            given.setdefault(through.found.authority.zone, set()).update([""] if own else views)
    return {zone: next(iter(views)) for zone, views in given.items() if len(views) == 1 and "" not in views}


def zones_test(looked: list[Reached], seen: ResolverSeen, words: ResolverWords) -> Judged:
    """Return whether each zone of its view is reached through the resolver."""
    rows = [Test(mark=_MARKS[one.reach], title=to_text(one.zone.apex), says=one.says) for one in looked]
    findings: list[Finding] = []
    for reach, say in (
        (Reach.NOT, words.zones_unreached),
        (Reach.ELSEWHERE, words.zones_elsewhere),
        (Reach.HELD_ON, words.held_on),
        (Reach.OLD, words.old_copies),
        (Reach.UNKNOWN, words.zones_unknown),
    ):
        affected = [ZoneSaid(one.zone.apex, one.says, one.through) for one in looked if one.reach is reach]
        if affected:
            findings.append(say(affected, len(looked)))
    own = sum(one.own or one.reach is Reach.BOGUS for one in looked)
    view = f" of the view {seen.tried.view}" if seen.tried.view else ""
    says = f"{own} of {many(len(looked), 'zone')}{view} reached"
    why = "" if own == len(looked) else "its clients do not find the names there"
    return Judged(Test(mark=worst(row.mark for row in rows), title="zones", says=says, why=why, tests=rows), findings)


def _reached(zone: Zone, through: ThroughIt, seen: ResolverSeen, other_view: str | None) -> Reached:
    answer, looked_up = through.answer, through.found
    assert looked_up is not None
    own = {value for telling in looked_up.usable for value in telling.values}
    if other_view is not None and answer.values and not seen.tried.duty.view:
        return Reached(zone, Reach.OWN, f"the one of the view {other_view}", through)
    if other_view is not None and answer.values:
        return Reached(zone, Reach.ELSEWHERE, f"the zone of the view {other_view}, by its contents", through)
    if set(answer.values) & own:
        return Reached(zone, Reach.OWN, f"serial {soa_fields(answer.values[0]).serial}", through)
    if not own:
        why = looked_up.trouble or "its own servers gave no usable answer"
        return Reached(zone, Reach.UNKNOWN, f"nothing to compare with: {why}", through)
    if answer.unasked:
        return Reached(zone, Reach.UNKNOWN, answer.trouble or "not asked", through)
    unchecked = seen.unchecked.get((zone.apex, SOA))
    if answer.status == "SERVFAIL" and unchecked is not None and unchecked.trouble is None:
        return Reached(zone, Reach.BOGUS, f"does not validate: {validation_error(answer)}", through)
    if answer.trouble is not None:
        return Reached(zone, Reach.NOT, answer.trouble, through)
    if not answer.values:
        return Reached(zone, Reach.ELSEWHERE, _denied_by(through, zone.apex), through)
    given = soa_fields(answer.values[0])
    for other, lookup in seen.others:
        if other.apex == zone.apex and set(answer.values) & set(lookup.values):
            if not seen.tried.duty.view:
                return Reached(zone, Reach.OWN, f"the one of the view {other.view}", through)
            return Reached(zone, Reach.ELSEWHERE, f"the zone of the view {other.view}", through)
    ours = [soa_fields(value) for value in own]
    if all(given.mname != one.mname for one in ours):
        return Reached(zone, Reach.ELSEWHERE, f"another zone of that name, of {to_text(given.mname)}", through)
    if all((ahead(given.serial, one.serial) or 0) > 0 for one in ours):
        return Reached(zone, Reach.OWN, f"serial {given.serial}, newer than what was just seen", through)
    left = f" for another {duration(answer.ttl)}" if answer.ttl else ""
    whole = max((t.answers[0].ttl or 0 for t in looked_up.usable if t.values), default=0)
    longer = answer.ttl is not None and answer.ttl > whole and not answer.authoritative
    return Reached(zone, Reach.HELD_ON if longer else Reach.OLD, f"serial {given.serial}{left}", through)


def _denied_by(through: ThroughIt, apex: Name) -> str:
    """Return who says that there is no such zone, as far as the denial tells."""
    for record in through.answer.sections.authority:
        if record.rdtype == SOA and is_within(apex, record.owner):
            if is_placeholder(record):
                return f"no such zone, since it holds an empty {to_text(record.owner)} itself (RFC 6303)"
            who = "the root" if record.owner == ROOT else to_text(record.owner)
            return f"no such zone, by the servers of {who}"
    return "no such zone"

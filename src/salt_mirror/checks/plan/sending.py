"""Before and after changes are sent: how many are too many, in which order they go, and what a server's answer means.

Strategy: no socket here. Forward zones go before the reverse ones, and a pointer whose name was left as it was is left too. An
answer is told with what usually is behind it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from salt_mirror.checks.common.expected import Expects
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sets import Plan, PlannedSet, SetKey
from salt_mirror.checks.plan.sheet import Carried
from salt_mirror.dns.edits import CHANGED_SINCE, Reply
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import OTHER_CLOCK, OTHER_SECRET, UNKNOWN_KEY, Server
from salt_mirror.dns.records import ADDRESS_TYPES, CNAME, MX, TARGET_AT, type_text
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.findings import Outcome

MOST_UNASKED = 100
"""More sets than this are changed only where somebody says how many may be."""
SHARE_UNASKED = 0.05
"""And so are more than this share of a zone's names, where that is more than `FEW_OF_A_ZONE`."""
FEW_OF_A_ZONE = 25

_MEANS = {
    "REFUSED": "it refuses the change: the key may not change this zone, or it takes none from here",
    "NOTAUTH": "it is not authoritative for the zone, or only a secondary, or wants a key (update, update_key in the zone)",
    "NOTZONE": "it says that a name is not in the zone",
    "NOTIMP": "it takes no dynamic updates",
    "FORMERR": "it does not understand the change",
    "SERVFAIL": "it failed; a directory server says so of a record that another account owns",
    UNKNOWN_KEY: "it does not know the key (BADKEY): it is not set up there, or under another name",
    OTHER_SECRET: "its key has another secret than ours (BADSIG)",
    OTHER_CLOCK: "its clock and ours are too far apart for signatures (BADTIME)",
}


DONE, WOULD_BE_DONE = "done", "it would be carried out"
"""What became of a set that was changed, and of one that was only tried."""


def carried(key: SetKey, outcome: Outcome, says: str) -> Carried:
    """Return what became of a set, as it is reported."""
    return Carried(
        view=key.view,
        zone=to_text(key.zone),
        name=to_text(key.name),
        type=type_text(key.rdtype),
        outcome=outcome,
        says=says,
    )


def too_much(plan: Plan, names: Mapping[tuple[str, Name], int], at_most: int | None) -> str:
    """Return why a plan is too large to be sent unasked, or nothing. `names` counts those that were seen in each zone."""
    why = too_many(len(plan.sets), at_most)
    if why or at_most is not None:
        return why
    for (view, zone), sets in plan.zones.items():
        seen = names.get((view, zone), 0)
        if len(sets) > max(FEW_OF_A_ZONE, SHARE_UNASKED * seen):
            return (
                f"the plan changes {len(sets)} sets of {to_text(zone)}, where {many(seen, 'name')} were looked at; more than "
                f"{SHARE_UNASKED:.0%} of a zone need --at-most {len(plan.sets)}"
            )
    return ""


def takes_away(plan: Plan, expects: Expects) -> str:
    """Return in words what a plan takes away, and how much of that no list asks for; empty where it takes nothing away."""
    records = unlisted = 0
    for planned in plan.sets:
        key, gone = planned.key, planned.before - planned.after
        records += len(gone)
        wanted = expects.set_at(key.view, key.name, key.rdtype)
        if wanted is None:
            unlisted += len(gone)
    if not records:
        return ""
    parts = [f"It removes {many(records, 'record')}"]
    parts += [f"{unlisted} of them in no list"] if unlisted else []
    after = {
        (planned.key.view, planned.key.name)
        for planned in plan.sets
        if planned.key.rdtype in (*ADDRESS_TYPES, CNAME) and planned.after
    }
    bare = {
        (planned.key.view, planned.key.name)
        for planned in plan.sets
        if planned.key.rdtype in ADDRESS_TYPES and planned.before and not planned.after
    } - after
    parts += [f"all A or all AAAA records of {many(len(bare), 'name')} among them"] if bare else []
    return ", ".join(parts) + "."


def too_many(number: int, at_most: int | None) -> str:
    """Return why so many changes are not sent unasked, or nothing."""
    if at_most is not None:
        return f"the plan has {many(number, 'change')}, and --at-most allows {at_most:,}" if number > at_most else ""
    if number > MOST_UNASKED:
        return f"the plan has {number:,} changes; more than {MOST_UNASKED} need --at-most {number}"
    return ""


def by_server(sets: Iterable[PlannedSet]) -> list[tuple[str, Name, Server, list[PlannedSet]]]:
    """Return the sets that can be sent, in the order in which they go: what others lean on first, across all zones, then what
    leans on it (MX, SRV, aliases, pointers), and what only goes at last; so that at no moment a record leads to a host that is
    not there yet. The sets of one name stay in one message."""
    turns: dict[tuple[str, Name, Name], int] = {}
    listed = [one for one in sets if one.server is not None]
    for planned in listed:
        key = (planned.key.view, planned.key.zone, planned.key.name)
        turns[key] = max(turns.get(key, _BASE), _turn(planned))
    found: dict[tuple[int, str, Name], list[PlannedSet]] = {}
    for planned in listed:
        turn = turns[planned.key.view, planned.key.zone, planned.key.name]
        found.setdefault((turn, planned.key.view, planned.key.zone), []).append(planned)
    # Within a turn forward zones go first: a PTR record may wait for its host, a host is of no use without its address.
    order = sorted(found.items(), key=lambda item: (item[0][0], is_reverse(item[0][2])))
    return [(view, zone, told[0].server, told) for (_, view, zone), told in order if told[0].server is not None]


def in_order(sets: Iterable[PlannedSet]) -> list[PlannedSet]:
    """Return the sets in the order in which they are sent; last those for which no server is known."""
    listed = list(sets)
    return [one for *_, told in by_server(listed) for one in told] + [one for one in listed if one.server is None]


_BASE, _LEANING, _GOING = range(3)


def _turn(planned: PlannedSet) -> int:
    """Return when a set goes: bases, what leans on them, what only takes away."""
    if not planned.after - planned.before and planned.before - planned.after:
        return _GOING
    return _LEANING if planned.key.rdtype in TARGET_AT else _BASE


def leans_on(planned: PlannedSet, names: Iterable[Name]) -> bool:
    """Return whether a set leads, or led, to one of some names: it does not come before them, and does not go where they
    stay."""
    at = TARGET_AT.get(planned.key.rdtype)
    if at is None:
        return False
    return bool({value[at:] for value in planned.before ^ planned.after} & frozenset(names))


def meaning(reply: Reply, sets: Iterable[PlannedSet], *, signed: bool = True) -> str:
    """Return what an answer to a change of some sets means, for people; `signed` whether the change was."""
    if reply.trouble and reply.status in ("", "NOERROR"):
        return reply.trouble
    text = _MEANS.get(reply.status, f"it answered {reply.status}")
    if reply.status == "REFUSED" and not signed:
        text = "it refuses the change, which was sent without a key (update_key in the zone), or takes none from here"
    if reply.status == "REFUSED" and any(one.key.rdtype == MX and one.after for one in sets):
        text += "; BIND refuses an MX record too whose host is in the zone and has no address there"
    if reply.status in CHANGED_SINCE:
        text = "changed since it was looked at"
    # What it says comes first: how it signed that says nothing about why it refuses.
    return f"{text}; {reply.trouble}" if reply.trouble and not reply.sent_back else text

"""A watch in words: lines for events, the state of each vantage, and the findings at its end.

Strategy: the same words for the live view, for plain lines and for the report; times are given in the local zone.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from salt_mirror.checks.common.wording import duration, no_word_of, state
from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Slot, Watch
from salt_mirror.checks.settle.rows import rows_of
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.findings import Finding

SAID = {"waiting": "not asked yet", "new": "new", "old": "old", "no": "NXDOMAIN or NODATA", "silent": "no answer"}


def goal_text(goal: Goal) -> str:
    """Return a goal as people say it."""
    values = ", ".join(sorted(rdata_text(goal.rdtype, value) for value in goal.values))
    wanted = f"has {values}" if goal.among_others else f"is {values}" if values else "is gone"
    return f"{to_text(goal.name)} {type_text(goal.rdtype)} {wanted}"


def headline(watch: Watch) -> str:
    """Return how many have the new state, how many of them have settled, and when the last one is due."""
    rows = rows_of(watch)
    settled = sum(row.settled for row in rows)
    if settled == len(rows):
        return f"All {len(rows)} have settled."
    line = _holding(watch, sum(set(row.states) == {"new"} for row in rows), settled, len(rows))
    last = watch.last_due()
    if last is not None:
        left = max(0, round(last - watch.now))
        return f"{line}; the last is due {local_day(last)}, in {duration(left)}."
    lagging = [row.vantage for row in rows if row.kind == "authoritative" and not row.settled]
    return f"{line}; waiting for {', '.join(lagging)}." if lagging else f"{line}."


def _holding(watch: Watch, reached: int, settled: int, total: int) -> str:
    """Return how many have it, or no longer have it where all that is watched for is to go."""
    what = "it" if len({slot.goal for slot in watch.slots}) == 1 else "all of it"
    verb = "has" if reached == 1 else "have"
    no_longer = "" if any(slot.goal.values for slot in watch.slots) else "no longer "
    line = f"{reached} of {total} {no_longer}{verb} {what}"
    return line if reached == settled else f"{line}, {settled} settled"


def local(moment: float) -> str:
    """Return a moment as the time of day here."""
    return f"{datetime.fromtimestamp(moment).astimezone():%H:%M:%S}"


def local_day(moment: float) -> str:
    """Return a moment to come as the day of the week and the time of day here: a TTL may end tomorrow."""
    return f"{datetime.fromtimestamp(moment).astimezone():%a %H:%M:%S}"


def event_text(slot: Slot, several: bool) -> str:
    """Return what was just seen at a slot, in one line."""
    what = f" {to_text(slot.goal.name)} {type_text(slot.goal.rdtype)}" if several else ""
    said = slot.last
    line = f"{slot.vantage.server.label}{what}: {SAID[slot.state]}"
    if said is None:
        return line
    if said.trouble is not None:
        return f"{line} ({said.trouble})"
    values = ", ".join(rdata_text(slot.goal.rdtype, value) for value in said.values)
    line += f" {values}" if values else ""
    if slot.settled_at is not None:
        return f"{line}: settled"
    if slot.vantage.cache and said.ttl is not None:
        line += f", for another {duration(said.ttl)}, until {local_day(said.at + said.ttl)}"
    return line


def findings_of(watch: Watch) -> Iterator[Finding]:
    """Return what is to be said at the end of a watch."""
    for slot in watch.slots:
        if slot.settled_at is not None:
            continue
        goal, label, last = slot.goal, slot.vantage.server.label, slot.last
        about = {"name": goal.name, "rdtype": goal.rdtype}
        if slot.state == "silent" and last is not None:
            text = f"{label} could not be asked: {last.trouble}."
            cause = no_word_of(slot.vantage.server, last.trouble)
            yield state("settle.unverified", text, outcome="unverified", cause=cause, **about)  # type: ignore[arg-type]
        elif slot.state == "waiting":
            text = f"{label} was not asked yet: the authoritative servers do not all have it."
            yield state("settle.not-asked", text, outcome="unverified", cause="caches that were not asked yet", **about)  # type: ignore[arg-type]
        else:
            yield state("settle.not-yet", f"{event_text(slot, several=True)}.", **about)  # type: ignore[arg-type]
    goal = watch.slots[0].goal
    for vantage in {id(slot.vantage): slot.vantage for slot in watch.slots}.values():
        if "holds-on" in vantage.notes:
            text = f"{vantage.server.label} serves expired entries: {vantage.notes['holds-on']}."
            yield state("settle.serves-expired", text, name=goal.name, rdtype=goal.rdtype)
        if vantage.members > 1:
            text = (
                f"{vantage.server.label} is a pool: {vantage.members} caches with entries of their own answer at "
                f"that one address."
            )
            yield state("settle.pool", text, name=goal.name, rdtype=goal.rdtype)
    for slot in watch.slots:
        most, last = _longest_ttl(watch, slot.goal), slot.last
        if most is None or not slot.vantage.cache or last is None or not last.values or last.ttl is None:
            continue
        if slot.goal.reached(last.values) and last.ttl > most:
            label, name = slot.vantage.server.label, to_text(slot.goal.name)
            text = f"{label} keeps {name} for {last.ttl} s, and its servers give {most} s."
            yield state("settle.beyond-ttl", text, name=slot.goal.name, rdtype=slot.goal.rdtype)


def _longest_ttl(watch: Watch, goal: Goal) -> int | None:
    """Return the longest TTL that the goal's authoritative servers give it, in seconds; None when they gave none."""
    seen = [slot.last.ttl for slot in watch.authorities[goal] if slot.last is not None and slot.last.values]
    return max((ttl for ttl in seen if ttl is not None), default=None)

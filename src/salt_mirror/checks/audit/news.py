"""What of a history a channel has to be sent: what came, went, comes and goes, cannot be verified, or ends.

Strategy: no queue of events, but a difference. A channel was told everything until some moment; what has happened since is
compared with how things stand now, so that whatever was held back, or could not be delivered, is in the next message, and what
came and went meanwhile is told as that. Nothing is told twice, and nothing of before the channel was there.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from typing import NamedTuple

import msgspec

from salt_mirror.estate.file import AcceptEntry
from salt_mirror.estate.notify import Channel
from salt_mirror.findings import Finding

FLAPS_WITHIN_RUNS = 10
FLAPS = 3
"""A finding that began so often within so many runs comes and goes: that is told once, and then what comes of it."""


class Occurrence(NamedTuple):
    """A finding and when it was there: first seen, and first missed (None: it is there). `told` is whether the channel was told
    that it is, `times` how often it began since then (or within the last runs), `runs` in how many runs on end it could not be
    verified."""

    key: str
    finding: Finding
    first: datetime
    ended: datetime | None = None
    told: bool = False
    times: int = 1
    runs: int = 0

    @property
    def standing(self) -> bool:
        """Whether it is there."""
        return self.ended is None


class FailedRuns(msgspec.Struct, frozen=True, kw_only=True):
    """Runs that came to no result: since when, how many on end, and why the last one did not."""

    first: datetime
    times: int
    why: str


class StandingCounts(msgspec.Struct, frozen=True, kw_only=True):
    """What stands after the run, new or old."""

    faults: int
    cautions: int
    unverified: int


class EndingAcceptance(msgspec.Struct, frozen=True, kw_only=True):
    """An acceptance that ends, or has ended, with its last day."""

    code: str
    name: str
    reason: str
    until: str
    over: bool


class ChannelPast(NamedTuple):
    """What a history knows for one channel after its last `run`: whether the channel `is_new`, or even the history
    (`is_first`); when messages were sent, and since when none could be, with why; what has begun or ended since the channel was
    told everything; what came and went within the last runs, by key, then and now; what could not be verified in the last run;
    and what of doubts, acceptances and failed runs it was told."""

    run: int
    is_new: bool
    is_first: bool
    sent: list[datetime]
    failing: datetime | None
    why: str
    happened: list[Occurrence]
    flapped: Mapping[str, Occurrence]
    flapping: Mapping[str, Occurrence]
    doubts: list[Occurrence]
    told: Mapping[tuple[str, str], bytes]


class Marks(NamedTuple):
    """What a channel is told besides findings, to be written down with the message: rows to add, each by its kind and key, and
    rows to remove."""

    add: dict[tuple[str, str], bytes]
    remove: list[tuple[str, str]]


class ChannelNews(NamedTuple):
    """What a channel has to be sent. `passed` came and went since the last message; `flapping` comes and goes, and `calm`
    is what stopped that; `verified` could not be for a while."""

    new: list[Occurrence]
    gone: list[Occurrence]
    passed: list[Occurrence]
    flapping: list[Occurrence]
    calm: list[Occurrence]
    unverified: list[Occurrence]
    verified: list[Occurrence]
    ending: list[EndingAcceptance]
    failed: FailedRuns | None
    runs_again: FailedRuns | None
    marks: Marks

    def __bool__(self) -> bool:
        return any(self[:-1])


NOTHING_NEW = ChannelNews([], [], [], [], [], [], [], [], None, None, Marks({}, []))

DOUBT, ACCEPTANCE, FAILED, MISSED = "doubt", "acceptance", "failed", "missed"
"""The kinds of what a channel is told besides findings: the last two have one message at a time, until a run succeeds."""


def news_of(channel: Channel, past: ChannelPast, moment: datetime, accepted: Iterable[AcceptEntry] = ()) -> ChannelNews:
    """Return what a channel has to be sent after a run that began at a moment."""
    wanted, add, remove = channel.wanted, dict[tuple[str, str], bytes](), list[tuple[str, str]]()
    sorts: dict[str, list[Occurrence]] = {word: [] for word in ("new", "gone", "passed", "flapping", "calm")}
    latest = dict(past.flapped) | {one.key: one for one in past.happened}
    for one in latest.values():
        word = _sort(one, past)
        if word and _is_wanted(channel, one, word):
            sorts[word].append(past.flapping.get(one.key, one) if word == "flapping" else one)
    unverified, verified = _doubts(channel, past, add, remove)
    ending = _ending(channel, past, moment, accepted, add) if wanted.ends_within_days >= 0 else []
    again = past.told.get((FAILED, ""))
    if again is not None:
        remove.append((FAILED, ""))
    runs_again = msgspec.json.decode(again, type=FailedRuns) if again is not None else None
    return ChannelNews(
        sorts["new"], sorts["gone"], sorts["passed"], sorts["flapping"], sorts["calm"], unverified, verified, ending, None,
        runs_again, Marks(add, remove),
    )  # fmt: skip


def _sort(one: Occurrence, past: ChannelPast) -> str:
    """Return what a finding's latest life is to a channel; empty where it was told all there is."""
    was_flapping, is_flapping = one.key in past.flapped, one.key in past.flapping
    if is_flapping:
        return "" if was_flapping else "flapping"
    if was_flapping:
        return "calm"
    if one.standing:
        return "" if one.told else "new"
    return "gone" if one.told else "passed"


def _is_wanted(channel: Channel, one: Occurrence, word: str) -> bool:
    """Return whether a channel takes a finding: new ones of the weights that are sent; what is gone of the same, and of
    faults in any case."""
    wanted, finding = channel.wanted, one.finding
    if finding.weight == "note" or not channel.takes(finding):
        return False
    if finding.code == "accept.expired" and wanted.ends_within_days >= 0:
        return False  # told with the acceptance
    new = wanted.new_fault if finding.weight == "fault" else wanted.new_caution
    goes = wanted.gone and (new or (finding.weight == "fault" and not wanted.new_caution))
    if word == "gone":
        return goes
    if word == "new":
        return new
    return new or goes


def _doubts(
    channel: Channel, past: ChannelPast, add: dict[tuple[str, str], bytes], remove: list[tuple[str, str]]
) -> tuple[list[Occurrence], list[Occurrence]]:
    """Return what could not be verified in so many runs as is wished, and what of that can be again."""
    runs = channel.wanted.unverified_runs
    if not runs:
        return [], []
    encode = msgspec.json.encode
    found = []
    for one in past.doubts:
        old = past.is_first or (past.is_new and one.runs > 1)
        if (one.runs >= runs or old) and (DOUBT, one.key) not in past.told and channel.takes(one.finding):
            add[DOUBT, one.key] = encode((one.first, one.finding))
            if not old:
                found.append(one)
    present = {one.key for one in past.doubts}
    verified = []
    for (kind, key), blob in past.told.items():
        if kind == DOUBT and key not in present:
            first, finding = msgspec.json.decode(blob, type=tuple[datetime, Finding])
            remove.append((kind, key))
            verified.append(Occurrence(key, finding, first))
    return found, verified


def _ending(
    channel: Channel,
    past: ChannelPast,
    moment: datetime,
    accepted: Iterable[AcceptEntry],
    add: dict[tuple[str, str], bytes],
) -> list[EndingAcceptance]:
    """Return the acceptances that end soon, and those that have ended, each told once."""
    today = moment.date()
    found = []
    for entry in accepted:
        if entry.until is None or entry.until - today > timedelta(days=channel.wanted.ends_within_days):
            continue
        over = today > entry.until
        where = " ".join(filter(None, (entry.name, entry.address, entry.server)))
        key = (ACCEPTANCE, "|".join((entry.code, where, entry.view or "", entry.until.isoformat(), "over" * over)))
        if key in past.told or (channel.views and entry.view and entry.view not in channel.views):
            continue
        one = EndingAcceptance(
            code=entry.code, name=where, reason=entry.reason, until=entry.until.isoformat(), over=over
        )
        add[key] = msgspec.json.encode(one)
        if not (over and past.is_new):
            found.append(one)
    return found

"""What a history says in a sentence: what is new, how long the rest took to mend, and what comes back, and when.

Strategy: a finding comes back that began three times or more. It comes at a weekday or at an hour where nearly all its begins
lie there, and runs at other days or hours would have seen it as well: where runs are only on Mondays, all begin on a Monday.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable
from datetime import datetime

from salt_mirror.checks.audit.chronicle import WEEK, Chronicle, Recurrence, Stood
from salt_mirror.checks.common.wording import duration, many, together_said

_OFTEN = 3
"""So many begins are a habit."""
_NEARLY_ALL = 0.8
_MOST_NAMED = 3
_HOURS_APART = 3
"""Runs at so many different hours tell at which one something comes."""


def recurrences(chronicle: Chronicle) -> list[Recurrence]:
    """Return the findings that come back, the most frequent first."""
    begins: dict[str, list[Stood]] = defaultdict(list)
    for life in chronicle.lives:
        begins[life.key].append(life)
    runs = [run.started.astimezone() for run in chronicle.runs]
    days = Counter(run.weekday() for run in runs)
    hours = Counter(run.hour for run in runs)
    found = []
    for lives in begins.values():
        if len(lives) < _OFTEN:
            continue
        moments = [life.first.astimezone() for life in lives]
        weekday = _habit(moments, datetime.weekday, days, len(days) > 1)
        weeks = {moment.isocalendar()[:2] for moment in moments}
        if len(weeks) < _OFTEN:
            weekday = None
        hour = (
            _habit(moments, lambda moment: moment.hour, hours, len(hours) >= _HOURS_APART) if weekday is None else None
        )
        if len({moment.date() for moment in moments}) < _OFTEN:
            hour = None
        one = lives[0]
        found.append(
            Recurrence(code=one.code, view=one.view, name=one.name, times=len(lives), weekday=weekday, hour=hour)
        )
    return sorted(found, key=lambda one: (-one.times, one.code, one.name))


def _habit(moments: list[datetime], part: Callable[[datetime], int], runs: Counter[int], elsewhere: bool) -> int | None:
    """Return the weekday or hour at which nearly all moments lie; None where there is none, or runs were hardly elsewhere."""
    value, times = Counter(map(part, moments)).most_common(1)[0]
    others = sum(runs.values()) - runs[value]
    if not elsewhere or times < _NEARLY_ALL * len(moments) or others < runs[value]:
        return None
    return value


def in_words(chronicle: Chronicle) -> str:
    """Return how a history stands, in one sentence: what is open, what of the last week is new and mended, and what of its
    `recurring` comes back."""
    if not chronicle.runs:
        return "No run yet."
    latest = chronicle.runs[0].started
    standing = chronicle.standing()
    faults = sum(life.weight == "fault" for life in standing)
    parts = []
    new = chronicle.new()
    if new:
        parts.append(f"{len(new):,} new this week")
    mended = sorted(
        (life.ended - life.first).total_seconds()
        for life in chronicle.lives
        if life.ended is not None and life.ended > latest - WEEK
    )
    if mended:
        parts.append(f"{len(mended):,} mended {_in_times(mended)}")
    parts += _again(chronicle.recurring)
    begin = f"{many(faults, 'fault')} and {many(len(standing) - faults, 'caution')} open"
    if chronicle.runs[0].unverified:  # what nobody could verify is not said to be well
        begin += f", {chronicle.runs[0].unverified:,} unverified in the last run"
    return f"{begin}: {', '.join(parts)}." if parts else f"{begin}; nothing new, mended or coming back this week."


def _in_times(seconds: list[float]) -> str:
    """Return in what times something was mended, the shortest first; of many the range."""
    shown = list(dict.fromkeys(duration(_round(one)) for one in seconds))
    if len(shown) <= _MOST_NAMED:
        return f"in {together_said(shown)}"
    return f"in {shown[0]} to {shown[-1]}"


def _round(seconds: float) -> int:
    """Return a time with one unit that counts: minutes of hours, or hours of days, say nothing here."""
    grain = 86_400 if seconds >= 2 * 86_400 else 3_600 if seconds >= 7_200 else 60
    return max(grain, round(seconds / grain) * grain) if seconds >= 60 else round(seconds)


def _again(found: Iterable[Recurrence]) -> list[str]:
    """Return what comes back, by when it does."""
    by_time: dict[str, list[Recurrence]] = defaultdict(list)
    for one in found:
        by_time[one.says].append(one)
    said = []
    for when, some in by_time.items():
        named = [f"{one.name.partition('.')[0] or one.name}: {one.times} times" for one in some[:_MOST_NAMED]]
        more = f", and {len(some) - _MOST_NAMED:,} more" if len(some) > _MOST_NAMED else ""
        comes = "comes" if len(some) == 1 else "come"
        said.append(f"{len(some):,} {comes} back {when} ({', '.join(named)}{more})")
    return said

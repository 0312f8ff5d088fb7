"""What a history tells when it is read as a whole: faults by day and check, each zone's days, what is new, what stands longest.

Strategy: plain data from the runs, their zones and the lives of findings. A day is one of UTC, and what it shows is its last
run; a day without a run shows nothing, since nobody looked.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable
from datetime import date, datetime, timedelta
from typing import Literal

import msgspec

from salt_mirror.checks import check_of
from salt_mirror.checks.audit.lines import Life, Run
from salt_mirror.findings import Outcome, Weight

WEEK = timedelta(days=7)
_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


class ZoneRun(msgspec.Struct, frozen=True, kw_only=True):
    """What one run said of one zone in one view."""

    started: datetime
    view: str
    zone: str
    outcome: Outcome | Literal["unchanged"]
    faults: int
    unverified: int


class Stood(msgspec.Struct, frozen=True, kw_only=True):
    """A fault or a caution and when it stood: seen first and last, and when it was first seen to be gone. `key` is the same for
    the same finding from run to run."""

    code: str
    weight: Weight
    view: str
    name: str
    zone: str
    text: str
    first: datetime
    last: datetime
    ended: datetime | None
    key: str = ""


class Mended(msgspec.Struct, frozen=True, kw_only=True):
    """How long the faults of one check stood until they were gone: how many, and the mean in seconds."""

    check: str
    faults: int
    mean_seconds: float


class Recurrence(msgspec.Struct, frozen=True, kw_only=True):
    """A finding that came back: how many `times` it began, and where there is such a habit on which weekday (0 is Monday), or
    in which hour of the day, both of this computer's time."""

    code: str
    view: str
    name: str
    times: int
    weekday: int | None = None
    hour: int | None = None

    @property
    def says(self) -> str:
        """When it comes back."""
        if self.weekday is not None:
            return f"every {_WEEKDAYS[self.weekday]}"
        return f"at about {self.hour:02d}:00" if self.hour is not None else "again and again"


class Chronicle(msgspec.Struct, frozen=True, kw_only=True):
    """A history as a whole: its runs `about` one and the same (everything, where that is empty), the latest first, what they
    said of zones, and the lives of findings; `says` is how it stands, `recurring` what comes back."""

    schema: Literal["salt-mirror/history/1"] = "salt-mirror/history/1"
    says: str = ""
    runs: list[Run]
    about: str = ""
    recurring: list[Recurrence] = []
    zones: list[ZoneRun] = []
    lives: list[Stood] = []
    matching: list[Life] | msgspec.UnsetType = msgspec.UNSET

    def days(self) -> list[date]:
        """Return every day from the first run to the last."""
        seen = [run.started.date() for run in self.runs]
        if not seen:
            return []
        return [min(seen) + timedelta(days=number) for number in range((max(seen) - min(seen)).days + 1)]

    def faults_by_day(self) -> dict[date, Counter[str]]:
        """Return how many faults of each check stood at the last run of each day that had one."""
        last = {run.started.date(): run.started for run in reversed(self.runs)}
        days = sorted(last)
        moments = [last[day] for day in days]
        # Where each life begins and ends among the days, and not each day over all lives: years have many of both.
        begun = [Counter[str]() for _ in range(len(days) + 1)]
        for life in self.lives:
            if life.weight == "fault":
                check = check_of(life.code).name
                begun[bisect_left(moments, life.first)][check] += 1
                if life.ended is not None:
                    begun[bisect_left(moments, life.ended)][check] -= 1
        found, standing = dict[date, Counter[str]](), Counter[str]()
        for day, more in zip(days, begun, strict=False):
            standing.update(more)
            found[day] = Counter({check: number for check, number in standing.items() if number})
        return {day: found[day] for day in last}

    def zone_days(self) -> dict[tuple[str, str], dict[date, ZoneRun]]:
        """Return what the last run of each day said of each zone, by view and zone."""
        found: dict[tuple[str, str], dict[date, ZoneRun]] = {}
        for zone_run in sorted(self.zones, key=lambda one: one.started):
            found.setdefault((zone_run.view, zone_run.zone), {})[zone_run.started.date()] = zone_run
        return found

    def new(self) -> list[Stood]:
        """Return faults and cautions of the last seven days that stand, the latest first; not those of the very first run."""
        if not self.runs:
            return []
        latest, first = self.runs[0].started, self.runs[-1].started
        lives = [life for life in self.standing() if life.first > max(first, latest - WEEK)]
        return sorted(lives, key=lambda life: life.first, reverse=True)

    def standing(self) -> list[Stood]:
        """Return faults and cautions that stand, the longest first."""
        return sorted((life for life in self.lives if life.ended is None), key=lambda life: life.first)

    def mended(self) -> list[Mended]:
        """Return how long faults stood until they were gone, by check: at most so long, since a run sees it some time after."""
        times: dict[str, list[float]] = {}
        for life in self.lives:
            if life.ended is not None and life.weight == "fault":
                times.setdefault(check_of(life.code).name, []).append((life.ended - life.first).total_seconds())
        return [
            Mended(check=check, faults=len(some), mean_seconds=sum(some) / len(some)) for check, some in times.items()
        ]


def narrowed(whole: Chronicle, since: datetime | None, zones: Iterable[str]) -> Chronicle:
    """Return a chronicle since a moment, for some zones only; its runs are not filtered by zone."""
    apexes = {zone.rstrip(".").lower() for zone in zones}

    def wanted(zone: str, name: str = "") -> bool:
        within = zone.rstrip(".").lower()
        return not apexes or within in apexes or (not zone and any(f".{name}".endswith(f".{one}.") for one in apexes))

    return Chronicle(
        about=whole.about,
        runs=[run for run in whole.runs if since is None or run.started >= since],
        zones=[one for one in whole.zones if (since is None or one.started >= since) and wanted(one.zone)],
        lives=[
            life
            for life in whole.lives
            if wanted(life.zone, life.name) and (since is None or life.ended is None or life.ended >= since)
        ],
    )

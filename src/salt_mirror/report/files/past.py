"""A history as one HTML page: the picture, what is new and what stands longest, each zone's line of days.

Strategy: like the page of a report it makes no outside request, and everything in it is escaped; the picture stands in it as an
image.
"""

from __future__ import annotations

import base64
from datetime import datetime
from importlib.resources import files
from typing import Any

from markupsafe import Markup

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.chronicle import Chronicle, Stood
from salt_mirror.checks.common.wording import many, rounded
from salt_mirror.report.cleaning import clean
from salt_mirror.report.figures.history import draw
from salt_mirror.report.files.templates import hash_of, template

_FOLDER = files("salt_mirror.report") / "files" / "page"
_MOST_DAYS = 28
_MOST_ROWS = 25
_MOST_ZONES = 200


def headline(chronicle: Chronicle) -> str:
    """Return the history in one sentence: how it stands, and whether that is more or less than a week before."""
    if not chronicle.runs:
        return "No run yet."
    now = chronicle.runs[0]
    words = [many(now.faults, "fault") if now.faults else "no faults", many(now.cautions, "caution")]
    before = next((run for run in chronicle.runs if (now.started - run.started).days >= 7), chronicle.runs[-1])
    end = f", {now.unverified:,} unverified" if now.unverified else ""
    if before is now:
        return f"{words[0][0].upper()}{words[0][1:]}, {words[1]}{end}."
    change = now.faults - before.faults
    than = f"{before.started:%d %b}"
    trend = (
        f"{many(abs(change), 'fault')} {'more' if change > 0 else 'fewer'} than on {than}"
        if change
        else f"as on {than}"
    )
    return f"{words[0][0].upper()}{words[0][1:]}, {words[1]}{end}; {trend}."


def written(chronicle: Chronicle, source: str) -> bytes:
    """Return the whole page; `source` is the history's file."""
    style = (_FOLDER / "page.css").read_text(encoding="utf-8") + (_FOLDER / "past.css").read_text(encoding="utf-8")
    picture = base64.b64encode(draw(chronicle, "svg", size=(11.6, 4.2))).decode("ascii") if chronicle.runs else ""
    days = chronicle.days()[-_MOST_DAYS:]
    latest = chronicle.runs[0] if chronicle.runs else None
    now = latest.started if latest is not None else None
    standing, new = chronicle.standing(), chronicle.new()
    zones = sorted(chronicle.zone_days().items(), key=lambda item: _badness(item[1]))
    page: str = template("past.html.j2").render(
        source=source,
        headline=headline(chronicle),
        words=chronicle.says,
        runs=sum(run.runs for run in chronicle.runs),
        outcome=latest.outcome if latest is not None else "unverified",
        chronicle=chronicle,
        latest=latest,
        picture=Markup(f"data:image/svg+xml;base64,{picture}") if picture else "",
        said=_in_words(chronicle),
        days=days,
        zones=zones[:_MOST_ZONES],
        zones_left=max(0, len(zones) - _MOST_ZONES),
        new=[_row(one, now) for one in new[:_MOST_ROWS]],
        new_left=max(0, len(new) - _MOST_ROWS),
        longest=[_row(one, now) for one in standing[:_MOST_ROWS]],
        longest_left=max(0, len(standing) - _MOST_ROWS),
        mended=[(one.check, one.faults, rounded(round(one.mean_seconds))) for one in chronicle.mended()],
        mean=_mean(chronicle),
        style=Markup(style),
        policy=f"default-src 'none'; img-src data:; style-src '{hash_of(style)}'; base-uri 'none'; form-action 'none'",
    )
    return page.encode("utf-8")


def _badness(days: dict[Any, Any]) -> tuple[int, int]:
    last = list(days.values())[-1]
    return -last.faults, -last.unverified


def _row(one: Stood, now: datetime | None) -> dict[str, str]:
    stood = rounded(max(0, round((now - one.first).total_seconds()))) if now is not None else ""
    return {
        "weight": one.weight, "title": catalogue()[one.code].title, "code": one.code, "name": clean(one.name),
        "view": clean(one.view), "text": clean(one.text), "first": f"{one.first:%Y-%m-%d %H:%M}", "stood": stood,
    }  # fmt: skip


def _mean(chronicle: Chronicle) -> tuple[str, int] | None:
    """Return how long a fault stood in the mean until it was gone, and how many those were."""
    mended = chronicle.mended()
    number = sum(one.faults for one in mended)
    if not number:
        return None
    return rounded(round(sum(one.mean_seconds * one.faults for one in mended) / number)), number


def _in_words(chronicle: Chronicle) -> str:
    """Return the picture for who does not see it."""
    parts = [
        f"{day:%d %b}: {', '.join(f'{count} of {check}' for check, count in by_check.most_common()) or 'none'}"
        for day, by_check in sorted(chronicle.faults_by_day().items())
    ]
    return clean(f"Open faults at the last run of each day. {'; '.join(parts)}.")

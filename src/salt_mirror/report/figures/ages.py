"""The figure of ages: records by their age with the limits of their zones, and what scavenging takes in the coming weeks.

Strategy: drawn from the report's sheet alone. Static records stand apart, since they have no age. Matplotlib is imported when a
figure is drawn, and never before.
"""

from __future__ import annotations

import io
from datetime import date, timedelta
from typing import Any

from salt_mirror.checks.stale.sheet import AgeSheet
from salt_mirror.report.cleaning import clean

_FRESH, _AGED, _STATIC, _NEEDED = "#2f7d4f", "#d9a441", "#8a929a", "#b5453c"
_BARS = 60


def draw_ages(form: str, title: str, sheet: AgeSheet) -> bytes:
    """Return a sheet drawn as `png` or `svg`."""
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt

    plt.rcParams["text.parse_math"] = False
    figure, (top, bottom) = plt.subplots(2, 1, figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(clean(title), fontsize=12, x=0.01, ha="left")
    _draw_days(top, sheet)
    _draw_forecast(bottom, sheet)
    out = io.BytesIO()
    figure.savefig(out, format=form)
    plt.close(figure)
    return out.getvalue()


def _draw_days(axes: Any, sheet: AgeSheet) -> None:
    """How many dynamic records were last refreshed how many days ago, with the limits."""
    limits = {
        ((ages.no_refresh_h or 0) / 24, ((ages.no_refresh_h or 0) + ages.refresh_h) / 24)
        for ages in sheet.zones
        if ages.no_refresh_h is not None and ages.refresh_h is not None
    }
    longest = max([*sheet.days, *(int(aged) + 1 for _, aged in limits)], default=1) + 1
    width = max(1, -(-longest // _BARS))
    bars: dict[int, int] = {}
    for day, number in sheet.days.items():
        bars[day // width] = bars.get(day // width, 0) + number
    aged_at = min((aged for _, aged in limits), default=None)
    colours = [_AGED if aged_at is not None and bar * width >= aged_at else _FRESH for bar in bars]
    axes.bar([(bar + 0.5) * width for bar in bars], list(bars.values()), width * 0.9, color=colours)
    axes.bar([-1.5 * width], [sheet.static], width * 1.8, color=_STATIC, hatch="///", edgecolor="white")
    axes.text(-1.5 * width, sheet.static, f"static\n{sheet.static:,}", ha="center", va="bottom", fontsize=9)
    top = max([*bars.values(), sheet.static, 1])
    axes.set_ylim(0, top * 1.25)
    marks = sorted({(fresh, "refresh begins") for fresh, _ in limits} | {(aged, "aged") for _, aged in limits})
    for row, (at, words) in enumerate(marks):
        axes.axvline(at, color="#30363d", linestyle="--", linewidth=1)
        axes.text(at, top * (1.22 - 0.07 * (row % 3)), f" {words} ({at:.0f} d)", fontsize=9, va="top")
    axes.set_xlabel("days since the last refresh" + (f", {width} to a bar" if width > 1 else ""))
    axes.yaxis.get_major_locator().set_params(integer=True)
    axes.set_ylabel("records")
    axes.set_title(f"{sheet.dynamic:,} dynamic records by age", loc="left", fontsize=10)
    axes.spines[["top", "right"]].set_visible(False)


def _draw_forecast(axes: Any, sheet: AgeSheet) -> None:
    """What ages away on which day, with what is needed of it."""
    axes.set_title("What scavenging takes, day by day", loc="left", fontsize=10)
    axes.spines[["top", "right"]].set_visible(False)
    if not sheet.forecast:
        axes.text(
            0.5, 0.5, "nothing in the days that were looked at", ha="center", transform=axes.transAxes, fontsize=10
        )
        axes.set_xticks([])
        axes.set_yticks([])
        return
    first = date.fromisoformat(sheet.forecast[0].day)
    places = [(date.fromisoformat(one.day) - first).days for one in sheet.forecast]
    needed = [one.needed for one in sheet.forecast]
    others = [one.records - one.needed for one in sheet.forecast]
    axes.bar(places, others, 0.8, color=_AGED, label="they are not needed")
    axes.bar(places, needed, 0.8, bottom=others, color=_NEEDED, hatch="xxx", edgecolor="white", label="still needed")
    ticks = range(0, places[-1] + 1, max(1, -(-places[-1] // 14)))
    axes.set_xticks(
        list(ticks), [str(first + timedelta(days=one)) for one in ticks], rotation=30, ha="right", fontsize=8
    )
    axes.set_xlim(-1, max(places[-1], 6) + 1)
    axes.yaxis.get_major_locator().set_params(integer=True)
    axes.set_ylabel("records")
    axes.legend(frameon=False, fontsize=9)

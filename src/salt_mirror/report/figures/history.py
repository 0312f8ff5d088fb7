"""The picture of a history: the faults that were open on each day, by check.

Strategy: bars are told apart by hatching as well as by shade, for print in black and white; a day on which nobody looked has
none. Matplotlib is imported when a picture is drawn, and never before.
"""

from __future__ import annotations

import io
from collections import Counter
from datetime import date
from typing import Any

from salt_mirror.checks.audit.chronicle import Chronicle
from salt_mirror.report.cleaning import clean

_MOST_CHECKS = 6
_LOOKS = (
    ("#8c2f23", ""), ("#d9a441", "///"), ("#2f6f8f", "..."), ("#6b5b95", "xxx"), ("#4f7d4f", "\\\\\\"), ("#b07a52", "++"),
    ("#9aa3a8", "oo"),
)  # fmt: skip


def draw(chronicle: Chronicle, form: str, title: str = "", *, size: tuple[float, float] = (12.8, 8.0)) -> bytes:
    """Return a history as `png` or `svg`; `size` in inches of 100 dots."""
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt
    from matplotlib.ticker import MaxNLocator

    plt.rcParams["text.parse_math"] = False
    figure, axes = plt.subplots(figsize=size, dpi=100, layout="constrained")
    days, by_day = chronicle.days(), chronicle.faults_by_day()
    _bars(axes, days, by_day)
    axes.set_ylabel("faults that were open")
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_ylim(bottom=0)
    axes.grid(axis="y", alpha=0.35)
    axes.set_axisbelow(True)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    if title:
        axes.set_title(clean(title), loc="left", fontweight="bold")
    drawn = io.BytesIO()
    figure.savefig(drawn, format=form)
    plt.close(figure)
    return drawn.getvalue()


def _bars(axes: Any, days: list[date], by_day: dict[date, Counter[str]]) -> None:
    totals = sum(by_day.values(), Counter[str]())
    checks = [check for check, _ in totals.most_common()]
    shown = checks if len(checks) <= _MOST_CHECKS + 1 else checks[:_MOST_CHECKS]
    foot = [0.0] * len(days)
    for check, (colour, hatch) in zip([*shown, *(["others"] if shown != checks else [])], _LOOKS, strict=False):
        heights = [
            float(
                sum(by_day.get(day, Counter())[one] for one in (checks[len(shown) :] if check == "others" else [check]))
            )
            for day in days
        ]
        axes.bar(
            range(len(days)),
            heights,
            0.8,
            bottom=foot,
            color=colour,
            hatch=hatch,
            edgecolor="white",
            linewidth=0.5,
            label=check,
        )
        foot = [low + high for low, high in zip(foot, heights, strict=True)]
    for at, day in enumerate(days):
        if day not in by_day:
            axes.text(at, 0, "no run", rotation=90, ha="center", va="bottom", color="#777777", fontsize=8)
        elif not foot[at]:
            axes.text(at, 0, "none", ha="center", va="bottom", color="#2f7d4f", fontsize=9)
    every = max(1, -(-len(days) // 11))
    axes.set_xticks(range(0, len(days), every), [f"{day:%d %b}" for day in days[::every]])
    if shown:
        axes.legend(loc="upper left", frameon=False, ncols=min(len(shown) + 1, 7), bbox_to_anchor=(0, 1.0))
        axes.margins(y=0.18)

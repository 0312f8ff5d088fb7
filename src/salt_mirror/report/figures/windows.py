"""The figure of signatures: when each one begins and ends, against now and the time that a new one needs.

Strategy: drawn from the sheets of `authority` alone, a bar for each signature of each server. Of many those that end first are
drawn, and the rest is counted. Matplotlib is imported when a figure is drawn, and never before.
"""

from __future__ import annotations

import io
from datetime import UTC, datetime
from typing import Any, NamedTuple

from salt_mirror.checks.authority.sheet import Sheet
from salt_mirror.checks.common.wording import duration
from salt_mirror.checks.signed.sheet import SignatureRow
from salt_mirror.report.cleaning import clean

_VALID, _ENDED, _EARLY, _WRONG = "#2f7d4f", "#b5453c", "#8a929a", "#d9a441"
_BEHIND = {"facecolor": "white", "edgecolor": "none", "pad": 1.0}
"""What stands behind a label, so that no line runs through it."""
_MOST_BARS = 30
_DAY_S = 86_400


class Bar(NamedTuple):
    """One signature: its label, when it begins and ends in days from now, and what it is worth."""

    label: str
    begins: float
    ends: float
    state: str


def draw_windows(form: str, title: str, sheets: list[Sheet], now: datetime) -> bytes:
    """Return the signatures of some zones drawn as `png` or `svg`."""
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt

    plt.rcParams["text.parse_math"] = False
    figure, axes = plt.subplots(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(clean(title), fontsize=12, x=0.01, ha="left")
    _draw(axes, sheets, now)
    out = io.BytesIO()
    figure.savefig(out, format=form)
    plt.close(figure)
    return out.getvalue()


def _draw(axes: Any, sheets: list[Sheet], now: datetime) -> None:
    bars = [_bar(row, now) for sheet in sheets if sheet.signed is not None for row in sheet.signed.signatures]
    axes.spines[["top", "right", "left"]].set_visible(False)
    if not bars:
        axes.text(0.5, 0.5, "no signature was seen in these zones", ha="center", transform=axes.transAxes)
        axes.set_xticks([])
        axes.set_yticks([])
        return
    shown = sorted(sorted(bars, key=lambda bar: bar.ends)[:_MOST_BARS], key=lambda bar: bar.label, reverse=True)
    for place, bar in enumerate(shown):
        colour, hatch = _look(bar.state)
        axes.barh(place, bar.ends - bar.begins, 0.7, bar.begins, color=colour, hatch=hatch, edgecolor="white")
        word = "" if bar.state == "valid" else f": {bar.state}"
        label = f"{_end(bar)}{word}"
        axes.annotate(
            label, (bar.ends, place), (4, 0), textcoords="offset points", va="center", fontsize=8, bbox=_BEHIND, zorder=5
        )  # fmt: skip
    axes.set_yticks(range(len(shown)), [clean(bar.label) for bar in shown], fontsize=8)
    axes.set_ylim(-1, len(shown) + 0.6)
    needed = max((one.refresh_s + one.ttl_s for sheet in sheets if (one := sheet.signed) is not None), default=0)
    expire = max((one.expire_s for sheet in sheets if (one := sheet.signed) is not None), default=0)
    axes.axvline(0, color="#30363d", linewidth=1.5)
    axes.text(0, len(shown) + 0.1, " now", fontsize=9)
    if needed:
        axes.axvspan(0, needed / _DAY_S, color=_WRONG, alpha=0.25)
    if expire:
        axes.axvline(expire / _DAY_S, color="#30363d", linestyle="--", linewidth=1)
        axes.text(expire / _DAY_S, len(shown) + 0.1, f" expire ({duration(expire)})", fontsize=9)
    left = min(bar.begins for bar in shown)
    right = max(*(bar.ends for bar in shown), expire / _DAY_S)
    axes.set_xlim(left - 0.02 * (right - left), right + 0.22 * (right - left))
    axes.set_xlabel(
        f"days from now ({now.astimezone(UTC):%Y-%m-%d %H:%M} UTC); shaded: a new signature needs up to {duration(needed)} "
        "to reach "
        "every server and cache (refresh and TTL)"
    )
    more = f", {len(bars) - len(shown):,} more end later" if len(bars) > len(shown) else ""
    axes.set_title(f"{len(shown):,} signatures from their beginning to their end{more}", loc="left", fontsize=10)


def _bar(row: SignatureRow, now: datetime) -> Bar:
    begins, ends = (datetime.fromisoformat(text) for text in (row.begins, row.ends))
    return Bar(
        f"{row.set} on {row.server}",
        (begins - now).total_seconds() / _DAY_S,
        (ends - now).total_seconds() / _DAY_S,
        row.state,
    )


def _look(state: str) -> tuple[str, str]:
    """Return a bar's colour and its hatch, so that colour is not all that tells it."""
    return {"valid": (_VALID, ""), "expired": (_ENDED, "xxx"), "not valid yet": (_EARLY, "///")}.get(
        state, (_WRONG, "...")
    )


def _end(bar: Bar) -> str:
    days = abs(bar.ends)
    said = f"{days:.0f} d" if days >= 2 else f"{days * 24:.0f} h"
    return f"ends in {said}" if bar.ends > 0 else f"ended {said} ago"

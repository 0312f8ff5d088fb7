"""The figure of a watch: the share that has settled over time, and a strip for each vantage.

Strategy: drawn from the sightings alone, so that a journal can be rendered long after. States are told apart by hatching as
well as by shade, for print in black and white. Matplotlib is imported when a figure is drawn, and never before.
"""

from __future__ import annotations

import io
from datetime import datetime
from typing import Any, NamedTuple

from salt_mirror.checks.settle.wording import SAID, local_day
from salt_mirror.report.cleaning import clean

_LOOKS = {
    "new": ("#2f7d4f", ""),
    "old": ("#d9a441", "///"),
    "no": ("#f2e3b3", "..."),
    "silent": ("#b5453c", "xxx"),
    "waiting": ("#e8eaed", ""),
}
_MOST_STRIPS = 40


class Dot(NamedTuple):
    """One sighting as the figure needs it: seconds since 1970, the vantage, whether a cache, the goal, the state, settled."""

    at: float
    vantage: str
    cache: bool
    goal: int
    state: str
    settled: bool


class Bound(NamedTuple):
    """The moment (seconds since 1970) by which the last cache had to let go, and where that comes from."""

    at: float
    says: str


def draw(
    form: str,
    title: str,
    dots: list[Dot],
    slots: dict[tuple[str, bool], int],
    began_at: float,
    ended_at: float,
    bound: Bound | None,
) -> bytes:
    """Return a watch drawn as `png` or `svg`, from its begin to its end (seconds since 1970): nothing is drawn of times that
    nobody has seen. `slots` says how many records each vantage (label, whether a cache) has to show."""
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt

    end = max([one.at for one in dots] + [began_at + 1, ended_at])
    shown = list(slots)[:_MOST_STRIPS]
    plt.rcParams["text.parse_math"] = False  # a value such as $_$ is what it says
    figure, (top, bottom) = plt.subplots(
        2,
        1,
        figsize=(12.8, 8.0),
        dpi=100,
        sharex=True,
        height_ratios=(2, max(2, len(shown) * 0.45)),
        layout="constrained",
    )
    scale = _Scale(began_at, end)
    if bound is not None and bound.at <= end:
        for part in (top, bottom):
            part.axvline(scale(bound.at), color="#555555", linestyle=":", linewidth=2, label=clean(bound.says))
    elif bound is not None:
        later = f"later than shown: by {local_day(bound.at)} {bound.says}"
        top.text(1, 1.06, clean(later), transform=top.transAxes, ha="right", color="#555555")
    _draw_shares(top, dots, slots, scale)
    top.set_title(clean(title), loc="left", fontweight="bold", pad=30)
    # Above the lines: wherever it stood among them, it would hide a piece of one.
    top.legend(loc="lower left", bbox_to_anchor=(-0.01, 1.0), ncols=3, frameon=False)
    _draw_strips(bottom, dots, shown, scale)
    if len(slots) > len(shown):
        more = f"{len(slots) - len(shown)} more vantages not shown"
        bottom.text(1, 1.01, more, transform=bottom.transAxes, ha="right")
    drawn = io.BytesIO()
    figure.savefig(drawn, format=form)
    plt.close(figure)
    return drawn.getvalue()


class _Scale:
    """Where moments stand on the axis of time."""

    def __init__(self, began_at: float, end: float) -> None:
        self.began_at = began_at
        self.end = end
        self.unit, self._divisor = ("minutes", 60.0) if end - began_at > 300 else ("seconds", 1.0)

    def __call__(self, moment: float) -> float:
        return (moment - self.began_at) / self._divisor


def _draw_shares(top: Any, dots: list[Dot], slots: dict[tuple[str, bool], int], scale: _Scale) -> None:
    """The upper part: the share of records that has settled, for the servers and for the caches."""
    for cache, style, name in ((False, "--", "authoritative servers"), (True, "-", "caches")):
        total = sum(number for (_, is_cache), number in slots.items() if is_cache is cache)
        if total:
            xs, ys = _share(dots, cache, total, scale.began_at, scale.end)
            places = [scale(x) for x in xs]
            top.step(places, ys, where="post", linestyle=style, color="black", linewidth=2, label=f"{name} ({total})")
    top.set_ylabel("settled, per cent")
    top.set_ylim(-3, 106)
    top.grid(alpha=0.3)


def _draw_strips(bottom: Any, dots: list[Dot], shown: list[tuple[str, bool]], scale: _Scale) -> None:
    """The lower part: a strip for each vantage, with what it was seen with."""
    from matplotlib.patches import Patch

    edge: dict[str, Any] = {"edgecolor": "#333333"}
    for row, key in enumerate(reversed(shown)):
        for begin, stop, state in _spans(dots, key, scale.began_at, scale.end):
            colour, hatch = _LOOKS[state]
            width = scale(stop) - scale(begin)
            bottom.barh(row, width, left=scale(begin), height=0.7, color=colour, hatch=hatch, linewidth=0.6, **edge)
    bottom.set_yticks(range(len(shown)), [clean(label) for label, _ in reversed(shown)])
    began = datetime.fromtimestamp(scale.began_at).astimezone()
    bottom.set_xlabel(f"{scale.unit} since {began:%Y-%m-%d %H:%M:%S %Z}")
    bottom.set_xlim(0, scale(scale.end) * 1.02 or 1)
    patches: list[Any] = [
        Patch(facecolor=colour, hatch=hatch, label=SAID[state], **edge) for state, (colour, hatch) in _LOOKS.items()
    ]
    bottom.legend(handles=patches, loc="upper center", bbox_to_anchor=(0.5, -0.12), ncols=len(patches), frameon=False)


def _share(dots: list[Dot], cache: bool, total: int, began_at: float, end: float) -> tuple[list[float], list[float]]:
    """Return the moments at which the share of settled records changed, and the share in per cent."""
    done: set[tuple[str, int]] = set()
    xs, ys = [began_at], [0.0]
    for dot in dots:
        if dot.cache is cache:
            (done.add if dot.settled else done.discard)((dot.vantage, dot.goal))
            xs.append(dot.at)
            ys.append(100.0 * len(done) / total)
    return [*xs, end], [*ys, ys[-1]]


def _spans(dots: list[Dot], key: tuple[str, bool], began_at: float, end: float) -> list[tuple[float, float, str]]:
    """Return the stretches in which a vantage was in one state; the worst one where it shows several records."""
    order = ("new", "waiting", "no", "old", "silent")
    states: dict[int, str] = {}
    spans: list[tuple[float, float, str]] = []
    since, state = began_at, "waiting"
    for dot in dots:
        if (dot.vantage, dot.cache) != key:
            continue
        states[dot.goal] = dot.state
        worst = max(states.values(), key=order.index)
        if worst != state:
            spans.append((since, dot.at, state))
            since, state = dot.at, worst
    return [*spans, (since, end, state)]

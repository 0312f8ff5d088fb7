"""The figure of a watch: the share that has settled over time, and a strip for each vantage.

Strategy: drawn from the sightings alone, so that a journal can be rendered long after. States are told apart by hatching as
well as by shade, for print in black and white. Matplotlib is imported when a figure is drawn, and never before.
"""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

from salt_mirror.checks.settling.wording import SAID

_LOOKS = {
    "new": ("#2f7d4f", ""),
    "old": ("#d9a441", "///"),
    "no": ("#f2e3b3", "..."),
    "silent": ("#b5453c", "xxx"),
    "waiting": ("#e8eaed", ""),
}
_MOST_STRIPS = 40


class Seen(NamedTuple):
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
    path: Path, title: str, seen: list[Seen], slots: dict[tuple[str, bool], int], began_at: float, bound: Bound | None
) -> None:
    """Draws a watch into a PNG or SVG file. `slots` says how many records each vantage (label, whether a cache) has to show.

    Raises OSError when it cannot be written, ValueError for a format that is neither.
    """
    if path.suffix.lower() not in (".png", ".svg"):
        raise ValueError(f"{path.name}: a figure is a .png or a .svg")
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt
    from matplotlib.patches import Patch

    end = max([one.at for one in seen] + [began_at + 1, *([bound.at] if bound is not None else [])])
    shown = list(slots)[:_MOST_STRIPS]
    figure, (top, bottom) = plt.subplots(
        2,
        1,
        figsize=(12.8, 8.0),
        dpi=100,
        sharex=True,
        height_ratios=(2, max(2, len(shown) * 0.45)),
        layout="constrained",
    )
    unit, divisor = ("minutes", 60.0) if end - began_at > 300 else ("seconds", 1.0)

    def place(moment: float) -> float:
        return (moment - began_at) / divisor

    for cache, style, name in ((False, "--", "authoritative servers"), (True, "-", "caches")):
        total = sum(number for (_, is_cache), number in slots.items() if is_cache is cache)
        if total:
            xs, ys = _share(seen, cache, total, began_at, end)
            top.step(
                [place(x) for x in xs],
                ys,
                where="post",
                linestyle=style,
                color="black",
                linewidth=2,
                label=f"{name} ({total})",
            )
    if bound is not None:
        top.axvline(place(bound.at), color="#555555", linestyle=":", linewidth=2, label=bound.says)
        bottom.axvline(place(bound.at), color="#555555", linestyle=":", linewidth=2)
    top.set_ylabel("settled, per cent")
    top.set_ylim(-3, 106)
    top.set_title(title, loc="left", fontweight="bold")
    top.grid(alpha=0.3)
    top.legend(loc="lower right")
    for row, key in enumerate(reversed(shown)):
        for begin, stop, state in _spans(seen, key, began_at, end):
            colour, hatch = _LOOKS[state]
            bottom.barh(
                row,
                place(stop) - place(begin),
                left=place(begin),
                height=0.7,
                color=colour,
                hatch=hatch,
                edgecolor="#333333",
                linewidth=0.6,
            )
    bottom.set_yticks(range(len(shown)), [label for label, _ in reversed(shown)])
    bottom.set_xlabel(f"{unit} since {datetime.fromtimestamp(began_at).astimezone():%Y-%m-%d %H:%M:%S %Z}")
    bottom.set_xlim(0, place(end) * 1.02 or 1)
    patches: list[Any] = [
        Patch(facecolor=colour, hatch=hatch, edgecolor="#333333", label=SAID[state])
        for state, (colour, hatch) in _LOOKS.items()
    ]
    bottom.legend(handles=patches, loc="upper center", bbox_to_anchor=(0.5, -0.12), ncols=len(patches), frameon=False)
    if len(slots) > len(shown):
        bottom.text(
            1, 1.01, f"{len(slots) - len(shown)} more vantages not shown", transform=bottom.transAxes, ha="right"
        )
    beside = path.with_name(f".{path.name}.new{path.suffix}")
    try:
        figure.savefig(beside)
        beside.replace(path)
    finally:
        beside.unlink(missing_ok=True)
        plt.close(figure)


def _share(seen: list[Seen], cache: bool, total: int, began_at: float, end: float) -> tuple[list[float], list[float]]:
    """The moments at which the share of settled records changed, and the share in per cent."""
    done: set[tuple[str, int]] = set()
    xs, ys = [began_at], [0.0]
    for one in seen:
        if one.cache is cache:
            (done.add if one.settled else done.discard)((one.vantage, one.goal))
            xs.append(one.at)
            ys.append(100.0 * len(done) / total)
    return [*xs, end], [*ys, ys[-1]]


def _spans(seen: list[Seen], key: tuple[str, bool], began_at: float, end: float) -> list[tuple[float, float, str]]:
    """The stretches in which a vantage was in one state; the worst one where it shows several records."""
    order = ("new", "waiting", "no", "old", "silent")
    states: dict[int, str] = {}
    spans: list[tuple[float, float, str]] = []
    since, state = began_at, "waiting"
    for one in seen:
        if (one.vantage, one.cache) != key:
            continue
        states[one.goal] = one.state
        worst = max(states.values(), key=order.index)
        if worst != state:
            spans.append((since, one.at, state))
            since, state = one.at, worst
    return [*spans, (since, end, state)]

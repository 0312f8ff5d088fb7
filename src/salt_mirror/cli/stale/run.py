"""What `stale` does around its check: the places that were named, the knocking, the figure, the report."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn

from salt_mirror.checks.stale.judging import Stale
from salt_mirror.checks.stale.scope import StaleScope
from salt_mirror.checks.stale.sheet import AgeSheet
from salt_mirror.cli.arguments import atlas_of, views_of
from salt_mirror.cli.execution import run_part
from salt_mirror.cli.finishing import finish, report_of
from salt_mirror.cli.options import Asking, Showing
from salt_mirror.cli.outputs import drawn
from salt_mirror.cli.stale.knocking import knocked
from salt_mirror.estate.forms import network_in, zone_name
from salt_mirror.estate.model import Estate

_WEEKS_DRAWN = 28
"""So many days a figure looks ahead, where nobody says otherwise."""


@dataclass(frozen=True, slots=True)
class StaleWish:
    """What is to be looked at, and what is to be told of it."""

    places: list[str]
    by: str
    days: int
    ports: list[int]
    knock_public: bool
    figure: Path | None


def weed(wish: StaleWish, estate: Estate, asking: Asking, showing: Showing) -> NoReturn:
    """Look for what no longer belongs, prints what was seen, and end the program. Raises BadInput."""
    networks = {text: network_in(text) for text in wish.places}
    zones = [zone_name(text) for text, network in networks.items() if network is None]
    scope = StaleScope(estate, asking.view, zones, [one for one in networks.values() if one is not None])
    atlas = atlas_of(estate)
    part = Stale(scope, atlas, days=wish.days or (_WEEKS_DRAWN if wish.figure is not None else 0), by=wish.by)
    views = views_of(asking, estate)
    ran = run_part(part, atlas, views, asking, "records looked at")
    if wish.ports and not ran.interrupted:
        answered, left_out = knocked(list(part.addresses()), wish.ports, estate, public=wish.knock_public)
        part.hear(answered)
        if left_out:
            part.remarks.append(f"{left_out:,} public addresses were not knocked at; --knock-public does that")
    sheet = part.sheet()
    report = report_of("stale", estate, ran, part, ages=sheet, says=part.says)
    failed = _drawn(wish.figure, part.says, sheet) if wish.figure is not None else []
    finish(report, showing, part, several_views=len(views) > 1, failed=failed)


def _drawn(figure: Path, title: str, sheet: AgeSheet) -> list[str]:
    """Draw the figure; return what went wrong."""
    from salt_mirror.report.figures.ages import draw_ages

    return drawn(figure, lambda form: draw_ages(form, title, sheet))

"""`salt-mirror authority`: is the zone itself sound, before any of its records is trusted?"""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.authority.judging import Inspected


@takes(at="Only check these servers, and not the parent.")
def authority(
    zones: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ZONE]...",
            help="Zones by their names, reverse zones also by their networks; all of the estate when left out.",
        ),
    ] = None,
    try_updates: Annotated[
        bool,
        typer.Option(
            "--try-updates", help="Try whether servers take unsigned changes, by one that changes nothing (RFC 2136)."
        ),
    ] = False,
    zones_file: Annotated[
        Path | None, option("--zones", "FILE", "Take zones from a file as well, one a line; the same as --names.")
    ] = None,
    figure: Annotated[
        Path | None, option("--figure", "FILE", "Draw when each signature begins and ends, as a PNG or SVG.")
    ] = None,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Check zones: SOA, serials, name servers, delegation and signatures, on every server that should be authoritative."""
    from salt_mirror.checks.authority.judging import Inspection
    from salt_mirror.checks.authority.wording import not_asked, verdict
    from salt_mirror.cli.arguments import atlas_of, names_in_views, open_estate, servers_at, views_of
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.cli.outputs import check_figure, names_in
    from salt_mirror.estate.errors import BadInput

    if figure is not None:
        check_figure(figure)
    estate = open_estate(asking, directories=True)
    estate.remarks += [
        f"the directory of {domain} could not be read ({why}): which servers replicate is taken from their SOA records"
        for (domain, _), why in estate.unread.items()
    ]
    named = [*(zones or []), *(names_in(zones_file, "--zones") if zones_file is not None else [])]
    wanted = names_in_views(named, asking, estate) or [
        (zone.apex, where) for where in views_of(asking, estate) for zone in estate.zones[where].values()
    ]
    if not wanted:
        raise BadInput("nothing to inspect: name a zone, or give an estate with zones")
    atlas = atlas_of(estate, servers_at(asking.at, estate), resolvers_too=True)
    atlas.try_updates = try_updates
    part = Inspection(wanted, atlas)
    ran = run_part(part, atlas, list(dict.fromkeys(where for _, where in wanted)), asking, "zones inspected")
    done = part.in_order
    more = {"says": verdict(done[0])} if len(wanted) == 1 and done else {}
    report = report_of("authority", estate, ran, part, not_asked(done), sheets=[one.sheet for one in done], **more)
    failed = _drawn(figure, part.in_order, ran.started) if figure is not None else []
    finish(report, showing, part, several_views=len(estate.views) > 1, failed=failed)


def _drawn(figure: Path, done: list[Inspected], now: datetime) -> list[str]:
    """Draw the signatures of the zones that were inspected; return what went wrong."""
    from salt_mirror.cli.outputs import drawn
    from salt_mirror.report.figures.windows import draw_windows

    sheets = [one.sheet for one in done]
    title = f"Signatures of {sheets[0].zone}" if len(sheets) == 1 else f"Signatures of {len(sheets)} zones"
    return drawn(figure, lambda form: draw_windows(form, title, sheets, now))

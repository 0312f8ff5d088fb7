"""`salt-mirror stale`: what no longer belongs in the zones, by evidence, and what will be taken that is still needed."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option, takes


class By(StrEnum):
    """What records that no longer belong are told together by."""

    reason = "reason"
    network = "network"
    age = "age"
    owner = "owner"


@takes("at", "report", "remedies")
def stale(
    places: Annotated[
        list[str] | None,
        typer.Argument(metavar="[ZONE|NETWORK]...", help="Zones or networks; all of the estate's without."),
    ] = None,
    by: Annotated[
        By, typer.Option("--by", help="Count what no longer belongs by this too; an owner is the zone.")
    ] = By.reason,
    forecast: Annotated[
        str | None, option("--forecast", "TIME", "Tell what ages away in this time, such as 30d, day by day.")
    ] = None,
    figure: Annotated[
        Path | None, option("--figure", "FILE", "Draw records by age, and what goes when, as a PNG or SVG.")
    ] = None,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Find what no longer belongs: aged records, what is left over from other hosts, references to nothing.

    Ages come from exported master files (ages in [[zones]]) and from directories that are read (directory in [[directories]]);
    nothing is removed: what should go is a plan for mend.
    """
    from salt_mirror.checks.stale.scope import StaleScope
    from salt_mirror.checks.stale.work import Stale
    from salt_mirror.cli.ending import finish, report_of
    from salt_mirror.cli.opening import atlas_of, open_estate, seconds_of, views_of
    from salt_mirror.cli.running import run_part
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.forms import network_in, zone_name
    from salt_mirror.keeping.writing import check_writable, write_whole

    if figure is not None:
        if figure.suffix.lower() not in (".png", ".svg"):
            raise BadInput(f"--figure: {figure} is neither a .png nor a .svg")
        check_writable(figure, "--figure")
    days = int(seconds_of(forecast, "--forecast") // 86_400) if forecast is not None else 0
    estate = open_estate(asking, directories=True, ages=True)
    if not estate.zones:
        raise BadInput("nothing to look at: give an estate with zones")
    networks = {text: network_in(text) for text in places or []}
    zones = [zone_name(text) for text, network in networks.items() if network is None]
    scope = StaleScope(estate, asking.view, zones, [one for one in networks.values() if one is not None])
    atlas = atlas_of(estate)
    part = Stale(scope, atlas, days=days or (28 if figure is not None else 0), by=by.value)
    views = views_of(asking, estate)
    ran = run_part(part, atlas, views, asking, "records looked at")
    report = report_of("stale", estate, ran, part, ages=part.sheet(), says=part.says)
    failed = []
    if figure is not None:
        from salt_mirror.report.ages import draw_ages

        try:
            write_whole(figure, draw_ages(figure.suffix[1:].lower(), part.says, part.sheet()), "--figure")
        except BadInput as error:
            failed.append(str(error))
    finish(report, showing, part, several_views=len(views) > 1, failed=failed)

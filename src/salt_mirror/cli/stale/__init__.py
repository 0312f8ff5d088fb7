"""`salt-mirror stale`: what no longer belongs in the zones, by evidence, and what will be taken that is still needed."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option
from salt_mirror.cli.signatures import takes


class By(StrEnum):
    """What records that no longer belong are told together by."""

    reason = "reason"
    network = "network"
    age = "age"
    owner = "owner"


@takes("at")
def stale(
    places: Annotated[
        list[str] | None,
        typer.Argument(metavar="[ZONE|NETWORK]...", help="Zones or networks; all of the estate's without."),
    ] = None,
    by: Annotated[
        By, typer.Option("--by", help="Count what no longer belongs by this too; an owner is the zone.")
    ] = By.reason,
    forecast: Annotated[
        str | None, option("--forecast", "TIME", "Show what will be scavenged in this time, such as 30d, day by day.")
    ] = None,
    knock: Annotated[
        str | None,
        option(
            "--knock",
            "PORT,...",
            "Try by one connection each whether what no longer belongs answers on TCP ports.",
        ),
    ] = None,
    knock_public: Annotated[bool, typer.Option("--knock-public", help="Knock at public addresses too.")] = False,
    figure: Annotated[
        Path | None, option("--figure", "FILE", "Draw records by age, and what goes when, as a PNG or SVG.")
    ] = None,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Find what no longer belongs: stale records, leftovers of other hosts, dangling references.

    Ages come from exported master files (ages in [[zones]]) and from directories that are read (directory in [[directories]]);
    nothing is removed: what should go is a plan for mend.
    """
    from salt_mirror.cli.arguments import open_estate, seconds_of
    from salt_mirror.cli.outputs import check_figure
    from salt_mirror.cli.stale.knocking import ports_in
    from salt_mirror.cli.stale.run import StaleWish, weed
    from salt_mirror.estate.errors import BadInput

    if figure is not None:
        check_figure(figure)
    ports = ports_in(knock) if knock is not None else []
    days = int(seconds_of(forecast, "--forecast") // 86_400) if forecast is not None else 0
    estate = open_estate(asking, directories=True, ages=True)
    if not estate.zones:
        raise BadInput("nothing to look at: give an estate with zones")
    weed(StaleWish(places or [], by.value, days, ports, knock_public, figure), estate, asking, showing)

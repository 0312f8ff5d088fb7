"""`salt-mirror pairs`: do forward and reverse agree?"""

from __future__ import annotations

from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Showing
from salt_mirror.cli.signatures import takes


@takes()
def pairs(
    subjects: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NAME|ADDRESS|NETWORK]...", help="What to check; all of the estate when left out."),
    ] = None,
    sweep_all: Annotated[bool, typer.Option("--sweep-all", help="Sweep networks larger than a /16 too.")] = False,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Check that forward and reverse agree: each address has a PTR record, and each PTR record names a host with that address.

    Every name's A and AAAA records, and every address's PTR records, are asked of all their authoritative servers. The
    servers come from the estate, from --at, or are found through NS records.
    """
    from salt_mirror.checks.pairs.judging import Pairs
    from salt_mirror.checks.pairs.scope import PairsScope
    from salt_mirror.cli.arguments import atlas_of, open_estate, pace_for_a_sweep, servers_at, with_directories
    from salt_mirror.cli.execution import run_again_if_apart
    from salt_mirror.cli.finishing import finish, report_of

    estate = open_estate(asking)
    if not subjects and any(
        zone.network is not None and zone.network.num_addresses > 256 for zone in estate.all_zones()
    ):
        with_directories(estate, asking, records=True)  # what they tell needs no sweep
    scope = PairsScope(estate, subjects or (), view=asking.view, sweep_all=sweep_all)
    atlas = atlas_of(estate, servers_at(asking.at, estate))
    if scope.sweeps:
        pace_for_a_sweep(estate, asking.pace)
    part, ran = run_again_if_apart(
        lambda: Pairs(scope, atlas), atlas, scope.views, asking, "names and addresses looked at"
    )
    finish(report_of("pairs", estate, ran, part), showing, part, several_views=len(scope.views) > 1)

"""`salt-mirror views`: what each view says of the same names, what is missing in a view, and what leaks."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, NoReturn

import typer

from salt_mirror.cli.options import Asking, Showing, Where
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.common.atlas import Atlas
    from salt_mirror.checks.common.part import Part
    from salt_mirror.checks.views.scope import ViewsScope
    from salt_mirror.estate.model import Estate


@takes("at", "view")
def views(
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME|ZONE]...", help="Names, or zones with all that is below; all of the estate without."
        ),
    ] = None,
    *,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """Compare the views of split DNS: what is missing in a view, what differs, and what leaks to public DNS."""
    from salt_mirror.checks.views.judging import Views
    from salt_mirror.checks.views.scope import ViewsScope
    from salt_mirror.cli.arguments import atlas_of, name_of, open_estate
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.estate.forms import network_in, zone_of_network

    estate = open_estate(asking)
    networks = {text: network_in(text) for text in names or []}
    only = [
        zone_of_network(network) if network is not None else name_of(text, asking, estate)
        for text, network in networks.items()
    ]
    scope = ViewsScope(estate, only)
    if len(estate.zones) == 1 and not estate.same:
        _one_view(estate, scope, asking, showing)
    scope.check()
    if where.vantages:
        from salt_mirror.cli.vantage.asking import atlas_at, check_from

        def build(seen: Estate) -> tuple[Part, Atlas]:
            there = atlas_at(seen)
            return Views(ViewsScope(seen, only), there), there

        ran, every = check_from(where, asking, build, "names looked at", estate)
        finish(report_of("views", estate, ran, every), showing, every, several_views=True)
    atlas = atlas_of(estate)
    part = Views(scope, atlas)
    ran = run_part(part, atlas, estate.views, asking, "names looked at")
    finish(report_of("views", estate, ran, part), showing, part, several_views=True)


def _one_view(estate: Estate, scope: ViewsScope, asking: Asking, showing: Showing) -> NoReturn:
    """End with the answer that there is nothing to compare, which is no fault of anybody's."""
    from salt_mirror.checks.views.judging import Views
    from salt_mirror.cli.arguments import atlas_of
    from salt_mirror.cli.execution import Ran
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.report.document import now

    (view,) = estate.zones
    says = f"Nothing to compare: all zones of the estate are in one view{f', {view}' if view else ''}."
    ran = Ran(now(), 0.0, 0, 0, 0, [], interrupted=False)
    part = Views(scope, atlas_of(estate))
    finish(report_of("views", estate, ran, part, says=says, outcome="agrees"), showing, part)

"""`salt-mirror differ`: the whole zones of two servers, held against each other in both directions."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.differ.judging import TwoZones
    from salt_mirror.dns.questions import Server
    from salt_mirror.estate.model import Estate


@takes("at", "transfer")
def differ(
    one: Annotated[str, typer.Argument(metavar="SERVER", help="A server: a name from the estate, an address, a host.")],
    another: Annotated[str, typer.Argument(metavar="SERVER", help="Another one.")],
    zones: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ZONE]...", help="Zones or networks; when left out, all that the estate lists either server for."
        ),
    ] = None,
    types: Annotated[str | None, option("--types", "A,AAAA,...", "Only compare these types.")] = None,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Compare the whole zones of two servers: what is only on one of them, and what differs."""
    from salt_mirror.checks.differ.judging import Differing
    from salt_mirror.cli.arguments import atlas_of, open_estate, servers_at, types_in
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(asking)
    servers = servers_at([one, another], estate, "SERVER")
    if len(servers) != 2:
        raise BadInput(f"two servers are wanted, and {one} and {another} are {len(servers)}")
    wanted = list(_zones(servers[0], servers[1], zones or [], asking, estate))
    atlas = atlas_of(estate, servers)
    part = Differing(wanted, atlas, frozenset(types_in(types)))
    taken = [(server, zone.apex) for zone in wanted for server in zone.servers]
    ran = run_part(part, atlas, [], replace(asking, transfer=False), "zones compared", transfers=taken)
    report = report_of("differ", estate, ran, part)
    finish(report, showing, part, several_views=len({zone.view for zone in wanted}) > 1)


def _zones(asked_server: Server, another: Server, given: list[str], asking: Asking, estate: Estate) -> list[TwoZones]:
    """Return the zones to compare. Raises BadInput."""
    from salt_mirror.checks.differ.judging import TwoZones
    from salt_mirror.cli.arguments import names_in_views, views_of
    from salt_mirror.estate.errors import BadInput

    def listed(view: str, apex: bytes) -> bool:
        zone = estate.zones.get(view, {}).get(apex)
        return zone is not None and any(
            server.same_place_as_any(zone.servers or ()) for server in (asked_server, another)
        )

    if given:
        found = names_in_views(given, asking, estate)
        # A zone that stands in several views is the one that these servers are listed for.
        values = {name for name, view in found if listed(view, name)}
        return [
            TwoZones(name, view, (asked_server, another))
            for name, view in found
            if name not in values or listed(view, name)
        ]
    zones = [zone for view in views_of(asking, estate) for zone in estate.zones[view].values()]
    served = [zone for zone in zones if listed(zone.view, zone.apex)]
    if not served:
        raise BadInput("no zones to compare: name some, or give an estate that lists either server for any")
    return [TwoZones(zone.apex, zone.view, (asked_server, another)) for zone in served]

"""`salt-mirror resolvers`: whether each resolver does what it ought to."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, NoReturn

import typer

from salt_mirror.cli.options import Asking, Showing, Where
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.common.atlas import Atlas
    from salt_mirror.checks.common.part import Part
    from salt_mirror.estate.model import Estate


@takes("at", "view", "transfer")
def resolvers(
    servers: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVER|GROUP]...",
            help="Resolvers, or groups of the estate's; all of the estate's without, else those that this computer uses.",
        ),
    ] = None,
    *,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """Test resolvers: every transport, the zones of their view, public names, NXDOMAIN, large responses, TTLs.

    [resolvers.NAME] in the estate declares what one should do: view, also (other transports), forwards_to, serves. If this
    computer is not in the networks that it serves, it should offer no recursion.
    """
    from salt_mirror.checks.resolvers.judging import Resolvers, resolvers_of
    from salt_mirror.cli.arguments import atlas_of, keep_pace, open_estate, servers_and_groups
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.dns.system import system_resolvers
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(asking)
    if where.vantages:
        _from_places(servers, where, asking, showing, estate)
    given = servers_and_groups(servers, estate) or (() if estate.resolvers else system_resolvers())
    if not given and not estate.resolvers:
        raise BadInput(
            "nothing to look at: name a resolver, or give an estate with [resolvers.NAME]; this computer has none"
        )
    atlas = atlas_of(estate)
    tried = resolvers_of(estate, atlas, given)
    keep_pace([way for one in tried for way in one.ways], asking.pace)
    part = Resolvers(tried, atlas)
    ran = run_part(part, atlas, estate.views, asking, "resolvers looked at")
    report = report_of("resolvers", estate, ran, part, tests=part.trees())
    finish(report, showing, part, several_views=len(estate.views) > 1)


def _from_places(servers: list[str] | None, where: Where, asking: Asking, showing: Showing, estate: Estate) -> NoReturn:
    """Try resolvers from vantages: those that are named, else each vantage's own."""
    from msgspec.structs import replace

    from salt_mirror.checks.resolvers.judging import Resolvers, resolvers_of
    from salt_mirror.cli.arguments import keep_pace, open_estate, servers_and_groups
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.cli.vantage.asking import atlas_at, check_from

    def build(seen: Estate) -> tuple[Part, Atlas]:
        atlas = atlas_at(seen)
        named = servers_and_groups(servers, open_estate(asking)) if servers else ()
        tried = resolvers_of(seen, atlas, named)
        keep_pace([way for one in tried for way in one.ways], asking.pace)
        return Resolvers(tried, atlas), atlas

    ran, every = check_from(where, asking, build, "resolvers looked at", estate, of_resolvers=not servers)
    tests = [
        replace(test, title=f"{test.title} from {name}")
        for name, part in every.parts.items()
        if isinstance(part, Resolvers)
        for test in part.trees()
    ]
    report = report_of("resolvers", estate, ran, every, tests=tests)
    finish(report, showing, every, several_views=len(estate.views) > 1)

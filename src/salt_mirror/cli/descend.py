"""`salt-mirror descend`: from the root down every cut to the answer, on all servers of every level."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Showing
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.dns.names import Name
    from salt_mirror.estate.model import Estate


@takes("at", "view", "transfer")
def descend(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The name to find, or an address for its PTR.")],
    rdtype: Annotated[str | None, typer.Argument(metavar="[TYPE]", help="The type; A when left out.")] = None,
    first: Annotated[
        bool, typer.Option("--first", help="Ask one server a level, as a resolver would, and the next when it fails.")
    ] = False,
    from_root: Annotated[
        bool, typer.Option("--from-root", help="Begin at the root also for a name that only the estate knows.")
    ] = False,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Follow the delegations from the root down to a name, asking all servers at every zone cut.

    A name in a zone of the estate that is in no public view is resolved from that zone on: the root is not asked.
    """
    from salt_mirror.checks.descend.judging import Descents
    from salt_mirror.checks.descend.rows import sheet_of
    from salt_mirror.cli.arguments import atlas_of, open_estate
    from salt_mirror.cli.execution import run_part
    from salt_mirror.cli.finishing import finish, report_of

    estate = open_estate(asking)
    wanted, kind = _wanted(name, rdtype, asking, estate)
    _check(wanted, estate, from_root=from_root)
    atlas = atlas_of(estate, resolvers=())
    part = Descents(wanted, kind, atlas, first=first, from_root=from_root)
    ran = run_part(part, atlas, [], asking, "names found")
    legs = [sheet_of(leg) for leg in part.descent.legs] if part.descent is not None else []
    finish(report_of("descend", estate, ran, part, says=part.says, legs=legs), showing, part)


def _wanted(name: str, rdtype: str | None, asking: Asking, estate: Estate) -> tuple[Name, int]:
    """Return the name and type to find. Raises Unusable."""
    from salt_mirror.cli.arguments import name_of, type_of
    from salt_mirror.dns.records import PTR, A
    from salt_mirror.estate.forms import address_in

    kind = type_of(rdtype) if rdtype is not None else PTR if address_in(name) is not None else A
    return name_of(name, asking, estate), kind


def _check(name: Name, estate: Estate, *, from_root: bool) -> None:
    """Raise BadInput for a name that the root knows nothing of, unless it was told to be asked."""
    from salt_mirror.dns.names import to_text
    from salt_mirror.dns.reverse import is_reverse
    from salt_mirror.dns.special import undelegated
    from salt_mirror.estate.errors import BadInput

    special = undelegated(name)
    held = any(estate.zone_of(name, view) is not None for view in estate.views)
    if special is not None and not held and not from_root and not is_reverse(name) and not estate.roots:
        raise BadInput(
            f"{to_text(name)} is in {to_text(special)}, which no public server knows, and in no zone of the estate; "
            "--from-root asks the root all the same"
        )

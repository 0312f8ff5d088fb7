"""`salt-mirror descend`: from the root down every cut to the answer, on all servers of every level."""

from __future__ import annotations

import ipaddress
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, takes

if TYPE_CHECKING:
    from salt_mirror.dns.names import Name


@takes("report", "remedies", "at", "view", "transfer")
def descend(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The name to find, or an address for its PTR.")],
    rdtype: Annotated[str | None, typer.Argument(metavar="[TYPE]", help="The type; A when left out.")] = None,
    first: Annotated[
        bool, typer.Option("--first", help="Ask one server a level, as a resolver would, and the next when it fails.")
    ] = False,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Go down from the root to a name, asking all servers at every cut, and see where they part ways."""
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.descent.sheet import sheet_of
    from salt_mirror.checks.descent.wording import Descents
    from salt_mirror.cli.ending import finish, report_of
    from salt_mirror.cli.opening import has_ipv6, open_estate
    from salt_mirror.cli.running import run_part

    wanted, kind = _wanted(name, rdtype)
    estate = open_estate(asking)
    atlas = Atlas(estate, ipv6=has_ipv6())
    part = Descents(wanted, kind, atlas, first=first)
    ran = run_part(part, atlas, [], asking, "names found")
    legs = [sheet_of(leg) for leg in part.descent.legs] if part.descent is not None else []
    finish(report_of("descend", estate, ran, part, says=part.says, legs=legs), showing, part)


def _wanted(name: str, rdtype: str | None) -> tuple[Name, int]:
    """The name and type to find. Raises Unusable."""
    from salt_mirror.cli.opening import type_of
    from salt_mirror.dns.names import from_text
    from salt_mirror.dns.records import PTR, A
    from salt_mirror.dns.reverse import reverse_name

    kind = type_of(rdtype) if rdtype is not None else None
    try:
        return reverse_name(ipaddress.ip_address(name).packed), PTR if kind is None else kind
    except ValueError:
        return from_text(name), A if kind is None else kind

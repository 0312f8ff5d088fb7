"""`salt-mirror from-here`: what this computer gets for a name, and which station on the way departs first."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, Where, option
from salt_mirror.cli.signatures import takes


@takes("at", "transfer", view="The view that this computer should get; whichever it gets without.")
def from_here(
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME|ADDRESS]...",
            help="What to follow, as one would type it; the whole hosts file and all resolvers of this computer without.",
        ),
    ] = None,
    own: Annotated[
        bool, typer.Option("--self", help="Is this computer itself registered, with every address and its PTR record?")
    ] = False,
    wait: Annotated[bool, typer.Option("--wait", help="With --self: watch until it is.")] = False,
    within: Annotated[str | None, option("--within", "TIME", "With --wait: give up after this time.")] = None,
    settings: Annotated[
        Path | None,
        option(
            "--settings",
            "FOLDER",
            "Another computer's settings, captured below a folder (etc/hosts, registry.reg, scopes.txt).",
        ),
    ] = None,
    *,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """What do programs on this computer get for a name, and why? Each source is asked for the same name.

    The hosts file, the search suffixes, every resolver that is set, this computer's own cache, and the servers of each view;
    the first difference is shown, with the way to mend it.
    """
    from salt_mirror.cli.arguments import open_estate
    from salt_mirror.cli.from_here.run import Look, wait_until_registered
    from salt_mirror.estate.errors import BadInput

    if (wait or within is not None) and not own:
        raise BadInput("--wait watches this computer's own registration: give --self with it")
    if own and (names or settings is not None):
        raise BadInput("--self is about this very computer: leave out names and --settings")
    if where.vantages:
        from salt_mirror.cli.from_here.run import look_from

        if own or settings is not None:
            raise BadInput("--from looks with another computer's settings: leave out --self and --settings")
        look_from(where, names or [], asking, showing)
    look = Look(open_estate(asking), asking, settings)
    if wait:
        wait_until_registered(look, within, json=showing.json)
    look.report(names or [], showing, own=own)

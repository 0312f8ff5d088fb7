"""`salt-mirror rehearse`: what would be different if zone files were loaded, records stood, or a plan were sent."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.options import Asking, Listing, Showing, option
from salt_mirror.cli.signatures import takes


@takes("at", "remedies", "history")
def rehearse(
    zone_file: Annotated[
        list[str] | None,
        option("--zone-file", "ZONE=FILE", "A zone file that is to be loaded, or a folder of them; may be repeated."),
    ] = None,
    records: Annotated[
        list[Path] | None, option("--records", "LIST", "Records that are to be there, as a list; may be repeated.")
    ] = None,
    plan: Annotated[Path | None, option("--plan", "PLAN", "A plan that --write has written.")] = None,
    new_estate: Annotated[
        Path | None, option("--new-estate", "FILE", "Judge the state afterwards by this estate file.")
    ] = None,
    offline: Annotated[
        bool, typer.Option("--offline", help="Ask no server: judge the files against each other and the estate.")
    ] = False,
    before: Annotated[
        Path | None,
        option("--before", "FOLDER", "With --offline: the files as they are now, under the same paths in a folder."),
    ] = None,
    renumber: Annotated[
        str | None,
        option("--renumber", "OLD=NEW", "Plan and rehearse that a network gets other addresses, in phases."),
    ] = None,
    hosts: Annotated[
        Path | None, option("--hosts", "FILE", "With --renumber: only these hosts move; a name a line.")
    ] = None,
    write: Annotated[
        Path | None, option("--write", "FILE", "Write what changes as a plan, for settle, compare and mend.")
    ] = None,
    only: Annotated[
        list[str] | None, option("--only", "WORD", "Only this check, zone, view or code; may be repeated.")
    ] = None,
    skip: Annotated[list[str] | None, option("--skip", "WORD", "Leave this check, zone, view or code out.")] = None,
    *,
    listing: Listing,
    asking: Asking,
    showing: Showing,
) -> None:
    """Judge a change before it is made: which faults it causes and which it mends, what vanishes, how long caches keep the old.

    The estate is judged as it is and as it would be, by the same checks; old faults do not fail a rehearsal.
    """
    from salt_mirror.checks.rehearse.networks import renumbering_in
    from salt_mirror.cli.rehearse.run import RehearsalWish, Rehearsing

    wish = RehearsalWish(
        zone_file or [], records or [], plan, new_estate, offline, before, write, only or [], skip or [],
        renumbering_in(renumber) if renumber is not None else None, hosts,
    )  # fmt: skip
    Rehearsing(wish, listing, asking, showing).carry_out()

"""`salt-mirror draft`: from a few names to an estate file, by asking what there is."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import typer

from salt_mirror.cli.options import Asking, Listing, LogOn, option
from salt_mirror.cli.signatures import takes


@takes(
    "estate",
    "at",
    "ipv4_only",
    "ipv6_only",
    transfer="Take zones by transfer where their servers allow it: that finds every host and every delegated zone.",
    view="The view that what is found belongs to, such as internal or public.",
)  # fmt: skip
def draft(
    begin: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DOMAIN|NETWORK|SERVER]...",
            help="Where to begin; this computer's own domain when left out. A server is an address, or a host's name.",
        ),
    ] = None,
    zones: Annotated[
        Path | None, option("--zones", "FILE", "A list of zones: one a line, or a table with a column of names.")
    ] = None,
    catalog: Annotated[
        list[str] | None,
        option(
            "--catalog", "ZONE@SERVER", "The zones of a catalog zone (RFC 9432), taken by transfer; may be repeated."
        ),
    ] = None,
    key: Annotated[
        list[str] | None,
        option("--key", "NAME:FILE", "A TSIG key for transfers, its secret (base64) in a file; may be repeated."),
    ] = None,
    folder: Annotated[
        Path, typer.Option("--folder", metavar="DIR", help="Where estate.toml and records/ are written.")
    ] = Path(),
    expect: Annotated[
        Literal["registered", "nothing"],
        typer.Option(
            "--expect",
            help="Expect what is registered now, but for what looks wrong; that is listed in records/REVIEW.md.",
        ),
    ] = "nothing",
    lists: Annotated[
        list[Path] | None,
        option(
            "--list",
            "FILE",
            "Add a list of expected records to the estate that is there, its columns found by what is in them; repeatable.",
        ),
    ] = None,
    add: Annotated[bool, typer.Option("--add", help="Add what is new to the estate that is there.")] = False,
    json: Annotated[bool, typer.Option("--json", help="Print what was found as one JSON document.")] = False,
    *,
    log_on: LogOn,
    listing: Listing,
    asking: Asking,
) -> None:
    """Draft an estate: find zones, servers and records by asking, and write them down with where each comes from.

    With --list nothing is asked: lists that you have go into the estate that is there.
    """
    if lists:
        from salt_mirror.cli.draft.lists import add_lists

        searches = bool(begin or zones or catalog or key or log_on.directory or expect != "nothing")
        add_lists(lists, listing, asking, folder, json=json, searches=searches)
    from salt_mirror.cli.draft.run import Drafting, DraftWish

    wish = DraftWish(begin or [], zones, catalog or [], key or [], log_on, folder, expect == "registered", add, json)
    Drafting(wish, asking).run()

"""`salt-mirror accept`: a finding that is known, written into the estate with the reason."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.options import option


def accept(
    code: Annotated[str, typer.Argument(metavar="CODE", help="The finding's code, or a pattern such as pair.*.")],
    name: Annotated[
        str, typer.Argument(metavar="NAME", help="The name that it is about, or a pattern such as *.guests.*.")
    ],
    why: Annotated[str, option("--why", "TEXT", "The reason, for those who read the report.")],
    until: Annotated[
        str | None, option("--until", "DATE", "The last day on which it is accepted, such as 2027-03-31.")
    ] = None,
    view: Annotated[str | None, option("--view", "VIEW", "Only in this view.")] = None,
    address: Annotated[str | None, option("--address", "ADDRESS", "Only about this address, or a pattern.")] = None,
    server: Annotated[str | None, option("--server", "SERVER", "Only about this server, or a pattern.")] = None,
    estate: Annotated[Path | None, option("--estate", "FILE", "The estate file; estate.toml here without it.")] = None,
) -> None:
    """Accept a finding: the audit counts it as known, with the reason, until the day that you name.

    It is written into the estate as [[accept]], with all comments kept. What could not be verified can be accepted as well,
    such as the servers of a branch that is closed. The audit reports an acceptance that has ended, or that fits nothing.
    """
    from datetime import date

    from salt_mirror.checks.audit.accepting import check
    from salt_mirror.cli.arguments import estate_file
    from salt_mirror.cli.messages import tell
    from salt_mirror.dns.names import shown
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.file import AcceptEntry, parse_estate
    from salt_mirror.estate.reading import read_text
    from salt_mirror.keeping.draft.adding import with_acceptance
    from salt_mirror.keeping.writing import write_whole

    if not why.strip() or not why.isprintable():
        raise BadInput(f"--why: {shown(why)} is no reason; expected a sentence on one line")
    try:
        last = date.fromisoformat(until) if until is not None else None
    except ValueError:
        raise BadInput(f"--until: {shown(until or '')} is no date; expected one such as 2027-03-31") from None
    if last is not None and last < date.today():
        raise BadInput(f"--until: {last.isoformat()} is over; expected a day to come")
    entry = AcceptEntry(code, why.strip(), name.lower(), address, server, view, last)
    check([entry], "the command line")
    path = estate_file(estate)
    text = read_text(path, missing="there is no such file; --estate wants the path of an estate.toml")
    known = parse_estate(text, path)
    if view is not None and view not in {zone.view for zone in known.zones}:
        raise BadInput.unknown("--view: there is no view", view, dict.fromkeys(zone.view for zone in known.zones))
    if any(entry_key(one) == entry_key(entry) for one in known.accept):
        raise BadInput(f"{path} accepts {code} for {name} already; change its day or its reason there")
    added = with_acceptance(text, entry)
    parse_estate(added, path)  # before the old one is replaced
    write_whole(path, added)
    day = f" until {last.isoformat()}" if last is not None else ""
    tell(f"{code} of {name} is accepted{day}: {path}.", begin="", file=sys.stdout)


def entry_key(entry: object) -> tuple[object, ...]:
    """Return what an acceptance covers."""
    return tuple(getattr(entry, key) for key in ("code", "name", "address", "server", "view"))

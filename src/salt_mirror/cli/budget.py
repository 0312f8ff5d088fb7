"""`salt-mirror budget`: how long will this change take, at the longest?"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.opening import (
    EstateOption,
    JsonOption,
    TimeoutOption,
    TriesOption,
    ViewOption,
    finders,
    open_estate,
    seconds_of,
    view_of,
)

if TYPE_CHECKING:
    from datetime import datetime


def budget(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The name whose record is to change.")],
    rdtype: Annotated[str, typer.Argument(metavar="TYPE", help="The record's type.")],
    old: Annotated[
        str | None,
        typer.Option("--from", metavar="VALUE", help="The value that it has now, to be sure.", show_default=False),
    ] = None,
    new: Annotated[
        str | None, typer.Option("--to", metavar="VALUE", help="The value that it is to have.", show_default=False)
    ] = None,
    at_time: Annotated[
        str | None,
        typer.Option(
            "--at-time",
            metavar="T",
            help="When the change is to be made: 14:30, 2026-11-24T09:00, or in 2h; now when left out.",
            show_default=False,
        ),
    ] = None,
    cap: Annotated[
        str | None,
        typer.Option(
            "--cap",
            metavar="TIME",
            help="Resolvers are known to keep entries this long, whatever the TTL.",
            show_default=False,
        ),
    ] = None,
    estate_file: EstateOption = None,
    view: ViewOption = None,
    as_json: JsonOption = False,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
) -> None:
    """Say beforehand when every authoritative server has a change, and when the last cache has dropped the old state."""
    from datetime import UTC, datetime

    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.budget import budget_of, inspect_budget
    from salt_mirror.cli.rollcall import first_forward
    from salt_mirror.cli.following import goal_of, type_of
    from salt_mirror.dns.dialogue import Runner
    from salt_mirror.dns.traffic.engine import Engine
    from salt_mirror.dns.names import BadName, from_text
    from salt_mirror.dns.records import rdata_text
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.report.terminal.budget import budget_json, print_budget

    estate = open_estate(estate_file, view)
    kind = type_of(rdtype)
    try:
        wanted = from_text(name, first_forward(estate, view) if "." not in name else None)
    except BadName as error:
        raise BadInput(str(error)) from None
    where = view_of(wanted, estate, view)
    after = goal_of(wanted, kind, [new] if new is not None else [], gone=False).values
    before = goal_of(wanted, kind, [old] if old is not None else [], gone=False).values
    now = datetime.now(UTC).replace(microsecond=0)
    change_at = _moment(at_time, now) if at_time is not None else now
    cap_s = round(seconds_of(cap, "--cap")) if cap is not None else None
    with Engine(timeout_s=timeout, tries=tries) as engine:
        atlas = Atlas(estate, resolvers=finders(estate))
        (seen,) = Runner(engine).run([inspect_budget(wanted, kind, where, atlas)])
    try:
        found = budget_of(seen, change_at, now, cap=cap_s, to=min(after, default=None))
    except ValueError as error:
        print(f"salt-mirror: nothing usable was seen of {name}: {error}", file=sys.stderr)  # noqa: T201
        raise typer.Exit(3) from None
    remarks = []
    if before and not before <= set(seen.found.values):
        has = ", ".join(rdata_text(kind, value) for value in seen.found.values) or "nothing"
        remarks.append(f"the authoritative servers have {has}, and not {old}")
    if after and after <= set(seen.found.values):
        remarks.append(f"the authoritative servers have {new} already: what is left is up to the caches")
    if as_json:
        sys.stdout.buffer.write(budget_json(seen, found, remarks, estate.title))
    else:
        print_budget(seen, found, remarks, sys.stdout)
    raise typer.Exit(1 if before and remarks and not before <= set(seen.found.values) else 0)


def _moment(text: str, now: datetime) -> datetime:
    """A moment from the command line: a time of day (the next one), a date with a time, or `in` a time. Raises BadInput."""
    from datetime import UTC, datetime, timedelta

    from salt_mirror.estate.errors import BadInput

    words = text.strip()
    if words.startswith("in "):
        return now + timedelta(seconds=seconds_of(words[3:], "--at-time"))
    for form in ("%H:%M", "%H:%M:%S"):
        try:
            clock = datetime.strptime(words, form)
        except ValueError:
            continue
        local = now.astimezone().replace(hour=clock.hour, minute=clock.minute, second=clock.second)
        return (local if local >= now else local + timedelta(days=1)).astimezone(UTC)
    try:
        found = datetime.fromisoformat(words)
    except ValueError:
        raise BadInput(
            f'--at-time: "{text}" is no moment; expected one such as 14:30, 2026-11-24T09:00 or "in 2h"'
        ) from None
    return found.astimezone(UTC)

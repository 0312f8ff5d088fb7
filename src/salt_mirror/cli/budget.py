"""`salt-mirror budget`: how long will this change take, at the longest?"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.messages import tell
from salt_mirror.cli.options import WRITING, Asking, Showing, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from datetime import datetime


@takes("at", "transfer", "pace", "faults", "all", "strict", *WRITING)
def budget(
    name: Annotated[str, typer.Argument(metavar="NAME", help="The name whose record is to change.")],
    rdtype: Annotated[str, typer.Argument(metavar="TYPE", help="The record's type.")],
    old: Annotated[str | None, option("--old", "VALUE", "The value that it has now, to be sure.")] = None,
    new: Annotated[
        list[str] | None,
        option("--to", "VALUE", "The value that it is to have, in place of --old or of all; may be repeated."),
    ] = None,
    at_time: Annotated[
        str | None,
        option(
            "--at-time", "T", "When the change is to be made: 14:30, 2026-11-24T09:00, or in 2h; now when left out."
        ),
    ] = None,
    cap: Annotated[
        str | None, option("--cap", "TIME", "Resolvers are known to keep entries this long, whatever the TTL.")
    ] = None,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Calculate when every authoritative server will have a change, and when the last cached old record expires."""
    from datetime import UTC, datetime

    from salt_mirror.checks.budget.judging import budget_of, inspect_budget, remarks_on, wish_text
    from salt_mirror.checks.settle.goals import goal_of
    from salt_mirror.cli.arguments import atlas_of, name_of, open_estate, origin_of, seconds_of, type_of, view_of
    from salt_mirror.cli.engines import engine_of
    from salt_mirror.dns.dialogue import Runner
    from salt_mirror.report.json.budget import budget_json
    from salt_mirror.report.terminal.budget import print_budget

    estate = open_estate(asking)
    kind = type_of(rdtype)
    wanted = name_of(name, asking, estate)
    view = view_of(wanted, asking, estate)
    origin = origin_of(wanted, view, estate)
    after = goal_of(wanted, kind, new or [], origin, gone=False).values
    before = goal_of(wanted, kind, [old] if old is not None else [], origin, gone=False, option="--old").values
    now = datetime.now(UTC).replace(microsecond=0)
    change_at = moment_of(at_time, now) if at_time is not None else now
    cap_s = round(seconds_of(cap, "--cap")) if cap is not None else None
    with engine_of(asking) as engine:
        dialogue = inspect_budget(wanted, kind, view, atlas_of(estate))
        (seen,) = Runner(engine, most=estate.bounds.questions_for_a_name).run([dialogue])
    try:
        found = budget_of(seen, change_at, now, cap=cap_s, before=before, to=after)
    except ValueError as error:
        tell(f"nothing usable was seen of {name}: {error}")
        raise typer.Exit(3) from None
    remarks = [*([wish_text(seen, after)] if after else []), *remarks_on(seen, before, after)]
    if showing.json:
        sys.stdout.buffer.write(budget_json(seen, found, remarks, estate.title))
    else:
        print_budget(seen, found, remarks, sys.stdout)
    raise typer.Exit(0 if before <= set(seen.found.values) else 1)


_FARTHEST_DAYS = 36_500


def moment_of(text: str, now: datetime) -> datetime:
    """Return a moment from the command line: a time of day (the next one), a date with a time, or `in` a time. Raises
    BadInput."""
    from datetime import UTC, datetime, timedelta

    from salt_mirror.cli.arguments import seconds_of
    from salt_mirror.dns.names import shown
    from salt_mirror.estate.errors import BadInput

    words = text.strip()
    if words.startswith("in "):
        return now + timedelta(seconds=seconds_of(words[3:], "--at-time"))
    for form in ("%H:%M", "%H:%M:%S"):
        try:
            clock = datetime.strptime(words, form)
        except ValueError:
            continue
        # Without a zone until the day is known: the clock may be put forward or back in between.
        today = datetime.combine(now.astimezone().date(), clock.time())
        return next(moment for days in (0, 1, 2) if (moment := (today + timedelta(days=days)).astimezone(UTC)) >= now)
    try:
        found = datetime.fromisoformat(words).astimezone(UTC)
    except (ValueError, OverflowError, OSError):
        raise BadInput(
            f'--at-time: {shown(text)} is no moment; expected one such as 14:30, 2026-11-24T09:00 or "in 2h"'
        ) from None
    if abs(found - now) > timedelta(days=_FARTHEST_DAYS):
        raise BadInput(f"--at-time: {shown(text)} is further away than anybody plans")
    return found

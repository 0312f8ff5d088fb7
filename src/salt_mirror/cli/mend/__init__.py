"""`salt-mirror mend`: from findings to changes that are proved, shown, sent, followed and judged again."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.options import WRITING, Asking, Changing, Planning, Showing, option
from salt_mirror.cli.signatures import takes


@takes(
    "at", "view", "ipv4_only", "ipv6_only", "faults", "strict", *(one for one in WRITING if one != "report"),
    report="Write the plan as a change ticket: markdown, html or json, before a colon and the file; may be repeated.",
    all="List everything that is not ours to change, and all that was not done.",
)  # fmt: skip
def mend(
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NAME|ADDRESS|ZONE]...", help="What to mend: hosts, addresses, zones; everything without."
        ),
    ] = None,
    only: Annotated[
        list[str] | None, option("--only", "WORD", "Only this check, zone, view or code; may be repeated.")
    ] = None,
    skip: Annotated[list[str] | None, option("--skip", "WORD", "Leave this check, zone, view or code out.")] = None,
    taken: Annotated[
        Path | None,
        option("--plan", "FILE", "A plan that --write wrote, as approved, or the findings of a JSON report."),
    ] = None,
    phase: Annotated[
        str | None, option("--phase", "PHASE", "With --plan: only this phase of it: lower, add, switch or remove.")
    ] = None,
    *,
    planning: Planning,
    changing: Changing,
    asking: Asking,
    showing: Showing,
) -> None:
    """Plan the changes that correct the findings, prove them by checking again, and with --apply send them."""
    from salt_mirror.checks.plan.deciding import Decision, read_decisions, word_of
    from salt_mirror.cli.arguments import open_estate, seconds_of
    from salt_mirror.cli.mend.plan import Mending
    from salt_mirror.cli.mend.restore import Restoring
    from salt_mirror.cli.mend.sender import MendWish, check_tickets
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(asking, directories=True, ages=True)
    if not estate.zones:
        raise BadInput("nothing to mend: an estate with zones is needed; name it with --estate, or run in its folder")
    _check(changing, planning, chosen=bool(names or only or skip or taken))
    check_tickets(showing)
    settled = read_decisions(planning.decisions) if planning.decisions is not None else []
    if planning.choose is not None:
        settled.append(Decision(word_of(planning.choose, "--choose")))
    within_s = seconds_of(changing.within, "--within") if changing.within is not None else 120.0
    sends = not changing.dry_run and (changing.apply or changing.back is not None)
    wish = MendWish(
        names or [], only or [], skip or [], taken, tuple(settled), planning.write, planning.zone_file or [], sends,
        changing.yes, changing.at_most, changing.undo, within_s, planning.only_adding, changing.dry_run,
        seconds_of(planning.valid, "--valid") if planning.valid is not None else None, phase,
    )  # fmt: skip
    if changing.back is not None:
        Restoring(estate, wish, asking, showing).go_back(changing.back)
    Mending(estate, wish, asking, showing).carry_out()


def _check(changing: Changing, planning: Planning, *, chosen: bool) -> None:
    """Raise BadInput for options that exclude each other; `chosen` says whether any chooses what is mended."""
    from salt_mirror.estate.errors import BadInput

    if changing.back is not None and (chosen or changing.apply or planning != Planning()):
        raise BadInput(
            "--back restores what its file says: leave out names, --apply and whatever chooses or writes a plan"
        )
    if changing.dry_run and changing.apply:
        raise BadInput("--dry-run and --apply: the one tries what the other does; leave one of the two out")
    if planning.valid is not None and planning.write is None:
        raise BadInput("--valid says how long a plan that is written may be sent: it goes with --write")

"""`salt-mirror settle`: follow a change until every authoritative server and every cache has it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.opening import (
    EstateOption,
    JsonOption,
    PaceOption,
    TimeoutOption,
    TriesOption,
    ViewOption,
    finders,
    keep_pace,
    open_estate,
    seconds_of,
    servers_and_groups,
    servers_at,
    view_of,
)

if TYPE_CHECKING:
    from salt_mirror.checks.settling.watch import Goal
    from salt_mirror.dns.questions import Server
    from salt_mirror.estate.model import Estate


def settle(
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="The name whose record changes.")] = None,
    rdtype: Annotated[str | None, typer.Argument(metavar="[TYPE]", help="The record's type.")] = None,
    to: Annotated[
        list[str] | None,
        typer.Option(
            "--to", metavar="VALUE", help="The value that is waited for; may be repeated.", show_default=False
        ),
    ] = None,
    gone: Annotated[bool, typer.Option("--gone", help="Wait until the record is gone.")] = False,
    held_by: Annotated[
        str | None,
        typer.Option(
            "--as-held-by",
            metavar="SERVER",
            help="Wait for what this server holds now; the first authoritative server when nothing else is said.",
            show_default=False,
        ),
    ] = None,
    source: Annotated[
        Path | None,
        typer.Option(
            "--from", metavar="FILE", help="Follow all records of a list of expectations.", show_default=False
        ),
    ] = None,
    registered: Annotated[
        tuple[str, str] | None,
        typer.Option(
            "--registered",
            metavar="HOST ADDRESS",
            help="Wait until the host's address and its pointer stand on every authoritative server.",
            show_default=False,
        ),
    ] = None,
    estate_file: EstateOption = None,
    at: Annotated[
        list[str] | None,
        typer.Option(
            "--at",
            metavar="RESOLVER",
            help="Watch these resolvers, or groups of the estate's; all of the estate's when left out.",
            show_default=False,
        ),
    ] = None,
    view: ViewOption = None,
    within: Annotated[
        str | None,
        typer.Option(
            "--within", metavar="TIME", help="Give up after this time, such as 90s, 20min or 2h.", show_default=False
        ),
    ] = None,
    peek: Annotated[
        bool,
        typer.Option("--peek", help="Look into caches without recursion before the authoritative servers are done."),
    ] = False,
    journal: Annotated[
        Path | None,
        typer.Option(
            "--journal", metavar="FILE", help="Write every sighting down as a line of JSON.", show_default=False
        ),
    ] = None,
    resume: Annotated[bool, typer.Option("--resume", help="Go on with the watch in the journal.")] = False,
    figure: Annotated[
        Path | None,
        typer.Option("--figure", metavar="FILE", help="Draw the watch as a PNG or SVG.", show_default=False),
    ] = None,
    as_json: JsonOption = False,
    pace: PaceOption = None,
    timeout: TimeoutOption = 1.0,
    tries: TriesOption = 3,
    speed: Annotated[float, typer.Option("--speed", hidden=True, min=1)] = 1.0,
) -> None:
    """Watch authoritative servers and caches, each on its own schedule, until all have the new state."""
    from salt_mirror.checks.atlas import Atlas
    from salt_mirror.checks.settling.watch import Vantage, Watch
    from salt_mirror.checks.settling.wording import goal_text
    from salt_mirror.keeping.journal import Journal, goal_in, read_journal, replay
    from salt_mirror.cli.settle_report import Finish, bound_of, screen_for
    from salt_mirror.cli.following import Clock, authorities_of, follow, held_values, vantages
    from salt_mirror.dns.traffic.engine import Engine
    from salt_mirror.estate.errors import BadInput

    estate = open_estate(estate_file, view)
    if resume and journal is None:
        raise BadInput("--resume wants the journal to go on with: --journal FILE")
    if figure is not None and figure.suffix.lower() not in (".png", ".svg"):
        raise BadInput(f"--figure: {figure} is neither a .png nor a .svg")
    within_s = seconds_of(within, "--within") if within is not None else None
    past = read_journal(journal) if resume and journal is not None else None
    measure: Server | None = servers_at([held_by], estate)[0] if held_by is not None else None
    if past is not None:
        if name is not None or source is not None or registered is not None:
            raise BadInput("--resume: what is watched stands in the journal; leave the name out")
        goals = [goal_in(line) for line in past[0].goals]
    else:
        goals = _goals(estate, view, name, rdtype, to or [], gone, source, registered)
    caches = servers_and_groups(at, estate) if at else tuple(estate.resolvers.values())
    where = view_of(goals[0].name, estate, view)
    atlas = Atlas(estate, resolvers=finders(estate))
    clock = Clock(speed)
    keep_pace([*atlas.servers, *caches], pace)
    groups = {server: group for group, servers in estate.groups.items() for server in servers}
    with Engine(timeout_s=timeout, tries=tries) as engine:
        found = authorities_of(goals, where, atlas, engine)
        if past is None and name is not None and not to and not gone:
            goals = held_values(measure, found, engine)
            found = [(goal, servers) for goal, (_, servers) in zip(goals, found, strict=True)]
        began_at = past[0].began_at if past is not None else clock()
        watched = [] if registered is not None else [Vantage(server, True, groups.get(server, "")) for server in caches]
        watch = Watch(
            vantages(found), watched, began_at, peek=peek, gap_s=max(1.0, 0.1 * speed), tolerance_s=max(2.5, 0.25 * speed),
            every_s=max(5.0, 0.25 * speed),
        )  # fmt: skip
        bound = past[0].bound_s if past is not None else bound_of(goals, where, atlas, engine)
        if past is not None and journal is not None:
            replay(watch, goals, past[1], journal)
        written = Journal(journal, goals, began_at, bound, again=past is not None) if journal is not None else None
        what = goal_text(goals[0]) if len(goals) == 1 else f"{len(goals):,} records"
        finish = Finish(estate, goals, watch, what, bound, past[1] if past is not None else [])
        screen, end = screen_for(what, sys.stdout, watch, json=as_json)
        interrupted = False
        try:
            follow(watch, engine, clock, screen, within_s=within_s, record=finish.recorder(written))
        except KeyboardInterrupt:
            interrupted = True
        finally:
            end()
            if written is not None:
                written.close()
    if figure is not None:
        finish.draw(figure)
    finish.report(sys.stdout, json=as_json, interrupted=interrupted, strays=engine.strays)


def _goals(
    estate: Estate,
    view: str | None,
    name: str | None,
    rdtype: str | None,
    to: list[str],
    gone: bool,
    source: Path | None,
    registered: tuple[str, str] | None,
) -> list[Goal]:
    """What is waited for, from the command line. Raises BadInput."""
    from salt_mirror.cli.rollcall import first_forward
    from salt_mirror.cli.following import goal_of, goals_of, registration, type_of
    from salt_mirror.dns.names import BadName, from_text
    from salt_mirror.estate.errors import BadInput

    if sum(one is not None for one in (name, source, registered)) != 1:
        raise BadInput("one thing can be followed: NAME TYPE, --from FILE, or --registered HOST ADDRESS")
    suffix = first_forward(estate, view)
    if registered is not None:
        return registration(*registered, suffix)
    if source is not None:
        from salt_mirror.estate.sources import read_expectations

        goals = goals_of(read_expectations(source, suffix))
        if not goals:
            raise BadInput(f"--from: {source} has no records to follow")
        return goals
    assert name is not None
    if rdtype is None:
        raise BadInput("the record's type is missing: settle NAME TYPE")
    try:
        return [goal_of(from_text(name, suffix if "." not in name else None), type_of(rdtype), to, gone=gone)]
    except BadName as error:
        raise BadInput(str(error)) from None

"""`salt-mirror settle`: follow a change until every authoritative server and every cache has it."""

from __future__ import annotations

import sys
from contextlib import ExitStack
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import WRITING, Asking, Listing, Showing, Where, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.common.atlas import Atlas
    from salt_mirror.checks.plan.sets import PlannedSet
    from salt_mirror.checks.settle.goals import Goal
    from salt_mirror.checks.settle.judging import Vantage, Watch
    from salt_mirror.cli.settle.watching import Clock
    from salt_mirror.cli.vantage.asking import Afar
    from salt_mirror.dns.dialogue import Near
    from salt_mirror.estate.lists.spec import ListSpec
    from salt_mirror.estate.model import Estate
    from salt_mirror.estate.notify import Channel
    from salt_mirror.keeping.journal import Head, Line


@takes(
    "transfer", "faults", "all", "strict", *WRITING,
    at="Watch these resolvers, or groups of the estate's; all of the estate's when left out.",
)  # fmt: skip
def settle(
    name: Annotated[str | None, typer.Argument(metavar="[NAME]", help="The name whose record changes.")] = None,
    rdtype: Annotated[str | None, typer.Argument(metavar="[TYPE]", help="The record's type.")] = None,
    to: Annotated[list[str] | None, option("--to", "VALUE", "The value that is waited for; may be repeated.")] = None,
    gone: Annotated[bool, typer.Option("--gone", help="Wait until the record is gone.")] = False,
    held_by: Annotated[
        str | None,
        option(
            "--as-held-by",
            "SERVER",
            "Wait for what this server holds now; the first authoritative server when nothing else is said.",
        ),
    ] = None,
    source: Annotated[Path | None, option("--records", "FILE", "Follow all records of a list of expectations.")] = None,
    plan: Annotated[
        Path | None, option("--plan", "FILE", "Follow all changes of a plan that rehearse or mend wrote (FILE.jsonl).")
    ] = None,
    registered: Annotated[
        tuple[str, str] | None,
        option(
            "--registered",
            "HOST ADDRESS",
            "Wait until the host's address and its PTR record are on every authoritative server.",
        ),
    ] = None,
    within: Annotated[
        str | None, option("--within", "TIME", "Give up after this time, such as 90s, 20min or 2h.")
    ] = None,
    peek: Annotated[
        bool,
        typer.Option("--peek", help="Look into caches without recursion before the authoritative servers are done."),
    ] = False,
    journal: Annotated[Path | None, option("--journal", "FILE", "Write every sighting down as a line of JSON.")] = None,
    resume: Annotated[bool, typer.Option("--resume", help="Go on with the watch in the journal.")] = False,
    figure: Annotated[Path | None, option("--figure", "FILE", "Draw the watch as a PNG or SVG.")] = None,
    notify: Annotated[
        list[str] | None,
        option("--notify", "NAME", "Send to this channel of the estate when all have it, or the time is over."),
    ] = None,
    speed: Annotated[float, typer.Option("--speed", hidden=True, min=1)] = 1.0,
    *,
    listing: Listing,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """Watch authoritative servers and caches, each on its own schedule, until all have the new state."""
    from salt_mirror.cli.arguments import open_estate, seconds_of, spec_of

    estate = open_estate(asking)
    spec = spec_of(listing)
    wish = _Wish(name, rdtype, to or [], gone, held_by, source, plan, registered, journal, resume, figure, spec)
    wish.check()
    if notify:
        wish = _reporting_to(wish, notify, asking)
    if plan is not None and not resume:
        wish = _of_plan(wish, plan, asking, estate)
    within_s = seconds_of(within, "--within") if within is not None else None
    _watch(wish, estate, asking, where, within_s=within_s, peek=peek, speed=speed, json=showing.json)


@dataclass(frozen=True, slots=True)
class _Wish:
    """What is to be watched, and what is to be kept of it."""

    name: str | None
    rdtype: str | None
    to: list[str]
    gone: bool
    held_by: str | None
    source: Path | None
    plan: Path | None
    registered: tuple[str, str] | None
    journal: Path | None
    resume: bool
    figure: Path | None
    spec: ListSpec
    given: tuple[Goal, ...] = ()
    view: str | None = None
    longest_s: int = 0
    channels: tuple[Channel, ...] = ()

    def check(self) -> None:
        """Raise BadInput for what contradicts itself, or cannot be written."""
        from salt_mirror.cli.outputs import check_figure
        from salt_mirror.estate.errors import BadInput

        if self.resume and self.journal is None:
            raise BadInput("--resume wants the journal to go on with: --journal FILE")
        if self.figure is not None:
            check_figure(self.figure)
        things = (self.name, self.source, self.registered, self.plan)
        if self.plan is not None and sum(one is not None for one in things) != 1:
            raise BadInput("--plan follows what the plan has: leave the name, --records and --registered out")
        if self.resume and any(one is not None for one in things):
            raise BadInput("--resume: what is watched is in the journal; leave the name out")

    @property
    def open_ended(self) -> bool:
        """Whether the values are whatever a server holds now."""
        return not self.resume and self.name is not None and not self.to and not self.gone

    def past(self) -> tuple[Head, list[Line]] | None:
        """Return what the journal has, when it is to go on."""
        from salt_mirror.keeping.journal import read_journal

        return read_journal(self.journal) if self.resume and self.journal is not None else None

    def goals(self, estate: Estate, asking: Asking) -> list[Goal]:
        """Return what is waited for. Raises BadInput."""
        if self.given:
            return list(self.given)
        from salt_mirror.checks.settle.goals import goal_of, goals_of, registration
        from salt_mirror.cli.arguments import first_forward, name_of, origin_of, type_of, view_of
        from salt_mirror.estate.errors import BadInput
        from salt_mirror.estate.sources import read_expectations

        if sum(one is not None for one in (self.name, self.source, self.registered)) != 1:
            raise BadInput(
                "one thing can be followed: NAME TYPE, --records FILE, --plan FILE, or --registered HOST ADDRESS"
            )
        suffix = first_forward(asking, estate)
        if self.registered is not None:
            return registration(*self.registered, suffix)
        if self.source is not None:
            goals = goals_of(read_expectations(self.source, suffix, None, self.spec, estate.networks))
            if not goals:
                raise BadInput(f"--records: {self.source} has no records to follow")
            return goals
        assert self.name is not None
        if self.rdtype is None:
            raise BadInput("the record's type is missing: settle NAME TYPE")
        name = name_of(self.name, asking, estate)
        origin = origin_of(name, view_of(name, asking, estate), estate)
        return [goal_of(name, type_of(self.rdtype), self.to, origin, gone=self.gone)]


def _reporting_to(wish: _Wish, names: list[str], asking: Asking) -> _Wish:
    """Return the wish with the channels that are told how the watch ends. Raises BadInput."""
    from salt_mirror.cli.arguments import estate_file
    from salt_mirror.cli.notifying import channels_of
    from salt_mirror.estate.file import read_estate_file

    path = estate_file(asking.estate)
    return replace(wish, channels=tuple(channels_of(names, read_estate_file(path), path)))


def _of_plan(wish: _Wish, path: Path, asking: Asking, estate: Estate) -> _Wish:
    """Return the wish to follow every set of a plan, each as a server has it. Raises BadInput for one of several views."""
    from salt_mirror.checks.plan.sets import set_of
    from salt_mirror.keeping.approvals import sets_of_view

    estate.check_view(asking.view)
    sets = [set_of(line, None) for line in sets_of_view(path, asking.view)]
    goals = tuple(_goal_of_set(one) for one in sets)
    longest = max((one.ttl_before or 0 for one in sets), default=0)
    return replace(wish, given=goals, view=sets[0].key.view, longest_s=longest)


def _goal_of_set(planned: PlannedSet) -> Goal:
    """Return the goal that a set of a plan comes to; where only the TTL changes, that is waited for."""
    from salt_mirror.checks.settle.goals import Goal

    return Goal(planned.key.name, planned.key.rdtype, planned.after, through=False, ttl=planned.only_ttl)


def watch_goals(
    goals: list[Goal], view: str, estate: Estate, asking: Asking, *, within_s: float | None, json: bool
) -> None:
    """Watch until goals stand on every authoritative server of a view, prints the report, and end the program."""
    from salt_mirror.estate.lists.spec import ListSpec

    wish = _Wish(None, None, [], False, None, None, None, None, None, False, None, ListSpec(), tuple(goals), view)
    _watch(wish, estate, asking, Where(), within_s=within_s, peek=False, speed=1.0, json=json)


def _watch(
    wish: _Wish,
    estate: Estate,
    asking: Asking,
    where: Where,
    *,
    within_s: float | None,
    peek: bool,
    speed: float,
    json: bool,
) -> None:
    from salt_mirror.checks.settle.wording import goal_text
    from salt_mirror.cli.arguments import atlas_of, keep_pace, view_of
    from salt_mirror.cli.engines import engine_of
    from salt_mirror.cli.settle.watching import Beyond, Clock, Finish, follow, screen_for
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.journal import Journal, goal_in

    past = wish.past()
    if past is not None and not asking.at and not where.vantages:  # whom it has asked until now
        asking, where = replace(asking, at=past[0].at or None), replace(where, vantages=past[0].vantages or None)
    goals = [goal_in(line) for line in past[0].goals] if past is not None else wish.goals(estate, asking)
    view = wish.view if wish.view is not None else view_of(goals[0].name, asking, estate)
    atlas = atlas_of(estate)
    clock = Clock(speed)
    atlas.pace = asking.pace or None
    with ExitStack() as stack:
        engine = stack.enter_context(engine_of(asking))
        caches, exchange = _observers(wish, estate, asking, where, engine, stack)
        chosen = past is not None or bool(asking.at or where.vantages)
        caches, remarks = (caches, []) if chosen else _able(caches, goals, view, estate)
        keep_pace(chain(atlas.servers, (cache.server for cache in caches)), asking.pace)
        goals, watch, bound = _begin(wish, goals, caches, view, atlas, engine, clock, past, peek=peek)
        written = None
        if wish.journal is not None:
            written = Journal(
                wish.journal, goals, watch.began_at, bound, again=wish.resume, at=asking.at, vantages=where.vantages
            )
        what = goal_text(goals[0]) if len(goals) == 1 else f"{len(goals):,} records"
        end_of_it = Finish(estate, goals, watch, what, bound, past[1] if past is not None else [], remarks)
        screen, end = screen_for(what, sys.stdout, watch, json=json)
        interrupted, beyond = False, Beyond(view, atlas, asking)
        try:
            follow(watch, exchange, clock, screen, within_s=within_s, record=end_of_it.recorder(written), beyond=beyond)
        except KeyboardInterrupt:
            interrupted = True
        finally:
            end()
            if written is not None:
                written.close()
    failed = [written.trouble] if written is not None and written.trouble else []
    if wish.figure is not None:
        try:
            end_of_it.draw(wish.figure)
        except BadInput as error:
            failed.append(str(error))
    end_of_it.report(
        sys.stdout, json=json, interrupted=interrupted, strays=engine.strays, late=engine.late, failed=failed,
        channels=wish.channels,
    )  # fmt: skip


def _begin(
    wish: _Wish,
    goals: list[Goal],
    caches: list[Vantage],
    view: str,
    atlas: Atlas,
    engine: Near,
    clock: Clock,
    past: tuple[Head, list[Line]] | None,
    *,
    peek: bool,
) -> tuple[list[Goal], Watch, int | None]:
    """Return the watch, with all that its journal has; its goals, and how long a cache may keep the old state (seconds)."""
    from salt_mirror.checks.settle.goals import authorities_of, held_values
    from salt_mirror.checks.settle.judging import Watch, vantages
    from salt_mirror.cli.arguments import server_at
    from salt_mirror.cli.settle.watching import bound_of
    from salt_mirror.keeping.journal import replay

    measure = server_at(wish.held_by, atlas.estate, "--as-held-by") if wish.held_by is not None else None
    found = authorities_of(goals, view, atlas, engine)
    if wish.open_ended:
        goals = held_values(measure, found, engine, view, atlas)
        found = [(goal, servers) for goal, (_, servers) in zip(goals, found, strict=True)]
    began_at = min(past[0].began_at, clock()) if past is not None else clock()
    grain = 0.25 * clock.speed
    watch = Watch(
        vantages(found), caches, began_at, peek=peek, gap_s=max(1.0, 0.4 * grain), tolerance_s=max(2.5, grain),
        every_s=max(5.0, grain),
    )  # fmt: skip
    # What a plan has replaced may have had a longer TTL than what stands there by now.
    seen = bound_of(goals, view, atlas, engine) if past is None else None
    bound = past[0].bound_s if past is not None else max(seen or 0, wish.longest_s) or seen
    if past is not None and wish.journal is not None:
        replay(watch, goals, past[1], wish.journal, clock())
    return goals, watch, bound


def _able(caches: list[Vantage], goals: list[Goal], view: str, estate: Estate) -> tuple[list[Vantage], list[str]]:
    """Return the caches that can have the goals, and a remark about those that are left out: a resolver that gives another view
    has them only where that view has no zone for them, and they are public."""

    def can(cache: Vantage) -> bool:
        duty = estate.duties.get(cache.server.label)
        seen = duty.view if duty is not None else ""
        return seen in ("", view) or (
            view in estate.public_views and any(estate.zone_of(goal.name, seen) is None for goal in goals)
        )

    left = [cache.server.label for cache in caches if not can(cache)]
    remarks = [f"not asked, since they give another view than {view}: {', '.join(left)}"] if left else []
    return [cache for cache in caches if can(cache)], remarks


def _observers(
    wish: _Wish, estate: Estate, asking: Asking, where: Where, engine: Near, stack: ExitStack
) -> tuple[list[Vantage], Near]:
    """Return the caches to watch, and the exchange by which they are asked: from here, or from vantages."""
    if not where.vantages:
        return _caches(wish, estate, asking), engine
    from salt_mirror.cli.vantage.asking import afar

    places = stack.enter_context(afar(estate, where))
    return _caches_afar(wish, estate, asking, places), places.beside(engine, revived=True)


def _caches_afar(wish: _Wish, estate: Estate, asking: Asking, places: Afar) -> list[Vantage]:
    """Return the caches to watch from vantages: those that are named, else the resolvers that people there use."""
    from salt_mirror.checks.settle.judging import Vantage
    from salt_mirror.cli.arguments import servers_and_groups
    from salt_mirror.cli.vantage.asking import own_resolvers
    from salt_mirror.estate.errors import BadInput

    if wish.registered is not None:
        raise BadInput("--from watches caches, and --registered only authoritative servers; leave one of them out")
    named = servers_and_groups(asking.at, estate) if asking.at else ()
    found = []
    for name, present in places.present.items():
        seen = [server.seen_from(name) for server in named] if named else own_resolvers(name, present)
        found += [Vantage(server, True, present.group) for server in seen]
    return found


def _caches(wish: _Wish, estate: Estate, asking: Asking) -> list[Vantage]:
    """Return the caches to watch; none for a host's registration, which has to stand on authoritative servers alone."""
    from salt_mirror.checks.settle.judging import Vantage
    from salt_mirror.cli.arguments import servers_and_groups

    if wish.registered is not None or wish.given:
        return []
    groups = {server: group for group, servers in estate.groups.items() for server in servers}
    caches = servers_and_groups(asking.at, estate) if asking.at else tuple(estate.resolvers.values())
    return [Vantage(server, True, groups.get(server, "")) for server in caches]

"""`salt-mirror rollcall`: here is what should be registered; is it, on every authoritative server?"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NoReturn

import typer

from salt_mirror.cli.options import Asking, Listing, Showing, Where, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.common.atlas import Atlas
    from salt_mirror.checks.common.expected import ExpectedSet
    from salt_mirror.checks.common.part import Part
    from salt_mirror.dns.errors import Unusable
    from salt_mirror.dns.names import Name
    from salt_mirror.dns.questions import Server
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.expectations import Expectation
    from salt_mirror.estate.forms import Networks
    from salt_mirror.estate.lists.spec import ListSpec
    from salt_mirror.estate.model import Estate, Zone


@takes("listed", at="Only ask these servers.")
def rollcall(
    sources: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LIST|NAME]...",
            help="Lists of expected records in any form, - for standard input; or names of which the estate expects records.",
        ),
    ] = None,
    records: Annotated[
        list[str] | None, option("--records", "FILE", "A list of expected records, as the arguments are.")
    ] = None,
    held_by: Annotated[
        str | None, option("--as-held-by", "SERVER", "Expect what this server holds, by transfer or by asking.")
    ] = None,
    zone: Annotated[str | None, option("--zone", "ZONE", "Only check the records of this zone.")] = None,
    types: Annotated[str | None, option("--types", "A,AAAA,...", "Only check these types.")] = None,
    names: Annotated[
        list[str] | None, option("--name", "GLOB", "Call names that fit this pattern; may be repeated.")
    ] = None,
    unexpected: Annotated[
        bool,
        typer.Option("--unexpected", help="Also report what is not expected, in zones whose servers allow transfers."),
    ] = False,
    *,
    listing: Listing,
    where: Where,
    asking: Asking,
    showing: Showing,
) -> None:
    """Check expected records: is every one registered on every authoritative server of its zone?"""
    from salt_mirror.checks.common.expected import expected_sets
    from salt_mirror.cli.arguments import first_forward, left_out, open_estate, servers_at, spec_of, types_in
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.forms import zone_name

    estate = open_estate(asking)
    servers_at(asking.at, estate)  # a wrong one is refused before anything is asked
    only = zone_name(zone) if zone is not None else None
    problems: list[Unusable] = []
    origin = only if only is not None else first_forward(asking, estate)
    lists, called = _sorted_out(sources or [], estate, asking)
    expectations = _given([*lists, *(records or [])], origin, problems, spec_of(listing), estate.networks)
    if held_by is not None:
        expectations = _held(held_by, estate, expectations, asking, only)
    bad, rdtypes = _subjects(problems), types_in(types)
    sets = expected_sets(
        estate, expectations, view=asking.view, zone=only, rdtypes=rdtypes, globs=names or [], damaged=bad
    )
    sets = [one for one in sets if not called or one.name in called]
    if not sets:
        raise BadInput("nothing to call: no expectation fits; give lists, or an estate with zones that expect records")
    damaged = left_out([str(bad) for bad in problems], asking)
    if where.vantages:
        if unexpected:
            raise BadInput("--from and --unexpected: what is not expected is only known from transfers; leave one out")
        _from_places(sets, damaged, estate, where, asking, showing)
    closed = [one for one in estate.all_zones() if unexpected and only in (None, one.apex)]
    _here(sets, closed, damaged, estate, replace(asking, transfer=asking.transfer or unexpected), showing)


def _subjects(problems: list[Unusable]) -> dict[tuple[Name, int], str]:
    """Return what the rows of lists that cannot be used are about, as far as that can be read, with what is wrong with each."""
    from salt_mirror.estate.errors import BadRow

    return {bad.subject: str(bad) for bad in problems if isinstance(bad, BadRow) and bad.subject is not None}


def _here(
    sets: list[ExpectedSet], zones: list[Zone], damaged: list[str], estate: Estate, asking: Asking, showing: Showing
) -> NoReturn:
    """Call the roll from this computer; of some zones, also say what is not expected in them."""
    from salt_mirror.checks.rollcall.judging import Roll
    from salt_mirror.cli.arguments import atlas_of, servers_at, views_of
    from salt_mirror.cli.execution import run_again_if_apart
    from salt_mirror.cli.finishing import finish, report_of

    atlas, views = atlas_of(estate, servers_at(asking.at, estate)), views_of(asking, estate)
    looked_at = [zone for zone in zones if zone.view in views]
    part, ran = run_again_if_apart(lambda: Roll(sets, atlas, looked_at), atlas, views, asking, "record sets called")
    report = report_of("rollcall", estate, ran, part, damaged)
    finish(report, showing, part, several_views=len(views) > 1)


def _from_places(
    sets: list[ExpectedSet], damaged: list[str], estate: Estate, where: Where, asking: Asking, showing: Showing
) -> NoReturn:
    """Call the roll from vantages."""
    from salt_mirror.checks.rollcall.judging import Roll
    from salt_mirror.cli.arguments import atlas_of, servers_at, views_of
    from salt_mirror.cli.finishing import finish, report_of
    from salt_mirror.cli.vantage.asking import atlas_at, check_from

    def build(seen: Estate) -> tuple[Part, Atlas]:
        atlas = atlas_of(seen, servers_at(asking.at, seen)) if asking.at else atlas_at(seen)
        return Roll(sets, atlas, []), atlas

    ran, every = check_from(where, asking, build, "record sets called", estate)
    report = report_of("rollcall", estate, ran, every, damaged)
    finish(report, showing, every, several_views=len(views_of(asking, estate)) > 1)


def _sorted_out(given: list[str], estate: Estate, asking: Asking) -> tuple[list[str], set[Name]]:
    """Return which arguments are lists, and the names that the others stand for. Raises BadInput for what is neither, with the
    name that was meant."""
    from salt_mirror.cli.arguments import name_of, views_of
    from salt_mirror.dns.reverse import reverse_name
    from salt_mirror.estate.forms import address_in

    typed = [text for text in given if text != "-" and len(Path(text).parts) == 1 and not _exists(Path(text))]
    if not typed or not estate.zones:
        return given, set()
    zones = [zone for zone in estate.all_zones() if zone.view in views_of(asking, estate)]
    expected = {one.name for zone in zones for one in zone.expectations}
    expected |= {row.name for row in estate.damaged if row.name and asking.view in (None, row.view)}
    if not expected:
        return given, set()
    names: set[Name] = set()
    for text in typed:
        address = address_in(text)
        if address is not None:  # the records that lead to it, and its PTR record
            wanted = {one.name for zone in zones for one in zone.expectations if one.rdata == address}
            wanted.add(reverse_name(address))
        else:
            wanted = {name_of(text, asking, estate)}
        if not wanted & expected:
            raise _neither(text, expected)
        names |= wanted & expected
    return [text for text in given if text not in typed], names


def _exists(path: Path) -> bool:
    try:
        return path.exists()
    except (OSError, ValueError):
        return False


def _neither(text: str, expected: set[Name]) -> BadInput:
    """Return that an argument is no list, and no name of which anything is expected."""
    from salt_mirror.checks.common.nearest import meant
    from salt_mirror.dns.names import shown
    from salt_mirror.estate.errors import BadInput

    offer = meant(text, expected) or "give a list, or a name that the estate expects"
    return BadInput(f"{shown(text)}: there is no such file, and the estate expects nothing of that name; {offer}")


def _given(
    sources: list[str], origin: Name, problems: list[Unusable], spec: ListSpec, networks: Networks
) -> list[Expectation] | None:
    """Return the expectations in the named sources; None when none is named. Damaged lines go to `problems`."""
    from salt_mirror.estate.sources import read_expectations, read_given

    if not sources:
        return None
    found: list[Expectation] = []
    for source in sources:
        if source == "-":
            found += read_given(sys.stdin.buffer.read(), origin, problems, spec, networks)
        else:
            found += read_expectations(Path(source), origin, problems, spec, networks)
    return found


def _held(
    held_by: str, estate: Estate, expectations: list[Expectation] | None, asking: Asking, zone: Name | None
) -> list[Expectation]:
    """Return what one server holds, as expectations: whole zones by transfer, else what it says of the expected names."""
    from salt_mirror.cli.arguments import server_at, views_of
    from salt_mirror.dns.names import to_text
    from salt_mirror.dns.records import NOT_COMPARED
    from salt_mirror.dns.transfer import TransferFailed, transfer
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.expectations import Expectation

    server = server_at(held_by, estate, "--as-held-by")
    zones = [one for where in views_of(asking, estate) for one in estate.zones[where].values()]
    found: list[Expectation] = []
    refused = ""
    if expectations is None:
        served = [one.apex for one in zones if one.servers is None or server.same_place_as_any(one.servers)]
        for apex in dict.fromkeys([zone] if zone is not None else served):
            whole: list[Expectation] = []
            try:
                for records in transfer(server, apex, timeout_s=asking.timeout * 5):
                    whole += [
                        Expectation(record.owner, record.rdtype, record.rdata, ttl=record.ttl, presence="exact")
                        for record in records
                        if record.rdtype not in NOT_COMPARED
                    ]
            except TransferFailed as error:
                refused = f"{to_text(apex)}: {error}"
            else:
                found += whole  # and stays, whatever becomes of the zone above it
        if found and not refused:
            return found
        expectations = [one for held in zones for one in held.expectations]
    expectations = _said_by(server, expectations, asking)
    if not expectations and not found:
        why = f" (transfer of {refused})" if refused else ""
        raise BadInput(f"--as-held-by: {server.label} handed over no zone{why}, and answered for no expected name")
    return found + expectations


def _said_by(server: Server, names: list[Expectation], asking: Asking) -> list[Expectation]:
    from salt_mirror.cli.engines import engine_of
    from salt_mirror.dns.questions import Question
    from salt_mirror.dns.records import SOA
    from salt_mirror.estate.expectations import Expectation

    found = []
    with engine_of(asking) as engine:
        for name, rdtype in dict.fromkeys((one.name, one.rdtype) for one in names if one.rdtype != SOA):
            engine.submit(Question(name, rdtype, server))
        while answers := engine.collect():
            for answer in answers:
                name, rdtype, *_ = answer.question
                if answer.trouble is None:
                    found += [
                        Expectation(name, rdtype, value, ttl=answer.ttl, presence="exact") for value in answer.values
                    ]
    return found

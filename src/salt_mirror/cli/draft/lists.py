"""Lists written into an estate that is there: read once, with their columns found, and put where their names belong.

Strategy: a list goes to the zone that most of its names are in, so that its short names are that zone's. What the line says is
all that is needed to read the list again; it is read back with the estate before the file is replaced.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn

import typer

from salt_mirror.checks.common.falling import Place, by_place, in_words
from salt_mirror.checks.common.wording import many
from salt_mirror.cli.arguments import ESTATE_HERE, left_out, spec_of
from salt_mirror.cli.messages import UNVERIFIED, tell
from salt_mirror.cli.options import Asking, Listing
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.building import estate_of
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.file import SourceEntry, parse_estate
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.lists.spec import ListSpec
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import is_there, read_bytes, read_text
from salt_mirror.estate.sources import read_given
from salt_mirror.estate.table import Filter, UnknownColumns
from salt_mirror.keeping.draft.adding import list_line, with_list
from salt_mirror.keeping.writing import path_from, write_whole


@dataclass(frozen=True, slots=True)
class NewList:
    """A list as it goes into the estate: how it is read, the zone that expects it, what it expects, what is wrong with it."""

    path: Path
    spec: ListSpec
    home: Place
    expectations: list[Expectation]
    problems: list[Unusable]


def add_lists(
    files: list[Path], listing: Listing, asking: Asking, folder: Path, *, json: bool, searches: bool
) -> NoReturn:
    """Write lists into the estate of a folder, and say what each of them expects there. Raises BadInput, and changes nothing
    then; also where something is to be searched besides."""
    if searches:
        raise BadInput(
            "--list adds to an estate that is there, and nothing is searched; draft first, then add the list"
        )
    spec, estate_path = spec_of(listing), folder / ESTATE_HERE
    if not is_there(estate_path):
        raise BadInput(
            f"--list: there is no estate in {shown_path(estate_path)} that a list could be added to; "
            "draft one first, such as: salt-mirror draft gullmarsh.example"
        )
    text = read_text(estate_path)
    estate = estate_of(parse_estate(text, estate_path), estate_path)
    estate.check_view(asking.view)
    added = []
    for path in files:
        found = _placed(path, spec, asking.view, estate)
        added.append(found)
        text = with_list(text, _position(text, estate_path, found.home), _entry(found, estate_path))
    estate_of(parse_estate(text, estate_path), estate_path)  # before the old one is replaced
    write_whole(estate_path, text)
    if json:
        from salt_mirror.report.json.expectations import expectations_json

        every = [one for found in added for one in found.expectations]
        damaged = [one for found in added for one in found.problems]
        sys.stdout.buffer.write(expectations_json(every, damaged, [], estate))
    else:
        for found in added:
            _say(found, estate_path, estate, asking)
        tell("Check them: salt-mirror rollcall", begin="", file=sys.stdout)
    raise typer.Exit(UNVERIFIED if any(found.problems for found in added) else 0)


def _placed(path: Path, spec: ListSpec, view: str | None, estate: Estate) -> NewList:
    """Read a list, and find the zone that most of its names are in. Raises BadInput."""
    zones = [(zone.view, zone.apex) for zone in estate.all_zones() if view in (None, zone.view)]
    zones.sort(key=lambda place: is_reverse(place[1]))  # forward zones first, else in the order of the file
    if not zones:
        raise BadInput("--list: the estate has no zone that could expect a list")
    # By themselves short names are in no zone. They are hosts' names, whatever else the list has: a reverse zone is the home of
    # a list only where all of it is there. PTR records that are expected of addresses say nothing about the names.
    content = read_bytes(path)
    alone, _, read = _read(content, path, spec._replace(pointers=False), ROOT, estate)
    whole = by_place(alone, estate, view)
    forward = [place for place in zones if not is_reverse(place[1])]
    among = forward if forward and (None in whole or not whole.keys().isdisjoint(forward)) else zones
    home = max(among, key=lambda place: len(whole.get(place, ())))
    found, problems, read = _read(content, path, read._replace(pointers=spec.pointers), home[1], estate)
    if not found:
        raise BadInput.at(path, None, "expects nothing" + (f": {problems[0]}" if problems else ""))
    if by_place(found, estate, view).keys() == {None}:
        name = to_text(found[0].name)
        raise BadInput.at(path, found[0].line, f"{name} is in no zone of the estate, and no other name in the list is")
    return NewList(path, read, home, found, problems)


def _read(
    content: bytes, path: Path, spec: ListSpec, origin: Name, estate: Estate
) -> tuple[list[Expectation], list[Unusable], ListSpec]:
    """Return what a list expects, what is wrong with it, and how it was read. Raises BadInput."""
    problems: list[Unusable] = []
    try:
        return read_given(content, origin, problems, spec, estate.networks, path=path), problems, spec
    except UnknownColumns as error:
        spec = spec._replace(layout=spec.layout._replace(columns=error.columns))
    problems = []
    return read_given(content, origin, problems, spec, estate.networks, path=path), problems, spec


def _position(text: str, path: Path, home: Place) -> int:
    """Return which zone of the file it is, counted from 0."""
    entries = parse_estate(text, path).zones
    return next(at for at, one in enumerate(entries) if (one.view, zone_name(one.name)) == home)


def _entry(found: NewList, estate_path: Path) -> SourceEntry:
    """Return a list as the estate names it."""
    layout = found.spec.layout
    return SourceEntry(
        file=path_from(estate_path.parent, found.path), form=found.spec.form, columns=dict(layout.columns),
        where=_plain(layout.where), absent_where=_plain(layout.absent_where), note=layout.note,
        sheet=found.spec.sheet, pointers=found.spec.pointers,
    )  # fmt: skip


def _plain(filter_: Filter) -> dict[str, str | list[str]]:
    """Return a filter as the estate writes it: one pattern, or a list."""
    return {column: fits[0] if len(fits) == 1 else list(fits) for column, fits in filter_.items()}


def _say(found: NewList, estate_path: Path, estate: Estate, asking: Asking) -> None:
    """Say what a list expects, in which zones, and what is wrong with it."""
    said = [
        f"{to_text(found.home[1])} expects {many(len(found.expectations), 'more record')}. "
        f"{shown_path(estate_path)} has this in its list:",
        f"    {list_line(_entry(found, estate_path))}",
        *in_words(found.expectations, estate, asking.view),
        *left_out([str(problem) for problem in found.problems], asking),
    ]
    for line in said:
        tell(line, begin="", file=sys.stdout)

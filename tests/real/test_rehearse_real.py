"""Random zone files rehearsed against a real BIND with a real NSD behind it, then loaded: the audit finds what was foretold.

All worlds stand side by side as zones of the same servers. BIND loads the files, or refuses them; NSD transfers them where the
serial rises, and keeps what it has where it does not.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, given, settings

from salt_mirror.checks.common.part import Holdings
from salt_mirror.checks.rehearse.files import refusals
from salt_mirror.checks.rehearse.judging import Rehearsal
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.cli.rehearse.reading import problem_in
from salt_mirror.cli.transfers import taken
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import SOA, soa_fields
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.transfer import Bounds
from salt_mirror.estate.masterfile import read_master_file
from salt_mirror.estate.model import Estate, Zone
from support import realservers
from support.examples import DEEP
from support.laidworlds import KEY, Laid, drawn, estate
from support.rehearsals import Edit, audit, edits, known_after, nothing_handed_over, rehearsed, said
from support.waiting import until

pytestmark = pytest.mark.real
WORLDS = 200 if DEEP else 40
KINDS = ("follows", "apart", "unlisted", "none")


@dataclass
class Rehearsed:
    """A world, its edit, what was foretold, and what was handed over before."""

    laid: Laid
    edit: Edit
    estate: Estate
    rehearsal: Rehearsal
    seen: Holdings

    @property
    def refused(self) -> set[Name]:
        """The zones whose files a server would not load."""
        return {
            one.loading.served.apex
            for one in self.rehearsal.zones
            if any(finding.weight == "fault" for finding in one.refused())
        }


def some_edits(number: int) -> list[Edit]:
    """So many edits, the same each time."""
    found: list[Edit] = []

    @settings(
        max_examples=number, derandomize=True, database=None, deadline=None, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(edits())
    def draw(edit: Edit) -> None:
        found.append(edit)

    draw()
    return found


def under_own_names(edit: Edit, laid: Laid) -> Edit:
    texts = {laid.own(origin): laid.own(text) for origin, text in edit.texts.items()}
    return Edit(texts, edit.whole)


@pytest.fixture
def servers(tmp_path: Path) -> Iterator[tuple[list[Laid], Server, Server]]:
    """The worlds on a primary and on a secondary, which begins with what it has of its own."""
    laid = drawn(WORLDS, KINDS)
    assert len(laid) == WORLDS
    first = {apex: text for one in laid for apex, text in one.texts[0].items()}
    own = {apex: text for one in laid for apex, text in one.texts[-1].items() if one.second != "none"}
    with ExitStack() as stack:
        port = realservers.free_port()
        primary = stack.enter_context(
            realservers.bind(tmp_path / "bind", first, key=KEY, open_to_all=True, notify=port)
        )
        follower = stack.enter_context(
            realservers.nsd(tmp_path / "nsd", own, secondary=realservers.following(primary), port=port)
        )
        yield laid, primary, follower


def handed_over(estate: Estate, server: Server) -> Holdings:
    """The zones of an estate as a server hands them over now."""
    wanted = [(server, zone.apex) for zone in estate.all_zones()]
    held = {
        (one, apex): holding
        for one, apex, holding in taken(wanted, Bounds(), timeout_s=30.0)
        if isinstance(holding, Holding)
    }
    return lambda one, apex: held.get((one, apex))


def serial(server: Server, apex: Name) -> int | None:
    with Engine() as engine:
        engine.submit(Question(apex, SOA, server))
        (answer,) = engine.collect()
    return soa_fields(answer.values[0]).serial if answer.trouble is None and answer.values else None


def test_what_was_foretold_is_found_once_real_servers_have_loaded_the_files(
    servers: tuple[list[Laid], Server, Server], tmp_path: Path
) -> None:
    laid, primary, follower = servers
    stories: list[Rehearsed] = []
    for one, edit in zip(laid, some_edits(WORLDS * 2), strict=False):
        own, world = under_own_names(edit, one), estate(one, primary, follower)
        seen = handed_over(world, primary) if own.whole else nothing_handed_over
        with Engine(timeout_s=5.0) as engine:
            stories.append(Rehearsed(one, own, world, rehearsed(world, engine, own, seen), seen))
    realservers.load_anew(tmp_path / "bind", {apex: text for one in stories for apex, text in one.edit.texts.items()})
    for story in stories:
        for change in story.rehearsal.zones:
            apex = change.loading.served.apex
            wanted = soa_fields(change.loading.served.soa).serial
            if apex not in story.refused:
                until(lambda apex=apex, wanted=wanted: serial(primary, apex) == wanted)  # type: ignore[misc]
                if follower in change.loading.takers:
                    until(lambda apex=apex, wanted=wanted: serial(follower, apex) == wanted)  # type: ignore[misc]
    compared = 0
    for story in stories:
        if story.refused:
            for apex in story.refused:
                assert serial(primary, apex) == 8, (story.edit, "BIND has loaded what it was said to refuse")
            continue
        loaded = handed_over(story.estate, primary)
        both: Holdings = lambda server, apex, loaded=loaded: loaded(primary, apex)  # type: ignore[misc]  # noqa: E731
        known, names = known_after(story.rehearsal, both, story.seen)
        with Engine(timeout_s=5.0) as engine:
            after = said(audit(story.estate, engine, known, names))
        assert said(story.rehearsal.after) == after, (story.laid, story.edit)
        compared += 1
    assert compared >= 30
    assert any(story.refused for story in stories)
    assert any("keeps" in one.loading.fates.values() for story in stories for one in story.rehearsal.zones)


GOOD = "$TTL 600\n@ SOA ns h 1 3600 600 1209600 300\n@ NS ns\nns A 192.0.2.53\n"
HEADLESS = "$TTL 600\n@ SOA ns h 1 3600 600 1209600 300\n"
ODD = 't TXT ( "a"\n "b;c" )\n  TXT "d"\nhex TYPE65280 \\# 2 abcd\n'
REFUSED: dict[str, tuple[str, set[str], bool, bool]] = {
    # what is in the file: the codes that are to be found, whether BIND loads it, whether NSD does
    "sound": (GOOD + "a A 192.0.2.1\n", set(), True, True),
    "odd": (GOOD + ODD, set(), True, True),
    "generate": (GOOD + "$GENERATE 1-3 g$ A 192.0.2.$\n", set(), True, False),  # BIND's own directive, read as it reads it
    "address": (GOOD + "a A 192.0.2.300\n", {"reh.unreadable"}, False, False),
    "class": (GOOD + "a CH A 192.0.2.1\n", {"reh.unreadable"}, False, False),
    "nosoa": ("$TTL 600\n@ NS ns\nns A 192.0.2.53\n", {"reh.soa"}, False, False),
    "twosoas": (GOOD + "@ SOA ns h 2 3600 600 1209600 300\n", {"reh.soa"}, False, False),
    "soabelow": (GOOD + "s SOA ns h 2 3600 600 1209600 300\n", {"reh.soa"}, False, False),
    "alias": (GOOD + "a CNAME ns\na A 192.0.2.1\n", {"reh.alias-and-other"}, False, False),
    "aliases": (GOOD + "a CNAME ns\na CNAME b\n", {"reh.several-aliases"}, False, False),
    "outside": (GOOD + "x.other.example. A 192.0.2.1\n", {"reh.outside-zone"}, True, False),
    "nons": (HEADLESS + "ns A 192.0.2.53\n", {"reh.no-name-servers"}, False, True),
    "noglue": (HEADLESS + "@ NS ns\n", {"reh.no-glue"}, False, True),
    "nsalias": (HEADLESS + "@ NS ns\nns CNAME b\nb A 192.0.2.1\n", {"reh.no-glue"}, False, True),
    "cutglue": (GOOD + "sub NS ns.sub\n", {"reh.no-glue"}, True, True),
    "dname": (GOOD + "d DNAME x.example.\ny.d A 192.0.2.1\n", {"reh.below-dname"}, True, False),
    "ttls": (GOOD + "a 300 A 192.0.2.1\na 600 A 192.0.2.2\n", {"reh.ttls-differ"}, True, True),
    "hidden": (GOOD + "sub NS ns\nwww.sub A 192.0.2.1\n", {"reh.hidden"}, True, True),
}  # fmt: skip


def test_what_is_said_of_a_file_is_what_real_servers_make_of_it(tmp_path: Path) -> None:
    texts = {f"{name}.example": text for name, (text, *_) in REFUSED.items()}
    with ExitStack() as stack:
        bind = stack.enter_context(realservers.bind(tmp_path / "bind", texts, key=KEY))
        nsd = stack.enter_context(realservers.nsd(tmp_path / "nsd", texts))
        for name, (text, codes, by_bind, by_nsd) in REFUSED.items():
            apex = from_text(f"{name}.example")
            (tmp_path / name).write_text(text, encoding="utf-8")
            problems: list[Unusable] = []
            records = read_master_file(tmp_path / name, apex, problems)
            file = ProposedZone(Zone(apex, "", ()), tmp_path / name, records, list(map(problem_in, problems)))
            found = refusals(file)
            assert {one.code for one in found} == codes, name
            loaded = [serial(server, apex) is not None for server in (bind, nsd)]
            assert loaded == [by_bind, by_nsd], name
            assert all(loaded) or name == "generate" or any(one.weight == "fault" for one in found), name
            for one in found:
                assert all(line.file == str(tmp_path / name) for line in one.lines or ()), name

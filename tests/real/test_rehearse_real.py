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
from salt_mirror.checks.rehearse.judging import Rehearsal
from salt_mirror.cli.transfers import taken
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import SOA, soa_fields
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.transfer import Bounds
from salt_mirror.estate.model import Estate
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
        xfr = f"  request-xfr: AXFR 127.0.0.1@{primary.port} NOKEY\n  allow-notify: 127.0.0.1 NOKEY"
        follower = stack.enter_context(realservers.nsd(tmp_path / "nsd", own, secondary=xfr, port=port))
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

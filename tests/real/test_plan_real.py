"""Random worlds on a real BIND with a real NSD behind it: planned, carried out, held against the oracle, and taken back.

All worlds stand side by side as zones of the same servers. NSD follows, or begins with content or a version of its own; of some
worlds a policy lets nobody change one host.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import dns.query
import dns.rdatatype
import dns.zone
import pytest

from salt_mirror.checks.audit.judge import AuditJudge
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.plan.deciding import Decision
from salt_mirror.checks.plan.proving import proved
from salt_mirror.checks.plan.sets import Plan, PlannedSet
from salt_mirror.cli.mend.apply import Applying, await_servers
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import is_within, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.findings import Word
from salt_mirror.keeping.undo import UndoFile
from support import realservers
from support.examples import DEEP
from support.laidworlds import FORBIDDEN, KEY, Laid, drawn, estate
from support.oracle import Wishes, Zones, lost, unmet, worse, zones_of
from support.tables import NOW
from support.worlds import FORWARD

pytestmark = pytest.mark.real
WORLDS = 300 if DEEP else 50
WORDS: tuple[Word | None, ...] = (None, "remove", "register")


def held(laid: Laid, server: Server) -> Zones:
    """The zones of a world as a server has them."""
    return zones_of(
        dns.zone.from_xfr(dns.query.xfr("127.0.0.1", apex, port=server.port, relativize=False), relativize=False)
        for apex in laid.apexes
    )


def content(zones: Zones) -> Zones:
    """The same without the SOA, whose serial goes on."""
    return {key: values for key, values in zones.items() if key[1] != "SOA"}


@pytest.fixture
def servers(tmp_path: Path) -> Iterator[tuple[list[Laid], Server, dict[str, Server]]]:
    """The worlds, their primary, and the secondary of each kind."""
    laid = drawn(WORLDS)
    assert len(laid) == WORLDS
    policy = " ".join(
        f"deny mirror.test name {one.own(f'{FORBIDDEN}.{FORWARD}')} ANY;" for one in laid if one.forbidden
    )
    first = {apex: text for one in laid for apex, text in one.texts[0].items()}
    following = [one for one in laid if one.second in ("follows", "apart", "unlisted")]
    stuck = [one for one in laid if one.second == "stuck"]
    with ExitStack() as stack:
        port = realservers.free_port()
        primary = stack.enter_context(
            realservers.bind(
                tmp_path / "bind",
                first,
                key=KEY,
                open_to_all=True,
                notify=port,
                update_policy=f"update-policy {{ {policy} grant mirror.test zonesub ANY; }};",
            )
        )
        own = {apex: text for one in following for apex, text in one.texts[1].items()}
        follower = stack.enter_context(
            realservers.nsd(tmp_path / "nsd", own, secondary=realservers.following(primary), port=port)
        )
        old = {apex: text for one in stuck for apex, text in one.texts[1].items()}
        kept = stack.enter_context(realservers.nsd(tmp_path / "old", old, label="old"))
        yield laid, primary, dict.fromkeys(("follows", "apart", "unlisted", "none"), follower) | {"stuck": kept}


def mail_without_address(sets: list[PlannedSet], zones: Zones) -> set[str]:
    """The names at which mail exchangers of the same zone come that have no address there: BIND takes no such update."""
    return {
        to_text(one.key.name)
        for one in sets
        if one.key.rdtype == dns.rdatatype.MX
        for value in one.after
        if is_within(value[2:], one.key.zone) and (to_text(value[2:]), "A") not in zones
    }


def sent(plan: list[PlannedSet], plan_servers: Plan, atlas: Atlas, engine: Engine, undo: Path) -> Applying:
    """Changes carried out as `mend` does it, and waited for on the servers that follow."""
    file = UndoFile(undo, "", "", plan)
    applying = Applying(atlas, engine, file, timeout_s=30.0)
    applying.carry_out(plan)
    file.close()
    _, missing = await_servers([(one, ()) for one in applying.done], engine, 30.0, lambda: None)
    assert not missing
    return applying


def test_random_worlds_on_real_servers_get_what_is_expected_and_lose_nothing(
    servers: tuple[list[Laid], Server, dict[str, Server]], tmp_path: Path
) -> None:
    laid, primary, seconds = servers
    changed = refused = 0
    for one in laid:
        wishes, before = Wishes(one.expected), held(one, primary)
        atlas = Atlas(estate(one, primary, seconds[one.second]))
        word = WORDS[one.number % 3]
        decisions = [Decision(word)] if word else []
        with Engine() as engine:
            judge = AuditJudge(atlas, coverage([], [], atlas.estate), Setting(NOW), lambda: None)
            plan = proved(judge, Runner(engine), atlas, decisions)
            applying = sent(plan.sets, plan, atlas, engine, tmp_path / f"undo{one.number}")
            after = held(one, primary)
            told = (one.number, one.second, word, before, after, applying.outcomes)
            left = {said.name for said in applying.outcomes if said.outcome != "agrees"}
            assert not [said for said in unmet(wishes, before, after) if said.split()[0] not in left], told
            assert not lost(wishes, before, after) and not worse(wishes, before, after), told
            assert one.forbidden or not left - mail_without_address(plan.sets, after), told
            changed += len(applying.done)
            refused += len(left)
            back = sent([done.turned() for done in applying.done], plan, atlas, engine, tmp_path / f"back{one.number}")
        assert all(said.outcome == "agrees" for said in back.outcomes), told
        assert content(held(one, primary)) == content(before), told
    assert changed > WORLDS and refused

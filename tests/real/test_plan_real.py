"""Random worlds on a real BIND with a real NSD behind it: planned, carried out, held against the oracle, and taken back.

All worlds stand side by side as zones of the same servers. NSD follows, or begins with content or a version of its own; of some
worlds a policy lets nobody change one host.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import dns.query
import dns.zone
import pytest
from hypothesis import HealthCheck, Phase, given, settings

from salt_mirror.checks.audit.judge import AuditJudge
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.plan.deciding import Decision
from salt_mirror.checks.plan.proving import proved
from salt_mirror.checks.plan.sets import Plan, PlannedSet
from salt_mirror.cli.mend.apply import Applying, await_servers
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Key, Server
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Updates, Zone
from salt_mirror.findings import Word
from salt_mirror.keeping.undo import UndoFile
from support import realservers
from support.examples import DEEP
from support.oracle import Wishes, Zones, lost, unmet, worse, zones_of
from support.tables import NOW
from support.worlds import FORWARD, REVERSE, World, expectation, worlds

pytestmark = pytest.mark.real
KEY = Key(from_text("mirror.test"), "hmac-sha256", bytes(range(32)))
WORLDS = 300 if DEEP else 50
FORBIDDEN = "h1"
WORDS: tuple[Word | None, ...] = (None, "remove", "register")


@dataclass
class Laid:
    """A world on real servers: what NSD has of it, its zones, and what is expected, all under names of its own."""

    number: int
    second: str
    texts: list[dict[str, str]]
    expected: list[Expectation]

    @property
    def apexes(self) -> tuple[str, str]:
        return self.own(FORWARD), self.own(REVERSE)

    @property
    def forbidden(self) -> bool:
        """Whether the key may not change one of its hosts."""
        return self.number % 3 == 0

    def own(self, text: str) -> str:
        """A text with this world's names and addresses."""
        text = text.replace("pans.example", f"w{self.number}.example")
        return text.replace("10.77.20.", f"10.{self.number}.20.").replace("20.77.10.", f"20.{self.number}.10.")


def drawn(number: int) -> list[Laid]:
    """So many worlds, the same each time."""
    found: list[World] = []

    @settings(
        max_examples=3 * number, derandomize=True, database=None, deadline=None, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(worlds())
    def draw(world: World) -> None:
        if world.second in ("follows", "apart", "stuck", "unlisted", "none"):
            found.append(world)

    draw()
    return [laid_out(at, world) for at, world in enumerate(found[:number], 1)]


def laid_out(number: int, world: World) -> Laid:
    """A world under names of its own."""
    laid = Laid(number, world.second, [], [])
    for server, zones in zip(("s0", "s1"), world.lines, strict=False):
        serial = 7 if server == "s1" and world.second == "stuck" else 8
        more = "@ NS s1.pans.example.\n" if world.second == "unlisted" else ""
        head = f"$TTL 600\n@ SOA s0.pans.example. h.pans.example. {serial} 3600 600 1209600 300\n@ NS s0.pans.example.\n{more}"
        hosts = {FORWARD: "s0 A 192.0.2.53\ns1 A 192.0.2.54\n", REVERSE: ""}
        laid.texts.append(
            {
                laid.own(apex): laid.own(f"{head}{hosts[apex]}" + "\n".join(lines) + "\n")
                for apex, lines in zones.items()
            }
        )
    for one in world.expected:
        value = laid.own(rdata_text(one.rdtype, one.rdata)) if one.rdata else ""
        laid.expected.append(
            expectation(laid.own(to_text(one.name)), type_text(one.rdtype), value, one.presence, one.ttl)
        )
    return laid


def estate(laid: Laid, primary: Server, second: Server) -> Estate:
    """The estate of a world."""
    servers = (primary,) if laid.second in ("none", "unlisted") else (primary, second)
    zones = {
        apex: Zone(
            apex, "", servers, tuple(one for one in laid.expected if one.name.endswith(apex)),
            updates=Updates(primary, KEY),
        )
        for apex in map(from_text, laid.apexes)
    }  # fmt: skip
    reach = {bytes((192, 0, 2, 53 + at)): (one.address, one.port) for at, one in enumerate((primary, second))}
    return Estate(zones={"": zones}, reach=reach)


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
        xfr = f"  request-xfr: AXFR 127.0.0.1@{primary.port} NOKEY\n  allow-notify: 127.0.0.1 NOKEY"
        own = {apex: text for one in following for apex, text in one.texts[1].items()}
        follower = stack.enter_context(realservers.nsd(tmp_path / "nsd", own, secondary=xfr, port=port))
        old = {apex: text for one in stuck for apex, text in one.texts[1].items()}
        kept = stack.enter_context(realservers.nsd(tmp_path / "old", old, label="old"))
        yield laid, primary, dict.fromkeys(("follows", "apart", "unlisted", "none"), follower) | {"stuck": kept}


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
            assert one.forbidden or not left, told
            changed += len(applying.done)
            refused += len(left)
            back = sent([done.turned() for done in applying.done], plan, atlas, engine, tmp_path / f"back{one.number}")
        assert all(said.outcome == "agrees" for said in back.outcomes), told
        assert content(held(one, primary)) == content(before), told
    assert changed > WORLDS and refused

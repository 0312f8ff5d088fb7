"""Random worlds under names of their own, so that all of them stand side by side as zones of the same real servers."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from hypothesis import HealthCheck, Phase, given, settings

from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Key, Server
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Updates, Zone
from support.worlds import FORWARD, REVERSE, World, expectation, worlds

KEY = Key(from_text("mirror.test"), "hmac-sha256", bytes(range(32)))
FORBIDDEN = "h1"


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


def drawn(number: int, kinds: Collection[str] = ("follows", "apart", "stuck", "unlisted", "none")) -> list[Laid]:
    """So many worlds, the same each time."""
    found: list[World] = []

    @settings(
        max_examples=3 * number, derandomize=True, database=None, deadline=None, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(worlds())
    def draw(world: World) -> None:
        if world.second in kinds:
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

"""The stand-ins answer from what was answered before, and no server answers with what only another one has."""

from __future__ import annotations

import random

import dns.message
import pytest

from salt_mirror.standin.authority import HeldZones, read_zone
from salt_mirror.standin.server import StandIn

SOA = "@ 300 SOA ns1 h 1 3600 600 86400 300\n@ 300 NS ns1.pans.example.\n"
PANS = read_zone(
    SOA + "ns1 300 A 192.0.2.53\nkiln 300 A 192.0.2.1\nweb 300 CNAME kiln\nshop 300 CNAME way.shore.example.\nsea 300 NS ns1\n"
    "deep.sea 300 A 192.0.2.9\n*.w 300 CNAME way.shore.example.\n",
    "pans.example",
)  # fmt: skip
SHORE, OTHER_SHORE = (read_zone(f"{SOA}way 300 A 192.0.2.{number}\n", "shore.example") for number in (7, 8))
SEA = read_zone(SOA + "deep 300 A 192.0.2.10\n", "sea.pans.example")
HELD = [
    ([PANS], False), ([PANS, SHORE], False), ([PANS, OTHER_SHORE], False), ([PANS, SEA], False), ([SEA], False),
    ([PANS, SHORE, SEA], True), ([SHORE], False),
]  # fmt: skip
NAMES = ("pans.example", "KILN.pans.example", "web.pans.example", "shop.pans.example", "x.w.pans.example", "no.pans.example",
         "sea.pans.example", "deep.sea.pans.example", "way.shore.example", "elsewhere.example", ".")  # fmt: skip


@pytest.mark.parametrize("seed", range(2))
def test_a_server_answers_as_if_nobody_had_asked_before(seed: int) -> None:
    rng = random.Random(seed)
    servers = [StandIn(HeldZones(zones, recursive=recursive), "127.0.0.1", 1) for zones, recursive in HELD]
    for _ in range(200):
        query = dns.message.make_query(
            rng.choice(NAMES), rng.choice(("A", "CNAME", "NS", "SOA", "DS", "ANY")),
            use_edns=rng.choice((False, 0)), want_dnssec=rng.random() < 0.3, id=rng.randrange(65536),
        )  # fmt: skip
        wire, stream = query.to_wire(), rng.random() < 0.3
        for server in rng.sample(servers, len(servers)):
            anew = StandIn(server.authority, "127.0.0.1", 1)._worked_out(wire, stream=stream)
            assert server.respond(wire, stream=stream) == anew, (
                query.question,
                list(server.authority.zones),
            )

"""Random small worlds, held against a slow and obvious judge: nothing unasked ever agrees or accuses, and every difference that
is planted on an answering server is found.

A world has one forward and one reverse zone on a few servers, of which each may answer, lag behind with records of its own, be
silent, refuse, or answer without authority. Hosts have any addresses, or are aliases; pointers lead anywhere, also out of the
estate; and anything may be expected.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import product

from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.authority.judging import Inspection
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.part import Part, Setting, carry_out
from salt_mirror.checks.pairs.judging import Pairs
from salt_mirror.checks.pairs.scope import PairsScope
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import CNAME, NS, PTR, SOA, A, rdata_from_text
from salt_mirror.dns.reverse import address_of, reverse_name
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from support.examples import examples
from support.exchanges import Instant
from support.tables import NOW

FORWARD, REVERSE = from_text("pans.example"), from_text("20.77.10.in-addr.arpa")
HOSTS = [from_text(f"h{number}.pans.example") for number in range(3)]
LOST, ELSEWHERE = from_text("gone.pans.example"), from_text("x.elsewhere.example")
ADDRESSES = [bytes((10, 77, 20, number)) for number in (1, 2, 3)]
USABLE = ("answers", "lags")
STATES = (*USABLE, "silent", "refuses", "lame")

addresses = st.frozensets(st.sampled_from(ADDRESSES), max_size=2)
hosts = st.one_of(addresses, st.sampled_from(HOSTS))  # addresses, or the host that it is an alias of
pointers = st.frozensets(st.sampled_from([*HOSTS, LOST, ELSEWHERE]), max_size=2)
Records = tuple[tuple[frozenset[bytes] | bytes, ...], tuple[frozenset[bytes], ...]]
records: st.SearchStrategy[Records] = st.tuples(st.tuples(hosts, hosts, hosts), st.tuples(pointers, pointers, pointers))


@dataclass
class World:
    """What each server holds, how it behaves, and what is expected of each host."""

    states: list[str]
    holds: list[Records]
    expected: dict[Name, frozenset[bytes]]
    servers: list[Server] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.servers = [
            Server(f"s{number}", bytes((127, 0, 0, 1)), 5300 + number) for number in range(len(self.states))
        ]

    @property
    def estate(self) -> Estate:
        wanted = tuple(Expectation(name, A, value) for name, values in self.expected.items() for value in values)
        servers = tuple(self.servers)
        return Estate(zones={"": {FORWARD: Zone(FORWARD, "", servers, wanted), REVERSE: Zone(REVERSE, "", servers)}})

    @property
    def usable(self) -> list[int]:
        return [number for number, state in enumerate(self.states) if state in USABLE]

    def serial(self, number: int) -> int:
        return 7 if self.states[number] == "lags" else 8

    def says(self, number: int, name: Name, rdtype: int) -> tuple[bool, tuple[bytes, ...], Name | None]:
        """What a server that answers says at a name: whether it exists, the values, the alias there."""
        forward, reverse = self.holds[number]
        if name in (FORWARD, REVERSE):
            soa = rdata_from_text(SOA, f"s0.pans.example. h.pans.example. {self.serial(number)} 3600 600 1209600 300")
            return True, {SOA: (soa,), NS: (from_text("s0.pans.example"),)}.get(rdtype, ()), None
        if name in HOSTS:
            held = forward[HOSTS.index(name)]
            if isinstance(held, bytes):
                return True, ((held,) if rdtype == CNAME else ()), held if rdtype != CNAME else None
            return bool(held), tuple(sorted(held)) if rdtype == A else (), None
        address = address_of(name)
        if address in ADDRESSES:
            held_there = reverse[ADDRESSES.index(address)]
            return bool(held_there), tuple(sorted(held_there)) if rdtype == PTR else (), None
        return False, (), None


SOUND: Records = (
    tuple(frozenset((address,)) for address in ADDRESSES),
    tuple(frozenset((host,)) for host in HOSTS),
)
"""Each host at an address of its own, whose pointer leads back."""


@st.composite
def worlds(draw: st.DrawFn) -> World:
    """A world on one to three servers: mostly a sound one with a few edits here and there, since that is where a single
    difference has to be found; now and then anything at all."""
    number = draw(st.integers(1, 3))
    states = draw(
        st.lists(st.sampled_from([*STATES, "answers", "answers", "answers"]), min_size=number, max_size=number)
    )
    base = draw(st.one_of(st.just(SOUND), records))
    holds = [base] * number
    for _ in range(draw(st.integers(0, 3))):
        at = draw(st.integers(0, number - 1))
        forward, reverse = holds[at]
        place = draw(st.integers(0, 2))
        if draw(st.booleans()):
            forward = (*forward[:place], draw(hosts), *forward[place + 1 :])
        else:
            reverse = (*reverse[:place], draw(pointers), *reverse[place + 1 :])
        holds[at] = (forward, reverse)
    expected = draw(
        st.dictionaries(st.sampled_from(HOSTS), st.frozensets(st.sampled_from(ADDRESSES), min_size=1, max_size=2))
    )
    return World(states, holds, expected)


class Answering(Instant):
    """The exchange of a world."""

    def __init__(self, world: World) -> None:
        super().__init__()
        self._world = world

    def answer(self, question: Question) -> Answer:
        if question.server not in self._world.servers:
            return Answer(question, "timeout")
        number = self._world.servers.index(question.server)
        state = self._world.states[number]
        if state == "silent":
            return Answer(question, "timeout")
        if state == "refuses":
            return Answer(question, "REFUSED", message=b"\0" * 12)
        exists, values, alias = self._world.says(number, question.name, question.rdtype)
        status = "NOERROR" if exists else "NXDOMAIN"
        return Answer(question, status, state != "lame", values, 300 if values or alias else None, alias, b"\0" * 12)


def judged(world: World, part: Part) -> dict[tuple[Name, bytes | None], str]:
    carry_out(part, Setting(NOW), Runner(Answering(world)))
    return {(verdict.name, verdict.address): verdict.outcome for verdict in part.verdicts()}


# The slow judge


def roll_by_hand(world: World, name: Name) -> str:
    wanted = world.expected[name]
    tellings = [world.says(number, name, A) for number in world.usable]
    if any(not wanted <= set(values) for _, values, _ in tellings):
        return "differs"
    return "agrees" if tellings and len(tellings) == len(world.servers) else "unverified"


def ends_of(world: World, name: Name) -> list[Name] | None:
    """The names on the way of a name's aliases, its own first, as any usable server has them; None for a circle."""
    way = [name]
    while way[-1] in HOSTS:
        aliases = [alias for number in world.usable if (alias := world.says(number, way[-1], A)[2]) is not None]
        if not aliases:
            break
        if aliases[0] in way:
            return None
        way.append(aliases[0])
    return way


def has(world: World, number: int, name: Name, address: bytes) -> bool:
    """Whether one server alone, asked at the end of a name's aliases, gives the address."""
    way = ends_of(world, name)
    return way is not None and address in world.says(number, way[-1], A)[1]


def right_on(world: World, forward: int, reverse: int, name: Name, address: bytes) -> bool:
    """Whether somebody whose questions go to these two servers finds the address, and by its pointer a name that leads back."""
    if not has(world, forward, name, address):
        return False
    way = ends_of(world, name) or []
    targets = world.says(reverse, reverse_name(address), PTR)[1]
    return any(target in way or (target in HOSTS and has(world, forward, target, address)) for target in targets)


@examples(400)
@given(worlds())
def test_the_roll_is_called_as_anybody_would_call_it_by_hand(world: World) -> None:
    known = world.estate
    found = judged(world, Roll(expected_sets(known, None), Atlas(known)))
    assert found == {(name, None): roll_by_hand(world, name) for name in world.expected}


@examples(600)
@given(worlds())
def test_pairs_agree_only_where_everybody_says_so_and_differ_wherever_somebody_shows_it(world: World) -> None:
    known = world.estate
    part = Pairs(PairsScope(known, [to_text(name) for name in HOSTS]), Atlas(known))
    outcomes = judged(world, part)
    everybody = len(world.usable) == len(world.servers)
    for (name, address), outcome in outcomes.items():
        if name not in HOSTS:
            continue
        if not world.usable:
            assert outcome == "unverified"
        elif address is None:
            assert outcome == "differs", "no server that answers gives it an address"
            assert not any(has(world, number, name, one) for number in world.usable for one in ADDRESSES)
        else:
            ways = [right_on(world, one, other, name, address) for one, other in product(world.usable, world.usable)]
            if not all(ways) and not _leads_out(world, address):
                assert outcome == "differs", "shown by servers that answer"
            if outcome == "agrees":
                assert everybody and all(ways)
            if outcome == "differs":
                assert not all(ways) or _servers_differ(world, name, address)
    if world.usable:
        shown = {
            (name, one) for name in HOSTS for one in ADDRESSES if any(has(world, n, name, one) for n in world.usable)
        }
        assert shown <= set(outcomes), "every address that is given is judged"


def _leads_out(world: World, address: bytes) -> bool:
    """Whether a pointer leads to where nobody can be asked, so that what it means is not known."""
    return any(ELSEWHERE in world.says(number, reverse_name(address), PTR)[1] for number in world.usable)


def _servers_differ(world: World, name: Name, address: bytes) -> bool:
    """Whether the servers that answer differ on something that the pair hangs on."""
    names = [*(ends_of(world, name) or [name]), *HOSTS]
    told = [(one, A) for one in names] + [(reverse_name(address), PTR)]
    return any(len({world.says(number, *asked) for number in world.usable}) > 1 for asked in told)


@examples(200)
@given(worlds())
def test_an_authority_is_sound_only_where_every_server_serves_one_version(world: World) -> None:
    known = world.estate
    part = Inspection([(FORWARD, "")], Atlas(known))
    (outcome,) = judged(world, part).values()
    codes = {finding.code for finding in part.findings()}
    serials = {world.serial(number) for number in world.usable}
    assert ("auth.serial-behind" in codes) == (len(serials) > 1)
    assert ("auth.lame" in codes) == any(state in ("refuses", "lame") for state in world.states)
    assert outcome != "agrees" or len(world.usable) == len(world.servers)
    if not world.usable and "auth.lame" not in codes:
        assert outcome == "unverified"

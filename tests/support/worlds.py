"""Random small worlds for the plan: a forward and a reverse zone on a primary and perhaps a secondary, and what is expected.

The secondary follows, was edited apart with the primary's own serial, is stuck with an old version, is a primary of its own
which replicates, is silent, or follows without standing in the estate. Names have addresses, are aliases, have texts, lead to
hosts that are not there; pointers lead anywhere; and anything may be expected, with contradictions. Changes go through real
update messages.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import dns.message
import dns.rcode
import dns.rdatatype
import dns.update
import dns.zone
from hypothesis import strategies as st

from salt_mirror.checks.plan.sets import PlannedSet, edit_of
from salt_mirror.dns.names import from_text, labels
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import rdata_from_text, type_from_text
from salt_mirror.dns.update import update_message
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.authority import HeldZones, read_zone, shared_zone
from salt_mirror.standin.updating import updated
from support.exchanges import Instant, heard

FORWARD, REVERSE = "pans.example", "20.77.10.in-addr.arpa"
_REVERSE = from_text(REVERSE)
LABELS = ("h0", "h1", "h2", "h3", "a.stores")
ADDRESSES = ("10.77.20.1", "10.77.20.2", "10.77.20.3", "203.0.113.9")
TARGETS = (
    *(f"{label}.pans.example." for label in LABELS),
    "gone.pans.example.",
    "h0.pans.example.pans.example.",
    "x.other.example.",
)
SERVER = Server("s0", bytes((127, 0, 0, 1)), 5300)
SECOND = Server("s1", bytes((127, 0, 0, 1)), 5301)
REACH = {bytes((192, 0, 2, 53 + number)): (one.address, one.port) for number, one in enumerate((SERVER, SECOND))}


@dataclass
class World:
    """The zones of each server as lines, how the second behaves, and what is expected."""

    lines: list[dict[str, list[str]]]
    second: str
    expected: list[Expectation]
    held: dict[Server, HeldZones] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for server, zones in zip((SERVER, SECOND), self.lines, strict=False):
            serial = 7 if server is SECOND and self.second == "stuck" else 8
            mname = "s1" if server is SECOND and self.second == "twin" else "s0"
            soa = f"SOA {mname}.pans.example. h.pans.example. {serial} 3600 600 1209600 300"
            more = "@ NS s1.pans.example.\n" if self.second == "unlisted" else ""
            head = f"$TTL 600\n@ {soa}\n@ NS s0.pans.example.\n{more}"
            own = {FORWARD: "s0 A 192.0.2.53\ns1 A 192.0.2.54\n", REVERSE: ""}
            texts = {origin: head + own[origin] + "\n".join(lines) + "\n" for origin, lines in zones.items()}
            self.held[server] = HeldZones([shared_zone(text, origin) for origin, text in texts.items()])

    @property
    def servers(self) -> tuple[Server, ...]:
        """Those that the estate lists; one more may be found through the zones themselves."""
        return tuple(self.held)[:1] if self.second == "unlisted" else tuple(self.held)

    @property
    def estate(self) -> Estate:
        zones = {
            apex: Zone(apex, "", self.servers, tuple(one for one in self.expected if one.name.endswith(apex)))
            for apex in map(from_text, (FORWARD, REVERSE))
        }
        return Estate(zones={"": zones}, reach=REACH)

    def answer(self, question: Question) -> Answer:
        held = next((zones for server, zones in self.held.items() if server.port == question.server.port), None)
        silent = self.second == "silent" and question.server is SECOND
        if held is None or silent or question.server.over != "udp":
            return Answer(question, "timeout")
        if question.name.endswith(_REVERSE) and question.name[0] > 1 and len(labels(question.name)) == 6:
            return Answer(question, "NXDOMAIN", True)  # a sweep's: nobody has more than nine addresses here
        return heard(held, question)

    def carry_out(self, sets: list[PlannedSet]) -> None:
        """Sends each zone's changes to the primary, which hands the zones on as far as the second follows."""
        zones: dict[bytes, list[PlannedSet]] = {}
        for one in sets:
            assert one.server is SERVER
            zones.setdefault(one.key.zone, []).append(one)
        for apex, of_zone in zones.items():
            message = dns.message.from_wire(update_message(apex, map(edit_of, of_zone)).to_wire())
            assert isinstance(message, dns.update.UpdateMessage)
            origin = message.zone[0].name
            rcode, after = updated(self.held[SERVER].zones[origin], message)
            assert rcode == dns.rcode.NOERROR, (rcode, sets)
            assert after is not None, sets
            self.held[SERVER].hold(after)
            if SECOND in self.held and self.second == "twin":
                text = after.to_text(relativize=False).replace("SOA s0.pans.example.", "SOA s1.pans.example.")
                self.held[SECOND].hold(read_zone(text, str(origin)))
            elif SECOND in self.held and self.second != "silent":
                self.held[SECOND].hold(after)


PUBLIC = Server("p0", bytes((127, 0, 0, 1)), 5302)


@dataclass
class TwoViews:
    """Two worlds as two views: the public one has the forward zone alone, on a server of its own. Where a `provider` keeps the
    reverse zone, the estate does not have it."""

    internal: World
    public: World
    provider: bool

    @property
    def estate(self) -> Estate:
        forward = from_text(FORWARD)
        own = {
            apex: replace(zone, view="internal")
            for apex, zone in self.internal.estate.zones[""].items()
            if apex == forward or not self.provider
        }
        theirs = replace(self.public.estate.zones[""][forward], view="public", servers=(PUBLIC,), primary=PUBLIC)
        zones = {"internal": own, "public": {forward: theirs}}
        return Estate(zones=zones, reach=REACH, public_views=frozenset(("public",)))

    def answer(self, question: Question) -> Answer:
        if question.server.port != PUBLIC.port:
            return self.internal.answer(question)
        return self.public.answer(question._replace(server=SERVER))._replace(question=question)

    def carry_out(self, sets: list[PlannedSet]) -> None:
        """Sends each view's changes to its own primary."""
        self.internal.carry_out([one for one in sets if one.key.view == "internal"])
        self.public.carry_out([replace(one, server=SERVER) for one in sets if one.key.view == "public"])


class Asking(Instant):
    """The exchange of a world."""

    def __init__(self, world: World | TwoViews) -> None:
        super().__init__()
        self._world = world

    def answer(self, question: Question) -> Answer:
        return self._world.answer(question)


def expectation(name: str, rdtype: str, value: str, presence: str = "present", ttl: int | None = None) -> Expectation:
    kind = type_from_text(rdtype)
    rdata = rdata_from_text(kind, value) if value else b""
    return Expectation(from_text(name), kind, rdata, presence=presence, ttl=ttl)  # type: ignore[arg-type]


@st.composite
def owners(draw: st.DrawFn, label: str) -> list[str]:
    """The records of one name."""
    if draw(st.integers(0, 5)) == 0:
        return [f"{label} CNAME {draw(st.sampled_from(TARGETS))}"]
    values = draw(st.lists(st.sampled_from(ADDRESSES), max_size=2, unique=True))
    lines = [f"{label} {draw(st.sampled_from(('', '300')))} A {value}" for value in values[:1]]
    lines += [f"{label} A {value}" for value in values[1:]]
    if draw(st.integers(0, 4)) == 0:
        lines.append(f'{label} TXT "{draw(st.sampled_from(("one", "two")))}"')
    if draw(st.integers(0, 6)) == 0:
        lines.append(f"{label} MX 10 {draw(st.sampled_from((*TARGETS, '.')))}")
    if draw(st.integers(0, 6)) == 0:
        lines.append(f"_x._tcp.{label} SRV 0 0 99 {draw(st.sampled_from((*TARGETS, '.')))}")
    return lines


@st.composite
def contents(draw: st.DrawFn) -> dict[str, list[str]]:
    """The lines of both zones."""
    sound = draw(st.integers(0, 2)) > 0
    forward, reverse = [], []
    for number, label in enumerate(LABELS[:4]):
        if sound and draw(st.integers(0, 2)) > 0:
            forward.append(f"{label} A 10.77.20.{number + 1}")
            reverse.append(f"{number + 1} PTR {label}.pans.example.")
        else:
            forward += draw(owners(label))
            pointers = draw(st.lists(st.sampled_from(TARGETS), max_size=2, unique=True))
            reverse += [f"{number + 1} PTR {target}" for target in pointers]
    if draw(st.integers(0, 2)) == 0:
        forward.append(f"*.stores {draw(st.sampled_from(('A 10.77.20.1', 'TXT stores')))}")
    if draw(st.integers(0, 3)) == 0:
        forward += draw(owners("a.stores"))
    return {FORWARD: forward, REVERSE: reverse}


@st.composite
def in_two_views(draw: st.DrawFn) -> TwoViews:
    return TwoViews(draw(worlds()), draw(worlds(("none",))), draw(st.integers(0, 3)) == 0)


@st.composite
def declared(draw: st.DrawFn) -> World | TwoViews:
    """A world, or two views, of which nearly all that the first server of each has is expected: what most estates are like."""
    if draw(st.integers(0, 2)) == 0:
        return _declared(draw, draw(worlds()))
    two = draw(in_two_views())
    if draw(st.booleans()):  # both views have the same, or nearly, with addresses that the public may see
        held = [{**zones, FORWARD: [_published(line) for line in zones[FORWARD]]} for zones in two.internal.lines]
        two.internal = World(held, two.internal.second, two.internal.expected)
        lines = [line.replace(".2", ".3") if draw(st.integers(0, 9)) == 0 else line for line in held[0][FORWARD]]
        two.public = World([{FORWARD: lines, REVERSE: []}], "none", [])
    return TwoViews(_declared(draw, two.internal), _declared(draw, two.public), two.provider)


def _published(line: str) -> str:
    return line.replace("10.77.20.", "203.0.113.")


def _declared(draw: st.DrawFn, world: World) -> World:
    expected = [
        expectation(f"{owner}.{origin}", rdtype, value)
        for origin, lines in world.lines[0].items()
        for owner, rdtype, value in (re.split(r"(?: +300)? +", line, maxsplit=2) for line in lines)
        if draw(st.integers(0, 7)) > 0
    ]
    if draw(st.booleans()):
        expected.append(expectation(FORWARD, "NS", "s0.pans.example."))
    return World(world.lines, world.second, [*expected, *world.expected[: draw(st.integers(0, 1))]])


@st.composite
def worlds(
    draw: st.DrawFn, kinds: Sequence[str] = ("follows", "apart", "stuck", "silent", "twin", "unlisted", "none")
) -> World:
    first = draw(contents())
    second = draw(st.sampled_from(kinds))
    held = [first]
    if second != "none":
        held.append(
            first if second in ("follows", "silent", "unlisted") else draw(st.one_of(st.just(first), contents()))
        )
    forward = st.builds(
        expectation, st.sampled_from([f"{label}.pans.example" for label in LABELS]), st.just("A"), st.sampled_from(ADDRESSES),
        st.sampled_from(("present", "present", "exact", "absent")), st.sampled_from((None, None, 300, 900)),
    )  # fmt: skip
    others = st.sampled_from(
        [
            expectation(f"{label}.pans.example", rdtype, value, presence)
            for label in LABELS
            for rdtype, value in (("TXT", '"one"'), ("CNAME", "h3.pans.example."), ("MX", "10 h1.pans.example."))
            for presence in ("present", "exact")
        ]
        + [
            expectation(f"{label}.pans.example", rdtype, "", "absent")
            for label in LABELS
            for rdtype in ("A", "CNAME", "TXT")
        ]
        + [expectation("_x._tcp.h1.pans.example", "SRV", "0 0 99 h2.pans.example.")]
    )
    pointers = st.builds(
        expectation, st.sampled_from([f"{n}.{REVERSE}" for n in (1, 2, 3)]), st.just("PTR"), st.sampled_from(TARGETS[:6]),
        st.sampled_from(("present", "exact", "absent")),
    )  # fmt: skip
    expected = draw(st.lists(forward, max_size=4)) + draw(st.lists(st.one_of(others, pointers), max_size=2))
    return World(held, second, expected)

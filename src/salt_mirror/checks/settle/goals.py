"""What is waited for: goals from words, from lists, from a host's registration, or from what a server holds now.

Strategy: a goal is a name, a type and the values that have to be there; where it has to stand is found as for every check.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import lookup
from salt_mirror.dns.chains import chain_of
from salt_mirror.dns.dialogue import Dialogue, Exchange, Runner, together
from salt_mirror.dns.errors import about
from salt_mirror.dns.names import Name, from_text, shown, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import LAYOUTS, PTR, SOA, address_type, rdata_from_text, zone_side
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import address_in

WITH_NAMES = frozenset(LAYOUTS)
"""The types whose values end in a name."""


@dataclass(frozen=True, slots=True)
class Goal:
    """What is waited for at a name: exactly these values (none: that it is gone), or at least these with `among_others`.

    `through`: as a client sees it, at the end of whatever aliases are there; else the set itself. `ttl` (seconds) is waited for
    on authoritative servers too, where only that changes.
    """

    name: Name
    rdtype: int
    values: frozenset[bytes]
    among_others: bool = False
    through: bool = True
    ttl: int | None = None

    def reached(self, values: Iterable[bytes]) -> bool:
        """Return whether an answer's values are what is waited for."""
        found = frozenset(values)
        return self.values <= found if self.among_others else found == self.values


def goal_of(
    name: Name, rdtype: int, to: Iterable[str], origin: Name | None, *, gone: bool, option: str = "--to"
) -> Goal:
    """Return the goal that the command line names; short names in values are completed with the zone. Raises BadInput."""
    with about(option):
        values = frozenset(_value(rdtype, text, origin) for text in to)
    if gone and values:
        raise BadInput("--to and --gone contradict each other")
    return Goal(name, rdtype, values)


def _value(rdtype: int, text: str, origin: Name | None) -> bytes:
    """Return a value as somebody typed it: a name with a dot in it is whole, and one without stands in the zone."""
    last = text.rsplit(None, 1)[-1] if text.strip() else text
    short = rdtype in WITH_NAMES and "." not in last
    if short and origin is None:
        raise BadInput(f"{shown(last)} is a short name, and its zone is not known; write the whole name")
    return rdata_from_text(rdtype, text, origin if short else None)


def goals_of(expectations: Iterable[Expectation]) -> list[Goal]:
    """Return a goal for each RRset of a list; the SOA left out. One that must be absent altogether has no values."""
    sets: dict[tuple[Name, int], set[bytes]] = {}
    open_ones: set[tuple[Name, int]] = set()
    for expectation in expectations:
        if expectation.rdtype == SOA:
            continue
        key = (expectation.name, expectation.rdtype)
        values = sets.setdefault(key, set())
        if expectation.presence != "absent":
            values.add(expectation.rdata)
            if expectation.presence == "present":
                open_ones.add(key)
    return [Goal(*key, frozenset(values), key in open_ones and bool(values)) for key, values in sets.items()]


def registration(host: str, address: str, suffix: Name | None) -> list[Goal]:
    """Return the goals of a host's registration: its address, and the pointer that leads back. Raises BadInput."""
    packed = address_in(address)
    if packed is None:
        swapped = ", in this order: first the host, then the address" if address_in(host) is not None else ""
        raise BadInput(f"--registered: {shown(address)} is no address; expected HOST ADDRESS{swapped}")
    with about("--registered"):
        name = from_text(host, suffix if "." not in host else None)
    return [
        Goal(name, address_type(packed), frozenset((packed,)), among_others=True),
        Goal(reverse_name(packed), PTR, frozenset((name,)), among_others=True),
    ]


def authorities_of(
    goals: list[Goal], view: str, atlas: Atlas, exchange: Exchange
) -> list[tuple[Goal, tuple[Server, ...]]]:
    """Return the authoritative servers of each goal. Raises BadInput for a name that has none."""

    def find(goal: Goal) -> Dialogue[tuple[Goal, tuple[Server, ...], str]]:
        of = zone_side(goal.name, goal.rdtype)
        authority = atlas.known(of, view)
        if authority is None:
            authority = yield from atlas.find(of, view)
        return goal, authority.servers, authority.trouble or "it has no server"

    found = list(Runner(exchange).run(find(goal) for goal in goals))
    for goal, servers, why in found:
        if not servers:
            raise BadInput(f"{to_text(goal.name)} cannot be watched: {why}")
    order = {goal: number for number, goal in enumerate(goals)}
    return sorted(((goal, servers) for goal, servers, _ in found), key=lambda one: order[one[0]])


def held_values(
    measure: Server | None, found: list[tuple[Goal, tuple[Server, ...]]], exchange: Exchange, view: str, atlas: Atlas
) -> list[Goal]:
    """Return the goals with the values that a server holds now: the measure, or each goal's first authoritative server."""

    def ask(goal: Goal, server: Server) -> Dialogue[Goal]:
        (answer,) = yield [Question(goal.name, goal.rdtype, server)]
        if answer.trouble is not None:
            raise BadInput(f"{server.label} cannot be the measure: {answer.trouble}")
        chain = chain_of(answer)
        values = chain.values
        if not chain.ended and answer.alias is not None:
            end = yield from lookup(chain.name, (goal.rdtype,), view, atlas)
            if end.trouble is not None:
                raise BadInput(
                    f"{to_text(goal.name)} is an alias of {to_text(chain.name)}, which has no answer: {end.trouble}"
                )
            values = end.values
        return Goal(goal.name, goal.rdtype, frozenset(values))

    def all_of() -> Dialogue[list[Goal]]:
        return (yield from together([ask(goal, measure or servers[0]) for goal, servers in found]))

    (held,) = Runner(exchange).run([all_of()])
    return held

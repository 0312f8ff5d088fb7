"""An exchange that answers from a table, and estates to go with it: for checks without a socket."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import rdata_from_text, type_from_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.model import Estate, Zone
from support.exchanges import Instant

NOW = datetime(2026, 11, 24, tzinfo=UTC)
NORTH = Server("north", bytes((127, 0, 0, 1)), 1001)
KILN = Server("kiln", bytes((127, 0, 0, 1)), 1002)
FINDER = Server("finder", bytes((127, 0, 0, 1)), 1003)
HOST, ADDRESS = "kiln-02.pans.example", "10.77.20.2"
REVERSE = "2.20.77.10.in-addr.arpa"


def estate(*zones: str, expect: tuple[tuple[str, str, str], ...] = (), view: str = "") -> Estate:
    expectations = tuple(
        Expectation(from_text(name), type_from_text(kind), rdata_from_text(type_from_text(kind), value))
        for name, kind, value in expect
    )
    found = {zone_name(text): Zone(zone_name(text), view, (NORTH, KILN)) for text in zones}
    first = next(iter(found))
    found[first] = replace(found[first], expectations=expectations)
    return Estate(zones={view: found})


def both(told: dict[tuple[str, str], list[str] | str]) -> dict[tuple[str, str, str], list[str] | str]:
    """The same on both servers."""
    return {(label, *key): said for key, said in told.items() for label in ("north", "kiln")}


class Table(Instant):
    """An exchange that answers from `{(label, name, type): values}`: a list of texts, or a status that is not NOERROR.

    `"=> target"` is an alias. What the table does not hold does not exist. `asked` keeps every question in its order.
    """

    def __init__(self, told: dict[tuple[str, str, str], list[str] | str]) -> None:
        super().__init__()
        self._told = {
            (label, from_text(name), type_from_text(kind)): said for (label, name, kind), said in told.items()
        }
        self._names = {(label, name) for label, name, _ in self._told}

    def answer(self, question: Question) -> Answer:
        key = (question.server.label, question.name)
        said = self._told.get((*key, question.rdtype), "NOERROR" if key in self._names else "NXDOMAIN")
        alias = self._told.get((*key, 5))
        if isinstance(alias, list) and question.rdtype != 5:
            return Answer(question, "NOERROR", authoritative=True, alias=from_text(alias[0]), ttl=60)
        if isinstance(said, str):
            return Answer(question, said, authoritative=said in ("NOERROR", "NXDOMAIN"))
        values = tuple(sorted(rdata_from_text(question.rdtype, text) for text in said))
        return Answer(question, "NOERROR", authoritative=True, values=values, ttl=300)

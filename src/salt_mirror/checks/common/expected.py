"""What `rollcall` has to look at: expectations turned into expected sets, each in its view.

Strategy: the unit is the RRset, since that is what a server answers with; what several sources say of one set is put together
before anything is asked. The SOA is left to the check of the authority, as its serial is meant to change.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from fnmatch import fnmatchcase
from pathlib import Path
from types import MappingProxyType

import msgspec

from salt_mirror.dns.names import Name, is_within, to_text
from salt_mirror.dns.records import AAAA, ONE_HAND, SOA, A, rdata_text, type_text
from salt_mirror.estate.expectations import Expectation, Values, value_set, with_value
from salt_mirror.estate.model import Estate

_NONE: frozenset[bytes] = frozenset()  # one for all: an empty one of its own costs 200 bytes


class ExpectedSet(msgspec.Struct, eq=False):
    """What is expected of one RRset: `values` that are there (all that are, with `exact`), `absent` ones that are not.

    `gone` says that the whole set must be absent; `damaged` what is wrong with a row about it, which then counts for nothing;
    `clash` which sources contradict each other, each with a value. `ttl` in
    seconds, where all sources that give one agree.
    """

    view: str
    name: Name
    rdtype: int
    _values: Values = _NONE
    absent: frozenset[bytes] = _NONE
    exact: bool = False
    gone: bool = False
    ttl: int | None = None
    damaged: str = ""
    _first: Expectation | None = None
    _source: Path | None = None
    _agreeing: tuple[Path, ...] = ()
    clash: tuple[tuple[str, bytes], ...] = ()

    @property
    def values(self) -> frozenset[bytes]:
        """The values that have to be there."""
        return value_set(self._values)

    @values.setter
    def values(self, values: frozenset[bytes]) -> None:
        self._values = next(iter(values)) if len(values) == 1 else values or _NONE

    @property
    def where(self) -> str:
        """The file and line of the first source that says what is there."""
        return self._first.where if self._first is not None else ""

    @property
    def plain_value(self) -> bytes | None:
        """The only value, of a set about which nothing else is said; None for any other set."""
        if not isinstance(self._values, bytes) or self.damaged or self.clash or self.gone or self.absent:
            return None
        return self._values

    @property
    def clash_text(self) -> str:
        """Which sources contradict each other, in words."""
        first, *others = (
            f"{where} expects {to_text(self.name)} {type_text(self.rdtype)} {rdata_text(self.rdtype, value)}"
            for where, value in self.clash
        )
        return f"{first}; {'; '.join(others)}"

    def _clashes(self, expectation: Expectation) -> None:
        """Take in what another source says of a set that one hand keeps: it contradicts the first where it says nothing that
        was said before."""
        if (
            self.rdtype not in ONE_HAND
            or expectation.source is None
            or self._source is None
            or expectation.source == self._source
        ):
            return
        if expectation.rdata in self.values:
            self._agreeing = (*self._agreeing, expectation.source)
            self.clash = tuple(said for said in self.clash if not said[0].startswith(f"{expectation.source}, "))
            self.clash = self.clash if len(self.clash) > 1 else ()
        elif expectation.source not in self._agreeing:
            self.clash = (self.clash or ((self.where, min(self.values)),)) + ((expectation.where, expectation.rdata),)

    def add(self, expectation: Expectation) -> None:
        """Take in what one source says."""
        if expectation.presence != "absent" and self._values is not _NONE:
            self._clashes(expectation)
        elif expectation.presence != "absent":
            self._source, self._first = expectation.source, expectation
        self._first = self._first or expectation
        if expectation.presence == "absent":
            self.gone = self.gone or not expectation.rdata
            self.absent |= {expectation.rdata} if expectation.rdata else frozenset()
            return
        self.ttl = expectation.ttl if self._values is _NONE or self.ttl == expectation.ttl else None
        self._values = expectation.rdata if self._values is _NONE else with_value(self._values, expectation.rdata)
        self.exact = self.exact or expectation.presence == "exact"


def expected_sets(
    estate: Estate,
    expectations: Iterable[Expectation] | None,
    *,
    view: str | None = None,
    zone: Name | None = None,
    rdtypes: Collection[int] = (),
    globs: Collection[str] = (),
    damaged: Mapping[tuple[Name, int], str] = MappingProxyType({}),
) -> list[ExpectedSet]:
    """Return the sets to call: the given expectations, or all of the estate, narrowed down as wished.

    A given one is called in every view that holds a zone for it, in the first one where none does; so is what rows of a given
    list are about that cannot be used (`damaged`, with what is wrong with them).
    """
    found: dict[tuple[str, Name, int], ExpectedSet] = {}
    views = [view] if view is not None else estate.views or [""]

    def wanted(name: Name, rdtype: int) -> bool:
        if (rdtype == SOA and SOA not in rdtypes) or (rdtypes and rdtype not in rdtypes):
            return False
        if zone is not None and not is_within(name, zone):
            return False
        return not globs or _matches(name, globs)

    def add(where: str, expectation: Expectation) -> None:
        if not wanted(expectation.name, expectation.rdtype):
            return
        key = (where, expectation.name, expectation.rdtype)
        one = found.get(key)
        if one is None:
            one = found[key] = ExpectedSet(*key)
        one.add(expectation)

    def spoil(where: str, name: Name, rdtype: int, says: str) -> None:
        if wanted(name, rdtype):
            found.setdefault((where, name, rdtype), ExpectedSet(where, name, rdtype)).damaged = says

    if expectations is None:
        for where in views:
            for held in estate.zones.get(where, {}).values():
                for one in held.expectations:
                    add(where, one)
            for (name, rdtype), says in estate.damaged_in(where).items():
                spoil(where, name, rdtype, says)
    else:

        def views_of(name: Name) -> list[str]:
            return [where for where in views if estate.zone_of(name, where) is not None] or views[:1]

        for one in expectations:
            for where in views_of(one.name):
                add(where, one)
        for (name, rdtype), says in damaged.items():
            for where in views_of(name):
                spoil(where, name, rdtype, says)
    return list(found.values())


class Expects:
    """What an estate expects at a name or of an address, for checks that come there from another side. Built when it is first
    asked for anything."""

    def __init__(self, estate: Estate) -> None:
        self._estate = estate
        self._by_key: dict[tuple[str, Name, int], ExpectedSet] | None = None

    @property
    def sets(self) -> dict[tuple[str, Name, int], ExpectedSet]:
        """Every expected set, by view, name and type."""
        if self._by_key is None:
            self._by_key = {(one.view, one.name, one.rdtype): one for one in expected_sets(self._estate, None)}
        return self._by_key

    @property
    def read(self) -> bool:
        """Whether anybody has asked for anything."""
        return self._by_key is not None

    def set_at(self, view: str, name: Name, rdtype: int) -> ExpectedSet | None:
        """Return the expected set of a type at a name; None where nothing is expected of it."""
        return self.sets.get((view, name, rdtype))

    def values(self, view: str, name: Name, rdtype: int) -> frozenset[bytes]:
        """Return the values that have to be there; none where the estate contradicts itself about them."""
        expected = self.set_at(view, name, rdtype)
        return (
            expected.values - expected.absent
            if expected is not None and not expected.gone and not expected.clash
            else _NONE
        )

    def addresses(self, view: str, name: Name) -> frozenset[bytes]:
        """Return the addresses that a host has to have."""
        return self.values(view, name, A) | self.values(view, name, AAAA)

    def gone(self, view: str, name: Name) -> bool:
        """Return whether a host has to be gone: an address set of it must be absent, and no address of it is expected."""
        wanted = [found for rdtype in (A, AAAA) if (found := self.set_at(view, name, rdtype)) is not None]
        return any(one.gone for one in wanted) and not any(one.values for one in wanted)

    def clashes(self) -> list[str]:
        """Return what sources of the estate contradict each other about, each with both files and lines."""
        return [one.clash_text for one in self.sets.values() if one.clash]


def _matches(name: Name, globs: Iterable[str]) -> bool:
    """Return whether any shell pattern fits a name, with or without its final dot, or its first label."""
    text = to_text(name)
    shapes = (text, text.rstrip("."), text.split(".", 1)[0])
    return any(fnmatchcase(shape, glob.lower()) for glob in globs for shape in shapes)

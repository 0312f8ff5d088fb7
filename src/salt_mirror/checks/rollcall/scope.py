"""What `rollcall` has to look at: expectations turned into expected sets, each in its view.

Strategy: the unit is the RRset, since that is what a server answers with; what several sources say of one set is put together
before anything is asked. The SOA is left to the check of the authority, as its serial is meant to change.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from fnmatch import fnmatchcase

from salt_mirror.dns.names import Name, is_within, to_text
from salt_mirror.dns.records import SOA
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate

_NONE: frozenset[bytes] = frozenset()  # one for all: an empty one of its own costs 200 bytes


class ExpectedSet:
    """What is expected of one RRset: `values` that are there (all that are, with `exact`), `absent` ones that are not.

    `gone` says that the whole set must be absent. `ttl` in seconds, where all sources that give one agree.
    """

    __slots__ = ("absent", "exact", "gone", "name", "rdtype", "ttl", "values", "view", "where")

    def __init__(self, view: str, name: Name, rdtype: int) -> None:
        self.view = view
        self.name = name
        self.rdtype = rdtype
        self.values = _NONE
        self.absent = _NONE
        self.exact = False
        self.gone = False
        self.ttl: int | None = None
        self.where = ""

    def add(self, one: Expectation) -> None:
        """Takes in what one source says."""
        self.where = self.where or one.where
        if one.presence == "absent":
            self.gone = self.gone or not one.rdata
            self.absent |= {one.rdata} if one.rdata else frozenset()
            return
        self.ttl = one.ttl if not self.values or self.ttl == one.ttl else None
        self.values = self.values | {one.rdata} if self.values else frozenset((one.rdata,))
        self.exact = self.exact or one.presence == "exact"


def expected_sets(
    estate: Estate,
    given: Iterable[Expectation] | None,
    *,
    view: str | None = None,
    zone: Name | None = None,
    rdtypes: Collection[int] = (),
    globs: Collection[str] = (),
) -> list[ExpectedSet]:
    """The sets to call: the given expectations, or all of the estate, narrowed down as wished.

    A given one is called in every view that holds a zone for it, in the first one where none does.
    """
    found: dict[tuple[str, Name, int], ExpectedSet] = {}
    views = [view] if view is not None else estate.views or [""]

    def add(where: str, one: Expectation) -> None:
        if one.rdtype == SOA and SOA not in rdtypes:
            return
        if (rdtypes and one.rdtype not in rdtypes) or (zone is not None and not is_within(one.name, zone)):
            return
        if globs and not any(_matches(one.name, glob) for glob in globs):
            return
        key = (where, one.name, one.rdtype)
        if key not in found:
            found[key] = ExpectedSet(*key)
        found[key].add(one)

    if given is None:
        for where in views:
            for held in estate.zones.get(where, {}).values():
                for one in held.expectations:
                    add(where, one)
    else:
        for one in given:
            holding = [where for where in views if estate.zone_of(one.name, where) is not None]
            for where in holding or views[:1]:
                add(where, one)
    return list(found.values())


def _matches(name: Name, glob: str) -> bool:
    """Whether a shell pattern fits a name, with or without its final dot, or its first label."""
    text = to_text(name)
    return any(fnmatchcase(shape, glob.lower()) for shape in (text, text.rstrip("."), text.split(".", 1)[0]))

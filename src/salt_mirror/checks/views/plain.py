"""What plain agreement is for `views`: a name that has in every view what is expected of it there, where that is right.

Strategy: whether it is right is the judge's to say, who is handed the expected sets as if each view had given them. Where he
finds nothing, servers that give exactly these agree. A name that any view is not expected to have, or to have with several
values or an alias, is judged when it was asked for; so is the apex of a zone, which has what nobody expects.
"""

from __future__ import annotations

from collections.abc import Callable

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import Expects
from salt_mirror.checks.common.foreseen import Screeners
from salt_mirror.checks.views.scope import NOTHING, NameInViews, Sets
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import CNAME
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject


class PlainViews:
    """Foresees names; `is_right` is the judge, over the sets of each view of a name."""

    def __init__(self, atlas: Atlas, is_right: Callable[[Name, list[tuple[str, Sets]]], bool]) -> None:
        self._screeners = Screeners(atlas)
        self._expects = atlas.expects
        self._is_right = is_right

    def foresee(self, thing: NameInViews) -> ForeseenSubject | None:
        """Return what would settle a name; None where it is not known beforehand what is right."""
        foreseen: list[ForeseenSet] = []
        asked: set[Server] = set()
        sides: list[tuple[str, Sets]] = []
        for view in thing.views:
            authority = self._screeners.at(thing.name, view)
            sets = _expected(self._expects, view, thing)
            if (
                not sets
                or authority is None
                or self._screeners.is_apex(thing.name, view)
                or asked & set(authority.servers)
            ):
                return None
            asked.update(authority.servers)
            sides.append((view, sets))
            foreseen += [
                ForeseenSet(thing.name, rdtype, authority.servers, next(iter(sets.get(rdtype, NOTHING)), None))
                for rdtype in thing.rdtypes
            ]
        return ForeseenSubject(thing, (foreseen,)) if foreseen and self._is_right(thing.name, sides) else None


def _expected(expects: Expects, view: str, thing: NameInViews) -> Sets | None:
    """Return the sets that a view is expected to have at a name; None where that is not known to a byte."""
    if expects.set_at(view, thing.name, CNAME) is not None:
        return None
    sets: Sets = {}
    for rdtype in thing.rdtypes:
        expected = expects.set_at(view, thing.name, rdtype)
        if expected is None:
            continue
        if expected.plain_value is None:
            return None
        sets[rdtype] = expected.values
    return sets

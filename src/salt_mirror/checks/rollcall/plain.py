"""What plain agreement is for `rollcall`: the one value that is expected of a set, on every server, with the TTL that is
expected, and no wildcard that would give the same.

Strategy: the wildcard shows at a name beside the expected one that nobody has registered, which is the same for all names below
one parent. The first set there is judged as ever, and asks for it; the others wait for what that brings, and look it up.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.common.foreseen import Screeners
from salt_mirror.checks.common.part import Later
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import MAX_NAME, Name, join, parent
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import zone_side
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject

_Beside = tuple[Name, int, tuple[Server, ...]]
"""The parent of names, a type, and the servers that are asked for it."""


class PlainRoll:
    """Foresees expected sets; `sibling` is the label that nobody has registered."""

    def __init__(self, atlas: Atlas, sibling: bytes) -> None:
        self._screeners = Screeners(atlas)
        self._sibling = sibling
        self._later: dict[_Beside, Later] = {}

    def foresee(self, expected: ExpectedSet) -> ForeseenSubject | None:
        """Return what would settle a set; None for one of several values, or about which the estate says anything else."""
        value = expected.plain_value
        if value is None:
            return None
        authority = self._screeners.at(zone_side(expected.name, expected.rdtype), expected.view)
        if authority is None:
            return None
        return ForeseenSubject(expected, ((ForeseenSet(expected.name, expected.rdtype, authority.servers, value),),))

    def agreed(self, subject: ForeseenSubject) -> Any:
        """Return whether a set that was as foreseen agrees: at once at an apex or a wildcard, later for the names below a
        parent, but None for the first of these, which is judged."""
        expected: ExpectedSet = subject.what
        one = subject.rounds[0][0]
        if expected.ttl is not None and expected.ttl != one.ttl:
            return None
        if self._is_beyond(expected):
            return True
        key = (parent(expected.name), expected.rdtype, one.servers)
        later = self._later.get(key)
        if later is None:
            self._later[key] = Later(key)
        return later

    def afterwards(self, later: Later, sets: list[ExpectedSet], runner: Runner) -> Iterator[bool]:
        """Return of each of some sets whether it agrees now that it is known what stands beside it; not where that is the same,
        and of none where that is not known."""
        beside = self._beside(later.about, runner)
        for expected in sets:
            agrees = beside is not None and expected.plain_value not in beside
            if agrees:
                runner.saved += len(later.about[2])
            yield agrees

    def _is_beyond(self, expected: ExpectedSet) -> bool:
        """Return whether no wildcard is looked for: at an apex, at a wildcard itself, or where no name fits beside."""
        if self._screeners.is_apex(expected.name, expected.view) or expected.name.startswith(b"\x01*"):
            return True
        return len(expected.name) + len(self._sibling) + 1 > MAX_NAME

    def _beside(self, key: _Beside, runner: Runner) -> frozenset[bytes] | None:
        """Return every value that a server gives at the name that nobody has registered; None where one was not asked."""
        above, rdtype, servers = key
        beside, found = join((self._sibling,), above), set[bytes]()
        for server in servers:
            answer = runner.known(Question(beside, rdtype, server))
            if answer is None:
                return None
            found.update(answer.values)
        return frozenset(found)

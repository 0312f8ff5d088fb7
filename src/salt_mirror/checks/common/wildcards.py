"""Answers that a wildcard makes: whether a name has a record of its own, or a server made one up for it (RFC 4592).

Strategy: a name that exists keeps a wildcard from everything below it (the closest encloser is then the name itself). So where
a name beside it and a name below it have the same as it has, the name does not exist, and there is nothing there to remove.
"""

from __future__ import annotations

from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import join, parent
from salt_mirror.dns.questions import Answer

NO_SIBLING = b"no-such-name-in-this-zone"
"""Beside a name: whatever such a label has there is a wildcard's."""


def of_a_wildcard(answer: Answer) -> Dialogue[bool]:
    """Return whether the name of an answer does not exist itself on the server that gave it."""
    name = answer.question.name
    try:
        names = [join((NO_SIBLING,), parent(name)), join((NO_SIBLING,), name)]
    except Unusable:
        return False
    for beside in names:
        (other,) = yield [answer.question._replace(name=beside)]
        if (
            other.trouble is not None
            or not other.exists
            or (other.values, other.alias) != (answer.values, answer.alias)
        ):
            return False
    return True


def made_by_a_wildcard(looked_up: Lookup) -> Dialogue[bool]:
    """Return whether all that servers have at a name is made by a wildcard."""
    for telling in looked_up.usable:
        if telling.values and not (yield from of_a_wildcard(telling.answers[0])):
            return False
    return bool(looked_up.values)

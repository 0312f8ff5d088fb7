"""What plain agreement is for the content of a zone: the one value that is expected of a set, on every server compared.

Strategy: all sets of a zone that have one expected value are one subject. Where it has agreed, nothing of them is to be
compared again; where it has not, the answers are in hand, and all are compared.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from salt_mirror.checks.common.expected import Expects
from salt_mirror.checks.common.foreseen import is_plain
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject


def plain_content(
    sets: Iterable[tuple[Name, int]], view: str, servers: Sequence[Server], expects: Expects
) -> ForeseenSubject | None:
    """Return what would settle those of some sets (name and type) of which one value is expected; None where there are none, or
    the servers are not asked in bulk."""
    if not all(map(is_plain, servers)):
        return None
    of = tuple(servers)
    foreseen = [
        ForeseenSet(name, rdtype, of, expected.plain_value)
        for name, rdtype in sets
        if (expected := expects.set_at(view, name, rdtype)) is not None and expected.plain_value is not None
    ]
    return ForeseenSubject((view, of), (foreseen,)) if foreseen else None

"""The names nearest to one that does not exist: what somebody meant who mistyped it.

Strategy: optimal string alignment, in which neighbouring letters swapped count once, as people swap them, over the whole text;
names whose length alone is too far off are passed over, so that a large estate costs little.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.dns.names import Name, to_text

MOST = 3


def nearest(name: Name, known: Iterable[Name], most: int = MOST) -> list[Name]:
    """At most so many known names within a few edits of a name, nearest first; never the name itself."""
    from rapidfuzz.distance import OSA

    text = to_text(name)
    limit = max(1, min(3, (name[0] if name[0] else 1) // 3 + 1))
    found: list[tuple[int, str, Name]] = []
    for other in known:
        if abs(len(other) - len(name)) > limit or other == name:
            continue
        said = to_text(other)
        distance = OSA.distance(text, said, score_cutoff=limit)
        if distance <= limit:
            found.append((distance, said, other))
    best = min((distance for distance, *_ in found), default=0)
    return [other for distance, _, other in sorted(set(found)) if distance == best][:most]

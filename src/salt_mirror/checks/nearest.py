"""The names nearest to one that does not exist: what somebody meant who mistyped it.

Strategy: edit distance with neighbouring letters swapped counted once, as people swap them, over the whole text; names whose
length alone is too far off are passed over, so that a large estate costs little.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.dns.names import Name, to_text

MOST = 3


def nearest(name: Name, known: Iterable[Name], most: int = MOST) -> list[Name]:
    """At most so many known names within a few edits of a name, nearest first; never the name itself."""
    text = to_text(name)
    limit = max(1, min(3, (name[0] if name[0] else 1) // 3 + 1))
    found: list[tuple[int, str, Name]] = []
    for other in known:
        if abs(len(other) - len(name)) > limit or other == name:
            continue
        said = to_text(other)
        distance = edits(text, said, limit)
        if distance <= limit:
            found.append((distance, said, other))
    best = min((distance for distance, *_ in found), default=0)
    return [other for distance, _, other in sorted(set(found)) if distance == best][:most]


def edits(one: str, other: str, limit: int) -> int:
    """How many letters have to be put in, left out, changed or swapped to make one text the other; over `limit`, some number
    over it."""
    # What both have in common at the ends costs nothing; names of one zone share most of it.
    while one and other and one[-1] == other[-1]:
        one, other = one[:-1], other[:-1]
    while one and other and one[0] == other[0]:
        one, other = one[1:], other[1:]
    if not one or not other or abs(len(one) - len(other)) > limit:
        return max(len(one), len(other))
    above: list[int] = []
    row = list(range(len(other) + 1))
    for at, letter in enumerate(one, 1):
        before, above, row = above, row, [at]
        for place, opposite in enumerate(other, 1):
            cost = above[place - 1] if letter == opposite else 1 + min(above[place - 1], above[place], row[place - 1])
            if at > 1 and place > 1 and letter == other[place - 2] and one[at - 2] == opposite:
                cost = min(cost, before[place - 2] + 1)
            row.append(cost)
        if min(row) > limit:
            return limit + 1
    return row[-1]

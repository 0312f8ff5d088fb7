"""The names nearest to one that does not exist: what somebody meant who mistyped it.

Strategy: optimal string alignment, in which neighbouring letters swapped count once, as people swap them, over the whole text;
names whose length alone is too far off are passed over, so that a large estate costs little.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from salt_mirror.dns.names import Name, from_text, label_text, to_text
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.errors import nearest_word
from salt_mirror.estate.model import Estate
from salt_mirror.estate.typed import is_short, leased_names

MOST = 3
MOST_TYPED = 20
"""So many names are taken for typed by hand; for more of them, as from a file, near ones are not looked for."""


def nearest(name: Name, known: Iterable[Name], most: int = MOST) -> list[Name]:
    """At most so many known names within a few edits of a name, nearest first; never the name itself."""
    return _best(_near(name, known))[:most]


Near = tuple[int, bool, str, Name]
"""A name with the number of edits to it, whether it has other letters, and its text."""


def _near(name: Name, known: Iterable[Name]) -> Iterator[Near]:
    """Return the known names within a few edits of a name."""
    from rapidfuzz.distance import OSA

    text = to_text(name)
    limit = max(1, min(3, (name[0] if name[0] else 1) // 3 + 1))
    for other in known:
        if abs(len(other) - len(name)) > limit or other == name:
            continue
        said = to_text(other)
        distance = OSA.distance(text, said, score_cutoff=limit)
        if distance <= limit:
            yield distance, sorted(said) != sorted(text), said, other


def _best(found: Iterable[Near]) -> list[Name]:
    """Return those with the fewest edits, each once; first those that only have the same letters in another order."""
    near = sorted(set(found))
    return [name for distance, _, _, name in near if distance == near[0][0]]


def meant(text: str, known: Iterable[Name]) -> str:
    """Return the question which known names somebody meant: `did you mean …?`, by the first label where that is all that was
    typed. Empty where none is near."""
    if is_short(text):
        zones: dict[Name, list[Name]] = {}
        for name in known:
            if name[0]:
                zones.setdefault(name[name[0] + 1 :], []).append(name)
        label = from_text(text)[:-1]
        near = _best(one for zone, names in zones.items() for one in _near(label + zone, names))
        if not near:  # more than a few letters are others
            firsts = {label_text(name[1 : name[0] + 1]): name for names in zones.values() for name in names}
            word = nearest_word(text, firsts)
            near = [firsts[word]] if word is not None else []
    else:
        near = nearest(from_text(text), known)
    return f"did you mean {' or '.join(map(to_text, near[:MOST]))}?" if near else ""


def unexpected(name: Name, known: Collection[Name]) -> str:
    """Return a remark on a name that is not among the known ones, and which of them was meant; empty where none is near."""
    offer = meant(to_text(name), known) if name not in known else ""
    return f"{to_text(name)} is not expected; {offer}" if offer else ""


def names_of(estate: Estate) -> set[Name]:
    """Return every name that an estate expects in any view, or has leased; not those of reverse zones."""
    found = {one.name for zone in estate.all_zones() if not is_reverse(zone.apex) for one in zone.expectations}
    return found | {row.name for row in estate.damaged if row.name and not is_reverse(row.name)} | leased_names(estate)

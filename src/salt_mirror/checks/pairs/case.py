"""One name or address while it is judged: what is known of it beside what servers say, and the pairs that come of it.

Strategy: most pairs agree, and nothing is said of them. So what words a finding, and all that it needs, is brought in with the
first one.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.dns.names import Name
from salt_mirror.findings import Finding, Outcome

if TYPE_CHECKING:
    from salt_mirror.checks.common.standing import Standing
    from salt_mirror.checks.pairs.wording import PairWords


class Pair:
    """A name and one of its addresses (or none at all), and whether forward and reverse agree on the two."""

    __slots__ = ("address", "findings", "name", "outcome", "pointed", "pointer", "view")

    def __init__(
        self,
        view: str,
        name: Name,
        address: bytes | None,
        outcome: Outcome,
        findings: tuple[Finding, ...] = (),
        *,
        pointed: bool = True,
        pointer: Name | None = None,
    ) -> None:
        """`pointed`: whether the PTR records of the address were looked at; `pointer` owns them where an alias leads there."""
        self.view = view
        self.name = name
        self.address = address
        self.outcome = outcome
        self.findings = findings
        self.pointed = pointed
        self.pointer = pointer


class PairCase:
    """A name, or the owner of PTR records (`subject`), in one view. Where servers differ, `standing` says whose version counts,
    and `right` which values those have; `of_pointers` and `of_leads` whose counts on the PTR records of an address, and on the
    names that those lead to. `expected` are the addresses that it is to have."""

    __slots__ = ("_words", "atlas", "expected", "of_leads", "of_pointers", "right", "standing", "subject", "view")

    def __init__(
        self,
        view: str,
        subject: Lookup,
        atlas: Atlas,
        standing: Standing | None = None,
        expected: Collection[bytes] = frozenset(),
    ) -> None:
        self.view = view
        self.subject = subject
        self.atlas = atlas
        self.standing = standing
        self.expected = expected
        self.of_pointers: dict[bytes, Standing] = {}
        self.of_leads: dict[Name, Standing] = {}
        self.right = standing.right(subject) if standing is not None and subject.divided else None
        self._words: PairWords | None = None

    @property
    def words(self) -> PairWords:
        """What words the findings about it."""
        if self._words is None:
            from salt_mirror.checks.pairs.wording import PairWords

            self._words = PairWords(self)
        return self._words

    def outdated(self, address: bytes) -> bool:
        """Return whether only servers have the address whose version does not count, and nobody expects it."""
        return self.right is not None and address not in self.right and address not in self.expected


def pointer_of(reverse: Lookup) -> Name | None:
    """Return the name that owns the pointers, where that is not the address's own."""
    return reverse.canonical if reverse.followed else None

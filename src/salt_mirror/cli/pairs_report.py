"""The subjects of `pairs`: every name with each of its addresses."""

from __future__ import annotations

from collections.abc import Iterator

from salt_mirror.checks.pairs.judging import Judged
from salt_mirror.dns.names import to_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.report.document import Subject


def subjects_of(judged: Judged) -> Iterator[Subject]:
    """Everything that was judged, one by one."""
    for (view, name, address), found in judged.outcomes.items():
        yield Subject(
            name=to_text(name),
            type="A" if address is None or len(address) == 4 else "AAAA",
            view=view,
            outcome=found,
            address=address_text(address) if address is not None else None,
        )

"""The report of `pairs`, made from what was judged."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from salt_mirror.checks.pairs import Judged
from salt_mirror.checks.pairs_scope import Scope
from salt_mirror.dns.names import to_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Outcome
from salt_mirror.report.document import Counts, Report, Subject

_WEIGHTS = {"fault": 0, "caution": 1, "note": 2}


class Asked(NamedTuple):
    """What the asking cost, and what the reader has to know about it."""

    questions: int
    spared: int
    strays: int
    remarks: list[str]


def report_of(
    judged: Judged, scope: Scope, *, started: datetime, seconds: float, asked: Asked, interrupted: bool
) -> Report:
    """The report of everything judged so far."""
    counts = Counts(
        agrees=judged.count("agrees"),
        differs=judged.count("differs"),
        unverified=judged.count("unverified"),
        questions=asked.questions,
        spared=asked.spared,
        strays=asked.strays,
    )
    outcome: Outcome = "differs" if counts.differs else "unverified" if counts.unverified else "agrees"
    remarks = [*scope.remarks, *asked.remarks]
    if interrupted:
        done = counts.agrees + counts.differs + counts.unverified
        remarks.append(f"interrupted: {done:,} addresses were judged, of {scope.size:,} names and addresses to look at")
    estate = scope.estate
    return Report(
        command="pairs",
        title=estate.title,
        estate=str(estate.path) if estate.path else None,
        started=started,
        seconds=round(seconds, 3),
        outcome=outcome,
        counts=counts,
        findings=sorted(
            judged.findings.values(),
            key=lambda finding: (_WEIGHTS[finding.weight], finding.view, finding.code, finding.name),
        ),
        remarks=remarks,
        interrupted=interrupted,
    )


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

"""What every form of a report says alike: one server's word on one line, and since when a finding has stood."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime

from salt_mirror.checks.audit.lines import Since
from salt_mirror.checks.common.wording import many
from salt_mirror.findings import Evidence, Fate, Finding
from salt_mirror.report.document import Report


def evidence_line(evidence: Evidence) -> str:
    """Return what one server said, on one line."""
    text = (
        evidence.trouble
        or ", ".join(evidence.values)
        or ("no such name" if evidence.status == "NXDOMAIN" else "nothing of this type")
    )
    return f"{evidence.server} ({evidence.endpoint}) {evidence.question}: {text}"


def file_lines(finding: Finding) -> list[str]:
    """Return the lines of files that a finding comes of, each on one line."""
    return [f"{one.place}: {one.says}" if one.says else one.place for one in finding.lines or () if one.file]


def since_of(report: Report) -> dict[tuple[str, ...], datetime]:
    """Return since when each finding has stood, by what it is about."""
    history = report.past
    standing: list[Since] = history.standing if history is not None else []
    return {(one.code, one.view, one.name, one.type, one.address or "", one.server): one.since for one in standing}


def things_said(findings: Sequence[Finding]) -> str:
    """Return how many things there are to mend behind some findings, those with one cause being one; nothing where each is its
    own."""
    things = len({one.cause or number for number, one in enumerate(findings)})
    return f"{many(things, 'thing')} to mend, {many(len(findings), 'finding')}" if things < len(findings) else ""


REPAIRS: dict[Fate, str] = {
    "": "What would mend it",
    "planned": "What mends it, as planned",
    "choice": "Needs a decision",
    "refused": "Refused, since it would do harm",
    "contradiction": "Contradiction in the estate",
    "not ours": "Not ours to change",
    "advice": "Advice",
}
"""What a report writes above a finding's repair."""


def same_mend(finding: Finding, other: Finding | None) -> bool:
    """Return whether one and the same change mends two findings, whichever of them knows the TTL."""
    return other is not None and _TTL.sub(" IN ", finding.remedy) == _TTL.sub(" IN ", other.remedy)


_TTL = re.compile(r" \d+ IN ")

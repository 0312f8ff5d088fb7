"""Findings that somebody has accepted: set aside with the reason, never dropped, and only as long as was said.

Strategy: an acceptance names codes and names by shell patterns. One whose day is over accepts nothing any more, and one that
fits nothing has outlived its use: both are findings themselves, so that the list does not grow old unseen.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from fnmatch import fnmatchcase

import msgspec

from salt_mirror.checks.wording import state
from salt_mirror.dns.names import ROOT
from salt_mirror.dns.records import SOA
from salt_mirror.estate.file import AcceptEntry
from salt_mirror.findings import Finding


class Accepted(msgspec.Struct, frozen=True, kw_only=True):
    """A finding that was accepted, and why; `until` is the last day of that, None for no end."""

    finding: Finding
    reason: str
    until: date | None


def sort_out(
    findings: Iterable[Finding], entries: list[AcceptEntry], today: date
) -> tuple[list[Finding], list[Accepted]]:
    """The findings that stand, with those about the acceptances themselves; and the accepted ones."""
    standing: list[Finding] = []
    accepted: list[Accepted] = []
    used: set[int] = set()
    for finding in findings:
        for number, entry in enumerate(entries):
            if _fits(entry, finding):
                used.add(number)
                if entry.until is None or today <= entry.until:
                    accepted.append(Accepted(finding=finding, reason=entry.reason, until=entry.until))
                    break
        else:
            standing.append(finding)
    for number, entry in enumerate(entries):
        what = f"the acceptance of {entry.code} for {entry.name} ({entry.reason})"
        if entry.until is not None and today > entry.until:
            text = f"{what[0].upper()}{what[1:]} ended on {entry.until.isoformat()}: mend what it covers, or set another day."
            standing.append(state("accept.expired", text, name=ROOT, rdtype=SOA, view=entry.view or ""))
        elif number not in used:
            text = f"{what[0].upper()}{what[1:]} fits no finding any more: take it out of the estate."
            standing.append(state("accept.unused", text, name=ROOT, rdtype=SOA, view=entry.view or ""))
    return standing, accepted


def _fits(entry: AcceptEntry, finding: Finding) -> bool:
    if entry.view is not None and entry.view != finding.view:
        return False
    name = entry.name.lower()
    names = (finding.name, finding.name.rstrip("."))
    return fnmatchcase(finding.code, entry.code) and any(fnmatchcase(one, name) for one in names)

"""Findings that somebody has accepted: set aside with the reason, never dropped, and only as long as was said.

Strategy: an acceptance names codes and names by shell patterns. One whose day is over accepts nothing any more, and one that
fits nothing has outlived its use: both are findings themselves, so that the list does not grow old unseen.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from fnmatch import fnmatchcase

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.lines import Accepted
from salt_mirror.checks.common.wording import state
from salt_mirror.dns.names import ROOT
from salt_mirror.dns.records import SOA
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import AcceptEntry
from salt_mirror.findings import Finding


def sort_out(
    findings: Iterable[Finding], entries: list[AcceptEntry], today: date
) -> tuple[list[Finding], list[Accepted]]:
    """Return the findings that stand, with those about the acceptances themselves; and the accepted ones."""
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
        where = " ".join(filter(None, (entry.name, entry.address, entry.server)))
        what = f"the acceptance of {entry.code} for {where} ({entry.reason})"
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
    subject = finding.subject
    if entry.address is not None and not fnmatchcase(subject.address, entry.address.lower()):
        return False
    if entry.server is not None and not _names_server(entry.server, finding):
        return False
    name = entry.name.lower()
    names = (finding.name, finding.name.rstrip("."))
    return fnmatchcase(finding.code, entry.code) and any(fnmatchcase(one, name) for one in names)


def _names_server(pattern: str, finding: Finding) -> bool:
    """Return whether the server that a finding means fits a pattern, by its endpoint or by its label."""
    meant = finding.subject.server
    labels = [one.server for one in finding.evidence if one.endpoint == meant]
    return bool(meant) and any(fnmatchcase(one.lower(), pattern.lower()) for one in (meant, meant.rstrip("."), *labels))


def check(entries: Iterable[AcceptEntry], place: str) -> None:
    """Raise BadInput for an acceptance of a code that does not exist; `place` is the file that it stands in."""
    for number, entry in enumerate(entries, 1):
        if not any(fnmatchcase(code, entry.code) for code in catalogue()):
            what = f"{place}: accept, entry {number}, code: no code fits"
            raise BadInput.unknown(what, entry.code, catalogue(), otherwise="explain lists them", alike=0.4)

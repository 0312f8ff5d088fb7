"""One cause behind many findings: a silent server, a moved host, a secondary that lags.

Strategy: nothing is asked again. A cause is seen in the evidence that the findings carry, or in the change that would mend
several of them, and is put into them, so that every report can tell the cause first and fold what follows from it. A cause that
explains a single finding is none.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from msgspec.structs import replace

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.plan.sheet import FATES
from salt_mirror.dns.names import from_text, is_within
from salt_mirror.findings import Change, Finding

_FEW = 3


def with_causes(findings: Iterable[Finding]) -> list[Finding]:
    """Return the same findings in the same order, with the causes that explain several of them."""
    found = list(findings)
    lagging = [one for one in found if one.code == "auth.serial-behind" and one.evidence]
    moved = _moved(found)
    told = [_cause(one, lagging, moved) for one in found]
    shared = _shared(found)
    told = [cause or shared.get(number, "") for number, cause in enumerate(told)]
    several = Counter(cause for cause in told if cause)
    return [replace(one, cause=cause) if several[cause] > 1 else one for one, cause in zip(found, told, strict=True)]


def _cause(finding: Finding, lagging: list[Finding], moved: dict[tuple[str, str], str]) -> str:
    if finding.outcome == "unverified":
        return _silent(finding) or finding.cause
    if finding.cause:
        return finding.cause
    for late in lagging:
        if finding is not late and finding.view == late.view and _shows_lag(finding, late):
            return _lag(late)
    if finding in lagging:
        return _lag(finding)
    return moved.get((finding.view, finding.name), "")


def _silent(finding: Finding) -> str:
    """Return the only server that kept a finding from being verified."""
    troubles = {(one.server, one.endpoint, one.trouble) for one in finding.evidence if one.trouble is not None}
    if len(troubles) != 1:
        return ""
    ((server, endpoint, trouble),) = troubles
    return f"{server} ({endpoint}): {trouble}"


def _lag(late: Finding) -> str:
    return f"{late.evidence[0].server} has an old version of {late.name}"


def _shows_lag(finding: Finding, late: Finding) -> bool:
    """Return whether servers disagree in a finding just as one of them would that lags behind in the zone."""
    if not catalogue()[finding.code].servers_differ or not is_within(from_text(finding.owner), from_text(late.name)):
        return False
    server = late.evidence[0].server
    said: dict[str, set[tuple[str, ...]]] = {}
    for evidence in finding.evidence:
        said.setdefault(evidence.server, set()).add((evidence.question, *evidence.values))
    others = [values for label, values in said.items() if label != server]
    return (
        server in said and bool(others) and all(values == others[0] for values in others) and said[server] != others[0]
    )


def _moved(findings: list[Finding]) -> dict[tuple[str, str], str]:
    """Return hosts that are registered at other addresses than expected, by view and name."""
    found = {}
    for finding in findings:
        if finding.code in ("pair.other-address", "roll.different") and finding.type in ("A", "AAAA"):
            has = sorted(
                {
                    value
                    for evidence in finding.evidence
                    for value in evidence.values
                    if evidence.question.startswith(finding.name)
                }
            )
            if has:
                found[finding.view, finding.name] = f"{finding.name} is at {', '.join(has)}, and is expected elsewhere"
    return found


def _shared(findings: list[Finding]) -> dict[int, str]:
    """Return findings that one and the same change mends, by their place: what has to change, as their cause."""
    sets: dict[tuple[str, ...], list[int]] = {}
    changes: dict[tuple[str, ...], Change] = {}
    for number, finding in enumerate(findings):
        if finding.fate in FATES:
            continue  # what mends it is not that change
        keyed: list[tuple[tuple[str, ...], Change]] = [
            ((change.view, change.name, change.type), change) for change in finding.changes
        ]
        keyed += [
            ((change.view, change.name, change.type, *change.add, *change.remove), change)
            for choice in finding.choices
            for change in choice.changes
        ]
        for key, change in keyed:
            changes.setdefault(key, change)
            sets.setdefault(key, []).append(number)
    found: dict[int, str] = {}
    for key, numbers in sorted(sets.items(), key=lambda item: -len(set(item[1]))):
        if len(set(numbers)) > 1:
            for number in numbers:
                found.setdefault(number, _to_change(changes[key]))
    return found


def _to_change(change: Change) -> str:
    what = f"{change.name} {change.type}"
    comes, goes = ", ".join(change.add[:_FEW]), ", ".join(change.remove[:_FEW])
    if comes and goes:
        return f"{what} should be {comes} in place of {goes}"
    if comes:
        return f"{what} should have {comes}"
    return f"{what} should not have {goes}" if goes else f"{what} has to change"

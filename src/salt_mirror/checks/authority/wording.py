"""What is said of a zone's authority as a whole: the verdict, and what could not be looked at from here."""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.authority.sheet import Inspected
from salt_mirror.checks.wording import many


def verdict(one: Inspected) -> str:
    """The answer about a single zone in one sentence."""
    name = one.sheet.zone
    if not one.sheet.servers:
        return one.sheet.says
    serving = f"{one.sheet.says}."
    faults = sum(finding.weight == "fault" for finding in one.findings)
    if faults:
        return f"{name} is not sound: {many(faults, 'fault')}; {serving}"
    if one.outcome == "unverified":
        return f"{name} could not be verified on every server; {serving}"
    return f"{name} has a sound authority; {serving}"


def not_asked(done: Iterable[Inspected]) -> list[str]:
    """Which name servers were left out, since this computer has no way to them."""
    beyond = {address for one in done for address in one.sheet.not_asked}
    return [f"this computer has no IPv6: {len(beyond)} addresses of name servers were not asked"] if beyond else []

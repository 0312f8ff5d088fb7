"""What is said of a zone's authority as a whole: the verdict, and what could not be looked at from here."""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.authority.judging import Inspected
from salt_mirror.checks.common.wording import many


def verdict(inspected: Inspected) -> str:
    """Return the answer about a single zone in one sentence."""
    name = inspected.sheet.zone
    if not inspected.sheet.servers:
        return inspected.sheet.says
    signed = inspected.sheet.signed
    serving = f"{inspected.sheet.says}{f'; {signed.says}' if signed is not None else ''}."
    faults = sum(finding.weight == "fault" for finding in inspected.findings)
    if faults:
        return f"{name} is not sound: {many(faults, 'fault')}; {serving}"
    if inspected.outcome == "unverified":
        return f"{name} could not be verified on every server; {serving}"
    return f"{name} has a sound authority; {serving}"


def not_asked(done: Iterable[Inspected]) -> list[str]:
    """Return a remark on the name servers' addresses of an IP version that this computer, or this run, does not use."""
    beyond = {address for inspected in done for address in inspected.sheet.not_asked}
    only = "IPv6" if any("." in address for address in beyond) else "IPv4"
    text = many(len(beyond), "address of a name server", "addresses of name servers")
    return [f"only {only} is used from here: {text} not asked"] if beyond else []

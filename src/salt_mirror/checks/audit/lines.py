"""What an audit adds to a report: a line for each zone with counts for each check, what was accepted, what is new.

Strategy: plain data, gathered by the command; every form of report shows it and counts nothing itself.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from typing import TYPE_CHECKING

import msgspec

from salt_mirror.checks.common.wording import many
from salt_mirror.findings import Finding, Outcome

if TYPE_CHECKING:
    from salt_mirror.checks.authority.sheet import Sheet
    from salt_mirror.checks.signed.sheet import SignatureRow


class Tally(msgspec.Struct, frozen=True, kw_only=True):
    """How many subjects of one check in one zone have each outcome, and its findings by weight."""

    agrees: int = 0
    differs: int = 0
    unverified: int = 0
    faults: int = 0
    cautions: int = 0

    @property
    def outcome(self) -> Outcome:
        """What the check says of the zone."""
        return "differs" if self.faults else "unverified" if self.unverified else "agrees"

    @property
    def total(self) -> int:
        """How many subjects there were."""
        return self.agrees + self.differs + self.unverified

    @property
    def by_outcome(self) -> tuple[tuple[Outcome, int], ...]:
        """How many subjects have each outcome."""
        return ("agrees", self.agrees), ("differs", self.differs), ("unverified", self.unverified)


class ServerTally(msgspec.Struct, frozen=True, kw_only=True):
    """In how many faults of one check a server's answers stand, and how often it gave no usable one."""

    faults: int = 0
    unverified: int = 0


class Unchanged(msgspec.Struct, frozen=True, kw_only=True):
    """That a zone is as it was at its last whole look, `since` when that was, and how many of its names were asked:
    `sampled` of `of`."""

    since: datetime
    sampled: int
    of: int

    @property
    def says(self) -> str:
        """The same in words."""
        asked = f"{self.sampled:,} of {self.of:,} were asked" if self.of else "nothing to sample"
        return f"unchanged since {self.since:%Y-%m-%d %H:%M} UTC, {asked}"


class ZoneLine(msgspec.Struct, frozen=True, kw_only=True):
    """A zone in one view with the tally of each check that had something to check there; `servers` the same for each of its
    servers. `serial_lag` and `serials` are by server, and so is `serial_since`: when a run first saw the serial there, as a
    history tells; `last_agreement` is by check. `signatures_end` is when the first signature ends (UTC; None: nothing is
    signed, or it was not looked at). Of an `unchanged` zone only a sample was looked at."""

    zone: str
    view: str
    checks: dict[str, Tally]
    servers: dict[str, dict[str, ServerTally]] = {}
    serial_lag: dict[str, int] = {}
    serials: dict[str, int] = {}
    serial_since: dict[str, datetime] = {}
    signatures_end: datetime | None = None
    last_agreement: dict[str, datetime] = {}
    unchanged: Unchanged | msgspec.UnsetType = msgspec.UNSET

    @property
    def outcome(self) -> Outcome:
        """The worst that any check says of the zone; nothing is known of one that no check has looked at."""
        outcomes = [tally.outcome for tally in self.checks.values()]
        return (
            "differs"
            if "differs" in outcomes
            else "unverified"
            if "unverified" in outcomes or not outcomes
            else "agrees"
        )

    @property
    def soa_alone(self) -> bool:
        """Whether nothing but the zone's authority was looked at, and none of its records."""
        return list(self.checks) == ["authority"]


class Since(msgspec.Struct, frozen=True, kw_only=True):
    """A finding of this run, and the moment (UTC) since which it has stood without a break."""

    code: str
    view: str
    name: str
    type: str
    address: str | None
    server: str = ""
    since: datetime


class History(msgspec.Struct, frozen=True, kw_only=True):
    """This run against the ones before: what is new, what is gone (faults and cautions), how long all that is there has stood;
    `new_unverified` could be verified in the run before, or was not there. `before` is the last run."""

    before: datetime | None
    new: list[Finding]
    gone: list[Finding]
    standing: list[Since]
    new_unverified: list[Finding] = []

    @property
    def says(self) -> str:
        """How many are new and gone, in words."""
        doubts = f", {len(self.new_unverified):,} newly unverified" if self.new_unverified else ""
        return f"{len(self.new):,} new, {len(self.gone):,} gone{doubts}"


class Ending(msgspec.Struct, frozen=True, kw_only=True):
    """Signatures of a zone that end together: how many, over what first, on which servers; when
    (UTC), and in how many seconds."""

    zone: str
    view: str
    what: str
    sets: int
    servers: list[str]
    ends: datetime
    left_s: int


def ending(sheets: Iterable[Sheet], within_s: int) -> list[Ending]:
    """Return the signatures that end within so many seconds, the first to end first; what has ended is a finding."""
    groups: dict[tuple[str, str, str, bool], list[SignatureRow]] = {}
    for sheet in sheets:
        for row in sheet.signed.signatures if sheet.signed is not None else ():
            if row.state == "valid" and row.left_s <= within_s:
                groups.setdefault((sheet.zone, sheet.view, row.ends[:16], row.set.endswith(" DNSKEY")), []).append(row)
    endings = [
        Ending(
            zone=zone,
            view=view,
            what="keys (DNSKEY)" if keys else rows[0].set,
            sets=len({row.set for row in rows}),
            servers=list(dict.fromkeys(row.server for row in rows)),
            ends=min(datetime.fromisoformat(row.ends) for row in rows),
            left_s=min(row.left_s for row in rows),
        )
        for (zone, view, _, keys), rows in groups.items()
    ]
    return sorted(endings, key=lambda one: (one.left_s, one.zone, one.view, one.what))


class Audit(msgspec.Struct, frozen=True, kw_only=True):
    """The audit's part of a report. `nothing` are the checks that had nothing to check, and why; `saved` questions that were
    asked once for several checks; `round_trips` how many answers took at most so many seconds. `only` are the checks that ran
    where not all did, and `partly` says in words what was looked at; `ending` are the
    signatures that end within the time of a forecast."""

    zones: list[ZoneLine]
    nothing: list[str]
    saved: int
    accepted: list[Accepted]
    round_trips: dict[str, int]
    round_trip_sum: float
    history: History | None = None
    only: list[str] = []
    partly: str = ""
    ending: list[Ending] | msgspec.UnsetType = msgspec.UNSET


class Run(msgspec.Struct, frozen=True):
    """One run of the past; of a compacted day the last one, for `runs` of them."""

    started: datetime
    seconds: float
    scope: str
    outcome: str
    faults: int
    cautions: int
    unverified: int
    runs: int = 1


class Life(msgspec.Struct, frozen=True):
    """One life of a finding: from when to when it was seen, and when it was first seen to be gone; `seen_last` whether the
    last run of its kind saw it."""

    code: str
    view: str
    name: str
    text: str
    first: datetime
    last: datetime
    ended: datetime | None
    seen_last: bool


NOTHING = "Nothing was judged."


def verdict(zones: list[ZoneLine], findings: list[Finding], *, all_checks: bool = True) -> str:
    """Return whether the estate is sound, in one sentence; where not all checks ran, no zone is called that."""
    certain = [finding.weight for finding in findings if finding.outcome != "unverified"]
    faults, cautions, doubts = certain.count("fault"), certain.count("caution"), len(findings) - len(certain)
    if not any(line.checks for line in zones):
        return NOTHING
    sound = sum(line.outcome == "agrees" and not line.soa_alone and not line.unchanged for line in zones)
    soa_only = sum(line.outcome == "agrees" and line.soa_alone and not line.unchanged for line in zones)
    same = [line.unchanged for line in zones if line.outcome == "agrees" and line.unchanged]
    begin = f"{sound} of {many(len(zones), 'zone')} {'is' if sound == 1 or len(zones) == 1 else 'are'} sound"
    if not all_checks:
        seen = [line for line in zones if line.checks]
        clean = sum(line.outcome == "agrees" and not line.unchanged for line in seen)
        begin = f"{clean} of {many(len(seen), 'zone')} looked at without a fault"
    elif soa_only:
        begin += f", {soa_only} looked at by the SOA only"
    if same:
        since, sampled = min(one.since for one in same), sum(one.sampled for one in same)
        begin += f", {len(same):,} unchanged since {since:%Y-%m-%d %H:%M} UTC ({sampled:,} sampled)"
    parts = [many(faults, "fault") if faults else "no faults"]
    if cautions:
        parts.append(many(cautions, "caution"))
    if doubts:
        parts.append(f"{doubts:,} could not be verified")
    return f"{begin}; {', '.join(parts)}."


class Accepted(msgspec.Struct, frozen=True, kw_only=True):
    """A finding that was accepted, and why; `until` is the last day of that, None for no end."""

    finding: Finding
    reason: str
    until: date | None

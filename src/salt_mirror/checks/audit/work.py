"""The audit's work: all checks over all zones and views through one runner, and what they found by zone.

Strategy: each check is a part that fills itself as it does for its own command; one runner keeps every answer, so that nothing
is asked twice.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from salt_mirror.checks import audited, check_of
from salt_mirror.checks.audit.lines import ServerTally, Tally, Unchanged, ZoneLine
from salt_mirror.checks.authority.judging import Inspected, Inspection
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.part import Part, Setting, carry_out
from salt_mirror.checks.vantage.judging import FromPlaces
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import ROOT, Name, from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Finding, Outcome

if TYPE_CHECKING:
    from salt_mirror.checks.authority.sheet import Sheet

InView = tuple[Name, str]
"""A zone in a view."""


class AuditWork:
    """Everything that an audit looks at, and what came of it. It can be read at any time, also after an interrupt."""

    def __init__(self, estate: Estate, atlas: Atlas, coverage: Coverage) -> None:
        self._estate = estate
        self._coverage = coverage
        self._unfit: list[str] = []
        self.vantages: FromPlaces | None = None
        self.parts: dict[str, Part] = {}
        self._zones = [zone for zone in estate.all_zones() if coverage.sees(zone.apex, zone.view)]
        for check in audited():
            if coverage.checks(check.name):
                part = check.scope(estate, atlas, coverage)
                if part is not None:
                    self.parts[check.name] = part
                elif not check.quiet:
                    self._unfit.append(f"{check.name}: nothing to check ({check.nothing})")

    @property
    def nothing(self) -> list[str]:
        """The checks that had nothing to look at, each with the reason, once it is known what is in hand."""
        idle = [
            f"{check.name}: nothing to check ({check.nothing})"
            for check in audited()
            if not check.quiet and check.name in self.parts and not self.parts[check.name].size
        ]
        return [*self._unfit, *idle]

    @property
    def total(self) -> int:
        """How many things there are to look at."""
        return sum(part.size for part in self.parts.values())

    @property
    def remarks(self) -> list[str]:
        """What the reader has to know about the coverage."""
        return [remark for part in self.parts.values() for remark in part.remarks]

    def run(self, setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        """Run every check that is covered, one after the other; nothing is asked twice."""
        for part in self.parts.values():
            carry_out(part, setting, runner, tick)

    def servers_of(self, view: str, apex: Name) -> tuple[Server, ...]:
        """Return every server that was seen to serve a zone, also those that the estate does not list."""
        name = to_text(apex)
        return next((one.servers for one in self.inspected if (one.sheet.zone, one.sheet.view) == (name, view)), ())

    # What came of it

    def findings(self) -> list[Finding]:
        """Return every finding once, as far as it is wished to be told."""
        found: dict[tuple[str, ...], Finding] = {}
        parts = [*([self.vantages] if self.vantages is not None else []), *self.parts.values()]
        for finding in (one for part in parts for one in part.findings()):
            text = "" if check_of(finding.code).name == "pairs" and not finding.vantages else finding.text
            key = (*finding.identity, text)
            if self._coverage.tells(finding):
                found.setdefault(key, finding)
        return list(found.values())

    def looked_at(self, finding: Finding) -> bool:
        """Return whether a finding like this one would have been found: its check has run, and its zone is still looked at."""
        narrowing = self._coverage.narrowing
        if narrowing is not None and not narrowing.looked_at(finding):
            return False
        if check_of(finding.code).name in ("audit", "vantage"):
            return True  # about the acceptances themselves
        if check_of(finding.code).name not in self.parts:
            return False
        if finding.name == ".":
            return self._coverage.sees(ROOT, finding.view)  # about a resolver, which is of a view and of no zone
        zones = (self._zone_of(from_text(name), finding.view) for name in (finding.owner, finding.name))
        return any(zone in self._zones for zone in zones)

    def apex_of(self, finding: Finding) -> str:
        """Return the apex of the zone that a finding lies in; empty where it is of none."""
        zone = self._zone_of(from_text(finding.owner), finding.view)
        return to_text(zone.apex) if zone is not None else ""

    def counts(self, *, doubts: bool) -> dict[Outcome, int]:
        """Return how many subjects of all checks have each outcome; no doubt counts where none is left standing."""
        found: dict[Outcome, int] = dict.fromkeys(("agrees", "differs", "unverified"), 0)
        for part in self.parts.values():
            for outcome, number in part.counts().items():
                found[outcome] += number
        return found if doubts else found | {"unverified": 0}

    def zone_lines(self, standing: list[Finding]) -> list[ZoneLine]:
        """Return a line for each zone, in the order of the estate, with what each check says of it."""
        outcomes: dict[tuple[InView, str], Counter[str]] = {}
        for check, part in self.parts.items():
            for top, view in part.swept():
                held = self._zone_of(top, view)
                if held is not None:
                    outcomes.setdefault(((held.apex, held.view), check), Counter())
        for (key, check, outcome), number in self._subjects().items():
            outcomes.setdefault((key, check), Counter())[outcome] += number
        weights: dict[tuple[InView, str], Counter[str]] = {}
        by_zone: dict[InView, list[Finding]] = {}
        for finding in standing:
            zone = self._zone_of(from_text(finding.owner), finding.view)
            if zone is not None:
                by_zone.setdefault((zone.apex, zone.view), []).append(finding)
            if zone is not None and finding.outcome != "unverified":
                weights.setdefault(((zone.apex, zone.view), check_of(finding.code).name), Counter())[
                    finding.weight
                ] += 1
        sheets = {(one.sheet.zone, one.sheet.view): one.sheet for one in self.inspected}
        of_zone: dict[InView, dict[str, Counter[str]]] = {}
        for (where, check), counts in outcomes.items():
            of_zone.setdefault(where, {})[check] = counts
        rows: dict[tuple[str, str], list[str]] = {}
        for one in self.inspected:
            rows.setdefault((one.sheet.zone, one.sheet.view), []).extend(row.server for row in one.sheet.servers)
        lines, unchanged = [], self._unchanged()
        for zone in self._zones:
            key = (zone.apex, zone.view)
            checks = {
                check: Tally(
                    agrees=counts["agrees"], differs=counts["differs"], unverified=counts["unverified"],
                    faults=weights.get((key, check), Counter())["fault"],
                    cautions=weights.get((key, check), Counter())["caution"],
                )
                for check, counts in of_zone.get(key, {}).items()
            }  # fmt: skip
            name = to_text(zone.apex)
            seen = rows.get((name, zone.view), [])
            servers = _servers(zone, seen, list(checks), by_zone.get(key, []))
            sheet, same = sheets.get((name, zone.view)), unchanged.get((zone.view, name), msgspec.UNSET)
            line = ZoneLine(zone=name, view=zone.view, checks=checks, servers=servers, unchanged=same)
            lines.append(_with_authority(line, sheet) if sheet is not None else line)
        return lines

    def _unchanged(self) -> dict[tuple[str, str], Unchanged]:
        """Return the zones of which only a sample was asked for."""
        narrowing = self._coverage.narrowing
        told = narrowing.told() if narrowing is not None else ()
        return {key: Unchanged(since=since, sampled=picked, of=records) for key, since, picked, records in told}

    @property
    def inspected(self) -> list[Inspected]:
        """What was seen of each zone's authority."""
        part = self.parts.get("authority")
        parts = part.parts.values() if isinstance(part, FromPlaces) else [part]
        return next((one.inspected for one in parts if isinstance(one, Inspection)), [])

    def _subjects(self) -> dict[tuple[InView, str, Outcome], int]:
        """Return how many subjects of a zone have an outcome in a check."""
        apexes = {(zone.apex, zone.view) for zone in self._estate.all_zones()}
        above: dict[InView, InView | None] = {}

        def place(name: Name, view: str) -> InView | None:
            if (name, view) in apexes:
                return name, view
            key = (name[name[0] + 1 :], view)  # names side by side lie in one zone, unless they are its apex
            if key not in above:
                zone = self._zone_of(name, view)
                above[key] = (zone.apex, zone.view) if zone is not None else None
            return above[key]

        found: dict[tuple[InView, str, Outcome], int] = {}
        for check, part in self.parts.items():
            for verdict in part.verdicts():
                view, outcome = verdict.view, verdict.outcome
                for where in {place(name, view): None for name in part.owners(verdict)}:
                    if where is not None:
                        found[where, check, outcome] = found.get((where, check, outcome), 0) + 1
        return found

    def _zone_of(self, name: Name, view: str) -> Zone | None:
        return self._estate.zone_of(name, view)


def _with_authority(line: ZoneLine, sheet: Sheet) -> ZoneLine:
    """Return a zone's line with what its servers said of serials and signatures."""
    rows = sheet.servers
    signed = sheet.signed.signatures if sheet.signed is not None else ()
    return replace(
        line,
        serial_lag={row.server: row.behind for row in rows if row.behind},
        serials={row.server: row.serial for row in rows if row.serial is not None},
        signatures_end=min(
            (datetime.fromisoformat(row.ends) for row in signed if row.state in ("valid", "expired")), default=None
        ),
    )


def _servers(
    zone: Zone, seen: list[str], checks: list[str], findings: list[Finding]
) -> dict[str, dict[str, ServerTally]]:
    """For each server of a zone (its own, and those `seen` for it) and each check, its part in the faults and doubts there."""
    counts: Counter[tuple[str, str, str]] = Counter()
    for finding in findings:
        check = check_of(finding.code).name
        for label in {one.server for one in finding.evidence if one.trouble is not None}:
            counts[label, check, "unverified" if finding.outcome == "unverified" else finding.weight] += 1
        if finding.weight == "fault":
            for label in {one.server for one in finding.evidence if one.trouble is None}:
                counts[label, check, "fault"] += 1
    return {
        label: {
            check: ServerTally(faults=counts[label, check, "fault"], unverified=counts[label, check, "unverified"])
            for check in checks
        }
        for label in dict.fromkeys([*(server.label for server in zone.servers or ()), *seen])
    }

"""The audit's work: all checks over all zones and views through one runner, and what they found by zone.

Strategy: each check fills its own results as it does for its own command; one runner keeps every answer, so that nothing is
asked twice. A meter between the runner and the engine counts round trips.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import datetime

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.authority.sheet import Inspected, inspect_all
from salt_mirror.checks.services.directory import directory_of, is_locator
from salt_mirror.checks.services.wording import judged_directory
from salt_mirror.checks.mail.judging import judged_mail
from salt_mirror.checks.pairs.judging import Judged as JudgedPairs
from salt_mirror.checks.pairs.judging import judge_scope
from salt_mirror.checks.pairs.scope import Scope
from salt_mirror.checks.rollcall.judging import Roll, call_roll
from salt_mirror.checks.rollcall.scope import ExpectedSet, expected_sets
from salt_mirror.checks.audit.coverage import PREFIXES, Coverage
from salt_mirror.checks.services.judging import judged_service
from salt_mirror.checks.tests import Judged, outcome_of
from salt_mirror.dns.dialogue import Dialogue, Exchange, Runner
from salt_mirror.dns.holding import HoldingExchange
from salt_mirror.dns.names import Name, from_text, is_within, to_text
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import MX, SRV
from salt_mirror.dns.reverse import is_reverse, reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.findings import Finding, Outcome
from salt_mirror.checks.audit.lines import ServerTally, Tally, ZoneLine

BUCKETS_S = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0)
"""The upper ends of the round-trip histogram, in seconds."""

Key = tuple[Name, str]
"""A name in a view."""


class Meter:
    """An exchange that counts the round trips of the answers that come through it."""

    def __init__(self, behind: Exchange) -> None:
        self._behind = behind
        self._counts = [0] * (len(BUCKETS_S) + 1)
        self.sum_s = 0.0

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way."""
        return self._behind.backlog

    def submit(self, question: Question) -> None:
        """Takes a question."""
        self._behind.submit(question)

    def collect(self) -> list[Answer]:
        """Hands answers on."""
        answers = self._behind.collect()
        for answer in answers:
            rtt_ms = answer[7]
            if rtt_ms is not None:
                self.sum_s += rtt_ms / 1000.0
                self._counts[bisect_left(BUCKETS_S, rtt_ms / 1000.0)] += 1
        return answers

    def histogram(self) -> dict[str, int]:
        """How many answers took at most so many seconds, by that; the last for all of them."""
        found, total = {}, 0
        for end, count in zip((*map(str, BUCKETS_S), "+Inf"), self._counts, strict=True):
            total += count
            found[end] = total
        return found


class Work:
    """Everything that an audit looks at, and what came of it. It can be read at any time, also after an interrupt."""

    def __init__(self, estate: Estate, atlas: Atlas, coverage: Coverage, moment: datetime) -> None:
        self._estate = estate
        self._atlas = atlas
        self._coverage = coverage
        self._moment = moment
        self.nothing: list[str] = []
        self.remarks: list[str] = []
        self.pairs = JudgedPairs()
        self.roll = Roll()
        self.inspected: list[Inspected] = []
        self.trees: dict[str, dict[Key, Judged]] = {"mail": {}, "services": {}}
        self._zones = [zone for zone in estate.all_zones() if coverage.sees(zone.apex, zone.view)]
        self._scope = self._pairs_scope() if coverage.checks("pairs") else None
        self._sets = self._roll_sets() if coverage.checks("rollcall") else []
        self._mail = dict(self._mail_dialogues()) if coverage.checks("mail") else {}
        self._services = dict(self._service_dialogues()) if coverage.checks("services") else {}
        for check, there, why in (
            ("pairs", self._scope is not None and self._scope.size, "no expected addresses and no reverse zones"),
            ("rollcall", self._sets, "no zone expects records"),
            ("mail", self._mail, "no forward zone in a public view, and no MX records expected"),
            ("services", self._services, "no directories, and no SRV records expected"),
            ("authority", self._zones, "no zones"),
        ):
            if coverage.checks(check) and not there:
                self.nothing.append(f"{check}: nothing to check ({why})")

    @property
    def total(self) -> int:
        """How many things there are to look at."""
        pairs = self._scope.size if self._scope is not None else 0
        zones = len(self._zones) if self._coverage.checks("authority") else 0
        return pairs + len(self._sets) + len(self._mail) + len(self._services) + zones

    def _pairs_scope(self) -> Scope | None:
        try:
            scope = Scope(self._estate)
        except BadInput:  # there is nothing that it could look at
            return None
        scope.narrow(self._coverage.sees)
        words = (self._coverage.only, self._coverage.skip)
        if not any(one.views or one.zones for one in words):
            self.remarks += scope.remarks
        return scope

    def _roll_sets(self) -> list[ExpectedSet]:
        return [one for one in expected_sets(self._estate, None) if self._coverage.sees(one.name, one.view)]

    def _mail_dialogues(self) -> Iterator[tuple[Key, Dialogue[Judged]]]:
        expected = {(one.name, one.view): one for one in expected_sets(self._estate, None, rdtypes=(MX,))}
        public = [
            (zone.apex, zone.view)
            for zone in self._estate.all_zones()
            if zone.view in self._estate.public_views and not is_reverse(zone.apex)
        ]
        for name, view in dict.fromkeys([*public, *expected]):
            if self._coverage.sees(name, view):
                yield (name, view), judged_mail(name, view, self._atlas, (), None)

    def _service_dialogues(self) -> Iterator[tuple[Key, Dialogue[Judged]]]:
        directories = [directory_of(entry) for entry in self._estate.directories]
        for directory in directories:
            if self._coverage.sees(directory.domain, directory.view):
                yield (directory.domain, directory.view), judged_directory(directory, self._atlas)
        for one in expected_sets(self._estate, None, rdtypes=(SRV,)):
            inside = any(is_within(one.name, directory.domain) for directory in directories)
            if one.values and not (inside and is_locator(one.name)) and self._coverage.sees(one.name, one.view):
                yield (one.name, one.view), judged_service(one.name, one.view, self._atlas, demanded=True)

    def run(self, runner: Runner, exchange: HoldingExchange, tick: Callable[[], None]) -> None:
        """Runs every check that is covered."""
        if self._coverage.checks("authority"):
            zones = [(zone.apex, zone.view) for zone in self._zones]
            for one in inspect_all(zones, self._atlas, exchange.holding, self._moment, runner, tick):
                self.inspected.append(one)
        if self._scope is not None:
            judge_scope(self._scope, self._atlas, runner, self.pairs, tick)
        if self._sets:
            strangers = exchange.names - {one.name for one in self._sets}
            call_roll(self._sets, self._atlas, runner, self.roll, tick, strangers=strangers)
        for check, dialogues in (("mail", self._mail), ("services", self._services)):
            for _ in runner.run(self._kept(check, key, dialogue) for key, dialogue in dialogues.items()):
                tick()

    def _kept(self, check: str, key: Key, dialogue: Dialogue[Judged]) -> Dialogue[None]:
        self.trees[check][key] = yield from dialogue

    # What came of it

    def findings(self) -> list[Finding]:
        """Every finding once, as far as it is wished to be told."""
        found: dict[tuple[str, ...], Finding] = {}
        parts: list[Finding] = [finding for one in self.inspected for finding in one.findings]
        parts += self.pairs.findings.values()
        parts += self.roll.findings()
        parts += [finding for trees in self.trees.values() for judged in trees.values() for finding in judged.findings]
        for finding in parts:
            said = "" if finding.code.startswith("pair.") else finding.text
            key = (finding.code, finding.view, finding.name, finding.type, finding.address or "", said)
            if self._coverage.tells(finding):
                found.setdefault(key, finding)
        return list(found.values())

    def zone_lines(self, standing: list[Finding]) -> list[ZoneLine]:
        """A line for each zone, in the order of the estate, with what each check says of it."""
        outcomes: dict[tuple[Key, str], Counter[str]] = {}
        for key, check, outcome in self._subjects():
            outcomes.setdefault((key, check), Counter())[outcome] += 1
        weights: dict[tuple[Key, str], Counter[str]] = {}
        by_zone: dict[Key, list[Finding]] = {}
        for finding in standing:
            zone = self._zone_of(from_text(finding.name), finding.view)
            if zone is not None:
                by_zone.setdefault((zone.apex, zone.view), []).append(finding)
            family = PREFIXES.get(finding.code.split(".")[0])
            if zone is not None and family is not None and finding.outcome != "unverified":
                weights.setdefault(((zone.apex, zone.view), family), Counter())[finding.weight] += 1
        lags = {
            (one.sheet.zone, one.sheet.view): {r.server: r.behind for r in one.sheet.servers if r.behind}
            for one in self.inspected
        }
        lines = []
        for zone in self._zones:
            key = (zone.apex, zone.view)
            checks = {
                check: Tally(
                    agrees=counts["agrees"], differs=counts["differs"], unverified=counts["unverified"],
                    faults=weights.get((key, check), Counter())["fault"],
                    cautions=weights.get((key, check), Counter())["caution"],
                )
                for (where, check), counts in outcomes.items() if where == key
            }  # fmt: skip
            name = to_text(zone.apex)
            servers = self._servers(zone, list(checks), by_zone.get(key, []))
            lag = lags.get((name, zone.view), {})
            lines.append(ZoneLine(zone=name, view=zone.view, checks=checks, servers=servers, serial_lag=lag))
        return lines

    def _servers(self, zone: Zone, checks: list[str], findings: list[Finding]) -> dict[str, dict[str, ServerTally]]:
        """For each server of a zone and each check, its part in the faults and doubts there."""
        name = to_text(zone.apex)
        rows = [
            row.server
            for one in self.inspected
            if (one.sheet.zone, one.sheet.view) == (name, zone.view)
            for row in one.sheet.servers
        ]
        labels = list(dict.fromkeys([*(server.label for server in zone.servers or ()), *rows]))
        counts: Counter[tuple[str, str, str]] = Counter()
        for finding in findings:
            check = PREFIXES.get(finding.code.split(".")[0], "")
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
            for label in labels
        }

    def _subjects(self) -> Iterator[tuple[Key, str, Outcome]]:
        """Every subject by its zone, with the check and the outcome."""
        places: dict[Key, Key | None] = {}

        def place(name: Name, view: str) -> Key | None:
            key = (name, view)
            if key not in places:
                zone = self._zone_of(name, view)
                places[key] = (zone.apex, zone.view) if zone is not None else None
            return places[key]

        for (view, name, address), outcome in self.pairs.outcomes.items():
            where = place(name, view) or (place(reverse_name(address), view) if address is not None else None)
            if where is not None:
                yield where, "pairs", outcome
        for one in self.roll.called:
            where = place(one.expected.name, one.expected.view)
            if where is not None:
                yield where, "rollcall", one.outcome
        for inspected in self.inspected:
            yield (from_text(inspected.sheet.zone), inspected.sheet.view), "authority", inspected.outcome
        for check, trees in self.trees.items():
            for (name, view), judged in trees.items():
                where = place(name, view)
                if where is not None:
                    yield where, check, outcome_of(judged.test.mark)

    def _zone_of(self, name: Name, view: str) -> Zone | None:
        return self._estate.zone_of(name, view)

"""The authority of zones: each is inspected, judged and laid out, in every view."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from salt_mirror.checks.authority.asking import inspect
from salt_mirror.checks.authority.lists import judged
from salt_mirror.checks.authority.rows import sheet_of
from salt_mirror.checks.authority.sheet import Sheet
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.signed.judging import judge_signatures
from salt_mirror.checks.signed.rows import signed_sheet
from salt_mirror.checks.signed.sheet import SignedSheet
from salt_mirror.checks.signed.wording import signature_findings
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import SOA
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome, worse


@dataclass(frozen=True, slots=True)
class Inspected:
    """One zone in one view: its sheet and its findings, and every server that serves it, listed anywhere."""

    sheet: Sheet
    findings: list[Finding]
    servers: tuple[Server, ...] = ()

    @property
    def outcome(self) -> Outcome:
        return self.sheet.outcome


def inspected(zone: Name, view: str, atlas: Atlas, setting: Setting) -> Dialogue[Inspected]:
    """Inspect a zone's authority in one view, and judge it."""
    now = setting.moment
    seen = yield from inspect(zone, view, atlas, setting.holdings, setting.stranger)
    findings = judged(seen, atlas)
    signed: SignedSheet | None = None
    if seen.signed is not None:
        signatures = judge_signatures(seen.signed, now.timestamp())
        findings += signature_findings(signatures)
        signed = signed_sheet(signatures)
    outcome: Outcome = "agrees" if seen.serving else "unverified"
    for finding in findings:
        outcome = worse(outcome, finding.outcome)
    servers = tuple(place.server for place in seen.serving)
    return Inspected(sheet_of(seen, outcome, findings, now, signed), findings, servers)


class Inspection(Part):
    """The check at work on some zones, each given with its view. A zone with all its servers costs as much as ten names."""

    names = 10

    def __init__(self, zones: Iterable[tuple[Name, str]], atlas: Atlas) -> None:
        super().__init__()
        self.inspected: list[Inspected] = []
        self._zones = list(zones)
        self._atlas = atlas
        self.size = len(self._zones)

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Inspected]]]:
        yield (inspected(zone, view, self._atlas, setting) for zone, view in self._zones)

    def take(self, result: Inspected) -> None:
        self.inspected.append(result)

    @property
    def in_order(self) -> list[Inspected]:
        """What was inspected, in the order in which it was wished for."""
        place = {(to_text(name), view): number for number, (name, view) in enumerate(self._zones)}
        return sorted(self.inspected, key=lambda one: place[one.sheet.zone, one.sheet.view])

    def verdicts(self) -> Iterator[Verdict]:
        for one in self.in_order:
            yield Verdict(from_text(one.sheet.zone), SOA, one.sheet.view, one.outcome)

    def findings(self) -> list[Finding]:
        return [finding for one in self.in_order for finding in one.findings]


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Inspection | None:
    """Return all zones of an estate, as far as they are covered."""
    zones = [
        (zone.apex, zone.view) for zone in estate.all_zones() if coverage.looks_at("authority", zone.apex, zone.view)
    ]
    return Inspection(zones, atlas) if zones else None

"""What of the registered records is fit to be expected: what looks wrong today is left out, with the reason.

Strategy: the audit judges the draft as it judges every estate, with nothing expected. A record that any repair would take away,
even as one choice of several, is not expected; nor is a set on which the servers differ, since nobody knows by now which of
them is right. What is merely missing elsewhere (a host's pointer) accuses no record that is there.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.draft.learnt import LearntZone, RRsets
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import rdata_text, type_from_text
from salt_mirror.findings import Change, Finding


@dataclass(slots=True)
class Fit:
    """The registered sets of a zone, parted: what is fit to be expected, and the values of the rest with the reasons."""

    zone: LearntZone
    kept: RRsets = field(default_factory=dict)
    left_out: dict[tuple[Name, int], tuple[tuple[bytes, ...], list[Finding]]] = field(default_factory=dict)

    @property
    def records(self) -> int:
        """How many records are fit to be expected."""
        return sum(len(values) for _, values in self.kept.values())


class RecordDoubts:
    """What findings say against records, by set."""

    def __init__(self, findings: Iterable[Finding]) -> None:
        self._removed: dict[tuple[Name, int], dict[str, list[Finding]]] = {}
        self._whole: dict[tuple[Name, int], list[Finding]] = {}
        for finding in findings:
            if finding.weight == "note" or finding.outcome != "differs":
                continue
            for change in _changes(finding):
                self._take_change(change, finding)
            if catalogue()[finding.code].servers_differ or finding.code == "auth.same-serial":
                self._take_difference(finding)

    def _take_change(self, change: Change, finding: Finding) -> None:
        key = from_text(change.name), type_from_text(change.type)
        for value in change.remove:
            self._removed.setdefault(key, {}).setdefault(value, []).append(finding)

    def _take_difference(self, finding: Finding) -> None:
        """The sets of which the servers that were asked say different things."""
        told: dict[str, set[tuple[str, ...]]] = {}
        for evidence in finding.evidence:
            if evidence.trouble is None:
                told.setdefault(evidence.question, set()).add(tuple(sorted(evidence.values)))
        for question, versions in told.items():
            if len(versions) > 1:
                name, _, rdtype = question.rpartition(" ")
                self._whole.setdefault((from_text(name), type_from_text(rdtype)), []).append(finding)

    def take_roll(self, findings: Iterable[Finding]) -> None:
        """Take in what a roll call over the records themselves says: on some servers they are not as on the one that told of
        them."""
        for finding in findings:
            if finding.weight != "note" and finding.outcome == "differs":
                self._whole.setdefault((from_text(finding.name), type_from_text(finding.type)), []).append(finding)

    def part(self, zone: LearntZone) -> Fit:
        """Parts what is registered in a zone."""
        fit = Fit(zone)
        for key, (ttl, values) in zone.registered.items():
            against: list[Finding] = list(self._whole.get(key, ()))
            bad = set(values) if against else set()
            removed = self._removed.get(key)
            for value in values if removed else ():
                found = removed.get(rdata_text(key[1], value)) if removed else None
                if found:
                    bad.add(value)
                    against += [one for one in found if one not in against]
            good = tuple(value for value in values if value not in bad)
            if good:
                fit.kept[key] = (ttl, good)
            if bad:
                fit.left_out[key] = (tuple(sorted(bad)), against)
        return fit


def _changes(finding: Finding) -> list[Change]:
    return [*finding.changes, *(change for choice in finding.choices for change in choice.changes)]


def sets_of(fits: Iterable[Fit], view: str) -> list[ExpectedSet]:
    """Return what is fit to be expected so far, to call the roll of it on every server."""
    found = []
    for fit in fits:
        for (name, rdtype), (_, values) in fit.kept.items():
            expected = ExpectedSet(view, name, rdtype)
            expected.values, expected.exact = frozenset(values), not fit.left_out.get((name, rdtype))
            found.append(expected)
    return found

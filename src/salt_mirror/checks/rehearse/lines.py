"""The lines of files that a new finding comes of: what a file brings, or has no more, at the names that the finding is about.

Strategy: the changed record sets are kept by name; a finding names its subject, its owner, the pointer of its address, what was
expected and what was asked. What is gone has no line of its own and is shown at its file.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from salt_mirror.checks.plan.proving import names_of
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.checks.rehearse.files import line_of
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import record_line
from salt_mirror.estate.expectations import Expectation
from salt_mirror.findings import FileLine, Finding

_MOST = 4


class Causes:
    """What changes, by the names that it is at; where nothing is known of before, all that the files have."""

    def __init__(self, changes: Iterable[PlannedSet], files: Sequence[ProposedZone], *, first: bool = False) -> None:
        self._files = {(one.zone.view, one.zone.apex): one for one in files}
        self._first = first
        self._at: dict[tuple[str, Name], list[PlannedSet]] = {}
        for change in changes:
            self._at.setdefault((change.key.view, change.key.name), []).append(change)

    def traced(self, finding: Finding) -> Finding:
        """Return a finding with the lines that it comes of, where there are any."""
        names = [finding.name, *sorted(names_of(finding) - {finding.name, ""})]
        lines: dict[FileLine, None] = {}
        for name in _readable(names):
            for change in self._at.get((finding.view, name), ()):
                lines.update(dict.fromkeys(self._lines(change)))
            for file in self._files.values() if self._first else ():
                if file.zone.view == finding.view:
                    lines.update(dict.fromkeys(map(line_of, file.at.get(name, ()))))
        top = self._files.get((finding.view, from_text(finding.name)))
        if not lines and top is not None and top.soa is not None:
            lines[line_of(top.soa)] = None
        return replace(finding, lines=list(lines)[:_MOST]) if lines else finding

    def _lines(self, change: PlannedSet) -> Iterable[FileLine]:
        """Return what a change brings, with its lines, and what it takes away."""
        key = change.key
        file = self._files.get((key.view, key.zone))
        other_ttl = change.ttl_before != change.ttl_after and bool(change.before)
        gone = change.before if other_ttl else change.before - change.after
        come = change.after if other_ttl else change.after - change.before
        for value in sorted(gone):
            text = f"- {record_line(key.name, key.rdtype, value, change.ttl_before)}"
            yield FileLine(file=str(file.path) if file is not None else "", line=0, says=text)
        for value in sorted(come):
            record = self._record(file, key.name, key.rdtype, value)
            text = f"+ {record_line(key.name, key.rdtype, value, change.ttl_after)}"
            yield (
                FileLine(file=str(record.source), line=record.line, says=text)
                if record is not None
                else FileLine(file=str(file.path) if file is not None else "", line=0, says=text)
            )

    @staticmethod
    def _record(file: ProposedZone | None, name: Name, rdtype: int, value: bytes) -> Expectation | None:
        at = file.at.get(name, ()) if file is not None else ()
        return next((one for one in at if (one.rdtype, one.rdata) == (rdtype, value)), None)


def _readable(texts: Iterable[str]) -> Iterable[Name]:
    for text in texts:
        try:
            yield from_text(text)
        except Unusable:
            continue  # an expected value that names nothing

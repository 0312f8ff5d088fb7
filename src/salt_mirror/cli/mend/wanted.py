"""What is to be mended: hosts, addresses and zones by their names, or the findings and sets of a file.

Strategy: a word is read once, before anything is asked, and becomes a test of findings. Hosts and addresses also bound what has
to be judged at all.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from salt_mirror.checks import check_of
from salt_mirror.checks.audit.nearby import Links, Nearby, spoken
from salt_mirror.checks.audit.repairs import changes_of
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.nearest import MOST_TYPED, names_of, unexpected
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sets import set_of
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.dns.names import Name, from_text, is_within, to_text
from salt_mirror.dns.reverse import address_text, reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import address_in, network_in, zone_name
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import read_text
from salt_mirror.estate.typed import completed
from salt_mirror.findings import About, Finding
from salt_mirror.keeping.approvals import Approval, read_plan
from salt_mirror.report.document import now

Test = Callable[[Finding], bool]


class _ReadFinding(msgspec.Struct, frozen=True):
    """What is read of a finding in a report."""

    code: str
    name: str
    type: str
    view: str
    address: str | None = None
    server: str = ""


class _Reported(msgspec.Struct, frozen=True):
    schema: str
    findings: list[_ReadFinding]


class Selection:
    """Which findings are to be mended. `older` are the sets of a plan that was written earlier, and
    `approval` its head; `remarks` what the reader has
    to know. Raises BadInput."""

    def __init__(
        self, estate: Estate, words: list[str], path: Path | None, covered: Coverage, phase: str | None = None
    ) -> None:
        self.older: list[SetLine] = []
        self.approval: Approval | None = None
        self.remarks: list[str] = []
        self._estate = estate
        self._covered = covered
        self._hosts: list[Name] = []
        self._addresses: list[bytes] = []
        self._areas = False
        self._tests = [self._about(word) for word in words]
        if self._hosts and len(words) <= MOST_TYPED:
            known = names_of(estate)
            self.remarks += filter(None, (unexpected(name, known) for name in self._hosts))
        self._reported: set[tuple[str, About]] | None = None
        if phase is not None and path is None:
            raise BadInput("--phase chooses a phase of a plan: --plan FILE names it")
        if path is not None:
            self._take(path)
            self.older = _in_phase(self.older, phase, path)

    def __call__(self, finding: Finding) -> bool:
        """Whether a finding is to be mended."""
        reported = self._reported
        return (
            self._covered.checks(check_of(finding.code).name)
            and self._covered.tells(finding)
            and (not self._tests or any(test(finding) for test in self._tests))
            and (reported is None or (finding.code, finding.subject) in reported)
        )

    def scope(self) -> Nearby | None:
        """Return what has to be judged where only some hosts, addresses or sets are to be mended; None where that is all."""
        if not self.older and (self._areas or not self._tests):
            return None
        named = [(name, 0, ()) for name in (*self._hosts, *map(reverse_name, self._addresses))]
        sets = spoken(set_of(line, None) for line in self.older)
        return Links(self._estate).around([*named, *sets], self._addresses, everywhere=False)

    def _take(self, path: Path) -> None:
        """Read the findings of a report, or the sets of a plan."""
        text = read_text(path)
        if '"schema"' in text[:200]:
            self._reported = _findings_in(text, path)
            self.remarks.append(f"{many(len(self._reported), 'finding')} of {path}, if they are still there")
            return
        self.approval, self.older = read_plan(path, now())
        if self.approval is not None:
            self.remarks.append(self.approval.says)

    def _about(self, word: str) -> Test:
        """Return whether a finding concerns a host, an address, or a zone or network of the estate."""
        address = address_in(word)
        if address is not None:
            self._addresses.append(address)
            where = address_text(address)
            return lambda finding: finding.address == where or where in finding.expected
        if network_in(word) is None:
            name = completed(word, self._estate, self._estate.views, None)
            apexes = {zone.apex for zone in self._estate.all_zones()}
            if name not in apexes:
                self._hosts.append(name)
                text = to_text(name)
                return lambda finding: (
                    text in (finding.name, finding.owner, *finding.expected)
                    or any(text in (change.name, *change.add, *change.remove) for change in changes_of(finding))
                )
        self._areas = True
        apex = zone_name(word)
        return lambda finding: any(is_within(from_text(name), apex) for name in (finding.name, finding.owner))


def _in_phase(lines: list[SetLine], phase: str | None, path: Path) -> list[SetLine]:
    """Return the sets of one phase of a plan; all of one without phases. Raises BadInput where a phase has to be chosen."""
    phases = list(dict.fromkeys(line.phase for line in lines if line.phase))
    if phase is None and phases:
        raise BadInput(f"--plan: {path} has the phases {', '.join(phases)}: --phase says which is sent")
    if phase is not None and phase not in phases:
        if not phases:
            raise BadInput(f"--phase: {path} has no phases")
        raise BadInput.unknown(f"--phase: {path} has no phase", phase, phases)
    return [line for line in lines if phase is None or line.phase == phase]


def _findings_in(text: str, path: Path) -> set[tuple[str, About]]:
    """Return the findings of a report, by code and subject. Raises BadInput."""
    try:
        report = msgspec.json.decode(text, type=_Reported)
    except (msgspec.DecodeError, RecursionError) as error:
        raise BadInput.at(path, None, f"is no report that can be read: {error}") from None
    return {(one.code, About(one.view, one.name, one.type, one.address or "", one.server)) for one in report.findings}

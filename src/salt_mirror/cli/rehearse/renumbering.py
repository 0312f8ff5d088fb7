"""What `rehearse --renumber` does: see what is about the old network, plan its phases, rehearse each, write plan and lists.

Strategy: nothing is sent. The plan is one file whose sets each belong to a phase, which `mend --plan FILE --phase PHASE` sends;
the estate's lists are written beside themselves with the new addresses, to be put in place before the phase that switches.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from msgspec.structs import replace

from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.common.wording import many, together_said
from salt_mirror.checks.plan.sets import PlannedSet, line_of
from salt_mirror.checks.rehearse.expected import edited_lines, moved_expectations, renumbered
from salt_mirror.checks.rehearse.judging import ProposedChange, Rehearsal
from salt_mirror.checks.rehearse.known import Known
from salt_mirror.checks.rehearse.networks import Renumbering
from salt_mirror.checks.rehearse.renumber import (
    PHASES,
    Phase,
    PhasedPlan,
    Planner,
    host_named,
)
from salt_mirror.checks.rehearse.sheet import PhaseRow, RehearsalSheet
from salt_mirror.cli.arguments import atlas_of
from salt_mirror.cli.outputs import names_in
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import Name, shown
from salt_mirror.dns.records import TXT, A, rdata_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import read_bytes, read_text
from salt_mirror.findings import FileLine, Finding
from salt_mirror.keeping.writing import write_whole

_ZONE_NAME = re.compile(r"\s*name\s*=")
_MOST_LINES = 20


@dataclass(slots=True)
class RenumberJob:
    """A renumbering at work: its plan, what each phase does, the lines of the estate's files that go with it."""

    move: Renumbering
    estate: Estate
    hosts_file: Path | None
    views: list[str]
    plan: PhasedPlan = field(default_factory=PhasedPlan)
    rehearsals: dict[Phase, Rehearsal] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    edits: list[FileLine] = field(default_factory=list)
    texts: dict[Path, str] = field(default_factory=dict)
    _refresh: dict[tuple[str, Name], int] = field(default_factory=dict)

    def run(self, setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        """See, plan, and rehearse every phase. Raises BadInput."""
        atlas = atlas_of(self.estate)
        known = Known(atlas, self.move)
        known.see(setting, runner, self.views)
        self._refresh = known.refresh_s
        hosts = self._hosts({key.name for key in known.sets if key.rdtype == A})
        ttls = {
            key: expected.ttl
            for key in known.sets
            if (expected := atlas.expects.set_at(key.view, key.name, key.rdtype)) is not None
            and expected.ttl is not None
        }
        planner = Planner(self.move, self.estate, known.sets, known.servers, ttls, hosts)
        self.plan = planner.plan()
        if known.partly:
            verb = "was" if len(known.partly) == 1 else "were"
            self.remarks.append(
                f"{together_said(known.partly)} {verb} not handed over: a host there that is neither expected nor has a PTR "
                "record is not seen"
            )
        self.remarks += self.plan.advice
        self._edit(hosts)
        reach = self._reach(known)
        today: Rehearsal | None = None
        for phase in PHASES:
            if not self.plan.phases[phase]:
                continue
            pairs = (
                moved_expectations(self.estate, self.move, hosts, phase, planner.keys) if not self.move.beside else []
            )
            later = atlas_of(renumbered(self.estate, pairs, reach))
            proposal = ProposedChange(sets=self.plan.until(phase), atlas=later, known_as=self.move.known_as)
            rehearsal = Rehearsal(atlas, coverage((), ("resolvers",), self.estate), proposal, tick, today=today)
            rehearsal.run(setting, runner)
            self.rehearsals[phase] = rehearsal
            today = today or rehearsal

    def _reach(self, known: Known) -> dict[bytes, tuple[bytes, int]]:
        """Return where the new addresses are reached while they are rehearsed: where the old ones are. Nothing is sent to an
        address that nobody has yet."""
        return {
            new: self.estate.reached(value)
            for key, one in known.sets.items()
            if key.rdtype == A
            for value in one.values
            if (new := self.move.moved(value)) is not None
        }

    def _hosts(self, known: set[Name]) -> list[Name]:
        """Return the hosts of the list. Raises BadInput for one that has no address in the zones."""
        if self.hosts_file is None:
            return []
        found = []
        for word in names_in(self.hosts_file, "--hosts"):
            name = host_named(word, known)
            if name is None:
                raise BadInput(
                    f"--hosts: {self.hosts_file}: {shown(word)} is no host with an IPv4 address in the estate's zones"
                )
            found.append(name)
        return found

    def _edit(self, hosts: list[Name]) -> None:
        """Work out the lines of the estate's files that go with it."""
        if self.move.beside:
            self.remarks.append("the estate's lists expect the new AAAA records once you add them: FILE.zone has them")
            return
        pairs = moved_expectations(self.estate, self.move, hosts, "remove")
        sources = dict.fromkeys(old.source for old, _ in pairs if old.source is not None)
        texts = {path: text for path in sources if (text := _text(path)) is not None}
        self.texts, self.edits, by_hand = edited_lines(texts, pairs, self.move)
        self.remarks += [f"{one.place}: change it by hand, it expects the old network ({one.says})" for one in by_hand]
        for old, _ in pairs:
            if old.rdtype == TXT and (both := self.move.with_both(old.rdata)) != old.rdata:
                self.remarks.append(
                    f"{old.where}: from the phase add to the phase remove it is {rdata_text(TXT, both)}"
                )
        self.remarks += self._in_the_estate(hosts)

    def _in_the_estate(self, hosts: list[Name]) -> list[str]:
        """Return the lines of the estate file, and the leases, that have addresses of the old network."""
        remarks = []
        path = self.estate.path
        for number, line in enumerate(read_text(path).splitlines() if path is not None else [], 1):
            bare = line.partition("#")[0].rstrip()
            new = self.move.rewritten(bare)
            concerns = not hosts or any(f'"{address_text(one)}' in bare for one in self._moving)
            if new != bare and concerns and not _ZONE_NAME.match(bare):
                remarks.append(f"{path}, line {number}: {bare.strip()} becomes {new.strip()}")
        if len(remarks) > _MOST_LINES:
            remarks = [*remarks[:_MOST_LINES], f"and {len(remarks) - _MOST_LINES} more lines of {path}"]
        leased = [
            address
            for address, lease in self.estate.ages.leases.items()
            if lease.live and self.move.moved(address) is not None and (not hosts or address in self._moving)
        ]
        if leased:
            verb = "is" if len(leased) == 1 else "are"
            how_many = f"{many(len(leased), 'address', 'addresses')} of {self.move.old} {verb}"
            remarks.append(f"{how_many} leased: the address server has to give out the new network first")
        return remarks

    @property
    def _moving(self) -> set[bytes]:
        """The addresses that hosts leave."""
        return {value for one in self.plan.sets if one.key.rdtype == A for value in one.before - one.after}

    # The report

    def findings(self) -> list[Finding]:
        """Return every new finding once, in the first phase that causes it."""
        found: dict[tuple[str, ...], Finding] = {}
        for phase, rehearsal in self.rehearsals.items():
            for finding in rehearsal.new:
                if finding.weight != "note":
                    text = f"{finding.text} (Once the phase {phase} is done.)"
                    found.setdefault(finding.identity, replace(finding, text=text))
        return list(found.values())

    def sheet(self, written: Path | None) -> RehearsalSheet:
        """Return the renumbering as it is reported: the end of it against today, and each phase."""
        last = next(reversed(self.rehearsals.values()), None)
        rows = [self._row(phase, rehearsal) for phase, rehearsal in self.rehearsals.items()]
        file = f"{written}.jsonl" if written is not None else ""
        if last is None:
            return RehearsalSheet(zones=[], vanishing=[], waits=[], mended=[], left=0, whole=True)
        return replace(last.sheet(), phases=rows, edits=self.edits, vanishing=[], waits=[], written=file)

    def _row(self, phase: Phase, rehearsal: Rehearsal) -> PhaseRow:
        sets = self.plan.phases[phase]
        faults = sum(one.is_certain_fault for one in rehearsal.new)
        wait = max((one.ttl_before or 0 for one in sets), default=0)
        late = max((self._refresh.get((one.key.view, one.key.zone), 0) for one in sets), default=0)
        return PhaseRow(phase=phase, sets=[line_of(one) for one in sets], faults=faults, wait_s=wait, late_s=late)

    @property
    def says(self) -> str:
        """The answer in one sentence."""
        verb = "Adding" if self.move.beside else "Renumbering"
        what = f"{self.move.new} beside {self.move.old}" if self.move.beside else f"{self.move.old} to {self.move.new}"
        sets, phases = self.plan.sets, self.rehearsals
        begin = f"{verb} {what}: {many(self.plan.hosts, 'host')}, {many(len(sets), 'change')} in {many(len(phases), 'phase')}"
        bad = [phase for phase, rehearsal in phases.items() if any(one.is_certain_fault for one in rehearsal.new)]
        if not bad:
            return f"{begin}; no phase causes a new fault."
        where = f"{'phase' if len(bad) == 1 else 'phases'} {together_said(bad)}"
        return f"{begin}; {many(len(self._faults), 'new fault')} in the {where}."

    @property
    def _faults(self) -> list[Finding]:
        return [one for one in self.findings() if one.is_certain_fault]

    @property
    def sets(self) -> list[PlannedSet]:
        """Every set of the plan, phase by phase."""
        return self.plan.sets

    def write_lists(self) -> list[Path]:
        """Write the lists with the new addresses, each beside itself."""
        targets = []
        for path, text in self.texts.items():
            target = path.with_name(path.name + ".renumbered")
            write_whole(target, text)
            targets.append(target)
        return targets


def _text(path: Path) -> str | None:
    """Return the text of a list; None for one that is no text, as a workbook."""
    try:
        return read_bytes(path).decode("utf-8")
    except UnicodeDecodeError:
        return None

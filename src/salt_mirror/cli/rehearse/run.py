"""What `rehearse` does: read what is proposed, judge today and afterwards, and show the difference.

Strategy: everything is read before anything is asked, so that a wrong file costs nothing. Zones that are loaded are taken by
transfer where their servers allow it. Nothing is sent, ever.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NoReturn

from msgspec import structs

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage, coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sets import Plan, PlannedSet
from salt_mirror.checks.rehearse.judging import ProposedChange, Rehearsal
from salt_mirror.checks.rehearse.networks import Renumbering
from salt_mirror.checks.rehearse.offline import OF_SERVERS, OUTSIDE, OnlyFiles, estate_of_files
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.checks.rehearse.wording import headline, headline_of_files
from salt_mirror.cli.arguments import atlas_of, open_estate, views_of
from salt_mirror.cli.collector import quiet_collector
from salt_mirror.cli.execution import Progress, Ran, run
from salt_mirror.cli.finishing import finish, report_on
from salt_mirror.cli.messages import tell
from salt_mirror.cli.options import Asking, Listing, Showing
from salt_mirror.cli.rehearse.reading import (
    ProposedSets,
    files_of_today,
    files_today,
    passed_over_said,
    proposed_zones,
    removed_zones,
)
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import UNSEEN
from salt_mirror.dns.records import NS
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Evidence, Finding
from salt_mirror.keeping.approvals import approval_of
from salt_mirror.keeping.plans import check_plan_files, write_plan
from salt_mirror.report.document import Report, now


@dataclass(frozen=True, slots=True)
class RehearsalWish:
    """What is to be rehearsed, and how."""

    zone_files: list[str]
    records: list[Path]
    plan: Path | None
    new_estate: Path | None
    offline: bool
    before: Path | None
    write: Path | None
    only: list[str]
    skip: list[str]
    renumber: Renumbering | None = None
    hosts: Path | None = None

    def check(self) -> None:
        """Raise BadInput for what contradicts itself."""
        proposed = bool(self.zone_files or self.records or self.plan or self.new_estate)
        if self.renumber is not None and (proposed or self.offline or self.only or self.skip):
            raise BadInput("--renumber is a job of its own: only --hosts, --write, --view and --transfer go with it")
        if self.hosts is not None and self.renumber is None:
            raise BadInput("--hosts says which hosts --renumber moves")
        if self.offline and (self.records or self.plan or self.new_estate):
            raise BadInput("--offline judges zone files only: leave out --records, --plan and --new-estate")
        if self.offline and not self.zone_files:
            raise BadInput("--offline judges zone files: name them with --zone-file ZONE=FILE, or a folder")
        if not proposed and self.renumber is None:
            raise BadInput(
                "nothing to rehearse: name zone files (--zone-file ZONE=FILE), a list (--records), a plan (--plan), another "
                "estate (--new-estate) or a network (--renumber OLD=NEW)"
            )
        if self.before is not None and not self.offline:
            raise BadInput("--before goes with --offline; without it the servers say what there is now")
        if self.before is not None and not self.before.is_dir():
            raise BadInput(f"--before: {self.before} is no folder")


class Rehearsing:
    """The command at work. Raises BadInput before anything is asked."""

    def __init__(self, wish: RehearsalWish, listing: Listing, asking: Asking, showing: Showing) -> None:
        wish.check()
        self._wish = wish
        self._asking = asking
        self._showing = showing
        self._old_files: list[tuple[Name, Path]] = []
        if wish.write is not None:
            check_plan_files(wish.write)
        self._estate = open_estate(asking, directories=not wish.offline, ages=True)
        if not self._estate.zones and not wish.offline:
            raise BadInput(
                "nothing to rehearse on: an estate with zones is needed; name it with --estate, or judge the files with "
                "--offline"
            )
        self._zones = proposed_zones(wish.zone_files, self._estate, asking.view, offline=wish.offline)
        self._sets = ProposedSets(self._estate, wish.records, wish.plan, listing, asking)

    def carry_out(self) -> NoReturn:
        """Rehearse, print what came of it, and end the program."""
        if self._wish.renumber is not None:
            self._renumber(self._wish.renumber)
        rehearsal, ran = self._offline() if self._wish.offline else self._on_servers()
        report = self._report(rehearsal, ran)
        if self._wish.write is not None and not ran.interrupted:
            self._write(rehearsal)
        finish(report, self._showing, several_views=len(self._estate.views) > 1)

    def _renumber(self, move: Renumbering) -> NoReturn:
        """Plan and rehearse a renumbering, and end the program."""
        from salt_mirror.cli.rehearse.renumbering import RenumberJob

        job = RenumberJob(move, self._estate, self._wish.hosts, views_of(self._asking, self._estate))
        atlas = atlas_of(self._estate)
        transfers = atlas.transfers(job.views, everywhere=True)
        ran = run(job.run, atlas, job.views, self._asking, total=0, what="things looked at", transfers=transfers)
        found, sheet = job.findings(), job.sheet(self._wish.write)
        faults = sum(one.is_certain_fault for one in found)
        doubts = sum(one.outcome == "unverified" for one in found)
        counts = {"agrees": len(job.sets), "differs": faults, "unverified": doubts}
        report = report_on(
            "rehearse",
            self._estate,
            ran,
            counts.__getitem__,
            found,
            job.remarks,
            total=0,
            says=job.says,
            rehearsal=sheet,
        )
        if self._wish.write is not None and not ran.interrupted:
            self._write_sets(job.sets)
            for path in job.write_lists():
                tell(f"{path} was written: it takes the place of its list before the phase switch")
        finish(report, self._showing, several_views=len(self._estate.views) > 1)

    # How it is judged

    def _coverage(self, estate: Estate) -> Coverage:
        """Return what is judged. What resolvers do does not hang on what a zone has."""
        return coverage(self._wish.only, [*self._wish.skip, "resolvers"], estate)

    def _on_servers(self) -> tuple[Rehearsal, Ran]:
        atlas = atlas_of(self._estate)
        later = self._later()
        rehearsals: list[Rehearsal] = []

        def work(setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
            sets = self._sets.planned(atlas, runner)
            proposal = ProposedChange(self._zones, sets, later, partly=bool(self._sets.unknown))
            rehearsals.append(Rehearsal(atlas, self._coverage(self._estate), proposal, tick))
            rehearsals[0].run(setting, runner)

        wanted = atlas.transfers(self._estate.views, everywhere=self._asking.transfer)
        loaded = [(server, one.zone.apex) for one in self._zones for server in one.zone.servers or ()]
        transfers = list(dict.fromkeys([*wanted, *loaded]))
        ran = run(work, atlas, self._estate.views, self._asking, total=0, what="things looked at", transfers=transfers)
        if not rehearsals:
            rehearsals.append(Rehearsal(atlas, self._coverage(self._estate), ProposedChange(), lambda: None))
        return rehearsals[0], ran

    def _later(self) -> Atlas | None:
        """Return the atlas of the estate that counts afterwards, where that is another one."""
        if self._wish.new_estate is None:
            return None
        return atlas_of(open_estate(replace(self._asking, estate=self._wish.new_estate), directories=True, ages=True))

    def _offline(self) -> tuple[Rehearsal, Ran]:
        quiet_collector()
        started, clock = now(), time.monotonic()
        estate = estate_of_files(self._estate, self._zones)
        zones = [
            ProposedZone(estate.zones[one.zone.view][one.zone.apex], one.path, one.records, one.problems)
            for one in self._zones
        ]
        before = self._wish.before
        if before is not None:
            self._old_files = files_of_today(before, self._wish.zone_files)
        today = files_today(before, self._old_files, zones) if before is not None else {}
        runner = Runner(OnlyFiles(estate, today), most=10**9)
        progress = Progress(0, "things looked at")
        first = before is None
        atlas = Atlas(estate)
        rehearsal = Rehearsal(atlas, self._coverage(estate), ProposedChange(zones), progress.tick, first=first)
        held = {(zone.servers or (None,))[0]: today.get((zone.view, zone.apex)) for zone in estate.all_zones()}
        interrupted = False
        try:
            rehearsal.run(Setting(started, lambda server, _: held.get(server)), runner)
        except KeyboardInterrupt:
            interrupted = True
        progress.end()
        seconds = round(time.monotonic() - clock, 3)
        return rehearsal, Ran(started, seconds, 0, 0, 0, list(estate.remarks), interrupted)

    # The report

    def _report(self, rehearsal: Rehearsal, ran: Ran) -> Report:
        removed = removed_zones(self._wish.before, self._old_files, self._zones) if self._wish.before else []
        found = [*self._sets.unknown, *removed, *rehearsal.new]
        remarks = passed_over_said(self._wish.zone_files)
        if self._wish.offline:
            found, left = _inside(found)
            if left:
                remarks.append(
                    f"{many(left, 'thing')} could not be judged from the files: no server is asked (--offline)"
                )
        sheet = rehearsal.sheet()
        if removed:
            sheet = structs.replace(sheet, whole=False)
        faults = [one for one in found if one.is_certain_fault]
        doubts = sum(one.outcome == "unverified" for one in found)
        agrees = rehearsal.counts["agrees"]
        first = self._wish.offline and self._wish.before is None
        says = headline_of_files(len(self._zones), found, agrees) if first else headline(self._doing, found, sheet)
        counts = {"agrees": agrees, "differs": len(faults), "unverified": doubts}
        return report_on(
            "rehearse", self._estate, ran, counts.__getitem__, found, remarks, total=0, says=says, rehearsal=sheet
        )

    @property
    def _doing(self) -> str:
        """What is rehearsed, as the subject of a sentence."""
        wish, parts = self._wish, []
        if self._zones:
            number = len(self._zones)
            parts.append("loading this zone file" if number == 1 else f"loading these {number:,} zone files")
        if wish.records:
            parts.append(f"registering {self._sets.listed}")
        if wish.plan is not None:
            parts.append(f"sending {wish.plan.name}")
        if wish.new_estate is not None:
            parts.append(f"judging by {wish.new_estate.name}")
        says = " and ".join(parts)
        return says[:1].upper() + says[1:]

    def _write(self, rehearsal: Rehearsal) -> None:
        """Write what changes as a plan; the name servers of a zone itself are nothing that a plan changes."""
        changes = [one for one in rehearsal.changes if one.differs]
        own = [one for one in changes if one.key.rdtype == NS and one.key.name == one.key.zone]
        for one in own:
            tell(
                f"{to_text(one.key.name)} NS is not in the plan: the NS set of a zone itself is changed by its file only"
            )
        self._write_sets([one for one in changes if one not in own])

    def _write_sets(self, sets: list[PlannedSet]) -> None:
        assert self._wish.write is not None
        if not sets:
            tell("nothing changes: no plan is written")
            return
        atlas = Atlas(self._estate)
        approval = approval_of(sets, atlas.expects, str(self._estate.path or ""), now(), None)
        for path in write_plan(self._wish.write, Plan(sets, []), f"{now():%Y-%m-%d %H:%M} UTC", approval):
            tell(f"{path} was written")


def _inside(found: list[Finding]) -> tuple[list[Finding], int]:
    """Return the findings that files by themselves can tell, and how many lead out of them."""
    certain = [one for one in found if one.outcome != "unverified" and not any(map(_is_outside, one.evidence))]
    return [one for one in certain if one.code not in OF_SERVERS], len(found) - len(certain)


def _is_outside(evidence: Evidence) -> bool:
    return evidence.trouble == OUTSIDE.removeprefix(UNSEEN)

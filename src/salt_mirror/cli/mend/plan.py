"""What `mend` does: judge, plan and prove; show and write; send, wait, and judge again.

Strategy: the plan is made over the answers of one run, and nothing is sent before it was shown and agreed to. What is judged
after the changes is asked anew, so that the end is what the servers say, and not what was hoped.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn

import typer
from msgspec.structs import replace

from salt_mirror.checks.audit.judge import AuditJudge
from salt_mirror.checks.audit.repairs import with_repairs
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage, coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.deciding import idle, made_by
from salt_mirror.checks.plan.proving import proved
from salt_mirror.checks.plan.rows import sheet_of
from salt_mirror.checks.plan.sending import by_server, takes_away, too_much
from salt_mirror.checks.plan.sets import Plan, PlannedSet
from salt_mirror.checks.plan.signing import signed_elsewhere
from salt_mirror.cli.arguments import atlas_of
from salt_mirror.cli.engines import engine_of
from salt_mirror.cli.execution import Ran, run, seen_views
from salt_mirror.cli.mend.apply import Applying
from salt_mirror.cli.mend.sender import MendWish, Sender
from salt_mirror.cli.mend.wanted import Selection
from salt_mirror.cli.messages import INTERRUPTED, tell
from salt_mirror.cli.options import Asking, Showing
from salt_mirror.cli.transfers import bounds_of, fetch_zones
from salt_mirror.cli.zonefiles import zone_files, zone_of
from salt_mirror.dns.apart import ApartExchange
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import HoldingExchange
from salt_mirror.dns.names import Name, from_text, is_within, shown, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate, Updates, Zone
from salt_mirror.estate.reading import read_text
from salt_mirror.findings import About, Finding
from salt_mirror.keeping.approvals import Approval, approval_of
from salt_mirror.keeping.masterfiles import rewritten
from salt_mirror.keeping.plans import check_plan_files, write_plan
from salt_mirror.keeping.writing import check_writable, write_whole
from salt_mirror.report.document import Report, now


class Mending(Sender):
    """The command at work. Raises BadInput before anything is asked, or before anything is sent."""

    def __init__(self, estate: Estate, wish: MendWish, asking: Asking, showing: Showing) -> None:
        super().__init__(estate, wish, asking, showing)
        self._coverage: Coverage = coverage(wish.only, wish.skip, estate)
        self._everything: Coverage = coverage((), (), estate)  # what a change does elsewhere is judged too
        self._doubted: set[tuple[str, About]] = set()
        self._wanted = Selection(estate, wish.names, wish.taken, self._coverage, wish.phase)
        self._remarks += self._wanted.remarks
        self._zone_files = [self._zone_file(text) for text in wish.zone_files]
        if wish.write is not None:
            check_plan_files(wish.write)

    def carry_out(self) -> NoReturn:
        """Do it all, prints what came of it, and ends the program."""
        atlas = atlas_of(self._estate)
        plan, judge, ran = self._planned(atlas)
        approval = approval_of(plan.sets, atlas.expects, str(self._estate.path or ""), now(), self._wish.valid_s)
        files = self._written(plan, approval)
        self._remarks += idle(self._wish.decisions, plan.found)
        gone = takes_away(plan, atlas.expects)
        self._remarks += [gone] if gone else []
        risks = self._risks(plan, gone)
        sheet = replace(sheet_of(plan, risks, made_by(plan.mended, self._wish.decisions)), digest=approval.digest)
        report = self._report(
            ran, with_repairs(plan.found, plan), sheet, plan.headline, len(plan.mended), plan.unverified
        )
        if ran.interrupted:
            raise typer.Exit(INTERRUPTED)
        drifted = self._drifted(plan, approval)
        if drifted:
            self._show(replace(report, says=drifted), "nothing is sent", whole=True)
            self._end(1)
        if self._wish.trial and plan.sets:
            with engine_of(self._asking) as engine:
                applying, says = self._tried(atlas, engine, plan.sets)
            report = self._report(
                ran, report.findings, replace(sheet, carried=applying.outcomes), says, len(plan.mended)
            )
            self._show(report, f"tried only: {plan.headline}", whole=True)
            self._end(_status_of(applying))
        if not self._wish.apply or not plan.sets:
            self._show(report, "a plan; --apply sends it" if plan.sets else "nothing to send", whole=True)
            for path in files:
                tell(f"{path} was written")
            self._end(report.exit_status())
        why = too_much(plan, _names_in(judge, self._estate), self._wish.at_most)
        if why:
            self._show(report, "nothing is sent", whole=True)
            raise BadInput(why)
        if not self._wish.yes:
            self._show(report, "not sent yet", whole=True)
        self._send(judge, plan, report)

    def _risks(self, plan: Plan, gone: str) -> list[str]:
        """Return what a plan may do that somebody has to know who approves it; `gone` says what it takes away."""
        told = [gone or "It takes no record away."]
        counts: Counter[tuple[str, Name, Server]] = Counter()
        for view, zone, server, sets in by_server(plan.sets):
            counts[view, zone, server] += len(sets)
        told += [
            f"{many(number, 'change')} of {to_text(zone)} {'goes' if number == 1 else 'go'} to {server.label} "
            f"({server.endpoint}), {self._signed(view, zone, server)}."
            for (view, zone, server), number in counts.items()
        ]
        if self._doubted:
            told.append(
                f"{many(len(self._doubted), 'thing')} could not be verified: what they would say against it is not known."
            )
        return told

    def _signed(self, view: str, zone: Name, server: Server) -> str:
        """With what the changes of a zone are signed."""
        updates = self._estate.zones[view][zone].updates
        if updates.kerberos:
            return "signed with the Kerberos ticket of the user who sends it"
        key = updates.key or server.key
        return f"signed with the key {to_text(key.name).rstrip('.')}" if key is not None else "without a key"

    def _drifted(self, plan: Plan, now_judged: Approval) -> str:
        """Return why an approved plan is not what would be sent now; nothing where it is, or where none was approved."""
        approved = self._wanted.approval
        if approved is None:
            return ""
        if plan.left_out:
            return (
                f"{len(plan.left_out):,} of {many(approved.sets, 'approved change')} cannot be sent as approved: "
                "nothing is sent; plan again, and have it approved."
            )
        # One phase of several was judged on what the phases before it make, and on lists that are changed in between.
        if not self._wish.phase and now_judged.judged_on != approved.judged_on:
            return "What the plan was judged on has changed since it was approved: nothing is sent; plan again."
        return ""

    def _zone_file(self, text: str) -> tuple[Zone, Path]:
        """Read `ZONE=FILE`, with `@VIEW` behind a zone that stands in several views. Raises BadInput."""
        if "=" not in text:
            raise BadInput(f"--zone-file: {shown(text)} is no ZONE=FILE")
        (file,) = zone_files([text], "--zone-file")
        zone = zone_of(file, self._estate, "--zone-file")
        read_text(file.path)
        check_writable(file.path.with_name(file.path.name + ".mended"), "--zone-file")
        return zone, file.path

    # The plan

    def _planned(self, atlas: Atlas) -> tuple[Plan, AuditJudge, Ran]:
        """Judges, plans and proves."""
        made: list[tuple[Plan, AuditJudge]] = []
        scope = self._wanted.scope()
        transfers = atlas.transfers(self._estate.views, everywhere=self._asking.transfer)
        if scope is not None:
            transfers = [one for one in transfers if any(is_within(name, one[1]) for name in scope.names)]

        def work(setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
            judge, wish = AuditJudge(atlas, self._everything, setting, tick, scope=scope), self._wish
            older = self._wanted.older
            plan = proved(judge, runner, atlas, wish.decisions, self._wanted, older, only_adding=wish.only_adding)
            self._doubted = {(one.code, one.subject) for one in judge.work.findings() if one.outcome == "unverified"}
            self._remarks += signed_elsewhere(self._by_hand(plan), atlas, runner)
            made.append((plan, judge))

        ran = run(work, atlas, self._estate.views, self._asking, total=0, what="things looked at", transfers=transfers)
        if not made:
            tell("interrupted before there was a plan")
            raise typer.Exit(INTERRUPTED)
        plan, judge = made[0]
        return plan, judge, ran

    def _by_hand(self, plan: Plan) -> list[Zone]:
        """Return the zones whose changes are made in a file, or in a way that the estate does not say: perhaps nothing signs
        those."""
        keys = {(one.key.view, one.key.zone) for one in plan.sets} | {
            (zone.view, zone.apex) for zone, _ in self._zone_files
        }
        touched = [
            self._estate.zones[view][apex] for view, apex in sorted(keys) if apex in self._estate.zones.get(view, {})
        ]
        in_files = [zone for zone, _ in self._zone_files]
        return [zone for zone in touched if zone in in_files or zone.updates == Updates()]

    def _written(self, plan: Plan, approval: Approval) -> list[Path]:
        """Write what is wished for; return the files."""
        written = []
        if self._wish.write is not None:
            written += write_plan(self._wish.write, plan, f"{now():%Y-%m-%d %H:%M} UTC", approval)
        for zone, path in self._zone_files:
            sets = [one for one in plan.sets if (one.key.view, one.key.zone) == (zone.view, zone.apex)]
            done = rewritten(path, zone.apex, sets)
            for own, text in done.texts.items():
                target = own.with_name(own.name + ".mended")
                write_whole(target, text)
                written.append(target)
            self._remarks += [f"{path}: {remark}" for remark in done.remarks]
            self._remarks += [f"{path}: {to_text(one.key.name)} is left: {why}" for one, why in done.others]
        return written

    # Sending

    def _send(self, judge: AuditJudge, plan: Plan, report: Report) -> NoReturn:
        if all(one.server is None for one in plan.sets):
            self._show(report, "nothing can be sent", whole=self._wish.yes)
            tell("no server is known that takes changes of these zones: name it with update = in the zone")
            raise typer.Exit(1)
        for says in report.plan.risks if report.plan and not self._wish.yes else ():
            tell(says, begin="")
        self._agree(f"Send {many(len(plan.sets), 'change')}? The way back is written to {self._undo}.")
        with engine_of(self._asking) as engine:
            applying, late = self._carried_out(judge.atlas, engine, plan.sets, plan.servers)
            standing = (
                []
                if self._interrupted
                else [one for one in self._judged_again(judge, plan.sets, engine) if self._wanted(one)]
            )
        undone = sum(one.outcome != "agrees" for one in applying.outcomes)
        faults = [one for one in standing if one.is_certain_fault]
        number = len(applying.done)
        done = f"{number:,} of {many(len(plan.sets), 'change')} {'was' if number == 1 else 'were'} carried out"
        everywhere = f", and every server has {'it' if number == 1 else 'them'}" if applying.done and not late else ""
        doubts = [
            finding
            for finding in standing
            if finding.outcome == "unverified" and (finding.code, finding.subject) not in self._doubted
        ]
        left = "what is left was not judged" if self._interrupted else f"{many(len(faults), 'fault')} left"
        left += f"; {len(doubts):,} could not be judged again" if doubts else ""
        says = f"{done}{everywhere}; {left}."
        assert report.plan
        sheet = replace(
            report.plan, carried=applying.outcomes, late=[f"{who} ({many(n, 'set')})" for who, n in late.items()],
            undo=str(self._undo),
        )  # fmt: skip
        ran = Ran(report.started, report.seconds, report.counts.questions, 0, 0, [], interrupted=False)
        ended = self._report(ran, standing, sheet, says, len(plan.mended))
        self._show(ended, f"planned: {plan.headline}", whole=self._wish.yes)
        self._end(1 if undone or faults else 3 if late else ended.exit_status())

    def _judged_again(self, judge: AuditJudge, sets: list[PlannedSet], engine: ApartExchange) -> list[Finding]:
        """Judge what was touched as at first: with transfers where there were some, and by asking anew."""
        exchange, zones = HoldingExchange(engine), {apex for _, apex in judge.zones(sets)}
        transfers = judge.atlas.transfers(self._estate.views, everywhere=self._asking.transfer)
        wanted, remarks = seen_views([one for one in transfers if one[1] in zones], engine)
        self._remarks += remarks
        self._remarks += fetch_zones(wanted, exchange, bounds_of(self._estate), timeout_s=self._asking.timeout * 5)
        runner = Runner(exchange)
        standing = judge.judged_again(sets, Setting(now(), exchange.holding, exchange.names), runner)
        self._remarks.append(
            f"what was changed, and what leans on it, was judged again with {many(runner.asked, 'question')}; "
            "all else is as it was found before"
        )
        return standing


def _status_of(applying: Applying) -> int:
    """Return the exit status of a trial: 1 where a change would not be carried out, 3 where that is not known."""
    outcomes = {one.outcome for one in applying.outcomes}
    return 1 if "differs" in outcomes else 3 if "unverified" in outcomes else 0


def _names_in(judge: AuditJudge, estate: Estate) -> dict[tuple[str, Name], int]:
    """Return how many things the check that saw most of a zone has looked at there."""
    found: dict[tuple[str, Name], int] = {}
    for line in judge.work.zone_lines([]):
        key = (line.view, from_text(line.zone))
        expected = len({one.name for one in estate.zones[line.view][key[1]].expectations})
        found[key] = max(expected, *(tally.total for tally in line.checks.values()), 0)
    return found

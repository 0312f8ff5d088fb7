"""The way back: every set of an undo file restored that still is what it was changed to.

Strategy: what the servers hold now decides, and not what the file says was sent; so the same command is right after a crash in
the middle, and a second time.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import NoReturn

import typer
from msgspec.structs import replace

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.plan.primaries import held_at, primary_of
from salt_mirror.checks.plan.sending import Carried, carried, too_many
from salt_mirror.checks.plan.sets import Held, PlannedSet, SetLine, line_of, set_of
from salt_mirror.checks.plan.sheet import PlanSheet
from salt_mirror.checks.wording import many
from salt_mirror.cli.engines import engine_of
from salt_mirror.cli.mend.sender import Sender
from salt_mirror.cli.opening import atlas_of
from salt_mirror.cli.running import Ran
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.names import from_text, shown
from salt_mirror.dns.questions import Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.plans import check_lines
from salt_mirror.keeping.undo import read_undo
from salt_mirror.report.document import Report, now


class Restoring(Sender):
    """The command on its way back."""

    _asked = 0

    def go_back(self, path: Path) -> NoReturn:
        """Restores every set that still is what it was changed to."""
        _, lines = read_undo(path)
        check_lines(lines, path)
        why = too_many(len(lines), self._wish.at_most)
        if why:
            raise BadInput(f"--back: {why}")
        atlas = atlas_of(self._estate)
        begun = now()
        with engine_of(self._asking) as engine:
            runner = Runner(engine)
            looked = list(runner.run(self._present(line, atlas) for line in lines))
            self._asked = runner.asked
        back, already, others = _sorted_out(looked)
        servers = {one.key: told for one, _, told in looked}
        report = self._back_report(begun, back, already, others, [])
        if not back:
            self._show(report, "nothing to send", whole=True)
            raise typer.Exit(1 if others else 0)
        if self._wish.trial:
            with engine_of(self._asking) as engine:
                applying, says = self._tried(atlas, engine, back)
            tried = self._back_report(begun, back, already, others, applying.outcomes)
            self._show(replace(tried, says=says), f"tried only, from {path}", whole=True)
            raise typer.Exit(1 if others or any(one.outcome != "agrees" for one in applying.outcomes) else 0)
        if not self._wish.yes:
            self._show(report, "not sent yet", whole=True)
        self._agree(f"Restore {many(len(back), 'set')}?")
        with engine_of(self._asking) as engine:
            applying, late = self._carried_out(atlas, engine, back, servers)
        undone = [one for one in applying.outcomes if one.outcome != "agrees"]
        report = self._back_report(begun, back, already, others, applying.outcomes, list(late))
        self._show(report, f"from {path}", whole=self._wish.yes)
        self._end(1 if undone or others else 3 if late else 0)

    def _present(self, line: SetLine, atlas: Atlas) -> Dialogue[tuple[PlannedSet, Held | str, tuple[Server, ...]]]:
        """A set of an undo file, what its server holds of it now, and the servers of its zone."""
        zone = self._estate.zones.get(line.view, {}).get(from_text(line.zone))
        if zone is None:
            raise BadInput(f"--back: the estate has no zone {shown(line.zone)} in the view {shown(line.view)} any more")
        primary = yield from primary_of(zone, atlas)
        own = (
            zone.updates.server,
            zone.primary,
            *(zone.servers or ()),
        )  # a view may have a server of its own at the same place
        named = next((one for one in own if one is not None and one.label == line.server), None)
        server = named or self._estate.servers.get(line.server) or primary.server
        one = set_of(line, server)
        held = (yield from held_at(one.key, server)) if server is not None else primary.trouble
        return one, held, primary.servers

    def _back_report(
        self,
        begun: datetime,
        back: list[PlannedSet],
        already: int,
        others: list[tuple[PlannedSet, str]],
        outcomes: Iterable[Carried],
        late: list[str] | None = None,
    ) -> Report:
        told = list(outcomes)
        done = sum(one.outcome == "agrees" for one in told)
        says = f"{done:,} of {many(len(back), 'set')} restored" if told else f"{many(len(back), 'set')} to restore"
        says += f"; {already:,} {'is' if already == 1 else 'are'} as before already" if already else ""
        says += f"; {len(others):,} left, since somebody changed them or they could not be read" if others else ""
        sheet = PlanSheet(
            says=says, mends=0, changes=[line_of(one) for one in back], not_ours=[], waiting=[],
            carried=[*told, *(carried(one.key, "differs", why) for one, why in others)], late=late or [],
            undo=str(self._undo) if told else "",
        )  # fmt: skip
        ran = Ran(begun, round((now() - begun).total_seconds(), 3), self._asked, 0, 0, [], interrupted=False)
        return self._report(ran, [], sheet, f"{says}.", done)


def _sorted_out(
    looked: list[tuple[PlannedSet, Held | str, tuple[Server, ...]]],
) -> tuple[list[PlannedSet], int, list[tuple[PlannedSet, str]]]:
    """The sets to restore, how many are as before already, and those that are somebody else's now."""
    back, already = [], 0
    others: list[tuple[PlannedSet, str]] = []
    for one, held, _ in looked:
        if isinstance(held, str):
            others.append((one, held))
        elif held.values == one.after and (not one.after or held.ttl == one.ttl_after) and one.differs:
            back.append(one.turned())
        elif held.values == one.before and (not one.before or held.ttl == one.ttl_before):
            already += 1
        else:
            others.append((one, "changed since: left as it is"))
    return back, already, others

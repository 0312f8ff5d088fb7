"""The way back: every set restored that a run has changed, and that still is what it was changed to.

Strategy: the undo file says what the run has changed, and where it ends in the middle the servers do; what they hold now
decides whether anything is restored. So the same command is right after a crash, and a second time.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import NamedTuple, NoReturn

import typer
from msgspec.structs import replace

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.primaries import held_at, primary_of
from salt_mirror.checks.plan.sending import carried, in_order, too_many
from salt_mirror.checks.plan.sets import Held, PlannedSet, line_of, set_of
from salt_mirror.checks.plan.sheet import Carried, PlanSheet, SetLine
from salt_mirror.cli.arguments import atlas_of
from salt_mirror.cli.engines import engine_of
from salt_mirror.cli.execution import Ran
from salt_mirror.cli.mend.sender import Sender
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.names import from_text, shown
from salt_mirror.dns.questions import Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.plans import check_lines
from salt_mirror.keeping.undo import Sent, read_undo
from salt_mirror.report.document import Report, now


class Restoring(Sender):
    """The command on its way back."""

    _asked = 0

    def go_back(self, path: Path) -> NoReturn:
        """Restore every set that still is what it was changed to."""
        undo = read_undo(path)
        check_lines(undo.lines, path)
        why = too_many(len(undo.lines), self._wish.at_most)
        if why:
            raise BadInput(f"--back: {why}")
        atlas = atlas_of(self._estate)
        begun = now()
        with engine_of(self._asking) as engine:
            runner = Runner(engine)
            looked = list(runner.run(self._present(*pair, atlas) for pair in zip(undo.lines, undo.sent, strict=True)))
            self._asked = runner.asked
        found = _sorted_out(looked)
        back, others = found.back, found.others
        servers = {one.one.key: one.servers for one in looked}
        report = self._back_report(begun, found, [])
        if not back:
            self._show(report, "nothing to send", whole=True)
            raise typer.Exit(1 if others else 0)
        if self._wish.trial:
            with engine_of(self._asking) as engine:
                applying, says = self._tried(atlas, engine, back)
            tried = self._back_report(begun, found, applying.outcomes)
            self._show(replace(tried, says=says), f"tried only, from {path}", whole=True)
            raise typer.Exit(1 if others or any(one.outcome != "agrees" for one in applying.outcomes) else 0)
        if not self._wish.yes:
            self._show(report, "not sent yet", whole=True)
        self._agree(f"Restore {many(len(back), 'set')}?")
        with engine_of(self._asking) as engine:
            applying, late = self._carried_out(atlas, engine, back, servers)
        undone = [one for one in applying.outcomes if one.outcome != "agrees"]
        report = self._back_report(begun, found, applying.outcomes, list(late))
        self._show(report, f"from {path}", whole=self._wish.yes)
        self._end(1 if undone or others else 3 if late else 0)

    def _present(self, line: SetLine, sent: Sent, atlas: Atlas) -> Dialogue[_Present]:
        """Return a set of an undo file, what the run did to it, what its server holds of it now, and the servers of its
        zone."""
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
        planned = set_of(line, server)
        held = (yield from held_at(planned.key, server)) if server is not None else primary.trouble
        return _Present(planned, sent, held, primary.servers)

    def _back_report(
        self, begun: datetime, found: _Found, outcomes: Iterable[Carried], late: list[str] | None = None
    ) -> Report:
        back, already, others = found.back, found.already, found.others
        told = list(outcomes)
        done = sum(one.outcome == "agrees" for one in told)
        says = f"{done:,} of {many(len(back), 'set')} restored" if told else f"{many(len(back), 'set')} to restore"
        says += f"; {already:,} {'is' if already == 1 else 'are'} as before already" if already else ""
        for number, why in ((found.refused, "refused"), (found.unsent, "never sent")):
            was, stays = ("was", "stays as it is") if number == 1 else ("were", "stay as they are")
            says += f"; {number:,} {was} {why} by that run, and {stays}" if number else ""
        says += f"; {len(others):,} left, since they were changed or could not be read" if others else ""
        sheet = PlanSheet(
            says=says, mends=0, changes=[line_of(one) for one in in_order(back)], not_ours=[], waiting=[],
            carried=[*told, *(carried(one.key, "differs", why) for one, why in others)], late=late or [],
            undo=str(self._undo) if told else "",
        )  # fmt: skip
        ran = Ran(begun, round((now() - begun).total_seconds(), 3), self._asked, 0, 0, [], interrupted=False)
        return self._report(ran, [], sheet, f"{says}.", done)


class _Present(NamedTuple):
    """A set of an undo file, what the run did to it, and what its server holds of it now, or why that is not known."""

    one: PlannedSet
    sent: Sent
    held: Held | str
    servers: tuple[Server, ...]


@dataclass(slots=True)
class _Found:
    """The sets to restore, how many are as before already, those that the run has not changed, and those that are somebody
    else's now."""

    back: list[PlannedSet] = field(default_factory=list)
    already: int = 0
    refused: int = 0
    unsent: int = 0
    others: list[tuple[PlannedSet, str]] = field(default_factory=list)


def _sorted_out(looked: list[_Present]) -> _Found:
    """Return what becomes of each set on the way back. Where the file does not say what was done, what the servers hold
    decides."""
    found = _Found()
    for planned, sent, held, _ in looked:
        if sent in ("refused", "not sent"):  # whatever it is now, this run has not made it that
            found.refused += sent == "refused"
            found.unsent += sent == "not sent"
        elif isinstance(held, str):
            found.others.append((planned, held))
        elif held.values == planned.after and (not planned.after or held.ttl == planned.ttl_after) and planned.differs:
            found.back.append(planned.turned())
        elif held.values == planned.before and (not planned.before or held.ttl == planned.ttl_before):
            found.already += 1
        else:
            found.others.append((planned, "changed since: left as it is"))
    return found

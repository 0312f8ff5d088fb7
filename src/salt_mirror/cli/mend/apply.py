"""Changes on their way to the servers: sent zone by zone, each answer written down, what changed meanwhile left alone.

Strategy: every message says what its sets have to be before (prerequisites). Where one is not, all sets of the message are
looked at again, the changed ones are left with the pointers that lean on them, and the rest of the zone goes out once more.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable

from msgspec.structs import replace

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.wildcards import NO_SIBLING
from salt_mirror.checks.plan.sending import DONE, WOULD_BE_DONE, by_server, carried, leans_on, meaning
from salt_mirror.checks.plan.sets import PlannedSet, edit_of
from salt_mirror.checks.plan.sheet import Carried
from salt_mirror.checks.settle.goals import Goal
from salt_mirror.checks.settle.judging import Slot, Vantage, Watch
from salt_mirror.cli.settle.watching import Clock, Screen, follow
from salt_mirror.dns.dialogue import Dialogue, Near, Runner
from salt_mirror.dns.edits import CHANGED_SINCE, Reply
from salt_mirror.dns.names import Name, join, parent, to_text
from salt_mirror.dns.questions import OTHER_CLOCK, OTHER_SECRET, UNKNOWN_KEY, Answer, Question, Server
from salt_mirror.dns.records import SOA, soa_fields
from salt_mirror.dns.update import Signer, in_messages, send, trial_message, update_message
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Zone
from salt_mirror.findings import Outcome
from salt_mirror.keeping.undo import Sent, SentLine, UndoFile

_MOST_TRIES = 5
_MOST_REFUSED = 8
"""So many names are tried one by one at a server that has refused them all."""
AS_WISHED = "it is as planned already, and not by this run"
_REFUSALS = ("REFUSED", "SERVFAIL")
"""Answers to a message of which one set may be what is refused."""
_KEY_REFUSED = (UNKNOWN_KEY, OTHER_SECRET, OTHER_CLOCK)


class Applying:
    """Changes that are being carried out.

    `outcomes` say what became of each set, `done` are those that were carried out, `sent` counts messages, and `stopped` says
    why nothing more was sent, where something kept the rest back.
    """

    def __init__(self, atlas: Atlas, engine: Near, undo: UndoFile | None, *, timeout_s: float) -> None:
        """Without `undo` every message is tried with changes that change nothing."""
        self.outcomes: list[Carried] = []
        self.done: list[PlannedSet] = []
        self.sent = 0
        self.stopped = ""
        self._atlas = atlas
        self._engine = engine
        self._undo = undo
        self._timeout_s = timeout_s
        self._left: set[Name] = set()
        self._refused: dict[Server, int] = {}

    def carry_out(self, sets: list[PlannedSet]) -> None:
        """Send everything that can be sent."""
        for planned in sets:
            if planned.server is None:
                self._leave(
                    [planned], "no server is known that takes changes of the zone: name it with update = in the zone"
                )
        for view, apex, server, of_zone in by_server(sets):
            zone = self._atlas.estate.zones[view][apex]
            for batch in in_messages(apex, map(edit_of, self._without_leaning(of_zone))):
                wanted = {(edit.name, edit.rdtype) for edit in batch}
                self._message(zone, server, [one for one in of_zone if (one.key.name, one.key.rdtype) in wanted])

    def _without_leaning(self, sets: list[PlannedSet]) -> list[PlannedSet]:
        """Leave the pointers that lean on a name that was left as it was; return the other sets."""
        leaning = [one for one in sets if leans_on(one, self._left)]
        self._leave(leaning, "the name it leads to was left as it was")
        return [one for one in sets if one not in leaning]

    def _message(self, zone: Zone, server: Server, batch: list[PlannedSet]) -> None:
        step = SentLine(zone=to_text(zone.apex), view=zone.view, server=server.label, names=len(batch))
        for _ in range(_MOST_TRIES):
            try:
                signer = self._signer(zone, server)
            except OSError as error:
                self._leave(batch, error.strerror or str(error), "unverified")
                return
            if not self._noted(step, batch):
                self._leave(batch, "not sent, since the way back could not be written down any more", "unverified")
                return
            made = update_message if self._undo is not None else trial_message
            reply = send(server, made(zone.apex, map(edit_of, batch)), signer, timeout_s=self._timeout_s)
            self.sent += 1
            came: Sent = "changed" if reply.done else "unknown" if reply.unknown else "refused"
            self._noted(replace(step, answered=reply.status or reply.trouble, came=came), batch)
            if reply.done:
                self._finish(batch, DONE if self._undo is not None else WOULD_BE_DONE)
                return
            if self._is_refused(reply, server, batch) and self._split(zone, server, batch):
                return  # one name that a policy forbids, or that is somebody else's, has a whole message refused
            if reply.unknown:
                self._look(server, batch, meaning(reply, batch, signed=signer is not None) + _hint(reply, zone))
                return
            changed, ready = self._changed(server, batch) if reply.status in CHANGED_SINCE else ([], [])
            if not changed and not ready:
                self._leave(
                    batch,
                    f"{server.label}: {meaning(reply, batch, signed=signer is not None)}",
                    "differs" if reply.status else "unverified",
                )
                return
            self._leave(changed, "changed since it was looked at: left as it is")
            self.outcomes += [carried(one.key, "agrees", AS_WISHED) for one in ready]
            batch = [one for one in batch if one not in changed and one not in ready]
            batch = self._without_leaning(batch)
            if not batch:
                return
        self._leave(batch, f"{server.label}: it changes faster than it can be looked at")

    def _is_refused(self, reply: Reply, server: Server, batch: list[PlannedSet]) -> bool:
        """Return whether a whole message was refused for what may be one name in it. An answer that does not prove that counts
        where nothing of the message was carried out."""
        if reply.status not in _REFUSALS:
            return False
        return not reply.unknown or self._undo is None or self._changed(server, batch) == ([], [])

    def _split(self, zone: Zone, server: Server, batch: list[PlannedSet]) -> bool:
        """Send a refused message in two halves, by name; whether that was worth it. A server that has refused several names
        one by one, and taken nothing, refuses everything."""
        names = sorted({one.key.name for one in batch})
        hopeless = self._refused.get(server, 0) >= _MOST_REFUSED and not self.done
        if len(names) == 1 or hopeless:
            self._refused[server] = self._refused.get(server, 0) + 1
            return False
        first = set(names[: len(names) // 2])
        for half in (True, False):
            part = self._without_leaning([one for one in batch if (one.key.name in first) is half])
            if part:
                self._message(zone, server, part)
        return True

    def _noted(self, step: SentLine, batch: list[PlannedSet]) -> bool:
        """Write a step down. Once that has failed nothing more is sent; before anything was sent it ends the command."""
        if self.stopped or self._undo is None:
            return not self.stopped
        try:
            self._undo.note(step, [one.key for one in batch])
        except BadInput as error:
            if not self.sent:
                raise
            self.stopped = str(error)
        return not self.stopped

    def _signer(self, zone: Zone, server: Server) -> Signer | None:
        """Return what signs the changes of a zone; None where nothing does. Raises OSError for a ticket that cannot be used."""
        if not zone.updates.kerberos:
            key = zone.updates.key or server.key
            return Signer(key) if key is not None else None
        from salt_mirror.dns.kerberos import ticket_signer

        (answer,) = _asked(Runner(self._engine), [Question(zone.apex, SOA, server)])
        if answer.trouble is not None or not answer.values:
            raise OSError(None, f"{server.label} does not have its full name in the SOA: {answer.trouble or 'no SOA'}")
        host = to_text(soa_fields(answer.values[0]).mname).rstrip(".")
        short = zone.updates.short_signature
        return ticket_signer(server, host, timeout_s=self._timeout_s, short_signature=short)

    def take_back(self, missing: Iterable[PlannedSet]) -> None:
        """Count sets as not carried out that their server said it had, and do not have."""
        for planned in missing:
            self.done.remove(planned)
            carried_set = carried(planned.key, "agrees", "")
            self.outcomes = [other for other in self.outcomes if replace(other, says="") != carried_set]
            label = planned.server.label if planned.server is not None else ""
            self._leave([planned], f"{label} answered that it was done, and does not have it")

    def _finish(self, sets: Iterable[PlannedSet], says: str = DONE) -> None:
        for planned in sets:
            self.done.append(planned)
            self.outcomes.append(carried(planned.key, "agrees", says))

    def _leave(self, sets: Iterable[PlannedSet], why: str, outcome: Outcome = "differs") -> None:
        for planned in sets:
            self._left.add(planned.key.name)
            self.outcomes.append(carried(planned.key, outcome, why))

    def _held(self, server: Server, sets: list[PlannedSet]) -> list[tuple[frozenset[bytes] | None, bool, int | None]]:
        """Return what a server holds of sets now, whether their names exist, and the TTL (seconds); None where it does not
        say."""
        answers = _asked(Runner(self._engine), [Question(one.key.name, one.key.rdtype, server) for one in sets])
        return [
            (frozenset(answer.values), answer.exists, answer.ttl) if answer.trouble is None else (None, False, None)
            for answer in answers
        ]

    def _changed(self, server: Server, batch: list[PlannedSet]) -> tuple[list[PlannedSet], list[PlannedSet]]:
        """Return the sets that are not what they were judged by any more, and those that somebody has made what they are to
        be."""
        held = list(zip(batch, self._held(server, batch), strict=True))
        changed = [(one, values) for one, (values, *_) in held if values is not None and values != one.before]
        ready = [one for one, values in changed if values == one.after]
        others = [one for one, values in changed if values != one.after]
        if changed:
            return others, ready
        return [one for one, (_, exists, _) in held if exists and not one.named], []

    def _look(self, server: Server, batch: list[PlannedSet], why: str) -> None:
        """After a message whose answer did not come: what became of each set, as the server has it."""
        for planned, (values, _, ttl) in zip(batch, self._held(server, batch), strict=True):
            if values == planned.after and (
                planned.before != planned.after or ttl == planned.ttl_after
            ):  # or it changes the TTL only
                self._finish([planned], f"done, as {server.label} has it now ({why})")
            elif values == planned.before:
                self._leave([planned], f"{server.label}: {why}; it was not carried out", "unverified")
            else:
                self._leave([planned], f"{server.label}: {why}; whether it was carried out is not known", "unverified")


def _hint(reply: Reply, zone: Zone) -> str:
    """Return what accepts an answer whose signature leaves a length out, where that may be it."""
    kerberos = zone.updates.kerberos and not zone.updates.short_signature
    told = reply.status not in ("", *_KEY_REFUSED) and not reply.sent_back
    return "; short_signature = true in the zone accepts it" if kerberos and told else ""


def _asked(runner: Runner, questions: list[Question]) -> list[Answer]:
    """Return the answers to some questions, which go out together."""

    def ask() -> Dialogue[list[Answer]]:
        return (yield questions)

    return next(runner.run([ask()]))


def await_servers(
    done: Iterable[tuple[PlannedSet, tuple[Server, ...]]], engine: Near, within_s: float, tick: Callable[[], None]
) -> tuple[dict[str, int], list[PlannedSet]]:
    """Wait until every authoritative server has the changes. Returns how many sets each lacks that has not when the time is
    over, and the sets that the very server lacks which said that it had carried them out."""
    goals: dict[Goal, dict[Server, Vantage]] = {}
    of: dict[tuple[Goal, Server], list[PlannedSet]] = {}
    runner = Runner(engine)
    for planned, servers in done:
        values = planned.after or _left_there(planned, runner)
        goal = Goal(planned.key.name, planned.key.rdtype, values, through=False, ttl=planned.only_ttl)
        own = () if planned.server is None else (planned.server,)
        goals.setdefault(goal, {}).update((server, Vantage(server, cache=False)) for server in (*own, *servers))
        for server in own:
            of.setdefault((goal, server), []).append(planned)
    if not goals:
        return {}, []
    clock = Clock()
    watch = Watch([(goal, list(found.values())) for goal, found in goals.items()], [], clock(), every_s=1.0)
    follow(watch, engine, clock, Screen(lambda _: tick(), lambda _: None), within_s=within_s, record=lambda _, __: None)
    behind = [slot for slot in watch.slots if slot.settled_at is None]
    denied = [slot for slot in behind if slot.last is not None and slot.last.trouble is None]
    missing = {
        slot.goal: of[slot.goal, slot.vantage.server] for slot in denied if (slot.goal, slot.vantage.server) in of
    }
    late = Counter(_why_late(slot) for slot in behind if slot.goal not in missing)
    return late, [one for sets in missing.values() for one in sets]


def _left_there(planned: PlannedSet, runner: Runner) -> frozenset[bytes]:
    """Return what a name that nothing is left of has on its server: nothing, or what a wildcard says there (RFC 4592)."""
    if planned.server is None:
        return frozenset()
    beside = join((NO_SIBLING,), parent(planned.key.name))
    own, wild = _asked(
        runner, [Question(name, planned.key.rdtype, planned.server) for name in (planned.key.name, beside)]
    )
    values = frozenset(own.values) if own.trouble is None else frozenset()
    # With the values of before, only a wildcard that gives the same to any name explains it.
    return values if values != planned.before or values == frozenset(wild.values) else frozenset()


def _why_late(slot: Slot) -> str:
    server = slot.vantage.server
    if slot.last is not None and slot.last.trouble is not None:
        return f"{server.label} could not be asked ({slot.last.trouble})"
    return f"{server.label} does not have it yet: does it follow its primary?"

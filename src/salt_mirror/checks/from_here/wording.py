"""Everything that is said of a name on its way through this computer: the answer in a line, and one method for each finding."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING

from salt_mirror.checks.common.lookup import evidence_of
from salt_mirror.checks.common.overriding import validation_error
from salt_mirror.checks.common.test_tree import Judged
from salt_mirror.checks.common.wording import answers_of, duration, no_word_of, state, together_said
from salt_mirror.dns.names import ROOT, Name, from_text, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import PTR, A
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding

if TYPE_CHECKING:
    from salt_mirror.checks.from_here.asking import Heard, HereSeen, Said, ViewAnswers
    from salt_mirror.checks.from_here.scope import HereScope


def over_of(heard: Heard) -> str:
    """Over what a resolver answered: `UDP and TCP`."""
    over = heard.station.server.over
    if over != "udp":
        return over.upper()
    return "UDP and TCP" if heard.stream is not None and heard.stream.message else "UDP"


class HereWords:
    """The findings about one thing that was typed."""

    def __init__(self, seen: HereSeen, scope: HereScope) -> None:
        self._seen = seen
        self._scope = scope
        self._text = to_text(seen.name)
        address = seen.typed.address
        self._what = address_text(address) if address is not None else self._text

    # Pieces

    def values_text(self, values: Iterable[bytes]) -> str:
        """Values as text: addresses, or the names of an address."""
        return ", ".join(map(self._write, values))

    def _write(self, value: bytes) -> str:
        return to_text(value) if self._seen.typed.rdtypes == (PTR,) else address_text(value)

    def _said(self, said: Said) -> str:
        return self.values_text(sorted(said.values)) or "NXDOMAIN or NODATA"

    def _right(self) -> str:
        """Return what the servers of the views say."""
        return right_said(self._seen.sides, self._write)

    def said_in_full(self, heard: Heard) -> str:
        """Return what a resolver says: values, view, what is left, how fast, over what."""
        said = heard.said
        views = [side.view for side in self._seen.sides if said.values in side.alternatives and side.view]
        parts = [self._said(said)]
        if views and len(self._scope.estate.views) > 1:
            parts.append(f"as the view {together_said(views)} has it")
        if said.ttl is not None and not heard.answers[0].authoritative:
            parts.append(f"for another {duration(said.ttl)}")
        if said.rtt_ms is not None:
            parts.append(f"{said.rtt_ms:.1f} ms over {over_of(heard)}")
        return ", ".join(parts)

    def predicted(self) -> frozenset[bytes] | None:
        """Return what programs should get, by the stations that were asked; None where nothing of that is known."""
        seen, settings = self._seen, self._scope.settings
        if settings.uses_files:
            typed = seen.typed
            if typed.address is not None:
                values = {entry.names[0] for entry in settings.hosts if entry.address == typed.address and entry.names}
            else:
                name = from_text(typed.text)
                values = {entry.address for entry in settings.hosts if name in entry.names}
            if values:
                return frozenset(values)
        return seen.first.values if seen.first is not None else None

    # The answer

    def answer(self, rows: list[Judged]) -> str:
        """Return the answer in one line."""
        seen = self._seen
        programs = seen.typed.programs
        got = f"programs here get {self.values_text(programs.values) or 'nothing'}" if programs is not None else ""
        if programs is None:
            predicted = self.predicted()
            text = "nothing that is known" if predicted is None else self.values_text(sorted(predicted)) or "nothing"
            got = f"programs there get {text}"
        at_fault = [row for row in rows if row.test.mark == "fault"]
        if at_fault:
            right, first = self._right(), at_fault[0].test.title
            if self._gets() in {values for side in seen.sides for values in side.alternatives}:
                return f"{got}, which is right. What differs: {first}"
            return f"{got}{f'; the authoritative answer is {right}' if right else ''}. The first difference: {first}"
        if any(row.test.mark == "unverified" for row in rows):
            return f"{got}; whether that is right could not be verified"
        if seen.sides and not any(any(side.alternatives) for side in seen.sides):
            return "does not exist, and every source here agrees"
        return f"{got}, as its authoritative servers answer"

    def _gets(self) -> frozenset[bytes] | None:
        programs = self._seen.typed.programs
        return frozenset(programs.values) if programs is not None else self.predicted()

    # The findings

    def _state(
        self, code: str, text: str, answers: Iterable[Answer] = (), *, advice: str = "", server: Server | None = None
    ) -> Finding:
        return state(
            code, text, name=self._seen.name, rdtype=self._seen.typed.rdtypes[0], view=self._scope.view or "",
            evidence=[evidence_of(answer) for answer in answers], advice=advice, server=server,
        )  # fmt: skip

    def hosts_differ(self, lines: Sequence[int], given: Iterable[bytes]) -> Finding:
        """Report that the hosts file differs from the servers."""
        values = [to_text(one) if self._seen.typed.address is not None else address_text(one) for one in sorted(given)]
        return hosts_finding(self._seen.name, self._scope, lines, values, self._seen.sides, what=self._what)

    def suffix_wins(self) -> Finding:
        """Report that another name than the one that was meant is there first."""
        seen = self._seen
        assert seen.winner is not None
        won = seen.tried.get(seen.winner)
        values = f" ({self._said(won)})" if won is not None else ""
        text = (
            f"For {seen.typed.text}, {to_text(seen.winner)} is tried before {self._text}, and is there{values}: whoever types "
            f"it comes to the wrong host."
        )
        place = self._scope.settings.suffix_place
        advice = f"write {self._text} with its trailing dot, or put its suffix first in {place}"
        return self._state("here.suffix-wins", text, advice=advice)

    def dead(self, heard: Heard, *, waited_for: bool) -> Finding:
        """Return a configured resolver that says nothing."""
        label, wait_s = heard.station.server.label, self._scope.settings.wait_s
        if heard.said.refused_at_once:
            waits = "look-ups go on to the next at once"
        elif waited_for:
            waits = f"every look-up waits {wait_s:.0f} s for it first" if wait_s else "every look-up waits for it first"
        else:
            waits = "it does not help when the others fail"
        text = f"{label} says nothing ({heard.said.trouble}): {waits}."
        advice = f"remove {heard.station.configured.address} from {heard.station.configured.place}, or have it answer"
        return self._of_resolver("here.dead-resolver", text, heard, advice)

    def not_reached(self, heard: Heard) -> Finding:
        """Return a resolver that cannot say what the name's own servers say."""
        label = heard.station.server.label
        text = (
            f"{label} has no answer for {self._what} ({heard.said.trouble}), "
            f"and its authoritative servers answer {self._right()}."
        )
        advice = f"look at what {label} does with it (salt-mirror resolvers {heard.station.configured.address})"
        return self._of_resolver("here.not-reached", text, heard, advice)

    def old_answer(self, heard: Heard) -> Finding:
        """Values that no view's servers give."""
        label, left = heard.station.server.label, self._left(heard)
        text = (
            f"{label} says {self._said(heard.said)} for {self._what}{left}, "
            f"and its authoritative servers answer {self._right()}."
        )
        advice = f"clear the cache of {label}, or wait until the entry expires"
        return self._of_resolver("here.outdated-answer", text, heard, advice)

    def blocked(self, heard: Heard, why: str) -> Finding:
        """Report a name that the resolver itself hides."""
        label = heard.station.server.label
        text = (
            f"{label} blocks {self._what} ({why}), "
            f"and its authoritative servers answer {self._right()}. It does not expire by itself."
        )
        return self._of_resolver("here.blocked", text, heard, f"have {label} let {self._what} pass")

    def overridden(self, heard: Heard, why: str) -> Finding:
        """Report a name for which the resolver itself has something else."""
        label = heard.station.server.label
        text = (
            f"{label} overrides {self._what} with {self._said(heard.said)} ({why}), and its authoritative servers answer "
            f"{self._right()}. It "
            "does not expire by itself."
        )
        return self._of_resolver("here.overridden", text, heard, f"remove {self._what} from the local data of {label}")

    def not_validated(self, heard: Heard) -> Finding:
        """Report a name whose signatures are at fault: the resolver is right to fail."""
        failed = next(answer for answer in heard.answers if answer.status == "SERVFAIL")
        text = (
            f"{self._what} does not validate (DNSSEC) at {heard.station.server.label} ({validation_error(failed)}); with "
            "checking disabled it answers. The zone's signatures are at fault, and not the resolver."
        )
        return self._of_resolver(
            "here.bogus", text, heard, "have the zone signed anew, or its DS at the parent corrected"
        )

    def _of_resolver(self, code: str, text: str, heard: Heard, advice: str) -> Finding:
        return self._state(code, text, heard.answers, advice=advice, server=heard.station.server)

    def elsewhere(self, heard: Heard) -> Finding:
        """Return a "no" by the servers of another zone: it was never asked where the name stands."""
        label = heard.station.server.label
        by = "the root" if heard.said.apex == ROOT else to_text(heard.said.apex or ROOT)
        text = (
            f"{label} gives NXDOMAIN or NODATA for {self._what}, from the servers of {by}: it does not ask the name's own "
            f"servers, which answer {self._right()}."
        )
        configured = heard.station.configured
        advice = f"remove {configured.address} from {configured.place}, or have it ask the right servers"
        return self._of_resolver("here.elsewhere", text, heard, advice)

    def wrong_view(self, heard: Heard, views: Sequence[str]) -> Finding:
        """Return what another view's servers say than the one that this computer should get."""
        label, wanted = heard.station.server.label, self._scope.view or ""
        text = (
            f"{label} says {self._said(heard.said)} for {self._what}, as the view {together_said(views)} has it; this computer "
            f"should get the view {wanted}: {self._right()}."
        )
        advice = f"use resolvers of the view {wanted} in {heard.station.configured.place}"
        return self._of_resolver("here.wrong-view", text, heard, advice)

    def cached_no(self, heard: Heard) -> Finding:
        """Return a "no" for what is there."""
        label, left = heard.station.server.label, self._left(heard)
        text = f"{label} gives NXDOMAIN or NODATA for {self._what}{left}, and its authoritative servers answer {self._right()}."
        advice = f"clear the cache of {label}, or wait until the entry expires"
        return self._of_resolver("here.negative-cache", text, heard, advice)

    def kept_wrong(self, said: Said) -> Finding:
        """Return what the system's own cache has, and nobody says any more."""
        left = f" for another {duration(said.ttl)}" if said.ttl else ""
        what = (
            f"gives {self._said(said)} for {self._what}"
            if said.values
            else f"gives NXDOMAIN or NODATA for {self._what}"
        )
        text = f"This computer's cache {what}{left}, and the authoritative servers answer {self._right()}."
        code = "here.outdated-answer" if said.values else "here.negative-cache"
        return self._state(code, text, advice="clear this computer's cache, or wait until the entry expires")

    @staticmethod
    def _left(heard: Heard) -> str:
        return f" for another {duration(heard.said.ttl)}" if heard.said.ttl is not None else ""

    def made_up(self, heard: Heard) -> Finding:
        """Return addresses for names that nobody has."""
        answer = heard.made_up[0]
        values = ", ".join(address_text(value) for value in answer.values) or "an alias"
        text = f"{heard.station.server.label} gives {values} for nonexistent names: a mistyped name gets it too."
        advice = f"have {heard.station.configured.address} pass NXDOMAIN on, or use another resolver"
        return self._state("here.nxdomain-rewritten", text, heard.made_up, advice=advice, server=heard.station.server)

    def no_stream(self, heard: Heard) -> Finding:
        """Return no TCP at a configured resolver."""
        text = f"{heard.station.server.label} answers over UDP and not over TCP: long answers never arrive here."
        return self._state("here.no-tcp", text, [heard.stream] if heard.stream else [], server=heard.station.server)

    def mixed(self, living: Sequence[Heard]) -> Finding | None:
        """Return resolvers that do not give the same view: which one answers is chance. One that gives what nobody has was told
        of."""
        sides = self._seen.sides
        known = [one for one in living if any(one.said.values in side.alternatives for side in sides)]
        if not sides or not all(side.certain for side in sides):
            known = list(living)
        if len({one.said.values for one in known}) < 2 or self._divided():
            return None
        each = "; ".join(f"{one.station.server.label}: {self._said(one.said)}" for one in known)
        text = (
            f"The resolvers here give different answers for {self._what}: {each}. Which of them answers is undefined."
        )
        places = together_said(dict.fromkeys(one.station.configured.place for one in known))
        advice = f"only set resolvers of one view in {places}"
        return self._state("here.resolvers-differ", text, [one.answers[0] for one in known], advice=advice)

    def _divided(self) -> bool:
        """Return whether some view's own servers differ, so that resolvers may."""
        return any(len(side.alternatives) > 1 for side in self._seen.sides)

    def programs_differ(self, predicted: frozenset[bytes]) -> Finding:
        """Programs get what no station explains."""
        programs, settings = self._seen.typed.programs, self._scope.settings
        assert programs is not None
        got = self.values_text(programs.values) or f"nothing ({programs.error})"
        why = self.values_text(sorted(predicted)) or "nothing"
        others = settings.strange_sources
        where = f"{together_said(others)} in {settings.order_place}" if others else "a cache of the system"
        text = f"Programs here get {got} for {self._seen.typed.text}, and every station that was asked leads to {why}."
        return self._state("here.programs-differ", text, advice=f"look at {where}, which only this computer can ask")

    def no_truth(self, side: ViewAnswers, why: str) -> Finding:
        """Return a view of which not all is known."""
        silent = "; ".join(no_word_of(one.server, one.trouble) for one in side.found.unverified) or why
        return state(
            "here.unverified", f"What is right for {self._what} could not be seen: {silent}.", name=self._seen.name,
            rdtype=self._seen.typed.rdtypes[0], view=side.view, outcome="unverified", cause=silent,
            answers=answers_of(side.found)[:4],
        )  # fmt: skip


def right_said(sides: Sequence[ViewAnswers], write: Callable[[bytes], str]) -> str:
    """Return what the servers of views say, view by view; `write` makes text of a value."""
    parts = []
    for side in sides:
        says = " or ".join(", ".join(map(write, sorted(one))) or "NXDOMAIN or NODATA" for one in side.alternatives)
        parts.append(f"{says} (view {side.view})" if side.view else says)
    return "; ".join(parts)


def hosts_finding(
    name: Name,
    scope: HereScope,
    lines: Sequence[int],
    given: Sequence[str],
    sides: Sequence[ViewAnswers],
    *,
    what: str = "",
) -> Finding:
    """Return entries of the hosts file that say otherwise than the servers."""
    where = f"{scope.settings.hosts_file}, line {together_said(map(str, lines))}"
    reverse = bool(what) and what != to_text(name)
    right = right_said(sides, to_text if reverse else address_text)
    text = (
        f"The hosts file gives {', '.join(given)} for {what or to_text(name)} ({where}), "
        f"and its authoritative servers answer {right}."
    )
    return state(
        "here.hosts-differ", text, name=name, rdtype=PTR if reverse else A, view=scope.view or "",
        advice=f"remove the entry from {where}",
    )  # fmt: skip


def hosts_unknown(name: Name, scope: HereScope, why: str) -> Finding:
    """Return an entry of which nobody knows whether it is right."""
    text = f"Whether the hosts file is right about {to_text(name)} could not be seen: {why}."
    return state("here.unverified", text, name=name, rdtype=A, outcome="unverified", cause=why)

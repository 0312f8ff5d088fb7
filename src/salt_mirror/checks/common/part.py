"""A check at work on what it has to look at: alone as a command, or as a part of an audit.

Strategy: a part hands out its dialogues in rounds, each run to its end before the next one begins, and takes in what each of
them returns; so it can be read at any time, also after an interrupt. It does no I/O: whoever drives it has the runner.
"""

from __future__ import annotations

import secrets
from abc import ABC, abstractmethod
from collections import Counter, deque
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any, NamedTuple

from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import type_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.screening import ForeseenSubject
from salt_mirror.estate.model import Zone
from salt_mirror.findings import Finding, Outcome, SubjectLine

if TYPE_CHECKING:
    from salt_mirror.dns.holding import Holding

Holdings = Callable[[Server, Name], "Holding | None"]
"""A server's whole zone, where it was taken by transfer."""


def no_holding(_: Server, __: Name) -> None:
    """The zones that were transferred, where none was."""


def in_hand(zone: Zone, holdings: Holdings) -> Holding | None:
    """Return a zone as the first of its servers has handed it over; None where none has."""
    return next((one for server in zone.servers or () if (one := holdings(server, zone.apex)) is not None), None)


def nobody() -> bytes:
    """Return a label that nobody has registered."""
    return f"no-such-{secrets.token_hex(6)}".encode("ascii")


@dataclass(frozen=True, slots=True)
class Setting:
    """What a part is given when it begins to ask: the zones that were taken by transfer, all names in them, the moment, and a
    label that nobody has registered, one for all, so that judging again asks nothing anew."""

    moment: datetime
    holdings: Holdings = no_holding
    transferred: Collection[Name] = field(default_factory=frozenset)
    stranger: bytes = field(default_factory=nobody)


class Verdict(NamedTuple):
    """One subject and its outcome. `rdtype` is 0 where a subject is of no one type."""

    name: Name
    rdtype: int
    view: str
    outcome: Outcome
    address: bytes | None = None


NOTHING_JUDGED = "Nothing was judged."


class Part(ABC):
    """A check at work. `size` is how many things there are to look at, as far as that is known beforehand, and `looked` how
    many were; `remarks` say what the reader has to know about the coverage. A dialogue of it may cost as much as `names`
    names."""

    names: int = 1
    size: int = 0
    looked: int = 0

    def __init__(self) -> None:
        self.remarks: list[str] = []

    @abstractmethod
    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Any]]]:
        """Return the dialogues, in rounds."""

    @abstractmethod
    def take(self, result: Any) -> None:
        """Take in what a dialogue has returned."""

    @abstractmethod
    def verdicts(self) -> Iterator[Verdict]:
        """Return every subject that was judged so far."""

    @abstractmethod
    def findings(self) -> Iterable[Finding]:
        """Return every finding so far."""

    def owners(self, verdict: Verdict) -> Sequence[Name]:
        """Return the names whose zones a verdict counts in."""
        return (verdict.name,)

    def swept(self) -> Iterator[tuple[Name, str]]:
        """Names, each in its view, whose zones were looked through whole, also where there was nothing to judge."""
        return iter(())

    @property
    def says(self) -> str:
        """The answer where there is nothing to count."""
        return NOTHING_JUDGED

    def counts(self) -> Counter[Outcome]:
        """Return how many subjects have each outcome."""
        return Counter(verdict.outcome for verdict in self.verdicts())

    def subjects(self) -> Iterator[SubjectLine]:
        """Return the subjects as they are reported."""
        once = to_text.__wrapped__  # each name comes once, and none has to be at hand afterwards
        for name, rdtype, view, outcome, address in self.verdicts():
            yield SubjectLine(
                name=once(name),
                type=type_text(rdtype) if rdtype else "",
                view=view,
                outcome=outcome,
                address=address_text(address) if address is not None else None,
            )


class ForeseenRound(ABC):
    """A round of dialogues of which most come to what is foreseen. Without a screen it is the round of these dialogues."""

    @abstractmethod
    def __iter__(self) -> Iterator[Dialogue[Any]]:
        """Return a dialogue for each thing that the round is about."""

    @abstractmethod
    def results(self, runner: Runner, names: int) -> Iterator[Any]:
        """Yield what comes of everything, as it comes: an interrupt leaves what is known by then."""


@dataclass(frozen=True, slots=True)
class ForeseenThings(ForeseenRound):
    """A round of things that are foreseen one by one: `foresee` says what would be plain agreement for one, None where that is
    not known beforehand; `agreed` returns the result of a subject of which all was as foreseen; `judge` is the dialogue for
    everything else."""

    things: Iterable[Any]
    foresee: Callable[[Any], ForeseenSubject | None]
    agreed: Callable[[ForeseenSubject], Any]
    judge: Callable[[Any], Dialogue[Any]]

    def __iter__(self) -> Iterator[Dialogue[Any]]:
        return map(self.judge, self.things)

    def results(self, runner: Runner, names: int) -> Iterator[Any]:
        beside = deque[Dialogue[Any]]()
        things = (self.foresee(thing) or self.judge(thing) for thing in self.things)
        for result in runner.screen(things, beside, names=names):
            if not isinstance(result, ForeseenSubject):
                yield result
            elif result.failed:
                beside.append(self.judge(result.what))
            else:
                yield self.agreed(result)


def carry_out(part: Part, setting: Setting, runner: Runner, tick: Callable[[], None] = lambda: None) -> None:
    """Run a part to its end; `tick` is called for each thing that was looked at."""
    for dialogues in part.dialogues(setting):
        if runner.screens and isinstance(dialogues, ForeseenRound):
            results = dialogues.results(runner, part.names)
        else:
            results = runner.run(dialogues, names=part.names)
        for result in results:
            part.take(result)
            part.looked += 1
            tick()

"""Findings: what a check states, and how much it weighs.

Strategy: a finding is plain data that every report can show without asking a check again: what was expected, what each
server said, why that matters, and what would mend it, as changes to record sets. What a code means stands in the catalogue.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import msgspec

Outcome = Literal["agrees", "differs", "unverified"]
Weight = Literal["fault", "caution", "note"]

_RANK: dict[Outcome, int] = {"agrees": 0, "unverified": 1, "differs": 2}


def worse(one: Outcome, other: Outcome) -> Outcome:
    """Return the outcome that says more: a difference over a doubt, a doubt over agreement."""
    return one if _RANK[one] >= _RANK[other] else other


class Evidence(msgspec.Struct, frozen=True, kw_only=True):
    """What one server said to one question, or why it said nothing. TTL in seconds, round-trip time in milliseconds.

    `over` is what brought it: udp, tcp, tls, https, or a transfer of the whole zone. `extended` are the extended errors that
    came with it (RFC 8914).
    """

    server: str
    endpoint: str
    question: str
    status: str
    authoritative: bool
    values: list[str]
    ttl: int | None
    rtt_ms: float | None
    over: str = "udp"
    trouble: str | None = None
    extended: list[str] | msgspec.UnsetType = msgspec.UNSET


class About(NamedTuple):
    """What a finding is about, from run to run: its subject. `server` is the one that is meant, if one is."""

    view: str
    name: str
    type: str
    address: str
    server: str


Precedence = Literal["registered", "forward", "directory", "expected"]
"""What a change is proposed on: the records themselves, the forward side (a PTR record follows its address), the directory's
locators, or what is expected. Which of them counts for more is a table of `checks.plan.rules`."""


class Change(msgspec.Struct, frozen=True, kw_only=True):
    """What would mend one record set: values to `add` and to `remove`, and the `whole` set to be where that is known.

    `zone` is the one in which the set stands, empty where nobody knows it; `ttl` in seconds, None for what is usual there.
    Values are rdata in presentation form.
    """

    view: str
    zone: str
    name: str
    type: str
    ttl: int | None = None
    add: list[str] = []
    remove: list[str] = []
    whole: list[str] | None = None
    by: Precedence
    reason: str


Word = Literal["remove", "register", "no-mail"]
"""How a choice is settled: the record goes, what it needs comes, or only the null MX stays (RFC 7505)."""


class Choice(msgspec.Struct, frozen=True, kw_only=True):
    """One of several repairs that are right, of which a person has to choose: its word, what it means, its changes."""

    word: Word
    says: str
    changes: list[Change]


Fate = Literal["", "planned", "choice", "refused", "contradiction", "not ours", "advice"]
"""What becomes of a finding's repair: it is planned, a person has to choose, it was refused since it would do harm, the estate
contradicts itself, somebody else has to change something, or no change is known; empty where nothing was planned for."""


class FileLine(msgspec.Struct, frozen=True, kw_only=True):
    """A line of a file that a finding comes of: the file's path, the line (from 1; 0 where the file lacks what is meant), and
    what stands there, or is gone from there."""

    file: str
    line: int
    says: str = ""

    @property
    def place(self) -> str:
        """The file and the line, as people write them."""
        return f"{self.file}, line {self.line}" if self.line else self.file


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """One statement about one subject. Names are absolute; `remedy` says in master-file syntax what would mend it, or is
    empty; `fate` what becomes of that.

    `changes` are the same as data; `choices` are for a person to decide where no changes are right, and `advice` where it is
    not ours to change.

    `cause` is the same text for findings that one cause explains, such as a server that does not answer; `server` is the one
    that is meant (its endpoint, or a name server's or host's name), where there are several; `stands_at` owns the record
    that has to be mended, where that is not the name itself: a host without a pointer is mended in the reverse zone. `vantages`
    are those from which it was seen, where others asked for us; `lines` the lines of files that it comes of.
    """

    code: str
    weight: Weight
    outcome: Outcome
    name: str
    type: str
    view: str
    expected: list[str]
    evidence: list[Evidence]
    text: str
    remedy: str = ""
    fate: Fate = ""
    changes: list[Change] = []
    choices: list[Choice] = []
    advice: str = ""
    address: str | None = None
    cause: str = ""
    vantages: list[str] | msgspec.UnsetType = msgspec.UNSET
    server: str | msgspec.UnsetType = msgspec.UNSET
    stands_at: str | msgspec.UnsetType = msgspec.UNSET
    lines: list[FileLine] | msgspec.UnsetType = msgspec.UNSET

    @property
    def is_certain_fault(self) -> bool:
        """Whether it is a fault, and verified."""
        return self.weight == "fault" and self.outcome != "unverified"

    @property
    def owner(self) -> str:
        """The name that owns the record to be mended, and so tells the zone that the finding lies in."""
        return self.stands_at or self.name

    @property
    def place(self) -> str:
        """What it is about, as it is shown: a name with its address or type; a resolver, of no name, by its endpoint."""
        if self.name == "." and self.server:
            return self.server
        return f"{self.name}  {self.address or self.type}"

    @property
    def subject(self) -> About:
        """What it is about: the same for a fault, and for the doubt whether it is still there."""
        return About(self.view, self.name, self.type, self.address or "", self.server or "")

    @property
    def identity(self) -> tuple[str, ...]:
        """Its code and its subject: the same finding from run to run."""
        return self.code, *self.subject


class SubjectLine(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that was checked, as it is reported: a name, perhaps with one of its addresses, and the outcome."""

    name: str
    type: str
    view: str
    outcome: Outcome
    address: str | None = None

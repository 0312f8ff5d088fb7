"""A zone's signatures, asked for at every server and at the parent's.

Strategy: one question at each server tells whether the zone is signed at all (its keys), one at each of the parent's what the
parent says of that (its DS set); an unsigned zone costs no more. A signed one is asked for what a validator needs, with DO: the
apex, what is expected (a sample of many), a name and a type that do not exist, and what waits for the parent. Nothing is
judged here.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from salt_mirror.checks.common.atlas import Atlas, soa_record
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, is_within, join, labels
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import CDNSKEY, CDS, DNSKEY, DS, NS, NSEC3PARAM, OF_SIGNERS, RRSIG, SAMPLED, SOA, A

LOC = 29
"""A type that hardly any apex has; where one does, its set is verified in place of its denial."""
MOST_VERIFIED = 40
"""So many expected record sets are verified on each server, evenly chosen where there are more."""
_APEX = (SOA, NS, NSEC3PARAM, CDS, CDNSKEY, LOC)


@dataclass(slots=True)
class SignedCopy:
    """One server's copy: its DNSKEY set, and what was asked of it with DO (none where it is not signed, or gave no keys).
    `listed`: people are sent to it, by the zone's NS set or the parent's; `holding` its whole zone, where that was
    transferred."""

    server: Server
    listed: bool
    keys: Answer
    answers: list[Answer] = field(default_factory=list)
    holding: Holding | None = None

    def answer(self, rdtype: int) -> Answer | None:
        """Return what it says of a type at the apex, as far as that can be relied on."""
        zone = self.keys.question.name
        return next((a for a in self.answers if a.question[:2] == (zone, rdtype) and a.trouble is None), None)


@dataclass(slots=True)
class SignedSeen:
    """All that was seen of a zone's signatures. `above` is the zone of the parent's servers, None where there is none to ask,
    and `above_keys` its keys there; `ds` what each of these says of the DS set. `verified` and `expected` count the expected
    record sets; `parentless` says that no zone above could delegate it, `elsewhere` that it delegates to another view's
    servers; `anchors` are DS records of it that the estate trusts."""

    zone: Name
    view: str
    above: Name | None = None
    above_keys: dict[Server, Answer] = field(default_factory=dict)
    ds: list[Answer] = field(default_factory=list)
    copies: list[SignedCopy] = field(default_factory=list)
    verified: int = 0
    expected: int = 0
    parentless: bool = False
    elsewhere: bool = False
    anchors: tuple[bytes, ...] = ()

    @property
    def ds_values(self) -> tuple[bytes, ...]:
        """Every DS record that any of the parent's servers gives."""
        return tuple(sorted({value for answer in self.ds if answer.trouble is None for value in answer.values}))

    @property
    def with_keys(self) -> list[SignedCopy]:
        """The copies with keys at the apex."""
        return [copy for copy in self.copies if copy.keys.trouble is None and copy.keys.values]

    @property
    def is_signed(self) -> bool:
        """Whether anybody says that the zone is signed."""
        return bool(self.with_keys or self.ds_values or self.anchors)


def ask_keys(zone: Name, servers: Sequence[Server], atlas: Atlas) -> Dialogue[list[Answer]]:
    """Ask servers for the keys of a zone, with DO."""
    return (yield [Question(zone, DNSKEY, atlas.sibling(server, "signed")) for server in servers])


def ask_parent(seen: SignedSeen, servers: Sequence[Server], atlas: Atlas) -> Dialogue[None]:
    """Ask the parent's servers for the DS set, with DO."""
    if seen.above is not None and servers:
        seen.ds = yield [Question(seen.zone, DS, atlas.sibling(server, "signed")) for server in servers]


def ask_signatures(seen: SignedSeen, stranger: bytes, atlas: Atlas) -> Dialogue[None]:
    """Ask for what a validator needs of a signed zone, and its parent's servers for their keys."""
    signed_above = any(_is_signed(answer) for answer in seen.ds if answer.trouble is None)
    if not seen.is_signed and not signed_above:
        return
    chosen = _chosen(seen, atlas)
    wanted = [(seen.zone, rdtype) for rdtype in _APEX] + chosen
    if len(seen.zone) + len(stranger) < 254:
        wanted.append((join((stranger,), seen.zone), A))
    signed = seen.with_keys
    batch = [Question(name, rdtype, copy.keys.question.server) for copy in signed for name, rdtype in wanted]
    above = [answer.question.server for answer in seen.ds if answer.trouble is None]
    if seen.above is not None:
        batch += [Question(seen.above, DNSKEY, server) for server in above]
    answers = yield batch
    for number, copy in enumerate(signed):
        copy.answers = answers[number * len(wanted) : (number + 1) * len(wanted)]
    seen.above_keys = dict(zip(above, answers[len(signed) * len(wanted) :], strict=True))
    yield from _leave_out_children(seen, set(chosen))


def _leave_out_children(seen: SignedSeen, chosen: set[tuple[Name, int]]) -> Dialogue[None]:
    """Drop what is in a zone below that the same server has: it is unsigned here by right, and nobody may be accused of that.

    An unsigned answer does not say which zone it is of; the SOA of the name's own zone, in a second answer, does.
    """
    doubtful = [
        answer
        for copy in seen.with_keys
        for answer in copy.answers
        if answer.question[:2] in chosen and answer.trouble is None and not _is_signed(answer)
    ]
    if not doubtful:
        return
    told = yield [Question(answer.question.name, SOA, answer.question.server) for answer in doubtful]
    below = {
        (answer.question.server, answer.question.name)
        for answer in told
        if (soa := soa_record(answer, answer.question.name)) is not None
        and soa.owner != seen.zone
        and is_within(soa.owner, seen.zone)
    }
    for copy in seen.with_keys:
        copy.answers = [a for a in copy.answers if (a.question.server, a.question.name) not in below]


def _is_signed(answer: Answer) -> bool:
    return any(record.rdtype == RRSIG for section in answer.sections[:2] for record in section)


def _chosen(seen: SignedSeen, atlas: Atlas) -> list[tuple[Name, int]]:
    """Return which expected sets to verify: evenly chosen of many; a few that most zones have where nothing is expected."""
    zones = atlas.estate.zones.get(seen.view, {})
    zone = zones.get(seen.zone)
    expected = {
        (one.name, one.rdtype)
        for one in (zone.expectations if zone is not None else ())
        if one.presence != "absent"
        and one.rdtype not in OF_SIGNERS
        and one.rdtype != SOA
        and one.rdtype != NS  # at the apex it is asked for in any case, and nobody signs a delegation's
        and atlas.estate.zone_of(one.name, seen.view) is zone
    }
    seen.expected = len(expected)
    sets = sorted(expected, key=lambda one: (labels(one[0])[::-1], one[1]))
    if not sets:
        return [(seen.zone, rdtype) for rdtype in SAMPLED]
    step = max(1.0, len(sets) / MOST_VERIFIED)
    chosen = [sets[int(number * step)] for number in range(min(len(sets), MOST_VERIFIED))]
    seen.verified = len(chosen)
    return chosen

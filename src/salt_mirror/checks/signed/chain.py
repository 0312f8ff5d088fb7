"""The chain of trust down to one name: at each cut signed, insecure or bogus, as validators find it (RFC 4035 section 5).

Strategy: the zones on the way and their servers are known; all of them are asked at once, for their keys, for the DS set of
the zone below, and for the name itself. Then the chain is judged from the top, server by server: what holds on some servers
leads on, and those on which it does not are named. A zone below a proved absence of DS is insecure, and nothing below that is
judged.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.trust import Examined, Flaw, counting, entrance, examine
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.dnssec.keys import DnsKey, Ds, ds_in
from salt_mirror.dns.names import ROOT, Name, ancestors, is_within, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import DNSKEY, DS, SOA
from salt_mirror.dns.roots import ROOT_ANCHORS

Trust = Literal["signed", "insecure", "bogus", "unverified"]
"""`signed`: proved from the anchor down; `insecure`: proved not to be signed; `bogus`: neither, so that validators answer
SERVFAIL; `unverified`: not known here."""

Way = Sequence[tuple[Name, Sequence[Server]]]
"""The zones on the way down, each with the servers of it that answered; the name asked for is in the last one."""


class Failing(NamedTuple):
    """A server on which a step of the chain does not hold, and why; `flaw` None where it gave no usable answer."""

    server: Server
    why: str
    flaw: Flaw | None
    answer: Answer


@dataclass(slots=True)
class TrustLink:
    """One zone of the chain, or the name at its end: what it is on the servers where it holds best, why, and the servers on
    which it does not hold."""

    zone: Name
    trust: Trust
    why: str = ""
    failing: list[Failing] = field(default_factory=list)


@dataclass(slots=True)
class TrustChain:
    """The links from the top down, and the name's own at the end (None where no server was asked for it)."""

    links: list[TrustLink] = field(default_factory=list)
    end: TrustLink | None = None

    @property
    def trust(self) -> Trust:
        """What validators make of the name."""
        return self.end.trust if self.end is not None else self.links[-1].trust if self.links else "unverified"

    @property
    def broken(self) -> TrustLink | None:
        """The first link that is bogus; None of a chain without one."""
        return next((link for link in self.every if link.trust == "bogus"), None)

    @property
    def every(self) -> list[TrustLink]:
        """Every link from the top down, the name's own last."""
        return [*self.links, *([self.end] if self.end is not None else [])]


def follow_chain(
    way: Way, name: Name, rdtype: int, anchors: Sequence[Ds] | None, atlas: Atlas, now: float
) -> Dialogue[TrustChain]:
    """Return the chain of trust down a way to a name. `anchors` are the DS records that are trusted of the way's first zone;
    None where there are none, and its keys are taken as they are."""
    way = yield from _with_hidden_cuts(way, name, atlas)
    zones = [zone for zone, _ in way]
    batch: list[Question] = []
    for number, (zone, servers) in enumerate(way):
        signed = [atlas.sibling(server, "signed") for server in servers]
        batch += [Question(zone, DNSKEY, server) for server in signed]
        if number + 1 < len(way):
            batch += [Question(zones[number + 1], DS, server) for server in signed]
        else:
            batch += [Question(name, rdtype, server) for server in signed]
    answers = (yield batch) if batch else []
    chain, at = TrustChain(), 0
    ds = list(anchors or ())
    trust: Trust = "signed"
    why = ""
    for number, (zone, servers) in enumerate(way):
        size, last = len(servers), number + 1 == len(way)
        keys, below = answers[at : at + size], answers[at + size : at + 2 * size]
        at += 2 * size
        link = TrustLink(zone, trust, why)
        if number == 0 and not ds:
            link.why = "its keys are taken as they are: there is no trust anchor of it"
        entered = _enter(link, ds, keys, now) if link.trust == "signed" else {}
        target = TrustLink(name if last else zones[number + 1], link.trust, link.why if link.trust != "signed" else "")
        if link.trust == "signed":
            ds = _judge_below(target, zone, below, entered, now, is_ds=not last)
        chain.links.append(link)
        if last:
            chain.end = target
        else:
            link.failing += target.failing
            trust, why = target.trust, target.why
    return chain


def _enter(link: TrustLink, ds: Sequence[Ds], answers: Sequence[Answer], now: float) -> dict[Server, list[DnsKey]]:
    """Judge the keys of a zone by the DS set above; return them by server, where they hold."""
    entered: dict[Server, list[DnsKey]] = {}
    doubts = False
    usable = [answer for answer in answers if answer.trouble is None]
    if not ds and usable and not any(answer.values for answer in usable):
        link.trust, link.why = "insecure", "it is not signed"
        return {}
    for answer in answers:
        server = answer.question.server
        if answer.trouble is not None:
            link.failing.append(Failing(server, answer.trouble, None, answer))
            doubts = True
            continue
        way = entrance(link.zone, ds, answer, now)
        if way.flaw is None:
            entered[server] = way.keys
        else:
            doubts = doubts or way.flaw is Flaw.UNKNOWN
            link.failing.append(Failing(server, way.examined.why, way.flaw, answer))
    if not entered:
        _fail(link, doubts=doubts or not answers)
    return entered


def _judge_below(
    target: TrustLink,
    zone: Name,
    answers: Sequence[Answer],
    entered: dict[Server, list[DnsKey]],
    now: float,
    *,
    is_ds: bool,
) -> list[Ds]:
    """Judge what the servers of a zone say of a name in it, or of the DS set of the zone below; return the DS records."""
    good: list[Examined] = []
    doubts = False
    every = next(iter(entered.values()), [])
    for answer in answers:
        server = answer.question.server
        keys = entered.get(server, every)
        if answer.trouble is not None:
            target.failing.append(Failing(server, answer.trouble, None, answer))
            doubts = True
            continue
        one = examine(answer, zone, keys, now)
        if one.flaw is None and not one.elsewhere:
            good.append(one)
        else:
            doubts = doubts or one.flaw is Flaw.UNKNOWN or one.elsewhere
            target.failing.append(Failing(server, one.why, one.flaw, answer))
    if not good:
        _fail(target, doubts=doubts or not answers)
        return []
    if not is_ds:
        if any(one.opt_out for one in good):  # RFC 5155 section 9.2: such a proof is not authentic data
            target.trust, target.why = "insecure", "the proof leaves room for unsigned delegations (NSEC3 opt-out)"
        return []
    records = ds_in(tuple(sorted({value for one in good for value in one.answer.values})))
    if not records:
        how = " (opt-out)" if any(one.opt_out for one in good) else ""
        target.trust, target.why = "insecure", f"{to_text(zone)} proves that there is no DS record{how}"
        return []
    if not counting(records):
        said = ", ".join(one.said for one in records)
        target.trust, target.why = "insecure", f"no validator can use its DS set ({said})"
        return []
    return records


def _fail(link: TrustLink, *, doubts: bool) -> None:
    """Say that a link holds on no server: bogus, unless this computer does not know enough."""
    first = next((one for one in link.failing if one.flaw not in (None, Flaw.UNKNOWN)), None)
    link.trust = "unverified" if doubts or first is None else "bogus"
    link.why = first.why if first is not None and not doubts else next((one.why for one in link.failing), "")


def _with_hidden_cuts(way: Way, name: Name, atlas: Atlas) -> Dialogue[Way]:
    """Put in the zones between the last one and the name that the same servers have: no referral shows such a cut."""
    if not way:
        return way
    last, servers = way[-1]
    between = [above for above in ancestors(name) if above != last and is_within(above, last)][::-1]
    if not servers or not between:
        return way
    answers = yield [Question(above, SOA, servers[0]) for above in between]
    cuts = [answer.question.name for answer in answers if answer.trouble is None and answer.values]
    return [*way, *((cut, servers) for cut in cuts)]


def starting(zone: Name, anchors: dict[Name, tuple[bytes, ...]], *, own_roots: bool) -> list[Ds] | None:
    """Return the DS records that a chain from a zone begins with: the estate's trust anchor, or IANA's for the root; None where
    nobody has said any."""
    if zone in anchors:
        return ds_in(anchors[zone])
    return ds_in(ROOT_ANCHORS) if zone == ROOT and not own_roots else None

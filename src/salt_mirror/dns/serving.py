"""A zone as an authoritative server answers from it (RFC 1034 section 4.3.2), without any server: for zones that are not
loaded yet.

Strategy: nearly everything is a plain look into the zone, which `holding` does. What it leaves to the server itself is worked
out here: delegations with their glue, DNAME (RFC 6672), wildcards (RFC 4592), and what each hides. A delegation is handed on
as a message, since whoever follows one reads its sections; nothing is signed.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import ROOT, Name, ancestors, labels, wildcard_below
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import AAAA, CNAME, DNAME, DS, NS, SOA, A, Record
from salt_mirror.dns.wire import AA, QR, RA, question_tail

FROM_A_FILE = "file"
"""What brings such answers, in place of a transport."""


class ServedZone:
    """One zone, and what a server that has it says to any question about a name in it."""

    def __init__(self, holding: Holding) -> None:
        self.holding = holding
        self.apex = holding.apex
        self._existing: set[Name] | None = None

    @property
    def soa(self) -> bytes:
        """The rdata of its SOA; empty where it has none."""
        return next(iter(self.holding.rdata(self.apex, SOA)), b"")

    def answer(self, question: Question) -> Answer:
        """Return what is said to a question about a name in the zone."""
        plain = self.holding.answer(question)
        if plain is not None:
            return plain._replace(over=FROM_A_FILE)
        name, rdtype = question.name, question.rdtype
        cut = self._cut_above(name, rdtype)
        if cut is not None:
            return self._referral(question, cut)
        above = next((one for one in self._down_to(name)[:-1] if self.holding.rdata(one, DNAME)), None)
        if above is not None:
            return self._renamed(question, above)
        if name in self._names:
            return self._at(question, name)
        star = self._wildcard(name)
        if star is not None:
            return self._at(question, star)
        return Answer(question, "NXDOMAIN", True, over=FROM_A_FILE)

    def handed_over(self, question: Question) -> Answer:
        """Return what a transfer of the zone begins with (RFC 5936 section 2.2): its SOA."""
        return Answer(question, "NOERROR", True, message=message(question, answer=[self._soa_record]), over="tcp")

    def version(self, question: Question, *, recurses: bool) -> Answer:
        """Return the answer to a question for the SOA, as a message that says whether its server offers recursion."""
        whole = message(question, answer=[self._soa_record], recurses=recurses)
        return self.answer(question)._replace(message=whole)

    @property
    def _soa_record(self) -> Record:
        return Record(self.apex, SOA, self.holding.ttl(self.apex, SOA) or 0, self.soa)

    @property
    def _names(self) -> set[Name]:
        """Every name that exists, also those between that have no records (RFC 8020)."""
        if self._existing is None:
            depth = len(labels(self.apex))
            self._existing = {
                above for name in self.holding.names for above in ancestors(name) if len(labels(above)) >= depth
            }
        return self._existing

    def _down_to(self, name: Name) -> list[Name]:
        """Return the names from the apex down to a name."""
        return [one for one in reversed(ancestors(name)) if len(one) >= len(self.apex)]

    def _cut_above(self, name: Name, rdtype: int) -> Name | None:
        """Return the zone cut at or above a name; the DS set at a cut is the parent's own (RFC 4035 section 3.1.4.1)."""
        for one in self._down_to(name):
            if one in self.holding.cuts and not (one == name and rdtype == DS):
                return one
        return None

    def _wildcard(self, name: Name) -> Name | None:
        """Return the wildcard that speaks for a name that does not exist: the one below its closest encloser (RFC 4592 section
        3.3.1)."""
        encloser = next(one for one in ancestors(name) if one in self._names)
        star = wildcard_below(encloser)
        return star if star in self._names else None

    def _at(self, question: Question, owner: Name) -> Answer:
        """Return what stands at an owner, as said of the asked name."""
        values = self.holding.rdata(owner, question.rdtype)
        if values:
            ttl = self.holding.ttl(owner, question.rdtype)
            return Answer(question, "NOERROR", True, values, ttl, over=FROM_A_FILE)
        alias = next(iter(self.holding.rdata(owner, CNAME)), None)
        ttl = self.holding.ttl(owner, CNAME) if alias is not None else None
        return Answer(question, "NOERROR", True, (), ttl, alias, over=FROM_A_FILE)

    def _renamed(self, question: Question, above: Name) -> Answer:
        """Return a name below a DNAME: an alias made of it (RFC 6672 section 3.2)."""
        target = self.holding.rdata(above, DNAME)[0]
        alias = question.name[: len(question.name) - len(above)] + target
        if len(alias) > 255:
            return Answer(question, "YXDOMAIN", True, over=FROM_A_FILE)
        ttl = self.holding.ttl(above, DNAME)
        if question.rdtype == CNAME:
            return Answer(question, "NOERROR", True, (alias,), ttl, over=FROM_A_FILE)
        return Answer(question, "NOERROR", True, (), ttl, alias, over=FROM_A_FILE)

    def _referral(self, question: Question, cut: Name) -> Answer:
        ttl = self.holding.ttl(cut, NS) or 0
        targets = self.holding.rdata(cut, NS)
        servers = [Record(cut, NS, ttl, target) for target in targets]
        glue = [
            Record(target, rdtype, self.holding.ttl(target, rdtype) or 0, value)
            for target in targets
            for rdtype in (A, AAAA)
            for value in self.holding.rdata(target, rdtype)
        ]
        whole = message(question, authority=servers, additional=glue)
        return Answer(question, "NOERROR", False, message=whole, over=FROM_A_FILE)


def message(
    question: Question,
    *,
    answer: Iterable[Record] = (),
    authority: Iterable[Record] = (),
    additional: Iterable[Record] = (),
    recurses: bool = False,
) -> bytes:
    """Return a response as a message (RFC 1035 section 4.1), without compression; authoritative where it has an answer."""
    sections = [list(answer), list(authority), list(additional)]
    flags = QR | (AA if sections[0] else 0) | (RA if recurses else 0)
    head = b"\0\0" + b"".join(number.to_bytes(2, "big") for number in (flags, 1, *map(len, sections)))
    records = b"".join(
        owner + rdtype.to_bytes(2, "big") + b"\0\1" + ttl.to_bytes(4, "big") + len(rdata).to_bytes(2, "big") + rdata
        for section in sections
        for owner, rdtype, ttl, rdata in section
    )
    return head + question.name + question_tail(question.rdtype) + records


def zone_for(name: Name, rdtype: int, apexes: Iterable[Name]) -> Name | None:
    """Return the zone among some that a server answers a question from: the longest at or above the name, of DS the one above
    the cut (RFC 4035 section 3.1.4.1)."""
    held = set(apexes)
    above = [one for one in ancestors(name) if one in held]
    if rdtype == DS and name != ROOT and len(above) > 1 and above[0] == name:
        return above[1]
    return above[0] if above else None

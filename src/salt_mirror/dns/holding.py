"""Zones that were transferred, as answers: an exchange that serves questions from them and passes the others on.

Strategy: a dialogue asks as always. Where a server has handed us its zone whole, its answer is read off there, and says
so; what a plain look-up cannot settle (below a cut, under a wildcard or DNAME) goes to the server itself. So a check needs
to know nothing of transfers, and can judge nothing differently because of one.
"""

from __future__ import annotations

import hashlib
import sys
from collections.abc import Iterable, Iterator, Mapping, Set

from salt_mirror.dns.dialogue import Exchange
from salt_mirror.dns.names import ROOT, Name
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import CNAME, DNAME, NOT_COMPARED, NS, SOA, Record

_WILDCARD = b"\x01*"

RRset = tuple[int, int, tuple[bytes, ...]]
"""Type, smallest TTL in seconds, sorted canonical rdata."""


class Holding:
    """One zone as one server holds it. Where it is not `whole`, it has what was asked for, and what it lacks may be there."""

    whole = True

    def __init__(self, apex: Name, records: Iterable[Record], *, of_one_set: int = 20_000) -> None:
        """`records` of a transfer that was sound from end to end, the closing SOA among them or not.

        More than `of_one_set` records of one RRset raise ValueError.
        """
        self.apex = apex
        self.size = 0
        nodes: dict[Name, list[RRset]] = {}
        grown: dict[tuple[Name, int], set[bytes]] = {}
        self._cuts: set[Name] = set()
        self._special: set[Name] = set()
        for owner, rdtype, ttl, rdata in records:
            node = nodes.get(owner)
            if node is None:
                nodes[owner] = [(rdtype, ttl, (rdata,))]
                self.size += 1
                continue
            # Sets of one value stay a tuple of one: only those that grow get a set of their own, and a zone has few of them.
            for number, (known, least, values) in enumerate(node):
                if known == rdtype:
                    more = grown.setdefault((owner, rdtype), set(values))
                    if rdata not in more:
                        more.add(rdata)
                        self.size += 1
                        if len(more) > of_one_set:
                            raise ValueError(f"more than {of_one_set:,} records in one set")
                    if ttl < least:
                        node[number] = (rdtype, ttl, values)
                    break
            else:
                node.append((rdtype, ttl, (rdata,)))
                self.size += 1
        for (owner, rdtype), more in grown.items():
            nodes[owner] = [
                (kind, ttl, tuple(sorted(more))) if kind == rdtype else (kind, ttl, values)
                for kind, ttl, values in nodes[owner]
            ]
        self._nodes = nodes
        self._between: set[Name] = set()
        for owner, node in nodes.items():
            if owner != apex and any(rdtype == NS for rdtype, *_ in node):
                self._cuts.add(owner)
            if owner.startswith(_WILDCARD) or any(rdtype == DNAME for rdtype, *_ in node):
                self._special.add(owner)
            above = owner[owner[0] + 1 :] if owner != ROOT else ROOT
            # Names between that have no records exist all the same: NODATA there, and no NXDOMAIN (RFC 8020).
            while len(above) > len(apex) and above not in nodes and above not in self._between:
                self._between.add(above)
                above = above[above[0] + 1 :]

    @property
    def names(self) -> Iterable[Name]:
        """Every name that has records."""
        return self._nodes.keys()

    def rrsets(self) -> Iterator[tuple[Name, int, int, tuple[bytes, ...]]]:
        """Return every RRset: owner, type, smallest TTL in seconds, sorted canonical rdata."""
        for owner, node in self._nodes.items():
            for rrset in node:
                yield (owner, *rrset)

    @property
    def is_plain(self) -> bool:
        """Whether a look at its names settles everything: no delegation, no wildcard, no DNAME record."""
        return not (self._cuts or self._special)

    @property
    def cuts(self) -> Set[Name]:
        """The names below the apex at which other zones begin (RFC 1034 section 4.2.1)."""
        return self._cuts

    def is_delegated(self, name: Name) -> bool:
        """Return whether a name stands at or below a zone cut, where the zone's word does not count."""
        while len(name) > len(self.apex):
            if name in self._cuts:
                return True
            name = name[name[0] + 1 :]
        return False

    def rdata(self, name: Name, rdtype: int) -> tuple[bytes, ...]:
        """Return the values of one RRset; none where there is no such set."""
        return next((values for kind, _, values in self._nodes.get(name, ()) if kind == rdtype), ())

    def ttl(self, name: Name, rdtype: int) -> int | None:
        """Return the TTL of one RRset, in seconds; None where there is no such set."""
        return next((ttl for kind, ttl, _ in self._nodes.get(name, ()) if kind == rdtype), None)

    def with_sets(self, sets: Mapping[tuple[Name, int], tuple[int, tuple[bytes, ...]]]) -> Holding:
        """Return the same zone with some RRsets (owner, type) in place of its own: their TTL and values, none to have them
        gone."""
        kept = (
            Record(owner, rdtype, ttl, value)
            for owner, rdtype, ttl, values in self.rrsets()
            if (owner, rdtype) not in sets
            for value in values
        )
        new = (Record(*key, ttl, value) for key, (ttl, values) in sets.items() for value in values)
        return type(self)(self.apex, [*kept, *new], of_one_set=sys.maxsize)

    @property
    def serial(self) -> int:
        """The serial of its SOA."""
        for rdtype, _, values in self._nodes[self.apex]:
            if rdtype == SOA:
                return int.from_bytes(values[0][-20:-16], "big")
        raise ValueError("a zone without SOA")

    def unlike(self, other: Holding, most: int) -> list[tuple[Name, int]]:
        """At most so many RRsets (owner, type) in which two holdings of one zone differ, TTLs too, the SOA left out."""
        found: list[tuple[Name, int]] = []
        for owner in sorted(self._nodes.keys() | other._nodes.keys()):
            one, another = set(self._nodes.get(owner, ())), set(other._nodes.get(owner, ()))
            found += [
                (owner, rdtype)
                for rdtype in sorted({rrset[0] for rrset in one ^ another})
                if rdtype not in NOT_COMPARED
            ]
            if len(found) >= most:
                break
        return found[:most]

    @property
    def digest(self) -> bytes:
        """A digest of the whole zone: the same for the same canonical records in whatever order, the SOA left out."""
        lines = sorted(
            b"%d %d %d %b %b" % (len(owner), rdtype, ttl, owner, b"".join(b"%d %b" % (len(v), v) for v in values))
            for owner, node in self._nodes.items()
            for rdtype, ttl, values in node
            if rdtype not in NOT_COMPARED
        )
        return hashlib.sha256(b"".join(b"%d %b" % (len(line), line) for line in lines)).digest()

    def answer(self, question: Question) -> Answer | None:
        """Return what the server would say; None where only the server itself can tell."""
        name = question.name
        # Referrals, DNAME and wildcards are the server's own work: what it would make of them is asked and not guessed.
        if (self._cuts or self._special) and self._beyond(name):
            return None
        node = self._nodes.get(name)
        if node is None:
            there = name in self._between
            return Answer(question, "NOERROR" if there else "NXDOMAIN", True, over="transfer")
        alias = ttl_of_alias = None
        for rdtype, ttl, values in node:
            if rdtype == question.rdtype:
                return Answer(question, "NOERROR", True, values, ttl, over="transfer")
            if rdtype == CNAME:
                alias, ttl_of_alias = values[0], ttl
        return Answer(question, "NOERROR", True, (), ttl_of_alias, alias, over="transfer")

    def _beyond(self, name: Name) -> bool:
        """Return whether a cut, a DNAME or a wildcard may have a say on a name."""
        known = name in self._nodes
        while True:
            if name in self._cuts:
                return True
            if len(name) <= len(self.apex):
                return False
            name = name[name[0] + 1 :]
            if name in self._special or (not known and _WILDCARD + name in self._special):
                return True


class PartialHolding(Holding):
    """Some record sets of a zone, as far as they were asked for on one server."""

    whole = False


class HoldingExchange:
    """An exchange that answers from holdings what they can answer, and passes on the rest."""

    def __init__(self, behind: Exchange) -> None:
        self._behind = behind
        self._holdings: dict[tuple[Server, Name], Holding] = {}
        self._servers: set[Server] = set()
        self._ready: list[Answer] = []
        self.spared = 0

    @property
    def holds(self) -> bool:
        """Whether there is any zone to answer from."""
        return bool(self._holdings)

    @property
    def names(self) -> set[Name]:
        """Every name in the zones that are held."""
        return {name for holding in self._holdings.values() for name in holding.names}

    def holding(self, server: Server, apex: Name) -> Holding | None:
        """Return a server's zone, if it handed it over."""
        return self._holdings.get((server, apex))

    def hold(self, server: Server, holding: Holding) -> None:
        """Answers from a holding in a server's place from now on."""
        self._holdings[server, holding.apex] = holding
        self._servers.add(server)

    @property
    def backlog(self) -> int:
        """How many questions are waiting or under way."""
        return self._behind.backlog + len(self._ready)

    def submit(self, question: Question) -> None:
        """Take a question. The SOA is always the server's own to tell: it says which version it has by now."""
        if question.server in self._servers and not question.recurse and question.rdtype != SOA:
            name = question.name
            while True:
                holding = self._holdings.get((question.server, name))
                if holding is not None:
                    answer = holding.answer(question)
                    if answer is None:
                        break
                    self._ready.append(answer)
                    self.spared += 1
                    return
                if name == ROOT:
                    break
                name = name[name[0] + 1 :]
        self._behind.submit(question)

    def collect(self) -> list[Answer]:
        """Return the answers that are ready; waits only when there is none."""
        if self._ready:
            ready, self._ready = self._ready, []
            return ready
        return self._behind.collect()

"""One zone asked for: where it begins, who answers for it with authority, who only should, and what stands at some names.

Strategy: dialogues, a step of the search each. Candidates are asked themselves, whoever named them: the NS set, the primary in
the SOA, the parent's delegation, the command line. Servers that were given are asked about everything; servers that other
servers led to are asked only about the zones that name them, since it is nobody's business which zones we have.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from salt_mirror.checks.common.atlas import Atlas, is_placeholder, soa_record
from salt_mirror.checks.common.delegation import delegation_in, lameness
from salt_mirror.checks.draft.learnt import InVain, bare
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import ROOT, Name, from_text, is_within, parent
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import AAAA, NS, SOA, A, soa_fields
from salt_mirror.dns.special import undelegated

THROUGH_RESOLVERS = "found through a resolver"
_HELPERS = 6
MOST_NAME_SERVERS = 50
"""So many names of servers are looked up for one zone: by then that costs the 2,000 questions which a zone may."""


class Begins(NamedTuple):
    """Where the zone of a name begins, and the servers that said so; no apex, and why, where that could not be learnt.

    `above` are zones further up that other servers named, since they do not have the nearest one.
    """

    name: Name
    apex: Name | None
    hints: tuple[Server, ...] = ()
    trouble: str = ""
    above: tuple[tuple[Name, tuple[Server, ...]], ...] = ()


class Candidate(NamedTuple):
    """A server that may answer for a zone: who says so, its name, the address that is published for it, and whether the zone's
    own servers list it there (or it was given), and not the zone above alone."""

    server: Server
    whence: str
    name: Name | None = None
    published: bytes | None = None
    listed: bool = True


class Answering(NamedTuple):
    """Who answers for a zone: the servers with authority, the others that are named for it with how they do not, and all that
    were asked as candidates.

    `elsewhere` are the name servers that the zone above delegates to where those have nothing in common with the zone's own: it
    is another view that they serve. `unlooked` counts names of servers beyond the bound, which were not looked up.
    """

    apex: Name
    servers: list[Server]
    others: dict[Server, InVain]
    candidates: dict[Server, Candidate]
    elsewhere: tuple[Name, ...] = ()
    unlooked: int = 0


class Claims(NamedTuple):
    """Whether a server says that it is the authority for a name that nobody can have."""

    server: Server
    everything: bool


def claims(server: Server) -> Dialogue[Claims]:
    """Ask a server for a zone below `invalid.` (RFC 6761 section 6.4), under a name that it cannot know."""
    name = from_text(f"{secrets.token_hex(8)}.invalid")
    (answer,) = yield [Question(name, SOA, server)]
    record = soa_record(answer, name) if answer.trouble is None else None
    return Claims(server, record is not None and record.owner == name)


def zone_of(name: Name, ours: Sequence[Server], view: str, atlas: Atlas, *, outside: bool) -> Dialogue[Begins]:
    """Find the zone that a name stands in, by SOA upwards: at our servers, and with `outside` also through resolvers."""
    found: dict[Name, list[Server]] = {}
    asked = name
    while True:
        answers = yield [Question(asked, SOA, server) for server in ours]
        for answer in answers:
            cut = answer.referral
            record = soa_record(answer, asked) if answer.trouble is None else None
            if record is not None and not is_placeholder(record):
                found.setdefault(record.owner, []).append(answer.question.server)
            elif cut is not None:
                found.setdefault(cut, [])
        # At an alias stands no SOA, nor does the answer tell of its own zone: the name above does.
        if found or asked == ROOT or not any(answer.trouble is None and answer.alias is not None for answer in answers):
            break
        asked = parent(asked)
    if found:
        apex = max(found, key=len)
        above = tuple((other, tuple(servers)) for other, servers in found.items() if other != apex)
        return Begins(name, apex, tuple(found[apex]), above=above)
    troubles = "; ".join(dict.fromkeys(f"{one.question.server.label}: {one.trouble}" for one in answers if one.trouble))
    if not outside:
        return Begins(name, None, trouble=troubles)
    authority = yield from atlas.find(name, view)
    if authority.zone is None or not authority.servers or authority.zone == ROOT:
        return Begins(name, None, trouble="; ".join(filter(None, (troubles, authority.trouble or "no zone"))))
    return Begins(name, authority.zone, authority.servers)


def answering(
    apex: Name,
    ours: Iterable[Candidate],
    view: str,
    atlas: Atlas,
    above: Sequence[Server],
    glue: Mapping[Name, set[bytes]],
) -> Dialogue[Answering]:
    """Ask whoever may answer for a zone, and whoever those name, until nobody new is named.

    `above` are servers of the zone above it, whose delegation is asked for; `glue` addresses of name servers that are known.
    """
    search = _Search(apex, view, atlas, ours, glue)
    yield from search.ask()
    yield from search.ask_above(above)
    while search.left:
        yield from search.ask()
        yield from search.resolve(above)
    return search.result()


class _Search:
    """The search for the servers of one zone. What the zone's own servers say of a name server's address stands above glue."""

    def __init__(
        self, apex: Name, view: str, atlas: Atlas, ours: Iterable[Candidate], glue: Mapping[Name, set[bytes]]
    ) -> None:
        self._apex, self._view, self._atlas = apex, view, atlas
        self._candidates = {one.server: one for one in ours}
        self._servers: list[Server] = []
        self._others: dict[Server, str] = {}
        self._named: dict[Name, str] = {}
        self._parents = _Parents({name: f"delegated to in the zone above {bare(apex)}" for name in glue}, dict(glue))
        self._own: dict[Name, set[bytes]] = {}
        self._elsewhere: tuple[Name, ...] = ()
        self._asked: set[Server] = set()
        self._resolved: set[Name] = set()
        self._unlooked: set[Name] = set()
        self._led_to: dict[Server, str] = {}

    @property
    def left(self) -> bool:
        """Whether anybody was named who has not been asked, or whose address is not known."""
        names = {*self._named, *self._parents.named}
        return not names <= self._resolved or any(server not in self._asked for server in self._candidates)

    def ask(self) -> Dialogue[None]:
        """Ask the candidates that were not asked yet, whether they answer for the zone and whom it lists."""
        new = [server for server in self._candidates if server not in self._asked]
        self._asked.update(new)
        answers = yield [Question(self._apex, rdtype, server) for server in new for rdtype in (SOA, NS)]
        for server, soa, ns in zip(new, answers[::2], answers[1::2], strict=True):
            if soa.trouble is None and soa.values:
                self._servers.append(server)
                primary = soa_fields(soa.values[0]).mname
                self._named.update((name, f"in the NS set of {bare(self._apex)}") for name in ns.values)
                self._named.setdefault(primary, f"the primary in the SOA of {bare(self._apex)}")
            else:
                self._others[server] = lameness(soa, self._apex) or soa.trouble or "has no SOA there"
            _take_glue(ns, self._named, self._own)

    def ask_above(self, above: Sequence[Server]) -> Dialogue[None]:
        """Ask for the delegation. One to nobody whom the zone itself lists is another view's, and led nowhere here."""
        yield from _delegated(self._apex, above, self._view, self._atlas, self._parents)
        if self._servers and self._parents.named and not self._parents.named.keys() & self._named.keys():
            self._elsewhere = tuple(self._parents.named)
            self._parents = _Parents({}, {})

    def resolve(self, above: Sequence[Server]) -> Dialogue[None]:
        """Find the addresses of those that were named, who are candidates then."""
        missing = [name for name in {**self._named, **self._parents.named} if name not in self._resolved]
        left = max(0, MOST_NAME_SERVERS - len(self._resolved - self._unlooked))
        self._unlooked.update(missing[left:])
        self._resolved.update(missing)
        missing = missing[:left]
        helpers = list(dict.fromkeys((*self._servers, *above, *self._candidates)))[:_HELPERS]
        glue = self._parents.glue
        yield from together([_addresses(name, helpers, self._view, self._atlas, self._own, glue) for name in missing])
        for name, whence in self._named.items():
            self._add(name, whence, self._own.get(name) or glue.get(name, set()), listed=True)
        for name, whence in self._parents.named.items():
            own = self._own.get(name, set()) if name not in self._named else set()
            self._add(name, whence, glue.get(name, set()) | own, listed=False)

    def _add(self, name: Name, whence: str, addresses: set[bytes], *, listed: bool) -> None:
        for address in filter(self._atlas.reachable, sorted(addresses)):
            server = self._atlas.server_at(name, address)
            self._led_to.setdefault(server, whence)
            known = self._candidates.setdefault(server, Candidate(server, whence, name, address, listed))
            if known.name is None:
                text = whence if known.whence == THROUGH_RESOLVERS else known.whence
                self._candidates[server] = known._replace(whence=text, name=name, published=address)

    def result(self) -> Answering:
        """Return who answers, and who is named in vain."""
        in_vain = {
            server: InVain(whence, self._others[server])
            for server, whence in self._led_to.items()
            if server in self._others
        }
        return Answering(self._apex, self._servers, in_vain, self._candidates, self._elsewhere, len(self._unlooked))


class _Parents(NamedTuple):
    """What the zone above says: the name servers that it delegates to, each with who says so, and their glue."""

    named: dict[Name, str]
    glue: dict[Name, set[bytes]]


def _delegated(apex: Name, above: Sequence[Server], view: str, atlas: Atlas, found: _Parents) -> Dialogue[None]:
    """Ask servers of the zone above for the delegation."""
    parents = tuple(above)
    if not parents and undelegated(apex) is None and apex != ROOT:
        parents = (yield from atlas.find(parent(apex), view)).servers
    for answer in (yield [Question(apex, NS, server) for server in parents]) if parents else ():
        delegation = delegation_in(answer)
        if delegation is not None and delegation.cut == apex:
            for name in delegation.targets:
                found.named.setdefault(name, f"in the delegation of {bare(apex)} by {answer.question.server.label}")
                if is_within(name, apex):
                    found.glue.setdefault(name, set()).update(delegation.glue.get(name, ()))


def _take_glue(answer: Answer, named: Mapping[Name, str], addresses: dict[Name, set[bytes]]) -> None:
    """Addresses of the named servers that came along with an answer with authority."""
    if answer.trouble is None and answer.message:
        for record in answer.sections.additional:
            if record.rdtype in (A, AAAA) and record.owner in named and len(record.rdata) in (4, 16):
                addresses.setdefault(record.owner, set()).add(record.rdata)


def _addresses(
    name: Name,
    helpers: Sequence[Server],
    view: str,
    atlas: Atlas,
    own: dict[Name, set[bytes]],
    glue: Mapping[Name, set[bytes]],
) -> Dialogue[None]:
    """Add the addresses of a name server: from servers that answer for its zone, else through resolvers."""
    answers = yield [Question(name, rdtype, server) for server in helpers for rdtype in (A, AAAA)]
    values = {value for answer in answers if answer.trouble is None for value in answer.values}
    if not values and not own.get(name) and not glue.get(name):
        authority = yield from atlas.find(name, view)
        answers = yield [Question(name, rdtype, server) for server in authority.servers for rdtype in (A, AAAA)]
        values = {value for answer in answers if answer.trouble is None for value in answer.values}
    if values:
        own[name] = {value for value in values if len(value) in (4, 16)}


def sets_at(names: Iterable[tuple[Name, int]], server: Server) -> Dialogue[list[Answer]]:
    """Ask one server for some RRsets."""
    return (yield [Question(name, rdtype, server) for name, rdtype in names])

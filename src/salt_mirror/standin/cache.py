"""A caching resolver that stands in for somebody's: what it keeps, how long, and the ways in which real ones differ.

Strategy: a cache asks authorities in this very process when it has nothing, keeps positive and negative answers (RFC 2308), and
counts their TTLs down by a clock from outside, so that two days are a test's milliseconds. Several members behind one address
are several stores, of which one answers at random.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass

import dns.edns
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset

from salt_mirror.standin.authority import HeldZones, read_zone

_STALE_TTL = 30  # RFC 8767 section 4
_MOST_ALIASES = 8


_EMPTY = HeldZones(
    read_zone("@ 86400 SOA localhost. nobody.invalid. 1 3600 600 86400 10800\n@ NS localhost.\n", zone)
    for zone in (
        "10.in-addr.arpa",
        "168.192.in-addr.arpa",
        "d.f.ip6.arpa",
        *(f"{n}.172.in-addr.arpa" for n in range(16, 32)),
    )
)
"""What resolvers hold for private networks (RFC 6303 section 3)."""


@dataclass(frozen=True, slots=True)
class _Entry:
    """What was fetched, until when it may be given out, and the name that it leads to where it is an alias."""

    response: dns.message.Message
    ends_at: float
    leads_to: dns.name.Name | None


class Cache:
    """A cache, or a pool of them behind one address.

    `most_ttl` and `least_ttl` cap what it keeps (seconds), `stale_s` is how long it gives entries out beyond their end,
    `peeking` whether it answers from its store without recursion (else REFUSED). `empty_zones`: it answers for private networks
    itself (RFC 6303); `made_up` is the address that it gives for names that nobody has. `policy` has an address for a name in
    the place of its records, None to deny it; with `policy_shows` the policy zone's SOA stands beside such an answer. Zones in
    `bogus` do not validate: they are answered only with checking disabled (RFC 4035 section 3.2.2).
    """

    recursive = True

    def __init__(
        self,
        authorities: Sequence[HeldZones],
        clock: Callable[[], float],
        *,
        most_ttl: int | None = None,
        least_ttl: int = 0,
        stale_s: float = 0.0,
        members: int = 1,
        peeking: bool = True,
        empty_zones: bool = True,
        made_up: str = "",
        policy: Mapping[str, str | None] | None = None,
        policy_shows: bool = True,
        bogus: Collection[str] = (),
        rng: random.Random | None = None,
    ) -> None:
        self._authorities = list(authorities)
        self._clock = clock
        self._most_ttl, self._least_ttl, self._stale_s = most_ttl, least_ttl, stale_s
        self._peeking = peeking
        self._empty = _EMPTY if empty_zones else HeldZones([])
        self._made_up = made_up
        self._policy = {dns.name.from_text(name): value for name, value in (policy or {}).items()}
        self._policy_shows = policy_shows
        self._bogus = [dns.name.from_text(apex) for apex in bogus]
        self._rng = rng or random.Random()
        self._stores: list[dict[tuple[dns.name.Name, int], _Entry]] = [{} for _ in range(members)]
        self.fetched = 0

    def respond(self, query: dns.message.Message) -> dns.message.Message:
        """Return the response to a query, from one of the members."""
        response = dns.message.make_response(query, recursion_available=True, our_payload=1232)
        if query.opcode() != 0 or len(query.question) != 1:
            response.set_rcode(dns.rcode.NOTIMP)
            return response
        question = query.question[0]
        store = self._rng.choice(self._stores)
        recursing = bool(query.flags & dns.flags.RD)
        if not recursing and not self._peeking:
            response.set_rcode(dns.rcode.REFUSED)
            return response
        name = question.name
        if name in self._policy:
            return self._by_policy(response, name, question.rdtype)
        if not query.flags & dns.flags.CD and any(name.is_subdomain(apex) for apex in self._bogus):
            response.set_rcode(dns.rcode.SERVFAIL)
            bogus = dns.edns.EDEOption(dns.edns.EDECode.DNSSEC_BOGUS, "no signature")
            response.use_edns(0, payload=1232, options=[bogus])
            return response
        for _ in range(_MOST_ALIASES):
            entry, left = self._entry(store, name, question.rdtype, recursing=recursing)
            if entry is None:
                break
            response.set_rcode(entry.response.rcode())
            for theirs, ours in (
                (entry.response.answer, response.answer),
                (entry.response.authority, response.authority),
            ):
                for rrset in theirs:
                    copied = rrset.copy()  # type: ignore[no-untyped-call]
                    copied.ttl = left
                    ours.append(copied)
            if entry.leads_to is None:
                break
            name = entry.leads_to
        if self._made_up and response.rcode() == dns.rcode.NXDOMAIN and question.rdtype == dns.rdatatype.A:
            response.set_rcode(dns.rcode.NOERROR)
            response.authority.clear()
            response.answer.append(dns.rrset.from_text(question.name, 60, "IN", "A", self._made_up))
        return response

    def _by_policy(
        self, response: dns.message.Message, name: dns.name.Name, rdtype: dns.rdatatype.RdataType
    ) -> dns.message.Message:
        """Return what the policy says, with a TTL that never counts down."""
        address = self._policy[name]
        if address is None:
            response.set_rcode(dns.rcode.NXDOMAIN)
        elif rdtype == dns.rdatatype.A:
            response.answer.append(dns.rrset.from_text(name, 60, "IN", "A", address))
        if self._policy_shows:
            soa = "localhost. nobody.invalid. 1 3600 600 86400 60"
            response.additional.append(dns.rrset.from_text("policy.", 60, "IN", "SOA", soa))
        return response

    def keep(self, name: str, rdtype: str, ages_s: Sequence[float]) -> None:
        """Have the members keep a record as if they had fetched it so many seconds ago."""
        for store, age_s in zip(self._stores, ages_s, strict=False):
            question = dns.message.make_query(name, rdtype).question[0]
            store[question.name, int(question.rdtype)] = self._fetch(
                question.name, question.rdtype, self._clock() - age_s
            )

    def _entry(
        self, store: dict[tuple[dns.name.Name, int], _Entry], name: dns.name.Name, rdtype: int, *, recursing: bool
    ) -> tuple[_Entry | None, int]:
        """Return one link: what is kept of a name, or fetched, and what is left of its TTL in seconds."""
        now = self._clock()
        entry = store.get((name, int(rdtype)))
        stale = entry is not None and entry.ends_at <= now < entry.ends_at + self._stale_s
        if entry is None or (entry.ends_at <= now and not stale):
            if not recursing:
                return None, 0
            entry = store[name, int(rdtype)] = self._fetch(name, dns.rdatatype.RdataType.make(rdtype), now)
        return entry, _STALE_TTL if stale else max(0, int(entry.ends_at - now))

    def _fetch(self, name: dns.name.Name, rdtype: dns.rdatatype.RdataType, now: float) -> _Entry:
        """Return the name's own link, as its authorities give it: each is kept for its own TTL (RFC 1034 section 3.6.2)."""
        self.fetched += 1
        query = dns.message.make_query(name, rdtype)
        shuffled = self._rng.sample(self._authorities, len(self._authorities))
        nearest = sorted(shuffled, key=lambda one: _depth(one, name), reverse=True)
        for authority in (self._empty, *nearest):
            response = authority.respond(query)
            if response.flags & dns.flags.AA:
                break
        else:
            response = dns.message.make_response(query)
            response.set_rcode(dns.rcode.SERVFAIL)
            return _Entry(response, now, None)
        first = response.answer[0] if response.answer else None
        leads_to = None
        if first is not None and first.rdtype == dns.rdatatype.CNAME and rdtype != dns.rdatatype.CNAME:
            leads_to = first[0].target
            response.answer, response.authority = [first], []
            response.set_rcode(dns.rcode.NOERROR)
        ttls = [rrset.ttl for rrset in (response.answer or response.authority)]
        ttl = max(self._least_ttl, min(ttls, default=0))
        if self._most_ttl is not None:
            ttl = min(ttl, self._most_ttl)
        return _Entry(response, now + ttl, leads_to)


def _depth(authority: HeldZones, name: dns.name.Name) -> int:
    """Return how many labels the nearest zone around a name has that a server holds; 0 for none."""
    return max((len(origin) for origin in authority.zones if name.is_subdomain(origin)), default=0)

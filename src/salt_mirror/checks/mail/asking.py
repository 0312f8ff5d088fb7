"""Mail exchangers, followed down to addresses that a sender can connect to.

Strategy: one dialogue a domain. The MX set comes from every authoritative server, and from the resolvers that were named,
so that a change can be told from a delay; each exchanger is then looked at as a host, with its pointers. What a sender would do
follows from the preferences alone (RFC 5321 section 5.1), and so does what is left when a pool is lost.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import groupby
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.common.hosts import Host, look_at
from salt_mirror.checks.common.lookup import Lookup, at_name, lookup
from salt_mirror.checks.pairs.case import Pair
from salt_mirror.checks.pairs.judging import pair_name
from salt_mirror.checks.rollcall.judging import call
from salt_mirror.dns.dialogue import Dialogue, put, together
from salt_mirror.dns.names import ROOT, Name, from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import ADDRESS_TYPES, MX, SOA
from salt_mirror.findings import Finding


@dataclass(slots=True)
class Exchanger:
    """A mail exchanger: its preference (the lowest is tried first), its host, and its addresses with their PTR records."""

    preference: int
    host: Host
    pairs: list[Pair]


@dataclass(slots=True)
class MailSeen:
    """All that was seen of a domain's mail. `own` is what the domain's name has itself, for a domain without MX; `web` what
    `www` below it has; `apex` the zone that the domain stands in, with that zone's own MX in `apex_mx`."""

    domain: Name
    view: str
    found: Lookup
    cached: list[Answer] = field(default_factory=list)
    exchangers: list[Exchanger] = field(default_factory=list)
    own: Lookup | None = None
    web: Lookup | None = None
    apex: Name | None = None
    apex_mx: tuple[bytes, ...] = ()
    expected: list[Finding] = field(default_factory=list)
    wanted: bool = False

    @property
    def null(self) -> bool:
        """Whether one of the exchangers is the root: the domain takes no mail (RFC 7505)."""
        return any(target_of(value) == ROOT for value in self.found.values)

    @property
    def pools(self) -> list[list[Exchanger]]:
        """The exchangers in the order in which a sender tries them; those of one preference in one pool."""
        order = sorted(self.exchangers, key=lambda one: one.preference)
        return [list(pool) for _, pool in groupby(order, key=lambda one: one.preference)]


def target_of(rdata: bytes) -> Name:
    """Return the exchanger of an MX record."""
    return rdata[2:]


def _look_at_exchanger(name: Name, view: str, atlas: Atlas) -> Dialogue[tuple[Host, list[Pair]]]:
    """Find a host's addresses, and judge the PTR record of each: many receivers refuse mail from a host without one."""
    host = yield from look_at(name, view, atlas)
    return host, (yield from pair_name(name, view, atlas, {})) if host.usable else []


def inspect_mail(
    domain: Name,
    view: str,
    atlas: Atlas,
    caches: Sequence[Server],
    expected: ExpectedSet | None,
    stranger: bytes,
) -> Dialogue[MailSeen]:
    """Ask all there is to ask about a domain's mail in one view; `stranger` is a label that nobody has registered."""
    steps: list[Dialogue[Any]] = [
        lookup(domain, (MX,), view, atlas),
        put([Question(domain, MX, cache, True) for cache in caches]),
        lookup(domain, ADDRESS_TYPES, view, atlas),
        at_name(domain, (SOA,), view, atlas),
    ]
    if len(domain) + 4 <= 255:
        steps.append(lookup(from_text("www", domain), ADDRESS_TYPES, view, atlas))
    if expected is not None:
        steps.append(call(expected, atlas, stranger, ()))
    done = yield from together(steps)
    found, cached, own, soa = done[:4]
    seen = MailSeen(domain, view, found, cached, own=own)
    if len(domain) + 4 <= 255:
        seen.web = done[4]
    if expected is not None:
        seen.expected = done[-1].findings
        seen.wanted = bool(expected.values)
    is_apex = any(telling.values for telling in soa.usable)
    seen.apex = domain if is_apex else found.authority.zone
    targets = sorted({target_of(value) for value in found.values if target_of(value) != ROOT})
    more: list[Dialogue[Any]] = [_look_at_exchanger(target, view, atlas) for target in targets]
    if not is_apex and seen.apex is not None:
        more.append(at_name(seen.apex, (MX,), view, atlas))
    looked = yield from together(more)
    hosts = dict(zip(targets, looked, strict=False))
    seen.exchangers = [
        Exchanger(int.from_bytes(value[:2], "big"), *hosts[target_of(value)])
        for value in found.values
        if target_of(value) != ROOT
    ]
    if len(looked) > len(targets):
        seen.apex_mx = looked[-1].values
    return seen

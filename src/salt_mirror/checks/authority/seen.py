"""All that was seen of a zone's authority: its servers with what each said, the parent's word, how contents compare.

Strategy: plain data with what follows from it at once: who serves the zone, whose version counts, who keeps an old copy.
Nothing is judged here.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from salt_mirror.checks.common.delegation import Delegation, lameness
from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.replicas import Replicas
from salt_mirror.checks.signed.asking import SignedSeen
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import Soa, soa_fields
from salt_mirror.dns.serials import newest


@dataclass(slots=True)
class Place:
    """One server at one place, with what it said: its SOA over UDP and TCP, its NS set, a transfer asked for by anyone,
    and perhaps what it says to an unsigned change; its DNSKEY set, where servers have several versions.

    `own_primary`: it is the very server that its SOA names as the primary.
    """

    server: Server
    names: dict[Name, None] = field(default_factory=dict)
    addresses: dict[bytes, None] = field(default_factory=dict)
    listed: dict[str, None] = field(default_factory=dict)
    soa: Answer | None = None
    tcp: Answer | None = None
    ns: Answer | None = None
    transfer: Answer | None = None
    update: Answer | None = None
    keys: Answer | None = None
    own_primary: bool = False

    @property
    def signed(self) -> bool:
        """Whether its copy is a signer's: it has keys at the apex (RFC 4034 section 2)."""
        return self.keys is not None and bool(self.keys.values)

    @property
    def version(self) -> Soa | None:
        """The SOA that it holds with authority, over whichever transport told it."""
        for answer in (self.soa, self.tcp):
            if answer is not None and answer.trouble is None and answer.values:
                return soa_fields(answer.values[0])
        return None

    @property
    def spoken(self) -> Answer | None:
        """The answer that tells most: the one over UDP, unless only TCP brought one."""
        if self.soa is not None and self.soa.trouble is not None and self.tcp is not None and self.tcp.trouble is None:
            return self.tcp
        return self.soa

    def lame(self, zone: Name) -> str | None:
        """Return how it is not authoritative although it answers; None when it is, or does not answer."""
        answer = self.spoken
        if answer is None or self.version is not None:
            return None
        if answer.trouble is None:
            return "answers with authority, and has no SOA for it"
        return lameness(answer, zone)


@dataclass(slots=True)
class Parentage:
    """What the zone above says. `none` says why there is no such zone to ask, `trouble` why it gave no usable answer.

    `shared`: the parent's servers serve the zone too, so that they answer with its own NS set and hide the delegation.
    """

    zone: Name | None = None
    answers: list[Answer] = field(default_factory=list)
    delegations: dict[Server, Delegation] = field(default_factory=dict)
    none: str = ""
    trouble: str = ""
    shared: bool = False
    denied: bool = False

    @property
    def targets(self) -> tuple[Name, ...]:
        """Every name server that any of the parent's servers gives."""
        return tuple(sorted({target for one in self.delegations.values() for target in one.targets}))

    def glue(self, target: Name) -> tuple[bytes, ...]:
        """Return every address that any of them gives along."""
        return tuple(sorted({a for one in self.delegations.values() for a in one.glue.get(target, ())}))


@dataclass(slots=True)
class Compared:
    """How the content of servers with one version was compared: in words, and the RRsets in which they differ.

    `unlike` holds for each RRset the answers that were compared; empty ones where whole zones were.
    """

    words: str = ""
    unlike: dict[tuple[Name, int], list[Answer]] = field(default_factory=dict)
    servers: list[Place] = field(default_factory=list)


@dataclass(slots=True)
class Seen:
    """All that was seen of a zone in one view. `belongs` is the zone that the name stands in, when it is no zone itself;
    `across` is how a signer's copies compare with those that it signs, where both are served; `beyond` the servers' addresses
    that are not asked from here; `primary` the one that the estate says is it; `replicas` are the servers that replicate
    the zone among each other, if any do; `signed` is what was seen of its signatures."""

    zone: Name
    view: str
    found: Lookup
    belongs: Name | None = None
    exists: bool = True
    parentage: Parentage = field(default_factory=Parentage)
    places: list[Place] = field(default_factory=list)
    lookups: dict[Name, Lookup] = field(default_factory=dict)
    listed: tuple[Server, ...] = ()
    elsewhere: bool = False
    compared: Compared = field(default_factory=Compared)
    across: Compared = field(default_factory=Compared)
    beyond: dict[bytes, None] = field(default_factory=dict)
    primary: Server | None = None
    replicas: Replicas | None = None
    signed: SignedSeen | None = None

    @property
    def own_targets(self) -> tuple[Name, ...]:
        """Every name server in the zone's own NS set, as the servers give it whose version counts."""
        return tuple(sorted({value for place in self.measure or self.places for value in own_set(place)}))

    @property
    def serving(self) -> list[Place]:
        """The servers that hold the zone with authority."""
        return [place for place in self.places if place.version is not None]

    @property
    def primaries(self) -> list[Place]:
        """The domain controllers that have a copy, where a directory tells them; else the servers that each name themselves
        as the primary and know of one another, as controllers do; none where fewer than two do. One that nobody else lists
        any more is
        no primary but an old copy."""
        if self.replicas is not None and self.replicas.kept is not None:
            return [place for place in self.serving if place.server in self.replicas.hosts]
        own = [place for place in self.serving if place.own_primary]
        listed = [place for place in own if "estate" in place.listed]
        if len({place.version.mname for place in listed if place.version is not None}) > 1:
            return listed
        known = [one for one in own if all(one is other or set(one.names) & set(own_set(other)) for other in own)]
        return known if len({place.version.mname for place in known if place.version is not None}) > 1 else []

    @property
    def several_primaries(self) -> bool:
        """Whether several servers name themselves as the primary."""
        return bool(self.primaries)

    @property
    def has_secondaries(self) -> bool:
        """Whether any server has to follow another one by transfer."""
        if self.several_primaries:
            return len(self.serving) > len(self.primaries)
        return len(self.places) > 1 or len(self.own_targets) > 1

    @property
    def reference(self) -> tuple[Place | None, int | None]:
        """The server whose version counts, and its serial: the primary, if it is among the servers, else the newest of them.

        The estate says which is the primary. Where it does not, the name in the SOA is only a claim (a hidden primary's SOA
        names a public server): it counts where no other server is ahead. The estate's own servers come before any others.
        No order: no serial.
        """
        return self.reference_of(self.leading)

    @property
    def leading(self) -> list[Place]:
        """The servers of the lineage that resolvers get: where a signer makes a signed one of an unsigned one, the signed. It
        raises the serial by itself, so that versions have an order within a lineage only."""
        signed = [place for place in self.serving if place.signed]
        return signed or self.serving

    @property
    def unsigned(self) -> list[Place]:
        """The servers with the copies that a signer signs; none where all copies are of one lineage."""
        signed = [place for place in self.serving if place.signed]
        return [place for place in self.serving if not place.signed] if signed else []

    def reference_of(self, serving: list[Place]) -> tuple[Place | None, int | None]:
        """Return the same for the servers of one lineage."""
        declared = next((place for place in serving if place.server == self.primary), None)
        if declared is not None and declared.version is not None:
            return declared, declared.version.serial
        known = [place for place in serving if "estate" in place.listed] or serving
        serial = newest([place.version.serial for place in known if place.version is not None])
        claiming = (place for place in known if place.own_primary)
        primary = next((one for one in claiming if one.version is not None and one.version.serial == serial), None)
        return primary, serial

    @property
    def measure(self) -> list[Place]:
        """The servers whose version counts: every primary of several, else those with the serial of the reference."""
        if self.several_primaries:
            return self.primaries
        _, serial = self.reference
        return [
            place
            for place in self.leading
            if serial is None or (place.version is not None and place.version.serial == serial)
        ]

    @property
    def old_copies(self) -> list[Place]:
        """The servers that hold the zone although nobody lists them any more but the parent, or their own old version."""
        own, measure = set(self.own_targets), self.measure
        return [
            place
            for place in self.serving
            if place not in measure and "estate" not in place.listed and place.names and not own & set(place.names)
        ]


def own_set(place: Place) -> tuple[bytes, ...]:
    """Return the NS set as a server of the zone tells it."""
    return place.ns.values if place.ns is not None and place.ns.trouble is None else ()

"""From a directory's objects to what an estate wants to know of it (MS-ADTS section 6.1, MS-DNSP section 2.3).

Strategy: it asks a session for objects and reads them, and knows neither a library nor a socket; so a test hands it objects.
What an object lacks, or has in a form that it should not, is passed over and told, since whoever may write to a directory may
write anything.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import NamedTuple, Protocol

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text
from salt_mirror.estate.directory.found import (
    DirectoryFailed,
    FoundController,
    FoundDirectory,
    FoundNetwork,
    FoundRecord,
    FoundZone,
)
from salt_mirror.estate.directory.layout import (
    AGING,
    NO_REFRESH,
    REFRESH,
    SECURE_ALONE,
    TOMBSTONE,
    UPDATES,
    ZONE_DATA,
    BadLayout,
    read_property,
    read_record,
)
from salt_mirror.estate.file import Role
from salt_mirror.estate.forms import parse_network


class Entry(NamedTuple):
    """An object: its distinguished name, and the values of its attributes by their names in lower case."""

    dn: str
    values: Mapping[str, Sequence[bytes | str]]

    def text(self, attribute: str) -> str:
        """The first value of an attribute as text; empty where there is none."""
        return next(iter(self.texts(attribute)), "")

    def texts(self, attribute: str) -> list[str]:
        """The values of an attribute as texts."""
        return [
            one.decode("utf-8", "replace") if isinstance(one, bytes) else one for one in self.values.get(attribute, ())
        ]

    def raw(self, attribute: str) -> list[bytes]:
        """The values of an attribute as bytes."""
        return [one for one in self.values.get(attribute, ()) if isinstance(one, bytes)]

    def guid(self, attribute: str) -> str:
        """An identifier, which stands there with its first parts little-endian; empty where there is none."""
        value = next(iter(self.raw(attribute)), b"")
        return str(uuid.UUID(bytes_le=value)) if len(value) == 16 else ""


class Session(Protocol):
    """Whatever fetches objects: a connection, or a test's table. Raises DirectoryFailed."""

    def root(self) -> Entry:
        """The server's own object, with its naming contexts."""

    def search(self, base: str, wanted: str, attributes: Sequence[str], *, below: bool = False) -> Iterator[Entry]:
        """The objects that fit a filter: in the whole tree from a base on, or right below it alone. Nothing where there is no
        base."""


MOST_GONE = 1000
"""So many names that are tombstones are kept by name."""
_CATALOGUE = 1
_PARTS = re.compile(r"(?:[^,\\]|\\.)+")
_ESCAPE = re.compile(r"((?:\\[0-9A-Fa-f]{2})+)|\\(.)")
_NO_ZONES = re.compile(r"rootdnsservers\Z|\.\.")


def rdns(dn: str) -> list[tuple[str, str]]:
    """The parts of a distinguished name from the object upwards (RFC 4514): attribute in upper case, and value."""
    found = []
    for part in _PARTS.findall(dn):
        attribute, _, value = part.strip().partition("=")
        found.append((attribute.upper(), _ESCAPE.sub(_unescaped, value)))
    return found


def _unescaped(match: re.Match[str]) -> str:
    return bytes.fromhex(match[1].replace("\\", "")).decode("utf-8", "replace") if match[1] else match[2]


def domain_of(dn: str) -> str:
    """The DNS name of a domain by its distinguished name (RFC 2247)."""
    return ".".join(value for attribute, value in rdns(dn) if attribute == "DC").lower()


def learn(session: Session, now: datetime | None = None) -> FoundDirectory:
    """Everything that is told of a directory; `now` is the moment by our clock. Raises DirectoryFailed."""
    root = session.root()
    clock_s = _ahead_s(root.text("currenttime"), now or datetime.now(UTC))
    domain_dn, forest_dn = root.text("defaultnamingcontext"), root.text("rootdomainnamingcontext")
    settings_dn = root.text("configurationnamingcontext")
    if not domain_dn or not settings_dn:
        raise DirectoryFailed("it tells no domain and no configuration: is it a directory of a domain?")
    domain, forest = domain_of(domain_dn), domain_of(forest_dn or domain_dn)
    head = next(iter(session.search(domain_dn, "(objectClass=domain)", ["objectGUID", "fSMORoleOwner"])), None)
    partitions = _partitions(session, settings_dn, domain, forest)
    controllers = _controllers(session, settings_dn, domain_dn, head.text("fsmoroleowner") if head else "", partitions)
    places = [
        (name, dn, hosts) for name, (dn, holders) in partitions.items() if (hosts := _hosts(controllers, holders))
    ]
    places.append(
        ("the domain's own partition", f"CN=MicrosoftDNS,CN=System,{domain_dn}", list(_hosts(controllers, None)))
    )
    sites_dn = f"CN=Sites,{settings_dn}"
    zones: dict[Name, FoundZone] = {}
    remarks: list[str] = []
    for name, dn, hosts in places:
        for zone in _zones(session, dn, name, hosts, remarks):
            zones.setdefault(zone.apex, zone)
    return FoundDirectory(
        domain=domain,
        forest=forest,
        guid=head.guid("objectguid") if head else "",
        sites=sorted(filter(None, (one.text("cn") for one in session.search(sites_dn, "(objectClass=site)", ["cn"])))),
        controllers=[one.found for one in controllers if one.found is not None],
        networks=list(_networks(session, sites_dn, remarks)),
        zones=list(zones.values()),
        remarks=remarks,
        clock_s=clock_s,
    )


def _ahead_s(said: str, now: datetime) -> float | None:
    """How many seconds a directory's clock is ahead of ours; it tells the time as digits in UTC (RFC 4517 section 3.3.13)."""
    digits = re.sub(r"\D", "", said)[:14]
    try:
        theirs = datetime.strptime(digits, "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None
    return round((theirs - now).total_seconds(), 1)


class _Controller(NamedTuple):
    """A controller by its settings object, with what is found of it; None for one of another domain."""

    dn: str
    host: str
    found: FoundController | None


def _hosts(controllers: Iterable[_Controller], holders: Iterable[str] | None) -> list[str]:
    """The hosts of the controllers that hold a partition; with None all those of the domain."""
    if holders is None:
        return [one.host for one in controllers if one.found is not None]
    wanted = set(holders)
    return [one.host for one in controllers if one.dn in wanted]


def _partitions(session: Session, settings_dn: str, domain: str, forest: str) -> dict[str, tuple[str, list[str]]]:
    """The partitions with zones: by name the distinguished name and the settings objects of the controllers that hold it."""
    found = {}
    names = {f"domaindnszones.{domain}": "DomainDnsZones", f"forestdnszones.{forest}": "ForestDnsZones"}
    attributes = ["dnsRoot", "nCName", "msDS-NC-Replica-Locations", "msDS-NC-RO-Replica-Locations"]
    for one in session.search(f"CN=Partitions,{settings_dn}", "(objectClass=crossRef)", attributes):
        name = names.get(one.text("dnsroot").lower())
        if name is not None and one.text("ncname"):
            holders = [*one.texts("msds-nc-replica-locations"), *one.texts("msds-nc-ro-replica-locations")]
            found[name] = one.text("ncname"), [dn.lower() for dn in holders]
    return found


def _controllers(
    session: Session, settings_dn: str, domain_dn: str, primary: str, partitions: Mapping[str, tuple[str, list[str]]]
) -> list[_Controller]:
    sites = f"CN=Sites,{settings_dn}"
    hosts = {
        one.dn.lower(): one.text("dnshostname").lower().rstrip(".")
        for one in session.search(sites, "(objectClass=server)", ["dNSHostName"])
    }
    holders = {dn for _, dns in partitions.values() for dn in dns}
    held = ["hasMasterNCs", "msDS-hasMasterNCs", "msDS-hasFullReplicaNCs"]
    found = []
    wanted = "(|(objectClass=nTDSDSA)(objectClass=nTDSDSARO))"
    for one in session.search(sites, wanted, ["objectGUID", "options", "msDS-isRODC", "objectClass", *held]):
        dn = one.dn.lower()
        host = hosts.get(dn.partition(",")[2], "")
        if not host:
            continue  # what is left of a controller that is gone has a settings object and no host
        contexts = {context.lower() for attribute in held for context in one.texts(attribute.lower())}
        ours = domain_dn.lower() in contexts
        kept = FoundController(
            host=host, site=_site_in(one.dn), roles=_roles(one, dn == primary.lower()), guid=one.guid("objectguid"),
            holds_zones=dn in holders,
        )  # fmt: skip
        found.append(_Controller(dn, host, kept if ours else None))
    return sorted(found, key=lambda one: one.host)


def _site_in(dn: str) -> str:
    """The site of a settings object: `CN=NTDS Settings,CN=HOST,CN=Servers,CN=SITE,…`."""
    parts = rdns(dn)
    return parts[3][1] if len(parts) > 3 else ""


def _roles(one: Entry, primary: bool) -> list[Role]:
    options = one.text("options")
    read_only = one.text("msds-isrodc").upper() == "TRUE" or "ntdsdsaro" in map(str.lower, one.texts("objectclass"))
    found: list[Role] = ["primary"] if primary else []
    if options.isdigit() and int(options) & _CATALOGUE:
        found.append("catalogue")
    return [*found, "read-only"] if read_only else found


def _networks(session: Session, sites_dn: str, remarks: list[str]) -> Iterator[FoundNetwork]:
    for one in session.search(sites_dn, "(objectClass=subnet)", ["cn", "siteObject"]):
        site = rdns(one.text("siteobject"))
        try:
            network = parse_network(one.text("cn"))
        except Unusable:
            network = None
        if network is None:
            remarks.append(f"the directory has a subnet that is no network: {one.text('cn')[:60]!r}")
        else:
            yield FoundNetwork(network=str(network), site=site[0][1] if site else "")


def _zones(session: Session, base: str, partition: str, hosts: list[str], remarks: list[str]) -> Iterator[FoundZone]:
    for one in list(session.search(base, "(objectClass=dnsZone)", ["name", "dNSProperty"])):
        name = one.text("name") or rdns(one.dn)[0][1]
        if _NO_ZONES.match(name.lower()):
            continue
        try:
            apex = from_text(name)
        except Unusable:
            remarks.append(f"the directory has a zone whose name is none: {name[:60]!r}")
            continue
        properties: dict[int, int] = {}
        for raw in one.raw("dnsproperty"):
            try:
                said = read_property(raw)
            except BadLayout:
                continue
            if said is not None:
                properties[said.number] = said.value
        records, gone, unread = _records(session, one.dn, apex)
        yield FoundZone(
            apex=apex, partition=partition, hosts=hosts, records=records, tombstones=len(gone),
            gone=gone[:MOST_GONE], unread=unread,
            aging=bool(properties[AGING]) if AGING in properties else None, no_refresh_h=properties.get(NO_REFRESH),
            refresh_h=properties.get(REFRESH),
            secure_updates=properties[UPDATES] == SECURE_ALONE if UPDATES in properties else None,
        )  # fmt: skip


def _records(session: Session, zone_dn: str, apex: Name) -> tuple[list[FoundRecord], list[Name], int]:
    """What a zone itself holds, the names that are tombstones in it, and the number of records that cannot be read."""
    found: list[FoundRecord] = []
    gone: list[Name] = []
    unread = 0
    for one in session.search(zone_dn, "(objectClass=dnsNode)", ["name", "dnsRecord", "dNSTombstoned"], below=True):
        label = one.text("name")
        try:
            owner = apex if label == "@" else from_text(label, apex)
        except Unusable:
            unread += 1
            continue
        dead = one.text("dnstombstoned").upper() == "TRUE"
        gone += [owner] if dead else []
        for raw in one.raw("dnsrecord") if not dead else ():
            try:
                kept = read_record(raw)
            except BadLayout:
                unread += 1
                continue
            if kept.rank == ZONE_DATA and kept.rdtype != TOMBSTONE:
                if kept.rdata is None:
                    unread += 1
                else:
                    found.append(FoundRecord(owner, kept.rdtype, kept.ttl, kept.rdata, kept.age_h))
    return found, gone, unread

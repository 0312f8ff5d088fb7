"""From a directory's objects to what an estate wants to know of it (MS-ADTS section 6.1).

Strategy: it asks a session for objects and reads them; what an object lacks, or has in a form that it should not, is passed
over and told, since whoever may write to a directory may write anything.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name
from salt_mirror.estate.directory.found import (
    DirectoryFailed,
    FoundController,
    FoundDirectory,
    FoundLost,
    FoundNetwork,
    FoundZone,
)
from salt_mirror.estate.directory.objects import CONFLICT, Entry, Session, ahead_s, rdns
from salt_mirror.estate.directory.zones import zones_in
from salt_mirror.estate.file import Role
from salt_mirror.estate.forms import parse_network

_CATALOGUE = 1


def domain_of(dn: str) -> str:
    """Return the DNS name of a domain by its distinguished name (RFC 2247)."""
    return ".".join(value for attribute, value in rdns(dn) if attribute == "DC").lower()


def learn(session: Session, now: datetime | None = None, *, records: bool = True) -> FoundDirectory:
    """Return everything that is told of a directory, without `records` no record of its zones; `now` is the moment by our
    clock. Raises DirectoryFailed."""
    root = session.root()
    clock_s = ahead_s(root.text("currenttime"), now or datetime.now(UTC))
    domain_dn, forest_dn = root.text("defaultnamingcontext"), root.text("rootdomainnamingcontext")
    settings_dn = root.text("configurationnamingcontext")
    if not domain_dn or not settings_dn:
        raise DirectoryFailed("it has no domain and no configuration: is it a directory of a domain?")
    domain, forest = domain_of(domain_dn), domain_of(forest_dn or domain_dn)
    head = next(iter(session.search(domain_dn, "(objectClass=domain)", ["objectGUID", "fSMORoleOwner"])), None)
    partitions = _partitions(session, settings_dn, domain, forest)
    lost: list[FoundLost] = []
    primary = head.text("fsmoroleowner") if head else ""
    controllers = _controllers(session, settings_dn, domain_dn, primary, partitions, lost)
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
        for zone in zones_in(session, dn, name, hosts, remarks, lost, records=records):
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
        lost=lost,
    )


class _Controller(NamedTuple):
    """A controller by its settings object, with what is found of it; None for one of another domain."""

    dn: str
    host: str
    found: FoundController | None


def _hosts(controllers: Iterable[_Controller], holders: Iterable[str] | None) -> list[str]:
    """Return the hosts of the controllers that hold a partition; with None all those of the domain."""
    if holders is None:
        return [one.host for one in controllers if one.found is not None]
    wanted = set(holders)
    return [one.host for one in controllers if one.dn in wanted]


def _partitions(session: Session, settings_dn: str, domain: str, forest: str) -> dict[str, tuple[str, list[str]]]:
    """Return the partitions with zones: by name the distinguished name and the settings objects of the controllers that hold
    it."""
    found = {}
    names = {f"domaindnszones.{domain}": "DomainDnsZones", f"forestdnszones.{forest}": "ForestDnsZones"}
    attributes = ["dnsRoot", "nCName", "msDS-NC-Replica-Locations", "msDS-NC-RO-Replica-Locations"]
    for entry in session.search(f"CN=Partitions,{settings_dn}", "(objectClass=crossRef)", attributes):
        name = names.get(entry.text("dnsroot").lower())
        if name is not None and entry.text("ncname"):
            holders = [*entry.texts("msds-nc-replica-locations"), *entry.texts("msds-nc-ro-replica-locations")]
            found[name] = entry.text("ncname"), [dn.lower() for dn in holders]
    return found


def _controllers(
    session: Session,
    settings_dn: str,
    domain_dn: str,
    primary: str,
    partitions: Mapping[str, tuple[str, list[str]]],
    lost: list[FoundLost],
) -> list[_Controller]:
    sites = f"CN=Sites,{settings_dn}"
    hosts = {}
    for entry in session.search(sites, "(objectClass=server)", ["dNSHostName"]):
        twin = CONFLICT.match(rdns(entry.dn)[0][1])
        if twin is None:
            hosts[entry.dn.lower()] = entry.text("dnshostname").lower().rstrip(".")
        else:
            lost.append(FoundLost(name=twin[1], place="the domain controllers", why="conflict"))
    holders = {dn for _, dns in partitions.values() for dn in dns}
    held = ["hasMasterNCs", "msDS-hasMasterNCs", "msDS-hasFullReplicaNCs"]
    found = []
    wanted = "(|(objectClass=nTDSDSA)(objectClass=nTDSDSARO))"
    for entry in session.search(sites, wanted, ["objectGUID", "options", "msDS-isRODC", "objectClass", *held]):
        dn = entry.dn.lower()
        host = hosts.get(dn.partition(",")[2], "")
        if not host:
            continue  # what is left of a controller that is gone has a settings object and no host
        contexts = {context.lower() for attribute in held for context in entry.texts(attribute.lower())}
        ours = domain_dn.lower() in contexts
        controller = FoundController(
            host=host, site=_site_in(entry.dn), roles=_roles(entry, dn == primary.lower()), guid=entry.guid("objectguid"),
            holds_zones=dn in holders,
        )  # fmt: skip
        found.append(_Controller(dn, host, controller if ours else None))
    return sorted(found, key=lambda one: one.host)


def _site_in(dn: str) -> str:
    """Return the site of a settings object: `CN=NTDS Settings,CN=HOST,CN=Servers,CN=SITE,…`."""
    parts = rdns(dn)
    return parts[3][1] if len(parts) > 3 else ""


def _roles(entry: Entry, primary: bool) -> list[Role]:
    options = entry.text("options")
    read_only = entry.text("msds-isrodc").upper() == "TRUE" or "ntdsdsaro" in map(str.lower, entry.texts("objectclass"))
    found: list[Role] = ["pdc-emulator"] if primary else []
    if options.isdigit() and int(options) & _CATALOGUE:
        found.append("global-catalog")
    return [*found, "rodc"] if read_only else found


def _networks(session: Session, sites_dn: str, remarks: list[str]) -> Iterator[FoundNetwork]:
    for entry in session.search(sites_dn, "(objectClass=subnet)", ["cn", "siteObject"]):
        site = rdns(entry.text("siteobject"))
        try:
            network = parse_network(entry.text("cn"))
        except Unusable:
            network = None
        if network is None:
            remarks.append(f"the directory has a subnet that is no network: {entry.text('cn')[:60]!r}")
        else:
            yield FoundNetwork(network=str(network), site=site[0][1] if site else "")

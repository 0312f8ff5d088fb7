"""A directory domain: which records its controllers must have registered, and what stands there instead.

Strategy: the expected set is generated from the locator table for each controller; every distinct name is asked for once, on
all servers, and the judgement is made for each controller, record and server. Priorities and weights are the administrator's
business, so a record counts by its target and port. Where no controllers are declared, those that the domain's own records
lead to are taken, and that is said.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.delegation import delegation_in
from salt_mirror.checks.common.directories import (
    CATALOGUE,
    PRIMARY,
    Controller,
    Directory,
    WantedLocator,
    all_wanted,
    name_of,
)
from salt_mirror.checks.common.expected import Expects
from salt_mirror.checks.common.hosts import Host, look_at
from salt_mirror.checks.common.locators import LOCATORS, Locator
from salt_mirror.checks.common.lookup import Lookup, Telling, at_name, lookup
from salt_mirror.checks.common.part import Holdings, no_holding
from salt_mirror.checks.common.standing import Standing, standing_of
from salt_mirror.checks.services.srv import target_in
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import ROOT, Name, from_text, parent
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import CNAME, NS, PTR, SRV
from salt_mirror.dns.reverse import reverse_name


@dataclass(slots=True)
class DirectorySeen:
    """All that was seen of a directory. `declared`: its controllers were named, not found; `owners` tell which names the
    PTR records of strange addresses lead to; `name_servers` are the NS sets of the domain and of `_msdcs`, `delegated` the
    name servers to which the zone above delegates `_msdcs`, with who told it; `aliases` the
    identifiers that lead to each host, as far as zones are in hand; `standings` whose word counts where servers differ."""

    directory: Directory
    declared: bool
    expects: Expects
    found: dict[tuple[Name, str], Lookup] = field(default_factory=dict)
    hosts: dict[Name, Host] = field(default_factory=dict)
    strangers: dict[Name, Host] = field(default_factory=dict)
    owners: dict[bytes, Lookup] = field(default_factory=dict)
    standings: dict[Name, Standing] = field(default_factory=dict)
    name_servers: dict[Name, Lookup] = field(default_factory=dict)
    delegated: dict[Name, str] = field(default_factory=dict)
    aliases: dict[Name, list[Name]] = field(default_factory=dict)

    def at(self, wanted: WantedLocator) -> Lookup:
        """Return what was found at a wanted name."""
        return self.found[wanted.name, wanted.row.kind]

    def controllers_of(self, site: str) -> list[Controller]:
        """Return the controllers that stand in a site."""
        return [one for one in self.directory.controllers if one.site.lower() == site.lower()]

    def of_kind(self, kind: str) -> list[Lookup]:
        """Return what was found at every name that was asked for records of a kind."""
        return [found for (_, one), found in self.found.items() if one == kind]

    def hosts_at(self, row: Locator, site: str = "") -> set[Name]:
        """Return the hosts that any server gives at a row of SRV records."""
        name = name_of(row.pattern, self.directory, site)
        looked_up = self.found.get((name, "SRV")) if name is not None else None
        return _hosts(looked_up) if looked_up is not None else set()

    def targets(self) -> Iterator[tuple[Name, Name]]:
        """Return every name with SRV records, with every target that any server gives there and that is this domain's to judge:
        in names of the whole forest, controllers of its other domains stand too."""
        wide = self.forest_wide
        for (name, kind), looked_up in self.found.items():
            for host in sorted(_hosts(looked_up)) if kind == "SRV" else ():
                if name not in wide or parent(host) == self.directory.domain:
                    yield name, host

    @property
    def forest_wide(self) -> set[Name]:
        """The names at which controllers of every domain of the forest register."""
        sites = ("", *self.directory.sites)
        names = (name_of(row.pattern, self.directory, site) for row in LOCATORS if row.forest_wide for site in sites)
        return {name for name in names if name is not None}


def inspect_directory(directory: Directory, atlas: Atlas, holdings: Holdings = no_holding) -> Dialogue[DirectorySeen]:
    """Ask for every locator record of a directory, on all servers."""
    declared = bool(directory.controllers)
    if not declared:
        directory = yield from _discovered(directory, atlas)
    seen = DirectorySeen(directory, declared, atlas.expects)
    wanted: dict[tuple[Name, str], WantedLocator] = {}
    for one in all_wanted(directory):
        wanted.setdefault((one.name, one.row.kind), one)
    steps: list[Dialogue[Any]] = [at_name(one.name, one.rdtypes, directory.view, atlas) for one in wanted.values()]
    steps += [look_at(controller.host, directory.view, atlas) for controller in directory.controllers]
    apexes = [directory.domain, from_text("_msdcs", directory.forest)]
    steps += [at_name(apex, (NS,), directory.view, atlas) for apex in apexes]
    done = yield from together(steps)
    seen.found = dict(zip(wanted, done[: len(wanted)], strict=True))
    seen.hosts = {host.name: host for host in done[len(wanted) : -len(apexes)]}
    seen.name_servers = dict(zip(apexes, done[-len(apexes) :], strict=True))
    seen.delegated = yield from _delegated(directory, atlas, holdings)
    seen.aliases = yield from _aliases_in_hand(directory, atlas, holdings)
    divided = {found.name: found for found in seen.found.values() if found.divided}
    stood = yield from together([standing_of(found, directory.view, atlas) for found in divided.values()])
    seen.standings = dict(zip(divided, stood, strict=True))
    others = sorted(_others(seen) - seen.hosts.keys())
    looked = yield from together([look_at(host, directory.view, atlas) for host in others])
    seen.strangers = {host.name: host for host in looked}
    strange = sorted(_strange_addresses(seen))
    pointers = yield from together([lookup(reverse_name(one), (PTR,), directory.view, atlas) for one in strange])
    seen.owners = dict(zip(strange, pointers, strict=True))
    return seen


def _others(seen: DirectorySeen) -> set[Name]:
    """Return every host beside the controllers that a record of the domain leads to: locators, NS records, and GUID aliases."""
    domain = seen.directory.domain
    of_zones = {target for found in seen.name_servers.values() for target in found.values} | set(seen.delegated)
    return {host for _, host in seen.targets()} | {
        host for host in (*of_zones, *seen.aliases) if seen.declared and parent(host) == domain
    }


def _strange_addresses(seen: DirectorySeen) -> set[bytes]:
    """Return addresses that the domain's own name or the catalogues' gives, and no host that any of its records leads to
    has."""
    hosts = [*seen.hosts.values(), *seen.strangers.values()]
    ours = {value for host in hosts for value in host.found.values}
    return {
        value
        for looked_up in seen.of_kind("HOST")
        for value in looked_up.values
        if value not in ours and len(value) in (4, 16)
    }


def _aliases_in_hand(directory: Directory, atlas: Atlas, holdings: Holdings) -> Dialogue[dict[Name, list[Name]]]:
    """Return the GUID aliases in `_msdcs` that lead to each host, as far as a zone with them was taken by transfer, or the
    directory told of one that leads to no domain controller and servers still answer with."""
    inside = from_text("_msdcs", directory.forest)
    found: dict[Name, list[Name]] = {}
    known = {controller.host for controller in directory.controllers}
    for apex in (inside, directory.forest):
        replicated = atlas.estate.replicated.get((directory.view, apex))
        strange = {
            owner: host
            for owner, host in (replicated.aliases.items() if replicated is not None else ())
            if parent(owner) == inside and host not in known
        }
        served = yield from together([at_name(owner, (CNAME,), directory.view, atlas) for owner in strange])
        for owner, host, lookup_ in zip(strange, strange.values(), served, strict=True):
            if host in lookup_.values:
                found.setdefault(host, []).append(owner)
        authority = atlas.known(apex, directory.view)
        for server in authority.servers if authority is not None else ():
            holding = holdings(server, apex)
            for owner, rdtype, _, values in holding.rrsets() if holding is not None else ():
                if rdtype == CNAME and parent(owner) == inside and owner not in found.get(values[0], ()):
                    found.setdefault(values[0], []).append(owner)
    return found


def _delegated(directory: Directory, atlas: Atlas, holdings: Holdings) -> Dialogue[dict[Name, str]]:
    """Return the name servers to which the zone above delegates `_msdcs`: as its servers refer there, as it stands in a copy
    that was taken, or in the directory. Servers that hold both zones answer with the zone's own set, and do not tell it."""
    inside = from_text("_msdcs", directory.forest)
    replicated = atlas.estate.replicated.get((directory.view, directory.forest))
    found = dict.fromkeys(replicated.delegated if replicated is not None else (), "the directory")
    authority = yield from atlas.find(directory.forest, directory.view)
    if authority.zone is None or authority.zone == inside:
        return found
    for server in authority.servers:
        holding = holdings(server, authority.zone)
        if holding is not None:
            found |= dict.fromkeys(holding.rdata(inside, NS), server.label)
    for answer in (yield [Question(inside, NS, server) for server in authority.servers]):
        delegation = delegation_in(answer)
        if delegation is not None and delegation.cut == inside:
            found |= dict.fromkeys(delegation.targets, answer.question.server.label)
    return found


def _discovered(directory: Directory, atlas: Atlas) -> Dialogue[Directory]:
    """Return the directory with the controllers, sites and roles that its own records tell of. A host without an address is
    none."""
    view = directory.view
    patterns = (
        "_ldap._tcp.dc._msdcs.{domain}",
        "_ldap._tcp.{domain}",
        "_ldap._tcp.pdc._msdcs.{domain}",
        "_gc._tcp.{forest}",
        "_ldap._tcp.DomainDnsZones.{domain}",
        "_ldap._tcp.ForestDnsZones.{forest}",
    )
    names = [name for pattern in patterns if (name := name_of(pattern, directory)) is not None]
    site_names = [name_of("_ldap._tcp.{site}._sites.dc._msdcs.{domain}", directory, site) for site in directory.sites]
    steps = [at_name(name, (SRV,), view, atlas) for name in [*names, *filter(None, site_names)]]
    lookups = yield from together(steps)
    of_domain, of_ldap, primaries, catalogues, *holders = (_hosts(one) for one in lookups[: len(patterns)])
    sites = {
        host: site
        for site, lookup_ in zip(directory.sites, lookups[len(patterns) :], strict=True)
        for host in _hosts(lookup_)
    }
    values = sorted(of_domain | of_ldap)
    looked = yield from together([look_at(host, view, atlas) for host in values])
    controllers = []
    for host in (one.name for one in looked if one.usable or not one.found.usable):
        roles = {role for role, hosts in ((PRIMARY, primaries), (CATALOGUE, catalogues)) if host in hosts}
        holds_zones = any(host in hosts for hosts in holders)
        controllers.append(Controller(host, sites.get(host, ""), frozenset(roles), holds_zones=holds_zones))
    return replace(directory, controllers=tuple(controllers))


def _hosts(looked_up: Lookup) -> set[Name]:
    return {target_in(value).host for value in looked_up.values} - {ROOT}


def registered(wanted: WantedLocator, controller: Controller, telling: Telling, host: Host) -> str:
    """Return how a record stands on one server: `right`, `absent`, or what is wrong with it in words. The host has
    addresses."""
    values = telling.values
    if wanted.row.kind == "HOST":
        missing = [value for value in host.found.values if value not in values]
        return "absent" if missing else "right"
    if wanted.row.kind == "CNAME":
        return "right" if controller.host in values else "absent" if not values else "an alias of another host"
    ports = {one.port for one in map(target_in, values) if one.host == controller.host}
    if wanted.row.port in ports:
        return "right"
    return f"port {', '.join(map(str, sorted(ports)))} in place of {wanted.row.port}" if ports else "absent"

"""What `services` has to look at: options and estate turned into directories and sets of SRV records."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass, replace

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.audit.coverage import Coverage
from salt_mirror.checks.part import Setting
from salt_mirror.checks.registered import registered_names
from salt_mirror.checks.rollcall.scope import expected_sets
from salt_mirror.checks.services.directory import (
    ROLES,
    Controller,
    Directory,
    directory_of,
    is_locator,
    sites_in,
)
from salt_mirror.checks.services.judging import judged_service
from salt_mirror.checks.services.locators import FAMILIES
from salt_mirror.checks.services.wording import judged_directory
from salt_mirror.checks.tests import InView, Judged, Trees
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.errors import about
from salt_mirror.dns.names import Name, from_text, is_within, labels, shown
from salt_mirror.dns.records import SRV
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.keys import A_GUID, guid_of
from salt_mirror.estate.model import Estate
from salt_mirror.estate.replication import host_of


@dataclass(frozen=True, slots=True)
class ServicesScope:
    """What the command line asks for."""

    names: list[tuple[Name, str]]
    services: list[str]
    families: list[str]
    directory: bool
    forest: str | None
    domain_guid: str
    sites: list[str]
    controllers: list[str]
    view: str | None

    def check(self, estate: Estate) -> None:
        """Raises BadInput for what cannot be looked at."""
        for family in self.families:
            if family not in FAMILIES:
                raise BadInput.unknown("--family: there is no family", family, FAMILIES)
        for service in self.services:
            if not re.fullmatch(r"_[^.]+\._[^.]+(\..+)?", service):
                raise BadInput(f"--service: {shown(service)} is no service; expected one such as _ldap._tcp")
        if self.domain_guid and guid_of(self.domain_guid) is None:
            raise BadInput(f"--domain-guid: {shown(self.domain_guid)} is no GUID; expected one such as {A_GUID}")
        if (self.services or self.families or self.directory) and not self.names:
            raise BadInput("a domain is missing: services, families and directories are looked for below one")
        for text in self.controllers:
            self._controller(text, self.names[0][0])

    def _controller(self, text: str, domain: Name) -> Controller:
        head, *more = (part.strip() for part in text.split(","))
        host, _, site = head.partition("@")
        roles, guid = set(), ""
        for part in more:
            if part in ROLES:
                roles.add(part)
            elif (identifier := guid_of(part)) is not None:
                guid = identifier
            else:
                raise BadInput(f"--controller: {shown(part)} is neither a role ({', '.join(ROLES)}) nor a GUID")
        with about("--controller"):
            return Controller(host_of(host, domain), site, frozenset(roles), guid)

    def directory_at(self, name: Name, view: str, estate: Estate, known: Collection[Name]) -> Directory:
        """The directory at a domain: as the estate has it, with what the options say in its place."""
        entry = next((one for one in _directories(estate) if (one.domain, one.view) == (name, view)), None)
        found = entry or Directory(name, name, view)
        if self.forest is not None:
            with about("--forest"):
                found = replace(found, forest=from_text(self.forest))
        if self.domain_guid:
            found = replace(found, guid=guid_of(self.domain_guid) or "")
        if self.controllers:
            found = replace(found, controllers=tuple(self._controller(text, name) for text in self.controllers))
        of_controllers = [one.site for one in found.controllers if one.site]
        told = [*self.sites, *found.sites, *of_controllers]
        known_sites = {site.lower() for site in told}
        more = [site for site in sites_in(known, name) if site.lower() not in known_sites]
        return replace(found, sites=tuple(dict.fromkeys([*told, *more])))


def _directories(estate: Estate) -> list[Directory]:
    found = []
    for entry in estate.directories:
        unread = estate.unread.get((entry.domain, entry.view), "")
        found.append(
            replace(directory_of(entry), unread=unread, complete=bool(entry.urls and entry.controllers) and not unread)
        )
    return found


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Trees:
    """Every directory of an estate, and every set of SRV records beside those that it expects, or that is in hand."""
    directories = [one for one in _directories(estate) if coverage.sees(one.domain, one.view)]
    domains = {(one.domain, one.view) for one in _directories(estate)}
    sets = [
        (one.name, one.view)
        for one in expected_sets(estate, None, rdtypes=(SRV,))
        if one.values and not _of_directory(one.name, domains) and coverage.sees(one.name, one.view)
    ]

    def make(setting: Setting) -> dict[InView, Dialogue[Judged]]:
        found = {(one.domain, one.view): judged_directory(one, atlas, setting.holdings) for one in directories}
        seen = [
            (name, zone.view)
            for name, _, zone in registered_names(estate, setting.holdings, (SRV,))
            if not _of_directory(name, domains) and coverage.sees(name, zone.view)
        ]
        every = dict.fromkeys(seen, False) | dict.fromkeys(sets, True)  # what is in hand only may be gone by now
        return found | {key: judged_service(*key, atlas, demanded=demanded) for key, demanded in every.items()}

    return Trees(make, len(directories) + len(sets))


def dialogues_of(
    scope: ServicesScope, estate: Estate, atlas: Atlas, setting: Setting
) -> dict[tuple[Name, str], Dialogue[Judged]]:
    """Every tree that is wished for. Raises BadInput."""
    transferred = setting.transferred
    found: dict[tuple[Name, str], Dialogue[Judged]] = {}
    views = [scope.view] if scope.view is not None else estate.views
    directories = {(one.domain, one.view) for one in _directories(estate) if one.view in views}
    chosen = bool(scope.services or scope.families)
    names = scope.names or sorted(directories)
    for name, view in names:
        if scope.directory or (not chosen and (name, view) in directories):
            directory = scope.directory_at(name, view, estate, transferred)
            found[name, view] = judged_directory(directory, atlas, setting.holdings)
        for text in scope.services:
            _add(found, text, name, view, atlas, demanded=True)
        for family in scope.families:
            for text in FAMILIES[family]:
                _add(found, text, name, view, atlas, demanded=False)
    if not chosen and not scope.directory:
        inside = [name for name, _ in scope.names]
        for name, view in _known_sets(estate, views, transferred):
            if (not inside or any(is_within(name, one) for one in inside)) and not _of_directory(name, directories):
                found[name, view] = judged_service(name, view, atlas, demanded=True)
    if not found:
        hint = f" {FAMILY_HINT}"
        raise BadInput(f"nothing to look at: name a --service, a --family or --directory, or expect SRV records.{hint}")
    return found


FAMILY_HINT = f"Families: {', '.join(FAMILIES)}."


def _add(
    found: dict[tuple[Name, str], Dialogue[Judged]], text: str, domain: Name, view: str, atlas: Atlas, *, demanded: bool
) -> None:
    name = from_text(text, domain)
    found.setdefault((name, view), judged_service(name, view, atlas, demanded=demanded))


def _known_sets(estate: Estate, views: list[str], transferred: Collection[Name]) -> list[tuple[Name, str]]:
    """The names of SRV sets that the estate expects, or that were seen in a transfer."""
    sets = {
        (one.name, view): None
        for view in views
        for zone in estate.zones.get(view, {}).values()
        for one in zone.expectations
        if one.rdtype == SRV and one.presence != "absent"
    }
    for name in sorted(transferred):
        parts = labels(name)
        if len(parts) > 2 and parts[0].startswith(b"_") and parts[1] in (b"_tcp", b"_udp"):
            for view in views:
                if estate.zone_of(name, view) is not None:
                    sets[name, view] = None
    return list(sets)


def _of_directory(name: Name, directories: Collection[tuple[Name, str]]) -> bool:
    """Whether a set is one of a directory's own, which is judged there."""
    return is_locator(name) and any(is_within(name, domain) for domain, _ in directories)

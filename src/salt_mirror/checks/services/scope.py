"""What `services` has to look at: options and estate turned into directories and sets of SRV records."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass, replace

from salt_mirror.checks.common.directories import ROLES, Controller, Directory, directory_of, sites_in
from salt_mirror.checks.common.locators import FAMILIES
from salt_mirror.dns.errors import about
from salt_mirror.dns.names import Name, from_text, shown
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
        """Raise BadInput for what cannot be looked at."""
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
        """Return the directory at a domain: as the estate has it, with what the options say in its place."""
        entry = next((one for one in directories_of(estate) if (one.domain, one.view) == (name, view)), None)
        directory = entry or Directory(name, name, view)
        if self.forest is not None:
            with about("--forest"):
                directory = replace(directory, forest=from_text(self.forest))
        if self.domain_guid:
            directory = replace(directory, guid=guid_of(self.domain_guid) or "")
        if self.controllers:
            directory = replace(directory, controllers=tuple(self._controller(text, name) for text in self.controllers))
        of_controllers = [one.site for one in directory.controllers if one.site]
        told = [*self.sites, *directory.sites, *of_controllers]
        known_sites = {site.lower() for site in told}
        more = [site for site in sites_in(known, name) if site.lower() not in known_sites]
        return replace(directory, sites=tuple(dict.fromkeys([*told, *more])))


def directories_of(estate: Estate) -> list[Directory]:
    found = []
    for entry in estate.directories:
        unread = estate.unread.get((entry.domain, entry.view), "")
        found.append(
            replace(directory_of(entry), unread=unread, complete=bool(entry.urls and entry.controllers) and not unread)
        )
    return found


FAMILY_HINT = f"Families: {', '.join(FAMILIES)}."

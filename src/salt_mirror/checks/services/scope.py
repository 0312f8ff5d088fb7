"""What `services` has to look at: options and estate turned into directories and sets of SRV records."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass, replace
from difflib import get_close_matches

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.services.directory import ROLES, Controller, Directory, directory_of, host_of, is_locator, sites_in
from salt_mirror.checks.services.wording import judged_directory
from salt_mirror.checks.services.locators import FAMILIES
from salt_mirror.checks.services.judging import judged_service
from salt_mirror.checks.tests import Judged
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import BadName, Name, from_text, is_within, labels, shown
from salt_mirror.dns.records import SRV
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate

_GUID = re.compile(r"\{?[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}\}?", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Wish:
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
                near = get_close_matches(family, FAMILIES, 1)
                hint = f'did you mean "{near[0]}"?' if near else f"known: {', '.join(FAMILIES)}"
                raise BadInput(f"--family: there is no family {shown(family)}; {hint}")
        for service in self.services:
            if not re.fullmatch(r"_[^.]+\._[^.]+(\..+)?", service):
                raise BadInput(f"--service: {shown(service)} is no service; expected one such as _ldap._tcp")
        if self.domain_guid and not _GUID.fullmatch(self.domain_guid):
            raise BadInput(f"--domain-guid: {shown(self.domain_guid)} is no GUID")
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
            elif _GUID.fullmatch(part):
                guid = part.strip("{}").lower()
            else:
                raise BadInput(f"--controller: {shown(part)} is neither a role ({', '.join(ROLES)}) nor a GUID")
        try:
            return Controller(host_of(host, domain), site, frozenset(roles), guid)
        except BadName as error:
            raise BadInput(f"--controller: {error}") from None

    def directory_at(self, name: Name, view: str, estate: Estate, known: Collection[Name]) -> Directory:
        """The directory at a domain: as the estate has it, with what the options say in its place."""
        entry = next((one for one in _directories(estate) if (one.domain, one.view) == (name, view)), None)
        found = entry or Directory(name, name, view)
        if self.forest is not None:
            try:
                found = replace(found, forest=from_text(self.forest))
            except BadName as error:
                raise BadInput(f"--forest: {error}") from None
        if self.domain_guid:
            found = replace(found, guid=self.domain_guid.strip("{}").lower())
        if self.controllers:
            found = replace(found, controllers=tuple(self._controller(text, name) for text in self.controllers))
        of_controllers = [one.site for one in found.controllers if one.site]
        told = [*self.sites, *found.sites, *of_controllers]
        known_sites = {site.lower() for site in told}
        more = [site for site in sites_in(known, name) if site.lower() not in known_sites]
        return replace(found, sites=tuple(dict.fromkeys([*told, *more])))


def _directories(estate: Estate) -> list[Directory]:
    return [directory_of(entry) for entry in estate.directories]


def dialogues_of(
    wish: Wish, estate: Estate, atlas: Atlas, transferred: Collection[Name]
) -> dict[tuple[Name, str], Dialogue[Judged]]:
    """Every tree that is wished for. `transferred` are the names in zones that were taken by transfer. Raises BadInput."""
    found: dict[tuple[Name, str], Dialogue[Judged]] = {}
    views = [wish.view] if wish.view is not None else estate.views
    directories = {(one.domain, one.view) for one in _directories(estate) if one.view in views}
    chosen = bool(wish.services or wish.families)
    names = wish.names or sorted(directories)
    for name, view in names:
        if wish.directory or (not chosen and (name, view) in directories):
            directory = wish.directory_at(name, view, estate, transferred)
            found[name, view] = judged_directory(directory, atlas)
        for text in wish.services:
            _add(found, text, name, view, atlas, demanded=True)
        for family in wish.families:
            for text in FAMILIES[family]:
                _add(found, text, name, view, atlas, demanded=False)
    if not chosen and not wish.directory:
        inside = [name for name, _ in wish.names]
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
    try:
        name = from_text(text, domain)
    except BadName as error:
        raise BadInput(str(error)) from None
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

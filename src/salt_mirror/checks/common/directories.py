"""Directory domains as data: controllers, sites, and the locator records that they must have registered.

Strategy: the table of locators, filled in for each controller and site. No question is asked here. The checks of services and
authority, the roll call and the draft take what is expected of a directory from this one place.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from salt_mirror.checks.common.locators import LOCATORS, Locator
from salt_mirror.dns.names import Name, from_text, is_within, label_text, labels, to_text
from salt_mirror.dns.records import ADDRESS_TYPES, CNAME, SRV
from salt_mirror.estate.file import ROLE_WORDS, DirectoryEntry
from salt_mirror.estate.keys import guid_of
from salt_mirror.estate.replication import host_of

PRIMARY, CATALOGUE, READ_ONLY = "pdc-emulator", "global-catalog", "rodc"


ROLES = (PRIMARY, CATALOGUE, READ_ONLY)


@dataclass(frozen=True, slots=True)
class Controller:
    """A controller: its host, its site (empty when it is not known), its roles, its identifier for replication, whether it
    holds the directory's zones."""

    host: Name
    site: str = ""
    roles: frozenset[str] = frozenset()
    guid: str = ""
    holds_zones: bool = True

    @property
    def roles_said(self) -> str:
        """Its roles as administrators call them; empty where it has none beyond a domain controller's own."""
        return ", ".join(word for role, word in ROLE_WORDS.items() if role in self.roles)

    def has(self, who: str) -> bool:
        """Return whether it is one of those who register a row of the table."""
        return who == "all" or who in self.roles or (who == "zones" and self.holds_zones)


@dataclass(frozen=True, slots=True)
class Directory:
    """A directory domain in its forest. Without `controllers` they are found; `guid` is the domain's identifier. `unread` says
    why it could not be read where that is what has to tell of them; `complete` that it was read, and lists every controller."""

    domain: Name
    forest: Name
    view: str = ""
    guid: str = ""
    sites: tuple[str, ...] = ()
    controllers: tuple[Controller, ...] = ()
    unread: str = ""
    complete: bool = False


def directory_of(entry: DirectoryEntry) -> Directory:
    """Return a directory as the estate describes it; hosts without a dot stand in the domain. Raises BadName."""
    domain = from_text(entry.domain)
    return Directory(
        domain,
        from_text(entry.forest) if entry.forest is not None else domain,
        entry.view,
        guid_of(entry.guid) or "",
        tuple(dict.fromkeys([*entry.sites, *(one.site for one in entry.controllers if one.site)])),
        tuple(
            Controller(
                host_of(controller.host, domain),
                controller.site,
                frozenset(controller.roles),
                guid_of(controller.guid) or "",
                controller.holds_zones,
            )
            for controller in entry.controllers
        ),
    )


class WantedLocator(NamedTuple):
    """One record that a controller must have registered: the row of the table, and the name that it gives here."""

    row: Locator
    name: Name

    @property
    def rdtypes(self) -> tuple[int, ...]:
        """The types to ask for."""
        return {"SRV": (SRV,), "CNAME": (CNAME,), "HOST": ADDRESS_TYPES}[self.row.kind]


def rows_of(controller: Controller) -> list[Locator]:
    """Return every row of the table that a controller has to register."""
    rows = [row for row in LOCATORS if controller.has(row.who)]
    if (
        READ_ONLY in controller.roles
    ):  # it registers the records of its site only, and the CNAME record that replication uses
        return [row for row in rows if row.kind == "CNAME" or (row.site_form and row.who != "zones")]
    return rows


def wanted_of(directory: Directory, controller: Controller) -> list[WantedLocator]:
    """Return every record that a controller must have registered, as far as its site and the identifiers are known."""
    named = ((row, name_of(row.pattern, directory, controller.site, controller.guid)) for row in rows_of(controller))
    return [WantedLocator(row, name) for row, name in named if name is not None]


def untested_of(directory: Directory, controller: Controller) -> dict[str, int]:
    """Return how many records cannot be tested, by what is not known for that."""
    lacking = {
        "its site": "{site}" if not controller.site else "",
        "its GUID": "{guid}" if not controller.guid else "",
        "the domain's GUID": "{domain_guid}" if not directory.guid else "",
    }
    found: dict[str, int] = {}
    for row in rows_of(controller):
        what = next((what for what, part in lacking.items() if part and part in row.pattern), None)
        if what is not None:
            found[what] = found.get(what, 0) + 1
    return found


def name_of(pattern: str, directory: Directory, site: str = "", guid: str = "") -> Name | None:
    """Return the name that a pattern of the table gives; None when it needs a site or an identifier that is not known."""
    parts = {"site": site, "guid": guid, "domain_guid": directory.guid}
    if any("{" + key + "}" in pattern and not part for key, part in parts.items()):
        return None
    escaped = {key: label_text(part.encode("utf-8")) for key, part in parts.items()}
    text = pattern.format(domain=_bare(directory.domain), forest=_bare(directory.forest), **escaped)
    return from_text(text + ".")


def _bare(name: Name) -> str:
    return to_text(name).rstrip(".")


def all_wanted(directory: Directory) -> Iterator[WantedLocator]:
    """Return what each controller needs, and what the primary role and every site have, whoever registers it."""
    for controller in directory.controllers:
        yield from wanted_of(directory, controller)
    for row in LOCATORS:
        for site in directory.sites if row.site_form else ("",):
            name = name_of(row.pattern, directory, site) if row.kind == "SRV" else None
            if name is not None:
                yield WantedLocator(row, name)


def is_locator(name: Name) -> bool:
    """Return whether a name looks like one of a directory's locator records, which are judged with the directory."""
    return labels(name)[:1] in ((b"_ldap",), (b"_kerberos",), (b"_kpasswd",), (b"_gc",))


def sites_in(names: Iterable[Name], domain: Name) -> list[str]:
    """Return the sites that names of a zone tell of, such as `_ldap._tcp.kiln-house._sites.` and the domain."""
    found: dict[str, None] = {}
    for name in names:
        parts = labels(name)
        if len(parts) > 4 and parts[:2] == (b"_ldap", b"_tcp") and parts[3] == b"_sites" and is_within(name, domain):
            found[parts[2].decode("utf-8", "replace")] = None
    return sorted(found)

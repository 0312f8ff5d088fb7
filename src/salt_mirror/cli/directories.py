"""Directories that commands read over LDAP: who logs on, with what, and what becomes of one that cannot be read."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import typer
from msgspec.structs import replace

from salt_mirror.cli.options import LogOn
from salt_mirror.dns.errors import about
from salt_mirror.dns.names import from_text, printable, shown, to_text
from salt_mirror.estate.directory.found import Access, DirectoryFailed, FoundDirectory
from salt_mirror.estate.directory.reading import read_directory
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import ControllerEntry, DirectoryEntry
from salt_mirror.estate.forms import check_url
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import read_text

PASSWORD_VARIABLE = "SALT_MIRROR_DIRECTORY_PASSWORD"


def check_log_on(log_on: LogOn) -> None:
    """Raises BadInput for what means nothing together."""
    if log_on.directory is None and (log_on.user or log_on.password_file or log_on.ca_file):
        raise BadInput("--user, --password-file and --ca-file say how to read a directory; name it with --directory")
    if log_on.password_file is not None and not log_on.user:
        raise BadInput("--password-file: whose password is it? name the user with --user")
    if log_on.directory is not None and "://" in log_on.directory:
        with about("--directory"):
            check_url(log_on.directory)


def scheme_of(log_on: LogOn) -> str:
    """How a controller is spoken to that locators led to: sealed by the ticket, or over TLS with a password."""
    return "ldaps" if log_on.user else "ldap"


def access_of(log_on: LogOn, url: str) -> Access:
    """The access to a directory at a URL; asks for the password where nothing else gives it. Raises BadInput."""
    password = password_of(log_on.user, log_on.password_file, PASSWORD_VARIABLE) if log_on.user else ""
    ca_file = str(log_on.ca_file.absolute()) if log_on.ca_file is not None else ""
    return Access(url=url, user=log_on.user, password=password, ca_file=ca_file)


def password_of(user: str, file: Path | None, variable: str) -> str:
    """A password from a file, from a variable, or from whoever sits there. Raises BadInput."""
    if file is not None:
        password = read_text(file).rstrip("\n")
    elif variable and variable in os.environ:
        password = os.environ[variable]
    elif sys.stdin.isatty() and sys.stderr.isatty():
        password = str(typer.prompt(f"Password of {user}", hide_input=True, err=True))
    else:
        raise BadInput(
            f"the password of {shown(user)} is missing: --password-file FILE, or the variable {PASSWORD_VARIABLE}"
        )
    if not password:
        raise BadInput(f"the password of {shown(user)} is empty")  # which a server would take for nobody at all
    return password


def read_directories(estate: Estate) -> None:
    """Reads every directory that the estate only says where to read. One that cannot be read is told as that, and nothing of it
    is judged. Raises BadInput for a password that is not there."""
    for number, entry in enumerate(estate.directories):
        if entry.urls:
            try:
                found, url, failed = read_first(entry.urls, partial(_read, entry, estate.path))
                estate.directories[number] = _with_controllers(entry, found)
                _take_ages(estate, entry, url, found)
                estate.ages.remarks += [f"{why}; it was read from {url}" for why in failed]
            except DirectoryFailed as error:
                estate.unread[entry.domain, entry.view] = printable(str(error))


def read_first(urls: Sequence[str], read: Callable[[str], FoundDirectory]) -> tuple[FoundDirectory, str, list[str]]:
    """Read a directory from the first of some controllers that answers: what was found, where, and why not at those before.
    Raises DirectoryFailed with what each of them said."""
    failed: list[str] = []
    for url in urls:
        try:
            return read(url), url, failed
        except DirectoryFailed as error:
            failed.append(f"{url}: {printable(str(error))}")
    raise DirectoryFailed("; ".join(failed))


_CLOCKS_APART_S = 300.0
"""So far clocks may be apart: what Kerberos takes too (RFC 4120 section 5.2.3)."""


def _take_ages(estate: Estate, entry: DirectoryEntry, url: str, found: FoundDirectory) -> None:
    """Takes what a directory says of the ages of the estate's zones."""
    from salt_mirror.estate.exports import of_directory

    ages = estate.ages
    for one in found.zones:
        zone = estate.zones.get(entry.view, {}).get(one.apex)
        if zone is not None:
            ages.zones.setdefault((entry.view, one.apex), []).append(of_directory(one, url, zone.aging))
            if one.unread:
                ages.remarks.append(f"{url}: {one.unread:,} records of {to_text(one.apex)} could not be read")
    if found.clock_s is not None and abs(found.clock_s) > _CLOCKS_APART_S:
        way = "ahead of" if found.clock_s > 0 else "behind"
        off = f"{abs(found.clock_s):.0f} s {way} ours"
        ages.remarks.append(f"the clock of {url} is {off}: so are the ages that it tells")
    ages.remarks += [f"{url}: {remark}" for remark in found.remarks]


def _with_controllers(entry: DirectoryEntry, found: FoundDirectory) -> DirectoryEntry:
    """The entry with what the directory says of its controllers."""
    controllers = [
        ControllerEntry(one.host, one.site, one.roles, one.guid, one.holds_zones) for one in found.controllers
    ]
    return replace(entry, forest=found.forest, guid=found.guid, sites=found.sites, controllers=controllers)


def _read(entry: DirectoryEntry, path: Path | None, url: str) -> FoundDirectory:
    folder = path.parent if path is not None else Path()
    password = ""
    if entry.user:
        file = folder / entry.password_file if entry.password_file else None
        password = password_of(entry.user, file, entry.password_env)
    ca_file = str((folder / entry.ca_file).absolute()) if entry.ca_file else ""
    found = read_directory(Access(url=url, user=entry.user, password=password, ca_file=ca_file))
    if from_text(found.domain) != from_text(entry.domain):
        raise DirectoryFailed(f"it is the directory of {found.domain}, and not of {entry.domain}")
    return found

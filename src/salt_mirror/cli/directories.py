"""Directories that commands read over LDAP: who logs on, with what, and what becomes of one that cannot be read."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass
from pathlib import Path

import typer
from msgspec.structs import replace

from salt_mirror.dns.errors import about
from salt_mirror.dns.names import from_text, printable, shown
from salt_mirror.estate.directory.found import Access, DirectoryFailed
from salt_mirror.estate.directory.reading import read_directory
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import ControllerEntry, DirectoryEntry
from salt_mirror.estate.forms import check_url
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import read_text

PASSWORD_VARIABLE = "SALT_MIRROR_DIRECTORY_PASSWORD"


@dataclass(frozen=True, slots=True)
class Login:
    """What the command line says of a directory: a URL or a domain, the user, the files of the password and of certificates."""

    directory: str | None
    user: str
    password_file: Path | None
    ca_file: Path | None

    def check(self) -> None:
        """Raises BadInput for what means nothing together."""
        if self.directory is None and (self.user or self.password_file or self.ca_file):
            raise BadInput(
                "--user, --password-file and --ca-file say how to read a directory; name it with --directory"
            )
        if self.password_file is not None and not self.user:
            raise BadInput("--password-file: whose password is it? name the user with --user")
        if self.directory is not None and "://" in self.directory:
            with about("--directory"):
                check_url(self.directory)

    @property
    def scheme(self) -> str:
        """How a controller is spoken to that locators led to: sealed by the ticket, or over TLS with a password."""
        return "ldaps" if self.user else "ldap"

    def access(self, url: str) -> Access:
        """The access to a directory at a URL; asks for the password where nothing else gives it. Raises BadInput."""
        password = password_of(self.user, self.password_file, PASSWORD_VARIABLE) if self.user else ""
        ca_file = str(self.ca_file.absolute()) if self.ca_file is not None else ""
        return Access(url=url, user=self.user, password=password, ca_file=ca_file)


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
        if entry.directory:
            try:
                estate.directories[number] = _read(entry, estate.path)
            except DirectoryFailed as error:
                estate.unread[entry.domain, entry.view] = f"{entry.directory}: {printable(str(error))}"


def _read(entry: DirectoryEntry, path: Path | None) -> DirectoryEntry:
    folder = path.parent if path is not None else Path()
    password = ""
    if entry.user:
        file = folder / entry.password_file if entry.password_file else None
        password = password_of(entry.user, file, entry.password_env)
    ca_file = str((folder / entry.ca_file).absolute()) if entry.ca_file else ""
    found = read_directory(Access(url=entry.directory, user=entry.user, password=password, ca_file=ca_file))
    if from_text(found.domain) != from_text(entry.domain):
        raise DirectoryFailed(f"it is the directory of {found.domain}, and not of {entry.domain}")
    controllers = [
        ControllerEntry(one.host, one.site, one.roles, one.guid, one.holds_zones) for one in found.controllers
    ]
    return replace(entry, forest=found.forest, guid=found.guid, sites=found.sites, controllers=controllers)

"""Directories that commands read over LDAP: who logs on, with what, and what becomes of one that cannot be read."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

import typer
from msgspec.structs import replace

from salt_mirror.cli.engines import finders
from salt_mirror.cli.options import Asking, LogOn
from salt_mirror.dns.errors import about
from salt_mirror.dns.names import Name, from_text, is_within, printable, shown, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import CNAME, PTR, SRV
from salt_mirror.dns.tickets import SKEW_S
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.directory.found import Access, DirectoryFailed, FoundDirectory, FoundZone
from salt_mirror.estate.directory.reading import read_directory
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import ControllerEntry, DirectoryEntry
from salt_mirror.estate.forms import check_url
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import read_text
from salt_mirror.estate.replication import Inbound, Replicated

PASSWORD_VARIABLE = "SALT_MIRROR_DIRECTORY_PASSWORD"


def check_log_on(log_on: LogOn) -> None:
    """Raise BadInput for what means nothing together."""
    if log_on.directory is None and (log_on.user or log_on.password_file or log_on.ca_file):
        raise BadInput("--user, --password-file and --ca-file say how to read a directory; name it with --directory")
    if log_on.password_file is not None and not log_on.user:
        raise BadInput("--password-file: whose password is it? name the user with --user")
    if log_on.directory is not None and "://" in log_on.directory:
        with about("--directory"):
            check_url(log_on.directory)


def log_on_again(log_on: LogOn, beside: Callable[[Path], str]) -> dict[str, str]:
    """Return how an estate reads a directory again, by its keys; `beside` gives a file's path from the estate's folder."""
    if log_on.directory is None:
        return {}
    return {
        "directory": log_on.directory,
        "user": log_on.user,
        "password_file": beside(log_on.password_file) if log_on.password_file is not None else "",
        "password_env": PASSWORD_VARIABLE if log_on.user and log_on.password_file is None else "",
        "ca_file": beside(log_on.ca_file) if log_on.ca_file is not None else "",
    }


def scheme_of(log_on: LogOn) -> str:
    """Return how a controller is spoken to that locators led to: sealed by the ticket, or over TLS with a password."""
    return "ldaps" if log_on.user else "ldap"


def access_of(log_on: LogOn, url: str) -> Access:
    """Return the access to a directory at a URL; asks for the password where nothing else gives it. Raises BadInput."""
    password = password_of(log_on.user, log_on.password_file, PASSWORD_VARIABLE) if log_on.user else ""
    ca_file = str(log_on.ca_file.absolute()) if log_on.ca_file is not None else ""
    return Access(url=url, user=log_on.user, password=password, ca_file=ca_file)


def password_of(user: str, file: Path | None, variable: str) -> str:
    """Return a password from a file, from a variable, or from whoever sits there. Raises BadInput."""
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


def read_directories(estate: Estate, asking: Asking, *, records: bool, detail: bool = False) -> None:
    """Read every directory that the estate only says where to read, `records` of its zones too. One that cannot be read goes
    into `estate.unread`, with `detail` what the library said of it as well. Raises BadInput for a password that is not
    there."""
    for number, entry in enumerate(estate.directories):
        if entry.urls:
            try:
                directory, url, failed = _read_somewhere(estate, entry, asking, records=records)
            except DirectoryFailed as error:
                more = f"; the library says: {error.detail}" if detail and error.detail else ""
                estate.unread[entry.domain, entry.view] = printable(str(error) + more)
                continue
            estate.remarks += [f"{why}; the directory was read from {url}" for why in failed]
            take_directory(estate, number, directory, url, records=records)


def _read_somewhere(
    estate: Estate, entry: DirectoryEntry, asking: Asking, *, records: bool
) -> tuple[FoundDirectory, str, list[str]]:
    """Read a directory where the estate says, else from another of its controllers that the domain's locators lead to. Raises
    DirectoryFailed."""
    read = partial(_read, entry, estate.path, records)
    scheme = next((url.partition("://")[0] for url in entry.urls if "://" in url), "ldaps" if entry.user else "ldap")
    by_locators = partial(urls_by_locators, from_text(entry.domain), scheme, estate, estate.servers.values(), asking)
    urls = [one for url in entry.urls for one in ([url] if "://" in url else by_locators())]
    try:
        return read_first(urls, read)
    except DirectoryFailed as error:
        if error.ours or not any(
            "://" in url for url in entry.urls
        ):  # by the domain alone, the locators were asked already
            raise
        domain = from_text(entry.domain)
        try:  # the password goes nowhere but into the domain, whatever a locator says
            others = [
                url
                for url in by_locators()
                if url not in urls and is_within(from_text(url.partition("://")[2]), domain)
            ]
        except DirectoryFailed:
            others = []
        if not others:
            raise
        try:
            directory, url, failed = read_first(others, read)
        except DirectoryFailed as worse:
            raise DirectoryFailed(f"{error}; {worse}", error.detail, ours=worse.ours) from None
        return directory, url, [str(error), *failed]


_MOST_CONTROLLERS = 8


def urls_by_locators(domain: Name, scheme: str, estate: Estate, servers: Iterable[Server], asking: Asking) -> list[str]:
    """Return the URLs of the controllers that a domain's own locators lead to, as resolvers and some servers tell, the
    preferred one first (RFC 2782). Raises DirectoryFailed."""
    name = from_text("_ldap._tcp.dc._msdcs", domain)
    with Engine(timeout_s=asking.timeout, tries=asking.tries) as engine:
        for server in finders(estate):
            engine.submit(Question(name, SRV, server, True))
        for server in servers:
            if estate.asks(server):
                engine.submit(Question(name, SRV, server))
        found: list[bytes] = []
        while answers := engine.collect():
            found += [value for answer in answers if answer.trouble is None for value in answer.values]
    if not found:
        raise DirectoryFailed(f"no locators at {to_text(name)} lead to a domain controller; name one: ldaps://HOST")
    best = sorted(found, key=lambda value: (value[:2], 65535 - int.from_bytes(value[2:4], "big"), value[6:]))
    hosts = list(dict.fromkeys(to_text(value[6:]).rstrip(".") for value in best))[:_MOST_CONTROLLERS]
    return [f"{scheme}://{host}" for host in hosts]


def read_first(urls: Sequence[str], read: Callable[[str], FoundDirectory]) -> tuple[FoundDirectory, str, list[str]]:
    """Read a directory from the first of some controllers that answers: what was found, where, and why not at those before.
    Raises DirectoryFailed with what each of them said."""
    failed: list[str] = []
    detail, ours = "", False
    for url in urls:
        try:
            return read(url), url, failed
        except DirectoryFailed as error:
            failed.append(f"{url}: {printable(str(error))}")
            detail, ours = detail or error.detail, error.ours
            if ours:
                break
    raise DirectoryFailed("; ".join(failed), detail, ours=ours)


def take_directory(estate: Estate, number: int, directory: FoundDirectory, url: str, *, records: bool) -> None:
    """Take what a directory that was read at a URL tells into one of the estate's entries: its controllers, which zones it
    keeps and how those replicate, what is no record in it, and with `records` their ages."""
    entry = estate.directories[number]
    estate.directories[number] = _with_controllers(entry, directory)
    for zone in directory.zones:
        estate.replicated[entry.view, zone.apex] = _replication_of(zone, directory, records=records)
    estate.remarks += remarks_of(directory, url)
    if records:
        _take_ages(estate, entry, url, directory)


def take_everywhere(estate: Estate, directory: FoundDirectory, url: str) -> None:
    """Take what a directory told, with its records, into every entry of an estate that would read it."""
    for number, entry in enumerate(estate.directories):
        if entry.urls and entry.domain == directory.domain:
            take_directory(estate, number, directory, url, records=True)


def _replication_of(zone: FoundZone, directory: FoundDirectory, *, records: bool) -> Replicated:
    ways: dict[Name, list[Inbound]] = {}
    for inbound in directory.inbound:
        if inbound.partition == zone.partition:
            moment = datetime.fromtimestamp(inbound.succeeded, UTC) if inbound.succeeded is not None else None
            way = Inbound(printable(inbound.source), moment, inbound.failures, inbound.error)
            ways.setdefault(from_text(inbound.host), []).append(way)
    hosts = {host: tuple(ways[host]) if host in ways else None for host in map(from_text, zone.hosts)}
    untold = {from_text(host): printable(why) for host, why in directory.untold.items()}
    aliases = {one.name: one.rdata for one in zone.records if one.rdtype == CNAME}
    pointers = tuple(dict.fromkeys(one.name for one in zone.records if one.rdtype == PTR)) if records else None
    return Replicated(zone.partition, hosts, untold, tuple(zone.delegated), aliases, pointers)


def remarks_of(directory: FoundDirectory, url: str) -> list[str]:
    """Return what has to be known of a directory beside what it holds: objects that are no records, a clock that is off."""
    said = [
        f"{url}: {printable(lost.name)} in {printable(lost.place)} is there twice: two domain controllers made it at once, and "
        "replication left a conflict object (CNF) beside it"
        if lost.why == "conflict"
        else f"{url}: {printable(lost.name)} in {printable(lost.place)} could not be read"
        for lost in directory.lost
    ]
    if directory.clock_s is not None and abs(directory.clock_s) > SKEW_S:
        way = "ahead of" if directory.clock_s > 0 else "behind"
        said.append(f"the clock of {url} is {abs(directory.clock_s):.0f} s {way} ours: so are the ages that it reports")
    return said + [f"{url}: {printable(remark)}" for remark in directory.remarks]


def _take_ages(estate: Estate, entry: DirectoryEntry, url: str, directory: FoundDirectory) -> None:
    """Take what a directory says of the ages of the estate's zones."""
    from salt_mirror.estate.exports import of_directory

    for found_zone in directory.zones:
        zone = estate.zones.get(entry.view, {}).get(found_zone.apex)
        if zone is not None:
            estate.ages.zones.setdefault((entry.view, found_zone.apex), []).append(
                of_directory(found_zone, url, zone.aging)
            )


def _with_controllers(entry: DirectoryEntry, directory: FoundDirectory) -> DirectoryEntry:
    """Return the entry with what the directory says of its controllers."""
    controllers = [
        ControllerEntry(controller.host, controller.site, controller.roles, controller.guid, controller.holds_zones)
        for controller in directory.controllers
    ]
    return replace(entry, forest=directory.forest, guid=directory.guid, sites=directory.sites, controllers=controllers)


def _read(entry: DirectoryEntry, path: Path | None, records: bool, url: str) -> FoundDirectory:
    folder = path.parent if path is not None else Path()
    password = ""
    if entry.user:
        file = folder / entry.password_file if entry.password_file else None
        password = password_of(entry.user, file, entry.password_env)
    ca_file = str((folder / entry.ca_file).absolute()) if entry.ca_file else ""
    directory = read_directory(
        Access(url=url, user=entry.user, password=password, ca_file=ca_file, records=records, replication=True)
    )
    if from_text(directory.domain) != from_text(entry.domain):
        raise DirectoryFailed(f"it is the directory of {directory.domain}, and not of {entry.domain}")
    return directory

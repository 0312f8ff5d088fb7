"""An estate built from its decoded file: names, servers and keys resolved, zones filled with what is expected in them."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import Name, from_text, shown, to_text
from salt_mirror.dns.questions import Key, Server
from salt_mirror.dns.records import rdata_from_text
from salt_mirror.dns.system import DNS_PORT, paced, parse_endpoint, parse_server
from salt_mirror.estate.aging import Aging, hours_in
from salt_mirror.estate.duties import duty_of, tests_of
from salt_mirror.estate.errors import BadInput, hint, shown_path
from salt_mirror.estate.expectations import DamagedRow, Expectation
from salt_mirror.estate.file import (
    DirectoryEntry,
    EstateFile,
    ResolverEntry,
    ServerEntry,
    SourceEntry,
    ZoneEntry,
    read_estate_file,
)
from salt_mirror.estate.forms import Networks, check_url, zone_name
from salt_mirror.estate.model import Estate, Updates, Zone
from salt_mirror.estate.reading import decoded, is_there, read_bytes

if TYPE_CHECKING:
    from salt_mirror.estate.table import Filter


def load_estate(path: Path) -> Estate:
    """Read an estate file and every file of expectations that it names. Raises BadInput."""
    return estate_of(read_estate_file(path), path)


def estate_of(file: EstateFile, path: Path) -> Estate:
    """Return the estate that a decoded file describes; `path` is where it stands, or would. Raises BadInput."""
    return _Builder(file, path).build()


class _Builder:
    def __init__(self, file: EstateFile, path: Path) -> None:
        self._file = file
        self._path = path
        self._estate = Estate(title=file.title, path=path)
        self._keys: dict[str, Key] = {}

    def _fail(self, what: str) -> BadInput:
        return BadInput.at(self._path, None, what)

    def _anchor(self, line: str) -> tuple[Name, bytes]:
        """Read a trust anchor: a DS record as a line of a master file."""
        owner, _, rest = line.strip().partition(" ")
        fields = rest.split()
        try:
            if fields[0].upper() == "IN":
                fields.pop(0)
            if fields[0].upper() != "DS":
                raise ValueError
            return from_text(owner), rdata_from_text(43, " ".join(fields[1:]))
        except (ValueError, IndexError):
            raise self._fail(
                f"trust_anchors: {shown(line)}; expected a DS record, such as "
                '"pans.gullmarsh.internal. DS 12345 13 2 2BB1…" (name, key tag, algorithm, digest type, digest)'
            ) from None

    def build(self) -> Estate:
        estate, file = self._estate, self._file
        for published, reached in file.reach.items():
            try:
                estate.reach[ipaddress.ip_address(published).packed] = parse_endpoint(reached)
            except ValueError:
                raise self._fail(
                    f"reach: {shown(published)} = {shown(reached)}; expected an address on the left, "
                    "an address with or without a port on the right"
                ) from None
        estate.public_views = frozenset(file.public_views)
        for name, addresses in file.roots.items():
            try:
                estate.roots[from_text(name)] = tuple(ipaddress.ip_address(text).packed for text in addresses)
            except ValueError:
                raise self._fail(
                    f"roots: {shown(name)} = {addresses}; expected a name on the left, a list of addresses on the right, "
                    'such as "a.roots.example" = ["203.0.113.241"]'
                ) from None
        for line in file.trust_anchors:
            owner, rdata = self._anchor(line)
            estate.anchors[owner] = (*estate.anchors.get(owner, ()), rdata)
        keys = self._keys = estate.keys = self._read_keys(file)
        for label, entry in file.servers.items():
            estate.servers[label] = self._server("servers", label, entry, keys)
        for label, resolver in file.resolvers.items():
            server = paced(self._server("resolvers", label, resolver, keys))
            estate.resolvers[label] = server
            if resolver.group:
                estate.groups.setdefault(resolver.group, []).append(server)
        estate.finders = tuple(
            self._known(label, estate.resolvers, "find_servers_by", "resolvers") for label in file.find_servers_by
        )
        with about(str(self._path)):
            estate.networks = Networks({network: entry.zone for network, entry in file.networks.items()})
            retired = [network for network, entry in file.networks.items() if entry.retired]
        estate.retired = tuple(map(ipaddress.ip_network, retired))
        estate.lease_files = tuple(self._there(one, "leases") for one in file.leases)
        for number, zone in enumerate(file.zones, 1):
            self._add_zone(number, zone)
        for number, directory in enumerate(file.directories, 1):
            self._check_directory(f"directories, entry {number}", directory)
        if file.views or len(estate.zones) > 1:
            from salt_mirror.estate.ways import tell_apart, view_sources

            tell_apart(estate, view_sources(file, estate, self._path))
        estate.directories = file.directories
        for number, accept in enumerate(file.accept, 1):
            if not accept.reason.strip():
                raise self._fail(f"accept, entry {number}, reason: is empty; say why the finding is accepted")
        estate.accept = file.accept
        estate.same, estate.inside_only = file.same, file.inside_only
        self._add_duties()
        for key in file.bounds.__struct_fields__:
            if not 0 < getattr(file.bounds, key) < 1e12:
                raise self._fail(f"bounds, {key}: {getattr(file.bounds, key)} is no bound; expected a number above 0")
        estate.bounds = file.bounds
        return estate

    def _add_duties(self) -> None:
        """What resolvers ought to do, and where others ask for us."""
        estate, file = self._estate, self._file
        known = estate.servers | estate.resolvers
        for label, resolver in file.resolvers.items():
            duty = estate.duties[label] = duty_of(label, resolver, known, estate.reached, self._path)
            if duty.view and estate.zones and duty.view not in estate.zones:
                raise self._fail(
                    f"resolvers, {label}, view: there is no view {shown(duty.view)}; {hint(duty.view, estate.zones)}"
                )
        estate.resolver_tests = tests_of(file.resolver_tests, self._path)
        for label, vantage in file.vantages.items():
            if vantage.view and estate.zones and vantage.view not in estate.zones:
                raise self._fail(
                    f"vantages, {label}, view: there is no view {shown(vantage.view)}; {hint(vantage.view, estate.zones)}"
                )
        estate.vantages, estate.broker = file.vantages, file.vantage_broker

    def _read_keys(self, file: EstateFile) -> dict[str, Key]:
        """Return the TSIG keys by their labels."""
        if not file.keys:
            return {}
        from salt_mirror.estate.keys import key_of

        return {label: key_of(label, entry, self._path) for label, entry in file.keys.items()}

    def _check_directory(self, place: str, entry: DirectoryEntry) -> None:
        """Raise BadInput for names that are none, and a view that no zone has."""
        from salt_mirror.estate.keys import A_GUID, guid_of

        guids = [("guid", entry.guid), *((f"controllers, {one.host}, guid", one.guid) for one in entry.controllers)]
        for where, guid in guids:
            if guid and guid_of(guid) is None:
                raise self._fail(f"{place}, {where}: {shown(guid)} is no GUID; expected one such as {A_GUID}")
        names = [entry.domain, *([entry.forest] if entry.forest is not None else [])]
        for text in [*names, *(controller.host for controller in entry.controllers)]:
            with about(f"{self._path}: {place}"):
                from_text(text)
        if entry.directory:
            with about(f"{self._path}: {place}, directory"):
                for text in entry.urls:
                    if "://" in text:
                        check_url(text)
                    elif from_text(text) != from_text(entry.domain):
                        raise BadInput(
                            f"{shown(text)} is no directory; expected a URL such as ldaps://HOST, or {entry.domain}"
                        )
            declared = [key for key in ("controllers", "guid", "sites", "forest") if getattr(entry, key)]
            if declared:
                raise self._fail(f"{place}: says directory, which has {declared[0]} too; leave one of the two out")
        if (entry.user or entry.password_file or entry.password_env or entry.ca_file) and not entry.directory:
            raise self._fail(
                f'{place}: user, password_file, password_env and ca_file say how to read a directory = "ldaps://…"'
            )
        if entry.user and bool(entry.password_file) == bool(entry.password_env):
            raise self._fail(f"{place}, user: wants either password_file or password_env")
        if entry.view not in self._estate.zones:
            known = ", ".join(self._estate.zones) or "none"
            raise self._fail(f'{place}, view: there is no zone in the view "{entry.view}"; known: {known}')

    def _server(self, table: str, label: str, entry: ServerEntry | ResolverEntry, keys: dict[str, Key]) -> Server:
        place = f"{table}, {label}"
        if not 0 < entry.port < 65536:
            raise self._fail(f"{place}, port: {entry.port} is no port; expected 1 to 65535")
        if entry.pace is not None and not 0.01 <= entry.pace <= 1e6:
            raise self._fail(f"{place}, pace: {entry.pace} is no pace; expected questions a second, 0.01 to 1000000")
        if entry.key is not None and entry.key not in keys:
            raise self._fail(f"{place}, key: there is no [keys.{entry.key}]; known: {', '.join(keys) or 'none'}")
        try:
            if table == "resolvers" and "://" in entry.address:
                server = parse_server(entry.address, label, self._estate.reached)
            else:
                address, port = parse_endpoint(entry.address, entry.port)
                if port != entry.port != DNS_PORT:
                    raise self._fail(f"{place}: the address says port {port}, and port says {entry.port}; say it once")
                server = Server(label, *self._estate.reached(address, port))
        except Unusable:
            raise
        except ValueError:
            urls = (
                ", tcp://192.0.2.53, tls://192.0.2.53 or https://resolver.example/dns-query"
                if table == "resolvers"
                else ""
            )
            raise self._fail(
                f"{place}, address: {shown(entry.address)} is no IP address; expected one such as 192.0.2.53 or "
                f"192.0.2.53:5353{urls}"
            ) from None
        server.pace = entry.pace
        server.key = keys[entry.key] if entry.key is not None else None
        if entry.source:
            from salt_mirror.estate.ways import source_in

            server.source = source_in(entry.source, f"{self._path}: {place}, source")
            if server.address and len(server.source) != len(server.address):
                raise self._fail(f"{place}, source: {entry.source} and {server.host} are not of one IP version")
        return server

    def _known(self, label: str, servers: dict[str, Server], place: str, table: str) -> Server:
        if label in servers:
            return servers[label]
        raise self._fail(f"{place}: there is no [{table}.{label}]; {hint(label, servers)}")

    def _add_zone(self, number: int, entry: ZoneEntry) -> None:
        place = f"zones, entry {number}"
        with about(f"{self._path}: {place}, name"):
            apex = zone_name(entry.name)
        zones = self._estate.zones.setdefault(entry.view, {})
        if apex in zones:
            raise self._fail(f'{place}: {to_text(apex)} is in the view "{entry.view}" already')
        servers = None
        if entry.servers is not None:
            if not entry.servers:
                raise self._fail(f"{place}, servers: an empty list; leave the key out to have them found through NS")
            servers = tuple(
                self._known(label, self._estate.servers, f"{place}, servers", "servers") for label in entry.servers
            )
        problems: list[Unusable] = []
        expectations = [one for source in entry.expect for one in self._read(source, apex, place, problems)]
        for problem in problems:
            name, rdtype = getattr(problem, "subject", None) or (b"", 0)
            self._estate.damaged.append(DamagedRow(str(problem), entry.view, apex, name, rdtype))
        zones[apex] = Zone(
            apex,
            entry.view,
            servers,
            tuple(expectations),
            entry.transfer,
            self._updates(entry, place),
            entry.closed,
            tuple(entry.allow),
            tuple(self._there(one, f"{place}, ages") for one in entry.ages),
            self._aging(entry, f"{self._path}: {place}"),
            self._known(entry.primary, self._estate.servers, f"{place}, primary", "servers") if entry.primary else None,
        )

    def _there(self, name: str, place: str) -> Path:
        """Return a file that the estate names. Raises BadInput where it is not there."""
        path = self._path.parent / name
        if not is_there(path):
            raise self._fail(f"{place}: there is no file {shown_path(path)}")
        return path

    @staticmethod
    def _aging(entry: ZoneEntry, place: str) -> Aging:
        """Return how records of a zone age, as far as the estate says. Raises BadInput."""
        no_refresh_h = hours_in(entry.no_refresh, f"{place}, no_refresh")
        return Aging(entry.aging, no_refresh_h, hours_in(entry.refresh, f"{place}, refresh"), entry.scavenged)

    def _updates(self, entry: ZoneEntry, place: str) -> Updates:
        """Return how changes of a zone are sent. Raises BadInput."""
        if entry.update_key is not None and entry.update_key not in self._keys:
            known = ", ".join(self._keys) or "none"
            raise self._fail(f"{place}, update_key: there is no [keys.{entry.update_key}]; known: {known}")
        if entry.update_key is not None and entry.kerberos:
            raise self._fail(f"{place}: changes are signed with update_key or with kerberos, not with both")
        server = (
            self._known(entry.update, self._estate.servers, f"{place}, update", "servers")
            if entry.update is not None
            else None
        )
        key = self._keys[entry.update_key] if entry.update_key is not None else None
        return Updates(server, key, entry.kerberos, entry.short_signature, entry.try_updates)

    def _read(self, source: str | SourceEntry, apex: Name, place: str, problems: list[Unusable]) -> list[Expectation]:
        """Return what a list expects; rows that cannot be used go to `problems`. Raises BadInput for a list that is none."""
        given = SourceEntry(source) if isinstance(source, str) else source
        path = self._there(given.file, f"{place}, expect")
        content = read_bytes(path)
        if isinstance(source, str) and path.suffix.lower() == ".csv":
            from salt_mirror.estate.csvfile import csv_rows, has_our_header
            from salt_mirror.estate.table import read_rows

            text = decoded(content, path)
            if has_our_header(text):
                return read_rows(csv_rows(text), path, apex, problems)
        from salt_mirror.estate.lists.spec import ListSpec, checked_columns
        from salt_mirror.estate.sources import check_form, read_given
        from salt_mirror.estate.table import TableLayout

        with about(f"{self._path}: {place}, expect, {shown(given.file)}"):
            zone = zone_name(given.zone) if given.zone is not None else None
            columns = checked_columns(given.columns, "columns")
            layout = TableLayout(columns, _filter(given.where), _filter(given.absent_where), given.note)
            spec = ListSpec(check_form(given.form, "form"), layout, given.pointers, zone, given.sheet)
        return read_given(content, apex, problems, spec, self._estate.networks, path=path)


def _filter(said: Mapping[str, str | list[str]]) -> Filter:
    """Return the patterns of a filter as the estate writes them: one, or a list."""
    return {column: (fits,) if isinstance(fits, str) else tuple(fits) for column, fits in said.items()}

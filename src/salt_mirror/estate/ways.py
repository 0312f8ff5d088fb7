"""The ways to the servers of views: from which address of this computer each is asked, and which views share one way.

Strategy: a server tells views apart by who asks, so a server that is listed in several views becomes one server for each of
them wherever that matters: where a view has a source address of its own, or where two views hold the same zone there and would
be asked in the same way. What tells those apart is taken from what is expected in them.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from salt_mirror.dns.apart import Probe, SharedWay, WayOf
from salt_mirror.dns.names import Name, shown
from salt_mirror.dns.questions import Key, Server
from salt_mirror.dns.records import NOT_COMPARED
from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.estate.file import EstateFile
from salt_mirror.estate.model import Estate, Zone

_MOST_PROBES = 32
_Way = tuple[bytes, int, Key | None, bytes]
"""Endpoint, key and source: whoever has the same gets the same view."""


def view_sources(file: EstateFile, estate: Estate, path: Path) -> dict[str, bytes]:
    """Return the packed source addresses of views, as `[views]` in the file at a path gives them. Raises BadInput."""
    found = {}
    for view, entry in file.views.items():
        if view not in estate.zones:
            what = f"views, {shown(view)}: no zone is in this view; {hint(view, estate.zones)}"
            raise BadInput.at(path, None, what)
        if entry.source:
            found[view] = source_in(entry.source, f"{path}: views, {view}, source")
    return found


def source_in(text: str, place: str) -> bytes:
    """Read a source address, packed. Raises BadInput."""
    try:
        return ipaddress.ip_address(text).packed
    except ValueError:
        what = f"{place}: {shown(text)} is no IP address; expected one of this computer's, such as 10.77.10.9"
        raise BadInput(what) from None


def tell_apart(estate: Estate, sources: Mapping[str, bytes]) -> None:
    """Give each view's zones their own servers where views differ in the way to them, or share it. `sources` are the packed
    source addresses of views."""
    twins: dict[tuple[Server, str], Server] = {}
    for zone in estate.all_zones():
        for server in _servers_of(zone):
            source = sources.get(zone.view, b"")
            if source and not server.source and len(source) == len(server.address):
                twins.setdefault((server, zone.view), server.again(source=source))
    for way, views in _shared(estate, twins).items():
        shared = SharedWay(sorted(views, key=estate.views.index), [])
        for server in {server for zone in estate.all_zones() for server in _servers_of(zone)}:
            for view in views:
                twin = twins.get((server, view), server)
                if _way_of(twin) == way:
                    twin = twins[server, view] = twin if twin is not server else server.again()
                    twin.shared = WayOf(shared, view)
        shared.probes = _probes(estate, shared.views, twins)
    if twins:
        estate.twins = list(dict.fromkeys(twins.values()))
        for view, zones in estate.zones.items():
            estate.zones[view] = {apex: _with_twins(zone, twins) for apex, zone in zones.items()}


def _servers_of(zone: Zone) -> list[Server]:
    named = (zone.primary, zone.updates.server)
    return list(dict.fromkeys([*(zone.servers or ()), *(server for server in named if server is not None)]))


def _way_of(server: Server) -> _Way:
    return server.address, server.port, server.key, server.source


def _shared(estate: Estate, twins: Mapping[tuple[Server, str], Server]) -> dict[_Way, set[str]]:
    """Return the ways by which one zone is asked for in several views, with these."""
    by_zone: dict[tuple[_Way, Name], set[str]] = {}
    for zone in estate.all_zones():
        for server in zone.servers or ():
            way = _way_of(twins.get((server, zone.view), server))
            by_zone.setdefault((way, zone.apex), set()).add(zone.view)
    found: dict[_Way, set[str]] = {}
    for (way, _), views in by_zone.items():
        if len(views) > 1:
            found.setdefault(way, set()).update(views)
    return found


def _probes(estate: Estate, views: list[str], twins: Mapping[tuple[Server, str], Server]) -> list[Probe]:
    """Names whose expected values differ between views, as far as the shared server has their zones."""
    expected: dict[tuple[Name, int], dict[str, set[bytes]]] = {}
    for view in views:
        for zone in estate.zones[view].values():
            if not any((server, view) in twins for server in zone.servers or ()):
                continue
            for expectation in zone.expectations:
                if expectation.presence != "absent" and expectation.rdata and expectation.rdtype not in NOT_COMPARED:
                    expected.setdefault((expectation.name, expectation.rdtype), {}).setdefault(view, set()).add(
                        expectation.rdata
                    )
    differing = [
        Probe(name, rdtype, {view: frozenset(values) for view, values in by_view.items()})
        for (name, rdtype), by_view in expected.items()
        if len({frozenset(values) for values in by_view.values()}) > 1
    ]
    differing.sort(key=lambda probe: -len(probe.expected))  # what most views expect shows most
    return [probe for probe in differing if not probe.name.startswith(b"\x01*")][:_MOST_PROBES]


def _with_twins(zone: Zone, twins: Mapping[tuple[Server, str], Server]) -> Zone:
    def twin(server: Server) -> Server:
        return twins.get((server, zone.view), server)

    return replace(
        zone,
        servers=tuple(map(twin, zone.servers)) if zone.servers is not None else None,
        primary=twin(zone.primary) if zone.primary is not None else None,
        updates=replace(zone.updates, server=twin(zone.updates.server)) if zone.updates.server else zone.updates,
    )

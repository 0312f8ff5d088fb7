"""What the arguments of a command come to: the estate, the servers, the names, the views. Raises BadInput for what is none.

Strategy: every command that reads a name, a server or a time reads it here, so that the same words mean the same everywhere.
"""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.cli.engines import finders_when_needed
from salt_mirror.cli.options import Asking, Listing
from salt_mirror.dns.errors import about, number_in
from salt_mirror.dns.names import ROOT, Name, shown
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import ANY, AXFR, IXFR, OPT, TKEY, TSIG, type_from_text, type_text
from salt_mirror.dns.reverse import is_reverse, reverse_name
from salt_mirror.dns.system import paced, parse_server
from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.estate.forms import address_in, domain_in, network_in, zone_of_network
from salt_mirror.estate.model import BOTH_FAMILIES, Estate
from salt_mirror.estate.reading import is_there
from salt_mirror.estate.typed import completed

if TYPE_CHECKING:
    from salt_mirror.estate.lists.spec import ListSpec

ESTATE_HERE = "estate.toml"


def estate_file(given: Path | None) -> Path:
    """Return the file of the estate that was given, or the one of the current folder, which may not be there."""
    return given if given is not None else Path(ESTATE_HERE)


def open_estate(asking: Asking, *, directories: bool = False, ages: bool = False, detail: bool = False) -> Estate:
    """Return the estate that was given, the one in the current folder, or an empty one; it has the view that was chosen. With
    `directories`, those that tell of their controllers themselves are read, and with `detail` what the library said where that
    failed; with `ages`, exports and leases too."""
    if asking.pace != asking.pace or asking.timeout != asking.timeout:  # not a number, which is in no range
        raise BadInput("--pace, --timeout: nan is no number of anything; expected questions a second, and seconds")
    here = estate_file(asking.estate)
    estate = Estate()
    if asking.estate is not None or is_there(here):
        from salt_mirror.estate.building import load_estate

        estate = load_estate(here)
    estate.check_view(asking.view)
    estate.remarks += left_out([row.says for row in estate.damaged], asking)
    if asking.ipv4_only or asking.ipv6_only:
        estate.keep_to(4 if asking.ipv4_only else 16)
    if estate.accept:
        from salt_mirror.checks.audit.accepting import check

        check(estate.accept, str(here))
    if ages and (estate.lease_files or any(zone.ages for zone in estate.all_zones())):
        from salt_mirror.estate.exports import read_ages

        estate.ages = read_ages(estate, time.time())
    if directories:
        with_directories(estate, asking, records=ages, detail=detail)
    return estate


MOST_DAMAGED = 10
"""So many rows that cannot be used are named one by one."""


def left_out(damaged: Sequence[str], asking: Asking) -> list[str]:
    """Return what every report says of rows of lists that cannot be used: the first ones, and how many more there are. Raises
    BadInput for the first of them with --strict."""
    if damaged and asking.strict:
        raise BadInput(f"{damaged[0]} (--strict refuses a list with a row that cannot be used)")
    remarks = [f"left out: {says}" for says in damaged[:MOST_DAMAGED]]
    if len(damaged) > MOST_DAMAGED:
        remarks.append(f"left out: {len(damaged) - MOST_DAMAGED:,} more rows; expect FILE lists all of them")
    return remarks


def with_directories(estate: Estate, asking: Asking, *, records: bool, detail: bool = False) -> bool:
    """Read the estate's directories, if it has any, `records` of their zones too. Return whether anything was learnt."""
    if any(entry.directory for entry in estate.directories):
        from salt_mirror.cli.directories import read_directories

        read_directories(estate, asking, records=records, detail=detail)
    return bool(estate.replicated)


def views_of(asking: Asking, estate: Estate) -> list[str]:
    """Return the view that was chosen, or all."""
    return [asking.view] if asking.view is not None else estate.views


def atlas_of(
    estate: Estate,
    servers: tuple[Server, ...] = (),
    *,
    resolvers_too: bool = False,
    resolvers: Iterable[Server] | None = None,
) -> Atlas:
    """Return the atlas of an estate, wherever one is made. `given` servers are asked about everything, and then no resolver but
    with `resolvers_too`; `resolvers` find servers in place of the estate's, or the system's."""
    looked_for: Iterable[Server] | Callable[[], Iterable[Server]] = resolvers if resolvers is not None else ()
    if resolvers is None and (resolvers_too or not servers):
        looked_for = finders_when_needed(estate)
    atlas = Atlas(
        estate, given=servers, resolvers=looked_for, families=BOTH_FAMILIES if has_ipv6() else frozenset((4,))
    )
    atlas.source_of = source_address
    return atlas


def has_ipv6() -> bool:
    """Return whether this computer has a way to the IPv6 Internet. No packet is sent: a datagram socket only picks its
    route."""
    try:
        with socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) as sock:
            sock.connect(("2001:db8::53", 53))
    except OSError:
        return False
    return True


def source_address(server: Server) -> bytes | None:
    """Return the address from which this computer asks a server; no packet is sent. None where it has no way there."""
    if server.source:
        return server.source
    family = socket.AF_INET6 if len(server.address) == 16 else socket.AF_INET
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as sock:
            sock.connect((server.host, server.port))
            return socket.inet_pton(family, str(sock.getsockname()[0]))
    except OSError:
        return None


# Servers


def words_in(given: list[str] | None) -> list[str]:
    """Return the words of an option that may be repeated, or given several separated by commas."""
    return [text.strip() for one in given or () for text in one.split(",") if text.strip()]


def servers_at(given: list[str] | None, estate: Estate, place: str = "--at") -> tuple[Server, ...]:
    """Return the servers that an option names; `place` is what errors call it."""
    with about(place):
        servers = tuple(dict.fromkeys(_server(text, estate) for text in words_in(given)))
    for server in servers:
        if not estate.asks(server):
            only = "--ipv4-only" if estate.families == {4} else "--ipv6-only"
            raise BadInput(f"{place}: {shown(server.label)} has no address that {only} allows")
    return servers


def server_at(text: str, estate: Estate, place: str) -> Server:
    """Return the one server that an option names. Raises BadInput for none, or several."""
    found = servers_at([text], estate, place)
    if len(found) != 1:
        raise BadInput(f"{place}: {shown(text)} has to name one server; expected an address, or a name of the estate")
    return found[0]


def servers_and_groups(given: list[str] | None, estate: Estate) -> tuple[Server, ...]:
    """Return the same, where a name may also be a group of the estate's resolvers."""
    wanted = words_in(given)
    grouped = [server for text in wanted for server in estate.groups.get(text, ())]
    named = servers_at([text for text in wanted if text not in estate.groups], estate)
    return tuple(dict.fromkeys([*named, *grouped]))


def _server(text: str, estate: Estate) -> Server:
    known = estate.servers | estate.resolvers
    if text in known:
        return known[text]
    if text.startswith("tcp://") and text.removeprefix("tcp://") in known:
        return known[text.removeprefix("tcp://")].again(over="tcp")
    try:
        return paced(parse_server(text, text, estate.reached))
    except ValueError:
        if text.startswith("https://"):
            what = f"{shown(text)} is no usable URL; expected one such as https://resolver.example/dns-query"
            raise BadInput(what) from None
    scheme = next((one for one in ("tls://", "tcp://") if text.startswith(one)), "")
    over = scheme.removesuffix("://") or "udp"
    host, _, port = text.removeprefix(scheme).partition(":")
    number = number_in(port, 65535) if port else 853 if over == "tls" else 53
    if not number:
        raise BadInput(f"{shown(text)} has no usable port; expected 1 to 65535")
    try:
        family = {frozenset((4,)): socket.AF_INET, frozenset((16,)): socket.AF_INET6}.get(estate.families, 0)
        found = socket.getaddrinfo(host, number, family, type=socket.SOCK_DGRAM)
    except (OSError, UnicodeError) as error:
        why = getattr(error, "strerror", None) or "no such host"
        what = f"{shown(text)} is no server of the estate, no address, and no host that can be found ({why})"
        raise BadInput(f"{what}; {hint(text, known)}") from None
    of_family, *_, place = found[0]
    address, reached_port = estate.reached(socket.inet_pton(of_family, str(place[0])), int(place[1]))
    return paced(Server(text, address, reached_port, over=over, tls_name=host if over == "tls" else ""))


def keep_pace(servers: Iterable[Server], pace: float | None) -> None:
    """Sets a pace for servers, if one was given; 0 leaves each its own."""
    if pace:
        for server in servers:
            server.pace = pace


SWEEP_PACE = 2000.0
"""Questions a second to each of the estate's authoritative servers while networks are swept, unless another pace is given."""


def pace_for_a_sweep(estate: Estate, pace: float | None) -> None:
    """Keep the estate's authoritative servers from a flood, those on this computer excepted."""
    if pace is None:
        for server in (*estate.servers.values(), *estate.twins):
            if server.pace is None and not server.on_loopback:
                server.pace = SWEEP_PACE


# Names, types and views


def names_in_views(
    given: list[str], asking: Asking, estate: Estate, *, any_name: bool = False
) -> list[tuple[Name, str]]:
    """Domains, zones or networks (with `any_name` any names), each with every view that holds it, or that a zone around it
    stands in."""
    views = views_of(asking, estate)
    public = [where for where in views if where in estate.public_views]
    found: dict[tuple[Name, str], None] = {}
    for text in given:
        network = network_in(text)
        if any_name:
            name = name_of(text, asking, estate)
        else:
            name = zone_of_network(network) if network is not None else domain_in(text)
        holding = [where for where in views if name in estate.zones[where]]
        around = [where for where in views if estate.zone_of(name, where) is not None]
        for where in holding or around or (public or views or [""])[:1]:
            found[name, where] = None
    return list(found)


def view_of(name: Name, asking: Asking, estate: Estate) -> str:
    """Return the view to look a name up in: the chosen one, else a public one that has a zone for it, else the first that
    has."""
    holding = [where for where in estate.views if estate.zone_of(name, where) is not None]
    public = [where for where in holding if where in estate.public_views]
    return asking.view or (public or holding or estate.views or [""])[0]


def origin_of(name: Name, view: str, estate: Estate) -> Name | None:
    """Return the zone that completes a short name in a record's value; None where it is not known."""
    zone = estate.zone_of(name, view)
    return zone.apex if zone is not None else None


def first_forward(asking: Asking, estate: Estate) -> Name:
    """Return the zone that completes short names when none is given: the estate's first one that is no reverse zone."""
    zones = [zone for zone in estate.all_zones() if asking.view in (None, zone.view) and not is_reverse(zone.apex)]
    return zones[0].apex if zones else ROOT


def name_of(text: str, asking: Asking, estate: Estate) -> Name:
    """Return a name as somebody typed it: an address stands for its pointer's name, a single label for one of the estate."""
    address = address_in(text)
    return reverse_name(address) if address is not None else completed(text, estate, views_of(asking, estate))


_TRANSFER = "a zone is taken whole by --transfer, where a check has that"
_SIGNATURE = "it is part of messages, and in no zone"
NO_QUESTIONS = {
    ANY: "servers trim their answer as they like (RFC 8482); --every asks for the common types one by one",
    AXFR: _TRANSFER,
    IXFR: _TRANSFER,
    **dict.fromkeys((OPT, TKEY, TSIG), _SIGNATURE),
}
"""The types that no zone holds, each with what to do instead."""


def type_of(text: str) -> int:
    """Return a type that can be asked for. Raises Unusable."""
    rdtype = type_from_text(text)
    if rdtype in NO_QUESTIONS:
        raise BadInput(f"{type_text(rdtype)} is not asked as a question: {NO_QUESTIONS[rdtype]}")
    return rdtype


def types_in(text: str | None) -> list[int]:
    """Return the types of `--types`."""
    with about("--types"):
        return [type_of(word) for word in (text or "").split(",") if word.strip()]


# Times

_UNITS = {"": 1, "s": 1, "min": 60, "m": 60, "h": 3600, "d": 86_400, "w": 604_800}


def seconds_of(text: str, option: str) -> float:
    """Read a time such as 90, 90s, 20min, 2h or 1d, in seconds."""
    number = text.strip().lower().rstrip("abcdefghijklmnopqrstuvwxyz ")
    unit = text.strip().lower()[len(number) :].strip()
    try:
        seconds = float(number) * _UNITS[unit]
    except (ValueError, KeyError):
        seconds = -1.0
    if not 0 <= seconds < 1e9:
        raise BadInput(f"{option}: {shown(text)} is no time; expected one such as 90s, 20min, 2h or 1d")
    return seconds


# Lists


def spec_of(listing: Listing) -> ListSpec:
    """Return how lists are to be read. Raises BadInput."""
    from salt_mirror.estate.lists.spec import ListSpec, columns_in, filter_in
    from salt_mirror.estate.sources import check_form
    from salt_mirror.estate.table import TableLayout

    layout = TableLayout(
        columns_in(listing.columns, "--columns") if listing.columns is not None else {},
        filter_in(listing.where or (), "--where"),
        filter_in(listing.absent_where or (), "--absent-where"),
        listing.note or "",
    )
    return ListSpec(check_form(listing.form or "", "--form"), layout, listing.pointers, sheet=listing.sheet or "")

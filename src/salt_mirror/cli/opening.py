"""What the checking commands have in common: estate, servers, progress. Imports nothing heavy before it is needed."""

from __future__ import annotations

import gc
import socket
import sys
import time
from collections.abc import Iterable
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from salt_mirror.dns.names import Name
    from salt_mirror.dns.questions import Server
    from salt_mirror.estate.model import Estate

ESTATE_HERE = "estate.toml"

EstateOption = Annotated[
    Path | None,
    typer.Option(
        "--estate",
        metavar="FILE",
        help="The estate file. Without it, estate.toml in the current folder.",
        show_default=False,
    ),
]
AtOption = Annotated[
    list[str] | None,
    typer.Option(
        "--at",
        metavar="SERVER",
        help="Ask this server about everything: a name from the estate, an address, address:port, a host name, "
        "tls://… or https://…. May be repeated, or several separated by commas.",
        show_default=False,
    ),
]
ViewOption = Annotated[
    str | None, typer.Option("--view", metavar="VIEW", help="Check this view of the estate alone.", show_default=False)
]
JsonOption = Annotated[bool, typer.Option("--json", help="Print the whole report as one JSON document.")]
FaultsOption = Annotated[bool, typer.Option("--faults", help="Show the faults alone.")]
AllOption = Annotated[bool, typer.Option("--all", help="Show everything, also what agrees.")]
StrictOption = Annotated[bool, typer.Option("--strict", help="Let a caution count as a fault in the exit status.")]
TimeoutOption = Annotated[
    float,
    typer.Option(
        "--timeout", metavar="SECONDS", min=0.01, max=60, help="The wait for a first try; each next one doubles it."
    ),
]
TriesOption = Annotated[int, typer.Option("--tries", metavar="N", min=1, max=10, help="How often a question is sent.")]
TransferOption = Annotated[
    bool,
    typer.Option("--transfer", help="Take the estate's zones by transfer where their servers allow it, and ask less."),
]
PaceOption = Annotated[
    float | None,
    typer.Option(
        "--pace",
        metavar="N",
        min=0.1,
        show_default=False,
        help="At most so many questions a second to each server. Without it: no limit for the estate's authoritative servers "
        "and on loopback, 200 for any other.",
    ),
]


def quiet_collector() -> None:
    """Lets Python look for garbage less often: an audit makes hundreds of thousands of small objects and no cycles."""
    gc.freeze()
    gc.set_threshold(100_000, 50, 100)


def keep_pace(servers: Iterable[Server], pace: float | None) -> None:
    """Sets a pace for servers, if one was given."""
    if pace is not None:
        for server in servers:
            server.pace = pace


def open_estate(given: Path | None, view: str | None = None) -> Estate:
    """The estate that was given, the one in the current folder, or an empty one. Raises BadInput, also for a `view` that no
    zone of it has."""
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.model import Estate, load_estate

    here = given if given is not None else Path(ESTATE_HERE)
    estate = load_estate(here) if given is not None or here.is_file() else Estate()
    if view is not None and view not in estate.zones:
        near = get_close_matches(view, estate.zones, 1)
        hint = f'did you mean "{near[0]}"?' if near else f"known: {', '.join(estate.zones) or 'none'}"
        raise BadInput(f'--view: there is no view "{view}"; {hint}')
    return estate


def servers_at(given: list[str] | None, estate: Estate) -> tuple[Server, ...]:
    """The servers that `--at` names. Raises BadInput."""
    wanted = [text.strip() for one in given or () for text in one.split(",") if text.strip()]
    return tuple(dict.fromkeys(server for text in wanted for server in _server(text, estate)))


def servers_and_groups(given: list[str] | None, estate: Estate) -> tuple[Server, ...]:
    """The same, where a name may also be a group of the estate's resolvers. Raises BadInput."""
    wanted = [text.strip() for one in given or () for text in one.split(",") if text.strip()]
    grouped = [server for text in wanted for server in estate.groups.get(text, ())]
    named = servers_at([text for text in wanted if text not in estate.groups], estate)
    return tuple(dict.fromkeys([*named, *grouped]))


def names_in_views(given: list[str], estate: Estate, view: str | None) -> list[tuple[Name, str]]:
    """Names of zones or networks, each with every view that holds it, or that a zone around it stands in. Raises BadInput."""
    from salt_mirror.estate.model import zone_name

    views = [view] if view is not None else estate.views
    public = [where for where in views if where in estate.public_views]
    found: dict[tuple[Name, str], None] = {}
    for text in given:
        name = zone_name(text)
        holding = [where for where in views if name in estate.zones[where]]
        around = [where for where in views if estate.zone_of(name, where) is not None]
        for where in holding or around or (public or views or [""])[:1]:
            found[name, where] = None
    return list(found)


def view_of(name: Name, estate: Estate, view: str | None) -> str:
    """The view to look a name up in: the chosen one, else a public one that has a zone for it, else the first that has."""
    holding = [where for where in estate.views if estate.zone_of(name, where) is not None]
    public = [where for where in holding if where in estate.public_views]
    return view or (public or holding or estate.views or [""])[0]


def _server(text: str, estate: Estate) -> list[Server]:
    from salt_mirror.dns.questions import Server
    from salt_mirror.dns.system import paced, parse_server
    from salt_mirror.estate.errors import BadInput

    known = estate.servers | estate.resolvers
    if text in known:
        return [known[text]]
    try:
        return [paced(parse_server(text, text, estate.reached))]
    except ValueError:
        if text.startswith("https://"):
            raise BadInput(
                f'--at: "{text}" is no usable URL; expected one such as https://resolver.example/dns-query'
            ) from None
    over = "tls" if text.startswith("tls://") else "udp"
    host, _, port = text.removeprefix("tls://").partition(":")
    if port and not (port.isascii() and port.isdigit() and 0 < int(port) < 65536):
        raise BadInput(f'--at: "{text}" has no usable port; expected 1 to 65535')
    try:
        found = socket.getaddrinfo(host, int(port or (853 if over == "tls" else 53)), type=socket.SOCK_DGRAM)
    except (OSError, UnicodeError) as error:
        near = get_close_matches(text, known, 1)
        hint = f'; did you mean "{near[0]}"?' if near else ""
        why = getattr(error, "strerror", None) or "no such host"
        raise BadInput(
            f'--at: "{text}" is no server of the estate, no address, and no host that can be found ({why}){hint}'
        ) from None
    family, *_, place = found[0]
    address, reached_port = estate.reached(socket.inet_pton(family, str(place[0])), int(place[1]))
    return [paced(Server(text, address, reached_port, over=over, tls_name=host if over == "tls" else ""))]


def finders(estate: Estate) -> tuple[Server, ...]:
    """The resolvers that find the servers of zones: the estate's, or the system's. Raises BadInput."""
    from salt_mirror.dns.system import system_resolvers
    from salt_mirror.estate.errors import BadInput

    try:
        return estate.finders or system_resolvers()
    except ValueError as error:
        raise BadInput(str(error)) from None


_UNITS = {"": 1, "s": 1, "min": 60, "m": 60, "h": 3600, "d": 86_400, "w": 604_800}


def seconds_of(text: str, option: str) -> float:
    """Reads a time such as 90, 90s, 20min, 2h or 1d, in seconds. Raises BadInput."""
    from salt_mirror.estate.errors import BadInput

    number = text.strip().lower().rstrip("abcdefghijklmnopqrstuvwxyz ")
    unit = text.strip().lower()[len(number) :].strip()
    try:
        seconds = float(number) * _UNITS[unit]
    except (ValueError, KeyError):
        seconds = -1.0
    if not 0 <= seconds < 1e9:
        raise BadInput(f'{option}: "{text}" is no time; expected one such as 90s, 20min, 2h or 1d')
    return seconds


def has_ipv6() -> bool:
    """Whether this computer has a way to the IPv6 Internet. No packet is sent: a datagram socket only picks its route."""
    try:
        with socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) as sock:
            sock.connect(("2001:db8::53", 53))
    except OSError:
        return False
    return True


class Progress:
    """Says on standard error how far the work has come, from the first second on: a moving line on a terminal, else a line
    now and then."""

    def __init__(self, total: int, what: str) -> None:
        """`total` is 0 where it is not known beforehand."""
        self._total = total
        self._what = what
        self._done = 0
        self._terminal = sys.stderr.isatty()
        self._next = time.monotonic() + 1.0
        self._shown = False

    def tick(self) -> None:
        """One more is done."""
        self._done += 1
        if self._done & 15 and self._total > 200:
            return
        now = time.monotonic()
        if now < self._next:
            return
        self._next = now + (0.1 if self._terminal else 10.0)
        of = f" of {self._total:,}" if self._total else ""
        line = f"{self._done:,}{of} {self._what}"
        self._shown = True
        sys.stderr.write(f"\r{line}\x1b[K" if self._terminal else f"{line}\n")
        sys.stderr.flush()

    def end(self) -> None:
        """Takes the moving line away."""
        if self._shown and self._terminal:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()

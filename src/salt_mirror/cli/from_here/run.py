"""What `from-here` does around its check: this computer's settings, what its programs get, and the report."""

from __future__ import annotations

import ipaddress
import socket
import threading
import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import msgspec

from salt_mirror.checks.from_here.judging import Here
from salt_mirror.checks.from_here.own import own_scope
from salt_mirror.checks.from_here.scope import HereScope, Programs
from salt_mirror.cli.arguments import atlas_of, keep_pace
from salt_mirror.cli.execution import Ran, run_part
from salt_mirror.cli.finishing import finish, report_of
from salt_mirror.cli.options import Asking, Showing, Where
from salt_mirror.dns.computer.reading import captured_settings, own_settings, told_settings
from salt_mirror.dns.computer.settings import Settings
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import address_in
from salt_mirror.estate.model import Estate

if TYPE_CHECKING:
    from salt_mirror.vantages.desk import Present
    from salt_mirror.vantages.exchange import FarExchange

PROGRAMS_S = 30.0
"""So long programs' own way is waited for: a system that waits for dead resolvers may take as long."""


class Look:
    """A look from this computer, or from one whose settings were captured in a folder."""

    def __init__(self, estate: Estate, asking: Asking, folder: Path | None, told: Settings | None = None) -> None:
        """`told` are the settings of a computer that has sent them."""
        if folder is not None and not folder.is_dir():
            raise BadInput(f"--settings: there is no folder {folder}")
        self.estate = estate
        self.asking = asking
        self.live = folder is None and told is None
        self.settings: Settings = told or (own_settings() if folder is None else captured_settings(folder))
        self.scope = HereScope(self.settings, estate, atlas_of(estate, resolvers=()), asking.view)
        every = [self.scope.server_of(one) for one in self.settings.everywhere]
        servers: list[Server] = [one for one in every if one is not None]
        self.scope.atlas = atlas_of(estate, resolvers=estate.finders or servers)
        keep_pace(servers, asking.pace)

    def part(self, names: list[str], *, own: bool = False) -> Here:
        """Return what is looked at."""
        typed = [self.scope.typed(text, programs_get(text) if self.live else None) for text in names]
        return Here(self.scope, typed, alone=not names and not own, own=own_scope(self.scope) if own else None)

    def report(self, names: list[str], showing: Showing, *, own: bool) -> NoReturn:
        """Looks, prints what was seen, and ends the program."""
        part = self.part(names, own=own)
        ran = run_part(part, self.scope.atlas, self.estate.views, self.asking, "things looked at")
        part.remarks += [*self.settings.unread, *self.scope.unread]
        trees = part.trees()
        more: dict[str, Any] = {"tests": trees}
        if len(trees) == 1:
            more["says"] = f"{trees[0].title}: {trees[0].says}.".replace("..", ".")
        elif names:
            more["says"] = _says(part)
        report = report_of("from-here", self.estate, ran, part, **more)
        in_order = sorted(part.findings(), key=lambda one: one.weight != "fault")  # faults in the order of the stations
        report = msgspec.structs.replace(report, findings=in_order)
        if report.outcome == "agrees" and not report.findings and not showing.all:
            showing = replace(showing, faults=True)  # what is sound is told in two lines
        finish(report, showing, part, several_views=len(self.estate.views) > 1)


def look_from(where: Where, names: list[str], asking: Asking, showing: Showing) -> NoReturn:
    """Look with the settings of each vantage's computer, over its own network, prints what was seen, and end the program."""
    from salt_mirror.checks.vantage.judging import FromPlaces
    from salt_mirror.cli.arguments import open_estate
    from salt_mirror.cli.vantage.asking import afar, side_by_side, whole

    estate = open_estate(asking)
    with afar(estate, where, settings=True) as found:

        def one(name: str, exchange: FarExchange) -> tuple[Ran, Here]:
            seen = open_estate(asking)
            look = Look(seen, asking, None, _settings_of(found.present[name]))
            part = look.part(names)
            ran = run_part(part, look.scope.atlas, seen.views, asking, "things looked at", transfers=[], far=exchange)
            part.remarks += [*look.settings.unread, *look.scope.unread]
            return ran, part

        for present in found.usable.values():
            try:
                _settings_of(present)
            except ValueError as error:
                present.trouble = f"its settings cannot be read: {error}"
        done, lost, interrupted = side_by_side(found, one)
        troubles = found.troubles
    every = FromPlaces({name: part for name, (_, part) in done.items()}, troubles, lost)
    trees = [
        msgspec.structs.replace(tree, title=f"{tree.title} from {name}")
        for name, (_, part) in done.items()
        for tree in part.trees()
    ]
    ran = whole({name: ran for name, (ran, _) in done.items()}, interrupted=interrupted)
    report = report_of("from-here", estate, ran, every, tests=trees)
    finish(report, showing, every, several_views=len(estate.views) > 1)


def _settings_of(present: Present) -> Settings:
    return told_settings(present.settings.get("settings", b""))


def _says(part: Here) -> str:
    """Return the answer of several names."""
    counts = part.counts()
    agrees, differs, unverified = counts["agrees"], counts["differs"], counts["unverified"]
    total = agrees + differs + unverified
    own = "resolves here as it should" if agrees == 1 else "resolve here as they should"
    parts = [f"{agrees} of {total} names {own}"]
    parts += [f"{differs} {'does' if differs == 1 else 'do'} not"] if differs else []
    parts += [f"{unverified} could not be verified"] if unverified else []
    return "; ".join(parts) + "."


def programs_get(text: str) -> Programs:
    """Return what this computer's own programs get for something typed (getaddrinfo, or gethostbyaddr for an address), in the
    system's order. It cannot be hurried; where it takes too long, that is said."""
    found: list[Programs] = []
    began = time.monotonic()
    thread = threading.Thread(target=lambda: found.append(_get(text, began)), daemon=True)
    thread.start()
    thread.join(PROGRAMS_S)
    return found[0] if found else Programs((), f"no answer within {PROGRAMS_S:.0f} s", PROGRAMS_S)


def _get(text: str, began: float) -> Programs:
    values: list[bytes] = []
    error = ""
    try:
        if address_in(text) is not None:
            name, _, _ = socket.gethostbyaddr(text)
            values = [from_text(name)]
        else:
            for *_, place in socket.getaddrinfo(text, None, type=socket.SOCK_STREAM):
                values.append(ipaddress.ip_address(str(place[0]).partition("%")[0]).packed)
    except (OSError, UnicodeError, Unusable) as problem:
        error = getattr(problem, "strerror", None) or "no such name"
    return Programs(tuple(dict.fromkeys(values)), error, time.monotonic() - began)


def wait_until_registered(look: Look, within: str | None, *, json: bool) -> NoReturn:
    """Watch until this computer is registered on every server with each of its addresses, and end the program."""
    from salt_mirror.checks.settle.goals import registration
    from salt_mirror.cli.arguments import seconds_of
    from salt_mirror.cli.settle import watch_goals
    from salt_mirror.dns.names import to_text
    from salt_mirror.dns.reverse import address_text

    own = own_scope(look.scope)
    if not own.addresses:
        raise BadInput("--wait: this computer has no address that counts, in a network of the estate")
    name = to_text(own.name)
    goals = [goal for one in own.addresses for goal in registration(name, address_text(one.address), None)]
    within_s = seconds_of(within, "--within") if within is not None else None
    watch_goals(goals, own.view, look.estate, look.asking, within_s=within_s, json=json)
    raise AssertionError("a watch ends the program")

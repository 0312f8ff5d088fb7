"""`--from`: other machines that ask for a command, found through the estate's broker; and one check from several of them.

Strategy: a vantage looks with its own eyes, so a check that goes by resolvers has the vantage's own in place of the estate's.
Each vantage runs the check as one machine would, side by side, over an exchange that leads to it; the parts are put together
after.
"""

from __future__ import annotations

import contextlib
import ipaddress
import zlib
from collections.abc import Callable, Iterator
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Part
from salt_mirror.checks.vantage.judging import FromPlaces
from salt_mirror.cli.arguments import atlas_of, open_estate, words_in
from salt_mirror.cli.execution import Ran, run_part
from salt_mirror.cli.options import Asking, Where
from salt_mirror.dns.names import Name, ancestors
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.reverse import Network
from salt_mirror.dns.system import paced, parse_server
from salt_mirror.dns.workers import Workers
from salt_mirror.estate.duties import Duty
from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.estate.model import Estate
from salt_mirror.vantages.protocol import NO_RESOLVER, NOWHERE

if TYPE_CHECKING:
    from salt_mirror.dns.dialogue import Near
    from salt_mirror.vantages.desk import Desk, Present
    from salt_mirror.vantages.exchange import FarExchange
    from salt_mirror.vantages.tls import Papers

T = TypeVar("T")
EVERYWHERE = "everywhere"
EXTRA = "vantages want the extra of that name: pip install 'salt-mirror[vantages]'"


class Afar:
    """The vantages that a command was told to ask from, as they were found."""

    def __init__(self, estate: Estate, where: Where, *, settings: bool = False) -> None:
        """Raises BadInput for a name that nobody knows, or an estate that does not say where vantages are."""
        self.desk: Desk | None = None
        wanted = words_in(where.vantages)
        address, papers = broker_of(estate)
        try:
            from salt_mirror.vantages.desk import Desk, Present
            from salt_mirror.vantages.transport import Unreached
        except ImportError:
            raise BadInput(EXTRA) from None
        try:
            self.desk = Desk(address, papers)
            here = self.desk.here(list(estate.vantages))
            names = self._names(wanted, estate, {name: one.group for name, one in here.items()})
            self.present = self.desk.greet(names, settings=settings)
        except Unreached as error:
            names = self._names(wanted, estate, {})
            self.present = {name: Present(name, trouble=str(error)) for name in names}
        for name, present in self.present.items():
            declared = estate.vantages.get(name)
            if declared is not None and declared.group:
                present.group = declared.group

    @staticmethod
    def _names(wanted: list[str], estate: Estate, here: dict[str, str]) -> list[str]:
        """Return the vantages that are meant, those that the estate names first. Raises BadInput."""
        groups = here | {name: one.group for name, one in estate.vantages.items()}
        known = dict.fromkeys([*estate.vantages, *sorted(here)])
        found: dict[str, None] = {}
        for word in wanted:
            meant = [word] if word in known else [name for name in known if groups.get(name) == word]
            if word == EVERYWHERE:
                meant = list(known)
            if not meant:
                every = dict.fromkeys([*known, *filter(None, groups.values()), EVERYWHERE])
                raise BadInput(f"--from: there is no vantage or group {word!r}; {hint(word, every)}")
            found.update(dict.fromkeys(meant))
        return list(found)

    @property
    def usable(self) -> dict[str, Present]:
        """The vantages that can be used."""
        return {name: one for name, one in self.present.items() if one.trouble is None}

    @property
    def troubles(self) -> dict[str, str]:
        """The others, each with the reason."""
        return {name: one.trouble for name, one in self.present.items() if one.trouble is not None}

    def alone(self, name: str) -> FarExchange:
        """Return an exchange that asks everything from one vantage."""
        from salt_mirror.vantages.exchange import FarExchange

        return FarExchange(self.desk, {name: self.present[name]}, choose=lambda _: name)

    def beside(self, near: Near, *, revived: bool = False) -> FarExchange:
        """Return an exchange that asks from wherever a question's server is seen from, from here otherwise."""
        from salt_mirror.vantages.exchange import FarExchange

        return FarExchange(self.desk, self.present, near, revived=revived)

    def shared(self, estate: Estate) -> FarExchange:
        """Return an exchange that shares the zones of an estate among the vantages that may ask its servers; the others take
        over what one leaves."""
        from salt_mirror.vantages.exchange import FarExchange

        for present in self.usable.values():
            networks = [ipaddress.ip_network(text) for text in present.allowed if "://" not in text]
            beyond = [server.label for server in estate.servers.values() if not _within(server, networks)]
            if beyond:
                present.trouble = f"it may not ask {beyond[0]}"
        apexes = {zone.apex for zone in estate.all_zones()}

        def choose(question: Question) -> str:
            names = exchange.standing
            return names[zlib.crc32(_apex(question[0], apexes)) % len(names)] if names else next(iter(self.present))

        exchange = FarExchange(self.desk, self.present, choose=choose, shared=True)
        return exchange

    def close(self) -> None:
        """End the connection."""
        if self.desk is not None:
            self.desk.close()


def _within(server: Server, networks: list[Network]) -> bool:
    address = ipaddress.ip_address(server.address)
    return any(address in network for network in networks)


def _apex(name: Name, apexes: set[Name]) -> Name:
    """Return the zone of a name; the name itself where no zone of the estate is around it."""
    return next((above for above in ancestors(name) if above in apexes), name)


@contextlib.contextmanager
def afar(estate: Estate, where: Where, *, settings: bool = False) -> Iterator[Afar]:
    """Return the vantages for as long as a command needs them."""
    found = Afar(estate, where, settings=settings)
    try:
        yield found
    finally:
        found.close()


def broker_of(estate: Estate) -> tuple[str, Papers]:
    """Return the address of the estate's broker, and our papers. Raises BadInput."""
    from salt_mirror.vantages.tls import AUTHORITY, Papers

    entry = estate.broker
    if entry is None:
        raise BadInput(
            'there is no [vantage_broker] in the estate; it says where vantages are reached: address = "192.0.2.60:8883", '
            'certificate = "keys/desk.pem", key = "keys/desk.key"'
        )
    folder = estate.path.parent if estate.path is not None else Path()
    certificate = folder / entry.certificate
    authority = folder / entry.authority if entry.authority else certificate.parent / AUTHORITY
    broker_authority = folder / entry.broker_authority if entry.broker_authority else None
    return entry.address, Papers(certificate, folder / entry.key, authority, broker_authority)


# What is seen from there


def own_resolvers(name: str, present: Present) -> list[Server]:
    """Return the resolvers that a vantage's computer itself uses, to be asked from there; one that says why none is known."""
    servers = []
    for text in present.resolvers:
        with contextlib.suppress(ValueError):
            label = name if len(present.resolvers) == 1 else f"{name}, {text.removesuffix(':53')}"
            servers.append(paced(parse_server(text, label)))
    if not servers:
        servers = [Server(name, NOWHERE)]
        servers[0].host = "unknown"
    for server in servers:
        server.via = name
    return servers


def seen_as(estate: Estate, name: str, present: Present) -> Estate:
    """Return an estate as a vantage sees it: the resolvers are its own, and give the view that people there should get."""
    declared = estate.vantages.get(name)
    finders = own_resolvers(name, present)
    own = [server for server in finders if estate.asks(server)] if present.resolvers else []
    estate.resolvers = {server.label: server for server in own}
    estate.groups = {present.group: own} if present.group else {}
    estate.duties = {server.label: Duty(view=declared.view if declared is not None else "") for server in own}
    estate.finders = tuple(finders)
    return estate


def atlas_at(estate: Estate) -> Atlas:
    """Return the atlas of a vantage: it has its own resolvers alone, and nobody knows from which address it asks."""
    atlas = atlas_of(estate)
    atlas.source_of = lambda _: None
    return atlas


Build = Callable[[Estate], tuple[Part, Atlas]]
"""Makes a check for an estate."""


def check_from(
    where: Where, asking: Asking, build: Build, what: str, estate: Estate, *, of_resolvers: bool = False
) -> tuple[Ran, FromPlaces]:
    """Run one check from each vantage, side by side: what it cost, and what they say together. A check `of_resolvers` cannot
    use a vantage that has none."""
    refuse_transfer(asking)
    with afar(estate, where) as found:
        for present in found.usable.values():
            if of_resolvers and not present.resolvers:
                present.trouble = NO_RESOLVER

        def one(name: str, exchange: FarExchange) -> tuple[Ran, Part]:
            seen = seen_as(open_estate(asking), name, found.present[name])
            part, atlas = build(seen)
            return run_part(part, atlas, seen.views, asking, what, transfers=[], far=exchange), part

        done, lost, interrupted = side_by_side(found, one)
        rans = {name: ran for name, (ran, _) in done.items()}
        parts = {name: part for name, (_, part) in done.items()}
        return whole(rans, interrupted=interrupted), FromPlaces(parts, found.troubles, lost)


def side_by_side(found: Afar, one: Callable[[str, FarExchange], T]) -> tuple[dict[str, T], dict[str, str], bool]:
    """Run something for each usable vantage over an exchange that leads there, all at the same time. Returns what came of it,
    the vantages that were lost with the reason, and whether it was interrupted."""
    exchanges = {name: found.alone(name) for name in found.usable}
    workers = Workers(max(1, len(exchanges)), "vantage")
    interrupted = False
    running = {name: workers.submit(partial(one, name, exchange)) for name, exchange in exchanges.items()}
    while True:
        try:
            done = {name: future.result() for name, future in running.items()}
            break
        except KeyboardInterrupt:
            interrupted = True
            for exchange in exchanges.values():
                exchange.stop("interrupted")
    workers.close()
    lost = {name: why for exchange in exchanges.values() for name, why in exchange.lost.items() if not interrupted}
    return done, lost, interrupted


def whole(rans: dict[str, Ran], *, interrupted: bool) -> Ran:
    """Return what several runs cost together."""
    from salt_mirror.report.document import now

    if not rans:
        return Ran(now(), 0.0, 0, 0, 0, [], interrupted)
    started: datetime = min(ran.started for ran in rans.values())
    remarks = list(dict.fromkeys(remark for ran in rans.values() for remark in ran.remarks))
    every = list(rans.values())
    return Ran(
        started, max(ran.seconds for ran in every), sum(ran.questions for ran in every), 0, 0, remarks,
        interrupted or any(ran.interrupted for ran in every), sum(ran.saved for ran in every), 0,
    )  # fmt: skip


def refuse_transfer(asking: Asking) -> None:
    """Raise BadInput where zones are wished to be taken by transfer: that is done by this computer alone."""
    if asking.transfer:
        raise BadInput("--from and --transfer: a vantage asks single questions; leave one of the two out")

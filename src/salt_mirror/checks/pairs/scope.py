"""What `pairs` has to look at: arguments and estate turned into names and addresses, each in its view.

Strategy: worked out before anything is asked, so that a wrong argument costs nothing and is told at once. A network is
swept address by address as far as that is sane, and known names fill in where it is not (IPv6).
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from salt_mirror.checks.common.part import Holdings, no_holding
from salt_mirror.checks.common.wording import many
from salt_mirror.dns.names import Name, from_text, is_within, shown, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, CNAME, PTR, A
from salt_mirror.dns.reverse import Network, address_of, in_network, is_reverse, network_zone, reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation, Values, value_set, with_value
from salt_mirror.estate.forms import address_in, check_name, network_in, range_in
from salt_mirror.estate.model import Estate
from salt_mirror.estate.typed import is_short, leased_names, whole_names

if TYPE_CHECKING:
    from salt_mirror.checks.common.narrowing import Narrowing

SWEEP_MOST = 1 << 16
"""The most addresses of a network that are swept unasked: a /16."""

UNSEEN = "a sweep sees PTR records: a host that is not expected and has none is only seen with --transfer"
"""What has to be said wherever nothing but a sweep looked for unexpected hosts."""

_FORWARD = frozenset((A, AAAA, CNAME))


class ExpectedAddresses(Mapping[tuple[str, Name], frozenset[bytes]]):
    """The addresses that are expected of a (view, name), kept by view: a key of both takes 56 bytes more for each."""

    def __init__(self, expected: Iterable[tuple[str, Name, bytes]]) -> None:
        self._by_view: dict[str, dict[Name, Values]] = {}
        for view, name, address in expected:
            names = self._by_view.setdefault(view, {})
            names[name] = with_value(names[name], address) if name in names else address

    def __getitem__(self, key: tuple[str, Name]) -> frozenset[bytes]:
        view, name = key
        return value_set(self._by_view[view][name])

    def __iter__(self) -> Iterator[tuple[str, Name]]:
        return ((view, name) for view, names in self._by_view.items() for name in names)

    def __len__(self) -> int:
        return sum(map(len, self._by_view.values()))


class PairsScope:
    """The work: names to judge, then addresses whose pointers to judge unless a name has led to them.

    `expected` are the addresses expected of a (view, name); `remarks` what the reader has to know about the coverage.
    Raises BadInput for an argument that cannot be used. `sweep_all` lifts the limit on the size of networks.
    """

    def __init__(
        self, estate: Estate, arguments: Sequence[str] = (), *, view: str | None = None, sweep_all: bool = False
    ) -> None:
        estate.check_view(view)
        self.estate = estate
        self.remarks: list[str] = []
        self.views = [view] if view is not None else estate.views
        self._sweep_all = sweep_all
        self._names: dict[tuple[Name, str], None] = {}
        self._single: dict[tuple[bytes, str], bool] = {}
        self._networks: list[tuple[Network, str]] = []
        self._sees: Callable[[Name, str], bool] = lambda _, __: True
        self._sweeps: list[tuple[ipaddress.IPv4Network, str]] = []
        self.expected = ExpectedAddresses((view, one.name, one.rdata) for view, one in self._addresses_expected())
        self._everything = not arguments
        self._typed = len(arguments)
        if arguments:
            for argument in arguments:
                self._add(argument)
        else:
            self._add_everything()

    @property
    def names(self) -> Iterator[tuple[Name, str]]:
        """Every name to judge, with its view."""
        return iter(self._names)

    def addresses(self, holdings: Holdings = no_holding) -> Iterator[tuple[bytes, str, bool]]:
        """Return every address whose pointers to judge, with its view and whether it was asked for by itself. Of a network
        whose zone is in hand on every server those that have anything there: the others have nothing to be judged."""
        for (address, view), asked_for in self._single.items():
            yield address, view, asked_for
        for network, view in self._sweeps:
            there = self._registered_in(network, view, holdings)
            if there is not None:
                yield from ((address, view, False) for address in there)
                continue
            for number in range(int(network.network_address), int(network.broadcast_address) + 1):
                yield number.to_bytes(4, "big"), view, False

    def _registered_in(self, network: ipaddress.IPv4Network, view: str, holdings: Holdings) -> list[bytes] | None:
        """Return the addresses of a network at which a server of its zone has a name; None where zones in hand do
        not tell."""
        zone = self.estate.zone_of(reverse_name(network.network_address.packed), view)
        own = zone.network if zone is not None else None
        if zone is None or not zone.servers or not isinstance(own, ipaddress.IPv4Network) or not network.subnet_of(own):
            return None
        if any(apex != zone.apex and is_within(apex, zone.apex) for apex in self.estate.zones[view]):
            return None
        found: set[bytes] = set()
        for server in zone.servers:
            holding = holdings(server, zone.apex)
            if holding is None or not holding.whole or not holding.is_plain:
                return None
            found |= {address for name in holding.names if (address := address_of(name)) is not None}
        return sorted(address for address in found if in_network(network, address))

    def damaged(self) -> Iterator[tuple[Name, str, str]]:
        """Return the names that are looked at with a row that cannot be used, each with its view and what is wrong."""
        for view in self.views:
            for (name, rdtype), says in self.estate.damaged_in(view).items():
                if rdtype in _FORWARD and (self._everything or (name, view) in self._names) and self._sees(name, view):
                    yield name, view, says

    @property
    def sweeps(self) -> bool:
        """Whether whole networks are looked through, address by address."""
        return bool(self._sweeps)

    @property
    def size(self) -> int:
        """How many names and addresses there are to look at."""
        return len(self._names) + len(self._single) + sum(network.num_addresses for network, _ in self._sweeps)

    def narrow(self, sees: Callable[[Name, str], bool]) -> None:
        """Leave out the names, addresses and networks that are not to be seen; `sees` is asked with a name and its view."""
        self._sees = sees
        self._names = {
            (name, view): None
            for name, view in self._names
            if sees(name, view) or any(sees(reverse_name(one), view) for one in self.expected.get((view, name), ()))
        }
        self._single = {
            (address, view): by_itself
            for (address, view), by_itself in self._single.items()
            if sees(reverse_name(address), view)
        }
        self._sweeps = [
            (network, view)
            for network, view in self._sweeps
            if sees(reverse_name(network.network_address.packed), view)
        ]

    def sweep_alone(self, addresses: Collection[bytes]) -> None:
        """Have no network swept, but looks at those of some addresses that lie in one."""
        for network, view in self._sweeps:
            for address in addresses:
                if in_network(network, address):
                    self._single.setdefault((address, view), False)
        self._sweeps = []

    def leave_out(self, narrowing: Narrowing) -> None:
        """Leave out what lies in unchanged zones alone, but for the sample, whose addresses are added."""
        aliases = narrowing.aliases()
        self._names = {
            (name, view): None
            for name, view in self._names
            if narrowing.asks_pair(name, view, self.expected.get((view, name), ()), aliases.get((view, name), ()))
        }
        holders: dict[str, list[tuple[bytes, Name]]] = {}
        for (view, address), names in self._holders.items():
            holders.setdefault(view, []).extend((address, name) for name in names)
        swept = [one for one in self._sweeps if narrowing.sweeps(*one, holders.get(one[1], ()))]
        left = [one for one in self._sweeps if one not in swept]
        self._sweeps = swept
        self._single = {
            (address, view): by_itself
            for (address, view), by_itself in self._single.items()
            if narrowing.asks_pointer(address, view)
        }
        for address, view in narrowing.addresses:
            if any(view == other and in_network(network, address) for network, other in left):
                self._single.setdefault((address, view), False)

    def take_registered(self, registered: Iterable[tuple[str, Name, bytes]]) -> None:
        """Add what the zones in hand have registered, each a view, a name and an address, as far as it was asked for."""
        for view, name, address in registered:
            if name.startswith(b"\x01*") or (name, view) in self._names:
                continue
            if self._everything:
                wanted = self._sees(name, view) or self._sees(reverse_name(address), view)
            else:
                wanted = (address, view) in self._single or any(
                    other == view and in_network(network, address) for network, other in self._networks
                )
            if wanted:
                self._names[name, view] = None

    def swept(self) -> Iterator[tuple[Name, str]]:
        """Return the reverse zones of the networks whose every address is looked at, each with its view."""
        return ((_top(network), view) for network, view in self._sweeps)

    def _expectations(self) -> Iterator[tuple[str, Expectation]]:
        for view in self.views:
            for zone in self.estate.zones.get(view, {}).values():
                for expectation in zone.expectations:
                    if expectation.presence != "absent":
                        yield view, expectation

    def _addresses_expected(self) -> Iterator[tuple[str, Expectation]]:
        for view, expectation in self._expectations():
            if expectation.rdtype in (A, AAAA) and not expectation.name.startswith(b"\x01*"):
                yield view, expectation

    @cached_property
    def _holders(self) -> dict[tuple[str, bytes], list[Name]]:
        """The names that an address is expected of, by view and address: nobody needs them who looks at all names."""
        holders: dict[tuple[str, bytes], list[Name]] = {}
        for view, expectation in self._addresses_expected():
            holders.setdefault((view, expectation.rdata), []).append(expectation.name)
        return holders

    def _add_everything(self) -> None:
        wild: dict[str, None] = {}
        for view, expectation in self._expectations():
            if expectation.rdtype in _FORWARD and expectation.name.startswith(b"\x01*"):
                wild[to_text(expectation.name)] = None
            elif is_reverse(expectation.name):  # an alias there leads to a pointer, not to a host (RFC 2317)
                address = address_of(expectation.name) if expectation.rdtype in (PTR, CNAME) else None
                if address is not None:
                    self._single[address, view] = True
            elif expectation.rdtype in _FORWARD:
                self._names[expectation.name, view] = None
        if wild:
            self.remarks.append(f"{', '.join(wild)}: a wildcard has no PTR record to compare with; rollcall checks it")
        for view in self.views:
            for zone in self.estate.zones.get(view, {}).values():
                replicated = self.estate.replicated.get((view, zone.apex))
                if zone.network is not None and replicated is not None and replicated.pointers is not None:
                    self._take_told(zone.network, view, replicated.pointers)
                elif zone.network is not None:
                    self._sweep(zone.network, view, listed=True)
        if not self.size:
            raise BadInput(
                "nothing to check: give names, addresses or networks, or an estate with zones that expect records"
            )

    def _add(self, argument: str) -> None:
        text = argument.strip()
        address = address_in(text)
        if address is not None:
            self._add_address(address)
            return
        network = network_in(text)
        if network is not None:
            self._add_network(network)
            return
        several = range_in(text)
        if several is not None:
            for one in several:
                self._add_address(one)
            return
        check_name(text)
        name = from_text(text)
        asked_address = address_of(name)
        if asked_address is not None:
            self._add_address(asked_address)
            return
        for full in self._completed(name, text):
            for view in self._views_of([full]):
                self._names[full, view] = None

    def _completed(self, name: Name, text: str) -> list[Name]:
        """Return the expected or leased names that begin with a single label; any other name as it is."""
        if not self.estate.zones:
            return [name]
        if not is_short(text):
            self._offer_near(name)
            return [name]
        known = self._expected_names
        values = [full for full in whole_names(text, self.estate, self.views) if full in known]
        if not values:
            begin = from_text(text)[:-1]
            values = sorted((full for full in leased_names(self.estate) if full.startswith(begin)), key=to_text)
            for full in values:
                self._offer_near(full)
        if not values:
            from salt_mirror.checks.common.nearest import meant, names_of

            offer = meant(text, names_of(self.estate)) or "write the whole name"
            raise BadInput(f"{shown(text)}: the estate expects no host of that name; {offer}")
        if [to_text(full) for full in values] != [text]:
            self.remarks.append(f"{text} was taken as {', '.join(map(to_text, values))}")
        return values

    @cached_property
    def _expected_names(self) -> set[Name]:
        """The names that are expected to have addresses, or that a row about such a name cannot be used."""
        known = {expectation.name for _, expectation in self._expectations() if expectation.rdtype in _FORWARD}
        return known | {name for view in self.views for name, _ in self.estate.damaged_in(view)}

    def _offer_near(self, name: Name) -> None:
        """Say which expected name is near to one that is not. Every known name is compared, and so only with few typed ones."""
        if not self._expected_names or name in self._expected_names:
            return
        from salt_mirror.checks.common.nearest import MOST_TYPED, unexpected

        if self._typed <= MOST_TYPED and (offer := unexpected(name, self._expected_names)):
            self.remarks.append(offer)

    def _views_of(self, names: Iterable[Name]) -> list[str]:
        """Return the views that hold a zone for any of some names; the first view, or none at all, where no one does."""
        found = [view for view in self.views if any(self.estate.zone_of(name, view) is not None for name in names)]
        return found or self.views[:1] or [""]

    def _add_address(self, address: bytes) -> None:
        holders = {view: self._holders.get((view, address), []) for view in self.views}
        views = [view for view in self.views if holders[view]] or self._views_of([reverse_name(address)])
        for view in views:
            for name in holders.get(view, []):
                self._names[name, view] = None
            self._single[address, view] = not holders.get(view)

    def _add_network(self, network: Network) -> None:
        if network.version == 4 and network.num_addresses > SWEEP_MOST and not self._sweep_all:
            raise BadInput(
                f"{network} has {network.num_addresses:,} addresses; sweeping more than {SWEEP_MOST:,} needs --sweep-all"
            )
        for view in self._views_of([_top(network)]):
            for (other, address), names in self._holders.items():
                if other == view and in_network(network, address):
                    for name in names:
                        self._names[name, view] = None
            self._sweep(network, view, listed=False)

    def _take_told(self, network: Network, view: str, pointers: Sequence[Name]) -> None:
        """Have the pointers looked at that a directory told of a network, in place of every address of it."""
        self._networks.append((network, view))
        for owner in pointers:
            address = address_of(owner)
            if address is not None:
                self._single.setdefault((address, view), False)
        number = many(len(pointers), "pointer")
        self.remarks.append(f"{network} was not swept: the directory has all of its PTR records ({number})")

    def _sweep(self, network: Network, view: str, *, listed: bool) -> None:
        self._networks.append((network, view))
        if isinstance(network, ipaddress.IPv6Network):
            known = sum(
                len(names)
                for (other, address), names in self._holders.items()
                if other == view and in_network(network, address)
            )
            self.remarks.append(
                f"{network} was not swept, since IPv6 networks cannot be: judged from the {many(known, 'name')} known in it"
            )
        elif network.num_addresses > SWEEP_MOST and listed and not self._sweep_all:
            self.remarks.append(
                f"{network} was not swept ({network.num_addresses:,} addresses; --sweep-all sweeps it): judged from known names"
            )
        elif (network, view) not in self._sweeps:
            self._sweeps.append((network, view))


def _top(network: Network) -> Name:
    """Return the reverse name at or above a whole network, to find its zone and so its view."""
    step = 8 if network.version == 4 else 4
    for prefix in range(network.prefixlen, step - 1, -1):
        if prefix % step == 0 and prefix < network.max_prefixlen:
            return network_zone(network.supernet(new_prefix=prefix))
    return reverse_name(network.network_address.packed)


def registered_addresses(
    scope: PairsScope, given: Sequence[Server], holdings: Holdings
) -> Iterator[tuple[str, Name, bytes]]:
    """Return every address in a zone that was taken by transfer: the view, the name, the address. `given` servers are asked
    about everything."""
    for view in scope.views:
        for zone in scope.estate.zones.get(view, {}).values():
            for server in given or zone.servers or ():
                holding = holdings(server, zone.apex)
                for name, rdtype, _, values in holding.rrsets() if holding is not None else ():
                    if rdtype in (A, AAAA):
                        yield from ((view, name, address) for address in values)

"""What is registered in an estate, as far as it is known: whole zones in hand, and else what is asked for set by set.

Strategy: of a zone that nobody hands over the expected names are asked for, the PTR record of each address of a network, and
the names that those lead to. What was not seen whole is said.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.directories import all_wanted, directory_of
from salt_mirror.checks.common.part import Setting, in_hand
from salt_mirror.checks.plan.primaries import Primary, held_at, primary_of
from salt_mirror.checks.plan.sets import Held, SetKey
from salt_mirror.checks.rehearse.networks import Renumbering
from salt_mirror.checks.rehearse.renumber import KnownSet
from salt_mirror.dns.dialogue import Dialogue, Runner, put
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, NOT_COMPARED, NS, PTR, SOA, TXT, A, soa_fields
from salt_mirror.dns.reverse import is_reverse, reverse_name
from salt_mirror.estate.model import Zone

_OF_HOSTS = (A, AAAA, TXT)


class Known:
    """The sets of an estate's zones, the server that takes changes of each, its refresh (seconds) where servers follow, and the
    zones that were not seen whole."""

    def __init__(self, atlas: Atlas, renumbering: Renumbering) -> None:
        self.sets: dict[SetKey, KnownSet] = {}
        self.servers: dict[tuple[str, Name], Server | None] = {}
        self.refresh_s: dict[tuple[str, Name], int] = {}
        self.partly: list[str] = []
        self._atlas = atlas
        self._move = renumbering

    def see(self, setting: Setting, runner: Runner, views: Iterable[str]) -> None:
        """Take in what is in hand, and ask for the rest."""
        asked: list[tuple[Zone, Server]] = []
        for view in views:
            for zone in self._atlas.estate.zones.get(view, {}).values():
                primary: Primary = next(iter(runner.run([primary_of(zone, self._atlas)])))
                self.servers[zone.view, zone.apex] = primary.server
                self.refresh_s[zone.view, zone.apex] = self._refresh(primary, zone, runner)
                holding = in_hand(zone, setting.holdings)
                if holding is not None:
                    for name, rdtype, ttl, values in holding.rrsets():
                        if rdtype not in NOT_COMPARED:
                            key = SetKey(zone.view, zone.apex, name, rdtype)
                            self.sets[key] = KnownSet(ttl, frozenset(values))
                elif primary.source is not None:
                    asked.append((zone, primary.source))
        for zone, server in asked:
            self._ask(runner, zone, server, self._wanted(zone))
        # Hosts that nobody expects are known by the PTR records that lead to them.
        found = {(key.view, value) for key, one in list(self.sets.items()) if key.rdtype == PTR for value in one.values}
        for zone, server in asked:
            led = [
                (name, rdtype)
                for view, name in sorted(found)
                if view == zone.view and self._atlas.estate.zone_of(name, view) is zone
                for rdtype in _OF_HOSTS
            ]
            self._ask(runner, zone, server, led)
        self.partly = [to_text(zone.apex) for zone, _ in asked if not is_reverse(zone.apex)]

    @staticmethod
    def _refresh(primary: Primary, zone: Zone, runner: Runner) -> int:
        """Return how much later a secondary may have a change, in seconds; 0 where nobody follows."""
        if primary.source is None or len(primary.servers) < 2 or primary.replicas is not None:
            return 0
        (answer,) = next(iter(runner.run([put([Question(zone.apex, SOA, primary.source)])])))
        return soa_fields(answer.values[0]).refresh if answer.trouble is None and answer.values else 0

    def _wanted(self, zone: Zone) -> list[tuple[Name, int]]:
        """Return what to ask of a zone: what is expected there, what its own name has, and the PTR records of the networks."""
        names = dict.fromkeys(one.name for one in zone.expectations if one.presence != "absent")
        sets = [
            (one.name, one.rdtype)
            for one in zone.expectations
            if one.presence != "absent" and one.rdtype not in NOT_COMPARED
        ]
        sets += [(name, rdtype) for name in names for rdtype in _OF_HOSTS if not is_reverse(name)]
        sets += [(zone.apex, rdtype) for rdtype in (NS, A, AAAA, TXT)]
        sets += [(name, A) for name in self._locators(zone)]
        if zone.network is not None:
            first = int(self._move.old.network_address)
            for number in range(first, first + self._move.old.num_addresses):
                address = number.to_bytes(4, "big")
                for one in (address, self._move.moved(address) or address):
                    name = reverse_name(one)
                    if self._atlas.estate.zone_of(name, zone.view) is zone:
                        sets.append((name, PTR))
        return list(dict.fromkeys(sets))

    def _locators(self, zone: Zone) -> list[Name]:
        """Return the names in a zone at which domain controllers register their addresses."""
        estate = self._atlas.estate
        directories = [directory_of(entry) for entry in estate.directories if entry.view == zone.view]
        return [
            wanted.name
            for directory in directories
            for wanted in all_wanted(directory)
            if A in wanted.rdtypes and estate.zone_of(wanted.name, zone.view) is zone
        ]

    def _ask(self, runner: Runner, zone: Zone, server: Server, sets: Sequence[tuple[Name, int]]) -> None:
        keys = [SetKey(zone.view, zone.apex, name, rdtype) for name, rdtype in sets]
        for key, held in runner.run(_asked(key, server) for key in keys):
            if not isinstance(held, str) and held.values:
                self.sets[key] = KnownSet(held.ttl or 0, held.values)


def _asked(key: SetKey, server: Server) -> Dialogue[tuple[SetKey, Held | str]]:
    return key, (yield from held_at(key, server))

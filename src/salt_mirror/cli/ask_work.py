"""The work of `ask`: which names, which types, which servers; and the answers, as they come.

Strategy: a line from a prompt or a file is asked as it arrives, and is on its own: a bad one is reported with its number, and
the rest goes on.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterable, Iterator, Sequence

from salt_mirror.checks.ask import EVERY, Asked, ask
from salt_mirror.checks.atlas import Atlas
from salt_mirror.cli.opening import servers_at
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.names import BadName, Name, from_text, labels
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, PTR, TYPE_NAMES, A, BadRecord, type_from_text
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.dns.system import search_list
from salt_mirror.dns.transfer import TransferFailed, transfer
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate

_MNEMONICS = frozenset(TYPE_NAMES.values())
AUTHORITATIVE = "authoritative"
_LOOK_S = 3.0

Complain = Callable[[int | None, str], None]


class Work:
    """What the arguments of `ask` come to. Raises BadInput for one that cannot be used."""

    def __init__(
        self,
        estate: Estate,
        words: Sequence[str],
        *,
        at: list[str] | None,
        view: str | None,
        suffixes: Sequence[str],
        every: bool,
        finders: tuple[Server, ...],
    ) -> None:
        self.from_stdin = "-" in words
        self.names, types = _sorted(words)
        self._types = tuple(EVERY) if every else types
        self._estate = estate
        if view is not None and view not in estate.zones:
            raise BadInput(f'--view: there is no view "{view}"; known: {", ".join(estate.zones) or "none"}')
        self._view = view if view is not None else next(iter(estate.zones), "")
        try:
            self._suffixes = [from_text(suffix) for suffix in suffixes]
        except BadName as error:
            raise BadInput(f"--suffix: {error}") from None
        if not self._suffixes:
            forward = [zone.apex for zone in estate.zones.get(self._view, {}).values() if zone.network is None]
            self._suffixes = [apex for apex in forward if not apex.endswith(b"\x04arpa\x00")] or search_list()
        wanted = [text.strip() for one in at or () for text in one.split(",") if text.strip()]
        self._all_authorities = AUTHORITATIVE in wanted
        grouped = [server for text in wanted for server in estate.groups.get(text, ())]
        named = servers_at([text for text in wanted if text != AUTHORITATIVE and text not in estate.groups], estate)
        own = frozenset(estate.servers.values())
        given = dict.fromkeys([*named, *grouped] if wanted else finders)
        self._servers = [(server, server not in own) for server in given]
        self._atlas = Atlas(estate, resolvers=finders)
        if not wanted and not finders:
            raise BadInput("this computer has no resolver that could be asked; name a server with --at")
        self._looked_in: set[Name] = set()
        self._known = {expectation.name for zone in estate.all_zones() for expectation in zone.expectations}

    @property
    def servers(self) -> list[Server]:
        """Every server that may be asked, as far as known beforehand."""
        return [*(server for server, _ in self._servers), *self._atlas.servers]

    def engine(self, *, timeout_s: float, tries: int) -> Engine:
        """The engine to ask with."""
        return Engine(timeout_s=timeout_s, tries=tries)

    def answers(
        self, lines: Iterable[tuple[int | None, str]], engine: Engine, complain: Complain
    ) -> Iterator[tuple[str, Asked | None]]:
        """What each line's name has, one after the other; None for a line that was no name, after complaining of it."""
        for number, line in lines:
            text = line.strip()
            if not text or text.startswith("#"):
                continue
            typed, *rest = text.split()
            try:
                name, rdtypes = self._question(typed, rest)
            except (BadName, BadRecord, BadInput) as error:
                if number is None:
                    raise BadInput(str(error)) from None
                complain(number, str(error))
                yield typed, None
                continue
            # A runner a name: at a prompt the same question is asked anew, since that is what somebody wants to see.
            (asked,) = Runner(engine).run([self._ask(name, rdtypes)])
            if (
                not asked.answered
                and any(told.denial == "no such name" for told in asked.told)
                and self._look_in_zone(name)
            ):
                (asked,) = Runner(engine).run([self._ask(name, rdtypes)])
            yield typed, asked

    def _look_in_zone(self, name: Name) -> bool:
        """Takes the names of the estate's zone by transfer, once, to find near ones; whether there are new ones."""
        zone = self._estate.zone_for(name, self._view)
        if zone is None or not zone.servers or zone.apex in self._looked_in:
            return False
        self._looked_in.add(zone.apex)
        before = len(self._known)
        try:
            for records in transfer(zone.servers[0], zone.apex, timeout_s=_LOOK_S, most_s=_LOOK_S):
                self._known.update(record.owner for record in records)
        except TransferFailed:
            return False
        return len(self._known) > before

    def _question(self, typed: str, rest: Sequence[str]) -> tuple[Name, tuple[int, ...]]:
        rdtypes = tuple(map(type_from_text, rest)) or self._types
        try:
            return reverse_name(ipaddress.ip_address(typed).packed), rdtypes or (PTR,)
        except ValueError:
            name = from_text(typed)
        if not typed.endswith(".") and len(labels(name)) == 1 and self._suffixes:
            whole = [name[:-1] + suffix for suffix in self._suffixes]
            name = next((one for one in whole if one in self._known), whole[0])
        return name, rdtypes or (A, AAAA)

    def _ask(self, name: Name, rdtypes: tuple[int, ...]) -> Dialogue[Asked]:
        servers = list(self._servers)
        if self._all_authorities:
            authority = yield from self._atlas.find(name, self._view)
            if not authority.servers and not servers:
                found = Asked(name, rdtypes, [])
                found.why.append(f"no authoritative server is known: {authority.trouble}")
                return found
            servers += [(server, False) for server in authority.servers]
        return (
            yield from ask(
                name, rdtypes, servers, self._atlas, known=self._known, suffixes=self._suffixes, view=self._view
            )
        )


def _sorted(words: Sequence[str]) -> tuple[list[str], tuple[int, ...]]:
    """Names and types, told apart: a word that is a type's mnemonic or number is a type, unless it comes first."""
    names: list[str] = []
    types: list[int] = []
    for place, word in enumerate(words):
        upper = word.upper()
        if word == "-":
            continue
        if place and (upper in _MNEMONICS or word.isdigit() or (upper.startswith("TYPE") and upper[4:].isdigit())):
            try:
                types.append(type_from_text(word))
            except BadRecord as error:
                raise BadInput(str(error)) from None
        else:
            names.append(word)
    return names, tuple(dict.fromkeys(types))

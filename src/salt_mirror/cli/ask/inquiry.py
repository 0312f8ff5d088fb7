"""An inquiry: which names, which types, which servers `ask` was given; and the answers, as they come."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from salt_mirror.checks.ask.judging import Asked, ask, found_in
from salt_mirror.checks.views.everywhere import everywhere_said
from salt_mirror.cli.arguments import atlas_of, servers_and_groups, type_of, words_in
from salt_mirror.cli.engines import finders
from salt_mirror.cli.options import Asking
from salt_mirror.dns.dialogue import Dialogue, Exchange, Runner
from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, PTR, SWEPT, TYPE_NAMES, A, rdata_text, type_text, zone_side
from salt_mirror.dns.reverse import is_reverse, reverse_name
from salt_mirror.dns.system import search_list
from salt_mirror.dns.transfer import BOUNDS, TransferFailed, transfer
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import address_in, network_in
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import given_lines, read_text
from salt_mirror.estate.typed import completed, is_short, leased_names, not_a_type

if TYPE_CHECKING:
    from salt_mirror.cli.vantage.asking import Afar

_MNEMONICS = frozenset(TYPE_NAMES.values())
AUTHORITATIVE, EVERYWHERE = "authoritative", "everywhere"
_LOOK_S = 3.0
_WORD = re.compile(r"(?:\\.|\S)+")  # an escaped space is part of a name (RFC 1035 section 5.1)

Complain = Callable[[int | None, str], None]


class Inquiry:
    """What the arguments of `ask` come to. Raises BadInput for one that cannot be used."""

    def __init__(
        self,
        estate: Estate,
        words: Sequence[str],
        asking: Asking,
        *,
        suffixes: Sequence[str],
        every: bool,
        tcp: bool = False,
        from_afar: bool = False,
    ) -> None:
        """`tcp`: servers are asked over TCP, those that are found too; `from_afar`: vantages ask, which are made known by
        `ask_from`."""
        self.names, types = _sorted(words)
        self.from_stdin = "-" in words
        self._tcp = tcp
        self._types = SWEPT if every else types
        self._estate = estate
        self._chosen_view = asking.view
        self._view = asking.view if asking.view is not None else next(iter(estate.zones), "")
        with about("--suffix"):
            self._suffixes = [from_text(suffix) for suffix in suffixes]
        self._own_suffixes = bool(self._suffixes)
        if not self._suffixes:
            apexes = estate.zones.get(self._view, {})
            self._suffixes = [apex for apex in apexes if not is_reverse(apex)] or search_list()
        wanted, resolvers = words_in(asking.at), finders(estate)
        self._all_authorities = AUTHORITATIVE in wanted
        self._everywhere = EVERYWHERE in wanted
        if self._everywhere:
            if not estate.zones:
                raise BadInput("--at everywhere asks all views and resolvers of an estate, and there is none here")
            wanted += estate.resolvers
        named = servers_and_groups([text for text in wanted if text not in (AUTHORITATIVE, EVERYWHERE)], estate)
        own = frozenset(estate.servers.values())
        given = dict.fromkeys(named if wanted else resolvers)
        self._atlas = atlas_of(estate)
        self._servers = [(self._over(server), server not in own) for server in given]
        self._atlas.pace = asking.pace or None
        self._wanted = bool(wanted)
        self._afar: Afar | None = None
        if not wanted and not resolvers and not from_afar:
            raise BadInput("this computer has no resolver that could be asked; name a server with --at")
        self._looked_in: set[Name] = set()
        self._knows_leases = False
        self._expectations: dict[Name, list[tuple[str, Expectation]]] | None = None
        self._known = {expectation.name for zone in estate.all_zones() for expectation in zone.expectations}

    def _over(self, server: Server) -> Server:
        """Return a server as it is asked: over TCP where that is wished for."""
        return self._atlas.sibling(server, "tcp") if self._tcp and server.over == "udp" else server

    def ask_from(self, found: Afar) -> None:
        """Have every server asked from each vantage: those that were named, else the resolvers that people there use."""
        from salt_mirror.cli.vantage.asking import own_resolvers

        self._afar = found
        if self._wanted:
            seen = [(server.seen_from(name), cache) for server, cache in self._servers for name in found.present]
        else:
            seen = [(server, True) for name, one in found.present.items() for server in own_resolvers(name, one)]
        self._servers = seen

    def _everywhere_seen(self, servers: Iterable[Server]) -> list[Server]:
        """Return servers as each vantage asks them; themselves where this computer asks."""
        if self._afar is None:
            return list(servers)
        return [server.seen_from(name) for server in servers for name in self._afar.present]

    @property
    def servers(self) -> list[Server]:
        """Every server that may be asked, as far as known beforehand."""
        return [*(server for server, _ in self._servers), *self._atlas.servers]

    def answers(
        self, lines: Iterable[tuple[int | None, str]], engine: Exchange, complain: Complain
    ) -> Iterator[tuple[str, Asked | None]]:
        """Return what each line's name has, one after the other; None for a line that was no name, after complaining of it."""
        for number, line in lines:
            if not line.strip() or line.lstrip().startswith("#"):
                continue
            typed, *rest = _WORD.findall(line)
            try:
                name, rdtypes = self._question(typed, rest)
            except Unusable as error:
                if number is None:
                    raise
                complain(number, str(error))
                yield typed, None
                continue
            views = self._views_of(name)
            for view in views:
                asked = self._put(engine, name, rdtypes, view)
                if (
                    not asked.answered
                    and any(told.denial == "no such name" for told in asked.told)
                    and self._look_in_zone(name, view)
                ):
                    asked = self._put(engine, name, rdtypes, view)
                asked.view = view if len(views) > 1 else ""
                yield typed, asked

    def _put(self, engine: Exchange, name: Name, rdtypes: tuple[int, ...], view: str) -> Asked:
        """Ask with a runner of its own: at a prompt the same question is asked anew, as somebody there wants to see."""
        runner = Runner(engine, most=self._estate.bounds.questions_for_a_name)
        (asked,) = runner.run([self._ask(name, rdtypes, view)])
        return asked

    def _views_of(self, name: Name) -> list[str]:
        """Return the views to ask in: all that hold the name, where its authoritative servers are asked and no view was
        chosen."""
        if not self._all_authorities or self._everywhere or self._chosen_view is not None:
            return [self._view]
        return [view for view in self._estate.views if self._estate.zone_of(name, view) is not None] or [self._view]

    def _look_in_zone(self, name: Name, view: str) -> bool:
        """Take the names of leases, and by transfer those of the estate's zone, each once; whether there are new ones."""
        before = len(self._known)
        if not self._knows_leases:
            self._knows_leases = True
            self._known |= leased_names(self._estate)
        zone = self._estate.zone_for(name, view)
        if zone is None or not zone.servers or zone.apex in self._looked_in:
            return len(self._known) > before
        self._looked_in.add(zone.apex)
        try:
            for records in transfer(
                zone.servers[0], zone.apex, timeout_s=_LOOK_S, bounds=BOUNDS._replace(seconds=_LOOK_S)
            ):
                self._known.update(record.owner for record in records)
        except TransferFailed:
            pass
        return len(self._known) > before

    def _question(self, typed: str, rest: Sequence[str]) -> tuple[Name, tuple[int, ...]]:
        rdtypes = tuple(map(type_of, rest)) or self._types
        try:
            network = network_in(typed)
        except BadInput as error:
            raise BadInput(f"{error}; salt-mirror pairs looks at every address of a network") from None
        if network is not None:
            raise BadInput(f"{shown(typed)} is a network; salt-mirror pairs {network} looks at every address of it")
        address = address_in(typed)
        if address is not None:
            return reverse_name(address), rdtypes or (PTR,)
        if is_short(typed) and self._own_suffixes:
            whole = [from_text(typed, suffix) for suffix in self._suffixes]
            return next((one for one in whole if one in self._known), whole[0]), rdtypes or (A, AAAA)
        views = [self._chosen_view] if self._chosen_view is not None else self._estate.views
        return completed(typed, self._estate, views, next(iter(self._suffixes), None)), rdtypes or (A, AAAA)

    def _ask(self, name: Name, rdtypes: tuple[int, ...], view: str) -> Dialogue[Asked]:
        servers = list(self._servers)
        if self._everywhere:
            return (yield from self._ask_everywhere(name, rdtypes, view))
        if self._all_authorities:
            of = zone_side(name, rdtypes[0]) if len(rdtypes) == 1 else name
            authority = yield from self._atlas.find(of, view)
            if not authority.servers and not servers:
                found = Asked(name, rdtypes, [])
                found.why.append(f"no authoritative server is known: {authority.trouble}")
                return found
            servers += [(self._over(server), False) for server in self._everywhere_seen(authority.servers)]
        asked = yield from ask(
            name, rdtypes, servers, self._atlas, known=self._known, suffixes=self._suffixes, view=view
        )
        usable = [told for told in asked.told if told.usable]
        if usable and all(told.denial == "no such name" and not told.chain for told in usable):
            asked.why[:0] = self._expected(name)
            asked_in = self._views_of(name) if self._all_authorities else []
            others = [one for one in self._estate.views if one not in asked_in and self._estate.zone_of(name, one)]
            asked.elsewhere = yield from found_in(others, asked, self._atlas)
        return asked

    def _expected(self, name: Name) -> Iterator[str]:
        """Say what the estate expects at a name that does not exist."""
        if name not in self._known:
            return
        if self._expectations is None:  # built with the first name that needs it
            self._expectations = {}
            for zone in self._estate.all_zones():
                for expectation in zone.expectations:
                    self._expectations.setdefault(expectation.name, []).append((zone.view, expectation))
        for view, one in self._expectations.get(name, ()):
            if one.presence != "absent":
                value = rdata_text(one.rdtype, one.rdata)
                of_view = f" in the view {view}" if view else ""
                yield f"the estate expects {type_text(one.rdtype)} {value}{of_view} ({one.where})"

    def _ask_everywhere(self, name: Name, rdtypes: tuple[int, ...], view: str) -> Dialogue[Asked]:
        """Ask the servers of every view that holds the name, and all resolvers; say who follows whom."""
        views: dict[str, tuple[Server, ...]] = {}
        for one in [self._chosen_view] if self._chosen_view is not None else self._estate.views:
            if self._estate.zone_of(name, one) is not None:
                views[one] = (yield from self._atlas.find(name, one)).servers
        own = dict.fromkeys(server for servers in views.values() for server in servers)
        servers = [*((self._over(server), False) for server in self._everywhere_seen(own)), *self._servers]
        asked = yield from ask(
            name, rdtypes, servers, self._atlas, known=self._known, suffixes=self._suffixes, view=view
        )
        if asked.answered:
            asked.why = list(everywhere_said(asked, views))
        return asked


def lines_of(inquiry: Inquiry, source: Path | None) -> Iterator[tuple[int | None, str]]:
    """Return the names to ask for, those of a file or of standard input with the numbers of their lines."""
    for name in inquiry.names:
        yield None, name
    if source is not None:
        with about("--names"):
            text = read_text(source)
        yield from enumerate(text.splitlines(), 1)
    if inquiry.from_stdin or (not inquiry.names and source is None and not sys.stdin.isatty()):
        yield from enumerate(given_lines(sys.stdin.buffer), 1)


def _sorted(words: Sequence[str]) -> tuple[list[str], tuple[int, ...]]:
    """Names and types, told apart: a word that is a type's mnemonic or number is a type, unless it comes first."""
    names: list[str] = []
    types: list[int] = []
    for place, word in enumerate(words):
        upper = word.upper()
        if word == "-":
            continue
        # Where no name is typed at all, names come from a pipe, and the first word is a type too.
        only_types = not sys.stdin.isatty() and all(one.upper() in _MNEMONICS for one in words)
        if (place or only_types) and (
            upper in _MNEMONICS or word.isdigit() or (upper.startswith("TYPE") and upper[4:].isdigit())
        ):
            types.append(type_of(word))
        else:
            meant = not_a_type(word, _MNEMONICS) if place else None
            if meant is not None:
                raise BadInput(f"{shown(word)} is no record type; did you mean {meant}? For a host write {word}.")
            names.append(word)
    return names, tuple(dict.fromkeys(types))

"""A draft from start to end: what was given, the search with its transfers, the judgement of what is registered, the files.

Strategy: everything that can be wrong with the arguments is found before anything is asked, and everything is asked before
anything is written. Records are written first and the estate last, so that whoever sees an estate sees all that it names.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import NoReturn

import typer
from msgspec import structs

from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.coverage import Chosen, Coverage
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.draft.catalog import members_of
from salt_mirror.checks.draft.doubting import Fit, RecordDoubts, sets_of
from salt_mirror.checks.draft.exploring import Explorer
from salt_mirror.checks.draft.lacking import Lacking, lacking
from salt_mirror.checks.draft.learnt import Learnt, LearntZone
from salt_mirror.checks.draft.scope import SearchStart
from salt_mirror.checks.pairs.scope import SWEEP_MOST
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.cli.arguments import ESTATE_HERE, atlas_of
from salt_mirror.cli.directories import (
    access_of,
    check_log_on,
    log_on_again,
    read_first,
    remarks_of,
    scheme_of,
    take_everywhere,
    urls_by_locators,
)
from salt_mirror.cli.draft.surroundings import find_short_signatures, is_isolated, with_servers
from salt_mirror.cli.engines import finders
from salt_mirror.cli.execution import Ran, run
from salt_mirror.cli.messages import INTERRUPTED, UNVERIFIED, tell
from salt_mirror.cli.options import Asking, LogOn
from salt_mirror.cli.transfers import bounds_of, taken
from salt_mirror.dns.dialogue import Exchange, Runner
from salt_mirror.dns.holding import Holding, HoldingExchange
from salt_mirror.dns.names import Name, from_text, printable, shown, to_text
from salt_mirror.dns.questions import Key, Server
from salt_mirror.dns.records import AAAA, A
from salt_mirror.dns.system import addresses_of, paced, parse_server, search_list, system_resolvers
from salt_mirror.estate.building import estate_of, load_estate
from salt_mirror.estate.directory.found import DirectoryFailed
from salt_mirror.estate.directory.reading import read_directory
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.file import KeyEntry, parse_estate
from salt_mirror.estate.forms import check_name, network_in, zone_name
from salt_mirror.estate.keys import key_of
from salt_mirror.estate.model import Estate
from salt_mirror.estate.reading import is_there, read_text
from salt_mirror.estate.zonelist import read_zone_list
from salt_mirror.keeping.draft import tables
from salt_mirror.keeping.draft.files import DraftFiles, write_draft
from salt_mirror.keeping.writing import path_from
from salt_mirror.report.document import now
from salt_mirror.report.files.review import review

MOST_ROUNDS = 40
NAMES = 10
"""As much as so many names may one dialogue of the search cost at servers that were found on the way: it is about one zone."""


"""So many of a domain's controllers are tried, one after the other."""


@dataclass(frozen=True, slots=True)
class DraftWish:
    """What the command line asks for."""

    begin: list[str]
    zones: Path | None
    catalogs: list[str]
    keys: list[str]
    log_on: LogOn
    folder: Path
    registered: bool
    add: bool
    json: bool


class Drafting:
    """One draft at work."""

    def __init__(self, wish: DraftWish, asking: Asking) -> None:
        self._wish = wish
        self._asking = asking
        check_log_on(wish.log_on)
        self._path = wish.folder / ESTATE_HERE
        self._old = read_text(self._path) if is_there(self._path) else None
        self._estate = load_estate(self._path) if self._old is not None else Estate()
        self._view = asking.view or ""
        self._keys = [self._key(text) for text in wish.keys]
        self._works: dict[Server, str] = {}
        self._atlas = atlas_of(self._estate)
        self._catalogs = [self._catalog(text) for text in wish.catalogs]
        self._wanted = self._given()
        self._exchange: HoldingExchange | None = None
        self._unread = ""
        self._failed: list[str] = []
        self._read_at = ""
        self._isolated = False
        self._fits: list[Fit] = []
        self._learnt = Learnt(self._view)

    # What was given

    def _key(self, text: str) -> tuple[str, str, Key]:
        """Read `NAME:FILE`: the name, the file as the estate will name it, the key. Raises BadInput."""
        name, colon, file = text.partition(":")
        if not colon or not name or not file:
            raise BadInput(f"--key: {shown(name)} is no NAME:FILE; expected one such as mirror:mirror.key")
        key = key_of(name, KeyEntry(secret_file=str(Path(file).absolute())), self._path)
        return name, path_from(self._wish.folder, Path(file)), key

    def _catalog(self, text: str) -> tuple[Name, Server]:
        zone, at, place = text.partition("@")
        server = self._server(place) if at else None
        if server is None:
            raise BadInput(
                f"--catalog: {shown(text)} is no ZONE@SERVER; expected one such as catalog.example@192.0.2.53, with an address"
            )
        return zone_name(zone), server

    def _server(self, text: str) -> Server | None:
        """Return a server by its label in the estate, or by its address; None for anything else."""
        known = self._estate.servers
        if text in known:
            return known[text]
        if text.startswith(("tcp://", "tls://", "https://")):
            return None
        try:
            server = parse_server(text, text, self._estate.reached)
        except ValueError:
            return None
        place = (server.address, server.port)
        same = [one for one in (*known.values(), *self._atlas.servers) if (one.address, one.port) == place]
        return same[0] if same else self._atlas.know(paced(server))

    def _given(self) -> SearchStart:
        """Return the arguments, each taken for what it is. Raises BadInput."""
        wanted = SearchStart()
        for text in self._wish.begin:
            server = self._server(text)
            network = network_in(text) if server is None else None
            if server is not None:
                wanted.servers.append(server)
            elif network is not None:
                if network.version == 4 and network.num_addresses > SWEEP_MOST:
                    raise BadInput(
                        f"{network} has {network.num_addresses:,} addresses, and {SWEEP_MOST:,} at most are swept; name parts"
                    )
                wanted.networks.append(network)
            else:
                check_name(text)
                wanted.names.append(from_text(text))
        if self._wish.zones is not None:
            names = read_zone_list(self._wish.zones)
            wanted.zones.update(dict.fromkeys(names, f"in {shown_path(self._wish.zones)}"))
        wanted.servers += [server for _, server in self._catalogs]
        wanted.servers = list(dict.fromkeys(wanted.servers))
        wanted.known = [server for server in self._estate.servers.values() if self._serves_view(server)]
        if not (wanted.names or wanted.networks or wanted.zones or self._catalogs or self._wish.log_on.directory):
            wanted.names = search_list()
            if not wanted.names:
                raise BadInput(
                    "nothing to begin with: give a domain, a network, --zones, --catalog or --directory, "
                    "such as: salt-mirror draft gullmarsh.example 192.0.2.0/24 192.0.2.53"
                )
        return wanted

    def _serves_view(self, server: Server) -> bool:
        """Return whether a server of the estate is one for the view that is drafted, or for none yet."""
        views = {zone.view for zone in self._estate.all_zones() if server in (zone.servers or ())}
        return not views or self._view in views

    # The search

    def run(self) -> NoReturn:
        """Drafts, writes and tells."""
        self._read_directory()
        asking = replace(self._asking, transfer=False)
        ran = run(
            self._search, self._atlas, [], asking, total=0, what="zones and names looked for", through=self._through
        )
        if ran.interrupted:
            tell("interrupted: nothing was written")
            raise typer.Exit(INTERRUPTED)
        self._isolated = is_isolated(finders(self._estate), self._asking)
        if not self._wish.log_on.user:  # with a password there may be no ticket to sign a change with
            find_short_signatures(self._learnt, self._asking)
        self._end(ran)

    def _read_directory(self) -> None:
        """Read the directory that was named, and find where its controllers are."""
        log_on = self._wish.log_on
        if log_on.directory is None:
            return
        own = f"{log_on.directory}: "
        try:
            urls = [log_on.directory]
            if "://" not in log_on.directory:
                servers = [*self._wanted.servers, *self._wanted.known]
                domain = zone_name(log_on.directory)
                urls = urls_by_locators(domain, scheme_of(log_on), self._estate, servers, self._asking)
            access = access_of(log_on, urls[0])
            directory, url, failed = read_first(urls, lambda url: read_directory(structs.replace(access, url=url)))
            self._read_at = url
            self._failed = [f"{why}; the directory was read from {url}" for why in failed] + remarks_of(directory, url)
        except DirectoryFailed as error:
            self._unread = (
                f"The directory {log_on.directory} could not be read: {printable(str(error)).removeprefix(own)}."
            )
            return
        self._wanted.directory = directory
        held = {(one.name, one.rdtype): one.rdata for zone in directory.zones for one in zone.records}
        for controller in directory.controllers:
            host = from_text(controller.host)
            addresses = [held[host, rdtype] for rdtype in (A, AAAA) if (host, rdtype) in held] or addresses_of(
                controller.host
            )
            self._wanted.controllers += [(host, address) for address in addresses]

    def _through(self, source: Exchange) -> Exchange:
        self._exchange = HoldingExchange(source)
        return self._exchange

    def _search(self, setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        remarks = self._take_catalogs()
        explorer = Explorer(self._wanted, self._atlas, self._view)
        for _ in range(MOST_ROUNDS):
            steps = explorer.dialogues()
            if not steps:
                break
            for result in runner.run(steps, names=NAMES):
                explorer.take(result)
                tick()
            self._take_zones(explorer)
        else:
            explorer.learnt.met.append(
                f"the search ended after {MOST_ROUNDS} rounds; draft again with --add for the rest"
            )
        self._learnt = explorer.finish()
        self._learnt.remarks += [*self._failed, *remarks]
        self._learnt.one_address_each()
        if self._wish.registered and self._learnt.zones:
            self._judge(setting, runner, tick)

    def _take_catalogs(self) -> list[str]:
        """Read the catalog zones; return what could not be."""
        remarks = []
        for zone, server in self._catalogs:
            found: Holding | str = ""
            for wanted in self._signed(server):
                ((_, _, found),) = taken([(wanted, zone)], bounds_of(self._estate), timeout_s=self._asking.timeout * 5)
                if isinstance(found, Holding):
                    break
            try:
                if not isinstance(found, Holding):
                    raise ValueError(f"{to_text(zone)} was not handed over by {server.label}: {found}")
                self._wanted.zones.update(dict.fromkeys(members_of(found), f"in the catalog zone {to_text(zone)}"))
            except ValueError as error:
                remarks.append(f"--catalog: {error}")
        return remarks

    def _signed(self, server: Server) -> list[Server]:
        """Return the server as it is asked for a transfer: with each key that was given, and as it is."""
        keyed = [
            Server(server.label, server.address, server.port, key=key, pace=server.pace) for _, _, key in self._keys
        ]
        return [server] if server.key is not None else [*keyed, server]

    def _take_zones(self, explorer: Explorer) -> None:
        """Take the zones that were found, each from the first server that hands it over."""
        exchange = self._exchange
        assert exchange is not None
        tries: dict[Name, list[tuple[Server, Server]]] = {}
        zones: dict[Name, LearntZone] = {}
        for zone in explorer.untaken():
            if self._asking.transfer:
                tries[zone.apex] = [(server, way) for server in zone.servers for way in self._signed(server)]
                zones[zone.apex] = zone
            else:
                explorer.ask_singly(zone)
        while tries:
            turn = {apex: ways.pop(0) for apex, ways in tries.items()}
            wanted = [(way, apex) for apex, (_, way) in turn.items()]
            for way, apex, found in taken(wanted, bounds_of(self._estate), timeout_s=self._asking.timeout * 5):
                server, zone = turn[apex][0], zones[apex]
                if isinstance(found, Holding):
                    exchange.hold(server, found)
                    explorer.hold(zone, server, found)
                    for name, _, key in self._keys:
                        if key is way.key:
                            self._works[server] = name
                    del tries[apex]
                    continue
                zone.refusals[server] = found
                if not tries[apex]:
                    del tries[apex]
                    explorer.ask_singly(zone)

    # The judgement

    def _judge(self, setting: Setting, runner: Runner, tick: Callable[[], None]) -> None:
        """Parts what is registered in what is fit to be expected and what is not."""
        exchange = self._exchange
        assert exchange is not None
        drafted = self._files().drafted([])
        estate = estate_of(parse_estate(drafted.text, self._path), self._path)
        with_servers(estate, self._atlas)
        if self._wanted.directory is not None:
            take_everywhere(estate, self._wanted.directory, self._read_at)
        zones = self._learnt.new_to(self._estate)
        coverage = Coverage(Chosen(zones=[zone.apex for zone in zones]), Chosen())
        atlas = atlas_of(estate)
        judging = replace(setting, holdings=exchange.holding, transferred=exchange.names)
        audit = AuditWork(estate, atlas, coverage)
        audit.run(judging, runner, tick)
        doubts = RecordDoubts(audit.findings())
        roll = Roll(sets_of([doubts.part(zone) for zone in zones], self._view), atlas)
        carry_out(roll, judging, runner, tick)
        doubts.take_roll(roll.findings())
        self._fits = [doubts.part(zone) for zone in zones]

    # The end

    def _files(self) -> DraftFiles:
        """Return the draft as files."""
        resolvers = () if self._estate.resolvers else system_resolvers()
        keys = [(name, file) for name, file, _ in self._keys]
        moment = f"{now():%Y-%m-%d %H:%M} UTC"
        again = log_on_again(self._wish.log_on, partial(path_from, self._wish.folder))
        return DraftFiles(
            self._learnt, self._estate, self._old, self._works, keys, resolvers, moment, again, isolated=self._isolated
        )

    def _end(self, ran: Ran) -> NoReturn:
        """Write what is to be written, and tells."""
        from salt_mirror.report.terminal.draft import DraftSummary, print_draft

        files = self._files()
        if not self._learnt.zones:
            tell("nothing was written: no server was found that answers for any of these with authority")
            for lack in self._lacking(files):
                tell(f"{lack.what} {lack.give}")
            raise typer.Exit(UNVERIFIED)
        drafted = files.drafted(self._fits)
        written = (self._old is None or self._wish.add) and bool(drafted.new or drafted.more)
        page = tables.records_folder(self._view) / "REVIEW.md"
        if written:
            pages = {str(page): review(self._fits, files.made)} if any(fit.left_out for fit in self._fits) else {}
            write_draft(self._path, drafted, pages)
        summary = DraftSummary(
            self._learnt, files.labels.known, drafted.new, drafted.more, self._fits, self._path, self._path.parent / page,
            list(self._lacking(files)),
            written=written, adds=self._old is not None, registered=self._wish.registered,
            cost=f"{many(ran.questions, 'question')} in {ran.seconds:.1f} s",
        )  # fmt: skip
        if self._wish.json:
            from salt_mirror.report.json.draft import draft_json

            sys.stdout.buffer.write(draft_json(summary))
        else:
            print_draft(summary, sys.stdout)
        raise typer.Exit(UNVERIFIED if self._unread or not self._learnt.whole else 0)

    def _lacking(self, files: DraftFiles) -> Iterator[Lacking]:
        if self._unread:
            yield Lacking(self._unread, "Draft again with --add when it can be.")
        yield from lacking(
            self._learnt, files.labels.known, self._estate, transfer=self._asking.transfer, keys=bool(self._keys),
            resolvers=bool(files.resolvers or self._estate.resolvers),
        )  # fmt: skip

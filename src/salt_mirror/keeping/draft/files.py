"""A draft as files: a new estate, or the one that is there with what it lacks; and a master file for each zone's records."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from salt_mirror import __version__
from salt_mirror.checks.draft.doubting import Fit
from salt_mirror.checks.draft.learnt import Learnt, bare
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text, printable, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.building import estate_of
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.file import EstateFile, parse_estate
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.masterfile import read_master_text
from salt_mirror.estate.model import Estate
from salt_mirror.keeping.draft import adding, tables
from salt_mirror.keeping.draft.records import master_file
from salt_mirror.keeping.writing import check_writable, write_whole

_LATER = re.compile(r"^(?:expect|key) = .*$", re.MULTILINE)


@dataclass(slots=True)
class Drafted:
    """A draft's files: the estate's whole `text`, others by their paths beside it. `new` are the tables that were not there;
    `more` the servers, by label, that zones of the estate have beyond its own (by the zone's name)."""

    text: str
    new: list[str]
    files: dict[str, str]
    more: dict[str, list[str]]


@dataclass(slots=True)
class DraftFiles:
    """What a draft's files are made of: `old` is the text of the estate that is there, `works` the keys by which servers handed
    zones over, `keys` those that were given with their files; `log_on` how the directory is read again, by the estate's keys;
    `isolated` that no resolver finds a name of the world."""

    learnt: Learnt
    estate: Estate
    old: str | None
    works: Mapping[Server, str]
    keys: Collection[tuple[str, str]]
    resolvers: Collection[Server]
    moment: str
    log_on: Mapping[str, str] = field(default_factory=dict)
    isolated: bool = False
    labels: tables.Labels = field(init=False)

    def __post_init__(self) -> None:
        self.labels = tables.Labels.of(self.learnt, self.estate)

    @property
    def made(self) -> str:
        """When it was made."""
        return f"Drafted {self.moment}."

    def drafted(self, fits: Iterable[Fit]) -> Drafted:
        """Return the files; what is fit to be expected becomes so."""
        held = EstateFile() if self.old is None else parse_estate(self.old, self.estate.path or Path("estate.toml"))
        zones = self.learnt.new_to(self.estate)
        names = tables.file_names(zones, self.learnt.view)
        files: dict[str, str] = {}
        for fit in fits:
            if fit.records:
                files |= self._records(fit, str(names[fit.zone.apex]))
        keys = [tables.key_table(name, file) for name, file in self.keys if name not in held.keys]
        new = [
            tables.server_table(learnt, self.learnt, self.labels, self.works.get(learnt.server, ""))
            for learnt in self.learnt.written
            if learnt.server not in self.estate.servers.values()
        ]
        for number, resolver in enumerate(self.resolvers, 1):
            new.append(tables.resolver_table("system" if number == 1 else f"system-{number}", resolver))
        for zone in zones:
            expected = [str(names[zone.apex])] if str(names[zone.apex]) in files else []
            new.append(tables.zone_table(zone, self.learnt, self.labels, expected))
        new += self._directories(held)
        if self.isolated and held.resolver_tests == EstateFile().resolver_tests:
            new.append(tables.isolated_table())
        begin = self._head() if self.old is None else self.old
        new = [*keys, *self._readable(begin, new)]
        if self.old is None:
            return Drafted(adding.with_tables(begin, new), new, files, {})
        known = parse_estate(adding.with_tables(begin, new), self.estate.path or Path("estate.toml")).servers
        more, at = self._more_servers(held, known)
        return Drafted(adding.with_tables(adding.with_servers(self.old, at), new), new, files, more)

    def _readable(self, begin: str, new: list[str]) -> list[str]:
        """Return the tables that our own reader takes behind what is there; the others are left out, and named.

        They stand in an order in which each leans only on those before it. A half that cannot be read is parted until the
        tables are alone that cannot.
        """
        path = self.estate.path or Path("estate.toml")
        taken: list[str] = []
        waiting = [new]
        while waiting:
            some = waiting.pop()
            # Records are written after this, and the estate last: what the tables expect is not there yet, nor the folder from
            # which a secret's path counts. Whoever gave a key has had it read already.
            text = adding.with_tables(begin, [_LATER.sub("", table) for table in (*taken, *some)])
            try:
                estate_of(parse_estate(text, path), path)
                taken += some
            except BadInput as error:
                if len(some) > 1:
                    waiting += [some[len(some) // 2 :], some[: len(some) // 2]]
                elif some:
                    what = next((line for line in some[0].splitlines() if not line.startswith(("#", "[["))), "a table")
                    self.learnt.left_out[printable(what)] = printable(str(error).partition(": ")[2])
                else:
                    raise
        return taken

    def _records(self, fit: Fit, name: str) -> dict[str, str]:
        """Return a zone's records as a file, if our own reader takes it; else nothing, and the zone is named."""
        text = master_file(fit, fit.zone.ages, self.made)
        try:
            read_master_text(text, Path(name), fit.zone.apex)
        except Unusable as error:
            self.learnt.left_out[f"the records of {to_text(fit.zone.apex)}"] = printable(str(error))
            return {}
        return {name: text}

    def _head(self) -> str:
        forward = [zone.apex for zone in self.learnt.in_order if not is_reverse(zone.apex)]
        title = bare((forward or list(self.learnt.zones))[0])
        return (
            f"# The estate of {title}, drafted by salt-mirror {__version__}, {self.moment}.\n"
            "# Each table says where it comes from. A server is in a zone's list because it was asked, and answered\n"
            "# for the zone with authority. This is a file to go on with by hand.\n\n"
            f"title = {tables.quoted(title)}"
        )

    def _directories(self, held: EstateFile) -> list[str]:
        learnt, found = self.learnt, self.learnt.directory
        known = {(from_text(one.domain), one.view) for one in self.estate.directories}
        made = []
        if found is not None and (from_text(found.domain), learnt.view) not in known:
            known.add((from_text(found.domain), learnt.view))
            made.append(tables.found_directory_table(found, learnt.view, self.log_on))
        made += [
            tables.directory_table(domain, sites, learnt.view)
            for domain, sites in learnt.directories.items()
            if (domain, learnt.view) not in known and learnt.zone_at(domain) is not None
        ]
        networks = set(held.networks)
        return made + [
            tables.network_table(network)
            for network in (found.networks if found else ())
            if network.network not in networks
        ]

    def _more_servers(
        self, held: EstateFile, known: Collection[str]
    ) -> tuple[dict[str, list[str]], dict[int, list[str]]]:
        """Servers, of those that have a table, which answer for zones of the estate that do not list them: by zone, and by the
        place in the file."""
        by_zone: dict[str, list[str]] = {}
        by_place: dict[int, list[str]] = {}
        for number, entry in enumerate(held.zones):
            zone = self.learnt.zones.get(zone_name(entry.name)) if entry.view == self.learnt.view else None
            if zone is None or entry.servers is None:
                continue
            labels = self.labels.of_zone(zone)
            lacking = [label for label in labels if label in known and label not in entry.servers]
            if lacking:
                by_zone[to_text(zone.apex)] = by_place[number] = lacking
        return by_zone, by_place


def write_draft(path: Path, drafted: Drafted, pages: Mapping[str, str]) -> None:
    """Write records and pages, and then the estate that names them. Raises BadInput, with nothing left behind, for a file that
    is there already or cannot be written."""
    folder = path.parent
    wanted = {folder / name: text for name, text in (*drafted.files.items(), *pages.items())}
    there = [one for one in wanted if one.exists()]
    if there:
        raise BadInput(
            f"{shown_path(there[0])} is there already and is not written over; move it, or name another --folder"
        )
    made: list[Path] = []
    try:
        for one in [folder, *dict.fromkeys(file.parent for file in wanted)]:
            for missing in [above for above in (*reversed(one.parents), one) if not above.exists()]:
                missing.mkdir()
                made.append(missing)
        check_writable(path)
        for one, text in wanted.items():
            write_whole(one, text)
            made.append(one)
        write_whole(path, drafted.text)
    except (OSError, BadInput) as error:
        for one in reversed(made):
            with contextlib.suppress(OSError):
                one.rmdir() if one.is_dir() else one.unlink()
        if isinstance(error, BadInput):
            raise
        raise BadInput(f"{shown_path(folder)} cannot be written: {printable(error.strerror or str(error))}") from None

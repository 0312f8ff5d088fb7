"""The history of audits in one SQLite file: each run, and the life of each finding.

Strategy: a life begins when a finding is first seen and ends with the first run that looked at the same things and did not find
it; a run in which the finding's subject could not be verified ends nothing. Every run is one transaction, so two at once, or
a crash, leave the file sound.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from types import MappingProxyType
from typing import IO, NamedTuple

import msgspec

from salt_mirror.checks.audit.chronicle import Chronicle, Stood, ZoneRun
from salt_mirror.checks.audit.lines import History, Life, Run, Since, ZoneLine
from salt_mirror.checks.audit.unchanged import ZoneLook
from salt_mirror.checks.common.narrowing import InView
from salt_mirror.checks.common.nearest import meant
from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import from_text
from salt_mirror.estate.errors import BadInput, nearest_word, shown_path
from salt_mirror.findings import Finding
from salt_mirror.keeping.blobs import as_kept, packed, plain, unpacked, words_of
from salt_mirror.keeping.locking import lock
from salt_mirror.keeping.schema import opened
from salt_mirror.keeping.writing import check_writable


def key_of(finding: Finding) -> str:
    """Return what makes a finding the same from run to run."""
    return "|".join(finding.identity)


class Doubts:
    """What could not be verified in a run, so that nothing about it may be taken to be gone.

    A pointer's finding stands under the name that it leads to, and its doubt under the reverse name: an address is the same
    in both. A silent server leaves open what was found of it.
    """

    def __init__(self, findings: Iterable[Finding]) -> None:
        open_ones = [finding.subject for finding in findings if finding.outcome == "unverified"]
        self.number = len(open_ones)
        self._subjects = {(one.view, one.name, one.type) for one in open_ones}
        self._addresses = {(one.view, one.address) for one in open_ones if one.address}
        self._servers = {(one.view, one.name, one.server) for one in open_ones if one.server}

    def cover(self, finding: Finding) -> bool:
        """Return whether a finding's subject is among them."""
        one = finding.subject
        return (
            (one.view, one.name, one.type) in self._subjects
            or (bool(one.address) and (one.view, one.address) in self._addresses)
            or (bool(one.server) and (one.view, one.name, one.server) in self._servers)
        )


class BusyHistory(BadInput):
    """A history that another run is at work with."""


_held: list[IO[bytes]] = []
"""The lock files of this run, open until it ends."""


def hold(path: Path) -> None:
    """Keep every other run away from a history until this program ends. Raises BusyHistory where one is at work with it."""
    beside = path.with_name(f"{path.name}.lock")
    try:
        file = beside.open("ab")
    except OSError:  # a folder in which nothing can be begun: what is written to the history will say so
        return
    if not lock(file):
        file.close()
        raise BusyHistory(f"--history: another run is at work with {shown_path(path)}; this one is not begun")
    _held.append(file)


def check_history(path: Path) -> None:
    """Raise BadInput for a history that could not take a run: of another version, no history, locked or read-only."""
    check_writable(path, "--history")
    if not path.exists():
        return
    if not path.is_file():
        raise BadInput(f"--history: {shown_path(path)} is no regular file; a history is a file of its own")
    with about("--history"), opened(path, fresh=True, patience_s=5):
        pass


class Past(NamedTuple):
    """What a run that follows changes has to know: how each zone stood at its last whole look, how many runs have passed since
    the last whole one (None: there was none), and the findings that stand."""

    looks: dict[InView, ZoneLook]
    since_whole: int | None
    standing: list[Finding]


class FinishedRun(NamedTuple):
    """A run that is over: its scope, when it began, how long it took (seconds), and what it found. `whole` unless it left out
    what has not changed; `looks` are the zones that it looked at whole."""

    scope: str
    started: datetime
    seconds: float
    outcome: str
    findings: list[Finding]
    zones: Sequence[ZoneLine] = ()
    accepted: Iterable[Finding] = ()
    whole: bool = True
    looks: Mapping[InView, ZoneLook] = MappingProxyType({})


def past_of(path: Path, scope: str) -> Past:
    """Return what is known before a run of a scope; nothing of a history that is not there yet. Raises BadInput."""
    if not path.exists():
        return Past({}, None, [])
    with opened(path, fresh=False) as connection:
        looks = {
            (view, zone): ZoneLook(
                datetime.fromisoformat(at), msgspec.json.decode(serials, type=dict[str, int]), digest
            )
            for view, zone, at, serials, digest in connection.execute(
                "SELECT view, zone, at, serials, digest FROM looks WHERE scope = ?", (scope,)
            )
        }
        last = connection.execute("SELECT max(id) FROM runs WHERE scope = ? AND whole = 1", (scope,)).fetchone()[0]
        query = "SELECT count(*) FROM runs WHERE scope = ? AND id > ?"
        since = connection.execute(query, (scope, last)).fetchone()[0] if last is not None else None
        query = "SELECT finding FROM lives WHERE scope = ? AND ended IS NULL"
        return Past(looks, since, [unpacked(blob) for (blob,) in connection.execute(query, (scope,))])


def add_run(
    path: Path,
    done: FinishedRun,
    looked_at: Callable[[Finding], bool] = lambda _: True,
    zone_of: Callable[[Finding], str] = lambda _: "",
) -> tuple[History, list[ZoneLine]]:
    """Write a run down and say how it stands to the ones before; the zones come back with their last agreements.

    `zone_of` tells the apex that a finding lies in. What was accepted, and what `looked_at` says was not looked at in this run,
    is neither new nor gone; notes are in neither list. Raises BadInput.
    """
    at, scope = done.started.isoformat(), done.scope
    doubts = Doubts(done.findings)
    with opened(path, fresh=True) as connection:
        before = connection.execute("SELECT max(started) FROM runs WHERE scope = ?", (scope,)).fetchone()[0]
        run = _begin(connection, done, doubts)
        query = "SELECT key, id, finding, first FROM lives WHERE scope = ? AND ended IS NULL"
        open_lives = {key: (number, blob, first) for key, number, blob, first in connection.execute(query, (scope,))}
        seen: set[str] = set()
        new, standing = _stand(connection, run, done, open_lives, seen, zone_of)
        seen.update(map(key_of, done.accepted))
        gone = _ended(connection, run, at, open_lives, seen, lambda one: looked_at(one) and not doubts.cover(one))
        doubtful = _doubted(connection, done, looked_at)
        moment = datetime.fromisoformat(before) if before is not None else None
        lines = [
            _agreed(connection, scope, _serial_ages(connection, scope, line, at), done.started) for line in done.zones
        ]
        connection.execute("DELETE FROM failures WHERE scope = ?", (scope,))
    findings = [one for one in new if one.weight != "note"] if before is not None else []
    no_more = [one for one in gone if one.weight != "note"]
    unverified = doubtful if before is not None else []
    return History(before=moment, new=findings, gone=no_more, standing=standing, new_unverified=unverified), lines


def _begin(connection: sqlite3.Connection, done: FinishedRun, doubts: Doubts) -> int:
    """Write down the run itself, what it says of each zone, and how those stand that it looked at whole; return its number."""
    weights = [finding.weight for finding in done.findings if finding.outcome != "unverified"]
    at = done.started.isoformat()
    run = connection.execute(
        "INSERT INTO runs (started, seconds, scope, outcome, faults, cautions, unverified, whole) VALUES (?,?,?,?,?,?,?,?)",
        (
            at,
            done.seconds,
            done.scope,
            done.outcome,
            weights.count("fault"),
            weights.count("caution"),
            doubts.number,
            done.whole,
        ),
    ).lastrowid
    connection.executemany(
        "INSERT INTO zone_runs VALUES (?,?,?,?,?,?)",
        [
            (run, line.view, line.zone, "unchanged" if line.unchanged and line.outcome == "agrees" else line.outcome,
             sum(tally.faults for tally in line.checks.values()), sum(tally.unverified for tally in line.checks.values()))
            for line in done.zones
        ],
    )  # fmt: skip
    encode = msgspec.json.encode
    connection.executemany(
        "INSERT OR REPLACE INTO looks VALUES (?,?,?,?,?,?)",
        [
            (done.scope, view, zone, look.at.isoformat(), encode(look.serials).decode(), look.digest)
            for (view, zone), look in done.looks.items()
        ],
    )
    assert run is not None
    return run


def _stand(
    connection: sqlite3.Connection,
    run: int,
    done: FinishedRun,
    open_lives: Mapping[str, tuple[int, bytes, str]],
    seen: set[str],
    zone_of: Callable[[Finding], str],
) -> tuple[list[Finding], list[Since]]:
    """Write down the findings of a run; return the new ones, and since when each has stood. `seen` gets their keys."""
    at = done.started.isoformat()
    new: list[Finding] = []
    standing: list[Since] = []
    added: list[tuple[str, ...]] = []
    changed: list[tuple[bytes, int]] = []
    for finding in done.findings:
        key = key_of(finding)
        if key in seen or finding.outcome == "unverified":
            continue
        seen.add(key)
        kept = as_kept(finding)
        if key in open_lives:
            number, blob, first = open_lives[key]
            if plain(blob) != kept:
                changed.append((packed(kept), number))
        else:
            first = at
            new.append(finding)
            row = (
                done.scope,
                key,
                finding.code,
                finding.view,
                finding.name,
                packed(kept),
                at,
                at,
                zone_of(finding),
                run,
            )
            added.append(row)  # type: ignore[arg-type]
        standing.append(
            Since(
                code=finding.code, view=finding.view, name=finding.name, type=finding.type, address=finding.address,
                server=finding.subject.server, since=datetime.fromisoformat(first),
            )
        )  # fmt: skip
    connection.executemany("UPDATE lives SET finding = ? WHERE id = ?", changed)
    columns = "scope, key, code, view, name, finding, first, last, zone, begun_by"
    connection.executemany(f"INSERT INTO lives ({columns}) VALUES (?,?,?,?,?,?,?,?,?,?)", added)
    return new, standing


def _ended(
    connection: sqlite3.Connection,
    run: int,
    at: str,
    open_lives: Mapping[str, tuple[int, bytes, str]],
    seen: Collection[str],
    certain: Callable[[Finding], bool],
) -> list[Finding]:
    """End the open lives that are over, and return their findings: of those that were not seen, the certain ones."""
    gone = []
    standing = [(at, number) for key, (number, _, _) in open_lives.items() if key in seen]
    connection.executemany("UPDATE lives SET last = ? WHERE id = ?", standing)
    for key, (number, blob, _) in open_lives.items():
        if key not in seen:
            finding = unpacked(blob)
            if certain(finding):
                gone.append(finding)
                connection.execute("UPDATE lives SET ended = ?, ended_by = ? WHERE id = ?", (at, run, number))
    return gone


def _doubted(connection: sqlite3.Connection, done: FinishedRun, looked_at: Callable[[Finding], bool]) -> list[Finding]:
    """Write down what could not be verified in a run, and in how many on end; return what of that could in the run before. What
    a run did not look at stays as it was."""
    query = "SELECT key, finding, first FROM doubts WHERE scope = ?"
    before = {key: (blob, first) for key, blob, first in connection.execute(query, (done.scope,))}
    now = {key_of(finding): finding for finding in done.findings if finding.outcome == "unverified"}
    over = [key for key, (blob, _) in before.items() if key not in now and looked_at(unpacked(blob))]
    connection.executemany("DELETE FROM doubts WHERE scope = ? AND key = ?", [(done.scope, key) for key in over])
    new = {key: finding for key, finding in now.items() if key not in before}
    at = done.started.isoformat()
    rows = [(done.scope, key, packed(as_kept(finding)), at) for key, finding in new.items()]
    connection.executemany("INSERT INTO doubts (scope, key, finding, first) VALUES (?,?,?,?)", rows)
    again = [(done.scope, key) for key in now if key in before]
    connection.executemany("UPDATE doubts SET runs = runs + 1 WHERE scope = ? AND key = ?", again)
    return list(new.values())


def _serial_ages(connection: sqlite3.Connection, scope: str, line: ZoneLine, at: str) -> ZoneLine:
    """Return the zone with the moment at which a run first saw each server's present serial: this run, for a new one."""
    since: dict[str, datetime] = {}
    for server, serial in line.serials.items():
        where = (scope, line.view, line.zone, server)
        query = "SELECT serial, since FROM serials WHERE scope = ? AND view = ? AND zone = ? AND server = ?"
        row = connection.execute(query, where).fetchone()
        first = row[1] if row is not None and row[0] == serial else at
        if first == at:
            connection.execute("INSERT OR REPLACE INTO serials VALUES (?,?,?,?,?,?)", (*where, serial, at))
        since[server] = datetime.fromisoformat(first)
    return msgspec.structs.replace(line, serial_since=since)


def _agreed(connection: sqlite3.Connection, scope: str, line: ZoneLine, started: datetime) -> ZoneLine:
    """Return the zone with the moment at which each check last agreed, this run among them, unless it asked for a sample
    alone."""
    last: dict[str, datetime] = {}
    for check, tally in line.checks.items():
        where = (scope, line.view, line.zone, check)
        if tally.outcome == "agrees" and not line.unchanged:
            connection.execute("INSERT OR REPLACE INTO agreements VALUES (?,?,?,?,?)", (*where, started.isoformat()))
            last[check] = started
            continue
        query = "SELECT last FROM agreements WHERE scope = ? AND view = ? AND zone = ? AND check_ = ?"
        row = connection.execute(query, where).fetchone()
        if row is not None:
            last[check] = datetime.fromisoformat(row[0])
    return msgspec.structs.replace(line, last_agreement=last)


def runs_in(path: Path) -> list[Run]:
    """Return every run, the latest first. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        query = f"SELECT {', '.join(Run.__struct_fields__)} FROM runs ORDER BY started DESC, id DESC"
        return [
            msgspec.convert(dict(zip(Run.__struct_fields__, row, strict=True)), Run)
            for row in connection.execute(query)
        ]


def lives_in(path: Path, pattern: str) -> list[Life]:
    """Return the lives of findings whose code or name, or the first label of that, fits a shell pattern, the latest first.
    Raises BadInput."""
    from fnmatch import fnmatchcase

    found = []
    pattern = pattern.lower()
    with opened(path, fresh=False) as connection:
        latest = dict(connection.execute("SELECT scope, max(started) FROM runs GROUP BY scope").fetchall())
        query = "SELECT code, view, name, finding, first, last, ended, scope FROM lives ORDER BY last DESC, id DESC"
        for code, view, name, blob, first, last, ended, scope in connection.execute(query):
            texts = (str(code), str(name), str(name).rstrip("."), str(name).partition(".")[0])
            if any(fnmatchcase(text, pattern) for text in texts):
                text = words_of(blob).text
                row = (code, view, name, text, first, last, ended, latest.get(scope) == last)
                found.append(msgspec.convert(dict(zip(Life.__struct_fields__, row, strict=True)), Life))
    return found


def meant_in(path: Path, pattern: str) -> str:
    """Return the question which name or code of a history was meant by a pattern that nothing fits; empty where none is near.
    Raises BadInput."""
    with opened(path, fresh=False) as connection:
        names = [from_text(str(name)) for (name,) in connection.execute("SELECT DISTINCT name FROM lives")]
        codes = [str(code) for (code,) in connection.execute("SELECT DISTINCT code FROM lives")]
    code = nearest_word(pattern, codes, 0.8)
    if code is not None:
        return f"did you mean {code}?"
    try:
        return meant(pattern, names)
    except Unusable:  # a pattern that is no name
        return ""


def chronicle_in(path: Path) -> Chronicle:
    """Return a history as a whole: every run about everything, else every run about what the last one was about; what each said
    of each zone, and the lives of faults and cautions. Raises BadInput."""
    runs = runs_in(path)
    scopes = {run.scope for run in runs}
    scope = "" if "" in scopes or not runs else runs[0].scope
    with opened(path, fresh=False) as connection:
        query = "SELECT started, view, zone, zone_runs.outcome, zone_runs.faults, zone_runs.unverified FROM zone_runs "
        query += "JOIN runs ON runs.id = run WHERE scope = ? ORDER BY started"
        zones = [
            msgspec.convert(dict(zip(ZoneRun.__struct_fields__, row, strict=True)), ZoneRun)
            for row in connection.execute(query, (scope,))
        ]
        lives = []
        query = "SELECT code, view, name, finding, zone, first, last, ended, key FROM lives WHERE scope = ?"
        for code, view, name, blob, zone, *moments, key in connection.execute(query, (scope,)):
            words = words_of(blob)
            if words.weight == "note":
                continue
            first, last, ended = (datetime.fromisoformat(text) if text is not None else None for text in moments)
            row = (code, words.weight, view, name, zone, words.text, first, last, ended, key)
            lives.append(msgspec.convert(dict(zip(Stood.__struct_fields__, row, strict=True)), Stood))
    return Chronicle(runs=[run for run in runs if run.scope == scope], about=scope, zones=zones, lives=lives)

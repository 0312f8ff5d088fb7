"""What each channel of `[notify]` was told, and until when: kept in the history that it is told from.

Strategy: a channel's row has the run up to which it was told everything. It moves when a message was delivered, or there was
nothing to tell, and stays where one was held back or failed. Runs are told apart by their numbers, since clocks may be set
back. The names of channels are here, and nothing of how they are reached.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path

import msgspec

from salt_mirror.checks.audit.news import (
    FAILED,
    FLAPS,
    FLAPS_WITHIN_RUNS,
    ChannelPast,
    FailedRuns,
    Marks,
    Occurrence,
    StandingCounts,
)
from salt_mirror.keeping.blobs import unpacked
from salt_mirror.keeping.schema import opened

_KEPT_MOMENTS = 2_000
"""So many moments of messages are kept at most, which is more than any limit counts."""


def channel_past(path: Path, channel: str, scope: str) -> ChannelPast:
    """Return what a history knows for a channel after its last run; a new one begins with the run before. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        where = (channel, scope)
        query = "SELECT id FROM runs WHERE scope = ? ORDER BY id DESC LIMIT 2"
        numbers = [number for (number,) in connection.execute(query, (scope,))] or [0]
        query = "SELECT told_run, sent, failing, why FROM channels WHERE channel = ? AND scope = ?"
        row = connection.execute(query, where).fetchone()
        is_new = row is None
        if row is None:
            row = (numbers[-1], "[]", None, "")
            connection.execute("INSERT INTO channels VALUES (?,?,?,?,?,?)", (*where, *row))
        told_run, sent, failing, why = row
        query = "SELECT kind, key, what FROM told WHERE channel = ? AND scope = ?"
        told = {(kind, key): what for kind, key, what in connection.execute(query, where)}
        query = "SELECT key, finding, first, runs FROM doubts WHERE scope = ?"
        doubts = [
            Occurrence(key, unpacked(blob), datetime.fromisoformat(first), runs=runs)
            for key, blob, first, runs in connection.execute(query, (scope,))
        ]
        return ChannelPast(
            numbers[0],
            is_new,
            is_new and len(numbers) == 1,
            msgspec.json.decode(sent, type=list[datetime]),
            datetime.fromisoformat(failing) if failing else None,
            why,
            _happened(connection, scope, told_run),
            _flapping(connection, scope, told_run) if not is_new else {},
            _flapping(connection, scope, numbers[0]),
            doubts,
            told,
        )


def _happened(connection: sqlite3.Connection, scope: str, told_run: int) -> list[Occurrence]:
    """Return the latest life of each finding of which one began or ended after a run, and whether it was there then."""
    query = "SELECT key, finding, first, ended, begun_by FROM lives WHERE scope = ?"
    query += " AND (begun_by > ? OR ended_by > ?) ORDER BY id"
    found: dict[str, Occurrence] = {}
    for key, blob, first, ended, begun_by in connection.execute(query, (scope, told_run, told_run)):
        before = found.get(key)
        told, times = (before.told, before.times + 1) if before is not None else (begun_by <= told_run, 1)
        found[key] = _occurrence(key, blob, first, ended)._replace(told=told, times=times)
    return list(found.values())


def _flapping(connection: sqlite3.Connection, scope: str, run: int) -> dict[str, Occurrence]:
    """Return what came and went within the last runs up to one, by key, each with its latest life."""
    query = "SELECT id FROM runs WHERE scope = ? AND id <= ? ORDER BY id DESC LIMIT 1 OFFSET ?"
    row = connection.execute(query, (scope, run, FLAPS_WITHIN_RUNS - 1)).fetchone()
    query = "SELECT key, max(id), count(*) FROM lives WHERE scope = ? AND begun_by BETWEEN ? AND ?"
    query += " GROUP BY key HAVING count(*) >= ?"
    found = {}
    for key, last, times in connection.execute(query, (scope, row[0] if row else 1, run, FLAPS)).fetchall():
        query = "SELECT finding, first, ended FROM lives WHERE id = ?"
        found[key] = _occurrence(key, *connection.execute(query, (last,)).fetchone())._replace(times=times)
    return found


def _occurrence(key: str, blob: bytes, first: str, ended: str | None) -> Occurrence:
    return Occurrence(
        key, unpacked(blob), datetime.fromisoformat(first), datetime.fromisoformat(ended) if ended is not None else None
    )


def told_all(
    path: Path, channel: str, scope: str, past: ChannelPast, marks: Marks, sent: datetime | None = None
) -> None:
    """Write down that a channel was told everything up to the last run that it was looked up for: by a message that was `sent`
    at a moment, or since there was nothing. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        where = (channel, scope)
        query = "SELECT sent FROM channels WHERE channel = ? AND scope = ?"
        moments = msgspec.json.decode(connection.execute(query, where).fetchone()[0], type=list[str])
        moments = [*moments, *([sent.isoformat()] if sent is not None else [])][-_KEPT_MOMENTS:]
        connection.execute(
            "UPDATE channels SET told_run = ?, sent = ?, failing = NULL, why = '' WHERE channel = ? AND scope = ?",
            (past.run, msgspec.json.encode(moments).decode(), *where),
        )
        _mark(connection, where, marks)


def not_told(path: Path, channel: str, scope: str, moment: datetime, why: str) -> None:
    """Write down that a message could not be delivered: what it had is told with the next run. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        connection.execute(
            "UPDATE channels SET failing = coalesce(failing, ?), why = ? WHERE channel = ? AND scope = ?",
            (moment.isoformat(), why, channel, scope),
        )


def _mark(connection: sqlite3.Connection, where: tuple[str, str], marks: Marks) -> None:
    rows = [(*where, *key, what) for key, what in marks.add.items()]
    connection.executemany("INSERT OR REPLACE INTO told VALUES (?,?,?,?,?)", rows)
    connection.executemany(
        "DELETE FROM told WHERE channel = ? AND scope = ? AND kind = ? AND key = ?",
        [(*where, *key) for key in marks.remove],
    )


def failed_run(path: Path, scope: str, moment: datetime, why: str) -> FailedRuns:
    """Write down that a run came to no result; return that with those before it on end. Raises BadInput."""
    at = moment.isoformat()
    with opened(path, fresh=True) as connection:
        connection.execute(
            "INSERT INTO failures VALUES (?,?,?,1,?) ON CONFLICT (scope) DO UPDATE SET last = ?, times = times + 1, why = ?",
            (scope, at, at, why, at, why),
        )
        query = "SELECT first, times, why FROM failures WHERE scope = ?"
        first, times, why = connection.execute(query, (scope,)).fetchone()
        failed = FailedRuns(first=datetime.fromisoformat(first), times=times, why=why)
        query = "UPDATE told SET what = ? WHERE scope = ? AND kind = ?"
        connection.execute(query, (msgspec.json.encode(failed), scope, FAILED))
        return failed


def mark_of(path: Path, channel: str, scope: str, kind: str) -> bytes | None:
    """Return what the last message of a kind to a channel was about, where a kind has one message at a time, such as that runs
    fail; None where none was sent, or that is over. It makes no channel begin. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        query = "SELECT what FROM told WHERE channel = ? AND scope = ? AND kind = ? AND key = ''"
        row = connection.execute(query, (channel, scope, kind)).fetchone()
        return bytes(row[0]) if row is not None else None


def set_mark(path: Path, channel: str, scope: str, kind: str, what: bytes) -> None:
    """Write down that a channel was told something of such a kind. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        _mark(connection, (channel, scope), Marks({(kind, ""): what}, []))


def undelivered(path: Path) -> list[tuple[str, str, datetime, str]]:
    """Return the channels whose last message was not delivered: name, scope, since when, and why. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        query = "SELECT channel, scope, failing, why FROM channels WHERE failing IS NOT NULL ORDER BY channel, scope"
        return [
            (channel, scope, datetime.fromisoformat(at), why) for channel, scope, at, why in connection.execute(query)
        ]


def failures(path: Path) -> dict[str, FailedRuns]:
    """Return the runs that failed since the last that did not, by scope. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        query = "SELECT scope, first, times, why FROM failures"
        return {
            scope: FailedRuns(first=datetime.fromisoformat(first), times=times, why=why)
            for scope, first, times, why in connection.execute(query)
        }


def standing(path: Path, scope: str) -> StandingCounts:
    """Return what stood after the last run of a scope. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        query = "SELECT faults, cautions, unverified FROM runs WHERE scope = ? ORDER BY started DESC LIMIT 1"
        faults, cautions, unverified = connection.execute(query, (scope,)).fetchone()
        return StandingCounts(faults=faults, cautions=cautions, unverified=unverified)


def scopes_told(path: Path, channel: str) -> Iterable[tuple[str, datetime]]:
    """Return what a channel is told about, each with its last run. Raises BadInput."""
    with opened(path, fresh=False) as connection:
        query = (
            "SELECT channels.scope, max(started) FROM channels JOIN runs ON runs.scope = channels.scope WHERE channel = ? "
            "GROUP BY channels.scope"
        )
        return [(scope, datetime.fromisoformat(at)) for scope, at in connection.execute(query, (channel,))]

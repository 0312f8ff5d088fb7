"""The file of a history: its tables, version by version, and how it is opened.

Strategy: an older file is brought up in the transaction that reads it; its version is the file's `user_version`. A file of
another version, or one that is no history, is refused.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import is_there
from salt_mirror.keeping.writing import PRIVATE

VERSION = 4
_SCHEMA = """
CREATE TABLE runs (id INTEGER PRIMARY KEY, started TEXT NOT NULL, seconds REAL NOT NULL, scope TEXT NOT NULL,
                   outcome TEXT NOT NULL, faults INTEGER NOT NULL, cautions INTEGER NOT NULL, unverified INTEGER NOT NULL);
CREATE TABLE lives (id INTEGER PRIMARY KEY, scope TEXT NOT NULL, key TEXT NOT NULL, code TEXT NOT NULL, view TEXT NOT NULL,
                    name TEXT NOT NULL, finding BLOB NOT NULL, first TEXT NOT NULL, last TEXT NOT NULL, ended TEXT);
CREATE INDEX open_lives ON lives (scope, ended);
CREATE TABLE agreements (scope TEXT NOT NULL, view TEXT NOT NULL, zone TEXT NOT NULL, check_ TEXT NOT NULL, last TEXT NOT NULL,
                         PRIMARY KEY (scope, view, zone, check_));
"""
_SECOND = """
ALTER TABLE runs ADD COLUMN whole INTEGER NOT NULL DEFAULT 1;
ALTER TABLE lives ADD COLUMN zone TEXT NOT NULL DEFAULT '';
CREATE TABLE zone_runs (run INTEGER NOT NULL, view TEXT NOT NULL, zone TEXT NOT NULL, outcome TEXT NOT NULL,
                        faults INTEGER NOT NULL, unverified INTEGER NOT NULL);
CREATE INDEX zones_of_runs ON zone_runs (run);
CREATE TABLE looks (scope TEXT NOT NULL, view TEXT NOT NULL, zone TEXT NOT NULL, at TEXT NOT NULL, serials TEXT NOT NULL,
                    digest TEXT NOT NULL, PRIMARY KEY (scope, view, zone));
"""
"""What came with the second version: what each run said of each zone, and how each stood when it was last looked at whole."""
_THIRD = """
CREATE TABLE doubts (scope TEXT NOT NULL, key TEXT NOT NULL, finding BLOB NOT NULL, first TEXT NOT NULL,
                     PRIMARY KEY (scope, key));
"""
"""What came with the third version: what could not be verified in the last run that looked at it, and since when."""
_FOURTH = """
ALTER TABLE runs ADD COLUMN runs INTEGER NOT NULL DEFAULT 1;
ALTER TABLE doubts ADD COLUMN runs INTEGER NOT NULL DEFAULT 1;
ALTER TABLE lives ADD COLUMN begun_by INTEGER NOT NULL DEFAULT 0;
ALTER TABLE lives ADD COLUMN ended_by INTEGER;
CREATE INDEX begun_lives ON lives (scope, begun_by);
CREATE INDEX ended_lives ON lives (scope, ended_by);
CREATE TABLE serials (scope TEXT NOT NULL, view TEXT NOT NULL, zone TEXT NOT NULL, server TEXT NOT NULL,
                      serial INTEGER NOT NULL, since TEXT NOT NULL, PRIMARY KEY (scope, view, zone, server));
CREATE TABLE failures (scope TEXT PRIMARY KEY, first TEXT NOT NULL, last TEXT NOT NULL, times INTEGER NOT NULL,
                       why TEXT NOT NULL);
CREATE TABLE channels (channel TEXT NOT NULL, scope TEXT NOT NULL, told_run INTEGER NOT NULL, sent TEXT NOT NULL,
                       failing TEXT, why TEXT NOT NULL DEFAULT '', PRIMARY KEY (channel, scope));
CREATE TABLE told (channel TEXT NOT NULL, scope TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, what BLOB NOT NULL,
                   PRIMARY KEY (channel, scope, kind, key));
"""
"""What came with the fourth version: of how many runs a row of a compacted day is; which run began and ended a life (clocks
may be set back, and two runs may begin in one second); in how many runs on end something could not be verified; since when
each server has its serial; runs that failed; and what each channel of `[notify]` was told."""
_STEPS = (_SCHEMA, _SECOND, _THIRD, _FOURTH)
"""The statements that lead from each version to the next, from an empty file on."""


@contextmanager
def opened(path: Path, *, fresh: bool, patience_s: int = 30) -> Iterator[sqlite3.Connection]:
    """Return a connection with a transaction of its own. Raises BadInput for a file that is no history."""
    if not fresh and not is_there(path):
        raise BadInput(f"{shown_path(path)}: there is no such history; audit --history FILE begins one")
    try:
        if fresh and not path.exists():
            os.close(os.open(path, os.O_WRONLY | os.O_CREAT, PRIVATE))
        connection = sqlite3.connect(path, timeout=patience_s, isolation_level=None)
        try:
            connection.execute(f"PRAGMA busy_timeout = {patience_s * 1000}")
            connection.execute("BEGIN IMMEDIATE")
            (version,) = connection.execute("PRAGMA user_version").fetchone()
            tables = connection.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]
            if (version == 0 and tables == 0) or 0 < version < VERSION:
                _bring_up(connection, "".join(_STEPS[version:]))
            elif version != VERSION:
                raise BadInput(f"{path} is no history of this version (it has version {version}, expected {VERSION})")
            yield connection
            connection.execute("COMMIT")
        finally:
            connection.close()
    except BadInput:
        raise
    except (sqlite3.Error, OSError) as error:
        raise BadInput(f"{shown_path(path)}: the history cannot be used: {error}") from None
    except (ValueError, TypeError, OverflowError) as error:  # what its rows hold
        raise BadInput(f"{shown_path(path)}: the history is damaged: {error}") from None


def _bring_up(connection: sqlite3.Connection, statements: str) -> None:
    """Bring a history to this version."""
    for statement in filter(str.strip, statements.split(";")):
        connection.execute(statement)
    connection.execute(f"PRAGMA user_version = {VERSION}")

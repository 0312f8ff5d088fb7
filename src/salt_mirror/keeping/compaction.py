"""A history made smaller: runs of long ago become days, and the lives of findings stay.

Strategy: of each day (UTC) the last run is what pages and figures show, and only that is kept, with how many it stands for.
What a run found is in the lives, which lose nothing. The file is written anew in the end, since only that gives its space back.
"""

from __future__ import annotations

import sqlite3
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.keeping.schema import opened


class Compacted(NamedTuple):
    """How many runs there were before a moment, and are; of how many days; the file's size in bytes, before and after."""

    runs_before: int
    runs_after: int
    bytes_before: int
    bytes_after: int


def compact(path: Path, before: datetime) -> Compacted:
    """Keep of each day that is over before a moment only the last run of each kind. Raises BadInput."""
    size = path.stat().st_size if path.is_file() else 0
    day = before.date().isoformat()
    with opened(path, fresh=False) as connection:
        old = "date(started) < ?"
        runs_before = connection.execute(f"SELECT count(*) FROM runs WHERE {old}", (day,)).fetchone()[0]
        connection.execute("CREATE TEMP TABLE kept AS SELECT max(id) AS id, sum(runs) AS runs FROM runs WHERE "
                           f"{old} GROUP BY scope, date(started)", (day,))  # fmt: skip
        connection.execute("UPDATE runs SET runs = kept.runs FROM kept WHERE kept.id = runs.id")
        gone = f"SELECT id FROM runs WHERE {old} AND id NOT IN (SELECT id FROM kept)"
        connection.execute(f"DELETE FROM zone_runs WHERE run IN ({gone})", (day,))
        connection.execute(f"DELETE FROM runs WHERE id IN ({gone})", (day,))
        runs_after = connection.execute(f"SELECT count(*) FROM runs WHERE {old}", (day,)).fetchone()[0]
    try:
        connection = sqlite3.connect(path, isolation_level=None)
        try:
            connection.execute("VACUUM")
        finally:
            connection.close()
    except sqlite3.Error as error:
        raise BadInput(
            f"{shown_path(path)}: {runs_before - runs_after:,} runs are gone, and their space is not: {error}"
        ) from None
    return Compacted(runs_before, runs_after, size, path.stat().st_size)

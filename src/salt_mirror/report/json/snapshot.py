"""What a snapshot took, as one JSON document."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

import msgspec


class SnapshotTaken(msgspec.Struct, frozen=True, kw_only=True):
    """Where a snapshot was written, when it was begun (UTC), what is in it, and how many record sets could not be seen."""

    schema: Literal["salt-mirror/snapshot-taken/1"] = "salt-mirror/snapshot-taken/1"
    file: str
    taken: datetime
    questions: int
    record_sets: int
    servers: list[str]
    unseen: int
    remarks: list[str]


def snapshot_json(document: SnapshotTaken) -> bytes:
    """Return the document as a line."""
    return msgspec.json.encode(document) + b"\n"

"""Snapshots as files: JSON Lines, a head and a line for each RRset and server, packed when the name ends in .gz."""

from __future__ import annotations

import gzip
import io
import zlib
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

import msgspec

from salt_mirror.checks.compare.judging import VERSION, HeldSet, SnapshotHead
from salt_mirror.estate.errors import BadInput, shown_path
from salt_mirror.estate.reading import MOST_BYTES, json_lines, read_bytes, whole
from salt_mirror.keeping.writing import PRIVATE, write_whole


def write_snapshot(path: Path, title: str, taken_at: datetime, held: list[HeldSet]) -> None:
    """Write a snapshot whole, or not at all. Raises BadInput."""
    encode = msgspec.json.Encoder().encode
    head = SnapshotHead(VERSION, taken_at.isoformat(), title)
    lines = b"".join(encode(one) + b"\n" for one in (head, *held))
    write_whole(path, gzip.compress(lines) if path.suffix == ".gz" else lines, mode=PRIVATE)


def read_snapshot(path: Path) -> tuple[SnapshotHead, list[HeldSet]]:
    """Return a snapshot's head and what it holds. Raises BadInput."""
    lines = _lines(path)
    try:
        head = msgspec.json.decode(next(lines, b""), type=SnapshotHead)
    except (msgspec.DecodeError, UnicodeError):
        raise BadInput(
            f"{path} is no snapshot: its first line is no head; expected a file that snapshot wrote"
        ) from None
    if head.snapshot != VERSION:
        raise BadInput(f"{path} is a snapshot of another version ({head.snapshot}); expected {VERSION}")
    return head, [one for _, one in whole(json_lines(lines, HeldSet, path, 2))]


def _lines(path: Path) -> Iterator[bytes]:
    raw = read_bytes(path)
    if path.suffix == ".gz":
        try:
            with gzip.open(io.BytesIO(raw)) as unpacked:
                raw = unpacked.read(MOST_BYTES + 1)
        except (OSError, EOFError, zlib.error) as error:
            raise BadInput(f"{path} cannot be read: {error}") from None
        if len(raw) > MOST_BYTES:
            raise BadInput(f"{shown_path(path)} holds more than {MOST_BYTES >> 20} MiB, which no snapshot does")
    return iter(raw.split(b"\n"))

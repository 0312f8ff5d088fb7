"""Snapshots as files, and how they are taken.

Strategy: JSON Lines, a head and a line for each RRset and server, packed when the name ends in .gz. Written to a temporary
file and renamed when whole. Zones that were transferred are written out whole; anything else is asked for.
"""

from __future__ import annotations

import gzip
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import msgspec

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.comparing import VERSION, Held, SnapshotHead
from salt_mirror.checks.lookup import at_name
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.holding import HoldingExchange
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import SOA, rdata_text, type_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.report.document import now

Subject = tuple[str, Name, int]
"""View, name, type."""


def take(
    subjects: Iterable[Subject],
    estate: Estate,
    views: list[str],
    atlas: Atlas,
    runner: Runner,
    exchange: HoldingExchange,
    tick: Callable[[], None],
) -> list[Held]:
    """What every server tells of some RRsets, and all that is in zones that were transferred."""
    found: dict[tuple[str, str, str, str], Held] = {}
    for held in runner.run(_told(view, name, rdtype, atlas) for view, name, rdtype in subjects):
        found.update((one.key, one) for one in held)
        tick()
    for view in views:
        for zone in estate.zones.get(view, {}).values():
            for server in zone.servers or ():
                holding = exchange.holding(server, zone.apex)
                for owner, rdtype, ttl, values in holding.rrsets() if holding is not None else ():
                    if rdtype != SOA:
                        one = _held(server.label, view, zone.apex, owner, rdtype, values, ttl)
                        found[one.key] = one
    return sorted(found.values(), key=lambda one: (one.view, one.zone, one.name, one.type, one.server))


def _told(view: str, name: Name, rdtype: int, atlas: Atlas) -> Dialogue[list[Held]]:
    seen = yield from at_name(name, (rdtype,), view, atlas)
    zone = seen.authority.zone or name
    if not seen.tellings:
        why = seen.trouble or "no server"
        return [Held("", view, to_text(zone), to_text(name), type_text(rdtype), trouble=why)]
    return [
        _held(telling.server.label, view, zone, name, rdtype, telling.values, telling.answers[0].ttl, telling.trouble)
        for telling in seen.tellings
    ]


def _held(
    server: str,
    view: str,
    zone: Name,
    name: Name,
    rdtype: int,
    values: Iterable[bytes],
    ttl: int | None,
    trouble: str | None = None,
) -> Held:
    texts = sorted(rdata_text(rdtype, value) for value in values)
    return Held(server, view, to_text(zone), to_text(name), type_text(rdtype), texts, ttl if texts else None, trouble)


def write_snapshot(path: Path, title: str, held: list[Held]) -> None:
    """Writes a snapshot whole, or not at all. Raises BadInput."""
    beside = path.with_name(f".{path.name}.new")
    head = SnapshotHead(VERSION, now().isoformat(), title)
    encode = msgspec.json.Encoder().encode
    try:
        with gzip.open(beside, "wb") if path.suffix == ".gz" else beside.open("wb") as file:
            file.write(encode(head) + b"\n")
            file.writelines(encode(one) + b"\n" for one in held)
        beside.replace(path)
    except OSError as error:
        beside.unlink(missing_ok=True)
        raise BadInput(f"{path} cannot be written: {error.strerror or error}") from None


def read_snapshot(path: Path) -> tuple[SnapshotHead, list[Held]]:
    """A snapshot's head and what it holds. Raises BadInput."""
    try:
        lines = list(_lines(path))
        head = msgspec.json.decode(lines[0], type=SnapshotHead)
    except (OSError, EOFError) as error:
        raise BadInput(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}") from None
    except (IndexError, msgspec.DecodeError):
        raise BadInput(
            f"{path} is no snapshot: its first line is no head; expected a file that snapshot wrote"
        ) from None
    if head.snapshot != VERSION:
        raise BadInput(f"{path} is a snapshot of another version ({head.snapshot}); expected {VERSION}")
    decode = msgspec.json.Decoder(Held).decode
    found = []
    for number, line in enumerate(lines[1:], 2):
        try:
            found.append(decode(line))
        except msgspec.DecodeError as error:
            raise BadInput(f"{path}, line {number}: {error}") from None
    return head, found


def _lines(path: Path) -> Iterator[bytes]:
    with gzip.open(path, "rb") if path.suffix == ".gz" else path.open("rb") as file:
        yield from (line for line in file if line.strip())

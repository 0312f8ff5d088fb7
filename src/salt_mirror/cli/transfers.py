"""Zones taken by transfer, a few at once, for the exchange to answer from.

Strategy: brought in only where a zone is to be taken, since most commands ask a few questions and end."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from functools import partial
from typing import TYPE_CHECKING

from salt_mirror.dns.holding import Holding, HoldingExchange
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import Record
from salt_mirror.dns.transfer import BEYOND_MEMORY, Bounds, TransferFailed, transfer
from salt_mirror.dns.workers import Workers
from salt_mirror.estate.model import Estate

if TYPE_CHECKING:
    pass


AT_ONCE = 8


def bounds_of(estate: Estate) -> Bounds:
    """Return how much is taken by transfer, as the estate says."""
    said = estate.bounds
    return Bounds(
        said.transfer_mib << 20,
        said.transfer_records,
        said.records_of_a_set,
        said.transfer_seconds,
        said.records_of_a_run,
    )


def fetch_zones(
    wanted: list[tuple[Server, Name]], exchange: HoldingExchange, bounds: Bounds, *, timeout_s: float
) -> list[str]:
    """Transfers zones, a few at once, and lets the exchange answer from them. Returns a remark for what did not come: that is
    asked for in single questions."""
    if not wanted:
        return []
    held = 0
    refused: dict[tuple[str, str], list[str]] = {}
    for server, apex, found in taken(wanted, bounds, timeout_s=timeout_s):
        if isinstance(found, Holding):
            exchange.hold(server, found)
            held += found.size
        else:
            refused.setdefault((server.label, found), []).append(to_text(apex))
    remarks = [f"{held:,} records were taken by transfer, in place of single questions"] if held else []
    for (label, why), zones in refused.items():
        what = zones[0] if len(zones) == 1 else f"{len(zones)} zones, {zones[0]} among them"
        remarks.append(f"{label} did not transfer {what} ({why}): asked in single questions")
    return remarks


def taken(
    wanted: list[tuple[Server, Name]], bounds: Bounds, *, timeout_s: float
) -> Iterator[tuple[Server, Name, Holding | str]]:
    """Transfers zones, a few at once: each whole, or why it did not come."""
    workers = Workers(AT_ONCE, "transfer")
    budget = _Budget(bounds.of_the_run)
    try:
        fetched = [workers.submit(partial(_fetch, server, apex, timeout_s, bounds, budget)) for server, apex in wanted]
        for (server, apex), future in zip(wanted, fetched, strict=True):
            yield server, apex, future.result()
    finally:
        workers.close()


class _Budget:
    """The records that all transfers of a run may still bring."""

    def __init__(self, records: int) -> None:
        self._most = records
        self._left = records
        self._lock = threading.Lock()

    def take(self, number: int) -> None:
        """Raise TransferFailed when there are no more."""
        with self._lock:
            self._left -= number
            if self._left < 0:
                raise TransferFailed(f"more than {self._most:,} records in one run")


def _fetch(server: Server, apex: Name, timeout_s: float, bounds: Bounds, budget: _Budget) -> Holding | str:
    if server.over != "udp":
        return "transfers only go over plain TCP"

    def records() -> Iterator[Record]:
        for part in transfer(server, apex, timeout_s=timeout_s, bounds=bounds):
            budget.take(len(part))
            yield from part

    try:
        return Holding(apex, records(), of_one_set=bounds.of_one_set)
    except (TransferFailed, ValueError) as error:
        return str(error)
    except MemoryError:  # what it had taken is free again; the zone is asked for in single questions
        return BEYOND_MEMORY

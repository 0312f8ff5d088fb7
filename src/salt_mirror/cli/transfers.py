"""Zones taken by transfer before a check begins to ask; what is refused is asked for in single questions, with a remark."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

from salt_mirror.dns.holding import Holding, HoldingExchange
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.transfer import TransferFailed, transfer

_AT_ONCE = 8


def fetch_zones(wanted: list[tuple[Server, Name]], exchange: HoldingExchange, *, timeout_s: float) -> list[str]:
    """Transfers zones, a few at once, and lets the exchange answer from them. Returns a remark for what did not come."""
    if not wanted:
        return []
    held = 0
    refused: dict[tuple[str, str], list[str]] = {}
    pool = ThreadPoolExecutor(_AT_ONCE, "transfer")
    try:
        for (server, apex), found in zip(
            wanted, pool.map(lambda one: _fetch(one[0], one[1], timeout_s), wanted), strict=True
        ):
            if isinstance(found, Holding):
                exchange.hold(server, found)
                held += found.size
            else:
                refused.setdefault((server.label, found), []).append(to_text(apex))
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
    remarks = [f"{held:,} records were taken by transfer, in place of single questions"] if held else []
    for (label, why), zones in refused.items():
        what = zones[0] if len(zones) == 1 else f"{len(zones)} zones, {zones[0]} among them"
        remarks.append(f"{label} did not hand over {what} ({why}): asked in single questions")
    return remarks


def _fetch(server: Server, apex: Name, timeout_s: float) -> Holding | str:
    if server.over != "udp":
        return "transfers go over plain TCP alone"
    try:
        return Holding(apex, (record for records in transfer(server, apex, timeout_s=timeout_s) for record in records))
    except TransferFailed as error:
        return str(error)

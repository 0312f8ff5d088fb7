"""The vantages that are there, as one JSON document."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import msgspec

from salt_mirror.report.terminal.stations import ShownVantage


class VantageLine(msgspec.Struct, frozen=True, kw_only=True):
    """A vantage: which resolvers its computer uses, which addresses it may ask, and why it cannot be used, if it cannot. Clocks
    and round trips in seconds."""

    vantage: str
    group: str
    trouble: str | None
    version: str
    system: str
    resolvers: list[str]
    allowed: list[str]
    clock_apart_s: float | None
    round_trip_s: float | None


class VantagesDocument(msgspec.Struct, frozen=True, kw_only=True):
    """The broker's address, and every vantage that is known or expected."""

    schema: Literal["salt-mirror/vantages/1"] = "salt-mirror/vantages/1"
    broker: str
    vantages: list[VantageLine]


def vantages_json(vantages: Sequence[ShownVantage], address: str) -> bytes:
    """Return the document about some vantages."""
    lines = [
        VantageLine(
            vantage=seen.name, group=seen.group, trouble=seen.trouble, version=seen.version, system=seen.system,
            resolvers=seen.resolvers, allowed=seen.allowed, clock_apart_s=seen.clock_apart_s,
            round_trip_s=seen.round_trip_s,
        )
        for seen in vantages
    ]  # fmt: skip
    document = VantagesDocument(broker=address, vantages=lines)
    return msgspec.json.format(msgspec.json.encode(document), indent=2) + b"\n"

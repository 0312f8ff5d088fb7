"""What came of a draft, as one JSON document."""

from __future__ import annotations

from typing import Literal

import msgspec

from salt_mirror.dns.names import to_text
from salt_mirror.report.terminal.draft import DraftSummary


class DraftedZone(msgspec.Struct, frozen=True, kw_only=True):
    """A zone that was found: from where it is known, by which servers it is served, and whether it was transferred."""

    name: str
    whence: str
    servers: list[str]
    transferred: bool


class LackingLine(msgspec.Struct, frozen=True, kw_only=True):
    """Something that was not learnt, and how to give it."""

    what: str
    give: str


class DraftDocument(msgspec.Struct, frozen=True, kw_only=True):
    """A draft: zones and servers (each with its endpoint), the `new` tables of the estate, zones that no server answers for
    (`lost`), bounds that the search met, what no estate can hold (`left_out`), what was not learnt, and what it took."""

    schema: Literal["salt-mirror/draft/1"] = "salt-mirror/draft/1"
    estate: str
    written: bool
    zones: list[DraftedZone]
    servers: dict[str, str]
    new: list[str]
    lost: dict[str, str]
    bounds_met: list[str]
    left_out: dict[str, str]
    lacking: list[LackingLine]
    cost: str


def draft_json(summary: DraftSummary) -> bytes:
    """Return the document about a draft."""
    zones = [
        DraftedZone(
            name=to_text(zone.apex), whence=zone.whence,
            servers=[summary.labels.get(server, server.label) for server in zone.servers],
            transferred=zone.holding is not None,
        )
        for zone in summary.learnt.zones.values()
    ]  # fmt: skip
    document = DraftDocument(
        estate=str(summary.path),
        written=summary.written,
        zones=zones,
        servers={label: server.endpoint for server, label in summary.labels.items()},
        new=list(summary.new),
        lost={to_text(apex): why for apex, why in summary.learnt.lost.items()},
        bounds_met=summary.learnt.met,
        left_out=summary.learnt.left_out,
        lacking=[LackingLine(what=lack.what, give=lack.give) for lack in summary.lacking],
        cost=summary.cost,
    )
    return msgspec.json.encode(document) + b"\n"

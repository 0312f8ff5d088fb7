"""The budget of a change as one JSON document."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

import msgspec

from salt_mirror import __version__
from salt_mirror.checks.budget.judging import Budget, BudgetSeen, headline, link_text
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import type_text


class MomentLine(msgspec.Struct, frozen=True, kw_only=True):
    """A moment of the timeline: when, what it is by a word, and in a sentence."""

    at: datetime
    key: str
    says: str


class LinkLine(msgspec.Struct, frozen=True, kw_only=True):
    """A record on the way to the answer, with its TTL in seconds."""

    name: str
    type: str
    ttl: int
    says: str


class AdviceLine(msgspec.Struct, frozen=True, kw_only=True):
    """A piece of advice: what it is, and a sentence or a line of a master file."""

    what: str
    says: str


class BudgetDocument(msgspec.Struct, frozen=True, kw_only=True):
    """How long a change takes. `kept_s` is how long a cache may keep the old data, `spread_s` how long secondaries may be out
    of date, in seconds; `settled_by` when the last cache has dropped it, with a notify and without."""

    schema: Literal["salt-mirror/budget/1"] = "salt-mirror/budget/1"
    version: str = __version__
    title: str
    name: str
    type: str
    says: str
    change_at: datetime
    kept_s: int
    spread_s: int
    settled_by: datetime
    settled_by_without_notify: datetime
    timeline: list[MomentLine]
    records: list[LinkLine]
    serials: dict[str, int]
    remarks: list[str]
    advice: list[AdviceLine]


def budget_json(seen: BudgetSeen, budget: Budget, remarks: list[str], title: str) -> bytes:
    """Return the document about a change."""
    document = BudgetDocument(
        title=title,
        name=to_text(seen.name),
        type=type_text(seen.rdtype),
        says=headline(seen, budget),
        change_at=budget.change_at,
        kept_s=budget.kept_s,
        spread_s=budget.spread_s,
        settled_by=budget.last,
        settled_by_without_notify=budget.last_without_notify,
        timeline=[MomentLine(at=moment.at, key=moment.key, says=moment.says) for moment in budget.timeline],
        records=[
            LinkLine(name=to_text(link.name), type=type_text(link.rdtype), ttl=link.ttl, says=link_text(link))
            for link in seen.links
        ],
        serials=seen.serials,
        remarks=remarks,
        advice=[AdviceLine(what=label, says=words) for label, words in budget.advice],
    )
    return msgspec.json.encode(document) + b"\n"

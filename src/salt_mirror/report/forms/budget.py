"""The budget of a change as one JSON document."""

from __future__ import annotations

from typing import Any

import msgspec

from salt_mirror import __version__
from salt_mirror.checks.budget import Budget, BudgetSeen, headline, link_text
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import type_text


def budget_json(seen: BudgetSeen, budget: Budget, remarks: list[str], title: str) -> bytes:
    """The same as one document."""
    document: dict[str, Any] = {
        "schema": "salt-mirror/budget/1",
        "version": __version__,
        "title": title,
        "name": to_text(seen.name),
        "type": type_text(seen.rdtype),
        "says": headline(seen, budget),
        "change_at": budget.change_at,
        "kept_s": budget.kept_s,
        "spread_s": budget.spread_s,
        "settled_by": budget.last,
        "settled_by_without_notify": budget.last_without_notify,
        "timeline": [{"at": one.at, "key": one.key, "says": one.says} for one in budget.timeline],
        "records": [
            {"name": to_text(link.name), "type": type_text(link.rdtype), "ttl": link.ttl, "says": link_text(link)}
            for link in seen.links
        ],
        "serials": seen.serials,
        "remarks": remarks,
        "advice": [{"what": label, "says": words} for label, words in budget.advice],
    }
    return msgspec.json.encode(document) + b"\n"

"""The budget of a change on a terminal, or as JSON: the last moment first, then the timeline, then what would shorten it."""

from __future__ import annotations

from typing import Any, TextIO

import msgspec
from rich.console import Console
from rich.text import Text

from salt_mirror import __version__
from salt_mirror.checks.budget import Budget, BudgetSeen, clock, link_text
from salt_mirror.checks.soa import duration
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import type_text
from salt_mirror.report.cleaning import clean


def headline(seen: BudgetSeen, budget: Budget) -> str:
    """The answer: by when, and how long that is."""
    what = f"{to_text(seen.name)} {type_text(seen.rdtype)}"
    whole = duration(budget.kept_s)
    if budget.spread_s:
        late = duration(budget.kept_s + budget.spread_s)
        return f"{what}: settled {whole} after the change, by {clock(budget.last)}; {late} when a notify is lost."
    return f"{what}: settled {whole} after the change, by {clock(budget.last)}."


def print_budget(seen: BudgetSeen, budget: Budget, remarks: list[str], file: TextIO) -> None:
    """Prints a budget."""
    console = Console(file=file, highlight=False, markup=False, emoji=False)

    def line(text: Text | str = "") -> None:
        console.print(text, soft_wrap=not console.is_terminal)

    line(Text(headline(seen, budget), style="bold"))
    for remark in remarks:
        line(Text(f"Note: {clean(remark)}", style="yellow"))
    line()
    begin = budget.change_at
    for moment in budget.timeline:
        after = round((moment.at - begin).total_seconds())
        line(
            Text.assemble(
                (f"  {clock(moment.at)}", "bold"),
                f"  {'+ ' + duration(after) if after else 'at once':>14}  {moment.says}",
            )
        )
    line()
    line(Text("What this rests on:", style="bold"))
    for link in seen.links:
        line(f"  {link_text(link)}: a cache may keep it for {link.ttl} s ({duration(link.ttl)})")
    if not seen.exists and seen.soa is not None:
        line(
            f"  {to_text(seen.name)} has no {type_text(seen.rdtype)}: a cache may keep that for {budget.kept_s} s (RFC 2308)"
        )
    if seen.delegated_ttl is not None:
        line(f"  the parent's NS set: a cache may keep it for {seen.delegated_ttl} s ({duration(seen.delegated_ttl)})")
    if seen.soa is not None:
        line(f"  refresh of the zone: {seen.soa.refresh} s ({duration(seen.soa.refresh)}), when a notify is lost")
    serials = sorted(set(seen.serials.values()))
    if len(serials) > 1:
        said = ", ".join(f"{label} {serial}" for label, serial in seen.serials.items())
        line(Text(f"  the servers do not have one version now: {clean(said)}", style="yellow"))
    if budget.advice:
        line()
    for label, words in budget.advice:
        line(Text.assemble((f"{label:<8}", "green"), words))


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

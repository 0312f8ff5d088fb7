"""The budget of a change on a terminal: the last moment first, then the timeline, then what would shorten it."""

from __future__ import annotations

from typing import TextIO

from rich.text import Text

from salt_mirror.checks.budget.judging import Budget, BudgetSeen, clock, headline, link_text
from salt_mirror.checks.common.wording import duration
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import type_text
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.console import console_on


def print_budget(seen: BudgetSeen, budget: Budget, remarks: list[str], file: TextIO) -> None:
    """Print a budget."""
    console = console_on(file)

    def line(text: Text | str = "") -> None:
        console.print(text, soft_wrap=not console.is_terminal)

    line(Text(headline(seen, budget), style="bold"))
    for remark in remarks:
        line(Text(f"Note: {clean(remark)}", style="yellow"))
    line()
    if budget.capped:
        line(Text("  as resolvers are said to keep entries; the TTL of their records differs", style="dim"))
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
    if seen.soa is not None and seen.several_servers:
        line(f"  refresh of the zone: {seen.soa.refresh} s ({duration(seen.soa.refresh)}), when a notify is lost")
    serials = sorted(set(seen.serials.values()))
    if len(serials) > 1:
        said = ", ".join(f"{label} {serial}" for label, serial in seen.serials.items())
        line(Text(f"  the servers do not have one version now: {clean(said)}", style="yellow"))
    if budget.advice:
        line()
    for label, words in budget.advice:
        line(Text.assemble((f"{label:<8}", "green"), words))

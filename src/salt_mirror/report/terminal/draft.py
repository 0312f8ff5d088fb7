"""A draft as it is told: what was found, what looks wrong, what was not learnt, and what to run next."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

from rich.text import Text

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.draft.doubting import Fit
from salt_mirror.checks.draft.lacking import Lacking
from salt_mirror.checks.draft.learnt import Learnt
from salt_mirror.dns.questions import Server
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.report.cleaning import clean
from salt_mirror.report.terminal.console import console_on, put_line


@dataclass(frozen=True, slots=True)
class DraftSummary:
    """What is told of a draft: `new` tables of the estate and `more` servers for its zones, whether they were `written`, and
    whether there was an estate before (`adds`); `registered` whether that was to be expected, `review` the page of what looks
    wrong; `cost` what it took."""

    learnt: Learnt
    labels: Mapping[Server, str]
    new: Sequence[str]
    more: Mapping[str, Sequence[str]]
    fits: Sequence[Fit]
    path: Path
    review: Path
    lacking: Sequence[Lacking]
    written: bool
    adds: bool
    registered: bool
    cost: str


def print_draft(summary: DraftSummary, file: TextIO) -> None:
    """Print what came of a draft, the answer first."""
    console = console_on(file)

    def line(text: Text | str = "", indent: int = 0) -> None:
        put_line(console, text, indent, wrap=console.is_terminal)

    line(Text(clean(_answer(summary)), style="bold green" if summary.written else "bold"))
    for met in summary.learnt.met:
        line(Text(clean(f"Not all: {met}."), style="bold yellow"))
    line(Text(clean(summary.cost), style="dim"))
    for remark in summary.learnt.remarks:
        line(Text(f"Note: {clean(remark)}", style="dim"))
    line()
    for title, said in _rows(summary):
        line(Text.assemble((f"{title:<10}", "bold"), clean(said)), 2)
    if summary.adds and not summary.written:
        _show_additions(summary, line)
    if summary.lacking:
        line()
        line(Text("Not learnt, and how to give it:", style="bold"))
        for lack in summary.lacking:
            line(clean(f"- {lack.what}"), 2)
            line(Text(clean(lack.give), style="dim"), 4)
    line()
    line(Text("Next:", style="bold"))
    steps = list(_next(summary))
    wide = max(len(command) for command, _ in steps)
    for command, why in steps:
        line(Text.assemble(f"{clean(command):<{wide}}", (f"   {why}", "dim")), 2)


def _show_additions(summary: DraftSummary, line: object) -> None:
    assert callable(line)
    for zone, labels in summary.more.items():
        line()
        line(clean(f"# {zone} is also answered for by {', '.join(labels)}: into its list of servers."))
    for table in summary.new:
        line()
        for one in table.splitlines():
            line(clean(one))


def _answer(summary: DraftSummary) -> str:
    learnt = summary.learnt
    zones, servers = len(learnt.zones), sum(bool(learnt.serving(server)) for server in learnt.servers)
    text = f"{many(zones, 'zone')} on {many(servers, 'server')}"
    if not summary.adds:
        return f"{text}: {summary.path} is written."
    if not summary.new and not summary.more:
        return f"{text}: {summary.path} has them all. Nothing was written."
    what = _counted(summary)
    if summary.written:
        return f"{text}: {what} added to {summary.path}."
    return f"{text}: {summary.path} lacks {what}. Nothing was written; --add adds what is shown below."


_TABLES = (
    ("[[zones]]", "zone", "zones"), ("[servers.", "server", "servers"), ("[resolvers.", "resolver", "resolvers"),
    ("[keys.", "key", "keys"), ("[networks.", "network", "networks"), ("[[directories]]", "directory", "directories"),
)  # fmt: skip


def _counted(summary: DraftSummary) -> str:
    parts = []
    for begin, one, several in _TABLES:
        number = sum(any(line.startswith(begin) for line in table.splitlines()) for table in summary.new)
        parts += [many(number, one, several)] if number else []
    more = sum(map(len, summary.more.values()))
    parts += [many(more, "entry in its lists of servers", "entries in its lists of servers")] if more else []
    return ", ".join(parts)


def _by_label(summary: DraftSummary) -> list[tuple[Server, str]]:
    return sorted(
        ((server, summary.labels[server]) for server in (one.server for one in summary.learnt.written)),
        key=lambda one: one[1],
    )


def _rows(summary: DraftSummary) -> Iterator[tuple[str, str]]:
    learnt = summary.learnt
    reverse = sum(is_reverse(apex) for apex in learnt.zones)
    held = sum(zone.holding is not None for zone in learnt.zones.values())
    whole = f"{held:,} taken whole" if held else "none taken whole"
    yield "zones", f"{len(learnt.zones) - reverse:,} forward and {reverse:,} reverse, {whole}"
    for number, (server, label) in enumerate(_by_label(summary)):
        zones, sent = learnt.serving(server), list(learnt.sending_to(server))
        said = f"{label} answers for {many(len(zones), 'zone') if zones else 'none of them'}"
        if sent:
            hows = ", ".join(dict.fromkeys(how for _, how in sent))
            said += f"; {many(len(sent), 'zone names it', 'zones name it')} in vain ({hows})"
        yield ("servers" if not number else ""), said
    names = sum(len(zone.registered) for zone in learnt.zones.values())
    yield "records", f"{many(names, 'record set')} seen"
    if summary.fits:
        kept = sum(fit.records for fit in summary.fits)
        left = sum(len(values) for fit in summary.fits for values, _ in fit.left_out.values())
        says = f"{many(kept, 'record')} from now on"
        says += (
            f"; {many(left, 'record looks', 'records look')} wrong, and {'is' if left == 1 else 'are'} not among them"
            if left
            else ""
        )
        yield "expected", says


def _next(summary: DraftSummary) -> Iterator[tuple[str, str]]:
    path = str(summary.path)
    estate = "" if path == "estate.toml" else f' --estate "{path}"' if " " in path else f" --estate {path}"
    if not summary.written and summary.adds and (summary.new or summary.more):
        yield "the same with --add", "adds what is shown"
    left = any(fit.left_out for fit in summary.fits)
    if left and summary.written:
        yield f"read {summary.review}", "what looks wrong, and why it is not expected"
    yield f"salt-mirror audit{estate}", "everything, checked"
    yield f"salt-mirror mend{estate}", "what would mend it"
    if not summary.registered and not summary.adds:
        yield "the same in another folder with --expect registered", "also expects what is registered now"

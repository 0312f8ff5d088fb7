"""A plan as a change ticket: why, what, risk, way back, decisions, and what is left, for whoever has to approve it.

Strategy: the parts are made once, from the report alone, and written as Markdown or as a page; everything from outside is
escaped by whichever of the two writes it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from importlib.resources import files
from itertools import groupby
from typing import NamedTuple

from markupsafe import Markup

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.proposing import lines_of
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sheet import FATES, Carried, LeftLine, PlanSheet, SetLine
from salt_mirror.report.cleaning import clean_lines
from salt_mirror.report.document import Report
from salt_mirror.report.files.templates import hash_of, template

_FOLDER = files("salt_mirror.report") / "files" / "page"


class Item(NamedTuple):
    """A point of the ticket: what it says, and lines that are shown as they are."""

    says: str
    lines: str = ""


class Section(NamedTuple):
    """A part of the ticket: its title, a paragraph, and its points."""

    title: str
    says: str
    items: list[Item]


def sections(report: Report) -> list[Section]:
    """Return the parts of the ticket that have anything to say."""
    assert isinstance(report.plan, PlanSheet)
    plan = report.plan
    planned = [one for one in report.findings if one.fate == "planned"]
    titles: dict[str, list[str]] = {}
    for finding in planned:
        titles.setdefault(f"{finding.weight}: {catalogue()[finding.code].title} ({finding.code})", []).append(
            finding.place
        )
    back = plan.undo or "FILE"
    found = [
        Section(
            "Why",
            f"The plan mends {many(plan.mends, 'finding')}.",
            [Item(f"{title}: {', '.join(places)}") for title, places in titles.items()],
        ),
        Section("What", "In the order in which it is sent.", list(_changes(plan.changes))),
        Section("Risk", "", [Item(says) for says in plan.risks]),
        Section(
            "Way back",
            "Before the first message every set is written down as it is.",
            [Item("Restores what this run changes, and nothing else:", f"salt-mirror mend --back {back}")],
        ),
        Section("Decisions made", "", [Item(says) for says in plan.decided]),
        Section("Decisions open", "Nothing is planned for these until it is decided.", list(_waiting(plan.waiting))),
    ]
    for fate, title in FATES.items():
        found.append(Section(title.capitalize(), "", list(_left(one for one in plan.not_ours if one.fate == fate))))
    found.append(Section("Left out of the approved plan", "", list(_carried(plan.left_out))))
    found.append(Section("What became of it", "", list(_carried(plan.carried))))
    return [one for one in found if one.items]


def _changes(sets: list[SetLine]) -> Iterator[Item]:
    for (view, zone, server), group in groupby(sets, key=lambda one: (one.view, one.zone, one.server)):
        lines = []
        for line in group:
            lines += [f"; {'; '.join(line.reasons)}"] if line.reasons else []
            lines += [f"- {line.name} {line.ttl_before} IN {line.type} {text}" for text in line.gone]
            lines += [f"+ {line.name} {line.ttl_after} IN {line.type} {text}" for text in line.come]
        where = f"{zone} in the view {view}" if view else zone
        yield Item(
            f"{where}, sent to {server}" if server else f"{where}, no server known that takes changes", "\n".join(lines)
        )


def _waiting(found: list[LeftLine]) -> Iterator[Item]:
    for left in found:
        lines = []
        for choice in left.choices:
            lines.append(f"{choice.word}: {choice.says}")
            lines += [f"    {line}" for change in choice.changes for line in lines_of(change)]
        yield Item(left.text, "\n".join(lines))


def _left(found: Iterable[LeftLine]) -> Iterator[Item]:
    told: dict[str, list[str]] = {}
    for left in found:
        place = f"{left.name} {left.address or left.type}"
        told.setdefault(left.says, []).append(f"{catalogue()[left.code].title} ({left.code}): {place}")
    return (Item(says, "\n".join(places)) for says, places in told.items())


def _carried(found: Iterable[Carried]) -> Iterator[Item]:
    told: dict[str, list[str]] = {}
    for carried_set in found:
        told.setdefault(carried_set.says, []).append(f"{carried_set.name} {carried_set.type}")
    return (Item(says, "\n".join(names)) for says, names in told.items())


def markdown(report: Report) -> bytes:
    """Return the ticket as Markdown."""
    from salt_mirror.report.files.marking import code, marked

    lines = [f"# {marked(report.headline)}", "", f"{marked(_from(report))}", ""]
    lines += [f"> {marked(remark)}\n>" for remark in report.remarks]
    for section in sections(report):
        lines += ["", f"## {section.title}", ""] + ([marked(section.says), ""] if section.says else [])
        for item in section.items:
            lines.append(f"- {marked(item.says)}")
            lines += code(clean_lines(item.lines), "  ") if item.lines else []
    return ("\n".join(lines).rstrip() + "\n").encode("utf-8")


def html(report: Report) -> bytes:
    """Return the ticket as one page that makes no outside request."""
    style = (_FOLDER / "page.css").read_text(encoding="utf-8")
    page: str = template("ticket.html.j2").render(
        report=report,
        headline=report.headline,
        origin=_from(report),
        sections=sections(report),
        style=Markup(style),
        policy=f"default-src 'none'; style-src '{hash_of(style)}'; base-uri 'none'; form-action 'none'",
    )
    return page.encode("utf-8")


def _from(report: Report) -> str:
    """Of which estate the plan is, when it was made, and what to compare it with."""
    assert isinstance(report.plan, PlanSheet)
    when = f"{report.of}, {report.started:%Y-%m-%d %H:%M} UTC, {report.counts.questions:,} questions"
    return f"{when}; plan {report.plan.digest[:16]}" if report.plan.digest else when

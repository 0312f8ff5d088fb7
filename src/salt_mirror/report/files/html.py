"""The report as one HTML page: no outside request, readable without script, and open at once whatever it holds.

Strategy: the page shows folds; the first rows stand in it, and all of them as compact data, from which the script makes rows
when a fold is opened. Jinja2 escapes everything; a content security policy in the page allows nothing but the page's own style
and script, by their hashes. What is shown is gathered here, so that the template holds no logic but loops.
"""

from __future__ import annotations

from typing import NamedTuple

import msgspec
from markupsafe import Markup

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.lines import Audit, ZoneLine
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.plan.sheet import PlanSheet
from salt_mirror.findings import Finding
from salt_mirror.report.cleaning import clean, clean_lines
from salt_mirror.report.document import Report
from salt_mirror.report.files.rows import ENTRY, FIELD, compact
from salt_mirror.report.files.templates import hash_of, template
from salt_mirror.report.files.ticket import _FOLDER
from salt_mirror.report.folding import KINDS, Fold, Folding, largest
from salt_mirror.report.phrases import REPAIRS, evidence_line, file_lines, since_of, things_said

STANDING = 100
"""So many findings stand in the page itself; of the rest there is the data."""

_MOST_ZONES = 200
_MOST_NEWS = 20


class Row(NamedTuple):
    """One finding as the page shows it."""

    kind: str
    code: str
    title: str
    meaning: str
    place: str
    view: str
    since: str
    text: str
    repair: str
    remedy: str
    evidence: list[str]

    def packed(self) -> str:
        """Return the same as one text; title and meaning go with the code."""
        fields = (
            self.kind,
            self.code,
            self.place,
            self.view,
            self.since,
            self.text,
            self.repair,
            self.remedy,
            ENTRY.join(self.evidence),
        )
        return FIELD.join(fields)


class Shown(NamedTuple):
    """A fold as the page shows it, with those of its rows that stand in the page, and where its rows begin in the data."""

    fold: Fold
    title: str
    says: str
    named: str
    first: int
    rows: list[Row]


def written(report: Report) -> bytes:
    """Return the whole page."""
    if isinstance(report.plan, PlanSheet):
        from salt_mirror.report.files.ticket import html

        return html(report)
    style = (_FOLDER / "page.css").read_text(encoding="utf-8")
    script = (_FOLDER / "page.js").read_text(encoding="utf-8")
    audit = report.audit if isinstance(report.audit, Audit) else None
    zones = audit.zones if audit is not None else []
    apexes = [(line.view, line.zone) for line in zones]
    shown, rows = _shown(report, Folding(report.findings, apexes))
    page: str = template("page.html.j2").render(
        report=report,
        audit=audit,
        headline=report.headline,
        checks=list(dict.fromkeys(check for line in zones for check in line.checks)),
        zones=_worst(zones),
        signed=[sheet for sheet in report.sheets or () if sheet.signed is not None],
        news=_news(report, apexes),
        shown=shown,
        views=list(dict.fromkeys(one.view for one in report.findings if one.view)),
        kinds=[(kind, sum(row.kind == kind for row in rows)) for kind in KINDS if kind in shown],
        things={kind: things_said(report.weighing(kind)) for kind in shown if kind != "unverified"},
        standing=STANDING,
        data=Markup(_data(rows, shown)),
        style=Markup(style),
        script=Markup(script),
        policy="; ".join(
            (
                "default-src 'none'",
                f"style-src '{hash_of(style)}'",
                f"script-src '{hash_of(script)}'",
                "base-uri 'none'",
                "form-action 'none'",
            )
        ),
    )
    return page.encode("utf-8")


def _shown(report: Report, folding: Folding) -> tuple[dict[str, list[Shown]], list[Row]]:
    """Return the folds by kind, the worst kind first, and the rows of all of them in their order."""
    since = since_of(report)
    rows: list[Row] = []
    found: dict[str, list[Shown]] = {}
    for kind in KINDS:
        for fold in folding.of_kind(kind):
            first = len(rows)
            for finding in fold.findings:
                code = catalogue()[finding.code]
                stood = since.get(finding.identity)
                rows.append(
                    Row(
                        kind, finding.code, code.title, code.meaning, clean(finding.place), clean(finding.view),
                        f"{stood:%Y-%m-%d %H:%M} UTC" if stood is not None and stood < report.started else "",
                        clean(finding.text), REPAIRS[finding.fate], clean_lines(finding.remedy),
                        [clean(text) for text in (*file_lines(finding), *map(evidence_line, finding.evidence))],
                    )
                )  # fmt: skip
            says = "" if fold.alone and not fold.cause else clean(fold.says)
            named = "" if fold.cause else fold.named
            standing = rows[first : max(first, STANDING)]
            found.setdefault(kind, []).append(Shown(fold, rows[first].title, says, named, first, standing))
    return found, rows


def _data(rows: list[Row], shown: dict[str, list[Shown]]) -> str:
    """Return all rows as JSON that may stand in a page."""
    titles = {row.code: (row.title, row.meaning) for row in rows}
    data = {
        "codes": titles,
        "folds": [(one.first, len(one.fold.findings)) for some in shown.values() for one in some],
        **compact(row.packed() for row in rows)._asdict(),
    }
    text = msgspec.json.encode(data).decode("utf-8")
    for char in "<>&":
        text = text.replace(char, f"\\u{ord(char):04x}")
    return text


def _worst(lines: list[ZoneLine]) -> list[ZoneLine]:
    """Return the zones that are shown: all of some hundreds; of more, those that are not sound before the others."""
    if len(lines) <= _MOST_ZONES:
        return lines
    return sorted(lines, key=lambda line: ("differs", "unverified", "agrees").index(line.outcome))[:_MOST_ZONES]


def _news(report: Report, apexes: list[tuple[str, str]]) -> list[tuple[str, str]]:
    """Return what is new and what is gone since the last run, one line each: as folds where there is much of it."""
    history = report.past
    if history is None or history.before is None:
        return []
    lines: list[tuple[str, str]] = []
    for word, findings in (("new", history.new), ("gone", history.gone)):
        if len(findings) <= _MOST_NEWS:
            lines += [(word, _new(one)) for one in findings]
            continue
        said, rest = largest(findings, apexes, _MOST_NEWS)
        lines += [(word, one) for one in said]
        lines += [(word, f"and {many(rest, 'more finding')}")] if rest else []
    return lines


def _new(finding: Finding) -> str:
    return clean(
        f"{catalogue()[finding.code].title} ({finding.code}): {finding.name} {finding.address or finding.type}"
    )

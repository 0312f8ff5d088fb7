"""The report as one HTML page: no outside request, readable without script, with a few lines of script to filter.

Strategy: Jinja2 escapes everything; a content security policy in the page allows nothing but the page's own style and
script, by their hashes. What is shown is gathered here, so that the template holds no logic but loops.
"""

from __future__ import annotations

import base64
import hashlib
from importlib.resources import files
from typing import Any, NamedTuple

import jinja2
from markupsafe import Markup

from salt_mirror.catalogue import catalogue
from salt_mirror.checks import check_of
from salt_mirror.checks.audit.lines import Audit
from salt_mirror.findings import Finding
from salt_mirror.report.cleaning import clean, clean_lines
from salt_mirror.report.document import Report
from salt_mirror.report.forms.said import evidence_line, since_of, subject_of, things_said

_FOLDER = files("salt_mirror.report") / "forms" / "page"


class Row(NamedTuple):
    """One finding as the page shows it."""

    finding: Finding
    kind: str
    title: str
    meaning: str
    check: str
    evidence: list[str]
    since: str


class Group(NamedTuple):
    """Findings with one cause, or a single one without."""

    cause: str
    rows: list[Row]


def written(report: Report) -> bytes:
    """The whole page."""
    environment = jinja2.Environment(
        autoescape=True, trim_blocks=True, lstrip_blocks=True, undefined=jinja2.StrictUndefined
    )
    environment.filters["clean"] = clean
    environment.filters["clean_lines"] = clean_lines
    template = environment.from_string((_FOLDER / "page.html.j2").read_text(encoding="utf-8"))
    style = (_FOLDER / "page.css").read_text(encoding="utf-8")
    script = (_FOLDER / "page.js").read_text(encoding="utf-8")
    audit = report.audit if isinstance(report.audit, Audit) else None
    checks = list(dict.fromkeys(check for line in audit.zones for check in line.checks)) if audit is not None else []
    page: str = template.render(
        report=report,
        audit=audit,
        headline=report.headline,
        checks=checks,
        groups=_groups(report),
        views=list(dict.fromkeys(one.view for one in report.findings if one.view)),
        kinds=_kinds(report),
        things={kind: things_said([one for one in report.findings if _kind(one) == kind]) for kind in KINDS},
        style=Markup(style),
        script=Markup(script),
        policy="; ".join(
            (
                "default-src 'none'",
                f"style-src '{_hash(style)}'",
                f"script-src '{_hash(script)}'",
                "base-uri 'none'",
                "form-action 'none'",
            )
        ),
    )
    return page.encode("utf-8")


KINDS = ("fault", "caution", "unverified", "note")
"""The kinds of findings, the worst first."""


def _hash(text: str) -> str:
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode("utf-8")).digest()).decode("ascii")


def _kinds(report: Report) -> list[tuple[str, int]]:
    counts: dict[str, int] = {}
    for one in report.findings:
        counts[_kind(one)] = counts.get(_kind(one), 0) + 1
    return [(kind, counts[kind]) for kind in KINDS if kind in counts]


def _kind(finding: Finding) -> str:
    return "unverified" if finding.outcome == "unverified" else finding.weight


def _groups(report: Report) -> list[tuple[str, list[Group]]]:
    """The findings by kind, the worst first, those with one cause together."""
    since = since_of(report)
    found: list[tuple[str, list[Group]]] = []
    for kind, _ in _kinds(report):
        groups: dict[Any, Group] = {}
        for number, one in enumerate(one for one in report.findings if _kind(one) == kind):
            code = catalogue()[one.code]
            moment = since.get(subject_of(one))
            row = Row(
                one, kind, code.title, code.meaning, check_of(one.code).name, [clean(evidence_line(e)) for e in one.evidence],
                f"{moment:%Y-%m-%d %H:%M} UTC" if moment is not None and moment < report.started else "",
            )  # fmt: skip
            groups.setdefault(one.cause or number, Group(one.cause, [])).rows.append(row)
        found.append((kind, sorted(groups.values(), key=lambda group: not group.cause)))
    return found

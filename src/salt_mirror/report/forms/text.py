"""The forms of a report that are plain text: CSV, JUnit XML, Markdown, OpenMetrics.

Strategy: each takes the finished report and decides nothing. What came from the network is in RFC 1035 presentation form by
now; what each form would still take for its own (a formula, a tag, a table's bar) is defused here.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from xml.etree import ElementTree

from salt_mirror.checks.audit.coverage import PREFIXES
from salt_mirror.findings import CATALOGUE, Evidence, Finding
from salt_mirror.checks.audit.lines import Audit, Since
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report

_COLUMNS = (
    "weight", "outcome", "code", "title", "view", "name", "type", "address", "text", "cause", "remedy", "expected", "evidence",
    "standing since",
)  # fmt: skip
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def check_of(finding: Finding) -> str:
    """The check that a finding belongs to."""
    return PREFIXES.get(finding.code.split(".")[0], "acceptances")


def evidence_line(one: Evidence) -> str:
    """What one server said, on one line."""
    said = (
        one.trouble or ", ".join(one.values) or ("no such name" if one.status == "NXDOMAIN" else "nothing of this type")
    )
    return f"{one.server} ({one.endpoint}) {one.question}: {said}"


def since_of(report: Report) -> dict[tuple[str, str, str, str, str | None], datetime]:
    """Since when each finding has stood, by what it is about."""
    history = report.audit.history if isinstance(report.audit, Audit) else None
    standing: list[Since] = history.standing if history is not None else []
    return {(one.code, one.view, one.name, one.type, one.address): one.since for one in standing}


def about(finding: Finding) -> tuple[str, str, str, str, str | None]:
    """What a finding is about."""
    return finding.code, finding.view, finding.name, finding.type, finding.address


def as_csv(report: Report) -> str:
    """One row a finding; a cell that a spreadsheet would run as a formula begins with an apostrophe."""
    file = io.StringIO()
    writer = csv.writer(file, lineterminator="\r\n")
    writer.writerow(_COLUMNS)
    since = since_of(report)
    for one in report.findings:
        stood = since.get(about(one))
        cells = (
            one.weight, one.outcome, one.code, CATALOGUE[one.code].title, one.view, one.name, one.type, one.address or "",
            one.text, one.cause, one.remedy, "; ".join(one.expected), "; ".join(map(evidence_line, one.evidence)),
            stood.isoformat() if stood is not None else "",
        )  # fmt: skip
        writer.writerow([_defused(clean(cell)) for cell in cells])
    return file.getvalue()


def _defused(cell: str) -> str:
    return f"'{cell}" if cell.startswith(_FORMULA) else cell


def as_junit(report: Report) -> str:
    """A suite for each check: a case for each zone that it looked at, and one for each fault and each doubt.

    Faults fail, what could not be verified is skipped; cautions stand in the output of their zone's case.
    """
    audit = report.audit if isinstance(report.audit, Audit) else None
    suites = ElementTree.Element("testsuites", name=f"salt-mirror {report.command}", time=f"{report.seconds:.3f}")
    by_check: dict[str, list[ElementTree.Element]] = {}
    for line in audit.zones if audit is not None else ():
        for check, tally in line.checks.items():
            case = ElementTree.Element("testcase", classname=f"{check}.{clean(line.view) or 'zones'}", name=line.zone)
            output = ElementTree.SubElement(case, "system-out")
            told = (f"{tally.agrees} agree", f"{tally.differs} differ", f"{tally.unverified} could not be verified")
            output.text = f"{', '.join(told)}, {tally.cautions} cautions"
            by_check.setdefault(check, []).append(case)
    for finding in report.findings:
        if finding.outcome != "unverified" and finding.weight != "fault":
            continue
        name = f"{finding.name} {finding.address or finding.type}: {CATALOGUE[finding.code].title}"
        case = ElementTree.Element(
            "testcase", classname=f"{check_of(finding)}.{clean(finding.view) or 'zones'}", name=clean(name)
        )
        tag = "skipped" if finding.outcome == "unverified" else "failure"
        note = ElementTree.SubElement(case, tag, message=clean(finding.text))
        if tag == "failure":
            note.set("type", finding.code)
        lines = [finding.text, *map(evidence_line, finding.evidence)]
        note.text = "\n".join(map(clean, [*lines, f"mend: {finding.remedy}"] if finding.remedy else lines))
        by_check.setdefault(check_of(finding), []).append(case)
    for check, cases in by_check.items():
        failures = sum(case.find("failure") is not None for case in cases)
        skipped = sum(case.find("skipped") is not None for case in cases)
        suite = ElementTree.SubElement(
            suites, "testsuite", name=check, tests=str(len(cases)), failures=str(failures), errors="0", skipped=str(skipped),
            time="0", timestamp=report.started.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S"),
        )  # fmt: skip
        suite.extend(cases)
    ElementTree.indent(suites)
    return '<?xml version="1.0" encoding="utf-8"?>\n' + ElementTree.tostring(suites, encoding="unicode") + "\n"


def as_markdown(report: Report, headline: str) -> str:
    """For a ticket or a merge request: the verdict, a table of zones, then what differs, with what would mend it."""
    audit = report.audit if isinstance(report.audit, Audit) else None
    lines = [
        f"## {_marked(headline)}",
        "",
        f"{_marked(report.title)} · {report.started:%Y-%m-%d %H:%M} UTC · {report.counts.questions:,} questions",
        "",
    ]
    lines += [f"> {_marked(remark)}" for remark in report.remarks]
    if audit is not None and audit.zones:
        checks = list(dict.fromkeys(check for line in audit.zones for check in line.checks))
        lines += ["| zone | view | " + " | ".join(checks) + " |", "|---|---|" + "---|" * len(checks)]
        for zone in audit.zones:
            cells = [
                _cell(zone.checks[check].outcome, zone.checks[check].faults) if check in zone.checks else ""
                for check in checks
            ]
            lines.append(f"| {_marked(zone.zone)} | {_marked(zone.view)} | " + " | ".join(cells) + " |")
        lines.append("")
    for title, found in (
        ("Faults", report.weighing("fault")), ("Cautions", report.weighing("caution")),
        ("Could not be verified", report.unverified),
    ):  # fmt: skip
        if found:
            lines += [f"### {title}: {len(found):,}", ""]
        cause = ""
        for one in sorted(found, key=lambda one: one.cause):
            if one.cause and one.cause != cause:
                lines.append(f"- **{_marked(one.cause)}**")
            cause = one.cause
            lines.append(
                f"{'  ' if one.cause else ''}- **{_marked(CATALOGUE[one.code].title)}** {_marked(one.text)} (`{one.code}`)"
            )
            if one.remedy:
                lines += ["", *(f"      {line}" for line in clean(one.remedy).splitlines()), ""]
        lines += [""] if found else []
    return "\n".join(lines).rstrip() + "\n"


def _cell(outcome: str, faults: int) -> str:
    return {
        "agrees": "agrees",
        "unverified": "unverified",
        "differs": f"**{faults} {'fault' if faults == 1 else 'faults'}**",
    }[outcome]


_MARKS = re.compile(r"([\\`*_{}\[\]<>|#~!&])")


def _marked(text: str) -> str:
    """Text whose characters mean nothing in Markdown."""
    return _MARKS.sub(r"\\\1", clean(text))


def as_openmetrics(report: Report) -> str:
    """Metrics for a scraper that reads text files (OpenMetrics 1.0)."""
    return "\n".join([*_metrics(report), "# EOF"]) + "\n"


def _metrics(report: Report) -> Iterator[str]:
    audit = report.audit if isinstance(report.audit, Audit) else None
    yield from _head("saltmirror_subjects", "gauge", "Subjects of a check in a zone, by outcome.")
    for line in audit.zones if audit is not None else ():
        for check, tally in line.checks.items():
            for outcome in ("agrees", "differs", "unverified"):
                labels = _labels(check=check, zone=line.zone, view=line.view, outcome=outcome)
                yield f"saltmirror_subjects{labels} {getattr(tally, outcome)}"
    yield from _head("saltmirror_findings", "gauge", "Findings of the last run, by weight; doubts are unverified.")
    for weight in ("fault", "caution", "note"):
        yield f"saltmirror_findings{_labels(weight=weight)} {len(report.weighing(weight))}"
    yield f"saltmirror_findings{_labels(weight='unverified')} {len(report.unverified)}"
    yield from _head(
        "saltmirror_serial_lag", "gauge", "Versions that a server is behind the newest, negative when ahead."
    )
    for line in audit.zones if audit is not None else ():
        for server, lag in line.serial_lag.items():
            yield f"saltmirror_serial_lag{_labels(zone=line.zone, view=line.view, server=server)} {lag}"
    yield from _head(
        "saltmirror_since_agreement_seconds", "gauge", "Seconds since a check last agreed in a zone.", unit="seconds"
    )
    for line in audit.zones if audit is not None else ():
        for check, moment in line.last_agreement.items():
            seconds = max(0, round((report.started - moment).total_seconds()))
            yield f"saltmirror_since_agreement_seconds{_labels(check=check, zone=line.zone, view=line.view)} {seconds}"
    yield from _head("saltmirror_questions", "gauge", "Questions put to servers in the last run.")
    yield f"saltmirror_questions {report.counts.questions}"
    yield from _head(
        "saltmirror_questions_saved", "gauge", "Questions that several checks had, and that were asked once."
    )
    yield f"saltmirror_questions_saved {audit.saved if audit is not None else 0}"
    yield from _head("saltmirror_run_seconds", "gauge", "How long the last run took.", unit="seconds")
    yield f"saltmirror_run_seconds {report.seconds}"
    yield from _head("saltmirror_run_timestamp_seconds", "gauge", "When the last run began.", unit="seconds")
    yield f"saltmirror_run_timestamp_seconds {report.started.timestamp():.0f}"
    if audit is not None and audit.round_trips:
        yield from _head("saltmirror_round_trip_seconds", "histogram", "Round trips of the last run.", unit="seconds")
        for end, count in audit.round_trips.items():
            yield f"saltmirror_round_trip_seconds_bucket{_labels(le=end)} {count}"
        yield f"saltmirror_round_trip_seconds_count {audit.round_trips['+Inf']}"
        yield f"saltmirror_round_trip_seconds_sum {audit.round_trip_sum:.6f}"


def _head(name: str, kind: str, words: str, *, unit: str = "") -> Iterator[str]:
    yield f"# TYPE {name} {kind}"
    if unit:
        yield f"# UNIT {name} {unit}"
    yield f"# HELP {name} {words}"


def _labels(**labels: str) -> str:
    escaped = {key: clean(text).replace("\\", "\\\\").replace('"', '\\"') for key, text in labels.items()}
    return "{" + ",".join(f'{key}="{text}"' for key, text in escaped.items()) + "}"

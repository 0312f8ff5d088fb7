"""A report as Markdown, for a ticket or a merge request.

Strategy: everything that would mean something in Markdown is escaped here.
"""

from __future__ import annotations

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.lines import Audit
from salt_mirror.checks.common.wording import duration
from salt_mirror.checks.plan.sheet import PlanSheet
from salt_mirror.checks.rehearse.sheet import RehearsalSheet
from salt_mirror.report.cleaning import clean_lines
from salt_mirror.report.document import Report
from salt_mirror.report.files.marking import code, marked
from salt_mirror.report.phrases import REPAIRS, file_lines, things_said


def written(report: Report) -> bytes:
    """For a ticket or a merge request: the verdict, a table of zones, then what differs, with what would mend it."""
    if isinstance(report.plan, PlanSheet):
        from salt_mirror.report.files.ticket import markdown

        return markdown(report)
    audit = report.audit if isinstance(report.audit, Audit) else None
    lines = [
        f"## {marked(report.headline)}",
        "",
        f"{marked(report.of)} · {report.started:%Y-%m-%d %H:%M} UTC · {report.counts.questions:,} questions",
        "",
    ]
    lines += [f"> {marked(remark)}\n>" for remark in report.remarks]
    lines += [""] if report.remarks else []
    if audit is not None and audit.zones:
        checks = list(dict.fromkeys(check for line in audit.zones for check in line.checks))
        lines += ["| zone | view | " + " | ".join(checks) + " |", "|---|---|" + "---|" * len(checks)]
        for zone in audit.zones:
            cells = [
                _cell(zone.checks[check].outcome, zone.checks[check].faults) if check in zone.checks else ""
                for check in checks
            ]
            same = f" ({zone.unchanged.says})" if zone.unchanged else ""
            lines.append(f"| {marked(zone.zone + same)} | {marked(zone.view)} | " + " | ".join(cells) + " |")
        lines.append("")
    for title, findings in (
        ("Faults", report.weighing("fault")), ("Cautions", report.weighing("caution")),
        ("Unverified", report.unverified),
    ):  # fmt: skip
        if findings:
            things = things_said(findings)
            lines += [f"### {title}: {things or f'{len(findings):,}'}", ""]
        cause, mended = "", ""
        for finding in sorted(findings, key=lambda one: one.cause):
            if finding.cause and finding.cause != cause:
                lines.append(f"- **{marked(finding.cause)}**")
                mended = ""
            cause = finding.cause
            lines.append(
                f"{'  ' if finding.cause else ''}- **{marked(catalogue()[finding.code].title)}** "
                f"{marked(finding.text)} (`{finding.code}`)"
            )
            lines += [f"{'    ' if finding.cause else '  '}- {marked(text)}" for text in file_lines(finding)]
            if finding.remedy and not (
                finding.cause and finding.remedy == mended
            ):  # what one change mends is said once
                lines += ["", f"{'    ' if finding.cause else '  '}{REPAIRS[finding.fate]}:"] if finding.fate else []
                lines += code(clean_lines(finding.remedy), "    " if finding.cause else "  ")
                mended = finding.remedy
        lines += [""] if findings else []
    lines += _rehearsal(report.rehearsal) if report.rehearsal else []
    return ("\n".join(lines).rstrip() + "\n").encode("utf-8")


def _rehearsal(sheet: RehearsalSheet) -> list[str]:
    """Return what a rehearsal adds: what vanishes, and how long caches keep the old data."""
    lines = []
    if sheet.vanishing:
        lines += [f"### Vanishes{'' if sheet.whole else ' (as far as it was seen)'}", ""]
        for row in sheet.vanishing:
            needed = f": still needed, {marked('; '.join(row.needed))}" if row.needed else ""
            lines.append(f"- {marked(f'{row.name} {row.type} ' + ', '.join(row.values))}{needed}")
        lines.append("")
    if sheet.waits:
        lines += ["### Caches", "", "| old data is kept | record sets | |", "|---|---|---|"]
        for wait in sheet.waits:
            first = f"{wait.name} {wait.type}" + (f" and {wait.sets - 1:,} more" if wait.sets > 1 else "")
            kept = f"{duration(wait.kept_s)} ({'negative TTL' if wait.negative else 'TTL'})"
            lower = f"{duration(wait.lead_s)} before, lower to {wait.lower} s" if wait.lower and wait.lead_s else ""
            lines.append(f"| {kept} | {marked(first)} | {lower} |")
        lines.append("")
    return lines


def _cell(outcome: str, faults: int) -> str:
    return {
        "agrees": "agrees",
        "unverified": "unverified",
        "differs": f"**{faults} {'fault' if faults == 1 else 'faults'}**",
    }[outcome]

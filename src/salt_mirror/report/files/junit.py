"""A report as JUnit XML: a suite for each check, a case for each zone that it looked at, and one for each fault and each doubt.

Strategy: faults fail, what could not be verified is skipped; cautions stand in the output of their zone's case.
"""

from __future__ import annotations

from datetime import UTC

from junitparser import Error, Failure, JUnitXml, Skipped, TestCase, TestSuite

from salt_mirror.catalogue import catalogue
from salt_mirror.checks import check_of
from salt_mirror.checks.audit.lines import Audit
from salt_mirror.findings import Finding
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report
from salt_mirror.report.phrases import evidence_line, file_lines


def written(report: Report) -> bytes:
    """Return the suites of a report."""
    by_check: dict[str, list[TestCase]] = {}
    audit = report.audit if isinstance(report.audit, Audit) else None
    for line in audit.zones if audit is not None else ():
        for check, tally in line.checks.items():
            case = TestCase(line.zone, f"{check}.{clean(line.view) or 'zones'}")
            told = (f"{tally.agrees} agree", f"{tally.differs} differ", f"{tally.unverified} could not be verified")
            same = f"; {line.unchanged.says}" if line.unchanged else ""
            case.system_out = f"{', '.join(told)}, {tally.cautions} cautions{same}"
            by_check.setdefault(check, []).append(case)
    for row in report.rehearsal.zones if report.rehearsal else ():
        case = TestCase(row.zone, f"rehearse.{clean(row.view) or 'zones'}")
        case.system_out = f"{clean(row.file)}: {row.come} sets come, {row.gone} go, {row.changed} change"
        by_check.setdefault("rehearse", []).append(case)
    for finding in report.findings:
        if finding.outcome == "unverified" or finding.weight == "fault":
            by_check.setdefault(check_of(finding.code).name, []).append(_case(finding))
    if report.interrupted:
        by_check.setdefault(report.command, []).append(_interrupted(report))
    suites = JUnitXml(f"salt-mirror {report.command}")
    for check, cases in by_check.items():
        suite = TestSuite(check)
        suite.timestamp = report.started.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%S")
        suite.add_testcases(cases)
        suites.add_testsuite(suite)
    suites.update_statistics()
    suites.time = round(report.seconds, 3)
    text: bytes = suites.tostring()
    return text


def _interrupted(report: Report) -> TestCase:
    """Return the case that keeps a pipeline from taking half a run for a whole one."""
    case = TestCase("the whole run", report.command)
    error = Error("the run was interrupted: what is not here was not judged", "interrupted")
    error.text = "\n".join(map(clean, report.remarks))
    case.result = [error]
    return case


def _case(finding: Finding) -> TestCase:
    name = f"{finding.name} {finding.address or finding.type}: {catalogue()[finding.code].title}"
    case = TestCase(clean(name), f"{check_of(finding.code).name}.{clean(finding.view) or 'zones'}")
    message = clean(finding.text)
    note = Skipped(message) if finding.outcome == "unverified" else Failure(message, finding.code)
    lines = [finding.text, *file_lines(finding), *map(evidence_line, finding.evidence)]
    lines += [f"{finding.fate or 'mend'}: {line}" for line in finding.remedy.split("\n") if line]
    note.text = "\n".join(map(clean, lines))
    case.result = [note]
    return case

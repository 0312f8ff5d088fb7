"""A report in SARIF 2.1.0 (OASIS): each finding at the lines of the files that it comes of, for code review.

Strategy: a rule for each code, a result for each finding. Faults are errors, cautions warnings; what could not be verified is
an open result, which no reviewer takes for a pass or a failure. Nothing beyond the standard's own properties is written.
"""

from __future__ import annotations

import hashlib
from pathlib import PurePath
from typing import Any
from urllib.parse import quote

import msgspec

from salt_mirror import __version__
from salt_mirror.catalogue import catalogue
from salt_mirror.findings import FileLine, Finding
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LEVELS = {"fault": "error", "caution": "warning", "note": "note"}


def written(report: Report) -> bytes:
    """Return the log of one run."""
    codes = sorted({finding.code for finding in report.findings})
    numbers = {code: number for number, code in enumerate(codes)}
    run = {
        "tool": {"driver": {"name": "Salt Mirror", "version": __version__, "rules": [_rule(code) for code in codes]}},
        "invocations": [
            {
                "executionSuccessful": not report.interrupted,
                "startTimeUtc": f"{report.started:%Y-%m-%dT%H:%M:%SZ}",
                "toolExecutionNotifications": [
                    {"level": "note", "message": {"text": clean(text)}} for text in (report.headline, *report.remarks)
                ],
            }
        ],
        "results": [_result(finding, numbers[finding.code]) for finding in report.findings],
    }
    return msgspec.json.format(msgspec.json.encode({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}), indent=2)


def _rule(code: str) -> dict[str, Any]:
    entry = catalogue()[code]
    return {
        "id": code,
        "shortDescription": {"text": entry.title},
        "fullDescription": {"text": entry.meaning},
        "help": {"text": f"{entry.mend} Causes: {entry.causes}"},
        "defaultConfiguration": {"level": _LEVELS[entry.weight]},
    }


def _result(finding: Finding, number: int) -> dict[str, Any]:
    text = clean(finding.text)
    # What a finding is about tells it from others, from run to run (SARIF section 3.27.17).
    identity = hashlib.sha256("\n".join(finding.identity).encode("utf-8")).hexdigest()
    result: dict[str, Any] = {
        "ruleId": finding.code,
        "ruleIndex": number,
        "message": {"text": text},
        "partialFingerprints": {"subject/v1": identity},
    }
    if finding.outcome == "unverified":
        result |= {"kind": "open", "level": "none"}
    else:
        result |= {"kind": "fail", "level": _LEVELS[finding.weight]}
    places = [_location(line) for line in finding.lines or () if line.file]
    # A result has one place; the others that it comes of stand beside it.
    with_lines = sorted(places, key=lambda place: "region" not in place["physicalLocation"])
    if with_lines:
        result["locations"] = with_lines[:1]
    if with_lines[1:]:
        result["relatedLocations"] = with_lines[1:]
    return result


def _location(line: FileLine) -> dict[str, Any]:
    path = PurePath(line.file)
    uri = path.as_uri() if path.is_absolute() else quote(path.as_posix())
    physical: dict[str, Any] = {"artifactLocation": {"uri": uri}}
    if line.line:
        physical["region"] = {"startLine": line.line}
    place: dict[str, Any] = {"physicalLocation": physical}
    if line.says:
        place["message"] = {"text": clean(line.says)}
    return place

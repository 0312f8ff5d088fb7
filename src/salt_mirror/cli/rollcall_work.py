"""The roll call's pieces: a server as the measure, the choice of types, the remedies as a file, the subjects."""

from __future__ import annotations

from collections.abc import Iterator

from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import SOA, BadRecord, type_from_text, type_text
from salt_mirror.dns.transfer import TransferFailed, transfer
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate
from salt_mirror.report.document import Report, Subject


def chosen_types(text: str | None) -> list[int]:
    """The types of `--types`. Raises BadInput."""
    try:
        return [type_from_text(word) for word in (text or "").split(",") if word.strip()]
    except BadRecord as error:
        raise BadInput(f"--types: {error}") from None


def held(
    server: Server,
    estate: Estate,
    given: list[Expectation] | None,
    *,
    timeout_s: float,
    tries: int,
    view: str | None,
    zone: Name | None,
) -> list[Expectation]:
    """What one server holds, as expectations: whole zones by transfer, else what it says of the expected names."""
    views = [view] if view is not None else estate.views
    zones = [zone] if zone is not None else [
        one.apex for where in views for one in estate.zones[where].values() if one.servers is None or server in one.servers
    ]  # fmt: skip
    found: list[Expectation] = []
    refused = ""
    if given is None:
        for apex in dict.fromkeys(zones):
            try:
                for records in transfer(server, apex, timeout_s=timeout_s * 5):
                    found += [
                        Expectation(one.owner, one.rdtype, one.rdata, ttl=one.ttl, presence="exact")
                        for one in records
                        if one.rdtype != SOA
                    ]
            except TransferFailed as error:
                refused = f"{to_text(apex)}: {error}"
                found = [one for one in found if not one.name.endswith(apex)]
        if found and not refused:
            return found
        given = [one for where in views for one_zone in estate.zones[where].values() for one in one_zone.expectations]
    said = _said_by(server, given, timeout_s=timeout_s, tries=tries)
    if not said and not found:
        why = f" (transfer of {refused})" if refused else ""
        raise BadInput(f"--as-held-by: {server.label} handed over no zone{why}, and answered for no expected name")
    return found + said


def _said_by(server: Server, names: list[Expectation], *, timeout_s: float, tries: int) -> list[Expectation]:
    wanted = dict.fromkeys((one.name, one.rdtype) for one in names if one.rdtype != SOA)
    found = []
    with Engine(timeout_s=timeout_s, tries=tries) as engine:
        for name, rdtype in wanted:
            engine.submit(Question(name, rdtype, server))
        while answers := engine.collect():
            for answer in answers:
                name, rdtype, *_ = answer.question
                if answer.trouble is None:
                    found += [
                        Expectation(name, rdtype, value, ttl=answer.ttl, presence="exact") for value in answer.values
                    ]
    return found


def remedies_text(report: Report) -> str:
    """All remedies as one fragment of a master file, each behind a comment that says what it mends."""
    lines = [f"; what would mend the {len(report.findings):,} findings of {report.started.isoformat()}"]
    for finding in report.findings:
        if finding.remedy:
            lines += [f"; {finding.code}: {finding.text}", finding.remedy]
    return "\n".join(lines) + "\n"


def subjects_of(roll: Roll) -> Iterator[Subject]:
    """Every set that was called, one by one."""
    for one in roll.called:
        expected = one.expected
        yield Subject(
            name=to_text(expected.name), type=type_text(expected.rdtype), view=expected.view, outcome=one.outcome
        )

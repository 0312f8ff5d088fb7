"""A report of a large estate in which much is wrong, as an audit would find it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from functools import cache

from salt_mirror.checks.audit.lines import Audit, Tally, ZoneLine
from salt_mirror.checks.common.wording import state
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import PTR, SOA, A
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.findings import Change, Evidence, Finding
from salt_mirror.report.document import Counts, Report

SERVERS = {"dc-north": "127.0.0.1:5301", "dc-kiln": "127.0.0.1:5302"}
ZONES = [f"works-{number:02d}.salt.invalid." for number in range(40)]


def evidence(question: str, values: list[str], number: int) -> list[Evidence]:
    """What both servers say to a question."""
    return [
        Evidence(
            server=label, endpoint=endpoint, question=question, status="NOERROR" if values else "NXDOMAIN", authoritative=True,
            values=values, ttl=300 if values else None, rtt_ms=0.1 + number % 7,
        )
        for label, endpoint in SERVERS.items()
    ]  # fmt: skip


def findings(number: int) -> Iterator[Finding]:
    """So many findings in four kinds: no pointer, no such name, a pointer to another name, and a zone handed to anyone."""
    for zone in ZONES:
        for server in SERVERS.values():
            label = next(label for label, endpoint in SERVERS.items() if endpoint == server)
            yield state(
                "auth.open-transfer", f"{label} ({server}) hands the whole zone to anyone who asks from here, without a key.",
                name=from_text(zone), rdtype=SOA, view="internal", server=from_text(label), advice="Ask for a key.",
            )  # fmt: skip
    for n in range(number):
        zone = ZONES[n % len(ZONES)]
        name, address = f"rake-{n:05d}.{zone}", bytes((10, n >> 16, n >> 8 & 255, n & 255))
        shown, other = ".".join(map(str, address)), f"kiln-{n:05d}.{zone}"
        back = ".".join(map(str, reversed(address))) + ".in-addr.arpa."
        if n % 3 == 0:
            change = Change(view="internal", zone="", name=back, type="PTR", add=[name], by="forward", reason="")
            yield state(
                "pair.no-pointer", f"{shown} of {name} has no PTR record.", name=from_text(name), rdtype=A, view="internal",
                evidence=[*evidence(f"{name} A", [shown], n), *evidence(f"{back} PTR", [], n)], address=address,
                changes=[change], stands_at=reverse_name(address),
            )  # fmt: skip
        elif n % 3 == 1:
            change = Change(view="internal", zone=zone, name=name, type="A", add=[shown], by="expected", reason="")
            yield state(
                "roll.missing-name", f"{name} does not exist.", name=from_text(name), rdtype=A, view="internal",
                evidence=evidence(f"{name} A", [], n), expected=[shown], changes=[change],
            )  # fmt: skip
        else:
            text = (
                f"The PTR record of {shown} names {other}, which does not exist. Register the name, or remove the PTR "
                "record."
            )
            change = Change(view="internal", zone="", name=back, type="PTR", remove=[other], by="forward", reason="")
            yield state(
                "pair.lost-pointer", text, name=from_text(other), rdtype=PTR, view="internal", address=address,
                evidence=[*evidence(f"{back} PTR", [other], n), *evidence(f"{other} A", [], n)], changes=[change],
                stands_at=reverse_name(address),
            )  # fmt: skip


@cache
def large_report(number: int) -> Report:
    """An audit's report with so many findings, and some more."""
    lines = [
        ZoneLine(zone=zone, view="internal", checks={"pairs": Tally(agrees=10, differs=4, faults=4)}) for zone in ZONES
    ]
    audit = Audit(zones=lines, nothing=[], saved=1, accepted=[], round_trips={}, round_trip_sum=0.0)
    return Report(
        command="audit", title="Gullmarsh Saltworks", estate=None, started=datetime(2026, 11, 26, 4, tzinfo=UTC), seconds=60.0,
        outcome="differs", counts=Counts(agrees=1, differs=number, unverified=0, questions=400_000), audit=audit,
        findings=list(findings(number)),
    )  # fmt: skip

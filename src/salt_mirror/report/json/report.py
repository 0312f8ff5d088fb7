"""A report as one JSON document, and the answers of `ask` as another."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from salt_mirror.findings import SubjectLine
from salt_mirror.report.document import Report


def as_json(report: Report, subjects: Iterable[SubjectLine]) -> Iterator[bytes]:
    """Return the document as JSON, a piece at a time, with a line for each finding and each subject.

    `subjects` stand in for the report's own: there may be more of them than anyone wants to hold at once.
    """
    encode = msgspec.json.Encoder().encode
    head = encode(msgspec.structs.replace(report, findings=[], subjects=[]))
    end = b'"findings":[],"subjects":[]}'
    yield head.removesuffix(end)
    for key, things in (("findings", report.findings), ("subjects", subjects)):
        yield b'\n"%s":[' % key.encode("ascii")
        for number, thing in enumerate(things):
            yield (b",\n" if number else b"\n") + encode(thing)
        yield b"]," if key == "findings" else b"]}\n"


def written(report: Report) -> bytes:
    """Return the whole document, in one piece."""
    return b"".join(as_json(report, report.subjects))

"""A report as one JSON document, and the answers of `ask` as another."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import islice

import msgspec

from salt_mirror.findings import SubjectLine
from salt_mirror.report.document import Report

_AT_ONCE = 256
"""So many lines are written in one piece."""


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
        rest, between = iter(things), b"\n"
        while some := list(islice(rest, _AT_ONCE)):
            yield between + b",\n".join(map(encode, some))
            between = b",\n"
        yield b"]," if key == "findings" else b"]}\n"


def written(report: Report) -> bytes:
    """Return the whole document, in one piece."""
    return b"".join(as_json(report, report.subjects))

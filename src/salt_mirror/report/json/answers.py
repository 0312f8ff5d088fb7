"""What servers answered, as one JSON document that can be written name by name."""

from __future__ import annotations

from collections.abc import Generator
from typing import BinaryIO, Literal

import msgspec

from salt_mirror import __version__
from salt_mirror.checks.ask.judging import Asked, TypeAnswer
from salt_mirror.checks.common.lookup import evidence_of
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.report.document import now


class AnswerLine(msgspec.Struct, frozen=True, kw_only=True):
    """What one server told about one type. `ttl` is what is left of it in a cache, `whole_ttl` what the authority gives;
    `ended_by` the servers that told of the end of its aliases, where that is not the same one."""

    server: str
    endpoint: str
    type: str
    status: str
    authoritative: bool
    values: list[str]
    chain: list[str]
    ended_by: list[str]
    ttl: int | None
    whole_ttl: int | None
    rtt_ms: float | None
    over: str
    trouble: str | None


class NameLine(msgspec.Struct, frozen=True, kw_only=True):
    """One name: what was typed, the full name that was asked, the answers, and what explains that there are none.

    `view` is set where several hold the name; `differs` are the types on which the servers differ.
    """

    typed: str
    name: str
    view: str
    differs: list[str]
    answered: bool
    answers: list[AnswerLine]
    why: list[str]


class Answers(msgspec.Struct, frozen=True, kw_only=True):
    """The whole document."""

    schema: Literal["salt-mirror/answers/1"] = "salt-mirror/answers/1"
    version: str = __version__
    started: str
    names: list[NameLine]


def opening() -> bytes:
    """Return the document up to its first name."""
    head = msgspec.json.encode(Answers(started=now().isoformat().replace("+00:00", "Z"), names=[]))
    return head.removesuffix(b"]}")


def name_line(asked: Asked, typed: str) -> bytes:
    """Return one name as JSON."""
    line = NameLine(
        typed=typed,
        name=to_text(asked.name),
        view=asked.view,
        differs=[type_text(rdtype) for rdtype in asked.differing],
        answered=asked.answered,
        answers=[_answer_line(told) for told in asked.told],
        why=[*asked.elsewhere, *asked.why],
    )
    return msgspec.json.encode(line)


def _answer_line(answer: TypeAnswer) -> AnswerLine:
    evidence, rdtype = evidence_of(answer.answer), answer.answer.question.rdtype
    return AnswerLine(
        server=evidence.server,
        endpoint=evidence.endpoint,
        type=type_text(rdtype),
        status=evidence.status,
        authoritative=evidence.authoritative,
        values=[rdata_text(rdtype, value) for value in answer.values],
        chain=list(map(to_text, answer.chain)),
        ended_by=[server.label for server in answer.ended_by],
        ttl=answer.ttl,
        whole_ttl=answer.whole_ttl,
        rtt_ms=evidence.rtt_ms,
        over=evidence.over,
        trouble=evidence.trouble or answer.open_end,
    )


def json_printer(out: BinaryIO) -> Generator[None, tuple[Asked, str], None]:
    """Write the document as the names come; it is whole once the generator was closed."""
    out.write(opening())
    between = b"\n"
    try:
        while True:
            asked, typed = yield
            out.write(between + name_line(asked, typed))
            out.flush()
            between = b",\n"
    finally:
        out.write(b"]}\n")
        out.flush()

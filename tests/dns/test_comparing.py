"""Answers that are compared where they come in: only what is exactly as foreseen passes, however a server writes it."""

from __future__ import annotations

import itertools
import random
from collections import deque
from collections.abc import Iterator

import pytest

from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, A
from salt_mirror.dns.replies import Reader, Reply
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject
from salt_mirror.dns.traffic.engine import Engine
from support.peers import peer

APEX = b"\x04pans\x07example\x00"
RIGHT, OTHER = b"\x0a\x01\x02\x03", b"\x0a\x01\x02\x04"
PASSES = {"right": 300, "another TTL": 301, "a TTL with the top bit": 0}
"""What is as foreseen, and the TTL that it then has."""
FAILS = (
    "another value",
    "nothing",
    "two values",
    "another owner",
    "another type",
    "not authoritative",
    "an error",
    "a set too many",
    "trailing bytes",
    "the case of the question",
    "an alias",
)
FORGED = ("another's cookie", "no cookie", "no cookie and sixteen bytes")
"""Right datagrams with a wrong cookie, each before the server's own answer, which is another value."""


class Giver:
    """A server that gives what the first label of a name says."""

    def __init__(self, kinds: list[str], *, cookies: bool, spelt: bool) -> None:
        self._kinds, self._cookies, self._spelt = kinds, cookies, spelt
        self._serial = itertools.count()

    def answers(self, query: bytes) -> Iterator[bytes]:
        """Return what it sends for a query."""
        end = query.index(b"\0", 12) + 5
        asked, rdtype = query[12:end], int.from_bytes(query[end - 4 : end - 2], "big")
        name = asked[:-4].lower()
        kind = self._kinds[int(name[1:6])]
        if rdtype == AAAA:
            six = [self._record(name, AAAA, bytes(16))] if kind == "a set too many" else []
            yield self._message(query, asked, six)
            return
        right, wrong = self._record(name, A, RIGHT), self._record(name, A, OTHER)
        if kind in FORGED:
            yield from self._forged(kind, query, asked, right)
            yield self._message(query, asked, [wrong])
        elif kind == "trailing bytes":
            yield self._message(query, asked, [right]) + b"\0"
            yield self._message(query, asked, [wrong])
        elif kind == "the case of the question":
            yield self._message(query, asked.swapcase(), [right])
            yield self._message(query, asked, [wrong])
        else:
            elsewhere = b"\x0500000" + name[6:]
            given = {
                "another TTL": [self._record(name, A, RIGHT, ttl=301)],
                "a TTL with the top bit": [self._record(name, A, RIGHT, ttl=0x80000001)],
                "another value": [wrong],
                "nothing": [],
                "two values": [right, wrong],
                "another owner": [self._record(elsewhere, A, RIGHT, spelt=True)],
                "another type": [self._record(name, 99, RIGHT)],
                "an alias": [self._record(name, 5, elsewhere)],
            }.get(kind, [right])
            flags = {"not authoritative": 0x8000, "an error": 0x8405}.get(kind, 0x8400)
            yield self._message(query, asked, given, flags)

    def _forged(self, kind: str, query: bytes, asked: bytes, right: bytes) -> Iterator[bytes]:
        if kind == "another's cookie":
            yield self._message(query, asked, [right], client=b"stranger")
        else:
            bare = Giver(self._kinds, cookies=False, spelt=self._spelt)._message(query, asked, [right])
            yield bare + (bytes(16) if kind == "no cookie and sixteen bytes" else b"")

    def _record(self, name: bytes, rdtype: int, value: bytes, *, ttl: int = 300, spelt: bool = False) -> bytes:
        owner = name if self._spelt or spelt else b"\xc0\x0c"
        return (
            owner + rdtype.to_bytes(2, "big") + b"\0\1" + ttl.to_bytes(4, "big") + len(value).to_bytes(2, "big") + value
        )

    def _message(
        self, query: bytes, asked: bytes, records: list[bytes], flags: int = 0x8400, client: bytes = b""
    ) -> bytes:
        options = b""
        if self._cookies:
            at = query.index(b"\x00\x0a", 12 + len(asked)) + 4
            ours = client or query[at : at + 8]
            options = b"\x00\x0a\x00\x18" + ours + next(self._serial).to_bytes(16, "big")
        opt = b"\0\0\x29\x04\xd0\0\0\0\0" + len(options).to_bytes(2, "big") + options
        counts = b"\0\1" + len(records).to_bytes(2, "big") + b"\0\0\0\1"
        return query[:2] + flags.to_bytes(2, "big") + counts + asked + b"".join(records) + opt


@pytest.mark.parametrize("cookies", [False, True])
@pytest.mark.parametrize("spelt", [False, True])
def test_only_what_is_exactly_as_foreseen_passes(monkeypatch: pytest.MonkeyPatch, cookies: bool, spelt: bool) -> None:
    reads, read = itertools.count(), Reader.read_matched

    def counted(self: Reader, message: bytes, asked: bytes) -> Reply:
        next(reads)
        return read(self, message, asked)

    monkeypatch.setattr(Reader, "read_matched", counted)
    every = [*PASSES, *FAILS, *(FORGED if cookies else ())]
    mixed = every * 12
    random.Random(7).shuffle(mixed)
    # Each also several times on end, so that what was learnt of one meets the next.
    kinds = ["right"] * 500 + [kind for kind in every for _ in range(3)] + mixed
    subjects, giver = [], Giver(kinds, cookies=cookies, spelt=spelt)
    with peer(udp=lambda query: [(0, message) for message in giver.answers(query)]) as port, Engine() as engine:
        server = Server("giver", b"\x7f\0\0\1", port)
        for number, kind in enumerate(kinds):
            name = b"\x05%05d" % number + APEX
            sets = (ForeseenSet(name, A, (server,), RIGHT), ForeseenSet(name, AAAA, (server,), None))
            subjects.append(ForeseenSubject((number, kind), (sets,)))
        # One after the other at first, so that the shapes are known by which the others are compared.
        runner = Runner(engine, ahead=1)
        ended = [(one.what[1], one.failed) for one in runner.screen(subjects, deque())]
        assert runner.asked == 2 * len(kinds)
        known = [runner.known(Question(b"\x05%05d" % number + APEX, A, server)) for number in range(len(kinds))]
    assert sorted(ended) == sorted((kind, kind not in PASSES) for kind in kinds)
    assert all(
        answer and answer.ttl == PASSES[kind] for answer, kind in zip(known, kinds, strict=True) if kind in PASSES
    )
    # What is as foreseen is not read, but for the first of its shape.
    assert next(reads) < 500

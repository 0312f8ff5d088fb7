"""Exchanges without a socket: whatever is asked is answered at once, perhaps as a real message."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Protocol

import dns.message

from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.replies import Reader
from salt_mirror.dns.wire import encode_question, question_tail, rcode_text
from salt_mirror.standin.authority import HeldZones
from salt_mirror.standin.server import StandIn


class Instant(ABC):
    """An exchange that has every answer ready as soon as it is asked. `asked` keeps every question in its order."""

    strays = late = 0

    def __init__(self) -> None:
        self.asked: list[Question] = []
        self._ready: list[Answer] = []

    @property
    def backlog(self) -> int:
        return len(self._ready)

    def submit(self, question: Question) -> None:
        self.asked.append(question)
        self._ready.append(self.answer(question))

    def collect(self, wait_s: float | None = None) -> list[Answer]:
        ready, self._ready = self._ready, []
        return ready

    @abstractmethod
    def answer(self, question: Question) -> Answer:
        """What is said to a question."""


class Speaker(Protocol):
    """A stand-in that answers messages: a server's zones, or a cache."""

    def respond(self, query: dns.message.Message) -> dns.message.Message: ...


def heard(speaker: Speaker, question: Question) -> Answer:
    """What a stand-in says to a question, by real messages and as the program reads them."""
    unchecked = question.server.unchecked
    wire = encode_question(b"\1\2", question.name, question.rdtype, question.recurse, opt=b"", unchecked=unchecked)
    if isinstance(speaker, HeldZones):  # as its server does it, which keeps what it has answered
        message = StandIn(speaker, "", 0).respond(wire, stream=True)
        assert message is not None
    else:
        message = speaker.respond(dns.message.from_wire(wire)).to_wire()
    asked = question.name + question_tail(question.rdtype)
    rcode, authoritative, _, values, ttl, alias, _ = Reader().read(message, b"\1\2", asked)
    return Answer(question, rcode_text(rcode), authoritative, values, ttl, alias, message)

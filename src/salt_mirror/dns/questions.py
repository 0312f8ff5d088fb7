"""Questions and answers: what passes between a check and the servers, whatever carries it.

Strategy: a question is a small hashable tuple, so that it can be pooled and asked once. An answer keeps what every check
looks at (status, authority, the asked values) ready made, and the message itself for whoever wants more. An answer that
cannot be used says why in `trouble`; the checks turn that into `unverified`, never into `missing`.
"""

from __future__ import annotations

from typing import NamedTuple

from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.wire import MalformedMessage, Sections, read_sections

# Why there is no answer. An answer that came carries its rcode's name instead.
TIMEOUT = "timeout"
SILENCED = "silent"
UNREACHABLE = "unreachable"
MALFORMED = "malformed"
TRUNCATED = "truncated"
FAILED_STREAM = "tcp-failed"

_NO_REPLY = {
    TIMEOUT: "no answer in time",
    SILENCED: "not asked: earlier questions to it brought no usable answer",
    UNREACHABLE: "nothing listens there (port or host unreachable)",
    MALFORMED: "a malformed answer",
    TRUNCATED: "the answer was cut short and TCP brought no whole one",
    FAILED_STREAM: "the answer was cut short and the TCP connection failed",
}


class Server:
    """A DNS server: a label for people, the packed address and the port where it is reached. Compared by identity."""

    __slots__ = ("address", "host", "label", "port")

    def __init__(self, label: str, address: bytes, port: int = 53) -> None:
        self.label = label
        self.address = address
        self.port = port
        self.host = address_text(address)

    @property
    def endpoint(self) -> str:
        """The address and port as text; an IPv6 address in brackets (RFC 3986 section 3.2.2)."""
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"

    def __repr__(self) -> str:
        return f"Server({self.label!r}, {self.endpoint})"


class Question(NamedTuple):
    """One (name, type) for one server. Without `recurse` it is put to an authority, whose answer has to be authoritative."""

    name: Name
    rdtype: int
    server: Server
    recurse: bool = False


class Answer:
    """All that came back for a question, or why nothing did.

    `status` is an rcode's name or one of this module's reasons; `values` the sorted canonical rdata of the asked type at
    the asked name and `ttl` their smallest TTL in seconds; `alias` the target when a CNAME stands there instead.
    """

    __slots__ = ("alias", "authoritative", "message", "over", "question", "rtt_ms", "status", "tries", "ttl", "values")

    def __init__(
        self,
        question: Question,
        status: str,
        *,
        authoritative: bool = False,
        values: tuple[bytes, ...] = (),
        ttl: int | None = None,
        alias: Name | None = None,
        message: bytes = b"",
        rtt_ms: float | None = None,
        tries: int = 1,
        over: str = "udp",
    ) -> None:
        self.question = question
        self.status = status
        self.authoritative = authoritative
        self.values = values
        self.ttl = ttl
        self.alias = alias
        self.message = message
        self.rtt_ms = rtt_ms
        self.tries = tries
        self.over = over

    @property
    def trouble(self) -> str | None:
        """Why the answer proves nothing, in one line; None when it can be relied on."""
        if self.status in ("NOERROR", "NXDOMAIN"):
            if self.authoritative or self.question.recurse:
                return None
            return "refers to other servers" if self.referral else "not authoritative for it"
        return _NO_REPLY.get(self.status) or f"answered {self.status}"

    @property
    def exists(self) -> bool:
        """Whether the name is there at all, of whatever type. An alias is there even when its target is not (RFC 6604)."""
        return self.status == "NOERROR" or self.alias is not None

    @property
    def sections(self) -> Sections:
        """The three sections of the message, decoded anew; empty ones when there is no message that can be decoded."""
        try:
            return read_sections(self.message) if self.message else Sections((), (), ())
        except MalformedMessage:
            return Sections((), (), ())

    @property
    def referral(self) -> Name | None:
        """The zone that the server sends us down to (RFC 1034 section 4.3.2), or None. Never up, never sideways."""
        if self.authoritative or self.status != "NOERROR" or self.values or self.alias is not None:
            return None
        for record in self.sections.authority:
            if record.rdtype == 2 and len(record.owner) > 1 and is_within(self.question.name, record.owner):
                return record.owner
        return None

    def __repr__(self) -> str:
        return f"Answer({self.question!r}, {self.status}, {len(self.values)} values)"

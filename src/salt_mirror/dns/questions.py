"""Questions and answers: what passes between a check and the servers, whatever carries it.

Strategy: a question is a small hashable tuple, so that it can be pooled and asked once. An answer keeps what every check
looks at (status, authority, the asked values) ready made, and the message itself for whoever wants more. An answer that
cannot be used says why in `trouble`; the checks turn that into `unverified`, never into `missing`.
"""

from __future__ import annotations

import copy
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any, NamedTuple

from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.wire import (
    MalformedMessage,
    Sections,
    clocks_apart,
    encode_question,
    offers_recursion,
    read_sections,
    tsig_in,
)

if TYPE_CHECKING:
    from salt_mirror.dns.apart import WayOf
    from salt_mirror.dns.extended import ExtendedError

# Why there is no answer. An answer that came carries its rcode's name instead.
TIMEOUT = "timeout"
SILENCED = "silent"
UNREACHABLE = "unreachable"
NO_SOURCE = "no-source"
MALFORMED = "malformed"
TRUNCATED = "truncated"
FAILED_STREAM = "tcp-failed"
UNTRUSTED = "untrusted"
BAD_SIGNATURE = "bad-signature"
HTTP = "http-"
"""Begins the status of an HTTPS answer that is none, before what it was."""
AFAR = "vantage: "
"""Begins the status of a question that a vantage did not put, before why not."""
UNSEEN = "unseen: "
"""Begins the status of a question for a view of a server that this computer does not get, before why not."""
UNASKED = "not-asked"
WRONG_CASE = "wrong-case"
BAD_COOKIE = "bad-cookie"
UNKNOWN_KEY = "unknown-key"
OTHER_SECRET = "other-secret"
OTHER_CLOCK = "other-clock"
_NOTAUTH = 9
_TSIG_ERRORS = {16: OTHER_SECRET, 17: UNKNOWN_KEY, 18: OTHER_CLOCK}

_NO_REPLY = {
    TIMEOUT: "no answer in time",
    SILENCED: "not asked: earlier questions to it brought no usable answer",
    UNASKED: "not asked: what was found led to more questions than one name may cost (questions_for_a_name in [bounds])",
    UNREACHABLE: "nothing listens there (port or host unreachable)",
    NO_SOURCE: "this computer does not have the source address that the estate gives for it, or has no way from there",
    MALFORMED: "a malformed answer",
    TRUNCATED: "the answer was cut short and TCP brought no whole one",
    FAILED_STREAM: "no answer over TCP",
    UNTRUSTED: "its TLS certificate could not be verified",
    BAD_SIGNATURE: "its answer was not signed with the key (TSIG)",
    WRONG_CASE: "its answers over UDP give the question's letters in another case, as no server should",
    BAD_COOKIE: "its answers over UDP do not have our DNS cookie (RFC 7873)",
    UNKNOWN_KEY: "it does not know the key (BADKEY)",
    OTHER_SECRET: "its key has another secret than ours (BADSIG)",
    OTHER_CLOCK: "its clock and ours are too far apart for signatures (BADTIME)",
}


ALGORITHMS = ("hmac-md5", "hmac-sha1", "hmac-sha224", "hmac-sha256", "hmac-sha384", "hmac-sha512")
"""The algorithms that a key may have (RFC 8945 section 6), by the names that administrators write."""


class Key(NamedTuple):
    """A TSIG key (RFC 8945): its name, the algorithm's mnemonic such as `hmac-sha256`, the secret's bytes."""

    name: Name
    algorithm: str
    secret: bytes

    def __repr__(self) -> str:
        return f"Key({self.name!r}, {self.algorithm!r}, …)"


def shown_url(url: str) -> str:
    """Return a URL as it may stand in an output: whatever its query says is between us and that server."""
    place, query, _ = url.partition("?")
    return f"{place}?…" if query else place


class Server:
    """A DNS server: a label for people, the packed address and the port where it is reached. Compared by identity.

    `pace` is the most questions a second that it is sent, None for no limit; `key` signs them (RFC 8945). `over` is how it
    is spoken to: `udp` (with TCP where an answer is cut short), `tcp` alone, `tls` (RFC 7858) with the name that its
    certificate must have, `https` (RFC 8484) with the URL, `transfer`: TCP that is closed after one answer's
    first message, or `update`: whether an unsigned change of the zone is taken, by one that changes nothing.
    `found` says that nobody named it: what other servers said has led to it. `via` is the vantage that asks it for us, empty
    where this computer asks; `source` the packed address of this computer from which it is asked, empty where the system
    chooses. `unchecked` has CD set, so that a resolver hands on what it does not validate itself (RFC 4035 section 3.2.2),
    `signed` DO in place of AD: what a server merely echoes is seen by that.
    `shared` says that it is asked for one of several views to which one way leads.
    """

    __slots__ = (
        "address", "found", "host", "key", "label", "over", "pace", "port", "shared", "signed", "source", "tls_name",
        "unchecked", "url", "via",
    )  # fmt: skip

    def __init__(
        self,
        label: str,
        address: bytes,
        port: int = 53,
        *,
        pace: float | None = None,
        key: Key | None = None,
        over: str = "udp",
        tls_name: str = "",
        url: str = "",
        found: bool = False,
        via: str = "",
        source: bytes = b"",
        unchecked: bool = False,
        signed: bool = False,
    ) -> None:
        self.label = label
        self.via = via
        self.address = address
        self.port = port
        self.host = address_text(address) if address else ""
        self.pace = pace
        self.key = key
        self.over = over
        self.tls_name = tls_name
        self.url = url
        self.found = found
        self.source = source
        self.unchecked = unchecked
        self.signed = signed
        self.shared: WayOf | None = None

    @property
    def on_loopback(self) -> bool:
        """Whether it runs on this very computer, where no pace is needed."""
        return self.address[:1] == b"\x7f" or self.address == bytes(15) + b"\x01"

    @property
    def endpoint(self) -> str:
        """The address and port as text, an IPv6 address in brackets (RFC 3986 section 3.2.2); the URL for HTTPS,
        without its query, in which tokens are."""
        if self.url:
            return shown_url(self.url)
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"

    @property
    def source_host(self) -> str | None:
        """The address of this computer from which it is asked, as text; None where the system chooses."""
        return address_text(self.source) if self.source else None

    @property
    def source_place(self) -> tuple[str, int] | None:
        """The same as a place to bind to, with any port."""
        return (address_text(self.source), 0) if self.source else None

    def same_place_as_any(self, others: Iterable[Server]) -> bool:
        """Return whether it is reached at the same place as one of some servers, which may be asked for another view."""
        return any((other.address, other.port, other.url) == (self.address, self.port, self.url) for other in others)

    def again(self, **changes: Any) -> Server:
        """Return the same server as another one, with some properties changed: what it said before is no answer to what this
        one is asked."""
        twin = copy.copy(self)
        for name, value in changes.items():
            setattr(twin, name, value)
        return twin

    def seen_from(self, vantage: str) -> Server:
        """Return the same server as a vantage asks it."""
        return self.again(label=f"{self.label} from {vantage}", via=vantage, source=b"")

    def __repr__(self) -> str:
        return f"Server({self.label!r}, {self.endpoint})"


class Question(NamedTuple):
    """One (name, type) for one server. Without `recurse` it is put to an authority, whose answer has to be authoritative."""

    name: Name
    rdtype: int
    server: Server
    recurse: bool = False

    def encoded(self, qid: bytes) -> bytes:
        """Return the question as a message with an id of two bytes, and with the bits that its server is asked with."""
        server = self.server
        return encode_question(
            qid, self.name, self.rdtype, self.recurse, unchecked=server.unchecked, signed=server.signed
        )  # fmt: skip


class Answer(NamedTuple):
    """All that came back for a question, or why nothing did.

    `status` is an rcode's name or one of this module's reasons; `values` the sorted canonical rdata of the asked type at
    the asked name and `ttl` their smallest TTL in seconds; `alias` the target when a CNAME stands there instead; `over` the
    transport that brought it.
    """

    question: Question
    status: str
    authoritative: bool = False
    values: tuple[bytes, ...] = ()
    ttl: int | None = None
    alias: Name | None = None
    message: bytes = b""
    rtt_ms: float | None = None
    tries: int = 1
    over: str = "udp"

    @property
    def trouble(self) -> str | None:
        """Why the answer proves nothing, in one line; None when it can be relied on."""
        status = self.status
        if status == "NOERROR" or status == "NXDOMAIN":
            if self.authoritative:
                return None
            if self.question.recurse:
                return self._not_looked_up
            return "refers to other servers" if self.referral else "not authoritative for it"
        if status.startswith((AFAR, UNSEEN)):
            return status.removeprefix(AFAR).removeprefix(UNSEEN)
        if status.startswith(HTTP):
            return f"its HTTPS server answered with {status.removeprefix(HTTP)}, and with no DNS message"
        if status == OTHER_CLOCK and (apart := clocks_apart(self.message)) is not None:
            return f"its clock is {abs(apart)} s {'ahead of' if apart > 0 else 'behind'} ours (BADTIME)"
        if status in _NO_REPLY:
            return _NO_REPLY[status]
        why = ", ".join(dict.fromkeys(one.name for one in self.extended))
        return f"answered {status} ({why})" if why else f"answered {status}"

    @property
    def extended(self) -> list[ExtendedError]:
        """Why the server answers so, in its own words (RFC 8914); they say why, and prove nothing."""
        if not self.message:
            return []
        from salt_mirror.dns.extended import extended_errors

        return extended_errors(self.message)

    @property
    def _not_looked_up(self) -> str | None:
        """Why an answer without authority is none to a question with recursion: a referral, or a server that recurses for
        nobody and says nothing of the zone. Anything else is an answer from a cache."""
        if self.referral is not None:
            return "refers to other servers"
        if self.values or self.alias is not None or not self.message or offers_recursion(self.message):
            return None
        if any(record.rdtype == 6 for record in self.sections.authority):
            return None
        return "neither authoritative for it nor willing to look it up"

    @property
    def unasked(self) -> bool:
        """Whether the server was never asked: its silence says nothing of it."""
        return self.status == UNASKED or self.status.startswith((AFAR, UNSEEN))

    @property
    def came(self) -> bool:
        """Whether the server answered at all, with whatever."""
        return bool(self.message) or not (self.status in _NO_REPLY or self.status.startswith((HTTP, AFAR, UNSEEN)))

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


def refused_key(message: bytes, rcode: int) -> str | None:
    """Return why a server turned a signed question away (RFC 8945 section 5.2: BADSIG, BADKEY, BADTIME); None where it did
    not."""
    signature = tsig_in(message) if rcode == _NOTAUTH else None
    return _TSIG_ERRORS.get(signature[2]) if signature is not None else None

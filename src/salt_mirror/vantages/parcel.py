"""What travels between the desk (whoever types a command) and a vantage: questions there, answers back, in batches.

Strategy: plain structs as msgpack arrays. A batch names each server once; an answer names its question by its place in the
batch. The secret of a TSIG key never travels: a batch names the key, and a vantage signs with its own. Nothing here knows a
socket.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import Annotated

import msgspec

from salt_mirror.dns.names import is_name, to_text
from salt_mirror.dns.questions import MALFORMED, Answer, Question, Server
from salt_mirror.dns.records import AAAA, LAYOUTS, A
from salt_mirror.dns.wire import read_rdata

_SIZES = {A: 4, AAAA: 16}
NOWHERE = bytes(4)
"""The address of the resolver of a computer that has none."""
NO_RESOLVER = "its computer has no resolver"
MOST_QUESTIONS = 500
"""So many questions are in one batch."""


class ServerAddress(msgspec.Struct, array_like=True, frozen=True):
    """A server as a vantage has to reach it: packed address, port, transport; `key` is the name of its TSIG key."""

    label: str
    address: bytes
    port: int
    over: str
    tls_name: str
    url: str
    pace: float | None
    key: str


class Batch(msgspec.Struct, array_like=True, tag="ask", frozen=True):
    """Questions for a vantage, each as name, type, the place of its server in `places`, and whether to recurse. `reply_to` is
    who awaits the answers, `within_s` how long they are worth anything, in seconds."""

    number: int
    reply_to: str
    within_s: float
    places: list[ServerAddress]
    questions: list[tuple[bytes, int, int, bool]]


class Greeting(msgspec.Struct, array_like=True, tag="greet", frozen=True):
    """Asks a vantage to say who it is; with `settings` also how its computer is set up to look names up."""

    number: int
    reply_to: str
    settings: bool = False


Errand = Batch | Greeting

_Ttl = Annotated[int, msgspec.Meta(ge=0, le=2**31 - 1)]
_Milliseconds = Annotated[float, msgspec.Meta(ge=0, le=1e7)]
OVERS = frozenset(("udp", "tcp", "tls", "https", "transfer", "update"))
"""The ways in which a server can be asked."""

Line = tuple[int, str, bool, tuple[bytes, ...], _Ttl | None, bytes | None, bytes, _Milliseconds | None, int, str]
"""An answer: the place of its question in the batch, and what an Answer has, from the status on."""


class BatchAnswers(msgspec.Struct, array_like=True, tag="told", frozen=True):
    """The vantage's clock (seconds since 1970), and answers to batches, each by its number; a batch without any is one that it
    is still at."""

    clock: float
    parts: list[tuple[int, list[Line]]]


class Facts(msgspec.Struct, array_like=True, tag="facts", frozen=True):
    """A vantage of itself: its version, its clock (seconds since 1970), its system, the resolvers that its computer uses
    (as `host:port`), the networks that it may ask, and the files of its settings where those were asked for."""

    number: int
    clock: float
    version: str
    system: str
    resolvers: list[str]
    allowed: list[str]
    settings: dict[str, bytes]


Reply = BatchAnswers | Facts

_encoder = msgspec.msgpack.Encoder()
_errands: msgspec.msgpack.Decoder[Errand] = msgspec.msgpack.Decoder(Errand)
_replies: msgspec.msgpack.Decoder[Reply] = msgspec.msgpack.Decoder(Reply)


class Unreadable(ValueError):
    """What came is no errand and no reply."""


def is_plain(word: str) -> bool:
    """Whether a word is a name for a vantage or a group: letters, digits, - and _."""
    return bool(word) and all(letter.isascii() and (letter.isalnum() or letter in "-_") for letter in word)


def packed(one: Errand | Reply) -> bytes:
    """An errand or a reply as bytes."""
    return _encoder.encode(one)


def errand_in(payload: bytes) -> Errand:
    """Reads an errand. Raises Unreadable."""
    try:
        return _errands.decode(payload)
    except (msgspec.MsgspecError, ValueError) as error:
        raise Unreadable(str(error)) from None


def reply_in(payload: bytes) -> Reply:
    """Reads a reply. Raises Unreadable."""
    try:
        return _replies.decode(payload)
    except (msgspec.MsgspecError, ValueError) as error:
        raise Unreadable(str(error)) from None


def batch_of(number: int, reply_to: str, questions: Sequence[Question], *, within_s: float) -> Batch:
    """A batch of questions."""
    places: dict[Server, int] = {}
    for question in questions:
        places.setdefault(question[2], len(places))
    asked = [(name, rdtype, places[server], recurse) for name, rdtype, server, recurse in questions]
    return Batch(number, reply_to, within_s, [place_of(server) for server in places], asked)


def place_of(server: Server) -> ServerAddress:
    """A server as it travels."""
    key = to_text(server.key.name) if server.key is not None else ""
    return ServerAddress(
        server.label, server.address, server.port, server.over, server.tls_name, server.url, server.pace, key
    )


def _fits(rdtype: int, value: bytes) -> bool:
    size = _SIZES.get(rdtype)
    if size is not None:
        return len(value) == size
    if rdtype not in LAYOUTS:
        return bool(value)
    try:
        return read_rdata(value, 0, len(value), rdtype) == value
    except (ValueError, IndexError, struct.error):
        return False


def answer_of(line: Line, question: Question) -> Answer:
    """The answer to a question; a malformed one where what a vantage sent is no rdata of the type, or no status."""
    rdtype, alias = question[1], line[5]
    for value in line[3]:
        if not _fits(rdtype, value):
            return Answer(question, MALFORMED, tries=line[8])
    if (alias is not None and not is_name(alias)) or not line[1].isprintable() or line[9] not in OVERS:
        return Answer(question, MALFORMED, tries=line[8])
    return tuple.__new__(Answer, (question, *line[1:]))

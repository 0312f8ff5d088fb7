"""The messages between a desk (whoever types a command) and a vantage: questions there, answers back, in batches.

Strategy: plain structs as msgpack arrays, bounded before and while they are decoded; nothing is evaluated or imported by name.
A batch names each server once; an answer names its question by its place in the batch. The secret of a TSIG key never travels:
a batch names the key, and a vantage signs with its own. What is signed is a message together with its topic, so that it is
worth nothing anywhere else. Nothing here knows a socket.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from itertools import compress, repeat
from typing import Annotated, Any, TypeVar

import msgspec

from salt_mirror.dns.names import is_name, to_text
from salt_mirror.dns.questions import MALFORMED, Answer, Question, Server
from salt_mirror.dns.records import AAAA, LAYOUTS, A
from salt_mirror.dns.wire import read_rdata

T = TypeVar("T")
_SIZES = {A: 4, AAAA: 16}
NOWHERE = bytes(4)
"""The address of the resolver of a computer that has none."""
NO_RESOLVER = "its computer has no resolver"
MOST_QUESTIONS = 500
"""So many questions are in one batch."""
MOST_ERRANDS = 256
"""So many batches a vantage has in hand."""
MOST_BYTES = 8 << 20
"""So long is a message: longer ones are not decoded, and the broker does not pass them on."""
FORMAT = 1
"""The version of the messages; others are not read."""
NAME_LENGTH = 60
TOPICS = "salt-mirror/1"
"""What every topic begins with."""

_Word = Annotated[str, msgspec.Meta(max_length=255)]
_Session = Annotated[str, msgspec.Meta(max_length=64)]
_Number = Annotated[int, msgspec.Meta(ge=0, le=2**63 - 1)]


def errand_topic(vantage: str, desk: str, session: str) -> str:
    """Return where the errands of a desk's session to a vantage are published; `+` stands for any."""
    return f"{TOPICS}/errand/{vantage}/{desk}/{session}"


def reply_topic(desk: str, session: str, vantage: str) -> str:
    """Return where a vantage's replies to a desk's session are published; `+` stands for any."""
    return f"{TOPICS}/reply/{desk}/{session}/{vantage}"


def presence_topic(vantage: str) -> str:
    """Return where a vantage's presence is kept; `+` stands for any."""
    return f"{TOPICS}/presence/{vantage}"


class Envelope(msgspec.Struct, array_like=True, frozen=True):
    """What is published: a message in the format `version`, the Ed25519 signature of topic and message (RFC 8032), and the
    signer's certificate (DER)."""

    version: int
    body: Annotated[bytes, msgspec.Meta(max_length=MOST_BYTES)]
    signature: Annotated[bytes, msgspec.Meta(min_length=64, max_length=64)]
    certificate: Annotated[bytes, msgspec.Meta(max_length=4096)]


class ServerAddress(msgspec.Struct, array_like=True, frozen=True):
    """A server as a vantage has to reach it: packed address, port, transport; `key` is the name of its TSIG key."""

    label: _Word
    address: Annotated[bytes, msgspec.Meta(max_length=16)]
    port: int
    over: _Word
    tls_name: _Word
    url: Annotated[str, msgspec.Meta(max_length=2048)]
    pace: float | None
    key: _Word
    unchecked: bool
    signed: bool


_Names = Annotated[list[Annotated[bytes, msgspec.Meta(max_length=255)]], msgspec.Meta(max_length=MOST_QUESTIONS)]
QuestionGroup = tuple[int, int, bool, _Names]
"""Questions that differ by name only: type, place of the server in the batch, whether to recurse, and the names."""


class Batch(msgspec.Struct, array_like=True, tag="ask", frozen=True):
    """Questions for a vantage; the place of a question is counted through all groups.

    `session` is the vantage's own, as its presence says: an errand to a vantage that has been restarted since is not carried
    out. `until` is when it is worth nothing any more (seconds since 1970, the desk's clock).
    """

    number: _Number
    session: _Session
    until: float
    places: Annotated[list[ServerAddress], msgspec.Meta(max_length=MOST_QUESTIONS)]
    groups: Annotated[list[QuestionGroup], msgspec.Meta(max_length=MOST_QUESTIONS)]


class Greeting(msgspec.Struct, array_like=True, tag="greet", frozen=True):
    """Asks a vantage who it is; with `settings` also how its computer is set up to look names up."""

    number: _Number
    session: _Session
    until: float
    settings: bool = False


Errand = Batch | Greeting

_Ttl = Annotated[int, msgspec.Meta(ge=0, le=2**31 - 1)]
_Milliseconds = Annotated[float, msgspec.Meta(ge=0, le=1e7)]
OVERS = frozenset(("udp", "tcp", "tls", "https", "transfer", "update"))
"""The ways in which a server can be asked."""

_Place = Annotated[int, msgspec.Meta(ge=0, lt=MOST_QUESTIONS)]
_Places = Annotated[list[_Place], msgspec.Meta(max_length=MOST_QUESTIONS)]


class AnswerColumns(msgspec.Struct, array_like=True, frozen=True):
    """Answers to questions of one batch: the questions' places in it, and what an Answer has, from the status on, each as a
    column. A column that is the same for all is one value. Columns are decoded in half the time of rows (bench/vantages.py)."""

    number: _Number
    places: _Places
    status: str | list[str]
    authoritative: bool | list[bool]
    values: list[tuple[bytes, ...]]
    ttl: _Ttl | list[_Ttl | None] | None
    alias: bytes | list[bytes | None] | None
    message: list[bytes]
    rtt_ms: list[_Milliseconds | None]
    tries: int | list[int]
    over: str | list[str]

    @property
    def columns(self) -> tuple[object, ...]:
        """The columns from the status on, in the order of an Answer."""
        return (
            self.status, self.authoritative, self.values, self.ttl, self.alias, self.message, self.rtt_ms, self.tries,
            self.over,
        )  # fmt: skip


class BatchAnswers(msgspec.Struct, array_like=True, tag="answers", frozen=True):
    """The vantage's clock (seconds since 1970), answers to batches, and the numbers of the batches that it is still working on;
    it says that every second."""

    clock: float
    parts: Annotated[list[AnswerColumns], msgspec.Meta(max_length=MOST_ERRANDS)]
    working: Annotated[list[_Number], msgspec.Meta(max_length=MOST_ERRANDS)] = []


_Words = Annotated[list[_Word], msgspec.Meta(max_length=4096)]


class Facts(msgspec.Struct, array_like=True, tag="facts", frozen=True):
    """A vantage about itself: its clock (seconds since 1970), and the files of its settings where those were asked for."""

    number: _Number
    clock: float
    settings: dict[str, bytes]


class Presence(msgspec.Struct, array_like=True, tag="present", frozen=True):
    """A vantage that is there: the session that its process has, its version, clock (seconds since 1970), group and system, the
    resolvers that its computer uses (as `host:port`), the networks that it may ask, and its limits (questions a second to
    each server or None, questions in hand, seconds for a batch)."""

    session: _Session
    version: _Word
    clock: float
    group: _Word
    system: _Word
    resolvers: _Words
    allowed: _Words
    limits: tuple[float | None, int, float]


class Absence(msgspec.Struct, array_like=True, tag="absent", frozen=True):
    """A vantage's last will: the broker publishes it when the connection of this session has ended (MQTT 3.1.1 section
    3.1.2.5)."""

    session: _Session


Reply = BatchAnswers | Facts
Message = Errand | Reply | Presence | Absence

_encoder = msgspec.msgpack.Encoder()
_envelopes = msgspec.msgpack.Decoder(Envelope)
_errands: msgspec.msgpack.Decoder[Errand] = msgspec.msgpack.Decoder(Errand)
_replies: msgspec.msgpack.Decoder[Reply] = msgspec.msgpack.Decoder(Reply)
_presences: msgspec.msgpack.Decoder[Presence | Absence] = msgspec.msgpack.Decoder(Presence | Absence)


class Unreadable(ValueError):
    """What came is no message of ours: the peer's mistake, or an attack."""


def is_plain(word: str) -> bool:
    """Return whether a word is a name for a desk, a vantage or a group: letters, digits, - and _."""
    return 0 < len(word) <= NAME_LENGTH and all(
        letter.isascii() and (letter.isalnum() or letter in "-_") for letter in word
    )


def packed(message: Message | Envelope) -> bytes:
    """Return a message as bytes."""
    return _encoder.encode(message)


def _decoded(decoder: msgspec.msgpack.Decoder[T], raw: bytes) -> T:
    try:
        return decoder.decode(raw)
    except (msgspec.MsgspecError, ValueError) as error:
        raise Unreadable(str(error)) from None


def envelope_in(payload: bytes) -> Envelope:
    """Read what was published. Raises Unreadable."""
    if len(payload) > MOST_BYTES:
        raise Unreadable(f"it has {len(payload):,} bytes, and {MOST_BYTES:,} are the most")
    envelope = _decoded(_envelopes, payload)
    if envelope.version != FORMAT:
        raise Unreadable(f"it has the format {envelope.version}, and ours is {FORMAT}")
    return envelope


def errand_in(body: bytes) -> Errand:
    """Read an errand. Raises Unreadable."""
    return _decoded(_errands, body)


def reply_in(body: bytes) -> Reply:
    """Read a reply. Raises Unreadable."""
    return _decoded(_replies, body)


def presence_in(body: bytes) -> Presence | Absence:
    """Read a presence. Raises Unreadable."""
    return _decoded(_presences, body)


def batch_of(number: int, session: str, questions: Sequence[Question], *, until: float) -> tuple[Batch, list[Question]]:
    """Return a batch of questions, and the questions in the order of their places in it."""
    places: dict[Server, int] = {}
    groups: dict[tuple[int, Server, bool], list[Question]] = {}
    for question in questions:
        _, rdtype, server, recurse = question
        try:
            groups[rdtype, server, recurse].append(question)
        except KeyError:
            groups[rdtype, server, recurse] = [question]
            places.setdefault(server, len(places))
    asked = [
        (rdtype, places[server], recurse, [question[0] for question in group])
        for (rdtype, server, recurse), group in groups.items()
    ]
    batch = Batch(number, session, until, [place_of(server) for server in places], asked)
    return batch, [question for group in groups.values() for question in group]


def columns_of(number: int, places: Sequence[int], answers: Sequence[Answer]) -> AnswerColumns:
    """Answers to questions of one batch as they travel."""
    _, status, authoritative, values, ttl, alias, message, rtt_ms, tries, over = zip(*answers, strict=True)
    return AnswerColumns(
        number, list(places), _single(status), _single(authoritative), list(values), _single(ttl), _single(alias),
        list(message), list(rtt_ms), _single(tries), _single(over),
    )  # fmt: skip


def refused_columns(number: int, places: Sequence[int], why: str) -> AnswerColumns:
    """Return what is said of questions of one batch that were not asked."""
    size = len(places)
    nothing: list[tuple[bytes, ...]] = [()] * size
    return AnswerColumns(number, list(places), why, False, nothing, None, None, [b""] * size, [None] * size, 0, "udp")


def _single(column: tuple[Any, ...]) -> Any:
    first = column[0]
    return first if column.count(first) == len(column) else list(column)


def halves(answers: BatchAnswers) -> list[BatchAnswers]:
    """Split a reply that is too long in two; one with a single answer is not sent."""
    parts = list(answers.parts)
    if len(parts) > 1:
        middle = len(parts) // 2
        return [BatchAnswers(answers.clock, parts[:middle]), BatchAnswers(answers.clock, parts[middle:])]
    size = len(parts[0].places) if parts else 0
    if size < 2:
        return []
    first = [at < size // 2 for at in range(size)]
    return [BatchAnswers(answers.clock, [picked(parts[0], half)]) for half in (first, [not one for one in first])]


def picked(part: AnswerColumns, wanted: Sequence[bool]) -> AnswerColumns:
    """Return the answers of a part that are wanted."""
    cut = [list(compress(column, wanted)) if isinstance(column, list) else column for column in part.columns]
    return AnswerColumns(part.number, list(compress(part.places, wanted)), *cut)  # type: ignore[arg-type]


def place_of(server: Server) -> ServerAddress:
    """Return a server as it travels."""
    key = to_text(server.key.name) if server.key is not None else ""
    return ServerAddress(
        server.label[:255], server.address, server.port, server.over, server.tls_name, server.url, server.pace, key,
        server.unchecked, server.signed,
    )  # fmt: skip


def _fits(rdtype: int, value: bytes) -> bool:
    if rdtype not in LAYOUTS:
        return bool(value)
    try:
        return read_rdata(value, 0, len(value), rdtype) == value
    except (ValueError, IndexError, struct.error):
        return False


def check_columns(part: AnswerColumns) -> None:
    """Raise Unreadable for columns of different lengths, or with what no answer has."""
    size = len(part.places)
    columns = part.columns
    if any(len(column) != size for column in columns if isinstance(column, list)):
        raise Unreadable("its columns are not equally long")
    for column, good in ((part.status, _is_status), (part.over, OVERS.__contains__), (part.alias, _is_alias)):
        if not all(map(good, set(column) if isinstance(column, list) else (column,))):
            raise Unreadable("it has what no answer can have")


def answers_of(part: AnswerColumns, questions: Sequence[Question]) -> list[Answer]:
    """Return the answers to questions in the order of a part's places; malformed ones where what a vantage sent is no rdata of
    the type."""
    rows = zip(
        questions, *(column if isinstance(column, list) else repeat(column) for column in part.columns), strict=False
    )
    # Answer is a named tuple: its own __new__ costs three times as much, once for each answer from afar.
    answers: list[Answer] = list(map(tuple.__new__, repeat(Answer), rows))
    for at, (question, values) in enumerate(zip(questions, part.values, strict=True)):
        size = _SIZES.get(question[1])
        for value in values:
            if len(value) != size if size is not None else not _fits(question[1], value):
                answers[at] = Answer(question, MALFORMED, tries=1)
    return answers


def _is_status(status: object) -> bool:
    return isinstance(status, str) and status.isprintable()


def _is_alias(alias: object) -> bool:
    return alias is None or (isinstance(alias, bytes) and is_name(alias))

"""Responses, read for what was asked: the hot path of everything that comes in (RFC 1035 section 4, RFC 6891).

Strategy: a response is read in one pass that slices out what was asked for and walks over the rest, checking every bound;
whoever wants the other sections has them decoded from the same bytes later. A server's responses look alike: a reader
remembers the shapes that it has seen, and whoever talks to a server owns one. Whatever does not fit raises MalformedMessage.
"""

from __future__ import annotations

import struct
from struct import Struct
from typing import Protocol

from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import CNAME, LAYOUTS, OPT
from salt_mirror.dns.wire import (
    AA,
    MAX_RECORDS,
    QR,
    TC,
    MalformedMessage,
    read_counts,
    read_name,
    read_rdata,
    read_rr,
    skip_name,
)

_read_ttl_size = Struct("!IH").unpack_from
_OWNER_IS_ASKED = b"\xc0\x0c"
_COOKIE = b"\x00\x0a\x00\x18"
_MOST_HEADS = 256
_MOST_RESTS = 1024
_MOST_SHAPES = 1024
# Past the constructor of the named tuple: 0.65 us and not 1.16 for each answer (timeit).
_make = tuple.__new__

ORDINARY = {0: "NOERROR", 3: "NXDOMAIN"}
"""The rcodes of answers, and their names."""

Reply = tuple[int, bool, bool, tuple[bytes, ...], int | None, Name | None, bytes | None]
"""What a response says about its question: rcode, authoritative, truncated, values, smallest TTL, alias (see Answer for
these), and the rdata of its OPT record, None without one. A plain tuple, since one is made for every answer."""

_Lengths = tuple[int, int, int]
"""How long a question's section and a value are (-1 for none), and the type."""
_Around = tuple[bytes, bool, bytes, bytes, bytes]
"""What stands around them: the header behind its id, whether the owner is spelt out, the record up to its TTL, its length, and
what follows."""


class Foreseen(Protocol):
    """What a message should give: a name's only value of a type, None where there is nothing of the type."""

    @property
    def name(self) -> Name: ...
    @property
    def rdtype(self) -> int: ...
    @property
    def value(self) -> bytes | None: ...


class Reader:
    """Reads the responses of one server, or of any number of them.

    `_one` holds what stands around the name of whole responses with one record of the asked type at the asked name: the header
    without its id, the asked type and class, and the record up to its rdata; kept are status, authoritative, the number of
    further records, TTL, size, and whether such rdata is taken as it stands. `_empty` holds the headers, without their ids, of
    responses without any answer (status, authoritative, further records). `_rests` holds what follows the answer section, the
    same bytes in thousands of responses. Walking over it looks at no byte before it, and a pointer that leads back from one
    offset leads back from every later one: so what was found good at an offset is good from there on, and need not be walked
    over again. Kept: the offset, the extended rcode, OPT's rdata, the number of records.

    `_exact` holds what stands around question and value of the last response that was as foreseen, by the lengths of both and
    the type. A message that is just that with another name, value and TTL is as foreseen too, and is not looked into.
    `_sealed` is the same for a server that gives cookies (RFC 7873): ours is in what follows, the server's, which are the
    last 16 bytes, is left out.
    """

    __slots__ = ("_empty", "_exact", "_one", "_rests", "_sealed")

    def __init__(self) -> None:
        self._one: dict[bytes, tuple[str, bool, int, int, int, bool]] = {}
        self._empty: dict[bytes, tuple[str, bool, int]] = {}
        self._rests: dict[bytes, tuple[int, int, bytes | None, int]] = {}
        self._exact: dict[_Lengths, _Around] = {}
        self._sealed: dict[_Lengths, _Around] = {}

    def read(self, message: bytes, qid: bytes, asked: bytes) -> Reply:
        """Read a response to a question: `qid` its two id bytes, `asked` its question section (name, type, class).

        The question must come back as it went out, bytes and case alike, unless the response is an error without one.
        Raises MalformedMessage for anything that breaks the format or belongs to another question.
        """
        if not message.startswith(qid):
            raise MalformedMessage("the id is not the question's")
        return self.read_matched(message, asked)

    def ordinary(self, message: bytes, asked: bytes, question: Question, rtt_ms: float) -> Answer | None:
        """Return the answer of a message that came over UDP to a first try, its id matched already: where nothing is out of the
        ordinary, all but the values has been seen before, and EDNS is there without options. None for any other, good or bad.
        """
        if not message.startswith(asked, 12):
            return None
        at = 12 + len(asked)
        start = at + 12
        # Two look-ups by slices in place of parsing: a fifth of the time that reading an ordinary answer takes (timeit).
        one = self._one.get(message[2:12] + message[at - 4 : start])
        if one is not None:
            # Most answers are one record of the asked type at the asked name.
            status, authoritative, others, ttl, size, bare = one
            end = start + size
        else:
            # Nothing of the asked type: what follows is the same for any name of the same length.
            empty = self._empty.get(message[2:12])
            if empty is None:
                return None
            status, authoritative, others = empty
            ttl, bare, end = None, False, at
        # What follows the answer is compared byte by byte with what has been read before, so nothing unread is ever believed.
        seen = self._rests.get(message[end:])
        if seen is None or end < seen[0] or seen[1] or seen[2] != b"" or seen[3] != others or end > len(message):
            return None
        values: tuple[bytes, ...] = ()
        if bare:
            values = (message[start:end],)
        elif one is not None:
            try:
                values = (_value(message, start, size, asked),)
            except (IndexError, ValueError, struct.error):
                return None
        return _make(Answer, (question, status, authoritative, values, ttl, None, message, rtt_ms, 1, "udp"))

    def foreseen(self, message: bytes, asked: bytes, one: Foreseen, *, cookie: bool) -> int | None:
        """Return the TTL (0 for none) of a message that gives exactly the one value that is foreseen, or nothing of the type
        where that is None, in the shape that was learnt: with authority, no alias, no error. None for any other."""
        name, value = one.name, one.value
        shapes = self._sealed if cookie else self._exact
        shape = shapes.get((len(asked), -1 if value is None else len(value), one.rdtype))
        if shape is None:
            return None
        # A message put together and compared as a whole: half of the time of cutting it up (timeit).
        head, spelt, record, size, rest = shape
        if cookie:
            message = message[:-16]
        if value is None:
            return 0 if message == b"".join((message[:2], head, asked, rest)) else None
        at = 12 + len(asked) + len(record)
        if spelt:
            at, record = at + len(name), name + record
        ttl = message[at : at + 4]
        # A TTL with the top bit set counts as zero (RFC 2181 section 8): that is left to whoever reads it.
        same = message == b"".join((message[:2], head, asked, record, ttl, size, value, rest)) and ttl < b"\x80"
        return int.from_bytes(ttl, "big") if same else None

    def learn(self, answer: Answer, asked: bytes, one: Foreseen, opt: bytes | None) -> None:
        """Remember the shape of an answer that gives exactly the one value that is foreseen (or nothing of the type), and whose
        OPT record (its rdata) has nothing in it, or a cookie that was found right, at the message's end."""
        message = answer.message
        if answer.status != "NOERROR" or not answer.authoritative:
            return
        shapes, end = self._exact, len(message)
        if opt != b"":
            if opt is None or len(opt) != 28 or not opt.startswith(_COOKIE) or not message.endswith(opt):
                return
            shapes, end = self._sealed, end - 16
        at, spelt = 12 + len(asked), False
        record = size = b""
        if one.value is not None:
            # Some servers do not point to a name in another case (RFC 1035 section 4.1.4 leaves that open), but spell it out.
            spelt = not message.startswith(_OWNER_IS_ASKED, at)
            owner = one.name if spelt else _OWNER_IS_ASKED
            record = asked[-4:] if spelt else owner + asked[-4:]
            size = len(one.value).to_bytes(2, "big")
            whole = owner + asked[-4:] + (answer.ttl or 0).to_bytes(4, "big") + size + one.value
            if not message.startswith(whole, at):
                return
            at += len(whole)
        # One question, and the one record or none: an alias or another value has no place in it.
        if message[4:8] != (b"\x00\x01\x00\x00" if one.value is None else b"\x00\x01\x00\x01"):
            return
        if len(shapes) >= _MOST_SHAPES:
            shapes.clear()
        key = len(asked), -1 if one.value is None else len(one.value), one.rdtype
        shapes[key] = message[2:12], spelt, record, size, message[at:end]

    def read_matched(self, message: bytes, asked: bytes) -> Reply:
        """Read a response of whatever shape, its id matched already, and remember the shape of a simple one."""
        rcode, flags, at, counts = _read_head(message, asked)
        if counts is None:
            return rcode, False, False, (), None, None, None
        answers, others = counts
        truncated = flags & TC != 0
        values: tuple[bytes, ...] = ()
        ttl: int | None = None
        alias: Name | None = None
        try:
            if answers:
                (values, ttl, alias), at = _asked_values(message, at, answers, asked)
            extended, opt = self._read_rest(message, at, others, keep=not truncated)
        except (IndexError, ValueError, struct.error) as error:
            if truncated:
                return rcode, flags & AA != 0, True, (), None, None, None
            if isinstance(error, MalformedMessage):
                raise
            raise MalformedMessage("it breaks off in the middle of a record") from None
        status = ORDINARY.get(rcode)
        if status is not None and message[4:6] == b"\x00\x01" and answers < 2 and not truncated:
            self._remember(message, asked, status, flags & AA != 0, answers, others)
        return rcode | extended, flags & AA != 0, truncated, values, ttl, alias, opt

    def _remember(
        self, message: bytes, asked: bytes, status: str, authoritative: bool, answers: int, others: int
    ) -> None:
        """The shape of a response that has been read, with one answer or none."""
        at = 12 + len(asked)
        if not answers:
            if len(self._empty) < _MOST_HEADS:
                self._empty[message[2:12]] = status, authoritative, others
        elif message.startswith(_OWNER_IS_ASKED + asked[-4:], at):
            ttl, size = _read_ttl_size(message, at + 6)
            if ttl <= 0x7FFFFFFF:
                if len(self._one) >= _MOST_SHAPES:
                    self._one.clear()
                bare = int.from_bytes(asked[-4:-2], "big") not in LAYOUTS
                self._one[message[2:12] + message[at - 4 : at + 12]] = status, authoritative, others, ttl, size, bare

    def _read_rest(self, message: bytes, at: int, others: int, *, keep: bool) -> tuple[int, bytes | None]:
        """Return what follows the answers, walked over unless the same was before."""
        rest = message[at:]
        seen = self._rests.get(rest)
        if seen is not None and at >= seen[0] and seen[3] == others and at <= len(message):
            return seen[1], seen[2]
        extended, opt = _walk(message, at, others)
        if keep and len(rest) <= 512:
            if len(self._rests) >= _MOST_RESTS:
                self._rests.clear()
            self._rests[rest] = (at, extended, opt, others)
        return extended, opt


def _read_head(message: bytes, asked: bytes) -> tuple[int, int, int, tuple[int, int] | None]:
    """Return the rcode, the flags, the offset of the answers, and how many answers and other records there are; None for these
    of an error that consists of a header alone."""
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header has 12")
    _, flags, questions, answers, authorities, additionals = read_counts(message)
    if flags & 0xF800 != QR:
        raise MalformedMessage("not a response to a query")
    rcode = flags & 15
    at = 12
    if questions == 1:
        if not message.startswith(asked, 12):
            raise MalformedMessage("it answers another question")
        at += len(asked)
    # An error may come without its question (RFC 1035 section 4.1.1 leaves it open), an answer may not.
    elif questions or answers or rcode in (0, 3):
        raise MalformedMessage(f"{questions} questions in a response")
    elif len(message) == 12:
        return rcode, flags, at, None
    others = authorities + additionals
    if answers + others > MAX_RECORDS:
        raise MalformedMessage(f"{answers + others} records claimed")
    return rcode, flags, at, (answers, others)


def _walk(message: bytes, at: int, count: int) -> tuple[int, bytes | None]:
    """Walk over records to the end of a message; return the extended rcode's upper bits and the OPT record's rdata."""
    extended = 0
    opt: bytes | None = None
    for _ in range(count):
        at = skip_name(message, at) if message[at] else at + 1
        rdtype, _, ttl, size = read_rr(message, at)
        at += 10 + size
        if rdtype == OPT:
            extended = ttl >> 24 << 4
            opt = message[at - size : at]
    # Bytes behind the last record are the mark of a forged or broken message; some servers pad, but inside OPT (RFC 7830).
    if at != len(message):
        raise MalformedMessage("records run over the end" if at > len(message) else "bytes are left over at the end")
    return extended, opt


def _value(message: bytes, start: int, size: int, asked: bytes) -> bytes:
    """Return the canonical rdata of the asked type at an offset. Raises MalformedMessage when it does not fit."""
    rdtype = asked[-3] | asked[-4] << 8
    if rdtype in LAYOUTS:
        return read_rdata(message, start, size, rdtype)
    if size == 0 or (rdtype == 1 and size != 4) or (rdtype == 28 and size != 16):
        raise MalformedMessage("rdata of the wrong size")
    if start + size > len(message):
        raise MalformedMessage("a record runs over the end")
    return message[start : start + size]


_NOTHING: tuple[tuple[bytes, ...], int | None, Name | None] = ((), None, None)


def _asked_values(
    message: bytes, at: int, count: int, asked: bytes
) -> tuple[tuple[tuple[bytes, ...], int | None, Name | None], int]:
    """Return the values of the asked type at the asked name, their smallest TTL, and the alias when one stands there."""
    end = len(message)
    asked_type = int.from_bytes(asked[-4:-2], "big")
    asked_name: bytes | None = None
    values: list[bytes] = []
    smallest: int | None = None
    alias: Name | None = None
    for _ in range(count):
        # A pointer to the question's own name, as nearly every server writes it: no name to read, none to compare.
        if message[at] == 0xC0 and message[at + 1] == 12:
            mine = True
            at += 2
        else:
            owner, at = read_name(message, at)
            if asked_name is None:
                asked_name = asked[:-4].lower()
            mine = owner == asked_name
        rdtype, rdclass, ttl, size = read_rr(message, at)
        start = at + 10
        at = start + size
        if at > end:
            raise MalformedMessage("a record runs over the end")
        if mine and rdclass == 1 and rdtype in (asked_type, CNAME):
            if rdtype == asked_type:
                values.append(_value(message, start, size, asked))
                if smallest is None or ttl < smallest:
                    smallest = ttl
            else:
                rdata = read_rdata(message, start, size, rdtype)
                # RFC 1034 section 3.6.2 and RFC 2181 section 10.1: there is one CNAME at a name; two are nobody's answer.
                if alias is not None and alias != rdata:
                    raise MalformedMessage("two aliases at one name")
                alias = rdata
                if smallest is None:
                    smallest = ttl
    if smallest is not None and smallest > 0x7FFFFFFF:
        smallest = 0  # RFC 2181 section 8: a TTL with the top bit set counts as zero
    if len(values) > 1:
        values = sorted(set(values))
    return (tuple(values), smallest, alias), at

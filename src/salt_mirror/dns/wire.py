"""The wire format: questions out, responses in (RFC 1035 section 4, RFC 6891).

Strategy: a question is put together from ready-made bytes. A response is read in one pass that slices out what was asked
for and walks over the rest, checking every bound; whoever wants the other sections has them decoded from the same bytes
later. Whatever does not fit raises MalformedMessage: the peer's fault, never ours.
"""

from __future__ import annotations

import struct
from struct import Struct
from typing import NamedTuple

from salt_mirror.dns.names import MAX_NAME, ROOT, Name
from salt_mirror.dns.records import CNAME, LAYOUTS, OPT, Record

PAYLOAD = 1232
"""The UDP payload size that we offer: fits an IPv6 minimum MTU, so nothing is fragmented."""

MAX_RECORDS = 16384
"""The most records that a message may claim in all; 65,535 bytes hold fewer with any owner, type, TTL and length."""

RCODES = {
    0: "NOERROR", 1: "FORMERR", 2: "SERVFAIL", 3: "NXDOMAIN", 4: "NOTIMP", 5: "REFUSED", 6: "YXDOMAIN",
    7: "YXRRSET", 8: "NXRRSET", 9: "NOTAUTH", 10: "NOTZONE", 16: "BADVERS", 17: "BADKEY", 18: "BADTIME",
    22: "BADTRUNC", 23: "BADCOOKIE",
}  # fmt: skip

_COUNTS = Struct("!6H")
_RR = Struct("!HHIH")
_read_counts = _COUNTS.unpack_from
_read_rr = _RR.unpack_from
_read_ttl_size = Struct("!IH").unpack_from

QUERY_MIDDLE = {
    False: b"\x00\x00\x00\x01\x00\x00\x00\x00\x00\x01",
    True: b"\x01\x00\x00\x01\x00\x00\x00\x00\x00\x01",
}
"""A question's header after its id: flags (with or without RD), one question, one additional record."""
PLAIN_MIDDLE = {False: QUERY_MIDDLE[False][:-1] + b"\x00", True: QUERY_MIDDLE[True][:-1] + b"\x00"}
"""The same without the OPT record, for servers that do not know EDNS."""

AA, TC, QR = 0x0400, 0x0200, 0x8000


class MalformedMessage(ValueError):
    """A response that breaks the format, or does not belong to the question: the peer's fault."""


class Sections(NamedTuple):
    """The answer, authority and additional sections of a message, each a tuple of records (OPT left out)."""

    answer: tuple[Record, ...]
    authority: tuple[Record, ...]
    additional: tuple[Record, ...]


Reply = tuple[int, bool, bool, tuple[bytes, ...], int | None, Name | None, bytes | None]
"""What a response says about its question: rcode, authoritative, truncated, values, smallest TTL, alias (see Answer for
these), and the rdata of its OPT record, None without one. A plain tuple, since one is made for every answer."""


def rcode_text(rcode: int) -> str:
    """The name of a response code, or `RCODE12` (RFC 6895 section 2.3)."""
    return RCODES.get(rcode) or f"RCODE{rcode}"


def opt_record(payload: int = PAYLOAD, options: bytes = b"") -> bytes:
    """An OPT record (RFC 6891 section 6.1.2) that offers a payload size, with options already encoded."""
    return (
        b"\x00\x00\x29" + payload.to_bytes(2, "big") + b"\x00\x00\x00\x00" + len(options).to_bytes(2, "big") + options
    )


def question_tail(rdtype: int) -> bytes:
    """What follows the name in a question: type and class IN."""
    return rdtype.to_bytes(2, "big") + b"\x00\x01"


def encode_question(qid: bytes, name: Name, rdtype: int, recurse: bool = False, opt: bytes | None = None) -> bytes:
    """One question as a message: `qid` two bytes, `opt` an OPT record (ours by default, none when empty)."""
    if opt is None:
        opt = opt_record()
    middle = QUERY_MIDDLE[recurse] if opt else PLAIN_MIDDLE[recurse]
    return qid + middle + name + question_tail(rdtype) + opt


def read_reply(message: bytes, qid: bytes, asked: bytes) -> Reply:
    """Reads a response to a question: `qid` its two id bytes, `asked` its question section (name, type, class).

    The question must come back as it went out, bytes and case alike, unless the response is an error without one.
    Raises MalformedMessage for anything that breaks the format or belongs to another question.
    """
    if not message.startswith(qid):
        raise MalformedMessage("the id is not the question's")
    return read_matched(message, asked)


def read_matched(message: bytes, asked: bytes) -> Reply:
    """The same for a message whose id has been matched already, as it is where questions are looked up by it."""
    simple = _SIMPLE_HEADS.get(message[2:12])
    if simple is not None and message.startswith(asked + _OWNER_IS_ASKED + asked[-4:], 12):
        # Most answers are one record of the asked type at the asked name, and what follows it has been seen before.
        at = len(asked) + 18
        try:
            ttl, size = _read_ttl_size(message, at)
        except struct.error:
            raise MalformedMessage("it breaks off in the middle of a record") from None
        start = at + 6
        at = start + size
        seen = _RESTS.get(message[at:])
        if seen is not None and at >= seen[0] and seen[3] == simple[2] and ttl <= 0x7FFFFFFF:
            if size == 4 and asked[-3] == 1 and asked[-4] == 0:
                values = (message[start:at],)
            else:
                values = (_value(message, start, size, asked),)
            return simple[0] | seen[1], simple[1], False, values, ttl, None, seen[2]
    elif _EMPTY_HEADS.get(message[2:12]) is not None and message.startswith(asked, 12):
        # Nothing of the asked type: all that follows has been seen before, for a name of the same length.
        rcode, authoritative, others = _EMPTY_HEADS[message[2:12]]
        at = 12 + len(asked)
        seen = _RESTS.get(message[at:])
        if seen is not None and at >= seen[0] and seen[3] == others:
            return rcode | seen[1], authoritative, False, (), None, None, seen[2]
    return _read_any(message, asked)


_SIMPLE_HEADS: dict[bytes, tuple[int, bool, int]] = {}
"""Headers, without their ids, of whole responses with one question and one answer: rcode, authoritative, further records."""
_EMPTY_HEADS: dict[bytes, tuple[int, bool, int]] = {}
"""The same for responses without any answer."""
_MOST_HEADS = 256


def _read_any(message: bytes, asked: bytes) -> Reply:
    """Reads a response of whatever shape, and remembers the shape of a simple one."""
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header alone has 12")
    _, flags, questions, answers, authorities, additionals = _read_counts(message)
    if flags & 0xF800 != QR:
        raise MalformedMessage("not a response to a query")
    rcode = flags & 15
    at = 12
    if questions == 1:
        if not message.startswith(asked, 12):
            raise MalformedMessage("it answers another question")
        at += len(asked)
    elif questions or answers or rcode in (0, 3):
        raise MalformedMessage(f"{questions} questions in a response")
    elif len(message) == 12:
        return rcode, False, False, (), None, None, None
    others = authorities + additionals
    if answers + others > MAX_RECORDS:
        raise MalformedMessage(f"{answers + others} records claimed")

    truncated = flags & TC != 0
    values: tuple[bytes, ...] = ()
    ttl: int | None = None
    alias: Name | None = None
    try:
        if answers:
            (values, ttl, alias), at = _asked_values(message, at, answers, asked)
        rest = message[at:]
        seen = _RESTS.get(rest)
        if seen is not None and at >= seen[0] and seen[3] == others:
            _, extended, opt, _ = seen
        else:
            extended, opt = _walk(message, at, others)
            if not truncated and len(rest) <= 512:
                if len(_RESTS) >= _MOST_RESTS:
                    _RESTS.clear()
                _RESTS[rest] = (at, extended, opt, others)
    except (IndexError, ValueError, struct.error) as error:
        if truncated:
            return rcode, flags & AA != 0, True, (), None, None, None
        if isinstance(error, MalformedMessage):
            raise
        raise MalformedMessage("it breaks off in the middle of a record") from None
    if questions == 1 and answers < 2 and not truncated:
        heads = _SIMPLE_HEADS if answers else _EMPTY_HEADS
        if len(heads) < _MOST_HEADS:
            heads[message[2:12]] = (rcode, flags & AA != 0, others)
    return rcode | extended, flags & AA != 0, truncated, values, ttl, alias, opt


_OWNER_IS_ASKED = b"\xc0\x0c"
_MOST_RESTS = 1024
_RESTS: dict[bytes, tuple[int, int, bytes | None, int]] = {}
"""What follows the answer section is the same bytes in thousands of responses. Walking over it looks at no byte before it,
and a pointer that leads back from one offset leads back from every later one: so what was found good at an offset is good
from there on, and need not be walked over again. Kept: the offset, the extended rcode, OPT's rdata, the number of records."""


def _walk(message: bytes, at: int, count: int) -> tuple[int, bytes | None]:
    """Walks over records to the end of a message; returns the extended rcode's upper bits and the OPT record's rdata."""
    extended = 0
    opt: bytes | None = None
    for _ in range(count):
        at = _skip_name(message, at) if message[at] else at + 1
        rdtype, _, ttl, size = _read_rr(message, at)
        at += 10 + size
        if rdtype == OPT:
            extended = ttl >> 24 << 4
            opt = message[at - size : at]
    if at != len(message):
        raise MalformedMessage("records run over the end" if at > len(message) else "bytes are left over at the end")
    return extended, opt


def _value(message: bytes, start: int, size: int, asked: bytes) -> bytes:
    """The canonical rdata of the asked type at an offset. Raises MalformedMessage when it does not fit."""
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
    """The values of the asked type at the asked name, their smallest TTL, and the alias when one stands there."""
    end = len(message)
    asked_type = int.from_bytes(asked[-4:-2], "big")
    asked_name: bytes | None = None
    values: list[bytes] = []
    smallest: int | None = None
    alias: Name | None = None
    for _ in range(count):
        if message[at] == 0xC0 and message[at + 1] == 12:
            mine = True
            at += 2
        else:
            owner, at = read_name(message, at)
            if asked_name is None:
                asked_name = asked[:-4].lower()
            mine = owner == asked_name
        rdtype, rdclass, ttl, size = _read_rr(message, at)
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


def _skip_name(message: bytes, at: int) -> int:
    """The offset after a name, which may end in a compression pointer that leads back."""
    start = at
    while size := message[at]:
        if size >= 0xC0:
            if (size & 0x3F) << 8 | message[at + 1] >= start:
                raise MalformedMessage("a compression pointer that does not lead back")
            return at + 2
        if size > 63:
            raise MalformedMessage("a label of an unknown kind")
        at += size + 1
    return at + 1


def read_name(message: bytes, at: int) -> tuple[Name, int]:
    """A name at an offset, expanded and lower-cased, and the offset after it.

    Every pointer must lead to before the place where the name or its last piece began (RFC 1035 section 4.1.4), so no
    chain of them can loop. Raises MalformedMessage, or IndexError when the message ends inside the name.
    """
    parts = []
    length = 1
    after = -1
    barrier = at
    while size := message[at]:
        if size < 64:
            piece = message[at : at + size + 1]
            if len(piece) <= size:
                raise MalformedMessage("a label runs over the end")
            parts.append(piece)
            length += size + 1
            if length > MAX_NAME:
                raise MalformedMessage("a name over 255 bytes")
            at += size + 1
        elif size >= 0xC0:
            target = (size & 0x3F) << 8 | message[at + 1]
            if after < 0:
                after = at + 2
            if target >= barrier or target < 12:
                raise MalformedMessage("a compression pointer that does not lead back")
            barrier = at = target
        else:
            raise MalformedMessage("a label of an unknown kind")
    parts.append(ROOT)
    return b"".join(parts).lower(), (after if after >= 0 else at + 1)


def read_rdata(message: bytes, start: int, size: int, rdtype: int) -> bytes:
    """The canonical form of the rdata at an offset: names expanded and lower-cased (RFC 4034 section 6.2).

    Raises MalformedMessage when its parts do not fit its size, or IndexError when they leave the message.
    """
    layout = LAYOUTS.get(rdtype)
    end = start + size
    if end > len(message):
        raise MalformedMessage("rdata runs over the end")
    if layout is None:
        return message[start:end]
    if layout == "n":
        name, at = read_name(message, start)
        if at != end:
            raise MalformedMessage("rdata of the wrong size")
        return name
    parts = []
    at = start
    for step in layout:
        if step == "n":
            name, at = read_name(message, at)
            parts.append(name)
            continue
        width = 1 + message[at] if step == "s" else int(step)
        parts.append(message[at : at + width])
        at += width
    if at > end or (rdtype == 6 and end - at != 20) or (rdtype != 6 and at != end):
        raise MalformedMessage("rdata of the wrong size")
    parts.append(message[at:end])
    return b"".join(parts)


def read_sections(message: bytes) -> Sections:
    """Decodes a whole message into its records, class IN alone and OPT left out. Raises MalformedMessage."""
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header alone has 12")
    _, _, questions, *counts = _read_counts(message)
    if questions > 1 or sum(counts) > MAX_RECORDS:
        raise MalformedMessage("more questions or records than a message can hold")
    try:
        at = 12
        for _ in range(questions):
            _, at = read_name(message, at)
            at += 4
        sections = []
        for count in counts:
            records = []
            for _ in range(count):
                owner, at = read_name(message, at)
                rdtype, rdclass, ttl, size = _read_rr(message, at)
                rdata = read_rdata(message, at + 10, size, rdtype)
                at += 10 + size
                if rdclass == 1 and rdtype != OPT:
                    records.append(Record(owner, rdtype, ttl if ttl <= 0x7FFFFFFF else 0, rdata))
            sections.append(tuple(records))
    except (IndexError, struct.error):
        raise MalformedMessage("it breaks off in the middle of a record") from None
    if at != len(message):
        raise MalformedMessage("bytes are left over at the end")
    return Sections(*sections)


def cookie_option(cookie: bytes) -> bytes:
    """A COOKIE option (RFC 7873 section 4): the client's 8 bytes, with the server's behind them once it is known."""
    return b"\x00\x0a" + len(cookie).to_bytes(2, "big") + cookie


def cookie_in(options: bytes) -> bytes | None:
    """The cookie in the rdata of an OPT record; None when there is none, or the options do not fit."""
    at = 0
    while at + 4 <= len(options):
        size = int.from_bytes(options[at + 2 : at + 4], "big")
        if options[at : at + 2] == b"\x00\x0a":
            return options[at + 4 : at + 4 + size]
        at += 4 + size
    return None


class Edns(NamedTuple):
    """What a message says of EDNS (RFC 6891): the payload size that its sender takes, and whether it has a server's cookie."""

    payload: int
    cookie: bool


def edns_in(message: bytes) -> Edns | None:
    """The EDNS of a response; None when it has none, or cannot be read."""
    try:
        start = last_record(message)
        if start is not None:
            at = _skip_name(message, start)
            rdtype, payload, _, size = _read_rr(message, at)
            if rdtype != OPT:
                return None
            cookie = cookie_in(message[at + 10 : at + 10 + size])
            return Edns(payload, cookie is not None and len(cookie) >= 16)
    except (MalformedMessage, IndexError, struct.error):
        pass
    return None


def offers_recursion(message: bytes) -> bool:
    """Whether a response says that recursion is available to whoever asked (RFC 1035 section 4.1.1)."""
    return len(message) > 3 and message[3] & 0x80 != 0


def last_record(message: bytes) -> int | None:
    """The offset of the last record of the additional section; None without any. Raises MalformedMessage."""
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header alone has 12")
    _, _, questions, *counts = _read_counts(message)
    try:
        at = 12
        for _ in range(questions):
            at = _skip_name(message, at) + 4
        start = at
        for _ in range(sum(counts)):
            start = at
            at = _skip_name(message, at)
            at += 10 + _read_rr(message, at)[3]
    except (IndexError, struct.error):
        raise MalformedMessage("it breaks off in the middle of a record") from None
    return start if counts[2] else None

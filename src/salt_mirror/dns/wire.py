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


class Reply(NamedTuple):
    """What a response says about its question; see Answer for the fields that both have."""

    rcode: int
    authoritative: bool
    truncated: bool
    values: tuple[bytes, ...]
    ttl: int | None
    alias: Name | None


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
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header alone has 12")
    _, flags, questions, answers, authorities, additionals = _read_counts(message)
    if message[:2] != qid:
        raise MalformedMessage("the id is not the question's")
    if flags & 0xF800 != QR:
        raise MalformedMessage("not a response to a query")
    rcode = flags & 15
    at = 12
    if questions == 1:
        at += len(asked)
        if message[12:at] != asked:
            raise MalformedMessage("it answers another question")
    elif questions or answers or rcode in (0, 3):
        raise MalformedMessage(f"{questions} questions in a response")
    elif len(message) == 12:
        return Reply(rcode, False, False, (), None, None)
    count = answers + authorities + additionals
    if count > MAX_RECORDS:
        raise MalformedMessage(f"{count} records claimed")

    authoritative = flags & AA != 0
    truncated = flags & TC != 0
    try:
        found, at = _asked_values(message, at, answers, asked) if answers else (_NOTHING, at)
        for _ in range(authorities + additionals):
            if message[at]:
                at = _skip_name(message, at)
            else:
                at += 1
            rdtype, _, ttl, size = _read_rr(message, at)
            at += 10 + size
            if rdtype == OPT:
                rcode |= ttl >> 24 << 4
    except (IndexError, ValueError, struct.error):
        if truncated:
            return Reply(rcode, authoritative, True, (), None, None)
        raise MalformedMessage("it breaks off in the middle of a record") from None
    if at != len(message) and not truncated:
        raise MalformedMessage("records run over the end" if at > len(message) else "bytes are left over at the end")
    return Reply(rcode, authoritative, truncated, *found)


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
            rdata = message[start:at] if rdtype not in LAYOUTS else read_rdata(message, start, size, rdtype)
            if rdtype == asked_type:
                if size == 0 or (rdtype == 1 and size != 4) or (rdtype == 28 and size != 16):
                    raise MalformedMessage("rdata of the wrong size")
                values.append(rdata)
                if smallest is None or ttl < smallest:
                    smallest = ttl
            else:
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

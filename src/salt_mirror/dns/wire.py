"""The wire format: questions out, names, rdata and whole sections in (RFC 1035 section 4, RFC 6891).

Strategy: a question is put together from ready-made bytes; everything that is read is checked at every bound. Whatever does not
fit raises MalformedMessage: the peer's fault, never ours. Reading a response for what was asked alone is `replies`' business.
"""

from __future__ import annotations

import struct
from functools import cache
from struct import Struct
from typing import NamedTuple

from salt_mirror.dns.names import MAX_NAME, ROOT, Name
from salt_mirror.dns.records import LAYOUTS, OPT, Record

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
read_counts = _COUNTS.unpack_from
read_rr = _RR.unpack_from

QUERY_MIDDLE = {
    False: b"\x00\x00\x00\x01\x00\x00\x00\x00\x00\x01",
    True: b"\x01\x20\x00\x01\x00\x00\x00\x00\x00\x01",
}
"""A question's header after its id: flags, one question, one additional record. With RD, AD is set too: a resolver may then
tell that it has validated the answer (RFC 6840 section 5.7)."""
PLAIN_MIDDLE = {False: QUERY_MIDDLE[False][:-1] + b"\x00", True: QUERY_MIDDLE[True][:-1] + b"\x00"}
"""The same without the OPT record, for servers that do not know EDNS."""
_CD = 0x10
_AD = 0x20
_MIDDLES = {
    (plain, unchecked, signed): {
        recurse: middle[:1]
        + bytes(((middle[1] | (_CD if unchecked else 0)) & (~_AD if signed else 0xFF),))
        + middle[2:]
        for recurse, middle in table.items()
    }
    for plain, table in ((False, QUERY_MIDDLE), (True, PLAIN_MIDDLE))
    for unchecked in (False, True)
    for signed in (False, True)
}


def middles(*, plain: bool = False, unchecked: bool = False, signed: bool = False) -> dict[bool, bytes]:
    """Return a question's header behind its id, by whether recursion is desired: `plain` without an OPT record, `unchecked`
    with CD, so that a resolver hands on what it does not validate itself (RFC 4035 section 3.2.2); `signed` without AD, for an
    OPT record with DO, which wants to know of validation as well (RFC 4035 section 3.2.3)."""
    return _MIDDLES[plain, unchecked, signed]


AA, TC, RA, QR = 0x0400, 0x0200, 0x0080, 0x8000


class MalformedMessage(ValueError):
    """A response that breaks the format, or does not belong to the question: the peer's fault."""


class Sections(NamedTuple):
    """The answer, authority and additional sections of a message, each a tuple of records (OPT left out)."""

    answer: tuple[Record, ...]
    authority: tuple[Record, ...]
    additional: tuple[Record, ...]


def rcode_text(rcode: int) -> str:
    """Return the name of a response code, or `RCODE12` (RFC 6895 section 2.3)."""
    return RCODES.get(rcode) or f"RCODE{rcode}"


def opt_record(payload: int = PAYLOAD, options: bytes = b"", *, signed: bool = False) -> bytes:
    """Return an OPT record (RFC 6891 section 6.1.2) that offers a payload size, with options already encoded; `signed` with
    DO."""
    flags = b"\x00\x00\x80\x00" if signed else b"\x00\x00\x00\x00"
    return b"\x00\x00\x29" + payload.to_bytes(2, "big") + flags + len(options).to_bytes(2, "big") + options


@cache
def question_tail(rdtype: int) -> bytes:
    """Return what follows the name in a question: type and class IN."""
    return rdtype.to_bytes(2, "big") + b"\x00\x01"


def encode_question(
    qid: bytes,
    name: Name,
    rdtype: int,
    recurse: bool = False,
    opt: bytes | None = None,
    *,
    unchecked: bool = False,
    signed: bool = False,
) -> bytes:
    """Return one question as a message: `qid` two bytes, `opt` an OPT record (ours by default, none when empty), `unchecked`
    with CD, `signed` with DO and without AD."""
    if opt is None:
        opt = opt_record(signed=signed)
    middle = middles(plain=not opt, unchecked=unchecked, signed=signed)[recurse]
    return qid + middle + name + question_tail(rdtype) + opt


def encode_update_trial(qid: bytes, zone: Name, label: bytes) -> bytes:
    """Return an update that changes nothing: the deletion of a name that does not exist (RFC 2136 sections 2.5.3 and
    3.4.2.4)."""
    owner = bytes((len(label),)) + label + zone
    head = b"\x28\x00\x00\x01\x00\x00\x00\x01\x00\x00"
    return qid + head + zone + question_tail(6) + owner + b"\x00\xff\x00\xff\x00\x00\x00\x00\x00\x00"


def of_a_query(message: bytes) -> bytes:
    """Return the answer to an update in the shape of one to a query, as far as that is read; any other message as it is."""
    if len(message) > 2 and message[2] & 0x78 == 0x28:
        return message[:2] + bytes((message[2] & 0x87,)) + message[3:]
    return message


def skip_name(message: bytes, at: int) -> int:
    """Return the offset after a name, which may end in a compression pointer that leads back."""
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
    """Return a name at an offset, expanded and lower-cased, and the offset after it.

    Every pointer must lead to before the place where the name or its last piece began (RFC 1035 section 4.1.4), so no
    chain of them can loop. Raises MalformedMessage, or IndexError when the message ends inside the name.
    """
    end = at
    while 0 < (size := message[end]) < 64:
        end += size + 1
    if size == 0 and end - at < MAX_NAME:  # most stand whole
        return message[at : end + 1].lower(), end + 1
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
    """Return the canonical form of the rdata at an offset: names expanded and lower-cased (RFC 4034 section 6.2).

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
    """Decode a whole message into its records, class IN alone and OPT left out. Raises MalformedMessage."""
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header has 12")
    _, _, questions, *counts = read_counts(message)
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
                rdtype, rdclass, ttl, size = read_rr(message, at)
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


def first_record_only(message: bytes) -> bytes:
    """Return a message with its header, its questions and the first of its answers; the message itself where that cannot be
    read."""
    try:
        at = 12
        for _ in range(int.from_bytes(message[4:6], "big")):
            at = skip_name(message, at) + 4
        if message[6:8] == b"\0\0":
            return message[:6] + bytes(6) + message[12:at]
        at = skip_name(message, at) + 10
        at += int.from_bytes(message[at - 2 : at], "big")
    except (IndexError, MalformedMessage):
        return message
    return message[:6] + b"\0\1" + bytes(4) + message[12:at] if at <= len(message) else message


def cookie_option(cookie: bytes) -> bytes:
    """Return a COOKIE option (RFC 7873 section 4): the client's 8 bytes, with the server's behind them once it is known."""
    return b"\x00\x0a" + len(cookie).to_bytes(2, "big") + cookie


def cookie_in(options: bytes) -> bytes | None:
    """Return the cookie in the rdata of an OPT record; None when there is none, or the options do not fit."""
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
    """Return the EDNS of a response; None when it has none, or cannot be read."""
    try:
        start = last_record(message)
        if start is not None:
            at = skip_name(message, start)
            rdtype, payload, _, size = read_rr(message, at)
            if rdtype != OPT:
                return None
            cookie = cookie_in(message[at + 10 : at + 10 + size])
            return Edns(payload, cookie is not None and len(cookie) >= 16)
    except (MalformedMessage, IndexError, struct.error):
        pass
    return None


def is_authentic(message: bytes) -> bool:
    """Return whether a response says that it was validated (AD, RFC 4035 section 3.2.3)."""
    return len(message) > 3 and bool(message[3] & _AD)


def offers_recursion(message: bytes) -> bool:
    """Return whether a response says that recursion is available to whoever asked (RFC 1035 section 4.1.1)."""
    return len(message) > 3 and message[3] & RA != 0


def last_record(message: bytes) -> int | None:
    """Return the offset of the last record of the additional section; None without any. Raises MalformedMessage."""
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header has 12")
    _, _, questions, *counts = read_counts(message)
    try:
        at = 12
        for _ in range(questions):
            at = skip_name(message, at) + 4
        start = at
        for _ in range(sum(counts)):
            start = at
            at = skip_name(message, at)
            at += 10 + read_rr(message, at)[3]
    except (IndexError, struct.error):
        raise MalformedMessage("it breaks off in the middle of a record") from None
    return start if counts[2] else None


def tsig_in(message: bytes) -> tuple[int, int, int, bytes] | None:
    """Return the time signed, fudge (seconds), error and other data of the TSIG record that a message ends with (RFC 8945
    section 4.2); None where it ends with none."""
    try:
        at = last_record(message)
        if at is None:
            return None
        _, at = read_name(message, at)
        if message[at : at + 2] != b"\x00\xfa":
            return None
        _, at = read_name(message, at + 10)
        signed = int.from_bytes(message[at : at + 6], "big")
        fudge = int.from_bytes(message[at + 6 : at + 8], "big")
        at += 10 + int.from_bytes(message[at + 8 : at + 10], "big")
        error = int.from_bytes(message[at + 2 : at + 4], "big")
        size = int.from_bytes(message[at + 4 : at + 6], "big")
        other = message[at + 6 : at + 6 + size]
    except (MalformedMessage, IndexError):
        return None
    return (signed, fudge, error, other) if len(other) == size else None


def clocks_apart(message: bytes) -> int | None:
    """Return how many seconds a server's clock is ahead of ours, as it says in turning a signature away (RFC 8945 section
    5.2.3)."""
    found = tsig_in(message)
    if found is None or len(found[3]) != 6:
        return None
    return int.from_bytes(found[3], "big") - found[0]

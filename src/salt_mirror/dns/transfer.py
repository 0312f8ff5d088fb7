"""Zone transfer (AXFR, RFC 5936): a whole zone from one server over TCP.

Strategy: a generator that hands on the records of each message as it comes, so nothing is held twice; `whole_zone` gathers them
and gives the zone only when the transfer was sound from end to end: the same SOA first and last, every name in the zone,
every message signed as asked. One that breaks off or lies is worth nothing and is rejected whole.
"""

from __future__ import annotations

import mmap
import secrets
import socket
import struct
import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, NamedTuple

from salt_mirror.dns.names import MAX_NAME, Name, is_within
from salt_mirror.dns.questions import Answer, Question, Server, refused_key
from salt_mirror.dns.records import AXFR, LAYOUTS, SOA, Record
from salt_mirror.dns.wire import (
    MalformedMessage,
    encode_question,
    question_tail,
    rcode_text,
    read_name,
    read_rdata,
)

if TYPE_CHECKING:
    from salt_mirror.dns.tsig import Verifier

_read_counts = struct.Struct("!6H").unpack_from
_read_rr = struct.Struct("!HHIH").unpack_from
MOST_EMPTY = 100
BEYOND_MEMORY = "it is larger than the memory that is left"
_ROOM = 32 << 20
"""Bytes that have to be free before a message is read: more than what eight transfers at once make of one message each."""


class Bounds(NamedTuple):
    """How much of one transfer is taken: bytes, records, records of one set, seconds; and records of all transfers of a run."""

    bytes: int = 256 << 20
    records: int = 1_000_000
    of_one_set: int = 20_000
    seconds: float = 300.0
    of_the_run: int = 2_000_000


BOUNDS = Bounds()


class TransferFailed(Exception):
    """A transfer that gave no whole zone; the message says why, for people."""


def transfer(
    server: Server,
    zone: Name,
    *,
    timeout_s: float = 5.0,
    bounds: Bounds = BOUNDS,
    clock: Callable[[], float] = time.monotonic,
) -> Iterator[list[Record]]:
    """Return the records of a zone in the order in which a server sends them, a list for each message; the closing SOA is last.

    `timeout_s` bounds each silence, `bounds` the whole. What came before TransferFailed is raised must not be used.
    """
    qid = secrets.token_bytes(2)
    asked = zone + question_tail(AXFR)
    wire = encode_question(qid, zone, AXFR, opt=b"")
    verifier = None
    if server.key is not None:
        from salt_mirror.dns.tsig import Verifier, sign

        wire, mac = sign(wire, server.key)
        verifier = Verifier(server.key, mac, several=True)
    # Two clocks: a silence ends a transfer soon, and a peer that sends a byte now and then still ends some time.
    until = clock() + bounds.seconds
    meter = _Meter(bounds)
    try:
        with socket.create_connection((server.host, server.port), timeout_s, server.source_place) as sock:
            sock.sendall(len(wire).to_bytes(2, "big") + wire)
            first: Record | None = None
            for message in _messages(sock, until, clock, timeout_s):
                _ensure_room()
                _check_head(message, qid, asked, first_one=first is None, signed=verifier is not None)
                if verifier is not None:
                    _verify(verifier, message)
                records = read_transfer_records(message, zone)
                meter.count(len(message), len(records))
                if first is None:
                    if not records:
                        raise TransferFailed("it answered without any record")
                    first = records[0]
                    # RFC 5936 section 2.2: the first record is the SOA, and the same SOA ends the transfer.
                    if first.rdtype != SOA or first.owner != zone:
                        raise TransferFailed("it does not begin with the zone's SOA")
                    ended = _end_of(records, first, 1)
                else:
                    ended = _end_of(records, first, 0)
                # RFC 8945 section 5.3.1: the last message has to be signed, or a cut off zone could pass for a whole one.
                if ended and verifier is not None:
                    _finish(verifier)
                yield records
                if ended:
                    return
    except MalformedMessage as error:
        raise TransferFailed(f"a malformed message: {error}") from None
    except TimeoutError:
        raise TransferFailed("it stopped answering in the middle, or never began") from None
    except OSError as error:
        raise TransferFailed(f"the connection failed ({error.strerror or error})") from None
    raise TransferFailed("it broke off before the closing SOA")


class _Meter:
    """How much of a transfer was taken so far."""

    def __init__(self, bounds: Bounds) -> None:
        self._bounds = bounds
        self._bytes = self._records = self._empty = 0

    def count(self, size: int, records: int) -> None:
        """Count a message of so many bytes and records. Raises TransferFailed when it was one too many."""
        self._bytes += size
        self._records += records
        self._empty = 0 if records else self._empty + 1
        most = self._bounds
        if self._bytes > most.bytes or self._records > most.records:
            raise TransferFailed(f"more than {most.bytes:,} bytes or {most.records:,} records")
        if self._empty > MOST_EMPTY:
            raise TransferFailed(f"{self._empty} messages in a row without a record")


def _ensure_room() -> None:
    """Raise TransferFailed where little memory is left.

    With none at all, Python 3.11 may raise MemoryError for ever: on the way to its handler it makes an integer, and cannot.
    """
    try:
        mmap.mmap(-1, _ROOM).close()  # reserved and given back, never touched: some microseconds
    except OSError:
        raise TransferFailed(BEYOND_MEMORY) from None


def _messages(sock: socket.socket, until: float, clock: Callable[[], float], timeout_s: float) -> Iterator[bytes]:
    """Return the messages on a connection, until the peer closes it."""
    held = b""
    while True:
        left = until - clock()
        if left <= 0:
            raise TransferFailed("it took too long")
        sock.settimeout(min(timeout_s, left))
        piece = sock.recv(1 << 18)
        if not piece:
            return
        # Joined once for each piece that came, not for each message: a zone of 50,000 records has some hundred pieces.
        held = held + piece if held else piece
        at, end = 0, len(held)
        while end - at >= 2:
            after = at + 2 + (held[at] << 8 | held[at + 1])
            if after > end:
                break
            yield held[at + 2 : after]
            at = after
        held = held[at:]


def _check_head(message: bytes, qid: bytes, asked: bytes, *, first_one: bool, signed: bool = False) -> None:
    """Raise for a message that is not part of the transfer asked for (RFC 5936 section 2.2.1)."""
    if len(message) < 12 or not message.startswith(qid) or not message[2] & 0x80 or message[2] & 0x78:
        raise TransferFailed("a message that does not belong to the transfer")
    rcode = message[3] & 15
    why = refused_key(message, rcode) if signed else None
    if why is not None:
        refused = Answer(Question(asked[:-4], AXFR, Server("", b"")), why, message=message)
        raise TransferFailed(refused.trouble or "it refused the key")
    if rcode:
        raise TransferFailed(f"it answered {rcode_text(rcode)}")
    if message[4:6] == b"\x00\x01":
        name, at = read_name(message, 12)
        if name + message[at : at + 4] != asked:
            raise TransferFailed("a message about another zone")
    elif first_one or message[4:6] != b"\x00\x00":
        raise TransferFailed("a message without its question")


def _end_of(records: list[Record], first: Record | None, begin: int) -> bool:
    """Return whether these records end the transfer; raises when another SOA, or anything behind the last one, stands in
    them."""
    for number in range(begin, len(records)):
        record = records[number]
        if record[1] == SOA:
            if first is None or record.rdata != first.rdata or record.owner != first.owner:
                raise TransferFailed("it does not end with the SOA that it began with: the zone changed on the way")
            if number != len(records) - 1:
                raise TransferFailed("records follow the closing SOA")
            return True
    return False


def _verify(verifier: Verifier, message: bytes) -> None:
    from salt_mirror.dns.tsig import BadSignature

    try:
        verifier.verify(message)
    except BadSignature as error:
        raise TransferFailed(f"it is not signed with the key (TSIG: {error})") from None


def _finish(verifier: Verifier) -> None:
    from salt_mirror.dns.tsig import BadSignature

    try:
        verifier.finish()
    except BadSignature as error:
        raise TransferFailed(f"it is not signed with the key (TSIG: {error})") from None


_SIZES = {1: 4, 28: 16}
"""How many bytes the rdata of addresses has."""


def _behind(message: bytes, questions: int) -> int:
    """Return the offset behind the questions of a message."""
    at = 12
    for _ in range(questions):
        at = read_name(message, at)[1] + 4
    return at


def read_transfer_records(message: bytes, zone: Name) -> list[Record]:
    """Return the answer records of one message of a zone transfer (RFC 5936 section 2.2), as fast as they can be read.

    Names that were spelt out once are kept by their offsets, since nearly every owner is one label before such a name.
    Raises MalformedMessage for what breaks the format, or stands outside the zone.
    """
    if len(message) < 12:
        raise MalformedMessage(f"{len(message)} bytes; a header has 12")
    _, _, questions, count, _, _ = _read_counts(message)
    end = len(message)
    names: dict[int, Name] = {}
    inside: dict[Name, bool] = {zone: True}
    records: list[Record] = []
    keep, make, unpack = records.append, tuple.__new__, _read_rr
    try:
        at = _behind(message, questions)
        for _ in range(count):
            begin = at
            size = message[at]
            label_end = at + 1 + size
            # One label before a name that was read already: nearly every owner of a zone, and then there is nothing else to
            # read.
            if 0 < size < 64 and message[label_end] >= 0xC0:
                target = (message[label_end] & 0x3F) << 8 | message[label_end + 1]
                suffix = names.get(target)
                if suffix is None:
                    suffix, _ = read_name(message, label_end)
                    names[target] = suffix
                owner = message[at:label_end].lower() + suffix
                if len(owner) > MAX_NAME:
                    raise MalformedMessage("a name over 255 bytes")
                at = label_end + 2
            else:
                known = names.get((size & 0x3F) << 8 | message[at + 1]) if size >= 0xC0 else None
                if known is not None:
                    owner = known
                    at += 2
                else:
                    owner, at = read_name(message, at)
                suffix = owner
            names[begin] = owner
            # Whether a suffix lies in the zone is asked once for each suffix, and not for each record.
            within = inside.get(suffix)
            if within is None:
                within = inside[suffix] = is_within(suffix, zone)
            if not within:
                raise MalformedMessage("a record that is not in the zone")
            rdtype, rdclass, ttl, size = unpack(message, at)
            start = at + 10
            at = start + size
            if at > end:
                raise MalformedMessage("a record runs over the end")
            rdata = message[start:at] if rdtype not in LAYOUTS else read_rdata(message, start, size, rdtype)
            if size != _SIZES.get(rdtype, size):
                raise MalformedMessage("rdata of the wrong size")
            if rdclass == 1:
                keep(make(Record, (owner, rdtype, ttl if ttl <= 0x7FFFFFFF else 0, rdata)))
    except (IndexError, struct.error):
        raise MalformedMessage("it breaks off in the middle of a record") from None
    return records

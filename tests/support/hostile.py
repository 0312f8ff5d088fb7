"""Servers that lie, stall, flood and send garbage: a table of ways, each with what may follow from it."""

from __future__ import annotations

import random
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import dns.edns
import dns.flags
import dns.message
import dns.name
import dns.opcode
import dns.rcode
import dns.rdatatype
import dns.rrset

from support.peers import Answers, Serve, flood, peer

Becomes = Literal["truth", "nothing"]
"""What a client ends up with: the truth came in the end, or nothing that may be used."""
VALUE = "192.0.2.7"
LATE_S = 1.5
TOO_LATE_S = 10.0
"""No run waits so long, on however busy a machine."""


def zone_of(qname: dns.name.Name) -> dns.name.Name:
    """The zone that a server holds: the last two labels, `mode.invalid`."""
    return dns.name.Name(qname.labels[-3:])


def truth(query: dns.message.Message) -> dns.message.Message:
    """What an honest server of the zone answers."""
    response = dns.message.make_response(query)
    response.flags |= dns.flags.AA
    response.flags &= ~dns.flags.RA
    (question,) = query.question
    zone = zone_of(question.name)
    ns = dns.name.Name((b"ns", *zone.labels))
    soa = dns.rrset.from_text(zone, 300, "IN", "SOA", f"{ns} h.{str(zone).lstrip('.')} 1 7200 900 1209600 300")
    if question.name == zone and question.rdtype == dns.rdatatype.SOA:
        response.answer.append(soa)
    elif question.name == zone and question.rdtype == dns.rdatatype.NS:
        response.answer.append(dns.rrset.from_text(zone, 300, "IN", "NS", str(ns)))
    elif question.rdtype == dns.rdatatype.A and question.name != zone:
        response.answer.append(dns.rrset.from_text(question.name, 300, "IN", "A", VALUE))
    else:
        response.authority.append(soa)
    return response


@dataclass(frozen=True)
class Mode:
    """One way to be hostile: what is sent over UDP for a query, and what over TCP (None: nobody listens there)."""

    name: str
    becomes: Becomes
    udp: Answers
    tcp: Serve | None = None


def _now(make: Callable[[bytes], bytes]) -> Answers:
    return lambda wire: [(0.0, make(wire))]


def _right(wire: bytes) -> bytes:
    return truth(dns.message.from_wire(wire)).to_wire()


def _false(wire: bytes) -> bytes:
    """A lie with another identifier."""
    return bytes([wire[0] ^ 1]) + _right(wire)[1:].replace(b"\xc0\x00\x02\x07", b"\xc0\x00\x02\x66")


def _told(change: Callable[[dns.message.Message], object]) -> Answers:
    """The truth with something changed."""

    def make(wire: bytes) -> bytes:
        response = truth(dns.message.from_wire(wire))
        change(response)
        return response.to_wire()

    return _now(make)


def _patched(at: int, put: bytes) -> Answers:
    """The truth with some bytes of its header overwritten."""

    def make(wire: bytes) -> bytes:
        out = bytearray(_right(wire))
        out[at : at + len(put)] = put
        return bytes(out)

    return _now(make)


def _opcode(code: dns.opcode.Opcode) -> Callable[[dns.message.Message], object]:
    return lambda response: response.set_opcode(code)


def _rcode(code: dns.rcode.Rcode) -> Callable[[dns.message.Message], object]:
    def change(response: dns.message.Message) -> None:
        response.set_rcode(code)
        response.answer.clear()
        response.authority.clear()
        response.flags &= ~dns.flags.AA

    return change


def _question_end(wire: bytes) -> int:
    at = 12
    while wire[at]:
        at += wire[at] + 1
    return at + 5


def _record(tail: bytes, count: int = 1) -> Answers:
    """The header and question of an authoritative answer, and then bytes of our own as its records."""

    def make(wire: bytes) -> bytes:
        return (
            wire[:2] + b"\x84\x00\x00\x01" + count.to_bytes(2, "big") + bytes(4) + wire[12 : _question_end(wire)] + tail
        )

    return _now(make)


def _no_authority(response: dns.message.Message) -> None:
    response.flags &= ~dns.flags.AA


def _referral(cut: str) -> Callable[[dns.message.Message], object]:
    def change(response: dns.message.Message) -> None:
        _no_authority(response)
        response.answer.clear()
        response.authority.clear()
        response.authority.append(dns.rrset.from_text(cut, 300, "IN", "NS", "ns.elsewhere.invalid."))

    return change


def _renamed(response: dns.message.Message) -> None:
    other = dns.message.make_query("other.salt.invalid.", response.question[0].rdtype)
    response.question = other.question


def query_on(connection: socket.socket) -> bytes:
    """The first query that comes on a connection, without its length."""
    wire = connection.recv(4096)
    return wire[2 : 2 + int.from_bytes(wire[:2], "big")]


def _say(*parts: bytes, close: bool = True) -> Serve:
    def serve(connection: socket.socket) -> None:
        query_on(connection)
        for part in parts:
            connection.sendall(part)
        if not close:
            time.sleep(LATE_S * 2)

    return serve


def _framed(connection: socket.socket) -> bytes:
    """The truth as it stands on a stream."""
    whole = _right(query_on(connection))
    return len(whole).to_bytes(2, "big") + whole


def _answer(connection: socket.socket) -> None:
    connection.sendall(_framed(connection))


def _half(connection: socket.socket) -> None:
    whole = _framed(connection)
    connection.sendall(whole[: len(whole) // 2])


def _drip(connection: socket.socket) -> None:
    for byte in _framed(connection):
        connection.sendall(bytes([byte]))
        time.sleep(LATE_S / 5)


def _cut(response: dns.message.Message) -> None:
    response.flags |= dns.flags.TC
    response.answer.clear()


def _everlasting(response: dns.message.Message) -> None:
    for one in response.answer:
        one.ttl = 2**31 - 1


def _optional(response: dns.message.Message) -> None:
    response.use_edns(options=[dns.edns.GenericOption(dns.edns.OptionType.make(65001), bytes(40))])


def _asked_for(change: bytes, at: int) -> Answers:
    """The truth, with another type or class in its question."""

    def make(wire: bytes) -> bytes:
        out = bytearray(_right(wire))
        place = _question_end(wire) - at
        out[place : place + 2] = change
        return bytes(out)

    return _now(make)


CUT = _told(_cut)
_A = b"\xc0\x0c\x00\x01\x00\x01\x00\x00\x01\x2c"
_CHANCE = random.Random(7)

MODES = [
    Mode("silent", "nothing", lambda _: []),
    Mode("empty", "nothing", _now(lambda _: b"")),
    Mode("onebyte", "nothing", _now(lambda _: b"\x00")),
    Mode("shorthead", "nothing", _now(lambda wire: _right(wire)[:11])),
    Mode("headalone", "nothing", _now(lambda wire: _right(wire)[:12])),
    Mode("echo", "nothing", _now(lambda wire: wire)),
    Mode("garbage", "nothing", _now(lambda wire: wire[:2] + _CHANCE.randbytes(80))),
    Mode("halved", "nothing", _now(lambda wire: _right(wire)[: len(_right(wire)) // 2])),
    Mode("flipped", "nothing", _now(lambda wire: wire[:2] + bytes(byte ^ 0xFF for byte in _right(wire)[2:]))),
    Mode("otherid", "nothing", _now(_false)),
    Mode("othername", "nothing", _told(_renamed)),
    Mode("othertype", "nothing", _asked_for(b"\x00\x63", 4)),
    Mode("otherclass", "nothing", _asked_for(b"\x00\x03", 2)),
    Mode("noquestion", "nothing", _now(lambda wire: wire[:2] + b"\x84\x00" + bytes(8))),
    Mode("twoquestions", "nothing", _patched(4, b"\x00\x02")),
    Mode("notify", "nothing", _told(_opcode(dns.opcode.NOTIFY))),
    Mode("update", "nothing", _told(_opcode(dns.opcode.UPDATE))),
    Mode("status", "nothing", _told(_opcode(dns.opcode.STATUS))),
    Mode("inverse", "nothing", _told(_opcode(dns.opcode.IQUERY))),
    Mode("morepromised", "nothing", _patched(6, b"\x00\x05")),
    Mode("manypromised", "nothing", _patched(6, b"\xff\xff")),
    Mode("loop", "nothing", _record(b"\xc0\x28" * 20)),
    Mode("forward", "nothing", _record(b"\xff\xff" + _A[2:] + b"\x00\x04\xc0\x00\x02\x07")),
    Mode("oddlabel", "nothing", _record(b"\x41" + _A[2:] + b"\x00\x04\xc0\x00\x02\x07")),
    Mode("longname", "nothing", _record((b"\x3f" + b"a" * 63) * 5 + b"\x00" + _A[2:] + b"\x00\x04\xc0\x00\x02\x07")),
    Mode("threebytes", "nothing", _record(_A + b"\x00\x03\xc0\x00\x02")),
    Mode("fivebytes", "nothing", _record(_A + b"\x00\x05\xc0\x00\x02\x07\x07")),
    Mode("nobytes", "nothing", _record(_A + b"\x00\x00")),
    Mode("longdata", "nothing", _record(_A + b"\x00\xff\xc0\x00\x02\x07")),
    Mode("formerr", "nothing", _told(_rcode(dns.rcode.FORMERR))),
    Mode("servfail", "nothing", _told(_rcode(dns.rcode.SERVFAIL))),
    Mode("notimp", "nothing", _told(_rcode(dns.rcode.NOTIMP))),
    Mode("refused", "nothing", _told(_rcode(dns.rcode.REFUSED))),
    Mode("notauth", "nothing", _told(_rcode(dns.rcode.NOTAUTH))),
    Mode("yxdomain", "nothing", _told(_rcode(dns.rcode.YXDOMAIN))),
    Mode("badvers", "nothing", _told(_rcode(dns.rcode.BADVERS))),
    Mode("badcookie", "nothing", _told(_rcode(dns.rcode.BADCOOKIE))),
    Mode("unknownrcode", "nothing", _patched(2, b"\x84\x0e")),
    Mode("nonsuch", "nothing", _told(_rcode(dns.rcode.NXDOMAIN))),
    Mode("secondhand", "nothing", _told(_no_authority)),
    Mode("rootreferral", "nothing", _told(_referral("."))),
    Mode("tldreferral", "nothing", _told(_referral("invalid."))),
    Mode("cutshort", "nothing", CUT),
    Mode("cutclosed", "nothing", CUT, _say()),
    Mode("cutgarbage", "nothing", CUT, _say(b"\x00\x20" + b"\xaa" * 32)),
    Mode("cutzero", "nothing", CUT, _say(b"\x00\x00" * 1000)),
    Mode("cuthalf", "nothing", CUT, _half),
    Mode("cutstall", "nothing", CUT, _say(b"\x00", close=False)),
    Mode("cutdrip", "nothing", CUT, _drip),
    Mode("cutflood", "nothing", CUT, flood),
    Mode("late", "nothing", lambda wire: [(TOO_LATE_S, _right(wire))]),
    Mode("plain", "truth", _now(_right)),
    Mode("twice", "truth", lambda wire: [(0.0, _right(wire))] * 5),
    Mode("lieandtruth", "truth", lambda wire: [(0.0, _false(wire)), (0.0, b"\x00"), (0.0, _right(wire))]),
    Mode("cutwhole", "truth", CUT, _answer),
    Mode("bigttl", "truth", _told(_everlasting)),
    Mode("option", "truth", _told(_optional)),
]  # fmt: skip


@contextmanager
def hostile_servers() -> Iterator[dict[str, int]]:
    """Every mode's server on a port of its own, on loopback; ports by the mode's name."""
    with ExitStack() as stack:
        yield {mode.name: stack.enter_context(peer(udp=mode.udp, tcp=mode.tcp)) for mode in MODES}


def lay_out_liars(folder: Path, ports: dict[str, int]) -> None:
    """An estate with a zone for each way, on its server only, with one expected record."""
    text = ""
    for name, port in ports.items():
        (folder / f"{name}.csv").write_text(f"name,type,value\nhost,A,{VALUE}\n", encoding="utf-8")
        text += f'[[zones]]\nname = "{name}.invalid"\nservers = ["{name}"]\nexpect = ["{name}.csv"]\n'
        text += f'[servers.{name}]\naddress = "127.0.0.1"\nport = {port}\n'
    (folder / "estate.toml").write_text(text, encoding="utf-8")

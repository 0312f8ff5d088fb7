"""Stand-in servers on loopback, over UDP and TCP, each with faults that can be switched on and off while it runs.

Strategy: all servers of one process live in one event loop in a thread of its own; `StandIns` starts and stops it. A
server turns bytes into bytes through its HeldZones, and its Fault decides what becomes of them on the way out. What was asked
before, and could only be answered in the same way, is not worked out again: the tests and the demo ask the same over and over.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
import socket
import threading
from collections.abc import Iterable, Iterator
from enum import Enum
from typing import Any, Literal, NamedTuple

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.tsig
import dns.update
import dns.zone

from salt_mirror.standin.authority import HeldZones
from salt_mirror.standin.cache import Cache
from salt_mirror.standin.updating import updated

_MOST_KEPT = 50_000


class Fault(Enum):
    """How a server misbehaves."""

    NONE = "answers as it should"
    SILENT = "never answers"
    REFUSING = "answers REFUSED"
    FAILING = "answers SERVFAIL"
    GARBAGE = "answers with random bytes behind the right id"
    WRONG_ID = "answers with another id"
    CUT_SHORT = "says that every answer was truncated, over TCP too"
    STREAM_ALONE = "answers over TCP alone"
    DATAGRAMS_ALONE = "answers over UDP alone"


class _Plain(NamedTuple):
    """A query of one question, and of EDNS at the most: what a server says to it depends on nothing but its zones."""

    key: tuple[object, ...]
    wire: bytes
    end: int

    @property
    def owner(self) -> bytes:
        """The name, in small letters."""
        return self.wire[12 : self.end - 4].lower()

    @property
    def rdtype(self) -> int:
        """The type."""
        return int.from_bytes(self.wire[self.end - 4 : self.end - 2], "big")

    def is_settled_by(self, response: bytes | None) -> bool:
        """Return whether a response has nothing from beyond the name's own zone: no alias leads on from there."""
        if response is None:
            return False
        first = response[self.end : self.end + 4]
        return response[6:8] == b"\0\0" or first == b"\xc0\x0c" + self.wire[self.end - 4 : self.end - 2]

    @classmethod
    def of(cls, wire: bytes, *, stream: bool) -> _Plain | None:
        """Return the query in bytes, unless it is of another kind."""
        if len(wire) < 17 or wire[2] & 0x78 or wire[4:10] != b"\x00\x01\x00\x00\x00\x00" or wire[10:12] > b"\x00\x01":
            return None
        end = wire.find(b"\x00", 12) + 5  # a zero within a label ends it early: the key has the rest as it is
        edns = wire[end:]
        if wire[11] and (edns[:3] != b"\x00\x00\x29" or len(edns) != 11 + int.from_bytes(edns[9:11], "big")):
            return None
        # Of EDNS its size and flags count (RFC 6891 section 6.1.2); options, such as a cookie that is new in each run, do not.
        return cls((stream, wire[2:12], wire[12:end].lower(), edns[:9]), wire, end)

    def answered(self, response: bytes | None) -> bytes | None:
        """Return the response as it is sent for this very query: with its id, and its question letter for letter."""
        if response is None or response[12 : self.end].lower() != self.wire[12 : self.end].lower():
            return response if response is None else self.wire[:2] + response[2:]
        return self.wire[:2] + response[2:12] + self.wire[12 : self.end] + response[self.end :]


class StandIn:
    """One server: what it holds, where it listens, how it misbehaves. `asked` counts the queries that reached it.

    `keys` are the TSIG keys that it knows (dnspython's, by name); `transfers` whether it hands its zones over, signed or not;
    `loss` the share of datagrams that get lost on the way in, and again on the way out. `updates` says who may change its zones
    (RFC 2136), and `followers` are the servers that have a changed zone `follow_s` seconds later. `by_source` are other zones
    that it shows to whoever asks from an address. After `limits_after` datagrams it limits its rate as real ones do: of each
    two further ones the first is dropped, and the second answered with nothing but TC, so that whoever is real comes over TCP.
    Names in `others` belong to somebody else: a change of one is sent back as it came, as a failure, signature and all, which
    is what a directory server does.
    """

    def __init__(self, authority: HeldZones, host: str, port: int, cache: Cache | None = None) -> None:
        self.authority = authority
        self.cache = cache
        self.host = host
        self.port = port
        self.fault = Fault.NONE
        self.delay_s = 0.0
        self.loss = 0.0
        self.keys: dict[dns.name.Name, dns.tsig.Key] = {}
        self.transfers = False
        self.updates: Literal["nobody", "signed", "anyone"] = "nobody"
        self.followers: list[StandIn] = []
        self.follow_s = 0.0
        self.by_source: dict[str, HeldZones] = {}
        self.limits_after: int | None = None
        self.others: set[dns.name.Name] = set()
        self.asked = 0

    @property
    def endpoint(self) -> str:
        """`address:port`, an IPv6 address in brackets."""
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"

    def lost(self) -> bool:
        """Return whether the next datagram gets lost."""
        return self.loss > 0 and random.random() < self.loss

    def responses(self, wire: bytes, source: str = "") -> Iterator[bytes]:
        """Return the messages to send over TCP for a query's bytes: the parts of a transfer, or one response, or none."""
        try:
            query = self._read(wire)
            asked = query.question[0]
        except (dns.exception.DNSException, IndexError):
            asked = None
        if asked is not None and asked.rdtype == dns.rdatatype.AXFR and self.transfers and self.fault is Fault.NONE:
            self.asked += 1
            yield from self.by_source.get(source, self.authority).transfer(query)
            return
        response = self.respond(wire, stream=True, source=source)
        if response is not None:
            yield response

    def _read(self, wire: bytes) -> dns.message.Message:
        return dns.message.from_wire(wire, keyring=self.keys, ignore_trailing=True)

    def respond(self, wire: bytes, *, stream: bool, source: str = "") -> bytes | None:
        """Return the bytes to send for a query's bytes, or None for silence."""
        self.asked += 1
        if self.fault in (Fault.SILENT, Fault.DATAGRAMS_ALONE if stream else Fault.STREAM_ALONE):
            return None
        if self.fault is Fault.GARBAGE:
            return wire[:2] + os.urandom(40)
        if not stream and self.limits_after is not None and self.asked > self.limits_after:
            return None if (self.asked - self.limits_after) % 2 else _cut_short(self._read(wire))
        if source in self.by_source:
            return self._worked_out(wire, stream=stream, zones=self.by_source[source])
        if self.fault is Fault.NONE and self.cache is None:
            plain = _Plain.of(wire, stream=stream)
            if plain is not None:
                return plain.answered(self._answered_before(plain, stream=stream))
        return self._worked_out(wire, stream=stream)

    def _answered_before(self, plain: _Plain, *, stream: bool) -> bytes | None:
        """Return the response to a query, worked out only where nobody who holds the same has answered it."""
        of_zone, own = self.authority.answered_around(plain.owner, plain.rdtype), self.authority.answered
        for answered in (own, of_zone):
            if answered is not None and plain.key in answered:
                return answered[plain.key]
        response = self._worked_out(plain.wire, stream=stream)
        answered = of_zone if of_zone is not None and plain.is_settled_by(response) else own
        if len(answered) >= _MOST_KEPT:
            answered.clear()
        answered[plain.key] = response
        return response

    def _worked_out(self, wire: bytes, *, stream: bool, zones: HeldZones | None = None) -> bytes | None:
        try:
            query = self._read(wire)
        except (dns.message.UnknownTSIGKey, dns.tsig.BadSignature, dns.tsig.BadTime, dns.tsig.BadKey):
            return wire[:2] + bytes((0x80 | wire[2] & 0x78, 9)) + bytes(8)  # NOTAUTH, and no word more
        except dns.exception.DNSException:
            return None
        match self.fault:
            case Fault.REFUSING | Fault.FAILING:
                response = dns.message.make_response(query)
                response.set_rcode(dns.rcode.REFUSED if self.fault is Fault.REFUSING else dns.rcode.SERVFAIL)
                return response.to_wire()
            case Fault.CUT_SHORT:
                return _cut_short(query)
        if isinstance(query, dns.update.UpdateMessage) and any(rrset.name in self.others for rrset in query.update):
            return wire[:2] + bytes((0x80 | wire[2], wire[3] | dns.rcode.SERVFAIL)) + wire[4:]
        if isinstance(query, dns.update.UpdateMessage) and self.updates != "nobody":
            response = self._update(query)
        else:
            response = (zones or self.cache or self.authority).respond(query)
        if self.fault is Fault.WRONG_ID:
            response.id = (query.id + 1) & 0xFFFF
        try:
            return response.to_wire(max_size=65535 if stream else max(512, query.payload))
        except dns.exception.TooBig:
            return _cut_short(query)

    def _update(self, query: dns.update.UpdateMessage) -> dns.message.Message:
        """Carry out a change of a zone, and hand the zone to those that follow."""
        response = dns.message.make_response(query)
        zone = self.authority.zones.get(query.zone[0].name) if query.zone else None
        if zone is None:
            response.set_rcode(dns.rcode.NOTAUTH)
        elif self.updates == "signed" and not query.had_tsig:
            response.set_rcode(dns.rcode.REFUSED)
        else:
            rcode, after = updated(zone, query)
            response.set_rcode(rcode)
            if after is not None:
                self.authority.hold(after)
                self._hand_on(after)
        return response

    def _hand_on(self, zone: dns.zone.Zone) -> None:
        for follower in self.followers:
            if zone.origin in follower.authority.zones:
                if self.follow_s:
                    asyncio.get_running_loop().call_later(self.follow_s, follower.authority.hold, zone)
                else:
                    follower.authority.hold(zone)


def _cut_short(query: dns.message.Message) -> bytes:
    response = dns.message.make_response(query)
    response.flags |= dns.flags.TC | dns.flags.AA
    return response.to_wire()


class StandIns:
    """The stand-in servers of one process: a context that starts their loop, and stops it with all of them."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="stand-ins", daemon=True)
        self._closing: list[Any] = []

    def __enter__(self) -> StandIns:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        asyncio.run_coroutine_threadsafe(self._stop(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        self._loop.close()

    def add(
        self,
        zones: Iterable[dns.zone.Zone] = (),
        *,
        cache: Cache | None = None,
        recursive: bool = False,
        host: str = "127.0.0.1",
        port: int = 0,
    ) -> StandIn:
        """Start a server for some zones, or a cache. Port 0 takes a free one. Raises OSError when the port is taken."""
        standin = StandIn(HeldZones(zones, recursive=recursive), host, port, cache)
        asyncio.run_coroutine_threadsafe(self._listen(standin), self._loop).result(10)
        return standin

    async def _listen(self, standin: StandIn) -> None:
        wanted = standin.port
        for attempt in range(20):
            transport, _ = await self._loop.create_datagram_endpoint(
                lambda: _Datagrams(standin), local_addr=(standin.host, wanted)
            )
            sock = transport.get_extra_info("socket")
            with contextlib.suppress(OSError):
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
            standin.port = sock.getsockname()[1]
            try:
                server = await asyncio.start_server(
                    lambda reader, writer: _converse(standin, reader, writer), standin.host, standin.port
                )
            except OSError:
                transport.close()
                if wanted or attempt == 19:
                    raise
                continue
            self._closing += [transport, server]
            return

    async def _stop(self) -> None:
        for thing in self._closing:
            thing.close()
        others = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
        for task in others:
            task.cancel()
        await asyncio.gather(*others, return_exceptions=True)


class _Datagrams(asyncio.DatagramProtocol):
    def __init__(self, standin: StandIn) -> None:
        self._standin = standin
        self._transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: Any) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: Any) -> None:
        if self._standin.lost():
            return
        response = self._standin.respond(data, stream=False, source=addr[0])
        if response is None or self._standin.lost():
            return
        if self._standin.delay_s:
            asyncio.get_running_loop().call_later(self._standin.delay_s, self._send, response, addr)
        else:
            self._send(response, addr)

    def _send(self, response: bytes, addr: Any) -> None:
        if self._transport is not None and not self._transport.is_closing():
            self._transport.sendto(response, addr)


async def _converse(standin: StandIn, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    try:
        while True:
            size = int.from_bytes(await reader.readexactly(2), "big")
            query = await reader.readexactly(size)
            if standin.delay_s:
                await asyncio.sleep(standin.delay_s)
            for response in standin.responses(query, writer.get_extra_info("peername")[0]):
                writer.write(len(response).to_bytes(2, "big") + response)
                await writer.drain()
    except (asyncio.IncompleteReadError, asyncio.CancelledError, OSError):
        pass
    finally:
        writer.close()

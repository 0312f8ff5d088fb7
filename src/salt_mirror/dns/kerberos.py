"""Changes signed with the user's Kerberos ticket (GSS-TSIG, RFC 3645), for directories that take no others.

Strategy: a context is negotiated with the server by TKEY messages (RFC 2930, mode 3) and then signs like a key. The library
behind it is the extra `kerberos`: `gssapi`, or `pyspnego` where that is at hand, as on Windows. One directory server signs its
answers without the length of the request's MAC (against RFC 8945 section 5.3.1); that is accepted only where it is asked for.
"""

from __future__ import annotations

import time
import uuid
from typing import Any, Protocol

import dns.exception
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rdtypes.ANY.TKEY
import dns.rrset
import dns.tsig

from salt_mirror.dns.exchange import TcpExchange
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server
from salt_mirror.dns.tickets import ticket_trouble
from salt_mirror.dns.update import Signer, send, update_message

MOST_STEPS = 8
_LENGTH = 2


class NoTicket(OSError):
    """No context could be had with a server; the message says why, and what would help."""


class _Context(Protocol):
    """What a GSS library gives: tokens to be exchanged, then signatures."""

    complete: bool

    def step(self, token: bytes | None = None) -> bytes | None: ...
    def get_signature(self, data: bytes) -> bytes: ...
    def verify_signature(self, data: bytes, mic: bytes) -> Any: ...


class _Lenient:
    """A context that also takes signatures over data without the two bytes of the MAC's length before it."""

    def __init__(self, context: _Context) -> None:
        self._context = context
        self.short = False

    def get_signature(self, data: bytes) -> bytes:
        return self._context.get_signature(data)

    def verify_signature(self, data: bytes, mic: bytes) -> Any:
        try:
            return self._context.verify_signature(data, mic)
        except Exception:  # whatever the library raises for a signature that does not fit
            found = self._context.verify_signature(data[_LENGTH:], mic)
            self.short = True
            return found


def ticket_signer(server: Server, host: str, *, timeout_s: float, short_signature: bool = False) -> Signer:
    """Sign one message for a server, whose full name is `host`, by a context negotiated now. Raises NoTicket."""
    name = dns.name.from_text(str(uuid.uuid4()))
    context = _context_with(host)
    _negotiate(server, host, name, context, timeout_s)
    secret: Any = _Lenient(context) if short_signature else context
    return Signer(dns.tsig.Key(name, secret, "gss-tsig."))


def signs_short(server: Server, host: str, zone: Name, *, timeout_s: float) -> bool | None:
    """Return whether a server leaves the length out of its signatures, by its answer to a change of a zone that changes
    nothing; None where no such answer can be had."""
    name = dns.name.from_text(str(uuid.uuid4()))
    try:
        lenient = _Lenient(_context_with(host))
        _negotiate(server, host, name, lenient._context, timeout_s)
    except NoTicket:
        return None
    secret: Any = lenient
    signer = Signer(dns.tsig.Key(name, secret, "gss-tsig."))
    reply = send(server, update_message(zone, ()), signer, timeout_s=timeout_s)
    return lenient.short if reply.status == "NOERROR" and not reply.trouble else None


def _context_with(host: str) -> _Context:
    """Return a context with a DNS server, by the user's own ticket."""
    try:
        import gssapi
    except ImportError:
        return _spnego_context(host)
    try:
        service = gssapi.Name(f"DNS@{host}", gssapi.NameType.hostbased_service)
        flags = (gssapi.RequirementFlag.mutual_authentication, gssapi.RequirementFlag.integrity)
        return gssapi.SecurityContext(name=service, usage="initiate", flags=list(flags))  # type: ignore[no-any-return]
    except gssapi.exceptions.GSSError as error:
        why = ticket_trouble(str(error), f"DNS/{host}") or error
        raise NoTicket(None, f"no Kerberos context with {host}: {why}") from None


class _Spnego:
    """pyspnego's context in the shape of the other library's."""

    def __init__(self, context: Any) -> None:
        self._context = context

    @property
    def complete(self) -> bool:
        return bool(self._context.complete)

    def step(self, token: bytes | None = None) -> bytes | None:
        return self._context.step(token)  # type: ignore[no-any-return]

    def get_signature(self, data: bytes) -> bytes:
        return self._context.sign(data)  # type: ignore[no-any-return]

    def verify_signature(self, data: bytes, mic: bytes) -> Any:
        return self._context.verify(data, mic)


def _spnego_context(host: str) -> _Context:
    try:
        import spnego
    except ImportError:
        raise NoTicket(
            None, "changes by Kerberos need the extra kerberos: pip install 'salt-mirror[kerberos]'"
        ) from None
    wanted = spnego.ContextReq.mutual_auth | spnego.ContextReq.integrity
    return _Spnego(spnego.client(hostname=host, service="DNS", protocol="kerberos", context_req=wanted))  # type: ignore[return-value]


def _negotiate(server: Server, host: str, name: dns.name.Name, context: _Context, timeout_s: float) -> None:
    """Exchange tokens until both sides have the context."""
    token: bytes | None = None
    try:
        for _ in range(MOST_STEPS):
            out = context.step(token)
            if out:
                token = _exchanged(server, name, out, timeout_s)
            elif context.complete:
                return
            if context.complete and not token:
                return
    except NoTicket:
        raise
    except (OSError, dns.exception.DNSException) as error:
        why = getattr(error, "strerror", None) or error
        raise NoTicket(None, f"{server.label} could not be asked for a Kerberos context: {why}") from None
    except Exception as error:  # the libraries' own errors have no common base
        why = ticket_trouble(str(error), f"DNS/{host}") or f"{error}; is there a ticket?"
        raise NoTicket(None, f"no Kerberos context with {server.label}: {why}") from None
    if not context.complete:
        raise NoTicket(None, f"no Kerberos context with {server.label} after {MOST_STEPS} messages")


def _exchanged(server: Server, name: dns.name.Name, token: bytes, timeout_s: float) -> bytes:
    """Return the server's token for one of ours (TKEY over TCP, RFC 3645 section 3.1)."""
    now = int(time.time())
    rdata = dns.rdtypes.ANY.TKEY.TKEY(
        dns.rdataclass.ANY, dns.rdatatype.TKEY, dns.name.from_text("gss-tsig."), now, now + 3600, 3, 0, token
    )  # type: ignore[no-untyped-call]
    query = dns.message.make_query(name, dns.rdatatype.TKEY, dns.rdataclass.ANY)
    query.additional.append(dns.rrset.from_rdata(name, 0, rdata))
    wire = query.to_wire()
    with TcpExchange(server, timeout_s) as exchange:
        answer = exchange.answer(wire)
    # Its signature is by the context that this very answer completes: what counts is that the token does.
    response = dns.message.from_wire(_unsigned(answer))
    if response.id != query.id or response.rcode() != dns.rcode.NOERROR:
        raise NoTicket(None, f"{server.label} answered {dns.rcode.to_text(response.rcode())} to the negotiation")
    for rrset in response.answer:
        if rrset.rdtype == dns.rdatatype.TKEY:
            if rrset[0].error:
                raise NoTicket(None, f"{server.label} refuses the ticket (TKEY error {rrset[0].error})")
            return bytes(rrset[0].key)
    raise NoTicket(None, f"{server.label} answered the negotiation without a token")


def _unsigned(wire: bytes) -> bytes:
    """Return a message without the signature behind it, if there is one."""
    from salt_mirror.dns.wire import last_record, read_name

    at = last_record(wire)
    if at is None or wire[read_name(wire, at)[1] :][:2] != b"\x00\xfa":
        return wire
    count = int.from_bytes(wire[10:12], "big") - 1
    return wire[:10] + count.to_bytes(2, "big") + wire[12:at]

"""Signed questions and answers (TSIG, RFC 8945), through dnspython's keys and signatures.

Strategy: wire in, wire out. A signed answer is verified before anything in it is read, and then read by our own decoder
like any other; so a signature protects exactly the bytes that are judged.
"""

from __future__ import annotations

import struct
import time
from typing import Any

import dns.exception
import dns.message
import dns.name
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.tsig

from salt_mirror.dns.questions import ALGORITHMS, Key
from salt_mirror.dns.wire import MalformedMessage, last_record, read_name

_TSIG = b"\x00\xfa"

_ALGORITHMS = {name: dns.tsig.HMAC_MD5 if name == "hmac-md5" else dns.name.from_text(name) for name in ALGORITHMS}


class BadSignature(ValueError):
    """An answer that is not signed, or not as the key says."""


class SentBack(BadSignature):
    """An answer that carries the signature of our own question: one directory server sends what it refuses back like that."""


def _key(key: Key | dns.tsig.Key) -> dns.tsig.Key:
    if isinstance(key, dns.tsig.Key):
        return key
    return dns.tsig.Key(dns.name.from_wire(key.name, 0)[0], key.secret, _ALGORITHMS[key.algorithm])


def sign(wire: bytes, key: Key | dns.tsig.Key) -> tuple[bytes, bytes]:
    """Return a question with its signature added, and the signature's MAC, on which the answer's builds. A key of dnspython's
    may have a GSS context as its secret."""
    message = dns.message.from_wire(wire)
    message.use_tsig(_key(key))
    signed = message.to_wire()
    return signed, message.mac or b""


class Verifier:
    """Verifies the answer to a signed question, or the many messages of one (RFC 8945 section 5.3.1)."""

    def __init__(self, key: Key | dns.tsig.Key, mac: bytes, *, several: bool = False) -> None:
        self._key = _key(key)
        self._mac = mac
        self._several = several
        self._context: Any = None
        self._unsigned = 0

    def verify(self, wire: bytes) -> None:
        """Raise BadSignature for a message that is not signed by the key; of several, up to 99 in a row may be unsigned."""
        try:
            at = last_record(wire)
            owner, rdata_at = read_name(wire, at) if at is not None else (b"", 0)
            if at is None or wire[rdata_at : rdata_at + 2] != _TSIG:
                self._take_unsigned(wire)
                return
            rdata = dns.rdata.from_wire(
                dns.rdataclass.ANY, dns.rdatatype.TSIG, wire, rdata_at + 10, len(wire) - rdata_at - 10
            )
            name = dns.name.from_wire(owner, 0)[0]
            # Some servers send a signed update that they refuse back, signature and all: it verifies, and proves nothing.
            if not self._several and getattr(rdata, "mac", None) == self._mac:
                raise SentBack("it carries the signature of the question")
            now = int(time.time())
            self._context = dns.tsig.validate(
                wire, self._key, name, rdata, now, self._mac, at, self._context, self._several
            )  # type: ignore[no-untyped-call]
        except BadSignature:
            raise
        except (dns.exception.DNSException, MalformedMessage, ValueError, IndexError, struct.error) as error:
            raise BadSignature(str(error) or type(error).__name__) from None
        self._unsigned = 0

    def _take_unsigned(self, wire: bytes) -> None:
        self._unsigned += 1
        if not self._several or self._context is None or self._unsigned > 99:
            raise BadSignature("the answer is not signed")
        self._context.update(wire)

    def finish(self) -> None:
        """Raise BadSignature unless the last message was signed, as it must be."""
        if self._unsigned:
            raise BadSignature("the last message is not signed")


def believable(message: bytes, rcode: int, key: Key, mac: bytes) -> bool:
    """Return whether the answer to a signed question may be believed: signed as it must be, or an error that proves nothing.

    A server that does not accept the key cannot sign its refusal (RFC 8945 section 5.3.2); all that this can do is to leave
    the question unverified.
    """
    try:
        Verifier(key, mac).verify(message)
    except BadSignature:
        # NOERROR and NXDOMAIN would be believed as data, so that those have to be signed.
        return rcode not in (0, 3)
    return True

"""Dynamic updates (RFC 2136): a zone's sets changed in one message, and only if they still are what they were taken for.

Strategy: sets in, messages out, one answer back over TCP. Each set comes with what it was and what it is to be; prerequisites
hold the server to the first (section 2.4), so that what somebody changed meanwhile is told and left alone. Messages are
dnspython's, signatures TSIG's, or GSS-TSIG's from a context of the caller's.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import dns.exception
import dns.name
import dns.rcode
import dns.rdata
import dns.rdataclass
import dns.rdataset
import dns.rdatatype
import dns.tsig
import dns.update

from salt_mirror.dns.edits import Reply, SetEdit
from salt_mirror.dns.exchange import TcpExchange
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Key, Server, refused_key
from salt_mirror.dns.records import NAME_ALONE
from salt_mirror.dns.tsig import BadSignature, SentBack, Verifier, sign
from salt_mirror.dns.wire import rcode_text

MOST_BYTES = 16_384
"""A message is not made longer than this but for a single name's sets."""


class Signer:
    """Signs one message and checks the signature of its answer, with a key (TSIG, RFC 8945) or a GSS context (RFC 3645)."""

    def __init__(self, key: Key | dns.tsig.Key) -> None:
        self._key = key
        self._verifier: Verifier | None = None

    def sign(self, wire: bytes) -> bytes:
        """Return the message, signed."""
        signed, mac = sign(wire, self._key)
        self._verifier = Verifier(self._key, mac)
        return signed

    def verify(self, wire: bytes) -> None:
        """Raise BadSignature for an answer that is not signed as it has to be."""
        assert self._verifier is not None
        self._verifier.verify(wire)


def update_message(zone: Name, edits: Iterable[SetEdit]) -> dns.update.UpdateMessage:
    """Return one message that changes some sets of a zone, if each is what it was before (RFC 2136 sections 2.4 and 2.5)."""
    wanted = list(edits)
    message = _if_as_before(zone, wanted)
    # Servers carry out the parts in their order (RFC 2136 section 3.4.2): an alias has to go before addresses come to its name.
    for edit in wanted:
        gone = edit.before - edit.after
        if edit.before and (not edit.after or edit.ttl_before != edit.ttl_after):
            message.delete(_name(edit.name), dns.rdatatype.RdataType.make(edit.rdtype))
        elif gone:
            message.delete(_name(edit.name), rdataset_of(edit.rdtype, gone, 0))
    for edit in wanted:
        add = edit.after if edit.ttl_before != edit.ttl_after else edit.after - edit.before
        if add:
            message.add(_name(edit.name), rdataset_of(edit.rdtype, add, edit.ttl_after or 0))
    return message


def trial_message(zone: Name, edits: Iterable[SetEdit]) -> dns.update.UpdateMessage:
    """Return the same message with changes that change nothing: for each set the deletion of a value that is not in it (RFC
    2136 section 3.4.2.4). Key, policy, clock and drift show as they would; a server judges each name and type as for the real
    one."""
    wanted = list(edits)
    message = _if_as_before(zone, wanted)
    for edit in wanted:
        absent = edit.after - edit.before or {_no_value(edit, zone)}
        message.delete(_name(edit.name), rdataset_of(edit.rdtype, absent, 0))
    return message


def _no_value(edit: SetEdit, zone: Name) -> bytes:
    """Return a value of a type that a set does not have."""
    host = b"\x10no-such-host-yet" + zone
    made = {
        1: b"\x00\x00\x00\x01",
        28: bytes(15) + b"\x01",
        15: b"\xff\xff" + host,
        33: b"\xff\xff\xff\xff\xff\xff" + host,
    }
    return made.get(edit.rdtype, host if edit.rdtype in NAME_ALONE else b"\x0dno such value")


def _if_as_before(zone: Name, wanted: Sequence[SetEdit]) -> dns.update.UpdateMessage:
    """Return an empty change of a zone that is carried out only if each set is what it was before (RFC 2136 section 2.4)."""
    message = dns.update.UpdateMessage(dns.name.from_wire(zone, 0)[0])
    unnamed = {edit.name for edit in wanted} - {edit.name for edit in wanted if edit.named}
    for name in sorted(unnamed):
        message.absent(_name(name))
    for edit in wanted:
        if edit.before:
            message.present(_name(edit.name), rdataset_of(edit.rdtype, edit.before, 0))
        elif edit.name not in unnamed:
            message.absent(_name(edit.name), dns.rdatatype.RdataType.make(edit.rdtype))
    return message


def in_messages(zone: Name, edits: Iterable[SetEdit]) -> Iterator[list[SetEdit]]:
    """Return the edits of a zone, as many in one message as fit; the sets of one name are never parted."""
    by_name: dict[Name, list[SetEdit]] = {}
    for edit in edits:
        by_name.setdefault(edit.name, []).append(edit)
    batch: list[SetEdit] = []
    size = 0
    for name, of_name in by_name.items():
        # Twice, since each value may be in the prerequisites and in the changes; names are counted as if none were compressed.
        more = sum((len(name) + 12 + len(value)) * 2 for edit in of_name for value in (*edit.before, *edit.after))
        if batch and size + more > MOST_BYTES:
            yield batch
            batch, size = [], 0
        batch += of_name
        size += more
    if batch:
        yield batch


def send(server: Server, message: dns.update.UpdateMessage, signer: Signer | None, *, timeout_s: float = 5.0) -> Reply:
    """Send a message over TCP, and read the answer, all within `timeout_s`. Never raises for what a peer does."""
    try:
        wire = message.to_wire(max_size=65_535)
    except dns.exception.DNSException as error:
        return Reply(trouble=f"the message cannot be written: {error}")
    if signer is not None:
        wire = signer.sign(wire)
    with TcpExchange(server, timeout_s) as exchange:
        try:
            answer = exchange.answer(wire)
        except TimeoutError:
            return Reply(trouble="no answer in time", unknown=exchange.sent)
        except OSError as error:
            return Reply(trouble=f"the connection failed ({error.strerror or error})", unknown=exchange.sent)
    return _judged(answer, wire, signer)


def _judged(answer: bytes, wire: bytes, signer: Signer | None) -> Reply:
    if len(answer) < 12 or answer[:2] != wire[:2] or not answer[2] & 0x80 or answer[2] & 0x78 != 5 << 3:
        return Reply(trouble="an answer that does not belong to the change", unknown=True)
    rcode = answer[3] & 15
    if signer is not None:
        # An unsigned word that it was not done may be anybody's, and so may one that it was. A server that does not know the
        # key cannot sign that (RFC 8945 section 5.3.2): what became of the change is looked at in any case.
        refused = refused_key(answer, rcode)
        if refused is not None:
            return Reply(refused, unknown=True)
        try:
            signer.verify(answer)
        except SentBack as error:
            return Reply(rcode_text(rcode), f"its answer is not signed ({error})", unknown=True, sent_back=True)
        except BadSignature as error:
            return Reply(rcode_text(rcode), f"its answer is not signed with the key ({error})", unknown=True)
    return Reply(rcode_text(rcode))


def _name(name: Name) -> dns.name.Name:
    return dns.name.from_wire(name, 0)[0]


def rdataset_of(rdtype: int, values: Iterable[bytes], ttl: int) -> dns.rdataset.Rdataset:
    """Values as a set of dnspython's; the TTL in seconds."""
    kind = dns.rdatatype.RdataType.make(rdtype)
    found = dns.rdataset.Rdataset(dns.rdataclass.IN, kind, ttl=ttl)
    for value in sorted(values):
        found.add(dns.rdata.from_wire(dns.rdataclass.IN, kind, value, 0, len(value)), ttl)
    return found

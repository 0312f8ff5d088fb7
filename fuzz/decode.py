"""A fuzz target for everything that reads bytes from the network: python fuzz/decode.py -max_total_time=600

Wants atheris (pip install atheris). The decoders may refuse a message with their one error class, and do nothing else: no other
exception, no hang, no memory beyond a small multiple of the message. What two readers both accept they must read alike.
"""

from __future__ import annotations

import sys
from contextlib import suppress

import atheris

with atheris.instrument_imports():
    from salt_mirror.checks.common.trust import entrance, examine
    from salt_mirror.dns import names, replies, transfer, wire
    from salt_mirror.dns.dnssec.keys import ds_in, keys_in
    from salt_mirror.dns.questions import Answer, Question, Server
    from salt_mirror.dns.records import DNSKEY, DS, rdata_text

ZONE = names.from_text("pans.example")
ASKED = names.from_text("h1.pans.example") + wire.question_tail(1)
READER = replies.Reader()
SERVER = Server("peer", bytes(4))
HEAD = b"\x12\x34\x84\x00\x00\x01\x00\x01\x00\x01\x00\x01" + ASKED


def one_input(noise: bytes) -> None:
    """Reads the noise as it is, and as the rest of a response to our own question."""
    for message in (noise, HEAD + noise, HEAD[:6] + noise[:6] + HEAD[12:] + noise[6:]):
        reply = sections = None
        with suppress(wire.MalformedMessage):
            reply = READER.read(message, message[:2], ASKED)
        with suppress(wire.MalformedMessage):
            sections = wire.read_sections(message)
        try:
            records = transfer.read_transfer_records(message, ZONE)
        except wire.MalformedMessage:
            records = []
        assert all(names.is_within(record.owner, ZONE) for record in records)
        if sections is not None:
            for record in (*sections.answer, *sections.authority, *sections.additional):
                assert rdata_text(record.rdtype, record.rdata).isascii()
                assert names.from_text(names.to_text(record.owner)) == record.owner
        if reply is not None and sections is not None and not reply[2]:
            told = {r.rdata for r in sections.answer if r.owner + wire.question_tail(r.rdtype) == ASKED.lower()}
            assert set(reply[3]) == told
        if reply is not None and reply[6]:
            wire.cookie_in(reply[6])
        if sections is not None:
            judged(message, sections)


def judged(message: bytes, sections: wire.Sections) -> None:
    """Judge a message as a validator does, by whatever keys and DS records are in it."""
    records = (*sections.answer, *sections.authority)
    keys = tuple(record.rdata for record in records if record.rdtype == DNSKEY)
    ds = ds_in(tuple(record.rdata for record in records if record.rdtype == DS))
    for record in records[:4]:
        question = Question(record.owner, record.rdtype, SERVER)
        answer = Answer(question, "NOERROR", True, (record.rdata,), 60, None, message)
        examine(answer, ZONE, keys_in(keys), 1_800_000_000)
        examine(answer._replace(status="NXDOMAIN", values=()), ZONE, keys_in(keys), 1_800_000_000)
        entrance(ZONE, ds, answer._replace(values=keys), 1_800_000_000)


if __name__ == "__main__":
    atheris.Setup(sys.argv, one_input)
    atheris.Fuzz()

"""A fuzz target for everything that reads bytes from the network: python fuzz/decode.py -max_total_time=600

Wants atheris (pip install atheris). The decoders may refuse a message with their one error class, and do nothing else: no other
exception, no hang, no memory beyond a small multiple of the message. What two readers both accept they must read alike.
"""

from __future__ import annotations

import sys
from contextlib import suppress

import atheris

with atheris.instrument_imports():
    from salt_mirror.dns import names, replies, transfer, wire
    from salt_mirror.dns.records import rdata_text

ZONE = names.from_text("pans.example")
ASKED = names.from_text("h1.pans.example") + wire.question_tail(1)
READER = replies.Reader()
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


if __name__ == "__main__":
    atheris.Setup(sys.argv, one_input)
    atheris.Fuzz()

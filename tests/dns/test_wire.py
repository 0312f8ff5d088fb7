"""The wire format against dnspython's, and against bytes that nobody should send."""

from __future__ import annotations

import contextlib

import dns.edns
import dns.flags
import dns.message
import dns.rcode
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns import wire
from salt_mirror.dns.extended import NAMES, extended_errors
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import (
    AAAA,
    MX,
    PTR,
    SOA,
    SRV,
    TXT,
    A,
    BadRecord,
    rdata_from_text,
    rdata_text,
    type_from_text,
    type_text,
)
from salt_mirror.dns.replies import Reader
from salt_mirror.dns.wire import MalformedMessage, encode_question, question_tail, read_sections
from support.examples import examples

NAME = from_text("kiln-02.pans.gullmarsh.internal")
ASKED = NAME + question_tail(A)


def response(*lines: str, rdtype: str = "A", flags: int = dns.flags.AA, authority: tuple[str, ...] = ()) -> bytes:
    """A response by dnspython to our own question, with records as master-file lines."""
    query = dns.message.from_wire(encode_question(b"\x12\x34", NAME, type_from_text(rdtype)))
    message = dns.message.make_response(query)
    message.flags |= flags
    for section, texts in ((message.answer, lines), (message.authority, authority)):
        for line in texts:
            owner, ttl, kind, value = line.split(None, 3)
            section.append(dns.rrset.from_text(owner, int(ttl), "IN", kind, value))
    return message.to_wire()


def test_a_question_is_what_dnspython_reads_in_it() -> None:
    query = dns.message.from_wire(encode_question(b"\xab\xcd", NAME, AAAA))
    assert (query.id, query.edns, query.payload) == (0xABCD, 0, 1232)
    assert query.question[0].to_text() == "kiln-02.pans.gullmarsh.internal. IN AAAA"
    assert not query.flags & dns.flags.RD
    plain = dns.message.from_wire(encode_question(b"\xab\xcd", NAME, A, recurse=True, opt=b""))
    assert plain.edns == -1
    assert plain.flags & dns.flags.RD


def test_values_come_out_canonical_and_sorted_with_the_smallest_ttl() -> None:
    owner = "kiln-02.pans.gullmarsh.internal."
    reply = Reader().read(response(f"{owner} 60 A 10.77.20.12", f"{owner} 50 A 10.77.20.2"), b"\x12\x34", ASKED)
    assert reply == (0, True, False, (bytes([10, 77, 20, 2]), bytes([10, 77, 20, 12])), 50, None, b"")


def test_an_alias_is_told_and_the_targets_records_are_not_taken_for_the_names_own() -> None:
    alias = response(
        "kiln-02.pans.gullmarsh.internal. 60 CNAME Oven.Gullmarsh.Internal.", "oven.gullmarsh.internal. 60 A 10.77.20.2"
    )
    reply = Reader().read(alias, b"\x12\x34", ASKED)
    assert reply[3:6] == ((), 60, from_text("oven.gullmarsh.internal"))


@pytest.mark.parametrize(
    ("damage", "reason"),
    [
        (lambda m: b"\x00\x00" + m[2:], "id is not"),
        (lambda m: m[:2] + b"\x04\x00" + m[4:], "not a response"),
        (lambda m: m[:13] + b"X" + m[14:], "another question"),
        (lambda m: m[:11], "11 bytes"),
        (lambda m: m[:-2], "breaks off|run over"),
        (lambda m: m + b"\x00", "left over"),
        (lambda m: m[:4] + b"\x00\x00" + m[6:], "0 questions"),
    ],
)
def test_a_damaged_response_is_refused(damage: object, reason: str) -> None:
    message = response("kiln-02.pans.gullmarsh.internal. 60 A 10.77.20.12")
    with pytest.raises(MalformedMessage, match=reason):
        Reader().read(damage(message), b"\x12\x34", ASKED)  # type: ignore[operator]


def test_compression_pointers_that_loop_or_lead_forward_are_refused() -> None:
    head = b"\x12\x34\x84\x00\x00\x01\x00\x01\x00\x00\x00\x00" + ASKED
    for pointer in (len(head), len(head) + 2, 0):
        message = (
            head + (0xC000 | pointer).to_bytes(2, "big") + b"\x00\x01\x00\x01\x00\x00\x00\x00\x00\x04\x0a\x4d\x14\x02"
        )
        with pytest.raises(MalformedMessage):
            Reader().read(message, b"\x12\x34", ASKED)
        with pytest.raises(MalformedMessage):
            read_sections(message)


RDATA = [
    (A, "10.77.20.2"),
    (AAAA, "2001:db8:77:20::12"),
    (PTR, "kiln-02.pans.gullmarsh.internal."),
    (MX, "10 mail.gullmarsh.example."),
    (SRV, "0 100 389 dc-north.pans.gullmarsh.internal."),
    (SOA, "ns1.gullmarsh.example. host\\.master.gullmarsh.example. 4294967295 7200 1800 1209600 3600"),
    (TXT, '"v=spf1 -all" "quo\\"te" "\\200"'),
    (type_from_text("NAPTR"), '100 10 "u" "sip+E2U" "!^.*$!sip:a@b!" .'),
    (type_from_text("CAA"), '0 issue "ca.example"'),
    (type_from_text("DS"), "12345 13 2 " + "ab" * 32),
    (65280, "\\# 3 abcdef"),
]


@pytest.mark.parametrize(("rdtype", "text"), RDATA)
def test_rdata_survives_text_and_wire_in_a_whole_message(rdtype: int, text: str) -> None:
    rdata = rdata_from_text(rdtype, text)
    assert rdata_text(rdtype, rdata) == text
    kind = type_text(rdtype)
    message = response(
        f"kiln-02.pans.gullmarsh.internal. 60 {kind} {text.upper() if rdtype == MX else text}", rdtype=kind
    )
    reply = Reader().read(message, b"\x12\x34", NAME + question_tail(rdtype))
    assert reply[3] == (rdata,)
    (record,) = read_sections(message).answer
    assert (to_text(record.owner), record.rdata) == ("kiln-02.pans.gullmarsh.internal.", rdata)


@pytest.mark.parametrize(
    ("rdtype", "text"), [(A, "10.77.20"), (AAAA, "10.77.20.2"), (MX, "mail"), (SRV, "1 2 x y"), (99, '"')]
)
def test_text_that_is_no_rdata_is_refused(rdtype: int, text: str) -> None:
    with pytest.raises(BadRecord, match="no value for"):
        rdata_from_text(rdtype, text)


SAMPLES = [
    response("kiln-02.pans.gullmarsh.internal. 60 A 10.77.20.12"),
    response(
        "kiln-02.pans.gullmarsh.internal. 60 CNAME oven.gullmarsh.internal.", "oven.gullmarsh.internal. 6 A 10.0.0.1"
    ),
    response(authority=("gullmarsh.internal. 60 SOA ns1.gullmarsh.internal. h.gullmarsh.internal. 1 2 3 4 5",)),
]


def _reads_or_refuses(message: bytes) -> None:
    for reader in (lambda: Reader().read(message, message[:2], ASKED), lambda: read_sections(message)):
        with contextlib.suppress(MalformedMessage):
            reader()


@given(st.binary(max_size=200))
def test_arbitrary_bytes_are_decoded_or_refused(noise: bytes) -> None:
    _reads_or_refuses(noise)
    _reads_or_refuses(b"\x12\x34\x84\x00\x00\x01\x00\x02\x00\x01\x00\x01" + ASKED + noise)


@examples(400)
@given(st.sampled_from(SAMPLES), st.data())
def test_mutated_responses_are_decoded_or_refused(message: bytes, data: st.DataObject) -> None:
    changed = bytearray(message)
    for _ in range(data.draw(st.integers(1, 4))):
        changed[data.draw(st.integers(0, len(changed) - 1))] = data.draw(st.integers(0, 255))
    _reads_or_refuses(bytes(changed[: data.draw(st.integers(0, len(changed)))]))
    _reads_or_refuses(bytes(changed))


@given(code=st.integers(0, 0xFFFF), text=st.text(max_size=40), noise=st.data())
@examples(200)
def test_extended_errors_are_read_as_dnspython_writes_them_and_print_nothing_of_their_own(
    code: int, text: str, noise: st.DataObject
) -> None:
    answer = dns.message.make_response(dns.message.make_query("kiln-02.pans.gullmarsh.internal", "A"))
    encoded = text.encode("utf-8", "replace").decode("utf-8")
    cookie = dns.edns.GenericOption(dns.edns.OptionType.COOKIE, b"12345678")
    answer.use_edns(0, options=[dns.edns.EDEOption(dns.edns.EDECode.make(code), encoded), cookie])
    message = answer.to_wire()
    (read,) = extended_errors(message)
    assert read.code == code and read.said.isprintable()
    assert read.name == (NAMES[code] if code < len(NAMES) else f"extended error {code}")
    if encoded.isprintable():
        assert read.text == encoded
    at = noise.draw(st.integers(0, len(message) - 1))
    damaged = message[:at] + noise.draw(st.binary(max_size=3)) + message[at + 1 :]
    assert all(one.said.isprintable() for one in extended_errors(damaged))


def test_a_message_that_claims_more_records_than_fit_is_refused_at_once() -> None:
    message = b"\x12\x34\x84\x00\x00\x01\xff\xff\xff\xff\xff\xff" + ASKED
    with pytest.raises(MalformedMessage, match="claimed"):
        Reader().read(message, b"\x12\x34", ASKED)
    assert wire.MAX_RECORDS < 3 * 0xFFFF


WHOLE = {
    "one A": (response(f"{to_text(NAME)} 300 A 10.77.20.12"), A),
    "several A": (response(*(f"{to_text(NAME)} 300 A 10.77.20.{n}" for n in (12, 13))), A),
    "AAAA": (response(f"{to_text(NAME)} 300 AAAA 2001:db8::1", rdtype="AAAA"), AAAA),
    "PTR": (response(f"{to_text(NAME)} 300 PTR kiln-02.pans.gullmarsh.internal.", rdtype="PTR"), PTR),
    "MX": (response(f"{to_text(NAME)} 300 MX 10 mail.gullmarsh.example.", rdtype="MX"), MX),
    "alias": (response(f"{to_text(NAME)} 300 CNAME web.gullmarsh.example."), A),
    "denial": (response(authority=("internal. 60 SOA ns. h. 1 2 3 4 5",)), A),
    "nothing": (response(), A),
}


def without_opt(message: bytes) -> bytes:
    """The same from a server that knows no EDNS."""
    read = dns.message.from_wire(message)
    read.use_edns(False)
    return read.to_wire()


def outcome_of(reader: Reader, message: bytes, rdtype: int) -> object:
    """What a reader makes of a message: by what it has seen, where that is enough, else by reading it whole."""
    question = Question(NAME, rdtype, Server("a", b"\x7f\0\0\1"))
    asked = NAME + question_tail(rdtype)
    try:
        answer = reader.ordinary(message, asked, question, 1.5)
        if answer is not None:
            rcode = {"NOERROR": 0, "NXDOMAIN": 3}[answer.status]
            assert answer[6:] == (message, 1.5, 1, "udp") and answer.question is question
            return rcode, answer.authoritative, False, answer.values, answer.ttl, answer.alias, b""
        return reader.read(message, message[:2], asked)
    except MalformedMessage:
        return "malformed"


@pytest.mark.parametrize("plain", [False, True])
def test_a_message_cut_at_any_offset_is_read_alike_by_a_fresh_reader_and_by_one_that_has_seen_it_whole(
    plain: bool,
) -> None:
    samples = {key: (without_opt(wire) if plain else wire, rdtype) for key, (wire, rdtype) in WHOLE.items()}
    warm = Reader()
    for message, rdtype in samples.values():
        assert outcome_of(warm, message, rdtype) != "malformed"
    for key, (message, rdtype) in samples.items():
        for end in range(len(message)):
            cut = outcome_of(Reader(), message[:end], rdtype)
            assert cut == "malformed", (key, end)
            assert outcome_of(warm, message[:end], rdtype) == cut, (key, end)


def test_a_message_with_any_byte_changed_is_read_alike_by_a_fresh_reader_and_by_one_that_has_seen_it() -> None:
    for key, (message, rdtype) in WHOLE.items():
        for at in range(2, len(message)):
            for other in (0, 1, 4, 0x80, 0xC0, 0xFF, message[at] ^ 1, message[at] ^ 0x20):
                warm = Reader()
                outcome_of(warm, message, rdtype)
                changed = message[:at] + bytes((other,)) + message[at + 1 :]
                assert outcome_of(warm, changed, rdtype) == outcome_of(Reader(), changed, rdtype), (key, at, other)


def test_a_name_that_ends_with_the_message_is_malformed_to_a_reader_that_knows_the_shape() -> None:
    whole = response(f"{to_text(NAME)} 300 PTR quay.salt.invalid.", rdtype="PTR")
    start = whole.index(from_text("quay.salt.invalid"))
    far = len(whole) - start - 1  # one label from the start of the value to the last byte
    warm = Reader()
    outcome_of(warm, whole, PTR)
    bad = whole[:start] + bytes((far,)) + whole[start + 1 :]
    assert far < 64 and outcome_of(warm, bad, PTR) == outcome_of(Reader(), bad, PTR) == "malformed"


def test_what_was_seen_before_is_not_read_again() -> None:
    question = Question(NAME, A, Server("a", b"\x7f\0\0\1"))
    asked = NAME + question_tail(A)
    for key, there in (("one A", True), ("nothing", True), ("denial", True), ("several A", False), ("alias", False)):
        warm, (message, _) = Reader(), WHOLE[key]
        assert warm.ordinary(message, asked, question, 1.0) is None
        warm.read(message, message[:2], asked)
        assert (warm.ordinary(b"\xff\xff" + message[2:], asked, question, 1.0) is not None) == there, key
        assert warm.ordinary(without_opt(message), asked, question, 1.0) is None

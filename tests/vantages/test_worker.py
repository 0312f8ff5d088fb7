"""What a vantage lets itself be asked, and what travels: tried without a broker."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import count
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Key, Question, Server
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.standin.server import Fault, StandIn, StandIns
from salt_mirror.vantages import worker as worker_module
from salt_mirror.vantages.allowed import WorkerRules, networks_of
from salt_mirror.vantages.protocol import (
    MOST_BYTES,
    MOST_ERRANDS,
    MOST_QUESTIONS,
    Absence,
    AnswerColumns,
    Batch,
    BatchAnswers,
    Envelope,
    Facts,
    Greeting,
    Reply,
    ServerAddress,
    Unreadable,
    answers_of,
    batch_of,
    check_columns,
    columns_of,
    envelope_in,
    errand_in,
    halves,
    packed,
    picked,
    place_of,
    presence_in,
    reply_in,
)
from salt_mirror.vantages.worker import (
    FULL,
    GREETINGS_A_SECOND,
    MOST_IN_HAND,
    DeskSession,
    Refused,
    Worker,
)
from support.waiting import until

LOOPBACK = bytes((127, 0, 0, 1))
NAME = from_text("kiln-02.pans.gullmarsh.internal")
DESK = DeskSession("desk", "s")
HERE = WorkerRules(networks_of(["127.0.0.1"]))
_numbers = count(1)


# What travels

one_answer = st.tuples(
    st.sampled_from(["NOERROR", "NXDOMAIN", "timeout", "vantage: not asked"]),
    st.booleans(),
    st.lists(st.binary(min_size=1, max_size=20), max_size=3).map(tuple),
    st.none() | st.integers(0, 2**31 - 1),
    st.sampled_from([None, NAME]),
    st.binary(max_size=40),
    st.none() | st.floats(0, 1e4),
    st.integers(0, 5),
    st.sampled_from(["udp", "tcp"]),
)


@given(st.lists(one_answer, min_size=1, max_size=8))
def test_answers_come_back_as_they_were_whole_halved_and_picked(found: list[tuple[Any, ...]]) -> None:
    server = Server("a", LOOPBACK)
    answers = [Answer(Question(NAME, 65_280 + at, server), *row) for at, row in enumerate(found)]
    reply = BatchAnswers(1.5, [columns_of(7, range(3, 3 + len(answers)), answers)])
    read = reply_in(packed(reply))
    assert isinstance(read, BatchAnswers) and read.clock == 1.5
    pieces = [read]
    while any(len(part.places) > 1 for piece in pieces for part in piece.parts):
        pieces = [half for piece in pieces for half in (halves(piece) or [piece])]
    for split in ([read], pieces):
        back: dict[int, Answer] = {}
        for part in (part for piece in split for part in piece.parts):
            check_columns(part)
            back |= zip(part.places, answers_of(part, [answers[at - 3].question for at in part.places]), strict=True)
        assert [back[at] for at in sorted(back)] == answers
    odd = picked(read.parts[0], [at % 2 == 1 for at in range(len(answers))])
    assert answers_of(odd, [answer.question for answer in answers[1::2]]) == answers[1::2]
    assert halves(BatchAnswers(1.0, [columns_of(7, [0], answers[:1])])) == []


@given(st.binary(max_size=200))
def test_what_is_no_message_is_turned_away(payload: bytes) -> None:
    for read in (envelope_in, errand_in, reply_in, presence_in):
        try:
            read(payload)
        except Unreadable:
            continue


def test_what_is_too_long_or_in_another_format_is_not_read() -> None:
    envelope = Envelope(1, b"x", bytes(64), b"")
    assert envelope_in(packed(envelope)) == envelope
    for wrong in (
        packed(envelope) + bytes(MOST_BYTES), msgspec.msgpack.encode([2, b"x", bytes(64), b""]),
        msgspec.msgpack.encode([1, b"x", bytes(63), b""]), msgspec.msgpack.encode([1, b"x", bytes(64), bytes(5000)]),
    ):  # fmt: skip
        with pytest.raises(Unreadable):
            envelope_in(wrong)


def test_a_batch_names_each_server_once_and_never_a_secret() -> None:
    key = Key(from_text("mirror"), "hmac-sha256", b"the secret itself")
    servers = [Server("a", LOOPBACK, 5301, key=key), Server("b", LOOPBACK, 5302, unchecked=True, signed=True)]
    questions = [Question(NAME, rdtype, server) for rdtype in (1, 28) for server in servers]
    batch, asked = batch_of(1, "s", questions, until=5)
    raw = packed(batch)
    read = errand_in(raw)
    assert isinstance(read, Batch) and read == batch
    assert [(place.port, place.key, place.unchecked, place.signed) for place in batch.places] == [
        (5301, "mirror.", False, False), (5302, "", True, True),
    ]  # fmt: skip
    assert set(asked) == set(questions) and b"the secret itself" not in raw
    assert [(rdtype, place) for rdtype, place, _, names in batch.groups for _ in names] == [
        (question.rdtype, servers.index(question.server)) for question in asked
    ]


GOOD = AnswerColumns(7, [0], "NOERROR", True, [(b"abcd",)], 60, None, [b""], [1.0], 1, "udp")


@pytest.mark.parametrize(
    ("field", "wrong"),
    [
        ("ttl", -1), ("ttl", 2**31), ("ttl", [2**40]), ("rtt_ms", [-0.5]), ("rtt_ms", [1e300]), ("rtt_ms", [float("nan")]),
        ("values", ["no bytes"]), ("places", ["first"]), ("places", [MOST_QUESTIONS]), ("places", [-1]), ("places", [0, 1]),
        ("message", []), ("status", "vantage: \x1b[2Jgone"), ("status", ["NO\u202eERROR"]), ("over", "pigeon"),
        ("alias", b"\x07kiln"), ("alias", [b"\xff"]), ("tries", [1, 1]),
    ],
)  # fmt: skip
def test_what_no_answer_can_have_is_not_read(field: str, wrong: Any) -> None:
    row = {name: getattr(GOOD, name) for name in GOOD.__struct_fields__} | {field: wrong}
    payload = msgspec.msgpack.encode(["answers", 1.5, [list(row.values())]])
    with pytest.raises(Unreadable):
        read = reply_in(payload)
        assert isinstance(read, BatchAnswers)
        check_columns(read.parts[0])


@pytest.mark.parametrize(("rdtype", "value"), [(1, b"abc"), (28, b"abcd"), (15, b"\x00"), (33, b""), (2, b"\xff")])
def test_a_vantage_that_sends_garbage_proves_nothing(rdtype: int, value: bytes) -> None:
    part = msgspec.structs.replace(GOOD, values=[(value,)])
    (answer,) = answers_of(part, [Question(NAME, rdtype, Server("a", LOOPBACK))])
    assert answer.trouble == "a malformed answer" and not answer.values


# What a vantage lets itself be asked


@contextmanager
def working(rules: WorkerRules = HERE) -> Iterator[tuple[Worker, list[Reply]]]:
    heard: list[Reply] = []
    worker = Worker("quay", rules, lambda _, reply: heard.append(reply))
    try:
        yield worker, heard
    finally:
        worker.close()


def statuses(heard: list[Reply]) -> dict[tuple[int, int], str]:
    """By batch and place."""
    found: dict[tuple[int, int], str] = {}
    for reply in list(heard):
        for part in reply.parts if isinstance(reply, BatchAnswers) else ():
            status = [part.status] * len(part.places) if isinstance(part.status, str) else part.status
            found |= {(part.number, place): one for place, one in zip(part.places, status, strict=True)}
    return found


def ask(worker: Worker, questions: list[Question], within_s: float = 30) -> int:
    number = next(_numbers)
    worker.take(DESK, batch_of(number, worker.session, questions, until=time.time() + within_s)[0])
    return number


def refused(why: str) -> str:
    return f"vantage: not asked by the vantage quay: {why}"


def test_a_vantage_is_asked_garbage_and_lives(world: tuple[Path, dict[str, StandIn]]) -> None:
    port = world[1]["dc-north"].port
    place = place_of(Server("a", LOOPBACK, port))
    places = [
        place,
        msgspec.structs.replace(place, port=99_999),
        msgspec.structs.replace(place, address=b"\x01"),
        msgspec.structs.replace(place, over="pigeon"),
        *(msgspec.structs.replace(place, pace=pace) for pace in (-1.0, 1e-300, float("inf"), float("nan"))),
    ]
    parent = NAME[NAME[0] + 1 :]  # one that is known by then, below what is no label
    wrong = [
        b"\xffno name",
        b"",
        *(start + parent for start in (b"\x05kil", b"\x50" + b"k" * 0x50, b"\xc0\x0c", b"\x00")),
    ]
    groups = [
        (1, 0, False, [NAME]), (70_000, 0, False, [NAME]), (0, 0, False, [NAME]), (1, 9, False, [NAME]), (1, -1, False, [NAME]),
        (1, 0, False, []), *((1, at, False, [NAME]) for at in (1, 2, 3)),
        (1, 0, False, [NAME, *wrong]), *((1, at, False, [NAME]) for at in (4, 5, 6, 7)),
    ]  # fmt: skip
    right = {(1, 0), (1, 8), *((1, at) for at in range(15, 19))}
    with working() as (worker, heard):
        worker.take(DESK, Batch(1, worker.session, time.time() + 30, places, groups))
        until(lambda: len(statuses(heard)) == 19)
        found = statuses(heard)
        assert {at for at, status in found.items() if status == "NOERROR"} == right and worker.questions == len(right)
        assert all(status.startswith(refused("")) for at, status in found.items() if at not in right)
        worker.take(
            DESK, Batch(2, worker.session, time.time() + 30, [place], [(1, 0, False, [NAME] * (MOST_QUESTIONS + 1))])
        )
        until(lambda: statuses(heard).get((2, 0)) == refused(f"a batch has at most {MOST_QUESTIONS} questions"))


OUTSIDE = ["10.77.0.1", "::1", "::ffff:127.0.0.1", "::127.0.0.1", "64:ff9b::7f00:1", "2002:7f00:1::", "0.0.0.0", "::",
           "255.255.255.255", "224.0.0.251", "fe80::1", "169.254.1.1", "127.0.0.2"]  # fmt: skip


def test_a_server_outside_the_allow_list_is_not_asked_in_whatever_form(world: tuple[Path, dict[str, StandIn]]) -> None:
    import ipaddress

    north = world[1]["dc-north"]
    before = north.asked
    places = [place_of(Server("a", ipaddress.ip_address(text).packed, north.port)) for text in OUTSIDE]
    places.append(place_of(Server("a", b"", 443, over="https", url="https://127.0.0.1/dns-query")))
    places.append(place_of(Server("a", LOOPBACK, 443, over="https", url="https://127.0.0.1/dns-query")))
    with working() as (worker, heard):
        groups = [(1, at, False, [NAME]) for at in range(len(places))]
        worker.take(DESK, Batch(1, worker.session, time.time() + 30, places, groups))
        until(lambda: len(statuses(heard)) == len(places))
        assert set(statuses(heard).values()) == {
            refused("the server is not in its allow list"),
            refused("its computer has no resolver"),
        }
        assert (
            list(statuses(heard).values()).count(refused("its computer has no resolver")) == 1
        )  # 0.0.0.0 stands for that
        assert worker.questions == 0 and worker.refused == len(places)
    assert north.asked == before


def test_a_vantage_waits_as_long_as_it_was_told(standins: StandIns) -> None:
    silent = standins.add()
    silent.fault = Fault.SILENT
    with working(WorkerRules(networks_of(["127.0.0.1"]), timeout_s=0.05, tries=2)) as (worker, heard):
        number = ask(worker, [Question(NAME, 1, Server("a", LOOPBACK, silent.port))])
        until(lambda: statuses(heard))
    assert statuses(heard) == {(number, 0): "timeout"} and silent.asked == 2


def test_a_key_that_the_vantage_does_not_have_is_not_sent_without(world: tuple[Path, dict[str, StandIn]]) -> None:
    north = world[1]["dc-north"]
    signed = Server("a", LOOPBACK, north.port, key=Key(from_text("mirror"), "hmac-sha256", b"x"))
    with working() as (worker, heard):
        ask(worker, [Question(NAME, 1, signed)])
        until(lambda: statuses(heard))
    assert set(statuses(heard).values()) == {refused("it does not have the key mirror.")}


@pytest.mark.parametrize("labels", [1, 100], ids=["one label", "a hundred labels"])
def test_a_flood_is_held_to_the_pace_and_what_is_too_much_is_turned_away(
    world: tuple[Path, dict[str, StandIn]], labels: int
) -> None:
    north = world[1]["dc-north"]
    servers = [Server(f"a{at}", LOOPBACK, north.port) for at in range(labels)]
    before = north.asked
    with working(WorkerRules(networks_of(["127.0.0.1"]), pace=20.0)) as (worker, heard):
        began = time.monotonic()
        for number in range(MOST_IN_HAND // 500 + 2):
            names = [from_text(f"h{number}-{at}.pans.gullmarsh.internal") for at in range(500)]
            ask(worker, [Question(name, 1, servers[at % labels]) for at, name in enumerate(names)], within_s=2)
        until(lambda: worker.refused >= MOST_IN_HAND)  # the most of it took too long, at this pace
        took = time.monotonic() - began
        turned = [status for status in statuses(heard).values() if "in hand already" in status]
        late = [status for status in statuses(heard).values() if "it took too long" in status]
        assert len(turned) > 900 and len(late) > MOST_IN_HAND - 500
        assert north.asked - before <= 20 * (took + 3)


def test_a_server_that_was_silent_is_tried_again_for_the_next_desk(standins: StandIns) -> None:
    server = standins.add()
    server.fault = Fault.SILENT
    with working(WorkerRules(networks_of(["127.0.0.1"]), timeout_s=0.05, tries=1)) as (worker, heard):
        places = [
            Question(from_text(f"h{number}.example"), 1, Server("a", LOOPBACK, server.port)) for number in range(40)
        ]
        ask(worker, places)
        until(lambda: len(statuses(heard)) == 40)
        server.fault = Fault.NONE
        found = set(statuses(heard).values())
        for times in range(2, 40):  # on a busy machine a healthy server too is slower than so short a timeout
            until(lambda: not worker._servers)
            ask(worker, places)
            until(lambda times=times: len(statuses(heard)) == 40 * times)  # type: ignore[misc]  # bound now
            found = set(statuses(heard).values())
            if "REFUSED" in found:
                break
        assert "REFUSED" in found


def test_errands_in_hand_are_bounded_and_each_is_answered(standins: StandIns) -> None:
    silent = standins.add()
    silent.fault = Fault.SILENT
    server = Server("a", LOOPBACK, silent.port)
    with working(WorkerRules(networks_of(["127.0.0.1"]), timeout_s=5.0)) as (worker, heard):
        numbers = [ask(worker, [Question(NAME, rdtype, server)], within_s=1) for rdtype in range(1, MOST_ERRANDS + 20)]
        until(lambda: len(statuses(heard)) == len(numbers))
        assert list(statuses(heard).values()).count(refused(FULL)) >= 19
        assert all(len(reply.working) <= MOST_ERRANDS for reply in heard if isinstance(reply, BatchAnswers))


def test_servers_that_are_known_are_bounded(
    world: tuple[Path, dict[str, StandIn]], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(worker_module, "MOST_SERVERS", 8)
    north = world[1]["dc-north"]
    engines: list[Engine] = []
    monkeypatch.setattr(worker_module, "Engine", lambda **more: engines.append(Engine(**more)) or engines[-1])  # type: ignore[func-returns-value]
    with working() as (worker, heard):
        for round_ in range(3):
            servers = [Server(f"a{round_}-{at}", LOOPBACK, north.port) for at in range(12)]
            number = ask(worker, [Question(NAME, 1, server) for server in servers])
            until(lambda number=number: sum(at[0] == number for at in statuses(heard)) == 12)  # type: ignore[misc]
            found = [status for at, status in statuses(heard).items() if at[0] == number]
            assert found.count("NOERROR") == 8 and found.count(refused("it has 8 servers in hand already")) == 4
        until(lambda: len(engines) == 4)


def test_errands_are_carried_out_once_for_this_session_and_in_time() -> None:
    with working() as (worker, heard):
        now = time.time()
        refusals: list[tuple[Batch, str]] = [
            (Batch(1, "another", now + 9, [], []), "a session before this one"),
            (Batch(2, worker.session, now - 1, [], []), "too old"),
            (Batch(3, worker.session, now + 1e5, [], []), "too old, or the clock of its desk is off"),
            (Batch(4, worker.session, float("nan"), [], []), "too old"),
        ]
        for batch, why in refusals:
            with pytest.raises(Refused, match=why):
                worker.take(DESK, batch)
        for errand in (Batch(5, worker.session, now + 9, [], []), Greeting(6, worker.session, now)):
            worker.take(DESK, errand)
            with pytest.raises(Refused, match="it came twice"):
                worker.take(DeskSession("other", "t"), errand)
        with pytest.raises(Refused, match="times a second"):
            for number in range(2 * GREETINGS_A_SECOND):
                worker.take(DESK, Greeting(100 + number, worker.session, now))
        until(lambda: heard)
        (facts, *_) = heard
        assert isinstance(facts, Facts) and facts.number == 6 and abs(facts.clock - now) < 60
    told = worker.presence()
    assert (told.session, told.allowed) == (worker.session, ["127.0.0.1/32"])
    assert presence_in(packed(told)) == told and presence_in(packed(Absence("s"))) == Absence("s")


def test_settings_that_are_too_large_are_left_out() -> None:
    heard: list[Reply] = []
    sizes = iter((MOST_BYTES, 10))
    worker = Worker("quay", HERE, lambda _, reply: heard.append(reply), lambda: {"settings": bytes(next(sizes))})
    for number in (1, 2):
        worker.take(DESK, Greeting(number, worker.session, time.time(), True))
    worker.close()
    assert [one.settings for one in heard if isinstance(one, Facts)] == [{}, {"settings": bytes(10)}]


def test_a_place_is_as_it_was() -> None:
    place = place_of(Server("a" * 300, LOOPBACK, 53, tls_name="dns.example"))
    assert isinstance(place, ServerAddress) and len(place.label) == 255 and place.tls_name == "dns.example"

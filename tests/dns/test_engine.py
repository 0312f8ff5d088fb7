"""The engine over real sockets: every question ends, in bounded time, with an answer or with the reason why there is none."""

from __future__ import annotations

import contextlib
import selectors
import socket
import subprocess
import sys
import threading
import time
from typing import Any

import pytest

import salt_mirror.dns.traffic.engine
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import AAAA, MX, NS, A
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIns
from support.peers import peer
from support.realservers import free_port
from support.servers import server_of
from support.waiting import PATIENCE_S

ORIGIN = from_text("gullmarsh.example")
ZONE = """$TTL 300
@ SOA ns1 hostmaster 1 3600 600 86400 300
@ NS ns1
ns1 A 192.0.2.1
web A 192.0.2.2
web A 192.0.2.3
www CNAME web
out CNAME elsewhere.invalid.
*.w A 192.0.2.9
deep.empty A 192.0.2.10
sub NS ns.sub
ns.sub A 192.0.2.5
""" + "".join(f"big A 10.0.{number // 250}.{number % 250}\n" for number in range(500))


def ask(questions: list[Question], timeout_s: float = 0.2) -> dict[Question, Answer]:
    found: dict[Question, Answer] = {}
    with Engine(timeout_s=timeout_s) as engine:
        for question in questions:
            engine.submit(question)
        while answers := engine.collect():
            for answer in answers:
                assert answer.question not in found
                found[answer.question] = answer
        assert engine.backlog == 0
    return found


@pytest.mark.parametrize("host", ["127.0.0.1", "::1"])
def test_each_kind_of_answer_is_told_apart(standins: StandIns, host: str) -> None:
    server = server_of(standins.add([read_zone(ZONE, "gullmarsh.example")], host=host))

    def one(name: str, rdtype: int = A) -> Answer:
        question = Question(from_text(name, ORIGIN), rdtype, server)
        return ask([question])[question]

    web = one("web")
    assert (web.status, web.values, web.ttl) == ("NOERROR", (b"\xc0\x00\x02\x02", b"\xc0\x00\x02\x03"), 300)
    assert web.trouble is None
    assert web.rtt_ms is not None and web.rtt_ms > 0
    assert (one("web", MX).status, one("web", MX).exists) == ("NOERROR", True)
    assert (one("nothing").status, one("nothing").exists, one("nothing").trouble) == ("NXDOMAIN", False, None)
    assert one("empty").exists, "an empty non-terminal exists (RFC 4592)"
    assert one("www").alias == from_text("web", ORIGIN)
    assert one("out").exists
    assert one("any.w").values == (b"\xc0\x00\x02\x09",)
    assert (one("a.sub").referral, one("a.sub").trouble) == (from_text("sub", ORIGIN), "refers to other servers")
    assert one("other.invalid.").trouble == "answered REFUSED"
    assert (len(one("big").values), one("big").over) == (500, "tcp")


def test_a_resolvers_answer_serves_a_question_that_asks_for_recursion_alone(standins: StandIns) -> None:
    server = server_of(standins.add([read_zone(ZONE, "gullmarsh.example")], recursive=True))
    asked = [Question(ORIGIN, NS, server, recurse) for recurse in (True, False)]
    assert [answer.trouble for _, answer in sorted(ask(asked).items(), key=lambda pair: not pair[0].recurse)] == [
        None,
        "not authoritative for it",
    ]


@pytest.mark.parametrize(
    ("fault", "status"),
    [
        (Fault.SILENT, "timeout"),
        (Fault.REFUSING, "REFUSED"),
        (Fault.FAILING, "SERVFAIL"),
        (Fault.GARBAGE, "malformed"),
        (Fault.WRONG_ID, "timeout"),
        (Fault.CUT_SHORT, "truncated"),
    ],
)
def test_a_misbehaving_server_gives_a_reason_and_its_neighbour_an_answer(
    standins: StandIns, fault: Fault, status: str
) -> None:
    bad, good = (standins.add([read_zone(ZONE, "gullmarsh.example")]) for _ in range(2))
    bad.fault = fault
    questions = [Question(from_text("web", ORIGIN), A, server_of(standin)) for standin in (bad, good)]
    found = ask(questions)
    assert found[questions[0]].status == status
    assert found[questions[0]].trouble is not None
    assert len(found[questions[1]].values) == 2


def test_a_closed_port_is_told_from_silence() -> None:
    nobody = Server("nobody", bytes((127, 0, 0, 1)), 1)
    question = Question(ORIGIN, A, nobody)
    assert ask([question])[question].status == "unreachable"


def test_a_slow_server_is_waited_for_and_a_lost_question_sent_again(standins: StandIns) -> None:
    slow = standins.add([read_zone(ZONE, "gullmarsh.example")])
    slow.delay_s = 0.3
    question = Question(from_text("web", ORIGIN), A, server_of(slow))
    answer = ask([question])[question]
    assert len(answer.values) == 2
    assert answer.tries > 1


@pytest.mark.parametrize("fault", [Fault.SILENT, Fault.GARBAGE])
def test_five_hundred_names_on_a_dead_server_cost_one_retry_budget(standins: StandIns, fault: Fault) -> None:
    dead = standins.add()
    dead.fault = fault
    server = server_of(dead)
    questions = [
        Question(from_text(f"host-{number}", ORIGIN), kind, server) for number in range(500) for kind in (A, AAAA)
    ]
    found = ask(questions)
    assert len(found) == 1000
    assert all(answer.trouble for answer in found.values())
    assert dead.asked < 400, "a server that says nothing is probed, not flooded"


def test_a_server_that_comes_back_is_asked_again(standins: StandIns) -> None:
    standin = standins.add([read_zone(ZONE, "gullmarsh.example")])
    standin.fault = Fault.SILENT
    server = server_of(standin)
    later_s = 0.0
    with Engine(timeout_s=0.15, clock=lambda: time.monotonic() + later_s) as engine:

        def one(name: str) -> str:
            engine.submit(Question(from_text(name, ORIGIN), A, server))
            return engine.collect()[0].status

        assert [one("a"), one("b"), one("c")] == ["timeout", "timeout", "silent"]
        standin.fault = Fault.NONE
        later_s = 1.1
        assert [one("web"), one("www")] == ["NOERROR", "NOERROR"]


@pytest.mark.parametrize("back", [True, False])
def test_a_server_that_is_started_anew_is_waited_for_and_one_that_is_gone_ends_every_question(back: bool) -> None:
    port, ended, asked = free_port(), threading.Event(), 0

    def serve(most: int) -> None:
        nonlocal asked
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind(("127.0.0.1", port))
            sock.settimeout(0.05)
            while most and not ended.is_set():
                with contextlib.suppress(TimeoutError):
                    wire, asker = sock.recvfrom(4096)
                    end = wire.index(b"\0", 12) + 5
                    sock.sendto(wire[:2] + b"\x84\x00" + wire[4:6] + bytes(6) + wire[12:end], asker)
                    most, asked = most - 1, asked + 1

    def lives() -> None:
        serve(300)
        if back:
            ended.wait(1.5)
            serve(1 << 30)

    thread = threading.Thread(target=lives, daemon=True)
    thread.start()
    server = Server("one", bytes((127, 0, 0, 1)), port)
    try:
        found = ask([Question(from_text(f"h{n}", ORIGIN), A, server) for n in range(3000)], timeout_s=0.3)
    finally:
        ended.set()
        thread.join(10)
    answered = sum(answer.trouble is None for answer in found.values())
    assert len(found) == 3000 and asked >= answered
    assert answered == 3000 if back else answered <= 300, (answered, {a.trouble for a in found.values()})


def stalls(connection: socket.socket) -> None:
    """Takes everything, and says nothing."""
    while connection.recv(65536):
        pass


@pytest.mark.parametrize("over", ["udp", "paced", "tcp", "tls", "https"])
def test_no_turn_is_taken_in_vain_while_a_server_is_waited_for(over: str, monkeypatch: pytest.MonkeyPatch) -> None:
    turns, asked = 0, 0
    select = selectors.DefaultSelector.select

    def counted(self: selectors.DefaultSelector, timeout: float | None = None) -> Any:
        nonlocal turns
        turns += 1
        return select(self, timeout)

    def answers(wire: bytes) -> list[tuple[float, bytes]]:
        nonlocal asked
        asked += 1
        end = wire.index(b"\0", 12) + 5
        return [(0.0, wire[:2] + b"\x84\x00" + wire[4:6] + bytes(6) + wire[12:end])] if asked <= 20 else []

    monkeypatch.setattr(selectors.DefaultSelector, "select", counted)
    datagrams = over in ("udp", "paced")
    with peer(udp=answers if datagrams else None, tcp=None if datagrams else stalls) as port:
        way = {"over": "udp" if datagrams else over, "url": f"https://127.0.0.1:{port}/dns-query"}
        server = Server("one", bytes((127, 0, 0, 1)), port, pace=None if over == "udp" else 900, **way)  # type: ignore[arg-type]
        found = ask([Question(from_text(f"h{n}", ORIGIN), A, server) for n in range(400)], timeout_s=0.2)
    assert len(found) == 400 and turns < 4000


def test_more_servers_than_sockets_may_be_open_are_asked_in_turns(
    standins: StandIns, monkeypatch: pytest.MonkeyPatch
) -> None:
    zone = [read_zone(ZONE, "gullmarsh.example")]
    monkeypatch.setattr(salt_mirror.dns.traffic.engine, "most_sockets", lambda: 32)
    ports = [standins.add(zone).port for _ in range(60)]
    servers = [
        Server(f"s{port}", bytes((127, 0, 0, 1)), port, over="tcp" if number % 3 else "udp")
        for number, port in enumerate(ports)
    ]
    asked = [Question(from_text(f"h{number}.w", ORIGIN), A, server) for server in servers for number in range(5)]
    found = ask(asked)
    assert len(found) == 300 and all(answer.values for answer in found.values())


@pytest.mark.skipif(sys.platform == "win32", reason="there is no such limit")
def test_a_system_that_allows_few_descriptors_is_no_error() -> None:
    code = """
import resource, sys
resource.setrlimit(resource.RLIMIT_NOFILE, (256, 256))
import salt_mirror.dns.traffic.engine
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.traffic.engine import Engine
with Engine(timeout_s=5, tries=1) as engine:
    for number in range(1500):
        engine.submit(Question(from_text("a.invalid"), 1, Server(str(number), bytes((127, 0, number >> 8, number & 255)), 9)))
    statuses = []
    while answers := engine.collect():
        statuses += [answer.status for answer in answers]
print(len(statuses), *sorted(set(statuses)))
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=PATIENCE_S, check=True)
    assert done.stdout == "1500 unreachable\n", done.stdout + done.stderr


def test_a_slow_server_without_edns_is_heard_whatever_it_says_to_edns(standins: StandIns) -> None:
    def slow(wire: bytes) -> list[tuple[float, bytes]]:
        if wire[11]:  # EDNS: turned away, and late, with the header only
            return [(0.35, wire[:2] + b"\x80\x01" + bytes(8))]
        end = wire.index(b"\0", 12) + 5
        record = b"\xc0\x0c\0\1\0\1\0\0\1\x2c\0\4\xc0\0\2\1"
        return [(0.3, wire[:2] + b"\x84\x00\0\1\0\1" + bytes(4) + wire[12:end] + record)]

    with peer(udp=slow) as port:
        server = Server("slow", bytes((127, 0, 0, 1)), port)
        found = ask([Question(from_text(f"h{number}", ORIGIN), A, server) for number in range(40)], timeout_s=0.25)
    assert {answer.trouble for answer in found.values()} == {None}

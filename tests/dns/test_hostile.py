"""Peers that lie, stall, break off and lose packets: they may cost time, and never change a finding."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import dns.flags
import dns.message
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import A
from salt_mirror.dns.system import parse_server
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.transfer import BOUNDS, TransferFailed, read_transfer_records, transfer
from salt_mirror.dns.wire import MalformedMessage
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIns
from support.estates import estate_of, reverse_of, zones_of
from support.examples import examples
from support.hostile import query_on
from support.peers import Serve, peer
from support.program import Run, begin, interrupt
from support.realservers import nsd
from support.servers import server_of
from support.waiting import PATIENCE_S, until

LOOPBACK = bytes((127, 0, 0, 1))


class Liar(threading.Thread):
    """Stands between us and a real server, and answers every query first, in every wrong way; then lets the truth through."""

    def __init__(self, real: Server) -> None:
        super().__init__(daemon=True)
        self._real = (real.host, real.port)
        self._sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._sock.bind(("127.0.0.1", 0))
        self._elsewhere = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.port: int = self._sock.getsockname()[1]
        self.lies = 0

    def run(self) -> None:
        upstream = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        upstream.settimeout(2)
        upstream.connect(self._real)
        while True:
            try:
                wire, asker = self._sock.recvfrom(4096)
                for lie in self._lies(wire):
                    self._sock.sendto(lie, asker)
                    self.lies += 1
                self._elsewhere.sendto(self._forged(wire), asker)
                upstream.send(wire)
                self._sock.sendto(self._embroidered(upstream.recv(65535)), asker)
            except TimeoutError:
                continue
            except OSError:
                return

    def _forged(self, wire: bytes) -> bytes:
        query = dns.message.from_wire(wire)
        response = dns.message.make_response(query)
        response.flags |= dns.flags.AA
        question = query.question[0]
        liar = "liar.pans.example."
        value = {"A": "10.66.6.6", "AAAA": "2001:db8:666::6", "SOA": f"{liar} {liar} 666 3600 600 86400 300"}
        value |= dict.fromkeys(("PTR", "NS", "CNAME"), liar)
        kind = question.to_text().split()[-1]
        if kind in value:
            response.answer.append(dns.rrset.from_text(question.name, 300, "IN", kind, value[kind]))
        return response.to_wire()

    def _lies(self, wire: bytes) -> Iterator[bytes]:
        forged = self._forged(wire)
        for step in (1, 255, 4096):
            yield ((int.from_bytes(wire[:2], "big") + step) & 0xFFFF).to_bytes(2, "big") + forged[2:]
        other = bytearray(forged)
        other[13] ^= 1  # another name in the question
        yield bytes(other)
        yield forged[:12] + forged[12:].swapcase()  # the letters of the question the other way round
        yield forged[:20]
        yield b"\x00"

    def _embroidered(self, wire: bytes) -> bytes:
        """The true answer, with records about others that the server has no say over."""
        message = dns.message.from_wire(wire)
        owner = "ns.pans.example."
        message.additional.append(dns.rrset.from_text(owner, 300, "IN", "A", "10.66.6.6"))
        message.authority.append(dns.rrset.from_text("example.", 300, "IN", "NS", "liar.invalid."))
        return message.to_wire()

    def stop(self) -> None:
        self._sock.close()
        self._elsewhere.close()


@pytest.mark.real
def test_a_liar_that_is_always_first_changes_no_finding(run: Run, tmp_path: Path) -> None:
    zones = zones_of(30)
    sound, wrong = ("\n9.0.77.10.in-addr.arpa. PTR h" + number for number in ("9.", "8."))
    zones[reverse_of(30)] = zones[reverse_of(30)].replace(sound, wrong)
    with nsd(tmp_path / "nsd", zones) as real:
        liar = Liar(real)
        liar.start()
        reports = []
        for port in (real.port, liar.port):
            estate_of(tmp_path, 30, {"server": port})
            reports.append(run("pairs", "h8.pans.example", "h9.pans.example", "10.77.0.0/27", "--json").report)
        liar.stop()
    told = [[(f["code"], f["name"], f["address"], f["text"]) for f in report["findings"]] for report in reports]
    assert told[0] == told[1]
    assert [code for code, *_ in told[0]] == ["pair.stale-pointer"]
    # they are judged in whatever order answers come
    subjects = [sorted(map(json.dumps, report["subjects"])) for report in reports]
    assert subjects[0] == subjects[1]
    assert liar.lies > 300
    assert (reports[0]["counts"]["strays"], reports[1]["counts"]["strays"] > 200) == (0, True)


def test_a_reply_to_a_question_that_was_sent_again_is_late_and_no_stray(standins: StandIns) -> None:
    standin = standins.add([read_zone(zones_of(5)["pans.example"], "pans.example")])
    standin.delay_s = 0.25
    with Engine(timeout_s=0.1, tries=3) as engine:
        engine.submit(Question(from_text("h1.pans.example"), A, server_of(standin)))
        (answer,) = engine.collect()
        assert answer.trouble is None and answer.tries > 1
        engine.submit(Question(from_text("h2.pans.example"), A, answer.question.server))
        until(lambda: not engine.collect(0.05) and engine.late > 0)
        assert engine.strays == 0


def stalling(first: bytes, held: list[socket.socket], *, drip: bool = False) -> Serve:
    """Sends some bytes to whoever asks, and then nothing more; with `drip`, a byte a second that says nothing."""

    def serve(connection: socket.socket) -> None:
        held.append(connection)
        connection.recv(4096)
        connection.sendall(first)
        while drip:
            connection.sendall(b"\0")
            time.sleep(1)
        connection.recv(1)

    return serve


@pytest.mark.skipif(sys.platform == "win32", reason="Ctrl-C is sent in another way there")
def test_a_program_that_is_interrupted_in_a_transfer_does_not_wait_for_its_end(tmp_path: Path) -> None:
    connections: list[socket.socket] = []
    with peer(tcp=stalling(b"\xff\xff", connections, drip=True)) as port:
        path = estate_of(tmp_path, 3, {"one": port})
        bound = f"[bounds]\ntransfer_seconds = {PATIENCE_S * 3}\n"
        path.write_text(bound + path.read_text(encoding="utf-8"), encoding="utf-8")
        process = begin(
            "pairs", "--transfer", "--timeout", "60", "--estate", str(path), cwd=tmp_path, stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )  # fmt: skip
        until(lambda: bool(connections))
        interrupt(process)
        out, _ = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 130 and "Interrupted. So far: Nothing was judged." in out


def test_a_question_over_https_ends_at_its_own_deadline(run: Run) -> None:
    with peer(tcp=stalling(b"", [])) as port:
        url = f"https://127.0.0.1:{port}/dns-query"
        with Engine(timeout_s=0.05, tries=1) as engine:
            engine.submit(Question(from_text("h1.pans.example"), A, parse_server(url, "h")))
            assert [answer.status for answer in engine.collect()] == ["timeout"]
        asked = run("ask", "h1.pans.example", "--at", url, "--timeout", "0.1")
        assert asked.status == 3 and "no answer in time" in asked.out


@pytest.mark.skipif(sys.platform == "win32", reason="pipes end in another way there")
@pytest.mark.parametrize(
    "command", [["explain"], ["expect", "many.csv"], ["ask", "--names", "many.txt", "--at", "127.0.0.1:1"]]
)
def test_a_reader_that_has_seen_enough_ends_the_program_without_a_word(tmp_path: Path, command: list[str]) -> None:
    (tmp_path / "many.csv").write_text("name,type,value\n" + "host,A,192.0.2.1\n" * 20_000, encoding="utf-8")
    (tmp_path / "many.txt").write_text("host.invalid A\n" * 3_000, encoding="utf-8")
    process = begin(*command, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert process.stdout is not None and process.stderr is not None
    process.stdout.close()
    assert (process.wait(PATIENCE_S), process.stderr.read()) == (141, "")


@pytest.mark.parametrize("loss", [0.0, 0.05, 0.2])
def test_lost_packets_make_no_answer_wrong(standins: StandIns, loss: float) -> None:
    standin = standins.add([read_zone(zones_of(500)["pans.example"], "pans.example")])
    standin.loss = loss
    server = server_of(standin)
    found: list[Answer] = []
    with Engine(timeout_s=0.5, tries=4) as engine:
        for number in range(2000):
            engine.submit(Question(from_text(f"h{number % 1000}.pans.example"), A, server))
        while answers := engine.collect():
            found += answers
    assert len(found) == 2000
    for answer in found:
        if answer.trouble is None:
            number = int(answer.question.name[2 : answer.question.name[0] + 1])
            right = ("NOERROR", (bytes((10, 77, number // 250, number % 250)),)) if number < 500 else ("NXDOMAIN", ())
            assert (answer.status, answer.values) == right
    assert sum(answer.trouble is not None for answer in found) <= (0 if loss < 0.1 else 20)


def test_a_server_that_falls_silent_and_comes_back_costs_its_own_questions_alone(standins: StandIns) -> None:
    zones = [read_zone(zones_of(500)["pans.example"], "pans.example")]
    good, bad = standins.add(zones), standins.add(zones)
    servers = [server_of(good, "good"), server_of(bad, "bad")]

    back = False

    def talk(number: int):  # type: ignore[no-untyped-def]
        nonlocal back
        if number == 200:
            bad.fault = Fault.SILENT
        if number == 800:
            bad.fault = Fault.NONE
        answers = yield [
            Question(from_text(f"h{number % 1000}.x{number}.pans.example"), A, server) for server in servers
        ]
        back = back or (number > 800 and answers[1].trouble is None)
        return [answer.trouble is None for answer in answers]

    def talks():  # type: ignore[no-untyped-def]
        number = 0
        while number < 1000 or (not back and number < 100_000):
            yield talk(number)
            number += 1

    with Engine(timeout_s=1.0) as engine:
        heard = list(Runner(engine, ahead=32).run(talks()))  # type: ignore[no-untyped-call]
    assert all(good_one for good_one, _ in heard), "the other server's answers are all there"
    assert any(not bad_one for _, bad_one in heard)
    assert back, "it is heard again once it is back"


# Transfers


@contextmanager
def scripted(*messages: bytes, close: bool = True) -> Iterator[Server]:
    """A TCP server that answers whoever comes with these messages, whatever was asked; the id is the asker's."""

    def serve(connection: socket.socket) -> None:
        query = query_on(connection)
        for message in messages:
            whole = query[:2] + message[2:]
            connection.sendall(len(whole).to_bytes(2, "big") + whole)
        if not close:
            connection.recv(1)

    with peer(tcp=serve) as port:
        yield Server("scripted", LOOPBACK, port)


def part(*lines: str, rcode: int = 0) -> bytes:
    """One message of a transfer."""
    message = dns.message.make_response(dns.message.make_query("pans.example", "AXFR"))
    message.flags |= dns.flags.AA
    message.set_rcode(rcode)  # type: ignore[arg-type]
    for line in lines:
        owner, kind, value = line.split(None, 2)
        message.answer.append(dns.rrset.from_text(owner, 300, "IN", kind, value))
    return message.to_wire()


SOA = "pans.example. SOA ns.pans.example. h.pans.example. 1 2 3 4 5"
HOST = "h1.pans.example. A 10.77.0.1"


@pytest.mark.parametrize(
    ("messages", "reason"),
    [
        ([part(SOA, HOST)], "broke off"),
        ([part(SOA), part(HOST)], "broke off"),
        ([part(HOST, SOA)], "does not begin with the zone's SOA"),
        ([part(SOA, HOST), part(SOA.replace(" 1 ", " 2 "))], "changed on the way"),
        ([part(SOA, HOST, "h1.elsewhere.example. A 10.77.0.1"), part(SOA)], "not in the zone"),
        ([part(SOA, HOST), part(SOA, HOST)], "follow the closing SOA"),
        ([part(rcode=5)], "answered REFUSED"),
        ([part()], "without any record"),
        ([part(SOA, HOST)[:-3]], "malformed"),
        ([part(SOA, HOST), b"\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"], "does not belong"),
    ],
)
def test_a_transfer_that_is_not_sound_is_rejected_whole(messages: list[bytes], reason: str) -> None:
    with scripted(*messages) as server, pytest.raises(TransferFailed, match=reason):
        list(transfer(server, from_text("pans.example"), timeout_s=2))


@pytest.mark.parametrize("size", [0, 3, 5])
def test_an_address_of_a_wrong_size_rejects_a_transfer(size: int) -> None:
    sound = part(SOA, HOST)
    at = sound.index(b"\x00\x04\x0a\x4d\x00\x01")
    bad = sound[:at] + size.to_bytes(2, "big") + b"\x0a\x4d\x00\x01\x01"[:size] + sound[at + 6 :]
    with scripted(bad) as server, pytest.raises(TransferFailed, match="rdata of the wrong size"):
        list(transfer(server, from_text("pans.example"), timeout_s=2))


def test_transfers_are_bounded_in_size_and_time() -> None:
    zone = from_text("pans.example")
    with scripted(part(SOA, HOST), part(HOST), part(HOST)) as server, pytest.raises(TransferFailed, match="more than"):
        list(transfer(server, zone, bounds=BOUNDS._replace(bytes=100)))
    with scripted(part(SOA, HOST), close=False) as server, pytest.raises(TransferFailed, match="stopped answering"):
        list(transfer(server, zone, timeout_s=0.2))
    ticks = iter(range(0, 10_000, 300))
    with (
        scripted(part(SOA, HOST), part(HOST)) as server,
        pytest.raises(TransferFailed, match=r"took too long|broke off"),
    ):
        list(transfer(server, zone, clock=lambda: float(next(ticks))))
    hosts = part(SOA, HOST, HOST.replace("h1", "h2"))
    with scripted(hosts) as server, pytest.raises(TransferFailed, match="2 records"):
        list(transfer(server, zone, bounds=BOUNDS._replace(records=2)))
    with scripted(part(SOA), *[part()] * 200) as server, pytest.raises(TransferFailed, match="without a record"):
        list(transfer(server, zone))


@examples(300)
@given(st.data())
def test_mutated_transfer_messages_are_read_or_refused(data: st.DataObject) -> None:
    message = bytearray(
        part(SOA, HOST, "w.pans.example. MX 10 h1.pans.example.", "x.y.pans.example. CNAME h1.pans.example.")
    )
    for _ in range(data.draw(st.integers(1, 5))):
        message[data.draw(st.integers(0, len(message) - 1))] = data.draw(st.integers(0, 255))
    try:
        records = read_transfer_records(
            bytes(message[: data.draw(st.integers(0, len(message)))]), from_text("pans.example")
        )
    except MalformedMessage:
        return
    assert all(record.owner.endswith(from_text("pans.example")) for record in records)


@pytest.mark.real
def test_an_audit_by_transfer_finds_the_same_and_says_how(run: Run, tmp_path: Path) -> None:
    zones = zones_of(40)
    wrong = zones | {
        reverse_of(40): zones[reverse_of(40)].replace(
            "\n7.0.77.10.in-addr.arpa. PTR h7.", "\n70.0.77.10.in-addr.arpa. PTR h7."
        )
    }
    with nsd(tmp_path / "one", wrong, provide="127.0.0.1 NOKEY") as one, nsd(tmp_path / "two", wrong) as two:
        path = estate_of(tmp_path, 40, {"one": one.port, "two": two.port})
        asked = run("pairs", "--json", "--estate", str(path)).report
        taken = run("pairs", "--json", "--transfer", "--estate", str(path)).report
    found = [{(f["code"], f["name"]) for f in report["findings"]} for report in (asked, taken)]
    # nobody expects the name server, so that its address is judged only where the zone is in hand
    assert found[0] and found[1] == found[0] | {("pair.unverified", "ns.pans.example.")}
    overs = {e["server"]: e["over"] for f in taken["findings"] for e in f["evidence"]}
    assert overs == {"one": "transfer", "two": "udp"}
    assert taken["counts"]["questions"] < asked["counts"]["questions"]
    assert taken["counts"]["spared"] > 0
    assert "records were taken by transfer" in taken["remarks"][0]
    assert "two did not transfer 2 zones, pans.example. among them (it answered REFUSED): asked" in json.dumps(
        taken["remarks"]
    )

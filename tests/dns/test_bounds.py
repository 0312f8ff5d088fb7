"""Bounds: what a server says or sends may cost only so many questions, so many bytes and so much time, and it is told."""

from __future__ import annotations

import json
import socket
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType, SimpleNamespace
from typing import Any, cast

import pytest

from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.authority.rows import sheet_of
from salt_mirror.checks.authority.seen import Place, Seen
from salt_mirror.checks.common.atlas import Atlas, Authority
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.descend import walking
from salt_mirror.checks.draft import asking as draft_asking
from salt_mirror.checks.draft import exploring
from salt_mirror.checks.from_here import scope
from salt_mirror.checks.plan import sending
from salt_mirror.checks.resolvers import asking
from salt_mirror.cli import arguments, transfers
from salt_mirror.cli.draft import run as draft_run
from salt_mirror.cli.from_here import run as from_here_run
from salt_mirror.cli.options import Asking
from salt_mirror.cli.stale import knocking
from salt_mirror.dns import kerberos, update
from salt_mirror.dns.computer import sources
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.exchange import TcpExchange
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import UNASKED, Answer, Question, Server
from salt_mirror.dns.records import A
from salt_mirror.dns.system import parse_server
from salt_mirror.dns.traffic import descriptors, engine, https, manners, stream
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.transfer import MOST_EMPTY, Bounds
from salt_mirror.estate import masterfile, reading
from salt_mirror.estate.directory import child
from salt_mirror.estate.directory.zones import MOST_GONE, MOST_LOST
from salt_mirror.estate.file import BoundsEntry
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIns
from salt_mirror.vantages import desk, exchange, protocol, transport, worker
from support.estates import Served, estate_of, found, zones_of
from support.hostile import CUT, query_on
from support.peers import Serve, flood, peer
from support.program import PROGRAM, Run
from support.servers import ZONES, Certified, server_of
from support.tables import Table
from support.waiting import PATIENCE_S

NAME = from_text("h1.pans.example")
LOOPBACK = bytes((127, 0, 0, 1))


# Questions


def test_a_dialogue_may_ask_only_so_much_of_servers_that_nobody_named() -> None:
    own, strange = Server("own", LOOPBACK, 1), Server("strange", LOOPBACK, 2, found=True)

    def follow() -> Dialogue[list[str]]:
        answers: list[Answer] = []
        for number in range(15):
            answers += yield [Question(from_text(f"h{number}.pans.example"), A, server) for server in (own, strange)]
        return [answer.status for answer in answers if answer.question.server is strange]

    table = Table({})
    (heard,) = Runner(table, most=10).run([follow()])
    assert heard == ["NXDOMAIN"] * 10 + [UNASKED] * 5
    assert sum(question.server is own for question in table.asked) == 15
    (heard,) = Runner(Table({}), most=10).run([follow()], names=2)
    assert UNASKED not in heard


ROOT = "$TTL 300\n@ SOA ns1 h 1 3600 600 86400 300\n@ NS ns1\nns1 A 192.0.2.1\n"


def hydra(levels: int, heads: int) -> str:
    """A root that delegates each of some zones to many name servers of the next one, without an address."""
    return ROOT + "".join(
        f"d{level} NS n{head}.d{level + 1}x{head}\n"
        + "".join(f"d{level + 1}x{head} NS m{other}.d{level + 2}\n" for other in range(heads))
        for level in range(levels)
        for head in range(heads)
    )


ROOTS = '[roots]\n"ns1" = ["192.0.2.1"]\n'


def test_name_servers_that_hang_on_many_others_cost_a_bounded_number_of_questions(run: Run, served: Served) -> None:
    (top,) = served(".", hydra(4, 30), more=ROOTS)
    done = run("descend", "www.d0", "--json")
    assert top.asked <= 200
    assert (done.status, set(found(done))) == (3, {"cut.unverified"}), "what was left out is no fault"
    assert "questions_for_a_name" in done.out
    top.asked = 0
    served.publish("x.invalid", [top], "[bounds]\nquestions_for_a_name = 20\n" + ROOTS, {"192.0.2.1": top})
    done = run("descend", "www.d0")
    assert top.asked <= 20
    assert done.out.splitlines()[0].endswith("of which no server could be asked.")


def test_a_name_server_whose_zone_is_silent_is_unverified_and_not_without_address(run: Run, served: Served) -> None:
    root = ROOT + "marsh NS ns.shore\nshore NS ns.shore\nns.shore A 192.0.2.2\n"
    top, below = served.serve(".", root, root)
    below.fault = Fault.SILENT
    served.publish("x.invalid", [top], ROOTS, {"192.0.2.1": top, "192.0.2.2": below})
    # The glue is given beside the referral to the other zone, and counts there alone.
    done = run("descend", "www.marsh", "--json", "--timeout", "0.2", "--tries", "1")
    assert set(found(done)) == {"cut.unverified"}


@pytest.mark.parametrize("key", ["transfer_mib", "questions_for_a_name", "records_of_a_run"])
@pytest.mark.parametrize("value", ["0", "-3", "nan"])
def test_a_bound_is_a_number_above_nothing(run: Run, tmp_path: Path, key: str, value: str) -> None:
    path = estate_of(tmp_path, 2, {"one": 1})
    path.write_text(f"[bounds]\n{key} = {value}\n" + path.read_text(encoding="utf-8"), encoding="utf-8")
    done = run("pairs", "--estate", str(path))
    assert done.status == 2 and key in done.err


# Transfers


@pytest.mark.parametrize(
    ("bound", "said"),
    [
        ("records_of_a_set = 5", "records in one set"),
        ("records_of_a_run = 20", "more than 20 records in one run"),
        ("transfer_records = 20", "20 records"),
    ],
)
def test_a_zone_that_is_larger_than_its_bound_is_told_and_asked_for_question_by_question(
    run: Run, standins: StandIns, tmp_path: Path, bound: str, said: str
) -> None:
    zone = zones_of(40)["pans.example"] + "".join(f"many A 10.88.0.{number}\n" for number in range(20))
    standin = standins.add([read_zone(zone, "pans.example")])
    standin.transfers = True
    path = estate_of(tmp_path, 40, {"one": standin.port})
    text = path.read_text(encoding="utf-8")
    path.write_text(f"[bounds]\n{bound}\n{text}", encoding="utf-8")
    done = run("rollcall", "--transfer", "--json", "--estate", str(path))
    assert said in json.dumps(done.report["remarks"])
    assert done.report["counts"]["questions"] >= 40


def without_end(connection: socket.socket) -> None:
    """A transfer of one host after another, all of them different."""
    query = query_on(connection)
    apex = from_text("pans.example")
    soa = apex + b"\0\6\0\1\0\0\1\x2c" + (len(apex) * 2 + 20).to_bytes(2, "big") + apex * 2 + bytes(20)
    for first in range(0, 10_000_000, 1000):
        hosts = b"".join(
            b"\x08%08d" % n + apex + b"\0\1\0\1\0\0\1\x2c\0\4" + n.to_bytes(4, "big")
            for n in range(first, first + 1000)
        )
        records = (b"" if first else soa) + hosts
        asked = b"\0\1" + (1000 + (not first)).to_bytes(2, "big") + bytes(4) + apex + b"\0\xfc\0\1"
        whole = query[:2] + b"\x84\0" + asked + records
        connection.sendall(len(whole).to_bytes(2, "big") + whole)


@pytest.mark.skipif(sys.platform == "win32", reason="there is no such limit")
def test_a_transfer_that_is_larger_than_the_memory_is_told_and_nothing_else_is_lost(
    standins: StandIns, tmp_path: Path
) -> None:
    import resource

    if sys.platform == "win32":
        raise NotImplementedError
    hosts = estate_of(tmp_path, 40, {"one": 1})
    small = standins.add([read_zone(text, zone) for zone, text in zones_of(40).items()])
    with peer(udp=lambda wire: [(0.0, small.respond(wire, stream=False) or b"")], tcp=without_end) as port:
        bounds = "[bounds]\ntransfer_records = 20000000\nrecords_of_a_run = 20000000\ntransfer_mib = 4096\n"
        text = bounds + hosts.read_text(encoding="utf-8").replace("port = 1\n", f"port = {port}\n")
        hosts.write_text(text, encoding="utf-8")
        room = 420 << 20
        done = subprocess.run(
            [str(PROGRAM), "rollcall", "--transfer", "--json", "--estate", str(hosts)], capture_output=True, text=True,
            preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (room, room)), check=False, timeout=PATIENCE_S,
        )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    report = json.loads(done.stdout)
    assert "it is larger than the memory that is left" in str(report["remarks"]) and report["counts"]["agrees"] == 40


# Streams


def test_a_stream_without_end_holds_up_neither_its_own_question_nor_another_server(standins: StandIns) -> None:
    zone = read_zone(ZONES["gullmarsh.example"], "gullmarsh.example")
    healthy = server_of(standins.add([zone]))
    with peer(udp=CUT, tcp=flood) as port, Engine(timeout_s=0.4, tries=2) as engine:
        engine.submit(Question(NAME, A, Server("flood", LOOPBACK, port)))
        for number in range(20):
            engine.submit(Question(from_text(f"x{number}.w.gullmarsh.example"), A, healthy))
        answers = []
        while heard := engine.collect():
            answers += heard
    assert len(answers) == 21
    by = {answer.question.server.label: answer for answer in answers}
    assert by["flood"].trouble is not None and not by["flood"].values
    assert by["standin"].values


Secured = Callable[[Serve], Serve]


@pytest.fixture
def secured(certified: Certified, monkeypatch: pytest.MonkeyPatch) -> Secured:
    """Lets a server speak TLS, with a certificate that is trusted here."""
    monkeypatch.setenv("SSL_CERT_FILE", str(certified.ca))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certified.chain, certified.key)

    def over_tls(serve: Serve) -> Serve:
        def wrapped(connection: socket.socket) -> None:
            with context.wrap_socket(connection, server_side=True) as secure:
                serve(secure)

        return wrapped

    return over_tls


def told_at(url: str, timeout_s: float, tries: int = 1) -> str:
    """Why a server at a URL gives no answer."""
    with Engine(timeout_s=timeout_s, tries=tries) as engine:
        engine.submit(Question(NAME, A, parse_server(url, "x")))
        (answer,) = engine.collect()
    assert answer.trouble is not None and not answer.values
    return answer.trouble


def test_a_flood_over_tls_ends(secured: Secured) -> None:
    with peer(tcp=secured(flood)) as port:
        told_at(f"tls://127.0.0.1:{port}", 0.4, 2)


@pytest.mark.parametrize(
    ("reply", "said"),
    [
        (b"HTTP/1.1 500 Oh\r\ncontent-length: 0\r\n\r\n", "status 500"),
        (b"HTTP/1.1 302 Found\r\nlocation: https://192.0.2.1/\r\ncontent-length: 0\r\n\r\n", "status 302"),
        (b"HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 5\r\n\r\nhello", "a page of another kind"),
        (b"HTTP/1.1 200 OK\r\ncontent-type: application/dns-message\r\n\r\n" + b"x" * 200_000, "malformed"),
        (b"HTTP/1.1 100 Continue\r\n\r\n" * 100_000, ""),
        (b"no HTTP at all\r\n\r\n", ""),
    ],
)  # fmt: skip
def test_what_comes_over_https_and_is_no_answer_is_told_as_what_it_is(
    secured: Secured, reply: bytes, said: str
) -> None:
    def serve(connection: socket.socket) -> None:
        connection.recv(4096)
        connection.sendall(reply)
        while connection.recv(4096):  # a connection that is closed before all was read is reset
            pass

    with peer(tcp=secured(serve)) as port:
        assert said in told_at(f"https://127.0.0.1:{port}/dns-query", 0.5)


@pytest.mark.parametrize(
    ("first", "drip"),
    [
        (b"HTTP/1.1 200 OK\r\nx-slow: ", b"a"),
        (b"HTTP/1.1 200 OK\r\ncontent-type: application/dns-message\r\n\r\n", b"a"),
        (b"", b"HTTP/1.1 100 Continue\r\n\r\n"),
    ],
)
def test_an_answer_that_drips_over_https_is_not_waited_for(secured: Secured, first: bytes, drip: bytes) -> None:
    ended = threading.Event()

    def serve(connection: socket.socket) -> None:
        connection.recv(4096)
        connection.sendall(first)
        for _ in range(int(PATIENCE_S / 0.2)):
            connection.sendall(drip)
            time.sleep(0.2)
        ended.set()

    with peer(tcp=secured(serve)) as port:
        told_at(f"https://127.0.0.1:{port}/dns-query", 0.3)
    assert not ended.is_set(), "it would have gone on"


def test_a_change_has_one_deadline_however_its_answer_drips() -> None:
    ended = threading.Event()

    def drips(connection: socket.socket) -> None:
        query_on(connection)
        connection.sendall(b"\0\x40")
        for _ in range(int(PATIENCE_S / 0.05)):
            connection.sendall(b"\0")
            time.sleep(0.05)
        ended.set()

    with peer(tcp=drips) as port:
        server = Server("slow", LOOPBACK, port)
        reply = update.send(server, update.update_message(from_text("pans.example"), []), None, timeout_s=0.5)
        assert (reply.trouble, reply.unknown, reply.done) == ("no answer in time", True, False)
        with TcpExchange(server, 0.5) as exchange, pytest.raises(TimeoutError):  # as Kerberos is negotiated
            exchange.answer(bytes(12))
    assert not ended.is_set()


# What grows with an estate, and not with its square


def steps_of(work: Callable[[], object]) -> int:
    """How many instructions of the interpreter some work takes."""
    steps = 0

    def count(frame: FrameType, event: str, _: object) -> Any:
        nonlocal steps
        frame.f_trace_opcodes = True
        steps += event == "opcode"
        return count

    before = sys.gettrace()
    sys.settrace(count)
    try:
        work()
    finally:
        sys.settrace(before)
    return steps


def test_a_sheet_of_many_servers_and_a_page_of_many_zones_grow_with_their_number() -> None:
    zone = from_text("pans.example")
    found = Lookup(zone, zone, Authority(zone, ()), [])

    def sheet(number: int) -> int:
        places = [Place(Server(str(n), n.to_bytes(4, "big")), soa=soa_of(zone)) for n in range(number)]
        seen = Seen(zone, "", found, places=places)
        return steps_of(lambda: sheet_of(seen, "agrees", [], datetime.now(UTC)))

    def lines(number: int) -> int:
        zones = {name: Zone(name, "", ()) for name in (from_text(f"z{n}.of-{number}.example") for n in range(number))}
        estate = Estate(zones={"": zones})
        work = AuditWork(estate, Atlas(estate), coverage((), (), estate))
        work.parts["pairs"] = cast(
            Any, SimpleNamespace(swept=lambda: [(name, "") for name in zones], verdicts=lambda: ())
        )
        return steps_of(lambda: work.zone_lines([]))

    for grown in (sheet, lines):
        assert grown(160) < 5 * grown(40)


def soa_of(zone: bytes) -> Answer:
    rdata = zone + zone + (1).to_bytes(4, "big") + bytes((0, 0, 14, 16)) * 4
    return Answer(Question(zone, 6, Server("a", LOOPBACK)), "NOERROR", True, (rdata,), 300)


# The page


def test_the_page_of_bounds_has_the_programs_numbers() -> None:
    page = (Path(__file__).parents[2] / "docs" / "bounds.md").read_text(encoding="utf-8")
    rows = [line.strip("| ").split(" | ") for line in page.splitlines() if line.startswith("| ")]
    told = {row[0].strip("`"): float(row[1]) for row in rows if row[1][0].isdigit()}
    entry = BoundsEntry()
    assert Bounds() == (entry.transfer_mib << 20, entry.transfer_records, entry.records_of_a_set, entry.transfer_seconds,
                        entry.records_of_a_run)  # fmt: skip
    settable = {key: getattr(entry, key) for key in entry.__struct_fields__}
    assert told == settable | {
        "seconds until a try ends (`--timeout`)": Asking().timeout,
        "tries (`--tries`)": Asking().tries,
        "questions under way at one server over UDP": manners.MOST_WINDOW,
        "questions under way on one connection (TCP, TLS)": stream.WINDOW,
        "questions under way at one HTTPS server": https.WINDOW,
        "messages on a connection that nobody asked for, before it is given up": stream.MOST_UNASKED,
        "bytes of one HTTPS answer": https.MOST_BYTES,
        "seconds that questions wait for a server which answered before, and is silent or gone": manners.HOLD_S,
        "times that this is done for one server": manners.HOLDS,
        "times that one question is put again for it": manners.AGAIN,
        "questions a second to one of the estate's servers while networks are swept, unless on loopback or paced otherwise": (
            arguments.SWEEP_PACE
        ),
        "aliases in a row": walking.MOST_ALIASES,
        "servers asked, and name servers looked up, of one level": walking.MOST_BREADTH,
        "delegations that hang on one another": walking.MOST_NESTED,
        "names that are tried for what was typed": scope.MOST_CANDIDATES,
        "seconds that programs' own way is waited for": from_here_run.PROGRAMS_S,
        "looks at one name, to see whether several answer behind one address": asking.LOOKS,
        "seconds that a program of the system is waited for": sources.PROGRAM_S,
        "seconds that a host is given to answer a knock": knocking.KNOCK_S,
        "hosts that are knocked at at once": knocking.AT_ONCE,
        "ports that are tried of each": knocking.MOST_PORTS,
        "names of a directory's tombstones that are looked for in each zone": MOST_GONE,
        "objects of a directory that are no records, kept by name": MOST_LOST,
        "domain controllers that are asked at once how changes come to them": child.AT_ONCE,
        "seconds that each of them is given": child.OTHERS_S,
        "messages in a row without a record": MOST_EMPTY,
        "transfers at once": transfers.AT_ONCE,
        "zones that are taken up": exploring.MOST_ZONES,
        "hosts that are asked for": exploring.MOST_HOSTS,
        "names of servers that are looked up for one zone": draft_asking.MOST_NAME_SERVERS,
        "names whose questions one step may put to servers that nobody named": draft_run.NAMES,
        "rounds of the search": draft_run.MOST_ROUNDS,
        "descriptors that are asked of the system at the start": descriptors.WANTED,
        "descriptors that are kept for everything but questions": descriptors.RESERVED,
        "sockets for one server over UDP and TCP": engine.MOST_OF_A_LANE,
        "seconds that a pipe may bring nothing": reading.SILENT_S,
        "files that include one another in a row (`$INCLUDE`)": masterfile.DEEPEST,
        "changes that no `--at-most` is needed for, forth or back": sending.MOST_UNASKED,
        "changes of one zone that are sent without it, where they are over 5 % of its names": sending.FEW_OF_A_ZONE,
        "bytes of a message, but for the sets of one name": update.MOST_BYTES,
        "messages to negotiate a Kerberos context": kerberos.MOST_STEPS,
        "questions in one batch to it": protocol.MOST_QUESTIONS,
        "mebibytes of a message": protocol.MOST_BYTES >> 20,
        "questions under way to it": exchange.MOST_UNDER_WAY,
        "batches under way to it": exchange.BATCHES_UNDER_WAY,
        "questions that it has in hand, whoever asks": worker.MOST_IN_HAND,
        "batches that it has in hand": protocol.MOST_ERRANDS,
        "servers that it knows at a time": worker.MOST_SERVERS,
        "errands that it remembers, so that none is carried out twice": worker.MOST_SEEN,
        "seconds that it works on one batch": worker.LONGEST_S,
        "seconds that it may say nothing while it has work, before it is lost": exchange.PATIENCE_S,
        "seconds that it may take to come back, once its connection has ended": exchange.RETURN_S,
        "seconds that the broker may be away": exchange.BROKER_PATIENCE_S,
        "seconds that it is given to say who it is": desk.GREET_S,
        "seconds that its clock may be off": desk.CLOCKS_APART_S,
        "messages that nobody asked for, before it is not listened to": desk.MOST_JUNK,
        "seconds until the broker counts as not there": transport.CONNECT_S,
        "mebibytes of a file that is read, packed or unpacked": reading.MOST_BYTES >> 20,
        "files that one list includes (`$INCLUDE`)": masterfile.MOST_INCLUDES,
        "records that `$GENERATE` makes in one list": masterfile.MOST_GENERATED,
    }

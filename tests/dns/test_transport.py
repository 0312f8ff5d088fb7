"""Servers with ways of their own: no EDNS, no case, cookies, TLS, HTTPS, a pace; and the rules of politeness by themselves."""

from __future__ import annotations

import base64
import errno
import re
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import dns.flags
import dns.message
import dns.rcode
import dns.rrset
import pytest

from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import A
from salt_mirror.dns.system import parse_server
from salt_mirror.dns.traffic.bulk import Bulk
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.traffic.manners import LEAST_WINDOW, MOST_WINDOW, Breaker, Pace, RoundTrips, Window
from salt_mirror.dns.transfer import TransferFailed, transfer
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support.estates import lay_out
from support.peers import peer
from support.program import Run
from support.realservers import LOOPBACK, bind
from support.servers import KEY, ZONES, Certified, ask, server_of

Seen = list[dns.message.Message]


@contextmanager
def quirky(answer: Callable[[dns.message.Message, bytes], bytes | None]) -> Iterator[tuple[Server, Seen]]:
    """A UDP server that answers as a function says; it keeps what it was asked."""
    seen: Seen = []

    def told(wire: bytes) -> list[tuple[float, bytes]]:
        seen.append(dns.message.from_wire(wire))
        response = answer(seen[-1], wire)
        return [] if response is None else [(0.0, response)]

    with peer(udp=told) as port:
        yield Server("quirky", LOOPBACK, port), seen


def right(query: dns.message.Message) -> dns.message.Message:
    response = dns.message.make_response(query)
    response.flags |= dns.flags.AA
    response.answer.append(dns.rrset.from_text(query.question[0].name, 300, "IN", "A", "10.77.0.1"))
    return response


def ask_all(server: Server, number: int, timeout_s: float = 0.3) -> list[str]:
    with Engine(timeout_s=timeout_s) as engine:
        found = []
        for count in range(number):
            engine.submit(Question(from_text(f"h{count}.pans.example"), A, server))
            found.append(engine.collect()[0])
        return [answer.trouble or f"{len(answer.values)} value" for answer in found]


@pytest.mark.parametrize("refusing", [True, False])
@pytest.mark.parametrize("chance_is_lower", [True, False])
def test_a_server_without_edns_is_asked_plainly_and_remembered(
    refusing: bool, chance_is_lower: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    if chance_is_lower:  # chance may draw the very letters of the plain question
        monkeypatch.setattr("salt_mirror.dns.traffic.fallback.random_case", lambda: bytes(range(256)))

    def old(query: dns.message.Message, wire: bytes) -> bytes | None:
        if query.edns >= 0:
            return wire[:2] + b"\x80\x01" + bytes(8) if refusing else None
        return right(query).to_wire()

    with quirky(old) as (server, seen):
        assert ask_all(server, 6) == ["1 value"] * 6
    assert [query.edns for query in seen[-3:]] == [-1, -1, -1], "by now it is known"
    assert sum(query.edns >= 0 for query in seen) <= 3


def forgetful(query: dns.message.Message, wire: bytes) -> bytes:
    """The right answer, with the question's letters in lower case."""
    response = right(query).to_wire()
    return response[:12] + response[12 : len(wire) - 11].lower() + response[len(wire) - 11 :]


def test_a_server_that_forgets_the_case_is_found_out_and_remembered_and_told_where_nothing_helps() -> None:
    def stubborn(query: dns.message.Message, wire: bytes) -> bytes | None:
        return None if query.edns < 0 or query.question[0].name.to_text().islower() else forgetful(query, wire)

    with quirky(forgetful) as (server, seen):
        assert ask_all(server, 6) == ["1 value"] * 6
    names = [query.question[0].name.to_text() for query in seen]
    assert any(name != name.lower() for name in names[:2]), "the case is random at first"
    assert all(name == name.lower() for name in names[-3:])
    with quirky(stubborn) as (server, _):
        assert any("in another case" in told for told in ask_all(server, 3, timeout_s=0.1))


def test_a_server_that_limits_its_rate_is_asked_over_tcp_and_nothing_is_lost(standins: StandIns) -> None:
    """What it drops is asked again, what it cuts short comes over TCP: no name is unverified for it."""
    zone = "$TTL 60\n@ SOA ns h 1 3600 600 86400 60\n@ NS ns\nns A 127.0.0.1\n"
    standin = standins.add([read_zone(zone + "".join(f"h{n} A 192.0.2.{n}\n" for n in range(60)), "salt.invalid")])
    standin.limits_after = 10
    server = Server("limiting", bytes((127, 0, 0, 1)), standin.port)
    with Engine(timeout_s=0.3, tries=4) as engine:
        for n in range(60):
            engine.submit(Question(from_text(f"h{n}.salt.invalid"), A, server))
        answers: list[Answer] = []
        while found := engine.collect():
            answers += found
    assert {answer.trouble for answer in answers} == {None} and len(answers) == 60
    assert all(answer.values[0][3] == int(to_text(answer.question.name)[1:].split(".")[0]) for answer in answers)


@pytest.mark.real
def test_a_server_that_insists_on_cookies_gets_them(tmp_path: Path) -> None:
    with bind(
        tmp_path, ZONES, key=KEY, options=("require-server-cookie yes", 'cookie-secret "' + "ab" * 16 + '"')
    ) as server:
        first, *others = [ask(server, "web") for _ in range(3)]
        with Engine(timeout_s=0.5) as engine:
            for number in range(50):
                engine.submit(Question(from_text(f"x{number}.w.gullmarsh.example"), A, server))
            found = []
            while answers := engine.collect():
                found += answers
    assert all(answer.trouble is None for answer in (first, *others, *found))
    assert first.tries > 1, "the first answer is BADCOOKIE, with the cookie for the next try"
    assert sum(answer.tries > 1 for answer in found) < 50, "the cookie is kept for the questions after"


@pytest.mark.real
def test_tls_and_https_bring_the_same_answers_and_trust_no_strange_certificate(
    run: Run, tmp_path: Path, certified: Certified, monkeypatch: pytest.MonkeyPatch
) -> None:
    with bind(tmp_path, ZONES, key=KEY, tls=(certified.chain, certified.key)):
        tls_port, https_port = (tmp_path / "ports").read_text(encoding="utf-8").split()
        addresses = {
            "tls": f"tls://127.0.0.1:{tls_port}",
            "named": f"tls://127.0.0.1:{tls_port}#dns.gullmarsh.example",
            "https": f"https://127.0.0.1:{https_port}/dns-query",
        }
        servers = {label: parse_server(text, label) for label, text in addresses.items()}
        monkeypatch.setenv("SSL_CERT_FILE", str(certified.ca))
        for label, server in servers.items():
            answers = [ask(server, name) for name in ("web", "big", "nothing", "a")]
            assert [(answer.status, len(answer.values)) for answer in answers] == [
                ("NOERROR", 2), ("NOERROR", 90), ("NXDOMAIN", 0), ("NOERROR", 0),
            ], label  # fmt: skip
            assert {answer.over for answer in answers} == {server.over}
        for place in (addresses["tls"], addresses["https"]):
            inspected = run("authority", "gullmarsh.example", "--at", place, "--json").report
            assert {row["state"] for sheet in inspected["sheets"] for row in sheet["servers"]} == {"authoritative"}
            assert {row["tcp"] for sheet in inspected["sheets"] for row in sheet["servers"]} == {"not asked"}
            assert "auth.no-tcp" not in {finding["code"] for finding in inspected["findings"]}
        wrong_name = parse_server(addresses["tls"] + "#elsewhere.example", "wrong")
        assert ask(wrong_name, "web").trouble == "its TLS certificate could not be verified"
        monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "none.pem"))
        for label, server in servers.items():
            answer = ask(server, "web")
            assert (answer.values, answer.status) == ((), "untrusted"), label


def test_a_pace_is_kept_and_the_estates_pace_reaches_the_server(run: Run, standins: StandIns, tmp_path: Path) -> None:
    standin = standins.add([read_zone(ZONES["gullmarsh.example"], "gullmarsh.example")])
    server = server_of(standin)
    server.pace = 100
    moments = [0.0]
    with Engine(clock=lambda: moments[-1]) as engine:
        for number in range(60):
            engine.submit(Question(from_text(f"h{number}.gullmarsh.example"), A, server))
        heard = 0
        for moment, allowed in ((0.0, 10), (0.05, 15), (1.0, 25)):
            moments.append(moment)
            while heard < allowed:
                heard += len(engine.collect())
            assert standin.asked == allowed, "a hundred a second, and ten at once"
    lay_out(tmp_path / "estate.toml", "gullmarsh.example", {"slow": standin.port})
    text = (tmp_path / "estate.toml").read_text(encoding="utf-8").replace("[reach]", "pace = -1\n[reach]")
    (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
    assert "servers, slow, pace: -1.0 is no pace" in run("pairs", "web.gullmarsh.example").err


def test_datagrams_go_out_one_by_one_where_the_system_does_not_take_them_together() -> None:
    class Declining:
        def __init__(self) -> None:
            self.sent: list[bytes] = []
            self.asked = 0

        def sendmsg(self, *_: object) -> int:
            self.asked += 1
            raise OSError(errno.EIO, "no checksums here")

        def send(self, wire: bytes) -> int:
            if wire == b"gone":
                raise ConnectionRefusedError
            self.sent.append(wire)
            return len(wire)

    sock, bulk = Declining(), Bulk()
    assert bulk.send(sock, [b"one", b"two"]) and bulk.send(sock, [b"six", b"ten"])  # type: ignore[arg-type]
    assert (sock.sent, sock.asked <= 1) == ([b"one", b"two", b"six", b"ten"], True)
    assert not bulk.send(sock, [b"gone", b"here"])  # type: ignore[arg-type]
    assert sock.sent[-1] == b"here"


def test_many_datagrams_of_one_size_arrive_as_many() -> None:
    with (
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as ear,
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as mouth,
    ):
        ear.bind(("127.0.0.1", 0))
        ear.settimeout(2)
        mouth.connect(ear.getsockname())
        wires = [b"%040d" % number for number in range(150)]
        assert Bulk().send(mouth, wires)
        assert [ear.recv(2048) for _ in wires] == wires


def test_a_bucket_of_tokens_lets_out_its_rate_and_no_more() -> None:
    pace = Pace(10)
    sent = 0
    for tick in range(1001):
        allowed = pace.allowance(tick / 100)
        pace.spend(allowed)
        sent += allowed
    assert 99 <= sent <= 101


def test_the_window_grows_with_answers_halves_once_a_wait_and_keeps_its_bounds() -> None:
    window = Window()
    first = window.size
    window.heard(10)
    assert window.size == first + 10
    window.lost(1.0, 0.2)
    window.lost(1.1, 0.2)
    assert window.size == max(LEAST_WINDOW, (first + 10) / 2)
    for moment in range(50):
        window.lost(2.0 + moment, 0.2)
    assert window.size == LEAST_WINDOW
    for _ in range(100_000):
        window.heard(1)
    assert window.size == MOST_WINDOW


def test_the_wait_follows_the_measured_round_trips() -> None:
    trips = RoundTrips(1.0)
    assert trips.wait_s == 1.0
    for _ in range(50):
        trips.heard(0.15)
    assert 0.15 < trips.wait_s < 0.25
    trips.heard(0.9)
    assert trips.wait_s > 0.5
    for _ in range(50):
        trips.heard(0.0005)
    assert trips.wait_s == 0.1, "never sooner than a busy server may need"


def test_the_breaker_opens_after_straight_failures_and_closes_with_an_answer() -> None:
    breaker = Breaker()
    breaker.unheard(0.0)
    assert not breaker.open
    breaker.unheard(0.0)
    assert breaker.open
    assert [breaker.probes(moment) for moment in (0.5, 1.5, 1.6, 2.6)] == [False, True, False, True]
    breaker.heard()
    assert not breaker.open
    for number in range(8):
        assert not breaker.open, f"a server that has answered gets more patience ({number})"
        breaker.unheard(0.0)
    assert breaker.open


@pytest.mark.parametrize(
    "text", ["", "dns", "127.0.0.1:", "127.0.0.1:0", "[::1", "tls://dns.example", "https://", "https://u:p@h/", "https://h:99999/"]
)  # fmt: skip
def test_what_is_no_server_is_refused(text: str) -> None:
    with pytest.raises(ValueError):
        parse_server(text, "x")


@pytest.mark.real
def test_a_key_that_is_turned_away_is_told_as_what_it_is_and_lames_nobody(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with bind(tmp_path / "bind", ZONES, key=KEY) as server:
        said = {}
        for what, key in {
            "unknown": KEY._replace(name=from_text("other.test")),
            "secret": KEY._replace(secret=b"another secret altogether, as it is"),
            "clock": KEY,
        }.items():
            signed = Server(what, server.address, server.port, key=key)
            if what == "clock":
                monkeypatch.setattr(time, "time", lambda now=time.time: now() - 3600)
            said[what] = ask(signed, "web").trouble or ""
            with pytest.raises(TransferFailed) as failed:
                list(transfer(signed, from_text("gullmarsh.example")))
            # Between the two the clocks may pass a second.
            assert re.sub(r"\d+ s", "so far", str(failed.value)) == re.sub(r"\d+ s", "so far", said[what]), what
        monkeypatch.undo()
        assert said["unknown"] == "it does not know the key (BADKEY)"
        assert said["secret"] == "its key has another secret than ours (BADSIG)"
        assert re.fullmatch(r"its clock is (36\d\d|3599) s ahead of ours \(BADTIME\)", said["clock"])
        (tmp_path / "wrong.key").write_text(base64.b64encode(b"not the secret").decode("ascii"), encoding="utf-8")
        text = '[[zones]]\nname = "gullmarsh.example"\nservers = ["one"]\n[servers.one]\naddress = "127.0.0.1"\n'
        text += f'port = {server.port}\nkey = "mirror.test"\n[keys."mirror.test"]\nsecret_file = "wrong.key"\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        report = run("authority", "--json").report
        assert "auth.lame" not in {one["code"] for one in report["findings"]} and report["outcome"] == "unverified"
        (tmp_path / "wrong.key").write_text("\n", encoding="utf-8")
        assert "the secret is empty" in run("authority").err

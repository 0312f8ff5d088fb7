"""Vantages: who may speak to whom, what a vantage lets itself be asked, what travels, and what is told of it."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import msgspec
import pytest
from distributed import LocalCluster
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror import __version__
from salt_mirror.checks.places import together
from salt_mirror.cli.ending import reading_order
from salt_mirror.demo.world import gullmarsh
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Key, Question, Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.findings import Finding
from salt_mirror.standin.server import Fault, StandIn, StandIns
from salt_mirror.vantages.desk import Desk, Present, Unreached, clock_trouble
from salt_mirror.vantages.exchange import FarExchange
from salt_mirror.vantages.keys import make_keys
from salt_mirror.vantages.mail import MOST_KEPT, REPLIES, Post
from salt_mirror.vantages.papers import check_address, papers_in
from salt_mirror.vantages.parcel import (
    Batch,
    BatchAnswers,
    Facts,
    Greeting,
    ServerAddress,
    Unreadable,
    answer_of,
    batch_of,
    errand_in,
    packed,
    place_of,
    reply_in,
)
from salt_mirror.vantages.station import MOST_IN_HAND, Station, StationRules, networks_of
from support.program import PROGRAM, Run, begin, interrupt
from support.realservers import free_port
from support.waiting import PATIENCE_S, until

LOOPBACK = bytes((127, 0, 0, 1))
NAME = from_text("kiln-02.pans.gullmarsh.internal")


# What travels


@given(
    st.binary(max_size=40),
    st.lists(st.binary(min_size=1, max_size=20), max_size=3),
    st.sampled_from(["NOERROR", "NXDOMAIN", "timeout", "vantage: not asked"]),
    st.none() | st.integers(0, 2**31 - 1),
    st.none() | st.floats(0, 1e4),
)
def test_an_answer_comes_back_as_it_was(
    message: bytes, values: list[bytes], status: str, ttl: int | None, rtt_ms: float | None
) -> None:
    question = Question(NAME, 65_280, Server("a", LOOPBACK))
    answer = Answer(question, status, True, tuple(values), ttl, None, message, rtt_ms, 2, "tcp")
    reply = reply_in(packed(BatchAnswers(1.5, [(7, [(3, *answer[1:])])])))
    assert isinstance(reply, BatchAnswers)
    ((number, (line,)),) = reply.parts
    assert (number, reply.clock, line[0]) == (7, 1.5, 3)
    assert answer_of(line, question) == answer


@given(st.binary(max_size=200))
def test_what_is_no_errand_and_no_reply_is_turned_away(payload: bytes) -> None:
    for read in (errand_in, reply_in):
        try:
            read(payload)
        except Unreadable:
            continue


def test_a_batch_names_each_server_once_and_never_a_secret() -> None:
    key = Key(from_text("mirror"), "hmac-sha256", b"the secret itself")
    servers = [Server("a", LOOPBACK, 5301, key=key), Server("b", LOOPBACK, 5302)]
    questions = [Question(NAME, rdtype, server) for rdtype in (1, 28) for server in servers]
    raw = packed(batch_of(1, "desk", questions, within_s=5))
    batch = errand_in(raw)
    assert isinstance(batch, Batch)
    assert [(place.port, place.key) for place in batch.places] == [(5301, "mirror."), (5302, "")]
    assert [question[2] for question in batch.questions] == [0, 1, 0, 1]
    assert b"the secret itself" not in raw


@pytest.mark.parametrize(
    ("at", "wrong"),
    [(5, -1), (5, 2**31), (5, 2**40), (8, -0.5), (8, 1e300), (8, float("nan")), (4, ("no bytes",)), (0, "first")],
)
def test_what_no_answer_can_have_is_not_read(at: int, wrong: Any) -> None:
    line: list[Any] = [0, "NOERROR", True, (), 60, None, b"", 1.0, 1, "udp"]
    line[at - 1 if at else 0] = wrong
    with pytest.raises(Unreadable):
        reply_in(msgspec.msgpack.encode(["told", 1.5, [[7, [line]]]]))


@pytest.mark.parametrize(
    ("status", "over"), [("vantage: \x1b[2Jgone", "udp"), ("NO\u202eERROR", "udp"), ("NOERROR", "pigeon")]
)
def test_a_status_that_would_write_on_the_terminal_is_none(status: str, over: str) -> None:
    question = Question(NAME, 1, Server("a", LOOPBACK))
    answer = answer_of((0, status, True, (b"abcd",), 60, None, b"", 1.0, 1, over), question)
    assert answer.trouble == "a malformed answer" and not answer.values


@pytest.mark.parametrize(
    ("rdtype", "values", "alias"),
    [
        (1, (b"abc",), None),
        (28, (b"abcd",), None),
        (15, (b"\x00",), None),
        (33, (b"",), None),
        (1, (), b"\x07kiln"),
        (2, (b"\xff",), None),
    ],
)  # fmt: skip
def test_a_vantage_that_sends_garbage_proves_nothing(
    rdtype: int, values: tuple[bytes, ...], alias: bytes | None
) -> None:
    question = Question(NAME, rdtype, Server("a", LOOPBACK))
    answer = answer_of((0, "NOERROR", True, values, 60, alias, b"", 1.0, 1, "udp"), question)
    assert answer.trouble == "a malformed answer" and not answer.values and answer.alias is None


def test_a_vantage_is_asked_garbage_and_lives(world: tuple[Path, dict[str, StandIn]]) -> None:
    port = world[1]["dc-north"].port
    places = [
        place_of(Server("a", LOOPBACK, port)),
        ServerAddress("b", LOOPBACK, 99_999, "udp", "", "", None, ""),
        ServerAddress("c", b"\x01", 53, "udp", "", "", None, ""),
        ServerAddress("d", LOOPBACK, port, "pigeon", "", "", None, ""),
    ]
    asked = [(b"\xffno name", 1, 0, False), (NAME, 70_000, 0, False), (NAME, 1, 9, False), (NAME, 1, 0, False)]
    asked += [(NAME, 1, at, False) for at in (1, 2, 3, -1)]
    parent = NAME[NAME[0] + 1 :]  # one that is known by then, below what is no label
    asked += [(start + parent, 1, 0, False) for start in (b"\x05kil", b"\x50" + b"k" * 0x50, b"\xc0\x0c", b"\x00")]
    with station(StationRules(networks_of(["127.0.0.1"]))) as (one, heard):
        one.take(packed(Batch(1, "desk", 5.0, places, asked)))
        until(lambda: len(lines(heard)) == len(asked))
    statuses = dict(lines(heard))
    assert statuses.pop(3) == "NOERROR" and one.questions == 1
    assert all(status.startswith("vantage: not asked by the vantage quay: ") for status in statuses.values())


# What a vantage lets itself be asked


@contextmanager
def station(rules: StationRules) -> Iterator[tuple[Station, list[BatchAnswers | Facts]]]:
    heard: list[BatchAnswers | Facts] = []
    one = Station("quay", rules, lambda _, payload: heard.append(reply_in(payload)))
    try:
        yield one, heard
    finally:
        one.close()


def lines(heard: list[BatchAnswers | Facts]) -> list[tuple[int, str]]:
    parts = [part for one in heard if isinstance(one, BatchAnswers) for part in one.parts]
    return sorted((line[0], line[1]) for _, found in parts for line in found)


def ask(one: Station, questions: list[Question], number: int = 1, within_s: float = 30) -> None:
    one.take(packed(batch_of(number, "desk", questions, within_s=within_s)))


def test_a_server_outside_the_allow_list_is_not_asked(world: tuple[Path, dict[str, StandIn]]) -> None:
    north = world[1]["dc-north"]
    before = north.asked
    with station(StationRules(networks_of(["192.0.2.0/24"]))) as (one, heard):
        ask(one, [Question(NAME, 1, Server("a", LOOPBACK, north.port))])
        ask(one, [Question(NAME, 1, Server("a", b"", 443, over="https", url="https://192.0.2.1/dns-query"))], 2)
        until(lambda: len(lines(heard)) == 2)
    assert {status for _, status in lines(heard)} == {
        "vantage: not asked by the vantage quay: the server is not in its allow list"
    }
    assert north.asked == before and one.refused == 2 and one.questions == 0


def test_a_vantage_waits_as_long_as_it_was_told(standins: StandIns) -> None:
    silent = standins.add()
    silent.fault = Fault.SILENT
    with station(StationRules(networks_of(["127.0.0.1"]), timeout_s=0.05, tries=2)) as (one, heard):
        ask(one, [Question(NAME, 1, Server("a", LOOPBACK, silent.port))])
        until(lambda: lines(heard))
    assert lines(heard) == [(0, "timeout")] and silent.asked == 2


def test_a_key_that_the_vantage_does_not_have_is_not_sent_without(world: tuple[Path, dict[str, StandIn]]) -> None:
    north = world[1]["dc-north"]
    signed = Server("a", LOOPBACK, north.port, key=Key(from_text("mirror"), "hmac-sha256", b"x"))
    with station(StationRules(networks_of(["127.0.0.1"]))) as (one, heard):
        ask(one, [Question(NAME, 1, signed)])
        until(lambda: lines(heard))
    assert lines(heard) == [(0, "vantage: not asked by the vantage quay: it does not have the key mirror.")]


def test_a_flood_is_held_to_the_pace_and_what_is_too_much_is_turned_away(
    world: tuple[Path, dict[str, StandIn]],
) -> None:
    north = world[1]["dc-north"]
    server = Server("a", LOOPBACK, north.port)
    before = north.asked
    with station(StationRules(networks_of(["127.0.0.1"]), pace=20.0)) as (one, heard):
        for number in range(MOST_IN_HAND // 500 + 2):
            names = [from_text(f"h{number}-{at}.pans.gullmarsh.internal") for at in range(500)]
            ask(one, [Question(name, 1, server) for name in names], number, within_s=2)
        began = time.monotonic()
        until(lambda: one.refused >= MOST_IN_HAND)  # the most of it took too long, at this pace
        took = time.monotonic() - began
    turned = [status for _, status in lines(heard) if "in hand already" in status]
    late = [status for _, status in lines(heard) if "it took too long" in status]
    assert len(turned) > 900 and len(late) > MOST_IN_HAND - 500
    assert north.asked - before <= 20 * (took + 3)


def test_a_vantage_says_who_it_is() -> None:
    with station(StationRules(networks_of(["10.77.0.0/16", "192.0.2.53"]))) as (one, heard):
        one.take(packed(Greeting(9, "desk")))
        until(lambda: heard)
    (facts,) = heard
    assert isinstance(facts, Facts)
    assert (facts.number, facts.version, facts.allowed) == (9, __version__, ["10.77.0.0/16", "192.0.2.53/32"])
    assert abs(facts.clock - time.time()) < 2
    with pytest.raises(Unreadable):
        one.take(b"\xc1 no errand")


# Who may speak to whom


@pytest.mark.parametrize(
    ("address", "says"),
    [
        ("tcp://192.0.2.1:8786", "stays on this computer"),
        ("0.0.0.0:8786", "stays on this computer"),
        ("tcp://scheduler.gullmarsh.example", "stays on this computer"),
        ("tls://127.0.0.1:8786", "needs a certificate"),
        ("quic://127.0.0.1", "is no address of a scheduler"),
        ("tcp://127.0.0.1:99999", "is no address of a scheduler"),
    ],
)
def test_without_certificates_nothing_leaves_this_computer(run: Run, address: str, says: str) -> None:
    with pytest.raises(BadInput, match=says):
        check_address(address, None)
    for words in (["serve", address], ["join", address, "--name", "quay"], ["list", address]):
        done = run("vantage", *words)
        assert done.status == 2 and says in done.err and not done.out


def test_keys_are_made_once_and_nobody_else_reads_them(run: Run, tmp_path: Path) -> None:
    done = run("vantage", "keys", "keys", "quay", "kiln", "--days", "30")
    assert done.status == 0 and "5 made in keys" in done.out
    folder = tmp_path / "keys"
    before = {path.name: path.read_bytes() for path in folder.iterdir()}
    assert set(before) == {
        f"{name}.{kind}" for name in ("ca", "scheduler", "desk", "quay", "kiln") for kind in ("pem", "key")
    }
    if os.name == "posix":
        assert {stat.S_IMODE(path.stat().st_mode) for path in folder.glob("*.key")} == {0o600}
    assert make_keys(folder, ["quay", "isp"], days=30) == ["isp"]
    assert {name: (folder / name).read_bytes() for name in before} == before
    for name in before:
        if name.endswith(".pem") and name != "ca.pem":
            papers_in(folder, name.removesuffix(".pem")).check()
    assert run("vantage", "keys", "keys", "../quay").status == 2
    assert run("vantage", "keys", "keys", "scheduler").status == 2
    (folder / "ca.key").unlink()
    refused = run("vantage", "keys", "keys", "west")
    assert refused.status == 2 and "not its key" in refused.err and not (folder / "west.pem").exists()


@contextmanager
def service(folder: Path, *words: str, until_it_says: str, resolvers: str = "") -> Iterator[subprocess.Popen[str]]:
    """A scheduler or a vantage as the installed program, from the moment it says that it is there."""
    log = folder / f"{words[1]}-{words[-1].replace('/', '_')}.log"
    with log.open("w", encoding="utf-8") as out:
        process = subprocess.Popen(
            [str(PROGRAM), *words], cwd=folder, stdout=out, stderr=subprocess.STDOUT, text=True,
            env=os.environ | {"SALT_MIRROR_RESOLVERS": resolvers, "NO_COLOR": "1"},
        )  # fmt: skip
        try:
            until(lambda: until_it_says in log.read_text(encoding="utf-8"))
            yield process
        finally:
            process.terminate()
            process.wait(PATIENCE_S)
    assert "Traceback" not in log.read_text(encoding="utf-8")


def test_a_foreign_certificate_gets_nothing(tmp_path: Path) -> None:
    make_keys(tmp_path / "keys", ["quay"], days=5)
    make_keys(tmp_path / "foreign", ["quay"], days=5)
    at = f"tls://127.0.0.1:{free_port()}"
    with service(tmp_path, "vantage", "serve", at, "--keys", "keys", until_it_says="are awaited"):
        with pytest.raises(Unreached):
            Desk(at, papers_in(tmp_path / "foreign", "desk"))
        with service(
            tmp_path, "vantage", "join", at, "--name", "quay", "--keys", "foreign", until_it_says="tried again"
        ):
            desk = Desk(at, papers_in(tmp_path / "keys", "desk"))
            try:
                assert desk.here() == {}
                assert desk.greet(["quay"])["quay"].trouble == "it is not there"
            finally:
                desk.close()


class _Stream:
    """Stands for a stream of the scheduler's; keeps what is sent."""

    def __init__(self) -> None:
        self.sent: list[Any] = []

    def send(self, message: Any) -> None:
        self.sent.append(message)


def test_what_a_desk_wants_of_a_vantage_that_is_not_there_is_kept_as_long_as_the_desk_is() -> None:
    quay, desk = _Stream(), _Stream()
    forgotten: list[tuple[str, str]] = []
    scheduler: Any = SimpleNamespace(
        id="x", stream_handlers={}, stream_comms={}, client_comms={"desk": desk}, aliases={}, workers={},
        add_plugin=lambda plugin: None, unsubscribe_topic=lambda topic, client: forgotten.append((topic, client)),
    )  # fmt: skip
    post = Post(scheduler)
    errand, reply = scheduler.stream_handlers.values()
    for number in range(MOST_KEPT + 9):
        errand(client="desk" if number % 2 else "gone", to="quay", payload=bytes((number,)))
    errand(client="gone", to="kiln", payload=b"x")
    post.remove_client(scheduler, "gone")
    assert forgotten == [(REPLIES, "gone")]
    scheduler.workers["tcp://1"] = SimpleNamespace(name="quay")
    scheduler.aliases["quay"], scheduler.stream_comms["tcp://1"] = "tcp://1", quay
    post.add_worker(scheduler, "tcp://1")
    assert [message["payload"][0] for message in quay.sent] == [at for at in range(9, MOST_KEPT + 9) if at % 2]
    scheduler.workers["tcp://2"] = SimpleNamespace(name="kiln")
    post.add_worker(scheduler, "tcp://2")
    post.add_worker(scheduler, "tcp://1")
    assert len(quay.sent) == MOST_KEPT // 2, "nothing is handed out twice"
    for to, payload in ((["quay"], b"x"), ("quay", "no bytes"), ("quay", None), (None, b"x"), ("nobody", b"x")):
        errand(client="desk", to=to, payload=payload, more=1)
        reply(worker="tcp://1", to=to, payload=payload, more=1)
    assert len(quay.sent) == MOST_KEPT // 2 and not desk.sent
    reply(worker="tcp://1", to="desk", payload=b"told")
    assert desk.sent == [{"op": "event", "topic": REPLIES, "event": (0.0, b"told")}]


STUBBORN = """
import asyncio
from salt_mirror.vantages import serving

async def stubborn():
    print("here", flush=True)
    while True:
        try:
            await asyncio.sleep(60)
        except asyncio.CancelledError:
            pass

serving.ENDS_WITHIN_S = 0.2
serving.run_until_told(stubborn())
"""


@pytest.mark.skipif(sys.platform == "win32", reason="there is no SIGTERM")
def test_what_is_told_to_end_ends_whatever_the_library_still_does() -> None:
    process = subprocess.Popen([sys.executable, "-c", STUBBORN], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None and process.stdout.readline() == "here\n"
    process.terminate()
    assert process.wait(PATIENCE_S) == 0
    process.stdout.close()


def test_a_scheduler_of_somebody_else_is_told_as_that() -> None:
    cluster: Any = LocalCluster
    with cluster(
        n_workers=0, processes=False, dashboard_address=None, host="127.0.0.1", protocol="tcp", silence_logs=False
    ) as other:
        desk = Desk(other.scheduler_address, None)
        try:
            with pytest.raises(Unreached, match="was not begun by `salt-mirror vantage serve`"):
                desk.greet(["quay"])
        finally:
            desk.close()


def test_a_scheduler_that_goes_in_the_middle_leaves_what_is_left_unverified(tmp_path: Path) -> None:
    at = f"tcp://127.0.0.1:{free_port()}"
    with (
        service(tmp_path, "vantage", "serve", at, until_it_says="are awaited") as scheduler,
        service(tmp_path, "vantage", "join", at, "--name", "quay", until_it_says="quay is at"),
    ):
        desk = Desk(at, None)
        try:
            present = desk.greet(["quay"])
            assert present["quay"].trouble is None
            scheduler.kill()
            exchange = FarExchange(desk, present, choose=lambda _: "quay", patience_s=2.0)
            questions = [Question(NAME, rdtype, Server("a", LOOPBACK, 9)) for rdtype in (1, 28)]
            for question in questions:
                exchange.submit(question)
            answers = []
            while found := exchange.collect():
                answers += found
            assert {answer.question for answer in answers} == set(questions)
            assert all(answer.unasked for answer in answers) and list(exchange.lost) == ["quay"]
            with pytest.raises(Unreached):
                desk.here()
        finally:
            desk.close()


def test_a_vantage_that_comes_back_is_used_again_by_a_watch(tmp_path: Path) -> None:
    at = f"tcp://127.0.0.1:{free_port()}"
    with service(tmp_path, "vantage", "serve", at, until_it_says="are awaited"):
        desk = Desk(at, None)
        try:
            exchange = FarExchange(desk, desk.greet(["quay"]), choose=lambda _: "quay", revived=True)

            def asked() -> Answer:
                exchange.submit(Question(NAME, 1, Server("a", LOOPBACK, 9)))
                assert exchange.backlog == 1
                (answer,) = exchange.collect()
                return answer

            assert asked().trouble == "not asked from quay: it is not there"
            words = ("vantage", "join", at, "--allow", "192.0.2.1", "--name", "quay")
            with service(tmp_path, *words, until_it_says="quay is at"):
                refused = "not asked by the vantage quay: the server is not in its allow list"
                until(lambda: asked().trouble == refused)
        finally:
            desk.close()


# Together, on loopback

World = tuple[Path, dict[str, StandIn]]


@pytest.fixture(scope="module")
def stations(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    """The demo's world with two vantages, each with another resolver, and a third that is not there."""
    with ExitStack() as stack:
        estate, servers = stack.enter_context(gullmarsh(tmp_path_factory.mktemp("stations")))
        folder, at = estate.parent, f"tcp://127.0.0.1:{free_port()}"
        with estate.open("a", encoding="utf-8") as file:
            file.write(
                '\n[vantages.quay]\ngroup = "desks"\nview = "internal"\n[vantages.kiln]\ngroup = "desks"\nview = "internal"\n'
                f'[vantages.west]\n[vantage_scheduler]\naddress = "{at}"\n'
            )
        stack.enter_context(service(folder, "vantage", "serve", until_it_says="are awaited"))
        for name, resolver in (("quay", "harbour-office"), ("kiln", "isp-one")):
            stack.enter_context(
                service(
                    folder, "vantage", "join", "--allow", "127.0.0.0/8", "--timeout", "2", "--tries", "2", "--name", name,
                    until_it_says=f"{name} is at",
                    resolvers=f"127.0.0.1:{servers[resolver].port}",
                )
            )  # fmt: skip
        yield estate, servers


@pytest.fixture
def there(stations: World, run: Run) -> Callable[..., Any]:
    return lambda *words: run(*words, "--estate", str(stations[0]))


def test_the_list_tells_who_is_there(there: Callable[..., Any]) -> None:
    done = there("vantage", "list")
    assert done.status == 3 and done.out.startswith("2 of 3 vantages can be used.\n")
    found = {one["vantage"]: one for one in json.loads(there("vantage", "list", "--json").out)["vantages"]}
    assert {name: one["trouble"] for name, one in found.items()} == {
        "quay": None,
        "kiln": None,
        "west": "it is not there",
    }
    assert found["quay"]["group"] == "desks" and found["quay"]["allowed"] == ["127.0.0.0/8"]


def test_each_desk_is_told_by_name_and_one_that_is_not_there_too(there: Callable[..., Any]) -> None:
    done = there("ask", "shop.gullmarsh.example", "A", "--from", "everywhere")
    assert done.status == 1
    assert done.out.splitlines()[0].endswith("and the servers differ (2 of 3 servers answered)")
    assert "west (unknown:53): not asked from west: it is not there" in done.out
    named = there("ask", "kiln-02", "A", "--at", "dc-north", "--from", "desks", "--brief")
    assert (named.status, named.out) == (0, "10.77.20.12\n")


def test_a_desk_without_a_resolver_is_told_as_that(stations: World, there: Callable[..., Any]) -> None:
    words = ("vantage", "join", "--allow", "127.0.0.0/8", "--name", "dry")
    with service(stations[0].parent, *words, until_it_says="dry is at"):
        done = there("ask", "shop.gullmarsh.example", "A", "--from", "dry")
        tried = there("resolvers", "--from", "dry")
    assert done.status == 3 and "its computer has no resolver" in done.out and "allow list" not in done.out
    assert tried.status == 3 and "The vantage dry could not be used: its computer has no resolver." in tried.out


def test_a_watch_tells_of_a_desk_that_is_not_there(there: Callable[..., Any]) -> None:
    words = ("settle", "press", "A", "--to", "10.77.20.21", "--from", "quay,west")
    done = there(*words, "--within", "6s", "--json")
    rows = {row["vantage"]: row for row in done.report["vantages"]}
    assert rows["quay"]["settled"] and not rows["west"]["settled"] and rows["west"]["asked"] > 0
    assert done.status == 3
    assert any("not asked from west: it is not there" in one["text"] for one in done.report["findings"])


def test_a_check_from_several_desks_tells_what_one_of_them_saw_with_its_name(there: Callable[..., Any]) -> None:
    report = there("resolvers", "--from", "desks", "--json").report
    faults = {one["code"]: one["vantages"] for one in report["findings"] if one["weight"] == "fault"}
    assert faults["res.zone-elsewhere"] == ["kiln"]
    assert [test["title"].rpartition(" from ")[2] for test in report["tests"]] == ["quay", "kiln"]
    absent = there("views", "--from", "west,quay", "--json").report
    gone = [one for one in absent["findings"] if one["code"] == "vantage.unverified"]
    assert [(one["vantages"], one["outcome"]) for one in gone] == [(["west"], "unverified")]
    assert absent["counts"]["unverified"] >= 1
    nobody = there("rollcall", "--from", "west")
    assert nobody.status == 3 and nobody.out.startswith("0 of 1 record set is as expected; 1 could not be verified.")


def test_a_desk_looks_with_its_own_computers_settings(there: Callable[..., Any]) -> None:
    report = there("from-here", "kiln-02.pans.gullmarsh.internal", "--from", "quay", "--json").report
    assert report["tests"][0]["title"].endswith(" from quay")
    rows = json.dumps(report["tests"])
    assert "/etc/hosts" in rows or sys.platform != "linux"
    assert not [one for one in report["findings"] if "allow list" in one["text"] and one["outcome"] == "differs"]


def same(report: dict[str, Any]) -> str:
    """A report without its times, and without what came late."""
    for one in report["findings"]:
        for said in one["evidence"]:
            said["rtt_ms"] = None
            said["ttl"] = None
            said["over"] = ""  # a datagram that is lost under load is asked for again over TCP
    report["counts"] |= {"strays": 0, "late": 0}
    audit = {key: value for key, value in report["audit"].items() if not key.startswith("round_trip")}
    left = {key: value for key, value in report.items() if key not in ("started", "seconds", "audit", "sheets")}
    return json.dumps([left, audit])


def test_a_shared_audit_has_the_report_of_one_machine(there: Callable[..., Any]) -> None:
    words = ("audit", "--only", "internal", "--skip", "resolvers", "--skip", "views", "--json")
    alone, shared = there(*words), there(*words, "--from", "desks", "--spread")
    assert shared.status == alone.status == 1
    assert same(shared.report) == same(alone.report)
    without = there(*words, "--from", "everywhere", "--spread").report
    assert any("shared without west" in remark for remark in without["remarks"])
    places = there("audit", "--only", "mail", "--only", "rollcall", "--from", "desks", "--json").report
    assert {tuple(one["vantages"]) for one in places["findings"]} == {("quay", "kiln")}


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("ask", "kiln-02", "--from", "kilm"), "there is no vantage or group 'kilm'; did you mean \"kiln\"?"),
        (("audit", "--spread"), "--spread shares the work among vantages: --from says which"),
        (("audit", "--from", "quay", "--remedies", "m.zone"), "an audit of several places is a whole one"),
        (("rollcall", "--from", "quay", "--transfer"), "a vantage asks single questions"),
        (("rollcall", "--from", "quay", "--unexpected"), "what nobody expects is known from transfers"),
        (("from-here", "--self", "--from", "quay"), "leave out --self and --settings"),
        (("settle", "--registered", "kiln-02", "10.77.20.12", "--from", "quay"), "--from watches caches"),
        (("vantage", "join"), "vantage join wants --name"),
        (("vantage", "join", "--name", "a b"), "vantage join wants --name"),
        (
            ("vantage", "join", "--name", "x", "--group", "g", "--allow", "10.77"),
            "--allow: '10.77' does not appear to be",
        ),
        (("vantage", "list", "a", "b"), "vantage list takes one address"),
    ],
)
def test_what_does_not_go_together_is_said(there: Callable[..., Any], words: tuple[str, ...], says: str) -> None:
    done = there(*words)
    assert (done.status, says in done.err, done.out) == (2, True, ""), done.err


def test_an_estate_without_a_scheduler_is_told_so(run: Run, world: tuple[Path, object]) -> None:
    done = run("ask", "kiln-02", "--from", "quay", "--estate", str(world[0]))
    assert done.status == 2 and "there is no [vantage_scheduler] in the estate" in done.err


def test_a_scheduler_that_is_not_there_leaves_everything_unverified(run: Run, tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text(
        '[[zones]]\nname = "salt.invalid"\nservers = ["a"]\nexpect = ["l.csv"]\n[servers.a]\naddress = "127.0.0.1"\nport = 9\n'
        f'[vantages.quay]\n[vantage_scheduler]\naddress = "tcp://127.0.0.1:{free_port()}"\n',
        encoding="utf-8",
    )
    (tmp_path / "l.csv").write_text("name,type,value\nkiln,A,192.0.2.1\n", encoding="utf-8")
    done = run("rollcall", "--from", "everywhere")
    assert done.status == 3 and "nobody can be reached at" in done.out


def test_an_interrupted_check_from_afar_tells_what_it_has(stations: World) -> None:
    words = ("rollcall", "--from", "desks", "--pace", "2", "--json", "--estate", str(stations[0]))
    servers = stations[1].values()
    before = sum(server.asked for server in servers)
    process = begin(*words, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    until(lambda: sum(server.asked for server in servers) > before)  # it is at work then, and asks two a second
    interrupt(process)
    out, err = process.communicate(timeout=PATIENCE_S)
    assert process.returncode == 130, err
    report = json.loads(out)
    assert report["interrupted"] and not [one for one in report["findings"] if one["code"] == "vantage.lost"]


def test_nothing_of_it_is_brought_in_unless_it_is_asked_for(tmp_path: Path) -> None:
    code = "import sys; from salt_mirror.cli.main import program; program(); print(sorted(sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=tmp_path)
    heavy = ("distributed", "dask", "tornado", "cryptography", "salt_mirror.vantages")
    brought = [name for name in heavy if f"'{name}'" in done.stdout]
    assert brought == []


# What is judged of it


def finding(text: str, **more: Any) -> Finding:
    return Finding(
        code="roll.missing-name", weight="fault", outcome="differs", name="kiln.", type="A", view="", expected=[], evidence=[],
        text=text, **more,
    )  # fmt: skip


def test_what_all_saw_is_told_once_and_what_some_saw_by_name() -> None:
    told = together({"quay": [finding("a"), finding("b")], "kiln": [finding("a")], "isp": [finding("a"), finding("b")]})
    assert [(one.text, one.vantages) for one in sorted(told, key=lambda one: (reading_order(one), one.text))] == [
        ("From quay and isp: b", ["quay", "isp"]),
        ("a", ["quay", "kiln", "isp"]),
    ]


def test_a_clock_is_off_when_the_way_there_does_not_explain_it() -> None:
    assert clock_trouble(1.9, 0.1) is None and clock_trouble(-9.0, 20.0) is None
    assert clock_trouble(-60.2, 0.1) == "its clock is 60 s behind ours"
    assert clock_trouble(7200.0, 0.1) == "its clock is 7,200 s ahead of ours"


def test_a_vantage_of_another_version_is_asked_nothing() -> None:
    exchange = FarExchange(None, {"quay": Present("quay", trouble="it has version 0.0.1, and this is 0.1.0")})
    exchange.submit(Question(NAME, 1, Server("a", LOOPBACK).seen_from("quay")))
    (answer,) = exchange.collect()
    assert answer.unasked and not answer.came
    assert answer.trouble == "not asked from quay: it has version 0.0.1, and this is 0.1.0"
    assert exchange.collect() == []

"""Vantages as commands see them: certificates, the broker, who is there, checks from several places, what does not fit."""

from __future__ import annotations

import contextlib
import json
import os
import queue
import socket
import stat
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import pytest
from paho.mqtt.enums import MQTTProtocolVersion

from salt_mirror.checks.vantage.judging import together
from salt_mirror.cli.finishing import reading_order
from salt_mirror.demo.world import gullmarsh
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.findings import Finding
from salt_mirror.standin.server import StandIn
from salt_mirror.vantages.desk import Desk, Present, clock_trouble
from salt_mirror.vantages.exchange import FarExchange
from salt_mirror.vantages.keys import make_keys
from salt_mirror.vantages.tls import host_and_port, papers_in
from support.broker import Rig
from support.program import PROGRAM, Run, begin, interrupt
from support.realservers import free_port, program
from support.waiting import PATIENCE_S, until

LOOPBACK = bytes((127, 0, 0, 1))
NAME = from_text("kiln-02.pans.gullmarsh.internal")


# Certificates and the way to the broker


@pytest.mark.parametrize(
    "address",
    ["http://192.0.2.1", "192.0.2.1:99999", "", "mqtts://user@192.0.2.1", "192.0.2.1/path", "tcp://127.0.0.1"],
)
def test_an_address_that_is_none_is_said_so(run: Run, tmp_path: Path, address: str) -> None:
    with pytest.raises(BadInput, match="is no address of a broker; expected one such as"):
        host_and_port(address)
    make_keys(tmp_path / "keys", ["quay"], days=2)
    for words in (["join", address, "--name", "quay"], ["list", address], ["serve", address]):
        done = run("vantage", *words, "--keys", "keys")
        assert done.status == 2 and "is no address of a broker" in done.err and not done.out
    assert host_and_port("[2001:db8::60]") == ("2001:db8::60", 8883)
    assert host_and_port("mqtts://broker.gullmarsh.example:8884") == ("broker.gullmarsh.example", 8884)


def test_nobody_speaks_without_a_certificate(run: Run, tmp_path: Path) -> None:
    for words in (["serve"], ["serve", "127.0.0.1"]):
        done = run("vantage", *words)
        assert done.status == 2 and "a broker needs certificates: `salt-mirror vantage keys keys NAME...`" in done.err
    for words in (["join", "127.0.0.1", "--name", "quay"], ["list", "127.0.0.1"]):
        done = run("vantage", *words)
        assert done.status == 2 and "whose certificate? --keys FOLDER" in done.err
        done = run("vantage", *words, "--keys", "keys")
        assert done.status == 2 and "`salt-mirror vantage keys FOLDER` makes" in done.err + done.out


def test_keys_are_made_once_revoked_and_made_anew(run: Run, tmp_path: Path) -> None:
    done = run("vantage", "keys", "keys", "quay", "kiln", "--days", "40")
    assert done.status == 0 and "5 made in keys: ca, broker, desk, quay, kiln." in done.out
    folder = tmp_path / "keys"
    pairs = {f"{name}.{kind}" for name in ("ca", "broker", "desk", "quay", "kiln") for kind in ("pem", "key")}
    before = {path.name: path.read_bytes() for path in folder.iterdir()}
    assert set(before) == pairs | {"issued.csv", "revoked.pem", "mosquitto.conf", "mosquitto.acl"}
    if os.name == "posix":
        assert {stat.S_IMODE(path.stat().st_mode) for path in folder.glob("*.key")} == {0o600}
    again = run("vantage", "keys", "keys", "isp", "--desk", "desk", "--desk", "night", "--broker-folder", "/etc/broker")
    assert again.status == 0 and "2 made in keys: night, isp." in again.out
    assert {name: (folder / name).read_bytes() for name in pairs} == {name: before[name] for name in pairs}
    assert "/etc/broker" in (folder / "mosquitto.conf").read_text(encoding="utf-8")
    for name in ("desk", "quay", "kiln", "broker", "isp", "night"):
        papers_in(folder, name).context()
    done = run("vantage", "keys", "keys", "--revoke", "kiln", "--rotate", "quay", "--days", "20")
    assert done.status == 0 and "1 made in keys: quay." in done.out and "Revoked: kiln, quay." in done.out
    assert "Expires within 30 days: quay." in done.out
    assert not (folder / "kiln.key").exists() and (folder / "quay.pem").read_bytes() != before["quay.pem"]
    rules = (folder / "mosquitto.acl").read_text(encoding="utf-8")
    assert (
        "user quay\n" in rules
        and "kiln" not in rules
        and rules.count("/desk/+/quay") == rules.count("/night/+/quay") == 1
    )
    for words, says in (
        (["keys", "../quay"], "is no name for a vantage"),
        (["keys", "ca"], "is no name for a vantage"),
        (["keys", "broker"], "broker has a certificate as a broker already"),
        (["keys", "--desk", "quay"], "quay has a certificate as a vantage already"),
        (["keys", "--revoke", "kiln"], "there is no valid certificate for 'kiln'"),
        (["keys", "--rotate", "quai"], 'did you mean "quay"?'),
        ([], "vantage keys wants a folder"),
    ):
        refused = run("vantage", "keys", *words)
        assert refused.status == 2 and says in refused.err, refused.err
    (folder / "ca.key").unlink()
    refused = run("vantage", "keys", "keys", "west")
    assert refused.status == 2 and "not its key" in refused.err and not (folder / "west.pem").exists()


@contextmanager
def service(folder: Path, *words: str, until_it_says: str, resolvers: str = "") -> Iterator[Path]:
    """A broker or a vantage as the installed program, from the moment it says that it is there; its log."""
    program("mosquitto")
    log = folder / f"{words[1]}-{words[-1].replace('/', '_')}.log"
    with log.open("w", encoding="utf-8") as out:
        process = subprocess.Popen(
            [str(PROGRAM), *words], cwd=folder, stdout=out, stderr=subprocess.STDOUT, text=True,
            env=os.environ | {"SALT_MIRROR_RESOLVERS": resolvers, "NO_COLOR": "1"},
        )  # fmt: skip
        try:
            until(lambda: until_it_says in log.read_text(encoding="utf-8"))
            yield log
        finally:
            process.terminate()
            process.wait(PATIENCE_S)
    assert "Traceback" not in log.read_text(encoding="utf-8") and process.returncode == 0


def test_a_certificate_that_is_revoked_ends_the_connection_and_a_new_one_is_let_in(run: Run, tmp_path: Path) -> None:
    """While `vantage serve` runs: it notices that the folder has changed."""
    at = f"127.0.0.1:{free_port()}"
    make_keys(tmp_path / "keys", ["quay"], days=5)
    old = tmp_path / "old"
    old.mkdir()
    for path in (tmp_path / "keys").iterdir():
        (old / path.name).write_bytes(path.read_bytes())
    join = ("vantage", "join", at, "--name", "quay", "--keys")
    with service(tmp_path, "vantage", "serve", at, "--keys", "keys", until_it_says="are awaited") as broker:
        with service(tmp_path, *join, "old", until_it_says="quay is at") as log:
            until(lambda: "quay is there, from 127.0.0.1" in broker.read_text(encoding="utf-8"))
            assert run("vantage", "keys", "keys", "--rotate", "quay").status == 0
            until(lambda: "connection to the broker was lost" in log.read_text(encoding="utf-8"))
            until(lambda: "the broker is started again" in broker.read_text(encoding="utf-8"))
            with service(tmp_path, *join, "keys", until_it_says="quay is at"):
                done = run("vantage", "list", at, "--keys", "keys")
                assert done.status == 0 and done.out.startswith("1 of 1 vantage can be used.")
        until(lambda: "quay has gone" in broker.read_text(encoding="utf-8"))


# A broker that goes and comes


@pytest.fixture
def rig(tmp_path: Path) -> Iterator[Rig]:
    one = Rig(tmp_path, ("quay",))
    try:
        yield one
    finally:
        one.close()


def collected(exchange: FarExchange) -> list[Answer]:
    answers = []
    while found := exchange.collect():
        answers += found
    return answers


def test_a_broker_that_goes_for_good_leaves_what_is_left_unverified(rig: Rig) -> None:
    rig.join("quay")
    desk = rig.desk()
    present = desk.greet(["quay"])
    assert present["quay"].trouble is None
    rig.stop()
    exchange = FarExchange(desk, present, choose=lambda _: "quay", broker_patience_s=1.0)
    questions = [Question(NAME, rdtype, Server("a", LOOPBACK, 9)) for rdtype in (1, 28)]
    for question in questions:
        exchange.submit(question)
    answers = collected(exchange)
    assert {answer.question for answer in answers} == set(questions)
    assert all("could not be reached for 1 s" in (answer.trouble or "") for answer in answers)
    assert list(exchange.lost) == ["quay"]


def six_hundred(desk: Desk, world: tuple[Path, dict[str, StandIn]], *, pace: float) -> tuple[FarExchange, list[Answer]]:
    """Questions that take seconds at such a pace, and the first of their answers."""
    exchange = FarExchange(desk, desk.greet(["quay"]), choose=lambda _: "quay")
    server = Server("dc-north", LOOPBACK, world[1]["dc-north"].port, pace=pace)
    for number in range(600):
        exchange.submit(Question(from_text(f"host-{number}.pans.gullmarsh.internal"), 1, server))
    return exchange, exchange.collect()


def test_a_broker_that_is_started_again_in_the_middle_costs_nothing_but_time(
    rig: Rig, world: tuple[Path, dict[str, StandIn]]
) -> None:
    rig.join("quay")
    desk = rig.desk()
    exchange, answers = six_hundred(desk, world, pace=200.0)
    rig.stop()
    rig.start()
    answers += collected(exchange)
    assert len(answers) == 600 and {answer.status for answer in answers} == {"NXDOMAIN"} and desk.times == 2


@pytest.mark.parametrize("version", [MQTTProtocolVersion.MQTTv5, MQTTProtocolVersion.MQTTv311])
def test_a_vantage_that_comes_back_is_used_again_by_a_watch(rig: Rig, version: MQTTProtocolVersion) -> None:
    desk = rig.desk(versions=(version,))
    exchange = FarExchange(desk, desk.greet(["quay"]), choose=lambda _: "quay", revived=True, return_s=0.1)

    def asked() -> Answer:
        exchange.submit(Question(NAME, 1, Server("a", bytes((192, 0, 2, 1)), 9)))
        (answer,) = exchange.collect()
        return answer

    refused = "not asked by the vantage quay: the server is not in its allow list"
    assert asked().trouble == "not asked from quay: it is not there"
    for _ in range(2):  # another process each time, with another session
        service, _ = rig.join("quay")
        until(lambda: asked().trouble == refused)
        service.close()
        until(
            lambda: (
                asked().trouble
                == "not asked from quay: it was lost in the middle: its connection to the broker has ended"
            )
        )


class Link:
    """A line to the broker that takes a tenth of a second each way, and can be cut."""

    def __init__(self, port: int) -> None:
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        self.to = port
        self.ends: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = self.listener.accept()
                far = socket.create_connection(("127.0.0.1", self.to))
                self.ends += [near, far]
                for one, other in ((near, far), (far, near)):
                    threading.Thread(target=self._carry, args=(one, other), daemon=True).start()

    def _carry(self, one: socket.socket, other: socket.socket) -> None:
        waiting: queue.SimpleQueue[tuple[float, bytes]] = queue.SimpleQueue()
        threading.Thread(target=self._deliver, args=(waiting, other), daemon=True).start()
        with contextlib.suppress(OSError):
            while piece := one.recv(1 << 16):
                waiting.put((time.monotonic() + 0.1, piece))
        waiting.put((0.0, b""))

    def _deliver(self, waiting: queue.SimpleQueue[tuple[float, bytes]], to: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while (held := waiting.get())[1]:
                time.sleep(max(0.0, held[0] - time.monotonic()))
                to.sendall(held[1])
        to.close()

    def cut(self) -> None:
        """End every connection; the next one is let through again."""
        ends, self.ends = self.ends, []
        for end in ends:
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        """End it."""
        self.listener.close()
        self.cut()


def test_a_slow_line_that_is_cut_in_the_middle_costs_nothing_but_time(
    rig: Rig, world: tuple[Path, dict[str, StandIn]]
) -> None:
    link = Link(rig.port)
    rig.stack.callback(link.close)
    service, log = rig.join("quay", port=link.port)
    desk = rig.desk()
    exchange, answers = six_hundred(desk, world, pace=150.0)
    link.cut()
    answers += collected(exchange)
    assert len(answers) == 600 and {answer.status for answer in answers} == {"NXDOMAIN"}
    assert any("connection to the broker was lost" in line for line in log) and service.worker.questions > 600


def test_what_the_brokers_rules_do_not_let_through_is_said(rig: Rig, tmp_path: Path) -> None:
    rig.join("quay")
    rules = rig.keys / "mosquitto.acl"
    rules.write_text(
        rules.read_text(encoding="utf-8").replace("topic write salt-mirror/1/errand", "topic read other"),
        encoding="utf-8",
    )
    rig.stop()
    rig.start()
    desk = rig.desk()
    until(lambda: desk.presence("quay"))
    exchange = FarExchange(desk, {"quay": Present("quay")}, choose=lambda _: "quay")
    exchange.submit(Question(NAME, 1, Server("a", LOOPBACK, 9)))
    (answer,) = collected(exchange)
    assert "its rules have to name us" in str(answer.trouble)


# Together, on loopback

World = tuple[Path, dict[str, StandIn]]


@pytest.fixture(scope="module")
def stations(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    """The demo's world with two vantages, each with another resolver, and a third that is not there."""
    with ExitStack() as stack:
        estate, servers = stack.enter_context(gullmarsh(tmp_path_factory.mktemp("stations")))
        folder, at = estate.parent, f"127.0.0.1:{free_port()}"
        make_keys(folder / "keys", ["quay", "kiln", "dry"], days=5)
        with estate.open("a", encoding="utf-8") as file:
            file.write(
                '\n[vantages.quay]\ngroup = "desks"\nview = "internal"\n[vantages.kiln]\ngroup = "desks"\nview = "internal"\n'
                f'[vantages.west]\n[vantage_broker]\naddress = "{at}"\ncertificate = "keys/desk.pem"\nkey = "keys/desk.key"\n'
            )
        stack.enter_context(service(folder, "vantage", "serve", until_it_says="are awaited"))
        for name, resolver in (("quay", "harbour-office"), ("kiln", "isp-one")):
            stack.enter_context(
                service(
                    folder, "vantage", "join", "--keys", "keys", "--allow", "127.0.0.0/8", "--timeout", "2", "--tries", "2",
                    "--name", name,
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
    found = {one["vantage"]: one for one in there("vantage", "list", "--json").document["vantages"]}
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
    words = ("vantage", "join", "--keys", "keys", "--allow", "127.0.0.0/8", "--name", "dry")
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
    assert faults["res.not-forwarded"] == ["kiln"]
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
        (("rollcall", "--from", "quay", "--unexpected"), "what is not expected is only known from transfers"),
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


def test_an_estate_without_a_broker_is_told_so(run: Run, world: tuple[Path, object]) -> None:
    done = run("ask", "kiln-02", "--from", "quay", "--estate", str(world[0]))
    assert done.status == 2 and "there is no [vantage_broker] in the estate" in done.err


def test_a_broker_that_is_not_there_leaves_everything_unverified(run: Run, tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text(
        '[[zones]]\nname = "salt.invalid"\nservers = ["a"]\nexpect = ["l.csv"]\n[servers.a]\naddress = "127.0.0.1"\nport = 9\n'
        f'[vantages.quay]\n[vantage_broker]\naddress = "127.0.0.1:{free_port()}"\ncertificate = "keys/desk.pem"\n'
        'key = "keys/desk.key"\n',
        encoding="utf-8",
    )
    (tmp_path / "l.csv").write_text("name,type,value\nkiln,A,192.0.2.1\n", encoding="utf-8")
    make_keys(tmp_path / "keys", [], days=5)
    done = run("rollcall", "--from", "everywhere")
    assert done.status == 3 and "cannot be reached (" in done.out


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
    heavy = ("paho", "cryptography", "salt_mirror.vantages")
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

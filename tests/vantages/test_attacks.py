"""Attacks on vantages over a real broker: nothing runs, nothing false is believed, the others go on, and it is said.

Each rule is tried twice where it can be: by the broker's own rules, and with a broker that has none, as one that was taken
over.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import random
import socket
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.standin.server import StandIn
from salt_mirror.vantages.desk import MOST_JUNK, Box, Desk, Present
from salt_mirror.vantages.exchange import FarExchange
from salt_mirror.vantages.identity import Identity, Role, Trust
from salt_mirror.vantages.keys import make_keys
from salt_mirror.vantages.protocol import (
    MOST_BYTES,
    TOPICS,
    Absence,
    BatchAnswers,
    Errand,
    Presence,
    batch_of,
    columns_of,
    errand_in,
    errand_topic,
    packed,
    presence_topic,
    reply_topic,
)
from salt_mirror.vantages.tls import papers_in
from salt_mirror.vantages.transport import Unreached
from support.broker import Intruder, Rig, raw
from support.waiting import until

LOOPBACK = bytes((127, 0, 0, 1))
HOST = from_text("kiln-02.pans.gullmarsh.internal")
TRUTH, LIE = (bytes((10, 77, 20, 12)),), (bytes((6, 6, 6, 6)),)
BOTH = pytest.mark.parametrize("lawless", [False, True], ids=["rules", "taken over"])


@pytest.fixture
def rig(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Rig]:
    one = Rig(tmp_path, ("alpha", "beta"), lawless=getattr(request, "param", False))
    try:
        yield one
    finally:
        one.close()


@pytest.fixture
def north(world: tuple[Path, dict[str, StandIn]]) -> Server:
    """A name server that knows HOST."""
    return Server("dc-north", LOOPBACK, world[1]["dc-north"].port)


def ask(desk: Desk, *names: str, server: Server, present: dict[str, Present] | None = None) -> list[Answer]:
    """Ask for HOST through each of the vantages."""
    exchange = FarExchange(desk, present or desk.greet(names), patience_s=2.0)
    for name in names:
        exchange.submit(Question(HOST, 1, server.seen_from(name)))
    answers = []
    while found := exchange.collect():
        answers += found
    return sorted(answers, key=lambda answer: answer.question.server.via)


def holds(rig: Rig, north: Server) -> None:
    """Both vantages answer with the truth."""
    assert [answer.values for answer in ask(rig.desk(), "alpha", "beta", server=north)] == [TRUTH, TRUTH]


def lawless(value: bool) -> pytest.MarkDecorator:
    return pytest.mark.parametrize("rig", [value], indirect=True)


# Certificates


def test_a_foreign_an_expired_and_a_revoked_certificate_do_not_get_in(rig: Rig, north: Server, tmp_path: Path) -> None:
    rig.join("alpha"), rig.join("beta")
    make_keys(tmp_path / "foreign", ["alpha"], days=5)
    make_keys(tmp_path / "old", ["alpha"], days=0)
    for folder in ("foreign", "old"):
        papers = papers_in(tmp_path / folder, "desk")
        for name in ("ca.pem", "revoked.pem"):  # it knows the broker's authority, and the broker does not know its own
            (tmp_path / folder / name).write_bytes((rig.keys / name).read_bytes())
        with pytest.raises(Unreached, match=r"is our certificate revoked, expired, or of another authority|TLS"):
            Desk(rig.at, papers)
    stolen = tmp_path / "stolen"
    stolen.mkdir()
    for path in rig.keys.iterdir():
        (stolen / path.name).write_bytes(path.read_bytes())
    make_keys(rig.keys, ["beta"], days=5, revoke=["alpha"])
    desk = rig.desk()  # the broker still carries what it says, and nobody believes it
    assert desk.greet(["alpha"])["alpha"].trouble == (
        "what it says is not believed: the certificate of the vantage alpha is revoked"
    )
    rig.stop()
    rig.start()
    with pytest.raises(Unreached, match=r"is our certificate revoked|TLS"):
        Rig.join(_with_keys(rig, stolen), "alpha")
    until(lambda: desk.times == 2 and desk.presence("beta"))  # both come back by themselves
    (answer,) = ask(desk, "beta", server=north)
    assert answer.values == TRUTH


def _with_keys(rig: Rig, keys: Path) -> Rig:
    other = Rig.__new__(Rig)
    other.__dict__.update(rig.__dict__)
    other.keys = keys
    return other


def test_a_vantages_certificate_is_no_desks_and_no_brokers(rig: Rig) -> None:
    from salt_mirror.estate.errors import BadInput

    with pytest.raises(BadInput, match="is for a vantage, and not for a desk"):
        Desk(rig.at, papers_in(rig.keys, "alpha"))
    with pytest.raises(BadInput, match="is for alpha, and not for beta"):
        (rig.keys / "beta.pem").write_bytes((rig.keys / "alpha.pem").read_bytes())
        (rig.keys / "beta.key").write_bytes((rig.keys / "alpha.key").read_bytes())
        rig.join("beta")
    for kind in ("pem", "key"):  # a vantage that plays the broker is not spoken to (extended key usage)
        (rig.keys / f"broker.{kind}").write_bytes((rig.keys / f"alpha.{kind}").read_bytes())
    rig.stop()
    rig.start()
    with pytest.raises(Unreached, match="TLS"):
        rig.desk()


def test_a_broker_takes_a_revoked_desk_in_and_vantages_do_not_believe_it(tmp_path: Path, north: Server) -> None:
    rig = Rig(tmp_path, ("alpha", "beta"), lawless=True)
    try:
        service, log = rig.join("alpha")
        thief = rig.intruder("desk")
        trust = Trust(papers_in(rig.keys, "alpha"))
        before = (rig.keys / "desk.pem").read_bytes()
        make_keys(rig.keys, [], days=5, rotate=["desk"])
        assert (rig.keys / "desk.pem").read_bytes() != before
        topic = errand_topic("alpha", "desk", "s")
        batch, _ = batch_of(1, service.worker.session, [Question(HOST, 1, north)], until=time.time() + 60)
        thief.publish(topic, thief.identity.sealed(topic, batch))
        until(lambda: any("the certificate of the desk desk is revoked" in line for line in log))
        assert service.worker.questions == 0
        serials = {one.serial_number for one in x509.load_pem_x509_crl((rig.keys / "revoked.pem").read_bytes())}
        assert x509.load_pem_x509_certificate(before).serial_number in serials
        assert trust.opened(topic, rig_identity(rig).sealed(topic, batch), Role.DESK, "desk")  # the new one is believed
    finally:
        rig.close()


def rig_identity(rig: Rig) -> Identity:
    return Identity(papers_in(rig.keys, "desk"))


# One vantage against the others


@pytest.mark.parametrize(("rig", "taken_over"), [(False, False), (True, True)], indirect=["rig"])
def test_a_vantage_gives_no_orders(rig: Rig, north: Server, taken_over: bool) -> None:
    beta, log = rig.join("beta")
    rig.join("alpha")
    thief = rig.intruder("alpha")
    for desk in ("alpha", "desk"):
        topic = errand_topic("beta", desk, "s")
        batch, _ = batch_of(2, beta.worker.session, [Question(HOST, 1, north)], until=time.time() + 60)
        thief.publish(topic, thief.identity.sealed(topic, batch))
        thief.publish(topic, pickle.dumps(Malice()))
    holds(rig, north)
    assert beta.worker.questions == 1, "what the desk asked itself, and nothing else"
    assert bool([line for line in log if "was refused" in line]) == taken_over


class Malice:
    """What runs code where it is unpickled."""

    def __reduce__(self) -> tuple[object, ...]:
        return os.abort, ()


@pytest.mark.parametrize("rig", [False, True], indirect=True)
def test_a_vantage_answers_for_nobody_else(rig: Rig, north: Server) -> None:
    """alpha says 6.6.6.6 in the name of beta, faster than beta does."""
    rig.join("beta")
    rig.join("alpha")
    thief = rig.intruder("alpha")
    desk = rig.desk()
    present = desk.greet(["alpha", "beta"])  # it listens to both
    topic = reply_topic("desk", desk.session, "beta")
    sent: list[int] = []
    send = desk.send

    def lied_to(vantage: str, box: Box, errand: Errand) -> None:
        send(vantage, box, errand)
        sent.append(errand.number)
        answer = Answer(Question(HOST, 1, north), "NOERROR", True, LIE, 60, None, b"x", 1.0, 1, "udp")
        lie = BatchAnswers(time.time(), [columns_of(errand.number, [0], [answer])])
        for place in (topic, reply_topic("desk", desk.session, "alpha")):
            thief.publish(place, thief.identity.sealed(place, lie))

    desk.send = lied_to  # type: ignore[method-assign]
    (answer,) = ask(desk, "beta", server=north, present=present)
    assert sent and answer.values == TRUTH


@pytest.mark.parametrize("rig", [False, True], indirect=True)
def test_presences_that_somebody_else_plants_are_none(rig: Rig, north: Server) -> None:
    rig.join("beta")
    thief = rig.intruder("alpha")
    false = Presence("s", "0.1.0", time.time(), "", "", [], ["0.0.0.0/0"], (None, 1, 1.0))
    for topic in (presence_topic("beta"), presence_topic("gamma"), presence_topic("a/b"), presence_topic("$x")):
        with contextlib.suppress(ValueError):
            thief.publish(topic, thief.identity.sealed(topic, false), retain=True)
            thief.publish(topic, thief.identity.sealed(topic, Absence("s")), retain=True)
            thief.publish(topic, b"\xc1" * 50, retain=True)
    desk = rig.desk()
    if desk.here():  # a broker without rules has put what was planted in the place of the true one
        assert list(desk.here()) == ["beta"]
        assert desk.greet(["beta"])["beta"].allowed == ["127.0.0.1/32"]


def test_a_vantage_hears_nothing_of_the_others(rig: Rig, north: Server) -> None:
    rig.join("beta")
    thief = rig.intruder("alpha")
    for topic in (
        "#",
        "+/+/#",
        f"{TOPICS}/#",
        f"{TOPICS}/reply/#",
        errand_topic("+", "+", "+"),
        presence_topic("+"),
        "$SYS/#",
    ):
        thief.listen(topic)
    (answer,) = ask(rig.desk(), "beta", server=north)
    topic = errand_topic("alpha", "desk", "s")  # what is for it does come: it listens well
    rig.intruder("desk").publish(topic, b"for alpha")
    until(lambda: (topic, b"for alpha") in thief.heard)
    assert answer.values == TRUTH and {topic for topic, _ in thief.heard} == {topic}


# Too much


def test_what_is_too_long_is_not_passed_on_and_others_go_on(rig: Rig, north: Server) -> None:
    rig.join("alpha"), rig.join("beta")
    thief = rig.intruder("alpha")
    thief.publish(presence_topic("alpha"), bytes(MOST_BYTES + (1 << 20)))
    assert thief.ended == 1
    with raw(rig, "alpha") as sock, contextlib.suppress(OSError):
        sock.sendall(b"\x10\xff\xff\xff\x7f")  # a packet of 256 MiB
        for _ in range(1 << 6):
            sock.sendall(bytes(1 << 18))
    assert _memory(rig) < 100 << 20
    holds(rig, north)


def _memory(rig: Rig) -> int:
    import psutil

    assert rig.process is not None
    return int(psutil.Process(rig.process.pid).memory_info().rss)


def test_a_flood_of_replies_is_not_listened_to(rig: Rig, north: Server) -> None:
    rig.join("beta")
    rig.join("alpha")
    desk = rig.desk()
    present = desk.greet(["alpha", "beta"])
    thief = rig.intruder("alpha")
    topic = reply_topic("desk", desk.session, "alpha")
    for _ in range(MOST_JUNK + 500):
        thief.client.publish(topic, b"nobody asked for this", qos=1)
    until(lambda: desk.distrusted("alpha"))
    answers = ask(desk, "alpha", "beta", server=north, present=present)
    assert answers[0].trouble == "not asked from alpha: it sends what was not asked for"
    assert answers[1].values == TRUTH


def test_idle_connections_and_a_slow_hello_keep_nobody_out(rig: Rig, north: Server) -> None:
    rig.join("alpha"), rig.join("beta")
    with contextlib.ExitStack() as stack:
        for number in range(2000):
            sock = stack.enter_context(socket.create_connection(("127.0.0.1", rig.port)))
            if number % 2:
                sock.sendall(b"\x16\x03")  # the beginning of a TLS hello, and no more
        holds(rig, north)


# A broker that lies


def test_what_was_sent_before_is_not_carried_out_again(tmp_path: Path, north: Server) -> None:
    rig = Rig(tmp_path, ("alpha",), lawless=True)
    try:
        service, log = rig.join("alpha")
        spy = rig.intruder("alpha")
        spy.listen("#")
        (answer,) = ask(rig.desk(), "alpha", server=north)
        assert answer.values == TRUTH
        errands = [(topic, payload) for topic, payload in spy.heard if "/errand/" in topic]
        asked = service.worker.questions
        for topic, payload in errands:
            spy.publish(topic, payload)
        until(lambda: any("it came twice" in line for line in log))
        service.close()
        again, log = rig.join("alpha")
        for topic, payload in errands:
            spy.publish(topic, payload)
            spy.publish(topic.replace("/desk/", "/other/"), payload)
        until(lambda: any("was meant for a session before this one" in line for line in log))
        assert (service.worker.questions, again.worker.questions) == (asked, 0)
    finally:
        rig.close()


class Liar:
    """A broker between a desk and a vantage that loses, repeats, alters, mixes up and reorders what it carries."""

    def __init__(self, here: Rig, there: Rig, seed: int) -> None:
        self.random = random.Random(seed)
        self.held: list[tuple[Intruder, str, bytes]] = []
        self.ends = here.intruder("alpha"), there.intruder("alpha")
        for number, end in enumerate(self.ends):
            to = self.ends[1 - number]
            end.client.on_message = lambda _, __, message, to=to: self.carry(to, message.topic, bytes(message.payload))
        for number, topic in ((0, f"{TOPICS}/errand/#"), (1, f"{TOPICS}/reply/#"), (1, f"{TOPICS}/presence/#")):
            self.ends[number].listen(topic)

    def carry(self, to: Intruder, topic: str, payload: bytes) -> None:
        if "/presence/" in topic:
            to.client.publish(topic, payload, qos=1, retain=True)
            return
        what = self.random.random()
        if what < 0.1:
            return  # lost
        if what < 0.3:
            spoilt = bytearray(payload)
            spoilt[self.random.randrange(len(spoilt))] ^= 1 << self.random.randrange(8)
            self.held.append((to, topic, bytes(spoilt)))
        if what < 0.5:
            self.held.append((to, topic.replace("alpha", "beta"), payload))
        self.held += [(to, topic, payload)] * (2 if what < 0.7 else 1)
        if len(self.held) > 2 or "/reply/" in topic:
            self.random.shuffle(self.held)
            while self.held:
                end, where, sent = self.held.pop()
                end.client.publish(where, sent, qos=1)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_broker_that_lies_makes_nothing_right_and_nothing_wrong(tmp_path: Path, north: Server, seed: int) -> None:
    here = Rig(tmp_path, ("alpha", "beta"), lawless=True)
    there = Rig(tmp_path, ("alpha", "beta"), lawless=True, keys=here.keys)
    try:
        service, _ = there.join("alpha")
        desk = here.desk()
        Liar(here, there, seed)
        until(lambda: desk.presence("alpha") is not None)
        exchange = FarExchange(desk, {"alpha": Present("alpha")}, choose=lambda _: "alpha", patience_s=2.0)
        questions = [Question(HOST, rdtype, north) for rdtype in [1, *range(200, 240)]]
        answers: list[Answer] = []
        for question in questions:
            exchange.submit(question)
            answers += exchange.collect(0.05)  # many small errands
        while found := exchange.collect():
            answers += found
        assert sorted(answer.question.rdtype for answer in answers) == sorted(one.rdtype for one in questions)
        for answer in answers:
            right = TRUTH if answer.question.rdtype == 1 else ()
            assert (answer.came and answer.values == right and answer.status == "NOERROR") or answer.unasked, answer
        assert any(answer.came for answer in answers)
        assert service.worker.questions <= 2 * len(questions)
    finally:
        here.close()
        there.close()


def test_an_errand_says_only_what_a_desk_may_say(tmp_path: Path, north: Server) -> None:
    """A desk with a right certificate and a wrong hand: a vantage lives on, and refuses by name."""
    rig = Rig(tmp_path, ("alpha",))
    try:
        service, log = rig.join("alpha")
        desk = rig.intruder("desk")
        topic = errand_topic("alpha", "desk", "s")
        good, _ = batch_of(7, service.worker.session, [Question(HOST, 1, north)], until=time.time() + 60)
        body = packed(good)
        assert errand_in(body) == good
        for payload in (b"", b"\xc1", packed(good), desk.identity.sealed("another topic", good), bytes(1 << 20)):
            desk.publish(topic, payload)
        old, _ = batch_of(8, service.worker.session, [Question(HOST, 1, north)], until=time.time() - 1)
        late, _ = batch_of(9, service.worker.session, [Question(HOST, 1, north)], until=time.time() + 1e6)
        for errand in (old, late):
            desk.publish(topic, desk.identity.sealed(topic, errand))
        until(lambda: service.worker.refused >= 7)
        assert service.worker.questions == 0 and any("was refused" in line for line in log)
    finally:
        rig.close()

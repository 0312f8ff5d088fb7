"""One protocol suite against every server: NSD, Knot, BIND, Unbound from Debian's packages, and the stand-in."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import dns.name
import dns.tsig
import pytest

from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Answer, Key, Question, Server
from salt_mirror.dns.records import AAAA, CNAME, MX, PTR, TXT, A, rdata_text
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.transfer import TransferFailed, transfer
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support import realservers
from support.servers import BIG, KEY, ORIGIN, ZONES, ask, server_of


@contextmanager
def standin(folder: Path) -> Iterator[Server]:
    with StandIns() as standins:
        found = standins.add([read_zone(text, origin) for origin, text in ZONES.items()])
        found.transfers = True
        name = dns.name.from_wire(KEY.name, 0)[0]
        found.keys[name] = dns.tsig.Key(name, KEY.secret, dns.tsig.HMAC_SHA256)
        yield server_of(found)


@contextmanager
def nsd(folder: Path) -> Iterator[Server]:
    key = f'key:\n  name: "mirror.test"\n  algorithm: hmac-sha256\n  secret: "{realservers.secret_text(KEY)}"'
    with realservers.nsd(folder, ZONES, provide="127.0.0.1 mirror.test", extra=key) as server:
        yield server


KINDS = {
    "nsd": nsd,
    "knot": lambda folder: realservers.knot(folder, ZONES, key=KEY),
    "bind": lambda folder: realservers.bind(folder, ZONES, key=KEY),
    "unbound": lambda folder: realservers.unbound(folder, ZONES),
    "standin": standin,
}


@pytest.fixture(scope="module", params=[pytest.param(kind, marks=pytest.mark.real) for kind in KINDS])
def server(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with KINDS[request.param](tmp_path_factory.mktemp(request.param)) as started:
        started.label = request.param
        yield started


def with_key(server: Server, key: Key | None) -> Server:
    return Server(server.label, server.address, server.port, key=key)


def texts(answer: Answer) -> list[str]:
    return [rdata_text(answer.question.rdtype, value) for value in answer.values]


def test_values_are_whole_canonical_and_authoritative(server: Server) -> None:
    web = ask(server, "WEB")
    assert (texts(web), web.ttl, web.trouble, web.over) == (["192.0.2.2", "192.0.2.3"], 300, None, "udp")
    assert texts(ask(server, "web", MX)) == ["10 mail.gullmarsh.example."]
    assert texts(ask(server, "text", TXT)) == ['"two" "strings"']
    assert texts(ask(server, "mixed.CASE", AAAA)) == ["2001:db8::1"]


def test_no_such_name_no_such_type_and_an_empty_name_between_are_told_apart(server: Server) -> None:
    assert (ask(server, "nothing").status, ask(server, "nothing").exists) == ("NXDOMAIN", False)
    for name, rdtype in (("web", AAAA), ("empty", A)):
        answer = ask(server, name, rdtype)
        assert (answer.status, answer.exists, answer.values, answer.trouble) == ("NOERROR", True, (), None)


def test_wildcards_answer_and_aliases_are_told_step_by_step(server: Server) -> None:
    assert texts(ask(server, "any.w")) == ["192.0.2.9"]
    assert ask(server, "a").alias == from_text("b", ORIGIN)
    assert texts(ask(server, "a", CNAME)) == ["b.gullmarsh.example."]


def test_a_set_too_large_for_a_datagram_comes_whole_over_tcp(server: Server) -> None:
    big = ask(server, "big")
    assert (len(big.values), big.over) == (BIG, "tcp")


def test_classless_reverse_zones_are_found_through_their_alias(server: Server) -> None:
    assert texts(ask(server, "2.2.0.192.in-addr.arpa.", PTR)) == ["web.gullmarsh.example."]
    inner = ask(server, "10.2.0.192.in-addr.arpa.", PTR).alias
    assert inner == from_text("10.0/26.2.0.192.in-addr.arpa")
    assert texts(ask(server, to_text(inner), PTR)) == ["shop.gullmarsh.example."]


def test_a_name_of_another_zone_is_refused_and_that_is_unverified(server: Server) -> None:
    answer = ask(server, "elsewhere.example.")
    assert answer.status == "REFUSED" and (answer.trouble or "").startswith("answered REFUSED")


def test_many_questions_at_once_are_all_answered_right(server: Server) -> None:
    names = [from_text(name, ORIGIN) for name in ("web", "any.w", "nothing", "a", "big", "x.y.w")]
    expected = {name: len(ask(server, to_text(name)).values) for name in names}
    with Engine(timeout_s=1.0) as engine:
        for number in range(600):
            engine.submit(Question(names[number % 6], A, server))
        found: list[Answer] = []
        while answers := engine.collect():
            found += answers
    assert len(found) == 600
    assert all(answer.trouble is None and len(answer.values) == expected[answer.question.name] for answer in found)


def test_signed_questions_are_answered_and_a_wrong_key_is_not_believed(server: Server) -> None:
    if server.label == "unbound":
        pytest.skip("Unbound does not know TSIG")
    assert texts(ask(with_key(server, KEY), "web")) == ["192.0.2.2", "192.0.2.3"]
    assert len(ask(with_key(server, KEY), "big").values) == BIG
    says_why = server.label in ("nsd", "knot", "bind")  # the others turn it away without a reason
    for wrong, why in (
        (KEY._replace(secret=b"pepper"), "BADSIG"),
        (KEY._replace(name=from_text("nobody.test")), "BADKEY"),
    ):
        answer = ask(with_key(server, wrong), "web")
        assert answer.values == () and (why if says_why else "answered NOTAUTH") in (answer.trouble or "")


def test_a_zone_is_handed_over_to_the_key_alone(server: Server) -> None:
    if server.label == "unbound":
        with pytest.raises(TransferFailed, match=r"answered|closed|broke off"):
            list(transfer(server, ORIGIN, timeout_s=2))
        return
    records = [record for part in transfer(with_key(server, KEY), ORIGIN, timeout_s=2) for record in part]
    assert records[0] == records[-1]
    holding = Holding(ORIGIN, records)
    assert holding.serial == 7
    for name in ("web", "big", "a", "mixed.case", "empty", "nothing"):
        question = Question(from_text(name, ORIGIN), A, server)
        told, asked = holding.answer(question), ask(server, name)
        if told is not None:
            assert (told.status, told.values, told.ttl, told.alias) == (
                asked.status,
                asked.values,
                asked.ttl,
                asked.alias,
            )
    assert holding.answer(Question(from_text("any.w", ORIGIN), A, server)) is None, (
        "the server itself knows its wildcards"
    )
    if server.label != "standin":
        with pytest.raises(TransferFailed, match=r"REFUSED|NOTAUTH"):
            list(transfer(server, ORIGIN, timeout_s=2))
    with pytest.raises(TransferFailed, match=r"BADSIG|NOTAUTH|not signed"):
        list(transfer(with_key(server, KEY._replace(secret=b"pepper")), ORIGIN, timeout_s=2))

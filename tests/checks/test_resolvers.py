"""Resolvers held against what they ought to do: Gullmarsh's, real ones with a fault each, random ones and an obvious judge."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import dns.flags
import dns.message
import dns.rcode
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.resolvers.judging import Resolvers, resolvers_of
from salt_mirror.demo.world import plantings
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import type_text
from salt_mirror.dns.replies import Reader
from salt_mirror.dns.wire import rcode_text
from salt_mirror.estate.duties import Duty, ResolverTests
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.authority import HeldZones, read_zone
from salt_mirror.standin.cache import Cache
from salt_mirror.standin.server import StandIns
from support import realservers
from support.estates import Served, found
from support.examples import examples
from support.hostile import MODES, hostile_servers
from support.peers import peer
from support.program import Run
from support.servers import KEY, Certified
from support.tables import NOW

HEAD = "$TTL 300\n@ SOA ns h 7 3600 600 1209600 300\n@ NS ns\nns A 127.0.0.1\n"
PANS = HEAD + "rake A 10.77.0.5\n@ 3600 A 10.77.0.6\nvat 900 A 10.77.0.7\nalias CNAME rake\n"
WORLD = HEAD + "www A 192.0.2.80\n" + "".join(f"many A 203.0.113.{n}\n" for n in range(90))
DEAD = Server("dead", bytes((127, 0, 0, 1)), 1)
LISTED = "rake A 10.77.0.5\n@ A 10.77.0.6\nvat A 10.77.0.7\nalias CNAME rake\n"


def test_resolvers_finds_every_planting_and_nothing_else(demo: Run) -> None:
    done = demo("resolvers", "--json")
    planted = {(one["code"], one["name"]) for one in plantings()["resolvers"]}
    assert done.status == 1 and {(one["code"], one["name"]) for one in done.report["findings"]} == planted
    assert done.report["counts"]["differs"] == 2 and len(done.report["tests"]) == 6
    assert demo("resolvers").out.startswith("4 of 6 resolvers pass all tests; 2 differ.\n")
    office = demo("resolvers", "harbour-office")
    assert office.status == 0 and office.out.startswith("1 of 1 resolver passes all tests.\n")
    providers = demo("resolvers", "providers", "--json").report
    assert [one["mark"] for one in providers["tests"]] == ["ok", "fault"]


Resolver = Callable[[Path, dict[str, Server]], AbstractContextManager[Server]]


PRIVATE = ('local-zone: "10.in-addr.arpa." nodefault', "infra-host-ttl: 5")


def _unbound(*lines: str, most_ttl: int = 86_400, dead: str = "", policy: str = "") -> Resolver:
    def start(folder: Path, behind: dict[str, Server]) -> AbstractContextManager[Server]:
        gone = {dead: DEAD} if dead else {}
        return realservers.unbound(
            folder, {}, behind=behind | gone, settings=(*PRIVATE, *lines), most_ttl=most_ttl, known="world.example",
            policy=policy,
        )  # fmt: skip

    return start


def _bind(*options: str, dead: str = "", policy: str = "") -> Resolver:
    def start(folder: Path, behind: dict[str, Server]) -> AbstractContextManager[Server]:
        gone = {dead: DEAD} if dead else {}
        return realservers.bind_cache(folder, behind | gone, known="world.example", settings=options, policy=policy)

    return start


def _authority(folder: Path, _: dict[str, Server]) -> AbstractContextManager[Server]:
    return realservers.nsd(folder, {"other.example": HEAD})


POLICY = "rake.pans.example A 10.9.9.9\nvat.pans.example CNAME .\n"
NO_DS = f"pans.example. DS 12345 8 2 {64 * 'A'}"
INSIDE = {"pans.example", "77.10.in-addr.arpa"}
REAL: dict[str, tuple[Resolver, str, list[str]]] = {
    "a sound Unbound": (_unbound(), "", []),
    "an empty zone before ours": (_unbound('local-zone: "77.10.in-addr.arpa." static'), "", ["res.not-forwarded"]),
    "a sound BIND": (_bind(), "", []),
    "a stub zone to a dead server": (_unbound(dead="pans.example"), "", ["res.forwarding-fails"]),
    "a forwarder to a dead server": (_bind(dead="pans.example"), "", ["res.forwarding-fails"]),
    "a shorter cap": (_unbound(most_ttl=60), "", ["res.caps-ttl", "res.caps-ttl"]),
    "a least TTL": (_unbound("cache-min-ttl: 7200"), "", ["res.beyond-ttl"]),
    "a no that is kept shorter": (_bind("max-ncache-ttl 30"), "", ["res.caps-ttl"]),
    "without TCP": (_unbound("do-tcp: no"), "", ["res.no-transport"]),
    "without TCP and with small datagrams": (
        _unbound("do-tcp: no", "max-udp-size: 512"), 'large = ["many.world.example A"]', ["res.large-lost", "res.no-transport"],
    ),
    "large answers over TCP": (_unbound("max-udp-size: 512"), 'large = ["many.world.example A"]', []),
    "a no that is rewritten": (
        _unbound('local-zone: "invalid." redirect', 'local-data: "invalid. 60 IN A 203.0.113.80"'), "",
        ["res.nxdomain-rewritten"],
    ),
    "a filter before the world": (_unbound('local-zone: "world.example." always_nxdomain'), "", ["res.no-public-names"]),
    "a blocked name": (_unbound('local-zone: "rake.pans.example." always_nxdomain'), "", ["res.blocked"]),
    "a refused name": (_unbound('local-zone: "rake.pans.example." always_refuse'), "", ["res.blocked"]),
    "local data": (_unbound('local-data: "rake.pans.example. 60 IN A 10.9.9.9"'), "", ["res.overridden"]),
    "a policy zone in Unbound": (_unbound(policy=POLICY), "", ["res.blocked", "res.overridden"]),
    "a policy zone in BIND": (_bind(policy=POLICY), "", ["res.blocked", "res.overridden"]),
    "a policy that lets ours pass": (_bind(policy="elsewhere.example CNAME .\n"), "", []),
    "a zone that does not validate": (
        _unbound('module-config: "validator iterator"', f'trust-anchor: "{NO_DS}"', "ede: yes"), "", ["auth.bogus"],
    ),
    "one that is none": (_authority, "", ["res.no-recursion"]),
    "one that answers strangers": (_unbound(), 'serves = ["10.77.0.0/16"]', ["res.open"]),
    "one that serves us": (_unbound(), 'serves = ["127.0.0.0/8"]', []),
}  # fmt: skip


@pytest.fixture(scope="module")
def behind(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, Server]]:
    """A real server with the zones of the inside and a piece of the world."""
    zones = {"pans.example": PANS, "77.10.in-addr.arpa": HEAD + "5.0 PTR rake.pans.example.\n", "world.example": WORLD}
    with realservers.nsd(tmp_path_factory.mktemp("nsd"), zones) as server:
        yield dict.fromkeys(zones, server)


def written(folder: Path, server: Server, resolvers: str, tests: str = "") -> None:
    text = '[resolver_tests]\nexternal = ["www.world.example"]\n' + tests + "\n"
    for zone in sorted(INSIDE):
        expect = ', expect = ["list.zone"]' if zone == "pans.example" else ""
        text += f'[[zones]]\nname = "{zone}"\nview = "inside"\nservers = ["nsd"]\n{expect[2:]}\n'
    (folder / "list.zone").write_text(LISTED, encoding="utf-8")
    text += f'[servers.nsd]\naddress = "{server.endpoint}"\n{resolvers}'
    (folder / "estate.toml").write_text(text, encoding="utf-8")


@pytest.mark.real
@pytest.mark.parametrize("name", REAL)
def test_a_real_resolver_is_accused_of_what_it_does_and_of_nothing_else(
    run: Run, behind: dict[str, Server], tmp_path: Path, name: str
) -> None:
    start, more, codes = REAL[name]
    with start(tmp_path / "resolver", behind) as resolver:
        entry = f'[resolvers.office]\naddress = "{resolver.endpoint}"\nview = "inside"\n'
        tests = more if more.startswith("large") else ""
        written(tmp_path, behind["pans.example"], entry + ("" if tests else more), tests)
        done = run("resolvers", "--json")
    assert found(done) == codes, done.out
    assert done.status == (1 if "differs" in {one["outcome"] for one in done.report["findings"]} else 0)


@pytest.mark.real
def test_who_is_at_fault_is_told_where_a_resolver_forwards(run: Run, behind: dict[str, Server], tmp_path: Path) -> None:
    with (
        _unbound(dead="pans.example")(tmp_path / "provider", behind) as provider,
        realservers.bind_cache(tmp_path / "office", {".": provider}, known="world.example") as office,
    ):
        entry = f'[resolvers.office]\naddress = "{office.endpoint}"\nview = "inside"\nforwards_to = ["provider"]\n'
        entry += f'[resolvers.provider]\naddress = "{provider.endpoint}"\n'
        written(tmp_path, behind["pans.example"], entry)
        done = run("resolvers", "office", "--json")
    (finding,) = [one for one in done.report["findings"] if one["code"] == "res.forwarding-fails"]
    assert "1 of 2 zones is not resolved by office" in finding["text"]
    assert "provider, to which it forwards: " in finding["text"] and "answers it" not in finding["text"]
    assert finding["server"] == office.endpoint


def peculiar(change: Callable[[dns.message.Message], None]) -> Callable[[bytes], list[tuple[float, bytes]]]:
    """A resolver that knows the zone, and changes each answer."""
    held = HeldZones([read_zone(PANS, "pans.example"), read_zone(WORLD, "world.example")], recursive=True)

    def answers(wire: bytes) -> list[tuple[float, bytes]]:
        query = dns.message.from_wire(wire)
        response = held.respond(query)
        response.ednsflags |= query.ednsflags & dns.flags.DO
        change(response)
        return [(0.0, response.to_wire())]

    return answers


def turned(response: dns.message.Message) -> None:
    response.answer.reverse()


def shouting(response: dns.message.Message) -> None:
    for question in response.question:
        question.name = type(question.name)([label.upper() for label in question.name.labels])


def authentic(response: dns.message.Message) -> None:
    response.flags |= dns.flags.AD


def echoing(response: dns.message.Message) -> None:
    """What a directory server does: the AD bit of the question comes back, and nothing was validated."""
    response.flags |= 0 if response.ednsflags & dns.flags.DO else dns.flags.AD


@pytest.mark.parametrize(
    ("change", "code"),
    [(turned, "res.order"), (shouting, "res.changes-case"), (authentic, None), (echoing, None)],
)
def test_answers_that_are_changed_on_the_way_are_told(
    run: Run, served: Served, tmp_path: Path, change: Callable[[dns.message.Message], None], code: str | None
) -> None:
    (server,) = served.serve("pans.example", PANS)
    with peer(udp=peculiar(change)) as port:
        entry = f'[resolvers.odd]\naddress = "127.0.0.1:{port}"\nview = "inside"\n'
        place = Server("nsd", bytes((127, 0, 0, 1)), server.port)
        written(tmp_path, place, entry)
        text = (tmp_path / "estate.toml").read_text(encoding="utf-8").replace('name = "77.10', 'name = "78.10')
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        done = run("resolvers", "--json", "--timeout", "0.3")
    codes = {one["code"] for one in done.report["findings"]}
    assert (code in codes) if code else not codes & {"res.order", "res.changes-case"}
    validated = [row for row in done.report["tests"][0]["tests"] if row["title"] == "validation"]
    if change in (authentic, echoing):
        assert ("came as authentic" in validated[0]["says"]) == (change is authentic)
        assert ("sends back the AD bit" in validated[0]["says"]) == (change is echoing)


def test_several_behind_one_address_that_do_not_say_the_same(run: Run, served: Served, tmp_path: Path) -> None:
    (server,) = served("pans.example", PANS, more="[resolver_tests]\nexternal = []\n")
    count = iter(range(10_000))

    def alternate(response: dns.message.Message) -> None:
        for rrset in list(response.answer):
            if rrset.rdtype == 1 and next(count) % 2:
                response.answer[:] = [dns.rrset.from_text(rrset.name, 60, "IN", "A", "10.77.0.99")]

    with peer(udp=peculiar(alternate)) as port:
        (tmp_path / "list.zone").write_text(LISTED, encoding="utf-8")
        more = f'[resolver_tests]\nexternal = []\n[resolvers.pool]\naddress = "127.0.0.1:{port}"\n'
        served.publish("pans.example", [server], more)
        path = tmp_path / "estate.toml"
        text = path.read_text(encoding="utf-8").replace('"pans.example"\n', '"pans.example"\nexpect = ["list.zone"]\n')
        path.write_text(text, encoding="utf-8")
        done = run("resolvers", "--json", "--timeout", "0.3")
    assert "res.pool-differs" in found(done)


@pytest.mark.parametrize(
    ("ways", "codes"),
    [
        ({"policy": {"rake.pans.example": "10.9.9.9", "vat.pans.example": None}}, ["res.blocked", "res.overridden"]),
        (
            {"policy": {"rake.pans.example": "10.9.9.9", "vat.pans.example": None}, "policy_shows": False},
            ["res.blocked", "res.overridden"],
        ),
        ({"bogus": ["pans.example"]}, ["auth.bogus"]),
        ({}, ["res.outdated-answer"]),
    ],
)
def test_a_resolver_that_hides_overrides_or_only_remembers_expected_names(
    run: Run, standins: StandIns, tmp_path: Path, ways: dict[str, Any], codes: list[str]
) -> None:
    """With nothing that shows a policy, a TTL that stays and a denial without SOA do; an old entry's counts down."""
    held = HeldZones([read_zone(PANS, "pans.example")])
    cache = Cache([held, HeldZones([read_zone(WORLD, "world.example")])], time.monotonic, **ways)
    resolver = standins.add([], recursive=True, cache=cache)
    server = standins.add([read_zone(PANS, "pans.example")])
    if not ways:
        changed = standins.add([read_zone(PANS.replace("10.77.0.5", "10.77.0.55"), "pans.example")])
        cache.keep("rake.pans.example", "A", [100.0])
        server, listed = changed, LISTED.replace("10.77.0.5", "10.77.0.55")
    else:
        listed = LISTED
    (tmp_path / "list.zone").write_text(listed, encoding="utf-8")
    (tmp_path / "estate.toml").write_text(
        "[resolver_tests]\nexternal = []\n"
        '[[zones]]\nname = "pans.example"\nview = "inside"\nservers = ["nsd"]\nexpect = ["list.zone"]\n'
        f'[servers.nsd]\naddress = "{server.endpoint}"\n'
        f'[resolvers.office]\naddress = "{resolver.endpoint}"\nview = "inside"\n',
        encoding="utf-8",
    )
    done = run("resolvers", "--json")
    assert found(done) == codes, done.out
    assert done.status == (0 if codes == ["res.outdated-answer"] else 1)
    if "bogus" in ways:
        assert "DNSSEC Bogus (no signature)" in done.report["findings"][0]["text"]
        assert done.report["counts"]["differs"] == 0, "the resolver is right to fail"
        asked = run("ask", "rake.pans.example", "A", "--at", "office")
        assert asked.status == 3 and "adds the extended error DNSSEC Bogus (no signature)" in asked.out
        assert "does not validate (DNSSEC) at office: with checking disabled A is 10.77.0.5" in asked.out


@pytest.mark.parametrize("stands", ["own", "swapped", "one name"])
def test_a_resolver_of_another_view_is_recognised_by_what_it_gives(
    run: Run, standins: StandIns, tmp_path: Path, stands: str
) -> None:
    """Two views of one zone with one SOA: nothing but their contents tells them apart."""
    outside = PANS.replace("10.77.0.", "192.0.2.")
    zones = {"inside": PANS, "public": outside}
    text = "[resolver_tests]\nexternal = []\n"
    caches = {}
    for view, zone in zones.items():
        server = standins.add([read_zone(zone, "pans.example")])
        net = "10.77.0" if view == "inside" else "192.0.2"
        policy = {"vat.pans.example": "192.0.2.7"} if (view, stands) == ("inside", "one name") else {}
        cache = Cache([HeldZones([read_zone(zone, "pans.example")])], time.monotonic, policy=policy)
        caches[view] = standins.add([], recursive=True, cache=cache)
        (tmp_path / f"{view}.zone").write_text(f"rake A {net}.5\nvat A {net}.7\n", "utf-8")
        text += f'[[zones]]\nname = "pans.example"\nview = "{view}"\nservers = ["{view}"]\nexpect = ["{view}.zone"]\n'
        text += f'[servers.{view}]\naddress = "{server.endpoint}"\n'
    other = {"inside": "public", "public": "inside"}
    for view in zones:
        at = caches[other[view] if stands == "swapped" else view]
        text += f'[resolvers.of-{view}]\naddress = "{at.endpoint}"\nview = "{view}"\n'
    (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
    done = run("resolvers", "--json")
    assert found(done) == {"own": [], "swapped": ["res.not-forwarded"] * 2, "one name": ["res.other-view"]}[stands], (
        done.out
    )
    if stands == "swapped":
        assert "the zone of the view public, by its contents" in done.out


@pytest.mark.real
def test_other_ways_to_a_resolver_are_tried_too(run: Run, tmp_path: Path, certified: Certified) -> None:
    """A certificate that nobody here trusts is a closed way; so is a port where nobody listens."""
    with realservers.bind(
        tmp_path / "bind", {"pans.example": PANS}, key=KEY,
        tls=(certified.chain, certified.key), open_to_all=True,
    ) as server:  # fmt: skip
        tls, https = (tmp_path / "bind" / "ports").read_text(encoding="utf-8").split()
        also = f'["tls://127.0.0.1:{tls}", "https://127.0.0.1:{https}/dns-query", "[::1]:1"]'
        text = f'[resolver_tests]\nexternal = []\n[resolvers.office]\naddress = "{server.endpoint}"\nalso = {also}\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        done = run("resolvers", "--json")
    assert found(done) == ["res.no-transport"] * 4
    said = " ".join(one["text"] for one in done.report["findings"])
    assert "over TLS" in said and "over HTTPS" in said and "UDP over IPv6" in said and "TCP over IPv6" in said


def test_a_resolver_that_lies_stalls_or_closes_is_unverified_or_told_and_holds_up_nothing(
    run: Run, tmp_path: Path
) -> None:
    with hostile_servers() as ports:
        text = '[resolver_tests]\nexternal = ["www.salt.invalid"]\n'
        text += "".join(f'[resolvers.{name}]\naddress = "127.0.0.1:{port}"\n' for name, port in ports.items())
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        done = run("resolvers", "--json", "--timeout", "0.2", "--tries", "2")
    assert len(done.report["tests"]) == len(MODES)
    silent = {one["server"] for one in done.report["findings"] if one["code"] == "res.unverified"}
    assert f"127.0.0.1:{ports['silent']}" in silent and f"127.0.0.1:{ports['garbage']}" in silent


@pytest.mark.parametrize(
    ("entry", "says"),
    [
        ('forwards_to = ["ofice"]', 'there is no [resolvers.ofice] or [servers.ofice]; did you mean "office"?'),
        ('serves = ["10.77.0.1/16"]', "has host bits set; the network is 10.77.0.0/16"),
        ('serves = ["office"]', '"office" is no network; expected one such as 10.77.0.0/16'),
        ('also = ["dns.invalid"]', '"dns.invalid" is no address'),
        ('[resolver_tests]\nlarge = ["big.example"]', '"big.example" has no type'),
        ('[resolver_tests]\nexternal = ["a..b"]', "an empty label"),
    ],
)
def test_what_the_estate_says_of_resolvers_is_read_with_care(run: Run, tmp_path: Path, entry: str, says: str) -> None:
    (tmp_path / "estate.toml").write_text(f'[resolvers.office]\naddress = "127.0.0.1:1"\n{entry}\n', encoding="utf-8")
    done = run("resolvers")
    assert done.status == 2 and says in done.err.replace("\n", " ")


def test_without_any_resolver_that_is_said(run: Run, tmp_path: Path) -> None:
    done = run("resolvers")
    assert done.status == 2 and "name a resolver" in done.err
    done = run("resolvers", "127.0.0.1:1", "--timeout", "0.1", "--tries", "1")
    assert done.status == 3 and done.out.startswith("0 of 1 resolver passes all tests; 1 could not be verified.")


# Random resolvers against an obvious judge

ZONE, HOST = "pans.example", "rake.pans.example"
SOA = "ns.pans.example. h.pans.example. {} 3600 600 1209600 300"
Says = st.sampled_from(["right", "old", "another", "no", "servfail", "silent"])


@dataclass
class World:
    """One zone on one server, and a resolver that says this or that of it."""

    zone: str = "right"
    server: str = "right"
    stranger: str = "no"
    external: str = "right"
    asked: list[Question] = field(default_factory=list)
    backlog: int = 0
    ready: list[Answer] = field(default_factory=list)

    def submit(self, question: Question) -> None:
        self.asked.append(question)
        self.ready.append(self._answer(question))
        self.backlog += 1

    def collect(self) -> list[Answer]:
        ready, self.ready, self.backlog = self.ready, [], 0
        return ready

    def _answer(self, question: Question) -> Answer:
        name, kind, resolver = to_text(question.name), type_text(question.rdtype), question.server.label == "office"
        query = dns.message.make_query(name, kind)
        response = dns.message.make_response(query, recursion_available=resolver)
        says = self._says(name, kind, resolver=resolver)
        if says == "silent":
            return Answer(question, "timeout")
        if not resolver:
            response.flags |= dns.flags.AA
        if says in ("servfail", "no"):
            response.set_rcode(dns.rcode.SERVFAIL if says == "servfail" else dns.rcode.NXDOMAIN)
        else:
            value = {"SOA": SOA.format(6 if says == "old" else 7), "A": "10.77.0.5", "NS": "ns.pans.example."}[kind]
            if says == "another":
                value = SOA.format(7).replace("ns.pans", "ns.other") if kind == "SOA" else "203.0.113.80"
            response.answer.append(dns.rrset.from_text(name, 200, "IN", kind, value))
        wire = response.to_wire()
        rcode, aa, _, values, ttl, alias, _ = Reader().read(wire, wire[:2], query.to_wire()[12:])
        return Answer(question, rcode_text(rcode), aa, values, ttl, alias, wire, 1.0)

    def _says(self, name: str, kind: str, *, resolver: bool) -> str:
        if name.startswith("no-such-"):
            return self.stranger if resolver else ("silent" if self.server == "silent" else "no")
        if name == "www.world.example.":
            return self.external
        if name == f"{ZONE}." and kind == "SOA":
            return self.zone if resolver else self.server
        if name == f"{HOST}.":
            return "right" if resolver or self.server == "right" else self.server
        return "no"


def slow_judge(world: World) -> set[str]:
    """What is to be said of such a resolver."""
    said = [world.zone, world.external]
    if all(one == "silent" for one in said) and world.zone == "silent":
        return {"res.unverified"}
    codes = set()
    if world.server in ("servfail", "silent", "no"):
        codes |= {"res.unverified"}
    elif world.zone in ("servfail", "silent"):
        codes |= {"res.forwarding-fails"}
    elif world.zone in ("no", "another"):
        codes |= {"res.not-forwarded"}
    elif world.zone == "old":
        codes |= {"res.outdated-copy"}
    if world.external in ("no", "servfail", "silent"):
        codes |= {"res.no-public-names"}
    if world.stranger in ("right", "another"):
        codes |= {"res.nxdomain-rewritten"}
    return codes


@examples(200)
@given(Says, st.sampled_from(["right", "no", "servfail", "silent"]), st.sampled_from(["no", "another", "servfail", "silent"]),
       st.sampled_from(["right", "no", "servfail", "silent"]))  # fmt: skip
def test_a_resolver_is_judged_as_an_obvious_judge_does(zone: str, server: str, stranger: str, external: str) -> None:
    world = World(zone, server, stranger, external)
    own = Server("own", bytes((127, 0, 0, 1)), 1001)
    apex = from_text(ZONE)
    expected = (Expectation(from_text(HOST), 1, bytes((10, 77, 0, 5))),)
    estate = Estate(zones={"inside": {apex: Zone(apex, "inside", (own,), expected)}})
    estate.resolvers["office"] = Server("office", bytes((127, 0, 0, 1)), 1002)
    estate.duties["office"] = Duty("inside")
    estate.resolver_tests = ResolverTests((from_text("www.world.example"),))
    atlas = Atlas(estate)
    part = Resolvers(resolvers_of(estate, atlas), atlas)
    carry_out(part, Setting(NOW), Runner(world))
    codes = {one.code for one in part.findings()} - {"res.no-transport"}
    assert codes == slow_judge(world), world
    (verdict,) = part.verdicts()
    if "res.unverified" in codes:
        assert verdict.outcome != "agrees"
    assert (verdict.outcome == "differs") == any(one.outcome == "differs" for one in part.findings())


def test_a_made_up_address_finds_nothing_of_the_world(run: Run, standins: StandIns) -> None:
    """Whoever gives an address for everything has not found what he was asked for."""
    maker = standins.add(
        [], recursive=True, cache=Cache([HeldZones([read_zone(HEAD, ".")])], time.monotonic, made_up="203.0.113.80")
    )
    done = run("resolvers", maker.endpoint, "--json")
    (row,) = [one for one in done.report["tests"][0]["tests"] if one["title"] == "public names"]
    assert row["mark"] == "unverified" and found(done) == ["res.nxdomain-rewritten"]

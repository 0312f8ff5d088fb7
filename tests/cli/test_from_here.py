"""A name on its way through a computer: real ones in a namespace with a fault each, captured ones, random ones and an obvious
judge."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.from_here.judging import Here
from salt_mirror.checks.from_here.own import own_scope
from salt_mirror.checks.from_here.scope import HereScope, Programs
from salt_mirror.demo.world import plantings
from salt_mirror.dns.computer.settings import Configured, HostsEntry, OwnAddress, Settings
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Server
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.server import StandIn
from support.computers import Authority, Computer, computer
from support.estates import found
from support.examples import examples
from support.hostile import MODES, hostile_servers
from support.program import Run
from support.tables import NOW, Table

World = tuple[Path, dict[str, StandIn]]
HEAD = "$TTL 3600\n@ SOA ns h 7 3600 600 1209600 300\n@ NS ns\nns A 10.77.10.5\n"
PANS = HEAD + "weighbridge A 10.77.10.20\npress A 10.77.20.21\nmanifest A 10.77.30.13\nmover A 10.77.10.31\n"
INSIDE = {
    "pans.gullmarsh.internal": PANS,
    "77.10.in-addr.arpa": HEAD + "20.10 PTR weighbridge.pans.gullmarsh.internal.\n"
    "13.30 PTR manifest.pans.gullmarsh.internal.\n",
    "gullmarsh.example": HEAD + "web A 10.77.10.80\npress A 10.77.10.81\n",
}  # fmt: skip
OUTSIDE = {"gullmarsh.example": HEAD + "web A 192.0.2.10\n", ".": HEAD.replace("ns A", "ns. A")}
NSD, WORLD = "10.77.10.5", "192.0.2.53"
SOUND, SECOND, PUBLIC, DEAD_STUB, REWRITES, NO_TCP, KEEPS, NOBODY, SILENT = (
    "10.77.30.53", "10.77.30.54", "203.0.113.53", "10.77.30.55", "10.77.30.56", "10.77.30.57", "10.77.30.58",
    "10.77.30.99", "10.77.30.98",
)  # fmt: skip
FILTERS, VALIDATES = "10.77.30.59", "10.77.30.60"
STUB = "127.0.0.53"
ESTATE = f"""
[[zones]]
name = "pans.gullmarsh.internal"
view = "internal"
servers = ["dc"]
expect = ["pans.zone"]
[[zones]]
name = "77.10.in-addr.arpa"
view = "internal"
servers = ["dc"]
[[zones]]
name = "gullmarsh.example"
view = "internal"
servers = ["dc"]
[[zones]]
name = "gullmarsh.example"
view = "public"
servers = ["ns1"]
[servers.dc]
address = "{NSD}"
[servers.ns1]
address = "{WORLD}"
"""


@pytest.fixture(scope="module")
def here(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Computer, Authority]]:
    """A computer with everything around it."""
    folder = tmp_path_factory.mktemp("computer")
    (folder / "estate.toml").write_text(ESTATE, encoding="utf-8")
    (folder / "pans.zone").write_text("weighbridge A 10.77.10.20\npress A 10.77.20.21\n", encoding="utf-8")
    with computer(folder) as made:
        own = made.nsd(NSD, INSIDE)
        made.nsd(WORLD, OUTSIDE)
        inside = dict.fromkeys(INSIDE, NSD) | {".": WORLD}
        made.unbound(SOUND, inside)
        made.bind(SECOND, dict.fromkeys(INSIDE, NSD) | {".": WORLD})
        made.unbound(PUBLIC, dict.fromkeys(OUTSIDE, WORLD))
        made.unbound(DEAD_STUB, inside | {"pans.gullmarsh.internal": NOBODY})
        made.unbound(REWRITES, inside, 'local-zone: "invalid." redirect', 'local-data: "invalid. 60 IN A 203.0.113.80"')
        made.unbound(NO_TCP, inside, "do-tcp: no")
        made.unbound(KEEPS, inside)
        made.unbound(
            FILTERS, inside, 'local-zone: "press.pans.gullmarsh.internal." always_nxdomain',
            'local-data: "weighbridge.pans.gullmarsh.internal. 60 IN A 10.77.10.66"',
        )  # fmt: skip
        anchor = f'trust-anchor: "pans.gullmarsh.internal. DS 12345 8 2 {64 * "A"}"'
        made.unbound(VALIDATES, {".": WORLD} | inside, 'module-config: "validator iterator"', anchor, "ede: yes")
        made.silent(SILENT)
        yield made, own


@dataclass(frozen=True)
class Case:
    """What a computer is set to, what is typed, what must be found, and what the first line names as the first to depart."""

    resolvers: tuple[str, ...]
    typed: tuple[str, ...]
    codes: tuple[str, ...] = ()
    first: str = ""
    hosts: str = ""
    search: str = "pans.gullmarsh.internal"
    order: str = "files dns"
    view: str = ""


MOVED = "10.77.10.30 weighbridge.pans.gullmarsh.internal weighbridge\n"
CASES = {
    "sound": Case((SOUND, SECOND), ("weighbridge",)),
    "sound, by its whole name": Case((SOUND, SECOND), ("weighbridge.pans.gullmarsh.internal.",)),
    "sound, by its address": Case((SECOND, SOUND), ("10.77.10.20",)),
    "sound, and not there": Case((SOUND, SECOND), ("no-such-host.pans.gullmarsh.internal",)),
    "sound, nothing named": Case((SOUND, SECOND), (), hosts="10.77.10.20 weighbridge.pans.gullmarsh.internal\n"),
    "sound, of the world": Case((PUBLIC,), ("web.gullmarsh.example",)),
    "a hosts file from before": Case((SOUND,), ("weighbridge",), ("here.hosts-differ",), "hosts file", MOVED),
    "a hosts file, nothing named": Case((SOUND,), (), ("here.hosts-differ",), "", MOVED),
    "a hosts file that comes last": Case(
        (SOUND,), ("weighbridge",), ("here.hosts-differ",), "hosts file", MOVED, order="dns files"
    ),
    "another suffix first": Case(
        (SOUND,), ("press",), ("here.suffix-wins",), "names tried", search="gullmarsh.example pans.gullmarsh.internal",
    ),
    "a silent resolver first": Case((SILENT, SOUND), ("weighbridge",), ("here.dead-resolver",), SILENT),
    "nobody at the second one": Case((SOUND, NOBODY), ("weighbridge",), ("here.dead-resolver",), NOBODY),
    "an internal and a public one": Case(
        (SOUND, PUBLIC), ("web.gullmarsh.example",), ("here.resolvers-differ",), "taken together"
    ),
    "a public one for a name of the inside": Case((SOUND, PUBLIC), ("weighbridge",), ("here.elsewhere",), PUBLIC),
    "the wrong view": Case((PUBLIC,), ("web.gullmarsh.example",), ("here.wrong-view",), PUBLIC, view="internal"),
    "a stub zone to a dead server": Case((DEAD_STUB,), ("weighbridge",), ("here.not-reached",), DEAD_STUB),
    "a resolver that makes up addresses": Case((REWRITES,), ("weighbridge",), ("here.nxdomain-rewritten",), REWRITES),
    "a resolver that blocks": Case((FILTERS,), ("press",), ("here.blocked",), FILTERS),
    "a resolver that overrides": Case((FILTERS,), ("weighbridge",), ("here.overridden",), FILTERS),
    "a zone that does not validate": Case((VALIDATES,), ("weighbridge",), ("here.bogus",), VALIDATES),
    "one without TCP": Case((NO_TCP,), ("weighbridge",), ("here.no-tcp",)),
    "one without TCP, nothing named": Case((NO_TCP, REWRITES), (), ("here.nxdomain-rewritten", "here.no-tcp")),
}  # fmt: skip


@pytest.mark.real
@pytest.mark.parametrize("name", CASES)
def test_each_fault_of_a_computer_is_found_at_its_station_and_nothing_else(
    here: tuple[Computer, Authority], name: str
) -> None:
    case, (made, _) = CASES[name], here
    made.set(*case.resolvers, hosts=case.hosts, search=case.search, order=case.order)
    view = ("--view", case.view) if case.view else ()
    done = made.run("from-here", *case.typed, *view, "--json")
    assert set(found(done)) == set(case.codes) and len(found(done)) == len(case.codes), done.out
    assert done.status == (1 if any(one["weight"] == "fault" for one in done.report["findings"]) else 0)
    if case.first:
        assert case.first in done.report["says"].partition("iffer")[2], done.report["says"]
    if not case.codes:
        plain = made.run("from-here", *case.typed, *view)
        assert plain.status == 0 and len(plain.out.splitlines()) == 2, plain.out


@pytest.mark.real
def test_a_cached_no_and_an_old_address_are_told_with_what_is_left_of_them(here: tuple[Computer, Authority]) -> None:
    made, own = here
    made.unbound(STUB, {"pans.gullmarsh.internal": NSD})
    for resolver in (STUB, KEEPS):
        made.set(resolver)
        assert found(made.run("from-here", "mover", "latecomer", "--json")) == []
    own.change(
        "pans.gullmarsh.internal",
        PANS.replace(" 7 ", " 8 ").replace("10.77.10.31", "10.77.10.32") + "latecomer A 10.77.10.33\n",
    )
    over_at = time.monotonic() + 20
    while "10.77.10.33" not in made.run("ask", "latecomer.pans.gullmarsh.internal", "A", "--at", NSD).out:
        assert time.monotonic() < over_at
    done = made.run("from-here", "mover", "latecomer.pans.gullmarsh.internal", "--json")
    assert found(done) == ["here.negative-cache", "here.outdated-answer"], done.out
    made.set(STUB)
    kept = made.run("from-here", "mover", "latecomer.pans.gullmarsh.internal", "--json")
    assert found(kept) == found(done) and "this computer's own resolver (127.0.0.53)" in kept.out
    texts = {one["code"]: one["text"] for one in done.report["findings"]}
    assert "10.77.10.31" in texts["here.outdated-answer"] and "10.77.10.32" in texts["here.outdated-answer"]
    assert "for another 4 min" in texts["here.negative-cache"] or "for another 5 min" in texts["here.negative-cache"]
    assert "for another 59 min" in texts["here.outdated-answer"] or "for another 1 h" in texts["here.outdated-answer"]
    own.change("pans.gullmarsh.internal", PANS.replace(" 7 ", " 9 "))


SELF = {
    "registered": ("manifest", ()),
    "unknown": ("counter", ("here.self-missing", "here.self-taken")),
    "with an old address": ("weighbridge", ("here.self-missing", "here.self-old", "here.self-taken")),
}


@pytest.mark.real
@pytest.mark.parametrize("name", SELF)
def test_a_computer_sees_whether_it_is_registered_itself(here: tuple[Computer, Authority], name: str) -> None:
    host, codes = SELF[name]
    made, _ = here
    made.set(SOUND, name=host)
    done = made.run("from-here", "--self", "--json")
    assert tuple(found(done)) == codes, done.out
    plain = made.run("from-here", "--self")
    begin = f"{host}.pans.gullmarsh.internal.: "
    assert plain.out.startswith(begin + ("is registered, with every address." if not codes else "is not registered")), (
        plain.out
    )
    if not codes:
        waited = made.run("from-here", "--self", "--wait", "--within", "20s")
        assert waited.status == 0, waited.out


# Captured computers


def test_the_counter_of_the_harbour_office_departs_where_it_was_planted(demo: Run, world: World) -> None:
    folder = str(world[0].parent / "computer")
    done = demo("from-here", "weighbridge", "web.gullmarsh.example", "--settings", folder, "--json")
    planted = sorted((one["code"], one["name"]) for one in plantings()["from-here"])
    assert done.status == 1 and sorted((one["code"], one["name"]) for one in done.report["findings"]) == planted
    one = demo("from-here", "weighbridge", "--settings", folder)
    assert one.out.startswith(
        "weighbridge.pans.gullmarsh.internal.: programs there get 10.77.10.30; "
        "the authoritative answer is 10.77.10.20 (view internal). "
        "The first difference: hosts file (/etc/hosts).\n"
    )
    for wrong in (("--wait",), ("--self", "x"), ("--settings", folder, "--self"), ("--settings", "nowhere")):
        assert demo("from-here", *wrong).status == 2


def test_resolvers_that_lie_stall_or_close_do_not_hold_up_the_rest(run: Run, tmp_path: Path) -> None:
    etc = tmp_path / "pc" / "etc"
    etc.mkdir(parents=True)
    (etc / "hosts").write_text("127.0.0.1 localhost\nno address at all\n", encoding="utf-8")
    with hostile_servers() as ports:
        addresses = {mode.name: f"198.51.100.{number}" for number, mode in enumerate(MODES, 1)}
        text = "".join(f'"{address}" = "127.0.0.1:{ports[name]}"\n' for name, address in addresses.items())
        (tmp_path / "estate.toml").write_text(f"[reach]\n{text}", encoding="utf-8")
        (etc / "resolv.conf").write_text("".join(f"nameserver {one}\n" for one in addresses.values()), encoding="utf-8")
        call = ("from-here", "rake.salt.invalid", "--settings", "pc", "--json", "--timeout", "0.2", "--tries", "2")
        few = run(*call)
        scopes = "".join(f"  nameserver[{number}] : {one}\n" for number, one in enumerate(addresses.values()))
        (tmp_path / "pc" / "scopes.txt").write_text(f"DNS configuration\n\nresolver #1\n{scopes}", encoding="utf-8")
        many = run(*call)
    remarks = " ".join(few.report["remarks"])
    assert "hosts, line 2 is no line of a hosts file" in remarks and "nsswitch.conf cannot be read" in remarks
    assert "has more than 3 resolvers: 198.51.100.4" in remarks
    assert few.status == many.status == 1
    rows = [row for row in many.report["tests"][0]["tests"] if row["title"].startswith("resolver ")]
    assert len(rows) == len(MODES)
    dead = {one["server"] for one in many.report["findings"] if one["code"] == "here.dead-resolver"}
    assert f"127.0.0.1:{ports['silent']}" in dead and f"127.0.0.1:{ports['plain']}" not in dead


# Random computers against an obvious judge

ZONE, HOST = "pans.example", "rake.pans.example"
RIGHT, OLD = "10.77.0.5", "10.77.0.4"
SOA, NS = [f"ns.{ZONE}. h.{ZONE}. 8 3600 600 1209600 300"], [f"ns.{ZONE}."]
Told = st.sampled_from(["right", "old", "no", "timeout", "SERVFAIL"])


@examples(200)
@given(
    st.sampled_from(["right", "no", "timeout"]), st.tuples(Told, Told), st.sampled_from(["none", "right", "old"]),
    st.booleans(), st.sampled_from(["as led", "other", "nothing"]),
)  # fmt: skip
def test_a_way_is_judged_as_an_obvious_judge_does(
    truth: str, said: tuple[str, str], entry: str, files_first: bool, got: str
) -> None:
    table: dict[tuple[str, str, str], list[str] | str] = {("own", ZONE, "SOA"): SOA, ("own", ZONE, "NS"): NS}
    values = {"right": [RIGHT], "old": [OLD]}
    for label, what in (("own", truth), ("one", said[0]), ("two", said[1])):
        if what in values:
            table[label, HOST, "A"] = values[what]
        elif what != "no":
            table |= {(label, HOST, kind): what for kind in ("A", "AAAA")}
    own = Server("own", bytes((127, 0, 0, 1)), 1001)
    apex = from_text(ZONE)
    expected = (Expectation(from_text(HOST), 1, bytes((10, 77, 0, 5))),)
    estate = Estate(zones={"inside": {apex: Zone(apex, "inside", (own,), expected)}})
    pc = Settings("linux", hosts_file="/etc/hosts", order=["files", "dns"] if files_first else ["dns", "files"])
    pc.resolvers = [
        Configured("127.0.0.1:1002", "", "/etc/resolv.conf"),
        Configured("127.0.0.1:1003", "", "/etc/resolv.conf"),
    ]
    if entry != "none":
        pc.hosts = [HostsEntry(bytes(map(int, values[entry][0].split("."))), (from_text(HOST),), 4)]
    scope = HereScope(pc, estate, Atlas(estate))
    for configured, label in zip(pc.resolvers, ("one", "two"), strict=True):
        server = scope.server_of(configured)
        assert server is not None
        server.label = label
    led = _led(said, entry, files_first=files_first)
    answer = {"as led": led, "other": ["203.0.113.9"], "nothing": []}[got]
    programs = Programs(tuple(bytes(map(int, one.split("."))) for one in answer or ()), "no such name", 0.1)
    part = Here(scope, [scope.typed(HOST, programs)])
    carry_out(part, Setting(NOW), Runner(Table(table)))
    codes = {one.code for one in part.findings()} - {"here.no-tcp"}
    assert codes == slow_judge(truth, said, entry, led, answer or [], files_first=files_first)
    (verdict,) = part.verdicts()
    assert (verdict.outcome == "differs") == any(one.outcome == "differs" for one in part.findings())
    if truth == "timeout":
        assert verdict.outcome != "agrees"


def _led(said: tuple[str, str], entry: str, *, files_first: bool) -> list[str] | None:
    """What programs should get by the stations; None where nobody can say."""
    values = {"right": [RIGHT], "old": [OLD], "no": []}
    if files_first and entry != "none":
        return values[entry]
    return next((values[one] for one in said if one in values), None)


def slow_judge(
    truth: str, said: tuple[str, str], entry: str, led: list[str] | None, got: list[str], *, files_first: bool
) -> set[str]:
    codes = set()
    for one in said:
        if one == "timeout":
            codes.add("here.dead-resolver")
        elif truth == "timeout":
            codes.add("here.unverified")
        elif one == "SERVFAIL":
            codes.add("here.not-reached")
        elif one == "old" or (one == "right" and truth == "no"):
            codes.add("here.outdated-answer")
        elif one == "no" and truth == "right":
            codes.add("here.negative-cache")
    if truth == "timeout":
        codes.add("here.unverified")
        alive = {one for one in said if one in ("right", "old", "no")}
        if len(alive) > 1:
            codes.add("here.resolvers-differ")
    elif entry == "old" or (entry == "right" and truth == "no"):
        codes.add("here.hosts-differ")
    if led is not None and (set(got) - set(led) or (not got and led)):
        codes.add("here.programs-differ")
    return codes


def test_an_own_address_that_is_of_no_network_of_the_estate_is_left_out() -> None:
    own = Server("own", bytes((127, 0, 0, 1)), 1001)
    apex, reverse = from_text(ZONE), from_text("77.10.in-addr.arpa")
    estate = Estate(zones={"inside": {one: Zone(one, "inside", (own,)) for one in (apex, reverse)}})
    pc = Settings("linux", host="rake", domain=ZONE)
    pc.addresses = [OwnAddress(bytes((10, 77, 0, 5)), "eth0"), OwnAddress(bytes((172, 17, 0, 1)), "bridge0")]
    scope = HereScope(pc, estate, Atlas(estate))
    table: dict[tuple[str, str, str], list[str] | str] = {
        ("own", HOST, "A"): [RIGHT], ("own", "5.0.77.10.in-addr.arpa", "PTR"): ["other.pans.example."],
    }  # fmt: skip
    part = Here(scope, [], own=own_scope(scope))
    carry_out(part, Setting(NOW), Runner(Table(table)))
    assert [one.code for one in part.findings()] == ["here.self-pointer"]
    assert "left out: in no network of the estate" in [row.says for row in part.trees()[0].tests]

"""What no longer belongs: rules against an obvious judge, exports, leases, references on servers, and what cannot be known."""

from __future__ import annotations

import ipaddress
import json
import random
import re
import socket
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.stale.judging import Stale
from salt_mirror.checks.stale.rules import Rules
from salt_mirror.checks.stale.scope import StaleScope
from salt_mirror.checks.stale.wording import evidence_of
from salt_mirror.demo.world import plantings
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import PTR, A
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.aging import Ages, Aging, Leased, Registered, hours_since_1601
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.file import ControllerEntry, DirectoryEntry
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support.estates import found
from support.examples import examples
from support.peers import peer
from support.program import Run
from support.tables import NOW, Table

ZONE, REVERSE = from_text("pans.example"), from_text("10.in-addr.arpa")
HOST, OTHER = from_text("rake.pans.example"), from_text("vat.pans.example")
ADDRESS = bytes((10, 77, 20, 5))
NOW_H = 3_733_000.0
LIFE_H, REFRESH_H = 336, 168
OWN = Server("own", bytes((127, 0, 0, 1)), 1)

Stamp = st.sampled_from([None, 0, 24, 200, 400, 2000])
"""Static, hours ago, or unknown."""


@examples(300)
@given(
    stamp=Stamp, wish=st.sampled_from(["nothing", "present", "static", "dynamic"]),
    lease=st.sampled_from(["none", "own", "other", "ended", "nameless"]), other=Stamp,
    pointer=st.sampled_from(["none", "own", "other"]), aging=st.sampled_from([True, False, None]),
    scavenged=st.sampled_from([True, False, None]), known=st.booleans(), retired=st.booleans(),
)  # fmt: skip
def test_a_record_is_judged_by_its_evidence_as_an_obvious_judge_does(
    stamp: int | None, wish: str, lease: str, other: int | None, pointer: str, aging: bool | None, scavenged: bool | None,
    known: bool, retired: bool,
) -> None:  # fmt: skip
    def at(hours: int | None) -> int | None:
        return None if hours is None else 0 if hours == 0 else int(NOW_H) - hours

    how = Aging(aging, REFRESH_H if known else None, REFRESH_H if known else None, scavenged)
    expected = () if wish == "nothing" else (
        Expectation(HOST, A, ADDRESS, lifetime=wish if wish in ("static", "dynamic") else None),
    )  # fmt: skip
    zone = Zone(ZONE, "", (OWN,), expected, aging=how)
    back = Zone(REVERSE, "", (OWN,), aging=how)
    estate = Estate(zones={"": {ZONE: zone, REVERSE: back}})
    forward = {(HOST, A, ADDRESS): at(stamp), (OTHER, A, ADDRESS): at(other)}
    stamps = {key: value for key, value in forward.items() if value is not None}
    reverse = {} if pointer == "none" else {(reverse_name(ADDRESS), PTR, HOST if pointer == "own" else OTHER): 0}
    estate.ages = Ages({("", ZONE): [Registered("x", stamps, how)], ("", REVERSE): [Registered("x", reverse, how)]})
    if lease != "none":
        host = {"own": HOST, "other": OTHER}.get(lease)
        estate.ages.leases[ADDRESS] = Leased(lease not in ("ended",), host, None)
    estate.retired = (ipaddress.ip_network("10.77.20.0/24"),) if retired else ()
    scope = StaleScope(estate)
    told = {
        one.reason.value
        for one in Rules(scope.inventory(""), scope, NOW_H).suspicions()
        if one.record.name == HOST
    }  # fmt: skip
    assert told == slow_judge(stamp, wish, lease, other, pointer, aging, scavenged, known=known, retired=retired)


def slow_judge(
    stamp: int | None, wish: str, lease: str, other: int | None, pointer: str, aging: bool | None, scavenged: bool | None,
    *, known: bool, retired: bool,
) -> set[str]:  # fmt: skip
    if stamp is None:
        return set()  # no source has it
    aged = known and stamp > LIFE_H
    needed = wish != "nothing" or lease == "own"
    takes = aging is not False and scavenged is not False
    if aged and needed:
        return {"age.still-needed"} if takes else set()
    if wish == "static":
        return {"age.not-static"} if stamp and takes else set()
    if wish == "dynamic":
        return {"age.not-dynamic"} if not stamp else set()
    if needed:
        return set()
    newer = known and stamp and other and other < stamp - REFRESH_H and pointer == "other"
    if lease == "other" or newer:
        return {"left.reused"}
    if retired:
        return {"left.retired"}
    return {"age.stale"} if aged else set()


def test_what_controllers_register_is_needed_and_what_a_gone_one_left_is_stale() -> None:
    old = int(NOW_H) - 1000
    how = Aging(True, REFRESH_H, REFRESH_H, True)
    domain, dc = from_text("pans.example"), from_text("dc-kiln.pans.example")
    gone = from_text("dc-gone.pans.example")
    locator = from_text("_ldap._tcp.pans.example")
    value = b"\x00\x00\x00\x64\x01\x85"
    stamps = {
        (dc, A, ADDRESS): old, (domain, A, ADDRESS): old, (locator, 33, value + dc): old, (locator, 33, value + gone): old,
    }  # fmt: skip
    estate = Estate(zones={"": {ZONE: Zone(ZONE, "", (OWN,))}})
    estate.directories = [DirectoryEntry("pans.example", controllers=[ControllerEntry("dc-kiln")])]
    estate.ages = Ages({("", ZONE): [Registered("x", stamps, how)]})
    scope = StaleScope(estate)
    told = {
        (one.record.name, one.record.rdata[6:], one.reason.value)
        for one in Rules(scope.inventory(""), scope, NOW_H).suspicions()
    }
    assert (locator, gone, "age.stale") in told
    assert {reason for name, rest, reason in told if rest != gone} == {"age.still-needed"}


# Exports and servers

HEAD = "@ 3600 SOA ns h 1 3600 600 1209600 300\n@ NS ns\nns A 127.0.0.1\n"


def mark(days: float) -> str:
    return f"[AGE:{int(hours_since_1601(datetime.now(UTC)) - days * 24)}]"


class Exported:
    """A zone served by a stand-in, its export with age marks, and the estate that names both."""

    def __init__(
        self, folder: Path, standins: StandIns, exported: str, served: str | None = None, more: str = ""
    ) -> None:
        self.folder = folder
        self.standin: StandIn = standins.add(
            [read_zone(_plain(served if served is not None else exported), "pans.example")]
        )
        (folder / "export.zone").write_text(HEAD + exported, encoding="utf-8")
        text = '[[zones]]\nname = "pans.example"\nservers = ["one"]\nages = ["export.zone"]\naging = true\n'
        text += 'no_refresh = "7d"\nrefresh = "1w"\nexpect = ["list.csv"]\n'
        text += f'[servers.one]\naddress = "{self.standin.endpoint}"\n'
        (folder / "estate.toml").write_text(more + text, encoding="utf-8")
        self.expect()

    def expect(self, *rows: str) -> None:
        (self.folder / "list.csv").write_text("\n".join(["name,type,value,lifetime", *rows]) + "\n", encoding="utf-8")

    def lease(self, *rows: tuple[str, str, int]) -> None:
        """Writes leases: address, host, seconds from now until each ends."""
        lines = ["address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state"]
        lines += [f"{address},,,3600,{int(time.time()) + ends},1,1,1,{host},0" for address, host, ends in rows]
        (self.folder / "leases.csv").write_text("\n".join(lines) + "\n", encoding="utf-8")


def _plain(text: str) -> str:
    return HEAD + re.sub(r"\[AGE:\d+\]", "", text)


def test_the_first_line_is_the_answer_and_the_evidence_is_in_words(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    exported = f"""rake-01 {mark(3)} 1200 A 10.77.10.11
rake-02 {mark(94)} 1200 A 10.77.10.12
rake-03 {mark(20)} 1200 A 10.77.10.13
rake-04 {mark(30)} 1200 A 10.77.10.14
vat-04 {mark(2)} 1200 A 10.77.10.14
kiln {mark(5)} 1200 A 10.77.40.9
scale {mark(9)} 1200 A 10.77.10.15
typed 3600 A 10.77.10.16
old CNAME gone.pans.example.
elsewhere CNAME www.given-up.example.
"""
    more = 'leases = ["leases.csv"]\n[networks."10.77.40.0/24"]\nretired = true\n'
    world = Exported(tmp_path, standins, exported, more=more)
    zone = read_zone("@ 60 SOA a b 1 2 3 4 5\n@ NS a\na A 192.0.2.44\n", "example")
    top, own = standins.add([zone], recursive=True), standins.add([zone])
    path = tmp_path / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8") + f'[reach]\n"192.0.2.44" = "{own.endpoint}"\n', encoding="utf-8")
    world.expect("rake-03,A,10.77.10.13,", "scale,A,10.77.10.15,static", "typed,A,10.77.10.16,dynamic")
    world.lease(("10.77.10.14", "vat-04.pans.example", 900), ("10.77.10.12", "rake-02.pans.example", -86_400 * 80))
    call = ("stale", "--forecast", "30d", "--by", "network")
    done = run(*call, resolvers=top.endpoint)
    first = done.out.splitlines()[0]
    assert first == (
        "5 of 12 records no longer belong: 1 stale, 2 left over, 2 dangling; 2 that will be scavenged are still needed."
    ), done.out
    out = " ".join(done.out.split())
    for words in (
        "rake-02.pans.example. (A 10.77.10.12) has aged: last refreshed 94 days ago (",
        "records live 14 days there; its lease ended on",
        "rake-04.pans.example. (A 10.77.10.14) is left over: last refreshed 30 days ago",
        "its address is leased to vat-04.pans.example. now; vat-04.pans.example. was registered at its address 2 days ago",
        "kiln.pans.example. (A 10.77.40.9) is left over: last refreshed 5 days ago", "10.77.40.0/24 is retired",
        "rake-03.pans.example. (A 10.77.10.13) is needed, and scavenging takes it, since it has aged: last refreshed 20 days",
        "scale.pans.example. (A 10.77.10.15) should be static, and is a dynamic record that ages", "It ages away on",
        "typed.pans.example. (A 10.77.10.16) should be dynamic",
        "old.pans.example. CNAME leads to gone.pans.example., which does not exist.",
        "its domain is not registered, and anyone who registers it gets the traffic of elsewhere.pans.example.",
        "BY NETWORK", "10.77.10.0/24 1 stale, 1 left over", "no network 2 dangling", "SCAVENGING FORECAST, unless refreshed",
        "aging is on, no-refresh interval 7 days, refresh interval 7 days",
        "whether anything scavenges is not known; by export.zone",
    ):  # fmt: skip
        assert words in out, (words, done.out)
    report = run(*call, "--json", resolvers=top.endpoint).report
    assert {one["code"] for one in report["findings"]} == {
        "age.stale", "age.still-needed", "age.not-static", "age.not-dynamic", "left.reused", "left.retired", "left.dangling",
        "left.unregistered-domain",
    }  # fmt: skip
    days = {one["day"]: one for one in report["ages"]["forecast"]}
    assert len(days) == 5 and sum(one["needed"] for one in days.values()) == 3  # vat-04 has a lease
    moment = re.search(r"last refreshed 94 days ago \((.*?)\)", done.out)
    assert moment is not None and re.fullmatch(r"\d+ \w+ 2026 \d\d:00 [+-]\d{4}", moment[1])
    for by in ("age", "owner"):
        assert f"BY {by.upper()}" in run("stale", "--by", by, resolvers=top.endpoint).out
    narrowed = run("stale", "10.77.40.0/24", "--json", resolvers=top.endpoint).report
    assert [one["code"] for one in narrowed["findings"]] == ["left.retired"]


def test_a_removal_takes_everything_of_a_host_and_mend_plans_it(run: Run, standins: StandIns, tmp_path: Path) -> None:
    exported = f"rake {mark(94)} 1200 A 10.77.10.12\n {mark(94)} 1200 AAAA 2001:db8:77::12\nshort CNAME rake\n"
    exported += f"_print._tcp {mark(90)} 1200 SRV 0 0 631 rake\n"
    world = Exported(tmp_path, standins, exported)
    reverse = standins.add([read_zone(HEAD + "12.10.77.10.in-addr.arpa. PTR rake.pans.example.\n", "10.in-addr.arpa")])
    path = tmp_path / "estate.toml"
    more = '[[zones]]\nname = "10.in-addr.arpa"\nservers = ["back"]\nages = ["back.zone"]\n'
    more += f'[servers.back]\naddress = "{reverse.endpoint}"\n'
    (tmp_path / "back.zone").write_text(
        HEAD + f"12.10.77.10.in-addr.arpa. {mark(94)} 1200 PTR rake.pans.example.\n", encoding="utf-8"
    )
    path.write_text(path.read_text(encoding="utf-8") + more, encoding="utf-8")
    report = run("stale", "--json").report
    (stale,) = [one for one in report["findings"] if one["name"] == "rake.pans.example."]
    (choice,) = stale["choices"]
    assert {(one["name"], one["type"]) for one in choice["changes"]} == {
        ("rake.pans.example.", "A"), ("rake.pans.example.", "AAAA"), ("12.10.77.10.in-addr.arpa.", "PTR"),
        ("short.pans.example.", "CNAME"), ("_print._tcp.pans.example.", "SRV"),
    }  # fmt: skip
    assert "no scavenging interval is known for 10.in-addr.arpa." in " ".join(report["remarks"])
    plan = run("mend", "rake", "--choose", "remove", "--json").report["plan"]
    gone = {(one["name"], one["type"]) for one in plan["changes"]}
    assert ("rake.pans.example.", "A") in gone and ("short.pans.example.", "CNAME") in gone, plan
    assert world.standin.asked


def test_the_demo_has_what_was_planted_and_nothing_else(demo: Run, tmp_path: Path) -> None:
    done = demo("stale", "--json", "--figure", "ages.png")
    planted = sorted((one["code"], one["name"]) for one in plantings()["stale"])
    assert sorted((one["code"], one["name"]) for one in done.report["findings"]) == planted
    assert (tmp_path / "ages.png").read_bytes().startswith(b"\x89PNG") and done.report["ages"]["dynamic"] > 15


def test_a_host_that_answers_weakens_what_is_said_and_judges_nothing(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    Exported(
        tmp_path,
        standins,
        f"rake {mark(94)} A 10.77.10.12\nvat {mark(94)} A 192.0.2.9\nscale {mark(94)} A 10.77.10.13\n",
    )
    listener = socket.create_server(("127.0.0.1", 0))
    with listener:
        port = listener.getsockname()[1]
        path = tmp_path / "estate.toml"
        reach = '[reach]\n"10.77.10.12" = "127.0.0.1"\n"192.0.2.9" = "192.0.2.9"\n"10.77.10.13" = "127.0.0.2"\n'
        path.write_text(path.read_text(encoding="utf-8") + reach, encoding="utf-8")
        report = run("stale", "--knock", str(port), "--json").report
    texts = {one["name"]: one["text"] for one in report["findings"]}
    assert f"10.77.10.12 answers on port {port}: a server is there." in texts["rake.pans.example."]
    assert f"10.77.10.13 turns port {port} away" in texts["scale.pans.example."]
    assert "answers" not in texts["vat.pans.example."] and {one["code"] for one in report["findings"]} == {"age.stale"}
    assert "1 public addresses were not knocked at; --knock-public does that" in report["remarks"]
    for wrong in ("ssh", "0", "1,2,3,4,5,6,7,8,9"):
        assert run("stale", "--knock", wrong, "--knock-public").status == 2


def test_what_is_gone_already_is_not_told_and_what_no_server_tells_is_unverified(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    exported = f"rake {mark(94)} 1200 A 10.77.10.12\nvat {mark(94)} 1200 A 10.77.10.13\nold CNAME gone\n"
    world = Exported(tmp_path, standins, exported, served="vat A 10.77.10.13\n")
    report = run("stale", "--json").report
    assert [(one["code"], one["name"]) for one in report["findings"]] == [("age.stale", "vat.pans.example.")]
    for fault in (Fault.SILENT, Fault.REFUSING, Fault.GARBAGE):
        world.standin.fault = fault
        done = run("stale", "--json", "--timeout", "0.1", "--tries", "1")
        codes = {one["code"] for one in done.report["findings"]}
        assert codes == {"age.unverified", "left.unverified"} and done.status == 3
        assert done.report["ages"]["stale"] == 0


@pytest.mark.parametrize(
    "begin", [b"", b"\x30\x0c\x02\x01\x01\x61\x07\x0a\x01\x31\x04\x00\x04\x00", b"\x30\x84\xff\xff\xff\xff\x02\x01"]
)
def test_a_directory_that_closes_refuses_or_sends_nonsense_makes_nothing_stale(
    run: Run, standins: StandIns, tmp_path: Path, begin: bytes
) -> None:
    world = Exported(tmp_path, standins, f"rake {mark(94)} A 10.77.10.12\n")
    path = tmp_path / "estate.toml"
    text = path.read_text(encoding="utf-8").replace('ages = ["export.zone"]\n', "")

    def serve(connection: socket.socket) -> None:
        connection.recv(4096)
        connection.sendall(begin)

    with peer(tcp=serve) as port:
        (tmp_path / "password").write_text("salt\n", encoding="utf-8")
        directory = f'[[directories]]\ndomain = "pans.example"\ndirectory = "ldap://127.0.0.1:{port}"\n'
        path.write_text(f'{text}{directory}user = "worker"\npassword_file = "password"\n', encoding="utf-8")
        done = run("stale", "--json")
    assert found(done) == ["age.unverified"] and done.status == 3
    # Another controller is looked for by the domain's locators, but not where it is the password that is refused.
    assert world.standin.asked == (0 if begin.startswith(b"\x30\x0c") else 1)
    assert "How old the records of pans.example are could not be seen: ldap://" in done.report["findings"][0]["text"]


def test_without_a_source_of_ages_it_is_said_what_would_be_needed_and_the_rest_is_judged(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    world = Exported(tmp_path, standins, f"rake {mark(94)} A 10.77.10.12\nold CNAME gone\n")
    world.expect("old,CNAME,gone,", "rake,A,10.77.10.12,")
    path = tmp_path / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8").replace('ages = ["export.zone"]\n', ""), encoding="utf-8")
    done = run("stale", "--json")
    assert found(done) == ["left.dangling"] and "no source of ages" in " ".join(done.report["remarks"])
    (tmp_path / "f.svg").touch()
    assert run("stale", "--figure", "f.svg").status == 1 and b"<svg" in (tmp_path / "f.svg").read_bytes()


def test_aging_that_is_off_takes_nothing_and_is_told(run: Run, standins: StandIns, tmp_path: Path) -> None:
    world = Exported(tmp_path, standins, f"rake {mark(94)} 1200 A 10.77.10.12\nvat {mark(94)} 1200 A 10.77.10.13\n")
    world.expect("rake,A,10.77.10.12,static")
    path = tmp_path / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8").replace("aging = true", "aging = false"), encoding="utf-8")
    done = run("stale", "--forecast", "30d", "--json")
    assert found(done) == ["age.stale"] and done.report["ages"]["forecast"] == []
    assert "aging is switched off for pans.example." in " ".join(done.report["remarks"])
    assert "stale" in json.dumps(run("audit", "--only", "stale", "--json").report["findings"])


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (("7d", "7"), '"7" is no time; expected hours, days or weeks, such as 168h, 7d or 1w'),
        (("export.zone", "nowhere.zone"), "there is no file"),
        (("export.zone", "list.csv"), "list.csv"),
        (("export.zone", "plain.zone"), "has no age marks such as [AGE:3731280]"),
        (("[[zones]]", 'leases = ["nowhere"]\n[[zones]]'), "leases: there is no file"),
    ],
)
def test_what_the_estate_says_of_ages_is_read_with_care(
    run: Run, standins: StandIns, tmp_path: Path, change: tuple[str, str], says: str
) -> None:
    Exported(tmp_path, standins, f"rake {mark(3)} A 10.77.10.12\n")
    (tmp_path / "plain.zone").write_text(HEAD, encoding="utf-8")
    path = tmp_path / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8").replace(*change, 1), encoding="utf-8")
    done = run("stale")
    assert done.status == 2 and says in done.err.replace("\n", " ")
    for wrong in (("--figure", "f.txt"), ("--forecast", "soon"), ("--by", "colour")):
        assert run("stale", *wrong).status == 2


def test_a_known_mixture_is_told_apart_without_a_mistake(run: Run, standins: StandIns, tmp_path: Path) -> None:
    """Two thousand hosts: each planted kind is found whole, and nothing beside it."""
    chance, planted = random.Random(7), {kind: set[str]() for kind in ("stale", "needed", "reused", "dangling")}
    lines, expected, leases = [], [], []
    for number in range(2000):
        name, address = f"h{number}", f"10.77.{number // 250}.{number % 250}"
        kind = chance.choices(["fresh", "static", *planted], [60, 20, 8, 4, 4, 4])[0]
        if kind in planted:
            planted[kind].add(f"{name}.pans.example.")
        if kind == "dangling":
            lines.append(f"{name} 3600 CNAME no-{name}")
            continue
        age = {"fresh": 3, "reused": 10}.get(kind, chance.randint(15, 400))
        lines.append(f"{name} {mark(age) if kind != 'static' else ''} 1200 A {address}")
        if kind == "needed":
            expected.append(f"{name},A,{address},")
        elif kind == "reused":
            leases.append((address, f"new{number}.pans.example", 600))
    world = Exported(tmp_path, standins, "\n".join(lines) + "\n", more='leases = ["leases.csv"]\n')
    world.expect(*expected)
    world.lease(*leases)
    report = run("stale", "--json").report
    told: dict[str, set[str]] = {}
    for one in report["findings"]:
        told.setdefault(one["code"], set()).add(one["name"])
    assert told == {
        "age.stale": planted["stale"], "age.still-needed": planted["needed"], "left.reused": planted["reused"],
        "left.dangling": planted["dangling"],
    }  # fmt: skip
    counts: dict[str, Any] = report["ages"]
    assert counts["stale"] == len(planted["stale"]) and counts["records"] == 2002


def test_a_dynamic_address_beside_static_ones_is_a_note_and_an_older_pointer_is_told_with_what_has_aged() -> None:
    how, v6 = Aging(True, REFRESH_H, REFRESH_H, True), bytes(15) + b"\x05"
    estate = Estate(zones={"": {ZONE: Zone(ZONE, "", (OWN,)), REVERSE: Zone(REVERSE, "", (OWN,))}})
    stamps = {(HOST, A, ADDRESS): int(NOW_H) - 5, (HOST, 28, v6): 0, (OTHER, A, bytes((10, 0, 0, 9))): int(NOW_H) - 400}
    pointer = {(reverse_name(bytes((10, 0, 0, 9))), PTR, OTHER): int(NOW_H) - 900}
    estate.ages = Ages({("", ZONE): [Registered("x", stamps, how)], ("", REVERSE): [Registered("x", pointer, how)]})
    estate.ages.leases[ADDRESS] = Leased(False, None, None)
    scope = StaleScope(estate)
    told = list(Rules(scope.inventory(""), scope, NOW_H).suspicions())
    assert [(one.record.name, one.reason.value) for one in told] == [
        (HOST, "age.mixed"), (OTHER, "age.stale"), (reverse_name(bytes((10, 0, 0, 9))), "age.stale"),
    ]  # fmt: skip
    assert evidence_of(told[1], NOW_H, LIFE_H)[2:] == [
        "no lease of its address",
        "its PTR record is older, last refreshed 37 days ago",
    ]


def test_a_tombstone_that_is_served_copies_that_differ_and_a_directory_that_is_silent_are_told() -> None:
    dead = from_text("dead.pans.example")
    how = Aging(True, REFRESH_H, REFRESH_H, True)
    estate = Estate(zones={"": {ZONE: Zone(ZONE, "", (OWN,))}})
    one = Registered("north", {(HOST, A, ADDRESS): int(NOW_H)}, how, 1, (dead,))
    two = Registered("kiln", {(HOST, A, ADDRESS): int(NOW_H) - 90}, how)
    estate.ages = Ages({("", ZONE): [one, two]})
    estate.unread["pans.example", ""] = "ldaps://dc: it said nothing for 20 s, and was given up"
    part = Stale(StaleScope(estate), Atlas(estate))
    carry_out(part, Setting(NOW), Runner(Table({("own", "dead.pans.example", "A"): ["10.77.20.9"]})))
    assert {finding.code for finding in part.findings()} == {"age.tombstone", "age.unverified"}
    assert "north and kiln have other stamps of 1 record of pans.example." in " ".join(part.remarks)
    assert "it said nothing for 20 s" in " ".join(finding.text for finding in part.findings())
    assert part.counts()["unverified"] == 1 and "could not be verified" in part.says


def test_nothing_is_stale_before_every_server_has_said_that_it_is_there() -> None:
    """One server of the zone is silent: nobody knows, and no removal is offered."""
    other = Server("other", bytes((127, 0, 0, 1)), 2)
    asked = ("rake.pans.example", "A")
    for silent, codes in ((False, {"age.stale"}), (True, {"age.unverified"})):
        estate = Estate(zones={"": {ZONE: Zone(ZONE, "", (OWN, other))}})
        how = Aging(True, REFRESH_H, REFRESH_H, True)
        estate.ages = Ages({("", ZONE): [Registered("north", {(HOST, A, ADDRESS): int(NOW_H) - 2000}, how)]})
        part = Stale(StaleScope(estate), Atlas(estate))
        said = {("own", *asked): ["10.77.20.5"], ("other", *asked): "timeout" if silent else ["10.77.20.5"]}
        carry_out(part, Setting(NOW), Runner(Table(said)))
        findings = list(part.findings())
        assert {one.code for one in findings} == codes, findings
        assert all(not one.choices for one in findings) == silent

"""`salt-mirror authority` and `descend`: serials and timers by rule, the demo's world, stand-ins and real servers."""

from __future__ import annotations

import socket
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path

import dns.message
import dns.opcode
import dns.query
import dns.tsigkeyring
import dns.update
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.soa import judge, negative_ttl
from salt_mirror.checks.wording import duration, mailbox
from salt_mirror.demo.world import plantings
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import Soa
from salt_mirror.dns.serials import CIRCLE, ahead, newest, serial_date, serial_moment
from salt_mirror.dns.special import is_private, undelegated
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support import realservers
from support.estates import found, lay_out
from support.program import Outcome, Run
from support.servers import KEY
from support.waiting import until

World = tuple[Path, dict[str, StandIn]]
SERIALS = st.integers(0, CIRCLE - 1)
HALF = CIRCLE // 2


@pytest.mark.parametrize(
    ("one", "other", "distance"),
    [
        (1, 0, 1), (44, 0, 44), (100, 0, 100), (100, 44, 56), (200, 100, 100), (255, 200, 55),  # RFC 1982 section 5.2
        (0, 255, -255), (0, 0, 0), (0, CIRCLE - 1, 1), (3, CIRCLE - 2, 5), (CIRCLE - 1, 0, -1), (HALF - 1, 0, HALF - 1),
        (HALF + 1, 0, 1 - HALF), (HALF, 0, None), (0, HALF, None), (HALF + 7, 7, None), (2026112304, 2026112301, 3),
    ],
)  # fmt: skip
def test_serials_are_ordered_on_a_circle(one: int, other: int, distance: int | None) -> None:
    assert ahead(one, other) == distance


@given(SERIALS, st.integers(1, HALF - 1), SERIALS)
def test_adding_less_than_half_the_circle_leads_ahead_and_order_is_antisymmetric(s: int, n: int, other: int) -> None:
    later = (s + n) % CIRCLE  # RFC 1982 section 3.1
    assert ahead(later, s) == n and ahead(s, later) == -n
    assert newest([s, later, s]) == later
    there, back = ahead(s, other), ahead(other, s)
    assert (there is None) == (back is None)
    assert there is None or back is None or there == -back


def test_a_set_of_serials_without_a_newest_has_none() -> None:
    assert newest([0, HALF]) is None
    assert newest([]) is None
    assert newest([CIRCLE - 1, 1, 0]) == 1


def test_a_serial_is_read_as_a_date_or_as_a_moment() -> None:
    now = datetime(2026, 11, 23, tzinfo=UTC)
    assert serial_date(2026112304) == (datetime(2026, 11, 23).date(), 4)
    assert serial_date(2026139901) is None and serial_date(7) is None
    assert serial_moment(1_700_000_000, now) == datetime(2023, 11, 14, 22, 13, 20, tzinfo=UTC)
    assert serial_moment(12, now) is None


GOOD = Soa(
    from_text("ns1.gullmarsh.example"), from_text(r"salt\.master.gullmarsh.example"), 7, 7200, 1800, 1209600, 3600
)


@pytest.mark.parametrize(
    ("changed", "found"),
    [
        ({}, []),
        ({"expire": 8999}, [("expire", "auth.expire-short")]),
        ({"expire": 9000}, [("expire", "auth.timer")]),
        ({"retry": 7200}, [("retry", "auth.timer")]),
        ({"retry": 7199}, []),
        ({"refresh": 86401}, [("refresh", "auth.timer")]),
        ({"minimum": 86400}, [("minimum", "auth.timer")]),
    ],
)
def test_timers_out_of_bounds_are_named_and_others_are_not(
    changed: dict[str, int], found: list[tuple[str, str]]
) -> None:
    fields = GOOD._asdict() | changed
    assert [(one.field, one.code) for one in judge(Soa(**fields))] == found


def test_times_and_mailboxes_read_as_people_write_them() -> None:
    assert [duration(s) for s in (0, 59, 900, 9000, 90061)] == ["0 s", "59 s", "15 min", "2 h 30 min", "1 d 1 h"]
    assert mailbox(GOOD.rname) == "salt.master@gullmarsh.example"
    assert (negative_ttl(GOOD, 300), negative_ttl(GOOD, 7200)) == (300, 3600)


def test_special_names_and_addresses_are_told_from_public_ones() -> None:
    assert undelegated(from_text("5.77.10.in-addr.arpa")) == from_text("10.in-addr.arpa")
    assert undelegated(from_text("gullmarsh.example")) is None
    private = {
        text: is_private(socket.inet_aton(text)) for text in ("172.31.0.1", "172.32.0.1", "192.0.2.1", "100.64.0.1")
    }
    assert private == {"172.31.0.1": True, "172.32.0.1": False, "192.0.2.1": False, "100.64.0.1": True}


def test_the_demos_plantings_are_found_and_nothing_else(run: Run, world: World) -> None:
    done = run("authority", "--json", "--estate", str(world[0]))
    planted = sorted((one["code"], one["name"], one["view"]) for one in plantings()["authority"])
    assert planted == sorted((f["code"], f["name"], f["view"]) for f in done.report["findings"])
    assert done.status == 1 and done.report["counts"] | {"questions": 0} == {
        "agrees": 5, "differs": 5, "unverified": 0, "questions": 0, "spared": 0, "strays": 0, "late": 0,
    }  # fmt: skip
    behind = next(f for f in done.report["findings"] if f["code"] == "auth.serial-behind")
    assert "ns3.gullmarsh.example has serial 2026112301, 3 versions behind ns1 (2026112304)" in behind["text"]


def test_the_demos_descent_finds_what_is_planted_on_the_way(run: Run, world: World) -> None:
    done = run("descend", "www.gullmarsh.example", "--json", "--estate", str(world[0]))
    planted = sorted({(one["code"], one["name"]) for one in plantings()["descend"]})
    assert planted == sorted({(f["code"], f["name"]) for f in done.report["findings"]})
    assert done.report["says"].startswith("www.gullmarsh.example. A is 192.0.2.10, by way of web.gullmarsh.example.;")
    assert [step["zone"] for step in done.report["legs"][0]["steps"]] == [".", "example.", "gullmarsh.example."]
    assert "www.gullmarsh.example. CNAME for 3600 s" in done.report["legs"][0]["cached"]
    alone = run("descend", "web.gullmarsh.example", "--first", "--json", "--estate", str(world[0]))
    assert (alone.status, alone.report["counts"]["questions"]) == (0, 3)


@pytest.mark.parametrize(
    ("zone", "code", "said"),
    [
        ("web.gullmarsh.example", "auth.not-apex", "it is a name in the zone gullmarsh.example."),
        ("gulmarsh.example", "auth.no-zone", "does not exist. Did you mean gullmarsh.example.?"),
    ],
)
def test_what_is_no_zone_is_answered_plainly(run: Run, world: World, zone: str, code: str, said: str) -> None:
    done = run("authority", zone, "--view", "public", "--json", "--estate", str(world[0]))
    assert [(f["code"], said in f["text"]) for f in done.report["findings"]] == [(code, True)]
    assert done.status == 1


HEAD = "$TTL 300\n@ SOA ns1 h {serial} 7200 1800 1209600 300\n"


LAME = {
    Fault.REFUSING: ("auth.lame", "it answers REFUSED"),
    Fault.FAILING: ("auth.lame", "it answers SERVFAIL"),
    Fault.SILENT: ("auth.unverified", "no answer in time"),
    Fault.GARBAGE: ("auth.unverified", "malformed"),
}


@pytest.mark.parametrize("fault", LAME)
def test_a_server_is_lame_when_it_says_so_and_unverified_when_it_says_nothing(
    run: Run, standins: StandIns, tmp_path: Path, fault: Fault
) -> None:
    text = HEAD.format(serial=1) + "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    one, two = (standins.add([read_zone(text, "salt.invalid")]) for _ in range(2))
    two.fault = fault
    reach = {"192.0.2.1": one.endpoint, "198.51.100.2": two.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": one.port, "two": two.port}, reach=reach)
    done = run("authority", "--json", "--timeout", "0.3", "--tries", "2")
    code, said = LAME[fault]
    assert found(done) == sorted([code, "auth.no-parent"])
    assert next(said in f["text"] for f in done.report["findings"] if f["code"] == code)
    assert done.status == (1 if code == "auth.lame" else 3)


def test_a_server_that_lost_the_zone_is_lame_by_its_upward_referral_or_its_lack_of_authority(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    child = HEAD.format(serial=1) + "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    above = HEAD.format(serial=1) + "@ NS ns1\nns1 A 192.0.2.9\nsalt NS ns1.salt\nsalt NS ns2.salt\n"
    one = standins.add([read_zone(child, "salt.marsh.invalid")])
    two = standins.add([read_zone(above, "marsh.invalid")])
    reach = {"192.0.2.1": one.endpoint, "198.51.100.2": two.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.marsh.invalid", {"one": one.port, "two": two.port}, reach=reach)
    done = run("authority", "--json")
    assert found(done) == ["auth.lame", "auth.no-parent"]
    assert "answers without authority" in done.report["findings"][0]["text"]


def test_names_that_point_nowhere_at_an_alias_or_at_a_private_address(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    text = HEAD.format(serial=1) + (
        "@ NS ns1\n@ NS ns2\n@ NS ns3\n@ NS ns4.salt.invalid\nns1 A 192.0.2.1\nns2 CNAME ns1\nns3 A 10.1.1.1\n"
    )
    one = standins.add([read_zone(text, "salt.invalid")])
    one.transfers = True
    lay_out(
        tmp_path / "estate.toml", "salt.invalid", {"one": one.port},
        reach={"192.0.2.1": one.endpoint, "10.1.1.1": one.endpoint},
    )  # fmt: skip
    done = run("authority", "--json")
    assert found(done) == [
        "auth.no-parent", "auth.ns-alias", "auth.ns-no-address", "auth.open-transfer", "auth.private-address",
    ]  # fmt: skip
    dotless = next(f["text"] for f in done.report["findings"] if f["code"] == "auth.ns-no-address")
    assert "It ends in its own zone twice: the final dot is missing." in dotless


CHILD = "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.2\n"


@pytest.mark.parametrize(
    ("cuts", "codes"),
    [
        (("salt NS ns1.salt\nsalt NS ns2.salt\nns1.salt A 192.0.2.1\nns2.salt A 192.0.2.2\n",) * 2, []),
        (
            ("salt NS ns1.salt\nsalt NS ns2.salt\nns1.salt A 192.0.2.1\n", "salt NS ns1.salt\nns1.salt A 192.0.2.1\n"),
            ["auth.glue-missing", "auth.parents-disagree"],
        ),
        (("", ""), ["auth.not-delegated"]),
        (
            ("salt NS ns1.salt\nsalt NS ns2.salt\nns1.salt A 192.0.2.1\nns2.salt A 192.0.2.2\n",) * 2
            + ("ns1 A 192.0.2.3\n",),
            ["auth.glue-partial"],
        ),
        (("salt NS ns1.salt\nns1.salt A 192.0.2.9\n",) * 2, ["auth.glue-wrong", "auth.lame", "auth.parent-lacks"]),
    ],
)
def test_what_the_parent_gets_wrong_is_named(
    run: Run, standins: StandIns, tmp_path: Path, cuts: tuple[str, ...], codes: list[str]
) -> None:
    child = read_zone(HEAD.format(serial=1) + CHILD + "".join(cuts[2:]), "salt.marsh.invalid")
    one, two, stranger = standins.add([child]), standins.add([child]), standins.add()
    above = [
        standins.add([read_zone(HEAD.format(serial=1) + f"@ NS p\np A 192.0.2.5\n{cut}", "marsh.invalid")])
        for cut in cuts[:2]
    ]
    reach = {"192.0.2.1": one.endpoint, "192.0.2.2": two.endpoint, "192.0.2.9": stranger.endpoint}
    reach["192.0.2.3"] = one.endpoint
    lay_out(tmp_path / "estate.toml", "salt.marsh.invalid", {"one": one.port, "two": two.port}, reach=reach)
    with (tmp_path / "estate.toml").open("a", encoding="utf-8") as file:
        file.write('\n[[zones]]\nname = "marsh.invalid"\nview = "public"\nservers = ["p1", "p2"]\n')
        for label, server in zip(("p1", "p2"), above, strict=True):
            file.write(f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n')
    done = run("authority", "salt.marsh.invalid", "--json")
    assert [code for code in found(done) if code != "auth.one-network"] == codes
    assert "auth.one-network" in found(done) and done.status == (1 if set(codes) - {"auth.glue-partial"} else 0)
    assert run("authority", "salt.marsh.invalid", "--strict").status == 1


def test_servers_of_one_level_that_part_ways_or_answer_differently_are_told(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    marsh = HEAD.format(serial=1) + "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.3\nns2 A 192.0.2.4\nwww A 192.0.2.{last}\n"
    below = [standins.add([read_zone(marsh.format(last=last), "marsh")]) for last in (80, 81)]
    top = (
        HEAD.format(serial=1)
        + "@ NS r1\n@ NS r2\nr1 A 192.0.2.1\nr2 A 192.0.2.2\nmarsh NS ns1.marsh\nns1.marsh A 192.0.2.3\n"
    )
    more = "marsh NS ns2.marsh\nns2.marsh A 192.0.2.4\n"
    roots = [standins.add([read_zone(text, ".")]) for text in (top, top + more)]
    places = zip(("192.0.2.1", "192.0.2.2", "192.0.2.3", "192.0.2.4"), [*roots, *below], strict=True)
    reach = {address: server.endpoint for address, server in places}
    lay_out(
        tmp_path / "estate.toml",
        "x.invalid",
        {"r": roots[0].port},
        '[roots]\nr1 = ["192.0.2.1"]\nr2 = ["192.0.2.2"]',
        reach,
    )
    done = run("descend", "www.marsh", "--json")
    assert found(done) == ["cut.answers-differ", "cut.parts"]
    assert "192.0.2.80, 192.0.2.81" in done.report["says"]
    assert run("descend", "www.marsh", "--first").out.startswith("www.marsh. A is 192.0.2.80; 1 of 1 servers")


def test_servers_of_one_directory_count_serials_by_themselves_and_are_compared_by_content(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    names = "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\nwww A 192.0.2.{last}\n"
    servers = [
        standins.add([read_zone(f"$TTL 300\n@ SOA ns{n} h {n} 900 600 86400 300\n{names.format(last=8)}", "salt.invalid")])
        for n in (1, 2)
    ]  # fmt: skip
    reach = {"192.0.2.1": servers[0].endpoint, "198.51.100.2": servers[1].endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": servers[0].port, "two": servers[1].port}, reach=reach)
    assert found(run("authority", "--json")) == ["auth.no-parent", "auth.several-primaries"]
    other = names.format(last=9)
    servers[1].authority.hold(read_zone(f"$TTL 300\n@ SOA ns2 h 91 900 600 86400 300\n{other}", "salt.invalid"))
    assert found(run("authority", "--json")) == ["auth.edited-apart", "auth.no-parent", "auth.several-primaries"]


DC = "$TTL 300\n@ SOA {dc} h {serial} 900 600 86400 300\n@ NS dc1\ndc1 A 192.0.2.1\ndc2 A 198.51.100.2\n@ A 192.0.2.1\n"
OF_SECOND = "@ NS dc2\n@ A 198.51.100.2\n_ldap._tcp SRV 0 100 389 dc2\n_ldap._tcp.dc._msdcs SRV 0 100 389 dc2\n"


def controllers(standins: StandIns, tmp_path: Path, first: str, second: str) -> list[StandIn]:
    """Two servers of one zone, each its own primary, in an estate that lists both."""
    texts = (DC.format(dc="dc1", serial=7) + first, DC.format(dc="dc2", serial=90) + second)
    servers = [standins.add([read_zone(text, "salt.invalid")]) for text in texts]
    reach = {"192.0.2.1": servers[0].endpoint, "198.51.100.2": servers[1].endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": servers[0].port, "two": servers[1].port}, reach=reach)
    return servers


def test_a_controller_that_lacks_what_the_other_registered_is_not_sound(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    controllers(standins, tmp_path, OF_SECOND, OF_SECOND)
    assert found(run("authority", "--json")) == ["auth.no-parent", "auth.several-primaries"]
    controllers(standins, tmp_path, "", OF_SECOND)
    done = run("authority", "--json")
    assert found(done) == ["auth.edited-apart", "auth.no-parent", "auth.ns-disagree", "auth.several-primaries"]
    (apart,) = [f for f in done.report["findings"] if f["code"] == "auth.edited-apart"]
    told = {(line["question"], line["server"]): line["values"] for line in apart["evidence"]}
    assert told["salt.invalid. NS", "one"] == ["dc1.salt.invalid."]
    assert "and 1 more" in apart["text"]  # NS and address of the apex, and both locators
    # expire and retry mean nothing where nobody transfers
    assert "auth.timer" not in found(done) and "secondaries" not in run("authority", "--all").out


def test_a_secondary_beside_a_directorys_servers_follows_the_one_that_it_names(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    servers = controllers(standins, tmp_path, OF_SECOND, OF_SECOND)
    for serial, codes in ((7, []), (5, ["auth.serial-behind"])):
        behind = standins.add([read_zone(DC.format(dc="dc1", serial=serial) + OF_SECOND, "salt.invalid")])
        ports = {"one": servers[0].port, "two": servers[1].port, "three": behind.port}
        reach = {"192.0.2.1": servers[0].endpoint, "198.51.100.2": servers[1].endpoint}
        lay_out(tmp_path / "estate.toml", "salt.invalid", ports, reach=reach)
        told = found(run("authority", "--json"))
        assert [code for code in told if "serial" in code] == codes
        assert "auth.several-primaries" in told and "auth.edited-apart" not in told


@pytest.mark.parametrize("serial", [7, 99])
def test_an_old_copy_that_the_parent_still_sends_people_to_is_told_and_measures_nothing(
    run: Run, standins: StandIns, tmp_path: Path, serial: int
) -> None:
    now = HEAD.format(serial=10) + "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    old = (
        HEAD.format(serial=serial).replace("ns1 h", "ns0 h") + "@ NS ns0\n@ NS ns1\nns0 A 192.0.2.9\nns1 A 192.0.2.1\n"
    )
    one, two, stale = (standins.add([read_zone(text, "salt.marsh.invalid")]) for text in (now, now, old))
    cut = "salt NS ns1.salt\nsalt NS ns0.salt\nns1.salt A 192.0.2.1\nns0.salt A 192.0.2.9\n"
    above = standins.add([read_zone(HEAD.format(serial=1) + f"@ NS p\np A 192.0.2.5\n{cut}", "marsh.invalid")])
    reach = {"192.0.2.1": one.endpoint, "198.51.100.2": two.endpoint, "192.0.2.9": stale.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.marsh.invalid", {"one": one.port, "two": two.port}, reach=reach)
    with (tmp_path / "estate.toml").open("a", encoding="utf-8") as file:
        file.write('\n[[zones]]\nname = "marsh.invalid"\nview = "public"\nservers = ["p"]\n')
        file.write(f'[servers.p]\naddress = "127.0.0.1"\nport = {above.port}\n')
    done = run("authority", "salt.marsh.invalid", "--json")
    assert found(done) == ["auth.ns-no-address", "auth.old-copy", "auth.parent-extra", "auth.parent-lacks"]
    texts = {finding["code"]: finding["text"] for finding in done.report["findings"]}
    assert "the parent still sends people to it" in texts["auth.old-copy"]
    # it was just asked: that nobody can ask it is not so
    assert "does not exist: it is found by the parent's glue alone" in texts["auth.ns-no-address"]


def test_whole_zones_are_compared_of_all_that_hand_them_over(run: Run, standins: StandIns, tmp_path: Path) -> None:
    text = HEAD.format(serial=1) + TWO + "@ NS ns3\nns3 A 203.0.113.3\nodd A 192.0.2.{last}\n"
    one, two, third = (standins.add([read_zone(text.format(last=last), "salt.invalid")]) for last in (7, 8, 7))
    one.transfers = two.transfers = True
    reach = {"192.0.2.1": one.endpoint, "198.51.100.2": two.endpoint, "203.0.113.3": third.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": one.port, "two": two.port}, reach=reach)
    done = run("authority", "--transfer", "--json")
    (apart,) = [one["text"] for one in done.report["findings"] if one["code"] == "auth.edited-apart"]
    assert "odd.salt.invalid. A" in apart
    content = done.report["sheets"][0]["content"]
    assert "those of 2 servers were compared whole" in content and "--transfer compares all" not in content


def test_several_timers_out_of_bounds_have_one_remedy(run: Run, standins: StandIns, tmp_path: Path) -> None:
    text = "$TTL 300\n@ SOA ns1 h 1 90000 90000 1000 90000\n" + TWO
    servers = [standins.add([read_zone(text, "salt.invalid")]) for _ in range(2)]
    reach = {"192.0.2.1": servers[0].endpoint, "198.51.100.2": servers[1].endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": servers[0].port, "two": servers[1].port}, reach=reach)
    found_there = run("authority", "--json").report["findings"]
    remedies = [one["remedy"] for one in found_there if one["code"] in ("auth.timer", "auth.expire-short")]
    assert len(remedies) == 4 and len(set(remedies)) == 1


def test_a_zone_without_secondaries_is_not_measured_by_what_secondaries_do(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    text = "$TTL 300\n@ SOA ns1 h 1 900 600 1000 300\n@ NS ns1\nns1 A 192.0.2.1\n"
    one = standins.add([read_zone(text, "salt.invalid")])
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": one.port}, reach={"192.0.2.1": one.endpoint})
    assert found(run("authority", "--json")) == ["auth.few-servers", "auth.no-parent"]
    two = standins.add([read_zone(text, "salt.invalid")])
    reach = {"192.0.2.1": one.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": one.port, "two": two.port}, reach=reach)
    assert "auth.expire-short" in found(run("authority", "--json"))


TWO = "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"


@pytest.mark.parametrize(
    ("one", "two", "code", "said"),
    [
        (HEAD.format(serial=5) + TWO, HEAD.format(serial=9) + TWO, "auth.serial-ahead", "4 ahead of the primary's 5"),
        (
            HEAD.format(serial=1).replace("ns1 h", "ns9 h") + TWO,
            HEAD.format(serial=2**31 + 1).replace("ns1 h", "ns9 h") + TWO,
            "auth.serials-unordered",
            "no order",
        ),
        (
            HEAD.format(serial=5) + TWO,
            HEAD.format(serial=5) + TWO + "@ NS ns3\nns3 A 192.0.2.1\n",
            "auth.ns-disagree",
            "one: ns1",
        ),
        (HEAD.format(serial=5).replace("ns1 h", "ns9 h") + TWO, "", "auth.hidden-primary", "no address of it is known"),
    ],
)
def test_versions_and_lists_that_do_not_fit_together_are_named(
    run: Run, standins: StandIns, tmp_path: Path, one: str, two: str, code: str, said: str
) -> None:
    first, second = (standins.add([read_zone(text or one, "salt.invalid")]) for text in (one, two))
    reach = {"192.0.2.1": first.endpoint, "198.51.100.2": second.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": first.port, "two": second.port}, reach=reach)
    (finding,) = [f for f in run("authority", "--json").report["findings"] if f["code"] == code]
    assert said in finding["text"]


@pytest.mark.parametrize(
    ("fault", "code"), [(Fault.STREAM_ALONE, "auth.no-udp"), (Fault.DATAGRAMS_ALONE, "auth.no-tcp")]
)
def test_a_server_behind_half_a_firewall_is_told_with_the_half_that_is_closed(
    run: Run, standins: StandIns, tmp_path: Path, fault: Fault, code: str
) -> None:
    zone = read_zone(HEAD.format(serial=1) + TWO, "salt.invalid")
    one, two = standins.add([zone]), standins.add([zone])
    two.fault = fault
    reach = {"192.0.2.1": one.endpoint, "198.51.100.2": two.endpoint}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"one": one.port, "two": two.port}, reach=reach)
    done = run("authority", "--json", "--timeout", "0.3", "--tries", "2")
    assert found(done) == sorted([code, "auth.no-parent"])


def test_a_hundred_name_servers_of_which_thirty_are_silent_cost_one_wait(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    addresses = [f"198.51.100.{number + 1}" for number in range(100)]
    text = HEAD.format(serial=1) + "".join(f"@ NS n{n}\nn{n} A {address}\n" for n, address in enumerate(addresses))
    zone = read_zone(text, "salt.invalid")
    servers = [standins.add([zone]) for _ in range(100)]
    for server in servers[:30]:
        server.fault = Fault.SILENT
    reach = {address: server.endpoint for address, server in zip(addresses, servers, strict=True)}
    lay_out(tmp_path / "estate.toml", "salt.invalid", {"first": servers[99].port}, reach=reach)
    done = run("authority", "--json", "--timeout", "1", "--tries", "2", timeout=90)
    (sheet,) = done.report["sheets"]
    states = [row["state"] for row in sheet["servers"]]
    assert (states.count("authoritative"), states.count("unknown")) == (70, 30)
    assert done.status == 3
    # A row is four questions (SOA over UDP and TCP, NS, a transfer); no silent server is tried again for each of the others.
    assert sum(server.asked for server in servers[:30]) <= 30 * 8


def test_a_delegation_that_needs_itself_and_aliases_in_a_circle_end(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    root = HEAD.format(serial=1) + (
        "@ NS ns1\nns1 A 192.0.2.1\nself NS ns.self\none NS ns.two\ntwo NS ns.one\nmarsh NS ns.marsh\nns.marsh A 192.0.2.2\n"
    )
    marsh = HEAD.format(serial=1) + "@ NS ns\nns A 192.0.2.2\na CNAME b\nb CNAME a\n"
    top = standins.add([read_zone(root, ".")])
    below = standins.add([read_zone(marsh, "marsh")])
    reach = {"192.0.2.1": top.endpoint, "192.0.2.2": below.endpoint}
    lay_out(tmp_path / "estate.toml", "x.invalid", {"top": top.port}, '[roots]\n"ns1" = ["192.0.2.1"]', reach)
    names = ("www.self", "www.one", "a.marsh", "nix.marsh", "ns.marsh")
    codes = {name: found(run("descend", name, *(["MX"] if name == "ns.marsh" else []), "--json")) for name in names}
    assert codes == {
        "www.self": ["cut.dead-end", "cut.needs-itself"],
        "www.one": ["cut.dead-end", "cut.needs-itself"],
        "a.marsh": ["cut.alias-loop"],
        "nix.marsh": ["cut.no-such-name"],
        "ns.marsh": ["cut.no-such-type"],
    }
    below.fault = Fault.SILENT
    assert found(run("descend", "ns.marsh", "--json", "--timeout", "0.2", "--tries", "1")) == ["cut.unverified"] * 2


def test_a_name_server_that_has_no_address_is_named_on_the_way(run: Run, standins: StandIns, tmp_path: Path) -> None:
    root = (
        HEAD.format(serial=1)
        + "@ NS ns1\nns1 A 192.0.2.1\nmarsh NS ns.marsh\nmarsh NS nobody.test\nns.marsh A 192.0.2.2\n"
    )
    top = standins.add([read_zone(root, ".")])
    below = standins.add([read_zone(HEAD.format(serial=1) + "@ NS ns\nns A 192.0.2.2\nwww A 192.0.2.8\n", "marsh")])
    reach = {"192.0.2.1": top.endpoint, "192.0.2.2": below.endpoint}
    lay_out(tmp_path / "estate.toml", "x.invalid", {"top": top.port}, '[roots]\n"ns1" = ["192.0.2.1"]', reach)
    done = run("descend", "www.marsh", "--json")
    assert found(done) == ["cut.no-address"] and "nobody.test." in done.report["findings"][0]["text"]


REAL = """@ NS ns1
@ NS ns2
@ NS ns3
@ NS ns4
ns1 A 192.0.2.1
ns2 A 198.51.100.2
ns3 A 203.0.113.3
ns4 A 203.0.113.4
www A 192.0.2.80
"""


@pytest.mark.real
def test_knot_nsd_bind_and_powerdns_in_one_estate(run: Run, tmp_path: Path) -> None:
    origin = "pans.example"
    apex = HEAD.format(serial=4294967295)
    zone = {origin: apex + REAL}
    with ExitStack() as stack:
        primary = stack.enter_context(realservers.knot(tmp_path / "knot", zone, key=KEY, generous=True))
        second = stack.enter_context(realservers.nsd_secondary(tmp_path / "nsd", origin, apex + REAL, primary))
        bind = stack.enter_context(
            realservers.bind(tmp_path / "bind", zone, key=KEY, options=("allow-recursion { any; }",), open_to_all=True)
        )  # fmt: skip
        pdns = stack.enter_context(realservers.pdns(tmp_path / "pdns", zone))
        glue = "".join(line.replace("ns", "ns", 1).replace(" A", ".pans A") + "\n" for line in REAL.splitlines()[4:8])
        cuts = "".join(f"pans NS ns{number}.pans\n" for number in (1, 2, 3, 4))
        top = HEAD.format(serial=1) + "@ NS ns.example.\nns.example. A 192.0.2.53\n" + cuts + glue
        parent = stack.enter_context(realservers.nsd(tmp_path / "top", {"example": top}))
        servers = {"knot": primary.port, "nsd": second.port, "bind": bind.port, "pdns": pdns.port}
        published = ("192.0.2.1", "198.51.100.2", "203.0.113.3", "203.0.113.4")
        reach = {a: f"127.0.0.1:{port}" for a, port in zip(published, servers.values(), strict=True)}
        lay_out(tmp_path / "estate.toml", origin, servers, reach=reach)
        more = '\n[[zones]]\nname = "example"\nview = "public"\nservers = ["top"]\n'
        more += f'[servers.top]\naddress = "127.0.0.1"\nport = {parent.port}\n'
        with (tmp_path / "estate.toml").open("a", encoding="utf-8") as estate:
            estate.write(more)

        def look() -> Outcome:
            return run("authority", origin, "--json", "--timeout", "2")

        sound = look()
        assert found(sound) == ["auth.open-recursion", "auth.open-transfer", "auth.open-transfer"]
        assert sound.status == 0
        assert {f["text"].split()[0] for f in sound.report["findings"] if f["code"] == "auth.open-transfer"} == {
            "knot",
            "bind",
        }
        rows = {row["server"]: row for row in sound.report["sheets"][0]["servers"]}
        assert all(row["state"] == "authoritative" and row["tcp"] == "answers" for row in rows.values())
        assert rows["bind"]["recursion"] and not rows["pdns"]["recursion"] and rows["bind"]["cookies"]
        assert run("authority", "www.pans.example", "--json").report["findings"][0]["code"] == "auth.not-apex"

        ring = dns.tsigkeyring.from_text({"mirror.test": (KEY.algorithm, realservers.secret_text(KEY))})
        update = dns.update.UpdateMessage(origin, keyring=ring)
        update.replace("www", 300, "A", "192.0.2.81")
        assert dns.query.tcp(update, primary.host, port=primary.port, timeout=5).rcode() == 0
        after = look()  # the serial went over the end of the circle, on the primary alone
        assert {"auth.serial-behind"} == {f["code"] for f in after.report["findings"] if f["weight"] == "fault"}
        behind = sorted(f["text"].split()[0] for f in after.report["findings"] if f["weight"] == "fault")
        assert behind == ["bind", "nsd", "pdns"]
        notify = dns.message.make_query(origin, "SOA")
        notify.set_opcode(dns.opcode.NOTIFY)
        dns.query.udp(notify, second.host, port=second.port, timeout=5)
        until(lambda: look().out.count("auth.serial-behind") == 2)
        rows = {row["server"]: row for row in look().report["sheets"][0]["servers"]}
        assert rows["nsd"]["serial"] == rows["knot"]["serial"] < 100
        assert rows["bind"]["behind"] == rows["pdns"]["behind"] == (rows["knot"]["serial"] + 1)


def test_every_code_of_the_two_commands_is_in_the_catalogue_with_a_weight() -> None:
    weights = {code: entry.weight for code, entry in catalogue().items() if code.startswith(("auth.", "cut."))}
    assert weights["auth.open-transfer"] == weights["auth.open-recursion"] == weights["auth.few-servers"] == "caution"
    assert {weights[code] for code in ("auth.lame", "auth.glue-wrong", "auth.edited-apart", "auth.expire-short")} == {
        "fault"
    }

"""`salt-mirror authority` and `descend`: serials and timers by rule, the demo's world, stand-ins and real servers."""

from __future__ import annotations

import base64
import socket
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.soa import judge, negative_ttl
from salt_mirror.checks.common.wording import duration, mailbox
from salt_mirror.demo.world import plantings
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import Soa
from salt_mirror.dns.serials import CIRCLE, ahead, newest, serial_date, serial_moment
from salt_mirror.dns.special import is_private, undelegated
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn
from support import realservers
from support.estates import PUBLISHED, Served, found, lay_out
from support.program import Outcome, Run
from support.servers import KEY
from support.waiting import until

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
    told = {0: "0 s", 59: "59 s", 300: "5 min", 900: "15 min", 7500: "2 h 5 min", 9000: "2 h 30 min", 90061: "1 d 1 h"}
    assert {seconds: duration(seconds) for seconds in (*told, 1209600)} == told | {1209600: "14 d"}
    assert mailbox(GOOD.rname) == "salt.master@gullmarsh.example"
    assert (negative_ttl(GOOD, 300), negative_ttl(GOOD, 7200)) == (300, 3600)


def test_special_names_and_addresses_are_told_from_public_ones() -> None:
    assert undelegated(from_text("5.77.10.in-addr.arpa")) == from_text("10.in-addr.arpa")
    assert undelegated(from_text("gullmarsh.example")) is None
    private = {
        text: is_private(socket.inet_aton(text)) for text in ("172.31.0.1", "172.32.0.1", "192.0.2.1", "100.64.0.1")
    }
    assert private == {"172.31.0.1": True, "172.32.0.1": False, "192.0.2.1": False, "100.64.0.1": True}


def test_the_demos_plantings_are_found_and_nothing_else(demo: Run) -> None:
    done = demo("authority", "--json")
    planted = sorted((one["code"], one["name"], one["view"]) for one in plantings()["authority"])
    assert planted == sorted((f["code"], f["name"], f["view"]) for f in done.report["findings"])
    counts = done.report["counts"]
    assert (done.status, counts["agrees"], counts["differs"], counts["unverified"]) == (1, 7, 6, 0)
    behind = next(f for f in done.report["findings"] if f["code"] == "auth.serial-behind")
    assert "ns3.gullmarsh.example has serial 2026112301, 3 versions behind ns1 (2026112304)" in behind["text"]


def test_the_demos_descent_finds_what_is_planted_on_the_way(demo: Run) -> None:
    done = demo("descend", "www.gullmarsh.example", "--json")
    planted = sorted({(one["code"], one["name"]) for one in plantings()["descend"]})
    assert planted == sorted({(f["code"], f["name"]) for f in done.report["findings"]})
    assert done.report["says"].startswith("www.gullmarsh.example. A is 192.0.2.10, by way of web.gullmarsh.example.;")
    assert [step["zone"] for step in done.report["legs"][0]["steps"]] == [".", "example.", "gullmarsh.example."]
    assert "www.gullmarsh.example. CNAME for 3600 s" in done.report["legs"][0]["cached"]
    alone = demo("descend", "web.gullmarsh.example", "--first", "--json")
    assert (alone.status, alone.report["counts"]["questions"]) == (0, 10)


def test_the_demos_descent_shows_where_a_name_is_signed_insecure_or_bogus(demo: Run) -> None:
    done = demo("descend", "www.saltway.example", "CNAME", "--json")
    assert (
        found(done) == ["cut.bogus-server"]
        and "does not validate (DNSSEC) on ns2" in done.report["findings"][0]["text"]
    )
    chain = done.report["legs"][0]["chain"]
    assert [(row["name"], row["trust"]) for row in chain] == [
        (".", "signed"), ("example.", "signed"), ("saltway.example.", "signed"), ("www.saltway.example.", "signed"),
    ]  # fmt: skip
    assert [len(row["failing"]) for row in chain] == [0, 0, 1, 1]
    out = demo("descend", "web.gullmarsh.example").out
    assert "DNSSEC: insecure from gullmarsh.example. down: example. proves that there is no DS record" in out


@pytest.mark.parametrize(
    ("zone", "code", "said"),
    [
        ("web.gullmarsh.example", "auth.not-apex", "it is a name in the zone gullmarsh.example."),
        ("gulmarsh.example", "auth.no-zone", "does not exist. Did you mean gullmarsh.example.?"),
    ],
)
def test_what_is_no_zone_is_answered_plainly(demo: Run, zone: str, code: str, said: str) -> None:
    done = demo("authority", zone, "--view", "public", "--json")
    assert [(f["code"], said in f["text"]) for f in done.report["findings"]] == [(code, True)]
    assert done.status == 1


HEAD = "$TTL 300\n@ SOA ns1 h {serial} 7200 1800 1209600 300\n"
FIRST = HEAD.format(serial=1)
TWO = "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
SALT = "salt.invalid"
LOOK = ("authority", "--json", "--timeout", "0.3", "--tries", "2")


@pytest.mark.parametrize(
    ("fault", "code", "said", "status"),
    [
        (Fault.REFUSING, "auth.lame", "it answers REFUSED", 1), (Fault.FAILING, "auth.lame", "it answers SERVFAIL", 1),
        (Fault.SILENT, "auth.unverified", "no answer in time", 3), (Fault.GARBAGE, "auth.unverified", "malformed", 3),
        (Fault.STREAM_ALONE, "auth.no-udp", "", 1), (Fault.DATAGRAMS_ALONE, "auth.no-tcp", "", 0),
    ],
)  # fmt: skip
def test_a_server_is_lame_when_it_says_so_unverified_when_it_says_nothing_and_half_a_server_behind_half_a_firewall(
    run: Run, served: Served, fault: Fault, code: str, said: str, status: int
) -> None:
    served(SALT, FIRST + TWO, FIRST + TWO)[1].fault = fault
    done = run(*LOOK)
    assert found(done) == sorted([code, "auth.no-parent"])
    assert next(said in f["text"] for f in done.report["findings"] if f["code"] == code)
    assert done.status == status


def test_a_server_that_lost_the_zone_is_lame_by_its_upward_referral_or_its_lack_of_authority(
    run: Run, served: Served
) -> None:
    (one,) = served.serve("salt.marsh.invalid", FIRST + TWO)
    (two,) = served.serve("marsh.invalid", FIRST + "@ NS ns1\nns1 A 192.0.2.9\nsalt NS ns1.salt\nsalt NS ns2.salt\n")
    served.publish("salt.marsh.invalid", [one, two], reach={"192.0.2.1": one, "198.51.100.2": two})
    done = run("authority", "--json")
    assert found(done) == ["auth.lame", "auth.no-parent"]
    assert "answers without authority" in done.report["findings"][0]["text"]


def test_names_that_point_nowhere_at_an_alias_or_at_a_private_address(run: Run, served: Served) -> None:
    names = "@ NS ns1\n@ NS ns2\n@ NS ns3\n@ NS ns4.salt.invalid\nns1 A 192.0.2.1\nns2 CNAME ns1\nns3 A 10.1.1.1\n"
    (one,) = served(SALT, FIRST + names)
    one.transfers = True
    served.publish(SALT, [one], reach={"192.0.2.1": one, "10.1.1.1": one})
    done = run("authority", "--json")
    assert found(done) == [
        "auth.no-parent", "auth.ns-alias", "auth.ns-no-address", "auth.open-transfer", "auth.private-address",
    ]  # fmt: skip
    dotless = next(f["text"] for f in done.report["findings"] if f["code"] == "auth.ns-no-address")
    assert "It ends in its own zone twice: the trailing dot is missing." in dotless


CHILD = "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 192.0.2.2\n"
CUT = "salt NS ns1.salt\nsalt NS ns2.salt\nns1.salt A 192.0.2.1\n"
WHOLE = CUT + "ns2.salt A 192.0.2.2\n"


@pytest.mark.parametrize(
    ("cuts", "more", "codes"),
    [
        ((WHOLE, WHOLE), "", []),
        ((CUT, "salt NS ns1.salt\nns1.salt A 192.0.2.1\n"), "", ["auth.glue-missing", "auth.parents-disagree"]),
        (("", ""), "", ["auth.not-delegated"]),
        ((WHOLE, WHOLE), "ns1 A 192.0.2.3\n", ["auth.glue-partial"]),
        (("salt NS ns1.salt\nns1.salt A 192.0.2.9\n",) * 2, "", ["auth.glue-wrong", "auth.lame", "auth.parent-lacks"]),
    ],
)
def test_what_the_parent_gets_wrong_is_named(
    run: Run, served: Served, cuts: tuple[str, str], more: str, codes: list[str]
) -> None:
    one, two = served.serve("salt.marsh.invalid", *[FIRST + CHILD + more] * 2)
    (stranger,) = served.serve("elsewhere.invalid", FIRST + TWO)
    above = served.serve("marsh.invalid", *(FIRST + f"@ NS p\np A 192.0.2.5\n{cut}" for cut in cuts))
    served.publish(
        "salt.marsh.invalid", [one, two], "", {"192.0.2.1": one, "192.0.2.2": two, "192.0.2.3": one, "192.0.2.9": stranger},
        {"marsh.invalid": {"p1": above[0].port, "p2": above[1].port}},
    )  # fmt: skip
    done = run("authority", "salt.marsh.invalid", "--json")
    assert [code for code in found(done) if code != "auth.one-network"] == codes
    assert "auth.one-network" in found(done) and done.status == (1 if set(codes) - {"auth.glue-partial"} else 0)
    assert run("authority", "salt.marsh.invalid", "--strict").status == 1


def test_servers_of_one_level_that_part_ways_or_answer_differently_are_told(run: Run, served: Served) -> None:
    marsh = FIRST + "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.3\nns2 A 192.0.2.4\nwww A 192.0.2.{last}\n"
    below = served.serve("marsh", *(marsh.format(last=last) for last in (80, 81)))
    top = FIRST + "@ NS r1\n@ NS r2\nr1 A 192.0.2.1\nr2 A 192.0.2.2\nmarsh NS ns1.marsh\nns1.marsh A 192.0.2.3\n"
    roots = served.serve(".", top, top + "marsh NS ns2.marsh\nns2.marsh A 192.0.2.4\n")
    reach = {f"192.0.2.{number}": server for number, server in enumerate([*roots, *below], 1)}
    served.publish("x.invalid", roots[:1], '[roots]\nr1 = ["192.0.2.1"]\nr2 = ["192.0.2.2"]', reach)
    done = run("descend", "www.marsh", "--json")
    assert found(done) == ["cut.answers-differ", "cut.servers-differ"]
    assert "192.0.2.80, 192.0.2.81" in done.report["says"]
    assert run("descend", "www.marsh", "--first").out.startswith("www.marsh. A is 192.0.2.80; 1 of 1 servers")


def test_servers_of_one_directory_count_serials_by_themselves_and_are_compared_by_content(
    run: Run, served: Served
) -> None:
    text = "$TTL 300\n@ SOA ns{n} h {serial} 900 600 86400 300\n" + TWO + "www A 192.0.2.{last}\n"
    servers = served(SALT, *(text.format(n=n, serial=n, last=8) for n in (1, 2)))
    assert found(run("authority", "--json")) == ["auth.no-parent", "auth.several-primaries"]
    servers[1].authority.hold(read_zone(text.format(n=2, serial=91, last=9), SALT))
    assert found(run("authority", "--json")) == ["auth.no-parent", "auth.not-replicated", "auth.several-primaries"]


DC = "$TTL 300\n@ SOA {dc} h {serial} 900 600 86400 300\n@ NS dc1\ndc1 A 192.0.2.1\ndc2 A 198.51.100.2\n@ A 192.0.2.1\n"
OF_SECOND = "@ NS dc2\n@ A 198.51.100.2\n_ldap._tcp SRV 0 100 389 dc2\n_ldap._tcp.dc._msdcs SRV 0 100 389 dc2\n"
CONTROLLERS = DC.format(dc="dc1", serial=7), DC.format(dc="dc2", serial=90) + OF_SECOND
"""Two servers of one zone, each its own primary; the first lacks what the second has registered."""


def test_a_controller_that_lacks_what_the_other_registered_is_not_sound(run: Run, served: Served) -> None:
    served(SALT, CONTROLLERS[0] + OF_SECOND, CONTROLLERS[1])
    assert found(run("authority", "--json")) == ["auth.no-parent", "auth.several-primaries"]
    served(SALT, *CONTROLLERS)
    done = run("authority", "--json")
    assert found(done) == ["auth.no-parent", "auth.not-replicated", "auth.ns-disagree", "auth.several-primaries"]
    (apart,) = [f for f in done.report["findings"] if f["code"] == "auth.not-replicated"]
    told = {(line["question"], line["server"]): line["values"] for line in apart["evidence"]}
    assert told["salt.invalid. NS", "one"] == ["dc1.salt.invalid."]
    assert "and 1 more" in apart["text"]  # NS and address of the apex, and both locators
    # expire and retry mean nothing where nobody transfers
    assert "auth.timer" not in found(done) and "secondaries" not in run("authority", "--all").out


@pytest.mark.parametrize(("serial", "codes"), [(7, []), (5, ["auth.serial-behind"])])
def test_a_secondary_beside_a_directorys_servers_follows_the_one_that_it_names(
    run: Run, served: Served, serial: int, codes: list[str]
) -> None:
    third = DC.format(dc="dc1", serial=serial) + OF_SECOND
    servers = served.serve(SALT, CONTROLLERS[0] + OF_SECOND, CONTROLLERS[1], third)
    served.publish(SALT, servers, reach={"192.0.2.1": servers[0], "198.51.100.2": servers[1]})
    told = found(run("authority", "--json"))
    assert [code for code in told if "serial" in code] == codes
    assert "auth.several-primaries" in told and "auth.not-replicated" not in told


@pytest.mark.parametrize("serial", [7, 99])
def test_an_old_copy_that_the_parent_still_sends_people_to_is_told_and_measures_nothing(
    run: Run, served: Served, serial: int
) -> None:
    now, old = HEAD.format(serial=10) + TWO, HEAD.format(serial=serial).replace("ns1 h", "ns0 h")
    old += "@ NS ns0\n@ NS ns1\nns0 A 192.0.2.9\nns1 A 192.0.2.1\n"
    *pair, stale = served.serve("salt.marsh.invalid", now, now, old)
    cut = "salt NS ns1.salt\nsalt NS ns0.salt\nns1.salt A 192.0.2.1\nns0.salt A 192.0.2.9\n"
    (above,) = served.serve("marsh.invalid", FIRST + f"@ NS p\np A 192.0.2.5\n{cut}")
    reach = {"192.0.2.1": pair[0], "198.51.100.2": pair[1], "192.0.2.9": stale}
    served.publish("salt.marsh.invalid", pair, "", reach, {"marsh.invalid": {"p": above.port}})
    done = run("authority", "salt.marsh.invalid", "--json")
    assert found(done) == ["auth.ns-no-address", "auth.outdated-copy", "auth.parent-extra", "auth.parent-lacks"]
    texts = {finding["code"]: finding["text"] for finding in done.report["findings"]}
    assert "the parent still refers resolvers to it" in texts["auth.outdated-copy"]
    # it was just asked: that it cannot be asked is not so
    assert "does not exist: it is only found by the parent's glue" in texts["auth.ns-no-address"]


def test_whole_zones_are_compared_of_all_that_hand_them_over(run: Run, served: Served) -> None:
    text = FIRST + TWO + "@ NS ns3\nns3 A 203.0.113.3\nodd A 192.0.2.{last}\n"
    one, two, _ = served(SALT, *(text.format(last=last) for last in (7, 8, 7)), listed=2)
    one.transfers = two.transfers = True
    done = run("authority", "--transfer", "--json")
    (apart,) = [one["text"] for one in done.report["findings"] if one["code"] == "auth.same-serial"]
    assert "odd.salt.invalid. A" in apart
    content = done.report["sheets"][0]["content"]
    assert "those of 2 servers were compared whole" in content and "--transfer compares all" not in content


def test_several_timers_out_of_bounds_have_one_remedy(run: Run, served: Served) -> None:
    served(SALT, *["$TTL 300\n@ SOA ns1 h 1 90000 90000 1000 90000\n" + TWO] * 2)
    found_there = run("authority", "--json").report["findings"]
    remedies = [one["remedy"] for one in found_there if one["code"] in ("auth.timer", "auth.expire-short")]
    assert len(remedies) == 4 and len(set(remedies)) == 1


def test_a_zone_without_secondaries_is_not_measured_by_what_secondaries_do(run: Run, served: Served) -> None:
    text = "$TTL 300\n@ SOA ns1 h 1 900 600 1000 300\n@ NS ns1\nns1 A 192.0.2.1\n"
    served(SALT, text)
    assert found(run("authority", "--json")) == ["auth.few-servers", "auth.no-parent"]
    served(SALT, text, text)
    done = run("authority", "--json")
    assert "auth.expire-short" in found(done)
    (few,) = [one["text"] for one in done.report["findings"] if one["code"] == "auth.few-servers"]
    assert "two is authoritative for it too, and not in that set" in few and "gone" not in few


FIVE = HEAD.format(serial=5) + TWO


@pytest.mark.parametrize(
    ("one", "two", "code", "said"),
    [
        (FIVE, HEAD.format(serial=9) + TWO, "auth.primary-unclear", 'has serial 5, and two has 9, 4 ahead'),
        (FIVE, HEAD.format(serial=5 + 2**31) + TWO, "auth.serials-unordered", "no order"),
        (
            (FIRST + TWO).replace("ns1 h", "ns9 h"), (HEAD.format(serial=2**31 + 1) + TWO).replace("ns1 h", "ns9 h"),
            "auth.serials-unordered", "no order",
        ),
        (FIVE, FIVE + "@ NS ns3\nns3 A 192.0.2.1\n", "auth.ns-disagree", "one: ns1"),
        (FIVE.replace("ns1 h", "ns9 h"), FIVE.replace("ns1 h", "ns9 h"), "auth.primary-missing", "does not exist"),
    ],
)  # fmt: skip
def test_versions_and_lists_that_do_not_fit_together_are_named(
    run: Run, served: Served, one: str, two: str, code: str, said: str
) -> None:
    served(SALT, one, two)
    (finding,) = [f for f in run("authority", "--json").report["findings"] if f["code"] == code]
    assert said in finding["text"]


@pytest.mark.parametrize(
    ("key", "codes"),
    [
        ("primary", []), ("update", []),  # a hidden primary, whose SOA names the secondary
        ("", ["auth.primary-unclear"]), ('primary = "one"', ["auth.serial-ahead"]),
    ],
)  # fmt: skip
def test_the_primary_is_the_one_that_the_estate_says(
    run: Run, served: Served, tmp_path: Path, key: str, codes: list[str]
) -> None:
    public, hidden = served.serve(SALT, HEAD.format(serial=5) + TWO, HEAD.format(serial=6) + TWO)
    served.publish(SALT, [public, hidden], reach={"192.0.2.1": public})
    path = tmp_path / "estate.toml"
    line = key if "=" in key else f'{key} = "two"' if key else ""
    text = path.read_text(encoding="utf-8").replace('"one", "two"]', f'"one", "two"]\n{line}')
    path.write_text(text, encoding="utf-8")
    told = [
        f["code"]
        for f in run("authority", "--json").report["findings"]
        if "serial" in f["code"] or "primary" in f["code"]
    ]
    assert [code for code in told if code not in ("auth.serial-behind", "auth.hidden-primary")] == codes
    assert ("auth.serial-behind" in told) == (key in ("primary", "update"))


@pytest.mark.real
@pytest.mark.parametrize("declared", ["", 'primary = "hp"\n'])
def test_a_signers_serials_are_its_own_and_its_content_tells_whether_it_follows(
    run: Run, tmp_path: Path, declared: str
) -> None:
    """Knot takes a zone from another and signs it: its serial goes its own way by design. A primary with another content, which
    the signer does not know yet, is what it has not followed."""
    text = HEAD.format(serial=7) + "@ NS ns1\nns1 A 192.0.2.1\n@ NS signer\nsigner A 192.0.2.2\nweb A 192.0.2.80\n"
    with (
        realservers.knot(tmp_path / "hp", {SALT: text}, key=KEY, generous=True) as first,
        realservers.knot_signer(tmp_path / "signer", SALT, first) as signer,
        realservers.nsd(
            tmp_path / "new", {SALT: text.replace("192.0.2.80", "192.0.2.81").replace(" 7 ", " 9 ")}
        ) as later,
    ):
        for primary, codes in ((first, set[str]()), (later, {"auth.signer-behind"})):
            (tmp_path / "web.zone").write_text("web A 192.0.2.80\n", encoding="utf-8")
            (tmp_path / "estate.toml").write_text(
                f'[[zones]]\nname = "{SALT}"\nview = "inside"\nservers = ["signer", "hp"]\nexpect = ["web.zone"]\n{declared}'
                f'[servers.hp]\naddress = "{primary.endpoint}"\n[servers.signer]\naddress = "{signer.endpoint}"\n'
                f'[reach]\n"192.0.2.2" = "{signer.endpoint}"\n"192.0.2.1" = "{primary.endpoint}"\n',
                encoding="utf-8",
            )
            done = run("authority", SALT, "--json")
            told = {one["code"] for one in done.report["findings"]}
            about_versions = ("serial-", "serials-", "edited-", "primary-unclear", "signer-", "ns-disagree")
            assert {code for code in told if code.partition(".")[2].startswith(about_versions)} == codes, done.out
        roll = run("rollcall", "--json")
        (finding,) = roll.report["findings"]
        assert "transfer" not in finding["advice"], "signed and unsigned copies have no order"


def test_a_name_server_of_the_root_ends_in_no_zone_twice(run: Run, served: Served) -> None:
    root = "$TTL 300\n@ SOA ns1 h 1 3600 600 1209600 300\n@ NS ns1\n@ NS lost\nns1 A 192.0.2.1\n"
    served(".", root, listed=1)
    (finding,) = [f for f in run("authority", "--json").report["findings"] if f["code"] == "auth.ns-no-address"]
    assert "twice" not in finding["text"]


def test_a_hundred_name_servers_of_which_thirty_are_silent_cost_one_wait(run: Run, served: Served) -> None:
    addresses = [f"198.51.100.{number + 1}" for number in range(100)]
    text = FIRST + "".join(f"@ NS n{n}\nn{n} A {address}\n" for n, address in enumerate(addresses))
    servers = served.serve(SALT, *[text] * 100)
    for server in servers[:30]:
        server.fault = Fault.SILENT
    served.publish(SALT, servers[99:], reach=dict(zip(addresses, servers, strict=True)))
    done = run("authority", "--json", "--timeout", "1", "--tries", "2")
    (sheet,) = done.report["sheets"]
    states = [row["state"] for row in sheet["servers"]]
    assert (states.count("authoritative"), states.count("unknown")) == (70, 30)
    assert done.status == 3
    # A row is four questions (SOA over UDP and TCP, NS, a transfer); no silent server is tried again for each of the others.
    assert sum(server.asked for server in servers[:30]) <= 30 * 8


ROOTS = '[roots]\n"ns1" = ["192.0.2.1"]'


def below_the_root(served: Served, root: str, marsh: str) -> StandIn:
    """A root, and a zone below it whose server is returned."""
    (top,) = served.serve(".", FIRST + "@ NS ns1\nns1 A 192.0.2.1\nmarsh NS ns.marsh\nns.marsh A 192.0.2.2\n" + root)
    (below,) = served.serve("marsh", FIRST + "@ NS ns\nns A 192.0.2.2\n" + marsh)
    served.publish("x.invalid", [top], ROOTS, {"192.0.2.1": top, "192.0.2.2": below})
    return below


def test_a_delegation_that_needs_itself_and_aliases_in_a_circle_end(run: Run, served: Served) -> None:
    below = below_the_root(served, "self NS ns.self\none NS ns.two\ntwo NS ns.one\n", "a CNAME b\nb CNAME a\n")
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


def test_a_name_server_that_has_no_address_is_named_on_the_way(run: Run, served: Served) -> None:
    below_the_root(served, "marsh NS nobody.test\n", "www A 192.0.2.8\n")
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
@pytest.mark.parametrize("same", [False, True], ids=["another view's", "its own"])
def test_a_transfer_without_the_key_is_open_only_where_it_brings_what_the_key_sees(
    run: Run, tmp_path: Path, same: bool
) -> None:
    servers = "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    inside, outside = HEAD.format(serial=7) + servers, HEAD.format(serial=7 if same else 3) + servers
    with realservers.bind_views(tmp_path / "bind", "pans.example", KEY, inside, outside) as server:
        (tmp_path / "mirror.key").write_text(base64.b64encode(KEY.secret).decode(), encoding="utf-8")
        reach = dict.fromkeys(PUBLISHED, f"127.0.0.1:{server.port}")
        keys = '[keys."mirror.test"]\nsecret_file = "mirror.key"\n'
        lay_out(tmp_path / "estate.toml", "pans.example", {"pan": server.port}, keys, reach)
        estate = tmp_path / "estate.toml"
        text = estate.read_text(encoding="utf-8")
        estate.write_text(text.replace("[servers.pan]", '[servers.pan]\nkey = "mirror.test"'), encoding="utf-8")
        report = run("authority", "pans.example", "--json", "--timeout", "2").report
    assert {row["serial"] for row in report["sheets"][0]["servers"]} == {7}
    assert ("auth.open-transfer" in {one["code"] for one in report["findings"]}) is same


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
        glue = "".join(line.replace(" A", ".pans A") + "\n" for line in REAL.splitlines()[4:8])
        cuts = "".join(f"pans NS ns{number}.pans\n" for number in (1, 2, 3, 4))
        top = FIRST + "@ NS ns.example.\nns.example. A 192.0.2.53\n" + cuts + glue
        parent = stack.enter_context(realservers.nsd(tmp_path / "top", {"example": top}))
        servers = {"knot": primary.port, "nsd": second.port, "bind": bind.port, "pdns": pdns.port}
        places = zip((*PUBLISHED, "203.0.113.4"), servers.values(), strict=True)
        reach = {address: f"127.0.0.1:{port}" for address, port in places}
        lay_out(tmp_path / "estate.toml", origin, servers, "", reach, {"example": {"top": parent.port}})

        def look() -> Outcome:
            return run("authority", origin, "--json", "--timeout", "2")

        sound = look()
        assert found(sound) == ["auth.open-recursion", "auth.open-transfer", "auth.open-transfer"]
        assert sound.status == 0
        handing = {f["text"].split()[0] for f in sound.report["findings"] if f["code"] == "auth.open-transfer"}
        assert handing == {"knot", "bind"}
        rows = {row["server"]: row for row in sound.report["sheets"][0]["servers"]}
        assert all(row["state"] == "authoritative" and row["tcp"] == "answers" for row in rows.values())
        assert rows["bind"]["recursion"] and not rows["pdns"]["recursion"] and rows["bind"]["cookies"]
        assert run("authority", "www.pans.example", "--json").report["findings"][0]["code"] == "auth.not-apex"

        realservers.change(primary, origin, KEY, ("replace", "www", 300, "A", "192.0.2.81"))
        after = look()  # the serial went over the end of the circle, on the primary alone
        assert {"auth.serial-behind"} == {f["code"] for f in after.report["findings"] if f["weight"] == "fault"}
        behind = sorted(f["text"].split()[0] for f in after.report["findings"] if f["weight"] == "fault")
        assert behind == ["bind", "nsd", "pdns"]
        realservers.notify(second, origin)
        until(lambda: look().out.count("auth.serial-behind") == 2)
        rows = {row["server"]: row for row in look().report["sheets"][0]["servers"]}
        assert rows["nsd"]["serial"] == rows["knot"]["serial"] < 100
        assert rows["bind"]["behind"] == rows["pdns"]["behind"] == (rows["knot"]["serial"] + 1)


def test_every_code_of_the_two_commands_is_in_the_catalogue_with_a_weight() -> None:
    weights = {code: entry.weight for code, entry in catalogue().items() if code.startswith(("auth.", "cut."))}
    assert weights["auth.open-transfer"] == weights["auth.open-recursion"] == weights["auth.few-servers"] == "caution"
    faults = ("auth.lame", "auth.glue-wrong", "auth.same-serial", "auth.expire-short")
    assert {weights[code] for code in faults} == {"fault"}

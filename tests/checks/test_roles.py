"""`salt-mirror mail` and `services`: the rules on tables and stand-ins, the demo's world, a directory on real servers."""

from __future__ import annotations

import ipaddress
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.directories import Controller, Directory, wanted_of
from salt_mirror.checks.common.test_tree import Judged
from salt_mirror.checks.mail.judging import judged_mail, mail_domains
from salt_mirror.checks.services.srv import Target, judged_service, shares
from salt_mirror.checks.services.wording import judged_directory
from salt_mirror.demo.world import plantings
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import CNAME, Record
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.estate.replication import Replicated
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIns
from support import realservers
from support.estates import Served, found
from support.program import Run
from support.servers import KEY
from support.tables import Table, both, estate

Told = dict[tuple[str, str], list[str] | str]
MARSH = estate("marsh.example", "10.77.20.0/24", view="inside")
ATLAS = Atlas(MARSH)


def judged(dialogue: Dialogue[Judged], told: dict[tuple[str, str, str], list[str] | str]) -> tuple[list[str], Judged]:
    (one,) = Runner(Table(told)).run([dialogue])
    return sorted(finding.code for finding in one.findings), one


def with_hosts(told: Told, **hosts: str) -> Told:
    """The same, with hosts whose pointers lead back."""
    found: Told = dict(told)
    for host, address in hosts.items():
        found[f"{host}.marsh.example", "A"] = [address]
        found[to_text(reverse_name(ipaddress.ip_address(address).packed)), "PTR"] = [f"{host}.marsh.example."]
    return found


def mail(told: Told) -> tuple[list[str], Judged]:
    return judged(judged_mail(from_text("marsh.example"), "inside", ATLAS), both(told))


MX, SOA = ("marsh.example", "MX"), ("marsh.example", "SOA")
BELOW_MX = ("sales.marsh.example", "MX")
SRV = ("_x._tcp.marsh.example", "SRV")


@pytest.mark.parametrize(
    ("told", "codes"),
    [
        (with_hosts({MX: ["10 a.marsh.example.", "10 b.marsh.example."]}, a="10.77.20.1", b="10.77.20.2"), []),
        ({MX: ["10 a.marsh.example."], ("a.marsh.example", "A"): ["10.77.20.1"]}, ["pair.no-pointer"]),
        ({MX: ["10 a.marsh.example."]}, ["mail.missing-host"]),
        ({MX: ["10 a.marsh.example."], ("a.marsh.example", "TXT"): ['"x"']}, ["mail.no-address"]),
        ({MX: ["10 10.77.20.1."]}, ["mail.literal"]),
        ({MX: ["0 ."]}, ["mail.null"]),
        (with_hosts({MX: ["0 .", "10 a.marsh.example."]}, a="10.77.20.1"), ["mail.null-not-alone"]),
        ({("marsh.example", "A"): ["10.77.20.1"]}, ["mail.implicit"]),
        ({("marsh.example", "TXT"): ['"x"']}, ["mail.without"]),
        ({}, ["mail.no-such-domain"]),
        (
            with_hosts(
                {MX: ["10 a.marsh.example."], SOA: ["x. x. 1 1 1 1 1"], BELOW_MX: ["10 a.marsh.example."]},
                a="10.77.20.1",
            ),
            ["mail.below-apex"],
        ),
    ],
)
def test_each_way_in_which_mail_fails_has_its_name(told: Told, codes: list[str]) -> None:
    domain = "sales.marsh.example" if BELOW_MX in told else "marsh.example"
    assert judged(judged_mail(from_text(domain), "inside", ATLAS), both(told))[0] == codes


def test_a_domain_without_mail_is_a_fault_only_where_mail_is_expected() -> None:
    told = both({("marsh.example", "TXT"): ['"x"']})
    wanted = estate("marsh.example", expect=(("marsh.example", "MX", "10 a.marsh.example."),), view="inside")
    ((name, view), expected) = next(iter(mail_domains(wanted).items()))
    codes, _ = judged(judged_mail(name, view, Atlas(wanted), expected=expected), told)
    assert "mail.none" in codes and "mail.without" not in codes


@pytest.mark.parametrize(
    ("owner", "differing", "codes"),
    [
        ("marsh.example", {("marsh.example", "MX"): ["10 b.marsh.example."]}, ["mail.servers-disagree"]),
        (
            "marsh.example",
            {("a.marsh.example", "A"): ["10.77.20.2"]},
            ["mail.host-disagrees", "pair.servers-disagree", "pair.shared"],
        ),
        ("_x._tcp.marsh.example", {SRV: ["0 0 1 b.marsh.example."]}, ["srv.servers-disagree"]),
        ("_x._tcp.marsh.example", {("a.marsh.example", "A"): ["10.77.20.2"]}, ["srv.host-disagrees"]),
    ],
)
def test_servers_that_differ_about_a_role_or_its_host_are_told(owner: str, differing: Told, codes: list[str]) -> None:
    told = both(
        with_hosts({MX: ["10 a.marsh.example."], SRV: ["0 0 1 a.marsh.example."]}, a="10.77.20.1", b="10.77.20.2")
    )
    told |= {("kiln", *key): said for key, said in differing.items()}
    name = from_text(owner)
    mail_or_service = (
        judged_service(name, "inside", ATLAS, demanded=True) if owner[0] == "_" else judged_mail(name, "inside", ATLAS)
    )
    assert set(judged(mail_or_service, told)[0]) == set(codes)


def test_a_private_address_in_a_public_view_is_told_of_every_role() -> None:
    public = Atlas(estate("marsh.example", "10.77.20.0/24", view="public"))
    public.estate.public_views = frozenset(("public",))
    told = both(with_hosts({MX: ["10 a.marsh.example."], SRV: ["0 0 1 a.marsh.example."]}, a="10.77.20.1"))
    name = from_text("_x._tcp.marsh.example")
    assert judged(judged_mail(from_text("marsh.example"), "public", public), told)[0] == ["mail.private-address"]
    assert judged(judged_service(name, "public", public, demanded=True), told)[0] == ["srv.private-address"]


@pytest.mark.parametrize("status", ["timeout", "REFUSED", "SERVFAIL"])
def test_a_server_without_an_answer_takes_no_exchanger_away(status: str) -> None:
    told = both(with_hosts({MX: ["10 a.marsh.example."]}, a="10.77.20.1"))
    for kind in ("A", "AAAA"):
        told["kiln", "a.marsh.example", kind] = status
    codes, one = judged(judged_mail(from_text("marsh.example"), "inside", ATLAS), told)
    assert set(codes) == {"mail.unverified", "pair.unverified"} and one.test.mark == "unverified"


def test_the_order_of_senders_and_what_is_left_follow_from_the_preferences() -> None:
    told: Told = {MX: ["20 c.marsh.example.", "10 b.marsh.example.", "10 a.marsh.example."]}
    _, one = mail(with_hosts(told, a="10.77.20.1", b="10.77.20.2", c="10.77.20.3"))
    said = {test.title: test.says for test in one.test.tests}
    assert said["order"] == "a.marsh.example. and b.marsh.example. (equal: by chance), then c.marsh.example."
    assert said["if a.marsh.example. and b.marsh.example. are down"] == "mail goes to c.marsh.example."
    _, alone = mail(with_hosts({MX: ["10 a.marsh.example."]}, a="10.77.20.1"))
    last = next(test for test in alone.test.tests if test.title.startswith("if a."))
    assert "nothing is left" in last.says and last.mark == "note", "which is worth a note, and no ok"


@pytest.mark.parametrize(
    ("told", "codes"),
    [
        (with_hosts({SRV: ["0 0 1 a.marsh.example."]}, a="10.77.20.1"), []),
        (with_hosts({SRV: ["0 0 0 a.marsh.example."]}, a="10.77.20.1"), ["srv.port"]),
        ({SRV: ["0 0 1 a.marsh.example."]}, ["srv.missing-host"]),
        ({SRV: ["0 0 0 ."]}, ["srv.unavailable"]),
        (with_hosts({SRV: ["0 0 0 .", "0 0 1 a.marsh.example."]}, a="10.77.20.1"), ["srv.dot-not-alone"]),
        ({}, ["srv.missing"]),
        ({SRV: ["0 0 1 10.77.20.1."]}, ["srv.literal"]),
        ({SRV: ["0 0 1 a.marsh.example."], ("a.marsh.example", "TXT"): ['"x"']}, ["srv.no-address"]),
        (
            with_hosts(
                {SRV: ["0 0 1 a.marsh.example."], ("a.marsh.example", "CNAME"): ["b.marsh.example."]}, b="10.77.20.1"
            ),
            ["srv.alias"],
        ),
        ({SRV: "REFUSED"}, ["srv.unverified"]),
    ],
)
def test_each_way_in_which_a_service_fails_has_its_name(told: Told, codes: list[str]) -> None:
    dialogue = judged_service(from_text("_x._tcp.marsh.example"), "inside", ATLAS, demanded=True)
    assert judged(dialogue, both(told))[0] == codes


def test_what_is_not_demanded_may_be_missing() -> None:
    assert judged(judged_service(from_text("_x._tcp.marsh.example"), "inside", ATLAS, demanded=False), {})[0] == []


@given(st.lists(st.integers(0, 65535), min_size=1, max_size=8))
def test_shares_add_up_and_follow_the_weights(weights: list[int]) -> None:
    parts = shares([Target(0, weight, 1, b"\0") for weight in weights])
    assert sum(parts) == pytest.approx(100)
    assert all(
        (a < b) <= (x <= y) for a, x in zip(weights, parts, strict=True) for b, y in zip(weights, parts, strict=True)
    )


D = from_text("pans.example")
F = from_text("works.example")
HOST = from_text("h.pans.example")
OF_DOMAIN = {
    "pans.example. HOST", "_ldap._tcp.pans.example. 389", "_ldap._tcp.dc._msdcs.pans.example. 389",
    "_kerberos._tcp.pans.example. 88", "_kerberos._udp.pans.example. 88", "_kerberos._tcp.dc._msdcs.pans.example. 88",
    "_kpasswd._tcp.pans.example. 464", "_kpasswd._udp.pans.example. 464",
}  # fmt: skip
OF_SITE = {
    "_ldap._tcp.s._sites.pans.example. 389", "_ldap._tcp.s._sites.dc._msdcs.pans.example. 389",
    "_kerberos._tcp.s._sites.pans.example. 88", "_kerberos._tcp.s._sites.dc._msdcs.pans.example. 88",
}  # fmt: skip


def of_zones(forest: str) -> set[str]:
    partitions = ("domaindnszones.pans.example.", f"forestdnszones.{forest}")
    forms = ("{} HOST", "_ldap._tcp.{} 389", "_ldap._tcp.s._sites.{} 389")
    return {form.format(partition) for partition in partitions for form in forms}


def identified(forest: str) -> set[str]:
    return {f"_ldap._tcp.dg.domains._msdcs.{forest} 389", f"cg._msdcs.{forest} CNAME"}


def of_catalogue(forest: str) -> set[str]:
    return {
        f"_gc._tcp.{forest} 3268", f"_gc._tcp.s._sites.{forest} 3268", f"_ldap._tcp.gc._msdcs.{forest} 3268",
        f"_ldap._tcp.s._sites.gc._msdcs.{forest} 3268", f"gc._msdcs.{forest} HOST",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("roles", "forest", "wanted"),
    [
        ({"pdc-emulator", "global-catalog"}, D,
         OF_DOMAIN | OF_SITE | identified("pans.example.") | of_catalogue("pans.example.")
         | {"_ldap._tcp.pdc._msdcs.pans.example. 389"}),
        (set(), D, OF_DOMAIN | OF_SITE | identified("pans.example.")),
        ({"rodc"}, D, OF_SITE | {"cg._msdcs.pans.example. CNAME"}),
        ({"global-catalog"}, F, OF_DOMAIN | OF_SITE | identified("works.example.") | of_catalogue("works.example.")),
    ],
)  # fmt: skip
def test_the_locator_set_of_a_controller_is_that_of_the_specification(
    roles: set[str], forest: bytes, wanted: set[str]
) -> None:
    controller = Controller(HOST, "S", frozenset(roles), "cg")
    rows = wanted_of(Directory(D, forest, guid="dg"), controller)
    made = [f"{to_text(one.name)} {one.row.port or one.row.kind}" for one in rows]
    zones = of_zones(to_text(forest)) if "rodc" not in roles else set()
    assert set(made) == wanted | zones and len(made) == len(set(made))
    without = wanted_of(Directory(D, forest, guid="dg"), replace(controller, holds_zones=False))
    assert not of_zones(to_text(forest)) & {f"{to_text(one.name)} {one.row.port or one.row.kind}" for one in without}
    nameless = wanted_of(Directory(D, forest), Controller(HOST, "", frozenset(roles)))
    assert {f"{to_text(one.name)} {one.row.port or one.row.kind}" for one in nameless} <= (wanted | zones) - OF_SITE


def test_the_demos_plantings_are_found_and_nothing_else(demo: Run) -> None:
    for command, arguments in (
        ("mail", ("gullmarsh.example", "saltshop.example", "saltway.example")),
        ("services", ()),
    ):
        done = demo(command, *arguments, "--json")
        planted = sorted((one["code"], one["name"]) for one in plantings()[command])
        assert planted == sorted((f["code"], f["name"]) for f in done.report["findings"]), command
        assert done.status == 1
        assert demo(command, *arguments).out.count("TESTS ") == len(done.report["tests"])


def test_caches_are_shown_beside_the_authoritative_servers(run: Run, served: Served, standins: StandIns) -> None:
    head = "$TTL 300\n@ SOA ns1 h 1 7200 1800 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\na A 192.0.2.2\nb A 192.0.2.3\n"
    cache = standins.add([read_zone(head + "@ MX 10 b\n", "salt.invalid")], recursive=True)
    office = f'[resolvers.office]\naddress = "127.0.0.1"\nport = {cache.port}\ngroup = "offices"'
    served("salt.invalid", head + "@ MX 10 a\n", more=f'find_servers_by = ["office"]\n{office}')
    done = run("mail", "salt.invalid", "--at", "offices", "--json")
    (note,) = [f for f in done.report["findings"] if f["code"] == "mail.cached-other"]
    assert "office still has 10 b.salt.invalid., for another 300 s" in note["text"] and note["weight"] == "note"


@pytest.mark.real
def test_a_directory_on_bind_whose_controller_takes_its_records_away_and_brings_them_back(
    run: Run, tmp_path: Path
) -> None:
    directory = Directory(from_text("pans.example"), from_text("pans.example"), guid="dg", sites=("North",))
    controller = Controller(
        from_text("dc-north.pans.example"), "North", frozenset(("pdc-emulator", "global-catalog")), "cg"
    )
    head = "$TTL 600\n@ SOA dc-north.pans.example. h.pans.example. 1 900 300 1209600 300\n@ NS dc-north.pans.example.\n"
    texts = {"pans.example": head + "dc-north A 10.77.10.5\n", "_msdcs.pans.example": head}
    lines = {
        "SRV": "SRV 0 100 {port} dc-north.pans.example.",
        "CNAME": "CNAME dc-north.pans.example.",
        "HOST": "A 10.77.10.5",
    }
    wanted = wanted_of(directory, controller)
    for one in wanted:
        zone = "_msdcs.pans.example" if "_msdcs" in to_text(one.name) else "pans.example"
        texts[zone] += f"{to_text(one.name)} {lines[one.row.kind].format(port=one.row.port)}\n"
    with realservers.bind(tmp_path / "bind", texts, key=KEY, updates=True) as server:
        zones = "".join(f'[[zones]]\nname = "{zone}"\nservers = ["bind"]\n' for zone in texts)
        (tmp_path / "estate.toml").write_text(
            f'{zones}[servers.bind]\naddress = "127.0.0.1"\nport = {server.port}\n', encoding="utf-8"
        )
        options = ("--domain-guid", "5a17e000-0a00-4000-8000-00000000d0d0")
        call = [
            "services",
            "pans.example",
            "--json",
            "--controller",
            "dc-north@North,pdc-emulator,global-catalog",
            "--site",
            "North",
        ]
        assert run(*call).status == 0

        def send(zone: str, *steps: tuple[str | int, ...]) -> None:
            realservers.change(server, zone, KEY, *steps)

        send("pans.example", ("delete", "_kerberos._tcp"), ("delete", "_gc._tcp"))
        send("_msdcs.pans.example", ("add", "_ldap._tcp.pdc", 600, "SRV", "0 100 389 dc-kiln.pans.example."))
        lost = run(*call)
        assert found(lost) == ["dir.leftover", "dir.not-registered", "dir.two-primaries", "dir.untested"]
        said = next(f["text"] for f in lost.report["findings"] if f["code"] == "dir.not-registered")
        # without the identifiers, which the command line does not give here, 24 records are wanted
        missing = "missing: _kerberos._tcp.pans.example., _gc._tcp.pans.example."
        assert f"dc-north.pans.example.: 22 of 24 registered; {missing}" in said
        back = (("_kerberos._tcp", 88), ("_gc._tcp", 3268))
        send("pans.example", *(("add", name, 600, "SRV", f"0 100 {port} dc-north") for name, port in back))
        send("_msdcs.pans.example", ("delete", "_ldap._tcp.pdc", "SRV", "0 100 389 dc-kiln.pans.example."))
        assert run(*call).status == 0
        named = run(*call, *options)
        assert found(named) == ["dir.not-registered", "dir.untested"]  # nothing is registered under that identifier
        discovered = run("services", "pans.example", "--directory", "--json", "--site", "North")
        assert (discovered.status, found(discovered)) == (0, ["dir.found", "dir.untested"])


MARSH_DOMAIN = from_text("marsh.example")
GUID = "5a17e000-0a00-4000-8000-00000000d0d0"


def controller(host: str, site: str = "S", *roles: str) -> Controller:
    return Controller(from_text(f"{host}.marsh.example"), site, frozenset(roles), f"guid-of-{host}")


ONE, TWO = controller("one", "S", "pdc-emulator", "global-catalog"), controller("two", "T", "global-catalog")
ADDRESSES = {"one": "10.77.20.1", "two": "10.77.20.2", "old": "10.77.20.3"}


def directory(*controllers: Controller, sites: tuple[str, ...] = ("S", "T")) -> Directory:
    return Directory(MARSH_DOMAIN, MARSH_DOMAIN, "inside", GUID, sites, controllers)


def registered(*controllers: Controller) -> Told:
    """Everything that controllers register, their addresses with pointers among it."""
    told: dict[tuple[str, str], list[str]] = {}
    for one in controllers:
        host = to_text(one.host)
        address = ADDRESSES[host.partition(".")[0]]
        told[host, "A"] = [address]
        told[to_text(reverse_name(ipaddress.ip_address(address).packed)), "PTR"] = [host]
        for wanted in wanted_of(directory(one), one):
            value = {"SRV": f"0 100 {wanted.row.port} {host}", "CNAME": host, "HOST": address}[wanted.row.kind]
            kind = {"HOST": "A"}.get(wanted.row.kind, wanted.row.kind)
            told.setdefault((to_text(wanted.name), kind), []).append(value)
    return dict(told)


def without(told: Told, *names: str) -> Told:
    return {key: said for key, said in told.items() if key[0] not in names}


def test_a_directory_that_is_registered_whole_says_so_and_an_address_alone_on_the_other_name_does_not_matter() -> None:
    codes, whole = judged(judged_directory(directory(ONE, TWO), ATLAS), both(registered(ONE, TWO)))
    assert codes == [] and whole.test.mark == "ok"
    assert whole.test.says == "2 of 2 domain controllers of marsh.example. are registered in full"


def test_where_no_server_answers_nothing_is_ok_and_the_first_line_says_that_nothing_is_known() -> None:
    told: dict[tuple[str, str, str], list[str] | str] = dict.fromkeys(both(registered(ONE, TWO)), "timeout")
    hosts = ("one.marsh.example", "two.marsh.example")
    told |= both({(host, kind): "timeout" for host in hosts for kind in ("A", "AAAA")})
    told |= {(*key[:2], "AAAA"): "timeout" for key in told if key[2] == "A"}
    told |= both({(apex, "NS"): "timeout" for apex in ("marsh.example", "_msdcs.marsh.example")})
    codes, whole = judged(judged_directory(directory(ONE, TWO), ATLAS), told)
    assert set(codes) == {"srv.unverified"}  # one silence, told once a controller
    assert {test.mark for test in whole.test.tests} == {"unverified"}
    assert whole.test.says == (
        "whether the 2 domain controllers of marsh.example. are registered could not be verified"
    )
    undeclared = judged(judged_directory(directory(), ATLAS), told)[1]
    assert undeclared.test.says.startswith("The domain controllers of marsh.example. could not be looked up")


def test_one_silent_server_of_two_leaves_what_the_other_knows() -> None:
    told = both(registered(ONE))
    for label, name, kind in list(told):
        if label == "kiln" and "_msdcs" in name:
            told[label, name, kind] = told[label, name, "AAAA"] = "REFUSED"
    codes, whole = judged(judged_directory(directory(ONE, sites=("S",)), ATLAS), told)
    assert set(codes) == {"dir.unverified"} and whole.test.mark == "unverified"
    assert whole.test.tests[0].says == "26 of 26 registered"
    (doubtful,) = [row for row in whole.test.tests[0].tests if row.says == "right on north; kiln: no answer"]
    assert doubtful.title == "10 records"  # one line, not one for each
    assert whole.test.says == "whether the 1 domain controller of marsh.example. is registered could not be verified"


def test_a_controller_without_an_address_passes_none_of_the_rows_that_hang_on_it() -> None:
    told = both(without(registered(ONE), "one.marsh.example."))
    codes, whole = judged(judged_directory(directory(ONE, sites=("S",)), ATLAS), told)
    assert codes == ["srv.missing-host"]
    assert whole.test.tests[0].says == "22 of 26 registered"


def test_what_cannot_be_tested_is_counted_and_the_reason_given() -> None:
    bare = Controller(ONE.host, "", frozenset(), "")
    told = both(registered(ONE))
    codes, whole = judged(judged_directory(replace(directory(bare), guid="", sites=()), ATLAS), told)
    assert codes == ["dir.untested"]
    assert (
        whole.test.says == "1 of 1 domain controller of marsh.example. is registered in full, as far as could be tested"
    )
    for what in (
        "its site is not known (6 records)",
        "its GUID",
        "the domain's GUID is not known (1 record)",
    ):
        assert what in whole.findings[0].text


def test_a_live_controller_that_nobody_declared_is_told_with_a_line_for_the_estate_and_nothing_is_removed() -> None:
    codes, whole = judged(judged_directory(directory(ONE), ATLAS), both(registered(ONE, TWO)))
    assert codes == ["dir.not-in-estate", "dir.site-uncovered"]
    new = next(one for one in whole.findings if one.code == "dir.not-in-estate")
    assert new.remedy == '; in the estate: [[directories.controllers]] host = "two.marsh.example", site = "T"'
    assert not any("remove" in one.remedy for one in whole.findings)


def test_where_the_directory_was_read_whoever_is_not_in_its_list_is_left_over_however_alive_it_looks() -> None:
    """Its object is deleted, its DNS is off, and all its records stay: clients are sent to it."""
    read = replace(directory(ONE, sites=("S", "T")), complete=True)
    codes, whole = judged(judged_directory(read, ATLAS), both(registered(ONE, TWO)))
    assert "dir.leftover" in codes and "dir.not-in-estate" not in codes, codes
    (gone,) = [one for one in whole.findings if one.code == "dir.leftover"]
    assert "two.marsh.example. is not in the directory's list of domain controllers of marsh.example." in gone.text
    removed = {(change.name, change.type) for change in gone.changes}
    srv = {(to_text(one.name), "SRV") for one in wanted_of(directory(TWO), TWO) if one.row.kind == "SRV"}
    assert srv <= removed and ("marsh.example.", "A") in removed
    assert ("two.marsh.example.", "A") not in removed  # the host may live on as something else


def test_a_controller_that_is_gone_is_listed_whole() -> None:
    old = controller("old", "S", "global-catalog")
    told = registered(ONE, old)
    del told["old.marsh.example.", "A"]  # its own address is gone; the pointer and the domain's addresses stayed
    told["_msdcs.marsh.example", "NS"] = ["one.marsh.example.", "old.marsh.example."]
    codes, whole = judged(judged_directory(directory(ONE, old, sites=("S",)), ATLAS), both(told))
    assert "dir.leftover" not in codes  # as long as it is declared
    codes, whole = judged(judged_directory(directory(ONE, sites=("S",)), ATLAS), both(told))
    assert codes == ["dir.leftover", "dir.old-name-server"]
    (advice,) = [one.advice for one in whole.findings if one.code == "dir.old-name-server"]
    assert "in _msdcs.marsh.example.: _msdcs.marsh.example. IN NS old.marsh.example." in advice
    (listed,) = next(test for test in whole.test.tests if test.title == "leftover records").tests
    lines = {test.title for test in listed.tests}
    srv = {f"{to_text(one.name)} IN SRV 0 100 {one.row.port} old.marsh.example." for one in wanted_of(directory(old), old)
           if one.row.kind == "SRV"}  # fmt: skip
    partitions = ("", "gc._msdcs.", "domaindnszones.", "forestdnszones.")
    names = [f"{partition}marsh.example." for partition in partitions]
    assert lines == srv | {f"{name} IN A 10.77.20.3" for name in names} | {
        "3.20.77.10.in-addr.arpa. IN PTR old.marsh.example."
    }  # fmt: skip
    assert listed.says == f"{len(lines)} records to remove"
    undeclared = judged(judged_directory(directory(sites=("S",)), ATLAS), both(told))
    assert set(undeclared[0]) == {"dir.found", "dir.leftover", "dir.untested"}  # and it is not a controller besides


def test_the_identifier_of_a_controller_that_is_gone_is_seen_where_the_zone_is_in_hand() -> None:
    old = controller("old", "S", "global-catalog")
    told = without(registered(ONE, old), "old.marsh.example.")
    alias = Record(from_text("guid-of-old._msdcs.marsh.example"), CNAME, 60, old.host)
    apex = Record(MARSH_DOMAIN, 6, 60, bytes(22))
    holding = Holding(MARSH_DOMAIN, [apex, alias])
    in_hand = lambda _, zone: holding if zone == MARSH_DOMAIN else None  # noqa: E731
    _, whole = judged(judged_directory(directory(ONE, sites=("S",)), ATLAS, in_hand), both(told))
    (listed,) = next(test for test in whole.test.tests if test.title == "leftover records").tests
    assert "guid-of-old._msdcs.marsh.example. IN CNAME old.marsh.example." in {test.title for test in listed.tests}


def test_records_of_an_old_site_and_beyond_a_role_are_told_and_a_covered_site_is_not() -> None:
    moved = replace(TWO, site="S")
    plain = replace(TWO, roles=frozenset())
    three = controller("old", "T", "global-catalog")
    told = both(registered(ONE, TWO, three, moved))
    codes, whole = judged(judged_directory(directory(ONE, moved, three), ATLAS), told)
    assert codes == ["dir.old-site"] and "is still registered for T" in whole.findings[0].text
    codes, whole = judged(judged_directory(directory(ONE, moved), ATLAS), both(registered(ONE, TWO, moved)))
    assert codes == []  # nobody else stands in T: whoever is registered there covers it, which is as it should be
    assert "covered by two.marsh.example. (automatic site coverage)" in {one.says for one in whole.test.tests}
    codes, whole = judged(judged_directory(directory(ONE, plain), ATLAS), both(registered(ONE, TWO)))
    assert codes == ["dir.beyond-role"] and "_gc._tcp.marsh.example. IN SRV" in whole.findings[0].remedy
    # the addresses at gc._msdcs are of the role too, and of nobody else's host
    removed = {(change.name, change.type): change.remove for change in whole.findings[0].changes}
    assert removed["gc._msdcs.marsh.example.", "A"] == ["10.77.20.2"] and ("marsh.example.", "A") not in removed


def test_an_old_name_server_in_the_delegation_of_msdcs_is_seen_where_it_is_told() -> None:
    old, gone = from_text("old.marsh.example"), from_text("gone.marsh.example")
    told = registered(ONE)
    told["_msdcs.marsh.example", "NS"] = ["one.marsh.example."]
    told["old.marsh.example", "A"] = ["10.77.20.3"]
    kept = Replicated("DomainDnsZones", {ONE.host: ()}, delegated=(ONE.host, old, gone))
    atlas = Atlas(replace(MARSH, replicated={("inside", MARSH_DOMAIN): kept}))
    read = replace(directory(ONE, sites=("S",)), complete=True)
    codes, whole = judged(judged_directory(read, atlas), both(told))
    assert codes == ["dir.old-name-server"] * 2
    assert {one.name for one in whole.findings} == {"old.marsh.example.", "gone.marsh.example."}
    for one in whole.findings:  # no server takes an NS record away by a dynamic update (RFC 2136 section 3.4.2.4)
        assert not one.changes and "in marsh.example.: _msdcs.marsh.example. IN NS" in one.advice
        assert "the delegation of _msdcs.marsh.example. (as the directory has it)" in one.text


def test_a_name_server_that_is_no_controller_is_accused_of_nothing_while_it_serves_or_is_merely_silent() -> None:
    """It may be a secondary of its own: one that answers is none of ours to judge, one that does not is not known."""
    read = replace(directory(ONE, sites=("S",)), complete=True)
    for address, codes in (("127.0.0.1", []), ("10.77.20.9", ["dir.unverified"])):
        told = both(registered(ONE))
        told |= both({("marsh.example", "NS"): ["one.marsh.example.", "other.marsh.example."]})
        told |= both({("other.marsh.example", "A"): [address]})
        assert judged(judged_directory(read, ATLAS), told)[0] == codes, address


def test_a_controller_that_is_gone_is_known_by_its_guid_alias_alone() -> None:
    alias = from_text("guid-of-old._msdcs.marsh.example")
    kept = Replicated("ForestDnsZones", {ONE.host: ()}, aliases={alias: from_text("old.marsh.example")})
    atlas = Atlas(replace(MARSH, replicated={("inside", from_text("_msdcs.marsh.example")): kept}))
    read = replace(directory(ONE, sites=("S",)), complete=True)
    assert judged(judged_directory(read, atlas), both(registered(ONE)))[0] == []  # no server has it any more
    told = registered(ONE) | {(to_text(alias), "CNAME"): ["old.marsh.example."]}
    codes, whole = judged(judged_directory(read, atlas), both(told))
    assert codes == ["dir.leftover"] and "1 name still leads there: guid-of-old._msdcs" in whole.findings[0].text
    (change,) = whole.findings[0].changes
    assert (change.name, change.type, change.remove) == (to_text(alias), "CNAME", ["old.marsh.example."])


def test_controllers_of_another_domain_of_the_forest_are_not_accused_at_its_common_names() -> None:
    told = registered(ONE)
    gc = "_gc._tcp.marsh.example.", "SRV"
    told[gc] = [*told[gc], "0 100 3268 dc.sub.marsh.example."]
    told["gc._msdcs.marsh.example.", "A"] = ["10.77.20.1", "10.77.20.9"]
    told["9.20.77.10.in-addr.arpa", "PTR"] = ["dc.sub.marsh.example."]
    told["dc.sub.marsh.example", "A"] = ["10.77.20.9"]
    assert judged(judged_directory(directory(ONE, sites=("S",)), ATLAS), both(told))[0] == []


def test_mail_of_which_nothing_could_be_asked_is_not_said_to_be_lost() -> None:
    silent: Told = {("a.marsh.example", kind): "timeout" for kind in ("A", "AAAA")}
    _, one = mail({MX: ["10 a.marsh.example."], **silent})
    lost = "a.marsh.example. could not be looked up"
    assert one.test.says == f"whether mail for marsh.example. arrives is not known: {lost}"
    (exchanger,) = [test for test in one.test.tests if test.title.startswith("mail exchanger")]
    assert {test.mark for test in exchanger.tests[1:]} == {"unverified"}
    _, one = mail(with_hosts({MX: ["10 a.marsh.example.", "20 b.marsh.example."]}, b="10.77.20.2") | silent)
    assert one.test.says == f"mail for marsh.example. is accepted by 1 of 2 mail exchangers; {lost}"
    codes, one = mail(
        {("marsh.example", "TXT"): ['"x"'], **{("marsh.example", kind): "timeout" for kind in ("A", "AAAA")}}
    )
    assert codes == ["mail.unverified"] and one.test.mark == "unverified"


def test_a_directory_without_controllers_or_without_a_primary_says_so() -> None:
    empty = Directory(MARSH_DOMAIN, MARSH_DOMAIN, "inside")
    codes, _ = judged(judged_directory(empty, ATLAS), both({("marsh.example", "TXT"): ['"x"']}))
    assert codes == ["dir.no-controller", "dir.no-primary"]


def test_a_delegated_subzone_that_nobody_serves_is_told_as_that(run: Run, served: Served) -> None:
    text = "$TTL 300\n@ SOA dc h 1 7200 1800 1209600 300\n@ NS dc\n@ A 192.0.2.1\ndc A 192.0.2.1\n"
    text += "_msdcs NS lame\nlame A 192.0.2.2\n_ldap._tcp SRV 0 100 389 dc\n"
    one, lame = served.serve("salt.invalid", text, text)
    lame.fault = Fault.REFUSING
    served.publish("salt.invalid", [one], reach={"192.0.2.1": one, "192.0.2.2": lame})
    # the delegation is inside the zone that the estate gives, so its glue leads to the server that refuses
    done = run("services", "salt.invalid", "--controller", "dc", "--json")
    assert "dir.subzone-lame" in found(done)
    assert "_msdcs" not in next(f["text"] for f in done.report["findings"] if f["code"] == "dir.not-registered")


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("services", "x.example", "--family", "spi"), 'there is no family "spi"; did you mean "sip"?'),
        (("services", "x.example", "--service", "ldap"), "expected one such as _ldap._tcp"),
        (("services", "x.example", "--controller", "dc,boss"), '"boss" is neither a role'),
        (("services",), "nothing to look at"),
        (("mail",), "nothing to look at: name a domain"),
        (("mail", "a..b"), "an empty label"),
    ],
)
def test_wrong_arguments_are_told_with_what_would_be_right(run: Run, arguments: tuple[str, ...], said: str) -> None:
    done = run(*arguments)
    assert (done.status, done.out) == (2, "") and said in done.err

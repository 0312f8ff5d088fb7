"""Drafts of Gullmarsh's world and of smaller ones: what is found, what is written, what is left as it was, and what cannot be
known without anybody's saying so."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from salt_mirror.checks.draft.learnt import Learnt, LearntServer, LearntZone
from salt_mirror.demo.world import gullmarsh, plantings
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.zonelist import read_zone_list
from salt_mirror.keeping.draft.tables import plain
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIn, StandIns
from support.estates import Served
from support.hostile import MODES, hostile_servers
from support.program import Outcome, Run

World = tuple[Path, dict[str, StandIn]]


@pytest.fixture(scope="module")
def handed_over(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    """Gullmarsh's world, whose servers hand their zones over."""
    with gullmarsh(tmp_path_factory.mktemp("gullmarsh")) as (estate, servers):
        for server in servers.values():
            server.transfers = True
        yield estate, servers


def begin(folder: Path, world: World) -> None:
    """The part of an estate that only this computer can know: how published addresses are reached, and the top of the tree."""
    text = world[0].read_text(encoding="utf-8")
    tables = [
        re.search(rf"\[{name}\].*?(?=\n\n|\Z)", text, re.DOTALL)
        for name in ("roots", "reach", "resolvers.harbour-office")
    ]
    kept = "\n\n".join(table[0] for table in tables if table is not None)
    (folder / "estate.toml").write_text(f'find_servers_by = ["harbour-office"]\n# ours\n\n{kept}\n', encoding="utf-8")


SIGNED = ("saltshop.example", "saltway.example")


def draft_both_views(run: Run, servers: dict[str, StandIn], *more: str) -> list[Outcome]:
    given = ("--transfer", "--add", *more)
    return [
        run("draft", "pans.gullmarsh.internal", servers["dc-north"].endpoint, "--view", "internal", *given),
        run("draft", "gullmarsh.example", *SIGNED, servers["ns1"].endpoint, "--view", "public", *given),
    ]


def estate_in(folder: Path) -> dict[str, Any]:
    return tomllib.loads((folder / "estate.toml").read_text(encoding="utf-8"))


UNDECLARED = {
    # A network that has no host yet: nothing in the other zones leads to its reverse zone.
    ("auth.no-parent", "20.88.10.in-addr.arpa."),
    # A reverse zone's second server that neither an NS record nor an address leads to.
    *(("pair.unverified", f"{host}.pans.gullmarsh.internal.") for host in ("crane", "quay", "manifest")),
    ("roll.unverified", "11.30.77.10.in-addr.arpa."),
    ("auth.lame", "30.77.10.in-addr.arpa."),
    # An alias that nobody expects: what is registered is judged by its addresses.
    *(("pair.through-alias", f"www.{zone}.example.") for zone in ("gullmarsh", "saltshop", "saltway")),
    # Records that only a list can miss, or can have otherwise.
    ("pair.no-address", "kiln-07.pans.gullmarsh.internal."),
    ("pair.other-address", "rake-05.pans.gullmarsh.internal."),
    *(("roll.different", f"_{name}.pans.gullmarsh.internal.") for name in ("ntp._udp", "syslog._udp", "ipp._tcp")),
    ("roll.different", "rake-05.pans.gullmarsh.internal."),
    ("roll.missing-name", "kiln-07.pans.gullmarsh.internal."),
    ("roll.missing-type", "kiln-08.pans.gullmarsh.internal."),
    ("roll.extra", "boiler.pans.gullmarsh.internal."),
    ("roll.alias", "rake-eight.pans.gullmarsh.internal."),
    ("roll.still-there", "old-scale.pans.gullmarsh.internal."),
    ("roll.other-ttl", "press.pans.gullmarsh.internal."),
    ("roll.wildcard", "bin-7.stores.pans.gullmarsh.internal."),
    ("roll.servers-disagree", "sluice.pans.gullmarsh.internal."),
    # A server that the zone lists and an estate written by hand leaves out.
    ("auth.not-in-estate", "gullmarsh.example."),
}
"""What is planted in Gullmarsh's world and cannot be found by whoever has only asked."""
AUDITED = ("pairs", "rollcall", "authority", "mail", "services")


def test_the_audit_of_a_draft_finds_what_is_planted_but_for_what_has_to_be_declared(
    run: Run, handed_over: World, tmp_path: Path
) -> None:
    begin(tmp_path, handed_over)
    inside, outside = draft_both_views(run, handed_over[1])
    assert inside.out.startswith("6 zones on 2 servers: 6 zones, 2 servers, 1 directory added to estate.toml.")
    assert outside.out.startswith("6 zones on 3 servers: 6 zones, 3 servers added to estate.toml.")
    drafted, declared = estate_in(tmp_path), tomllib.loads(handed_over[0].read_text(encoding="utf-8"))
    # Nothing in the zones leads to a network that has no host yet.
    assert {(one["name"], one["view"]) for one in drafted["zones"]} == {
        (one["name"], one["view"]) for one in declared["zones"]
    } - {("10.88.20.0/24", "internal")}
    assert "# ours" in (tmp_path / "estate.toml").read_text(encoding="utf-8")
    # The world's own view of gullmarsh.example is told apart from that of the people inside.
    by_view = {one["view"]: one["servers"] for one in drafted["zones"] if one["name"] == "gullmarsh.example"}
    assert by_view == {"internal": ["dc-kiln", "dc-north"], "public": ["ns1", "ns2", "ns3"]}
    assert "of whom these servers know nothing: another view's" in inside.out
    told = {(one["code"], one["name"]) for one in run("audit", "--json").report["findings"]}
    planted = {(one["code"], one["name"]) for check in AUDITED for one in plantings()[check]}
    assert planted - told == UNDECLARED


def test_what_is_expected_of_a_draft_teaches_the_audit_no_mistake(run: Run, handed_over: World, tmp_path: Path) -> None:
    begin(tmp_path, handed_over)
    inside, _ = draft_both_views(run, handed_over[1], "--expect", "registered")
    assert "records look wrong, and are not among them" in inside.out
    kept = (tmp_path / "records/internal/pans.gullmarsh.internal.zone").read_text(encoding="utf-8")
    review = (tmp_path / "records/internal/REVIEW.md").read_text(encoding="utf-8")
    for wrong in ("sluice.pans.gullmarsh.internal. 3600 IN A", "SRV 0 100 389 dc-harbour"):
        assert wrong not in kept
    assert "`sluice.pans.gullmarsh.internal. A` `10.77.10.22`, `10.77.10.23`" in review
    back = (tmp_path / "records/internal/20.77.10.in-addr.arpa.zone").read_text(encoding="utf-8")
    for pointer in ("96", "98", "99", "20"):  # a missing dot, an orphan, a stale one, and one on a single server
        assert f"{pointer}.20.77.10.in-addr.arpa. " not in back and f"`{pointer}.20.77.10.in-addr.arpa. PTR`" in review
    assert "11.20.77.10.in-addr.arpa. " in back
    report = run("rollcall", "--json").report
    taught = {one["code"] for one in report["findings"] if one["weight"] == "fault"}
    assert taught == {"roll.extra"}  # what was left out of a set of several is still there
    planted = {(one["code"], one["name"]) for check in ("pairs", "mail") for one in plantings()[check]} - UNDECLARED
    assert planted <= {(one["code"], one["name"]) for one in run("audit", "--json").report["findings"]}


def test_an_estate_that_is_there_is_shown_what_it_lacks_and_stays_as_it_is(
    run: Run, served: Served, tmp_path: Path
) -> None:
    zone = "@ SOA one h 1 3600 600 1209600 300\n@ NS one\n@ NS two\none A 192.0.2.1\ntwo A 198.51.100.2\n"
    one, two = served("pans.example", f"$TTL 300\n{zone}", f"$TTL 300\n{zone}")
    served.publish("pans.example", [one], reach={"192.0.2.1": one, "198.51.100.2": two})
    path = tmp_path / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8").replace('["one"]', '["one"]  # the old one'), encoding="utf-8")
    before = path.read_bytes()
    shown = run("draft", "pans.example", "--view", "public")
    assert shown.status == 0 and "Nothing was written; --add adds what is shown below." in shown.out.splitlines()[0]
    assert "# pans.example. is also answered for by two: into its list of servers." in shown.out
    assert path.read_bytes() == before
    assert run("draft", "pans.example", "--view", "public", "--add").status == 0
    text = path.read_text(encoding="utf-8")
    assert 'servers = ["one", "two"]  # the old one' in text
    assert text.startswith(before.decode().partition("servers")[0])
    again = run("draft", "pans.example", "--view", "public", "--add")
    assert again.out.startswith("1 zone on 2 servers: estate.toml has them all. Nothing was written.")
    assert path.read_text(encoding="utf-8") == text


def test_nothing_is_written_over_and_nothing_is_left_half(run: Run, standins: StandIns, tmp_path: Path) -> None:
    server = standins.add(
        [read_zone("$TTL 300\n@ SOA one h 1 3600 600 1209600 300\n@ NS one\none A 127.0.0.1\n", "pans.example")]
    )
    records = tmp_path / "new" / "records"
    records.mkdir(parents=True)
    (records / "pans.example.zone").write_text("mine", encoding="utf-8")
    done = run("draft", "pans.example", server.endpoint, "--folder", "new", "--expect", "registered")
    assert done.status == 2 and "pans.example.zone is there already and is not written over" in done.err
    assert (records / "pans.example.zone").read_text(encoding="utf-8") == "mine" and not (
        tmp_path / "new/estate.toml"
    ).exists()
    assert [path.name for path in records.iterdir()] == ["pans.example.zone"]
    (tmp_path / "file").write_text("", encoding="utf-8")
    into = run("draft", "pans.example", server.endpoint, "--folder", "file/below")
    assert into.status == 2 and "Traceback" not in into.err


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        ((), "nothing to begin with: give a domain"),
        (("10.0.0.0/8",), "10.0.0.0/8 has 16,777,216 addresses"),
        (("10.77.20",), "for the network write 10.77.20.0/24"),
        (("a..example",), "a..example"),
        (("a.example", "--key", "mirror"), "--key: \"mirror\" is no NAME:FILE"),
        (("a.example", "--key", "mirror:none.key"), "none.key"),
        (("a.example", "--catalog", "catalog.example"), "is no ZONE@SERVER"),
        (("--zones", "none.txt"), "none.txt"),
        (("--zones", "zones.txt"), "zones.txt, line 2"),
    ],
)  # fmt: skip
def test_bad_input_says_what_and_writes_nothing(
    run: Run, tmp_path: Path, arguments: tuple[str, ...], says: str
) -> None:
    (tmp_path / "zones.txt").write_text("a.example\nb..example\n", encoding="utf-8")
    done = run("draft", *arguments)
    assert done.status == 2 and says in done.err.replace("\n", " ") and not (tmp_path / "estate.toml").exists()


def test_a_zone_that_nobody_answers_for_is_told_and_not_written(run: Run, standins: StandIns, tmp_path: Path) -> None:
    server = standins.add(
        [read_zone("$TTL 300\n@ SOA one h 1 3600 600 1209600 300\n@ NS one\none A 127.0.0.1\n", "pans.example")]
    )
    (tmp_path / "zones.csv").write_text(
        "id;Zone;kind\n1;pans.example;x\n2;gone.example;x\n3;x.pans.example;y\n", encoding="utf-8"
    )
    done = run("draft", "--zones", "zones.csv", server.endpoint)
    assert [zone["name"] for zone in estate_in(tmp_path)["zones"]] == ["pans.example"]
    assert (
        "gone.example.: " in done.out
        and "x.pans.example.: is not the apex of a zone: it is in pans.example." in done.out
    )
    nothing = run("draft", "gone.example", server.endpoint, "--folder", "empty")
    assert (
        done.status == nothing.status == 3
        and "nothing was written" in nothing.err
        and not (tmp_path / "empty").exists()
    )


def test_hostile_servers_get_nothing_into_an_estate(run: Run, tmp_path: Path) -> None:
    liars = [mode.name for mode in MODES if mode.becomes == "nothing"]
    (tmp_path / "zones.txt").write_text("".join(f"{name}.invalid\n" for name in liars), encoding="utf-8")
    with hostile_servers() as ports:
        servers = [f"127.0.0.1:{ports[name]}" for name in liars]
        patience = ("--timeout", "0.2", "--tries", "1")
        done = run("draft", "--zones", "zones.txt", *servers, "--folder", "new", "--transfer", *patience)
    assert done.status == 3 and not (tmp_path / "new").exists(), done.out
    assert "Traceback" not in done.err and "nothing was written" in done.err
    assert all(f"{name}.invalid.: " in done.err for name in liars)


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("a.example\n# b\n; c\n\nd.example. ; kept\n", ["a.example.", "d.example."]),
        ("10.77.20.0/24\n2001:db8:77::/48\n", ["20.77.10.in-addr.arpa.", "7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa."]),
        ('"ZoneName","ZoneType"\n"a.example","Primary"\n"a.example","Primary"\n', ["a.example."]),
        ("\ufeffkind\tdomain\nprimary\ta.example\n", ["a.example."]),
        ("a.example,primary\nb.example,secondary\n", ["a.example.", "b.example."]),
    ],
)
def test_lists_of_zones_are_read_as_they_are(tmp_path: Path, text: str, names: list[str]) -> None:
    path = tmp_path / "list"
    path.write_text(text, encoding="utf-8")
    assert list(map(to_text, read_zone_list(path))) == names


def test_a_list_without_a_zone_is_an_error(tmp_path: Path) -> None:
    path = tmp_path / "list"
    path.write_text("# nothing\n", encoding="utf-8")
    with pytest.raises(BadInput, match="names no zone"):
        read_zone_list(path)


def test_names_of_files_are_such_that_every_system_takes() -> None:
    assert plain("0/26.2.0.192.in-addr.arpa") == "0-26.2.0.192.in-addr.arpa"
    assert plain("con.example") == "_con.example" and plain("..") == "_" and plain("") == "_"
    assert plain(to_text(from_text("a\\000b.example"))) == "a-000b.example."[:-1]


def test_a_server_with_addresses_of_both_families_is_one_server() -> None:
    four = Server("four", bytes((192, 0, 2, 1)))
    six, other = (Server("six", bytes.fromhex("20010db8") + bytes(11) + bytes([last])) for last in (1, 2))
    learnt = Learnt()
    name = from_text("ns.pans.example")
    for server, called in ((four, name), (six, name), (other, from_text("six-alone.pans.example"))):
        learnt.servers[server] = LearntServer(server, "given", called, server.address)
    apex = from_text("pans.example")
    learnt.zones[apex] = LearntZone(apex, "given", [four, six, other])
    learnt.one_address_each()
    assert learnt.zones[apex].servers == [four, other] and list(learnt.servers) == [four, other]
    learnt.zones[apex].servers = [other]
    learnt.servers[six] = LearntServer(six, "given", name, six.address)
    learnt.zones[apex].servers.append(six)  # where the IPv4 address does not answer, the other one is what there is
    learnt.one_address_each()
    assert learnt.zones[apex].servers == [other, six]


ODD = [rf"{name}.sound.example" for name in (r"\@.h", r"\$origin", r"a\032b", r"\034", r"\092\091", r"x\009y", "plain")]


@pytest.mark.parametrize("view", ["\U0001f525", "in\\side", 'a"b'])
def test_no_name_and_no_view_makes_a_working_estate_unreadable(
    run: Run, standins: StandIns, tmp_path: Path, view: str
) -> None:
    zone = "$TTL 60\n@ SOA ns.sound.example. h 1 7200 900 1209600 300\n@ NS ns.sound.example.\n"
    cuts = "".join(f"{name}. NS ns\n" for name in ODD)
    held = [read_zone(zone, name) for name in ODD]
    server = standins.add([read_zone(f"{zone}ns A 192.0.2.1\n{cuts}", "sound.example"), *held])
    server.transfers = True
    before = f'[reach]\n"192.0.2.1" = "{server.endpoint}"\n[[zones]]\nname = "old.example"\nservers = ["one"]\n'
    before += f'[servers.one]\naddress = "127.0.0.1"\nport = {server.port}\n'
    (tmp_path / "estate.toml").write_text(before, encoding="utf-8")
    call = ("draft", "sound.example", server.endpoint, "--transfer", "--add", "--expect", "registered", "--view", view)
    done = run(*call, "--folder", ".")
    written = estate_in(tmp_path)["zones"]
    names = {one["name"] for one in written[1:]}
    assert {"sound.example", "plain.sound.example"} <= names and {one["view"] for one in written[1:]} == {view}
    known = set(map(from_text, names))
    left = [to_text(from_text(name)).partition(".")[0] for name in ODD if from_text(name) not in known]
    assert (done.status == 3) == bool(left)
    assert all(json.dumps(name).strip('"') in done.out for name in left), done.out
    read = run("rollcall", "--view", view, "--json")
    assert read.status != 2, read.err

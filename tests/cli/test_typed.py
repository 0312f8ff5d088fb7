"""What people type: each form taken for the one thing that it can mean, or refused with what would be right, before anything is
asked; and estates that are written in ways that people write them."""

from __future__ import annotations

from pathlib import Path

import pytest
from rich.text import Text

from salt_mirror.checks.pairs.scope import PairsScope
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import to_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.system import parse_server
from salt_mirror.estate.forms import domain_in, network_in, range_in, zone_name
from salt_mirror.estate.typed import completed
from salt_mirror.report.terminal.console import pieces
from salt_mirror.standin.server import StandIn
from support.estates import Served, found
from support.program import Run
from support.tables import ADDRESS, HOST, estate

World = tuple[Path, dict[str, StandIn]]
PANS = estate("pans.example", "10.77.20.0/24", expect=((HOST, "A", ADDRESS),))


@pytest.mark.parametrize(
    ("text", "network"),
    [
        ("10.77.20.0/24", "10.77.20.0/24"),
        ("10.77.20.*", "10.77.20.0/24"),
        ("10.77.*", "10.77.0.0/16"),
        ("10.77.*.*", "10.77.0.0/16"),
        ("2001:db8::/48", "2001:db8::/48"),
        ("host.pans.example", None),
        ("0/26.2.0.192.in-addr.arpa", None),
        ("10.77.20.5", None),
    ],
)
def test_a_network_is_taken_in_the_forms_that_have_one_meaning(text: str, network: str | None) -> None:
    taken = network_in(text)
    assert (str(taken) if taken is not None else None) == network


def test_a_range_is_every_address_from_the_first_to_the_last() -> None:
    assert [address_text(one) for one in range_in("10.77.20.254-255") or ()] == ["10.77.20.254", "10.77.20.255"]
    assert len(range_in("10.77.20.250-10.77.21.5") or ()) == 12
    scope = PairsScope(PANS, ["10.77.20.1-3"])
    assert [to_text(name) for name, _ in scope.names] == [f"{HOST}."]
    assert [address_text(address) for address, *_ in scope.addresses()] == ["10.77.20.1", "10.77.20.2", "10.77.20.3"]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("10.20.30", "is a part of an address; for the network write 10.20.30.0/24"),
        ("10.20.", "for the network write 10.20.0.0/16"),
        ("10.20.30.50-1", "is no range"),
        ("10.20.30.1-300", "is no range"),
        ("@dc-north", "a server to ask is named with --at dc-north"),
        ("post@pans.example", "is a mailbox; write its domain, pans.example"),
        ("https://www.pans.example/x", "write the host's name, www.pans.example"),
    ],
)
def test_what_is_no_name_is_told_with_what_would_be_right(text: str, said: str) -> None:
    with pytest.raises(Unusable, match=said):
        PairsScope(PANS, [text])


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("_ldap._tcp.pans.example", "a domain is wanted: services pans.example --service _ldap._tcp"),
        ("10.77.20.5", "is an address, and a domain or a zone is wanted"),
        ("a..b", "an empty label"),
    ],
)
def test_a_domain_is_no_service_and_no_address(run: Run, text: str, said: str) -> None:
    with pytest.raises(Unusable, match=said):
        domain_in(text)
    for command in ("mail", "services", "authority"):
        done = run(command, text)
        assert (done.status, done.out) == (2, "") and said in done.err


def test_a_zone_is_no_range_and_no_part_of_an_address() -> None:
    assert to_text(zone_name("10.77.*")) == "77.10.in-addr.arpa."
    for text in ("10.77.20.1-5", "10.77.20.5", "10.77.20"):
        with pytest.raises(Unusable):
            zone_name(text)


def test_a_short_name_is_completed_by_one_rule_in_every_command(demo: Run, tmp_path: Path) -> None:
    whole = "kiln-03.pans.gullmarsh.internal."
    assert demo("ask", "kiln-03", "A", "--at", "dc-north").out.startswith(whole)
    assert demo("descend", "kiln-03").out.startswith(f"{whole} A is 10.77.20.13")
    assert demo("budget", "kiln-03", "A").out.startswith(whole)
    assert f"{whole} A is 10.77.20.13" in demo("settle", "kiln-03", "A", "--at", "dc-north", "--within", "1s").out
    assert demo("snapshot", "now.jsonl", "kiln-03", "--types", "A").status == 0
    assert f'"name":"{whole}"' in (tmp_path / "now.jsonl").read_text(encoding="utf-8")
    two = (("web.pans.example", "A", ADDRESS), ("web.x.pans.example", "A", ADDRESS))
    several = estate("pans.example", "salt.example", expect=two)
    said = r"can mean web\.pans\.example\. and web\.x\.pans\.example\.; write the whole name"
    with pytest.raises(Unusable, match=said):
        completed("web", several, [""])
    assert to_text(completed("new", several, [""])) == "new.pans.example."


def test_an_address_stands_for_its_pointer_wherever_a_name_does(demo: Run, tmp_path: Path) -> None:
    pointer = "12.20.77.10.in-addr.arpa."
    assert demo("budget", "10.77.20.12", "PTR").out.startswith(pointer)
    assert demo("descend", "10.77.20.12").out.startswith(f"{pointer} PTR is kiln-02")
    assert demo("snapshot", "now.jsonl", "10.77.20.12", "--types", "PTR").status == 0
    assert f'"name":"{pointer}"' in (tmp_path / "now.jsonl").read_text(encoding="utf-8")


def test_a_misspelt_type_is_no_name(demo: Run) -> None:
    done = demo("ask", "kiln-03", "AAA", "--at", "dc-north")
    assert (done.status, done.out) == (2, "") and '"AAA" is no record type; did you mean AAAA?' in done.err
    assert demo("ask", "kiln-03", "kiln-01", "A", "--brief", "--at", "dc-north").status == 0


def test_an_internal_name_is_not_taken_to_the_root_unless_told(run: Run, demo: Run, world: World) -> None:
    root = world[1]["root-a"]
    before = root.asked
    call = ("descend", "kiln-03.pans.gullmarsh.internal", "--json")
    done = demo(*call)
    assert root.asked == before and done.status == 0
    assert done.report["legs"][0]["steps"][0]["zone"] == "pans.gullmarsh.internal."
    assert "--from-root begins at the root" in done.report["remarks"][0]
    told = demo(*call, "--from-root")
    assert root.asked > before and told.report["legs"][0]["steps"][0]["zone"] == "."
    refused = run("descend", "host.elsewhere.internal")
    assert refused.status == 2 and "--from-root asks the root all the same" in refused.err


def test_an_estate_may_give_a_port_with_the_address_and_needs_no_title(
    run: Run, served: Served, tmp_path: Path
) -> None:
    (server,) = served("salt.invalid", "@ 60 SOA ns h 1 2 3 4 5\n@ 60 NS ns\n@ 60 MX 0 .\n")
    text = f'[[zones]]\nname = "salt.invalid"\nservers = ["one"]\n[servers.one]\naddress = "127.0.0.1:{server.port}"\n'
    (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
    done = run("mail", "salt.invalid")
    assert done.status == 0 and done.out.splitlines()[1].startswith("estate.toml · ")
    assert parse_server("tcp://127.0.0.1:5353", "x").over == "tcp"
    over = run("ask", "salt.invalid", "MX", "--at", f"tcp://127.0.0.1:{server.port}")
    assert over.status == 0 and "over TCP" in over.out
    (tmp_path / "estate.toml").write_text(f"{text}port = 5353\n", encoding="utf-8")
    assert "say it once" in run("mail", "salt.invalid").err


def test_an_acceptance_names_a_code_that_there_is_and_may_name_an_address(
    run: Run, world: World, tmp_path: Path
) -> None:
    text = world[0].read_text(encoding="utf-8")
    path = world[0].with_name("accepting.toml")
    entry = '\n[[accept]]\ncode = "{code}"\nreason = "known"\naddress = "{address}"\n'
    path.write_text(text + entry.format(code="pair.no-pionter", address="*"), encoding="utf-8")
    refused = run("audit", "--estate", str(path))
    wrong = 'accept, entry 1, code: no code fits "pair.no-pionter"; did you mean "pair.no-pointer"?'
    assert refused.status == 2 and wrong in refused.err
    path.write_text(text + entry.format(code="pair.no-pointer", address="10.77.10.*"), encoding="utf-8")
    report = run("audit", "--only", "pairs", "--json", "--estate", str(path)).report
    assert [one["finding"]["address"] for one in report["audit"]["accepted"]] == ["10.77.10.13"]
    assert "2001:db8:77:20::12" in [one["address"] for one in report["findings"] if one["code"] == "pair.no-pointer"]
    path.unlink()


def test_audit_and_mail_judge_one_estate_alike(demo: Run) -> None:
    audited = demo("audit", "--only", "mail", "--json").report["findings"]
    for call in (("mail",), ("mail", "gullmarsh.example", "saltshop.example", "saltway.example")):
        alone = demo(*call, "--json").report["findings"]
        assert {(one["code"], one["name"], one["view"]) for one in alone} == {
            (one["code"], one["name"], one["view"]) for one in audited
        }


def test_a_transfer_without_zones_to_take_is_refused_and_not_passed_over(run: Run) -> None:
    done = run("pairs", "host.pans.example", "--transfer", "--at", "127.0.0.1:1")
    assert done.status == 2 and "--transfer takes the zones of an estate, and there is none here" in done.err


def test_the_parent_is_found_from_named_roots_when_no_resolver_answers(run: Run, served: Served) -> None:
    head = "$TTL 300\n@ SOA ns1 h 1 7200 1800 1209600 300\n"
    child = head + "@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    servers = served.serve("salt.marsh.example", child, child)
    cut = "salt NS ns1.salt\nsalt NS ns2.salt\nns1.salt A 192.0.2.1\nns2.salt A 198.51.100.2\n"
    (marsh,) = served.serve("marsh.example", head + f"@ NS p\np A 192.0.2.5\n{cut}")
    root = "@ NS r\nr A 192.0.2.9\nmarsh.example NS p.marsh.example\np.marsh.example A 192.0.2.5\n"
    (top,) = served.serve(".", head + root)
    reach = {"192.0.2.1": servers[0], "198.51.100.2": servers[1], "192.0.2.5": marsh, "192.0.2.9": top}
    more = 'find_servers_by = ["dead"]\n[roots]\nr = ["192.0.2.9"]\n[resolvers.dead]\naddress = "127.0.0.1:1"\n'
    served.publish("salt.marsh.example", servers, more, reach)
    done = run("authority", "salt.marsh.example", "--json", "--timeout", "0.3", "--tries", "1")
    assert found(done) == [] and done.report["sheets"][0]["parent"] == "marsh.example."


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
def test_lists_are_read_as_shells_and_spreadsheets_write_them(demo: Run, tmp_path: Path, encoding: str) -> None:
    names, records = tmp_path / "names", tmp_path / "records"
    names.write_bytes("kiln-01 A\r\nkiln-03 A\r\n".encode(encoding))
    records.write_bytes("name,type,value\r\nkiln-01.pans.gullmarsh.internal,A,10.77.20.11\r\n".encode(encoding))
    for words in (("--names", "names"), ("-",)):
        with names.open("rb") as given:
            done = demo("ask", *words, "--brief", "--at", "dc-north", stdin=given)
        assert (done.status, done.out.split()) == (0, ["10.77.20.11", "10.77.20.13"]), done.err
    with records.open("rb") as given:
        called = demo("rollcall", "-", "--at", "dc-north", stdin=given)
    assert called.out.startswith("1 of 1 record set is as expected."), called.err


def test_names_are_not_broken_inside_a_label_on_a_narrow_terminal() -> None:
    name = "a-very-long-host-name-indeed.of-a-zone.pans.gullmarsh.internal."
    text = Text(f"The pointer names {name} today, as ever.")
    assert [piece.plain for piece in pieces(text, 40)] == ["The pointer names", name, "today, as ever."]
    assert [piece.plain for piece in pieces(Text("short"), 40)] == ["short"]

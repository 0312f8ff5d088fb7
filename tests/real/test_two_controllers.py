"""A directory of three domain controllers in three sites, one of them read-only, on a network of their own: every situation is
made on the real servers, the truth is written beside it, and what the program says is held against that.

`make directory` runs it; never in CI, since it needs root, Debian's packages, and the extras `directory` and `kerberos`.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.directory import PASSWORD, missing
from support.lab import DOMAIN, Lab
from support.program import PROGRAM, Outcome

WHY_NOT = missing("bonsai") or missing("gssapi")
pytestmark = [pytest.mark.real, pytest.mark.skipif(bool(WHY_NOT), reason=WHY_NOT)]
BASE = ",".join(f"DC={part}" for part in DOMAIN.split("."))
FIRST = f"ldap://dcone.{DOMAIN}"


class Office:
    """The administrator's computer beside the controllers, with a folder and what it runs there."""

    def __init__(self, lab: Lab, folder: Path) -> None:
        self.lab = lab
        self.folder = folder

    def __call__(
        self, *command: str, user: str = "administrator", before: tuple[str, ...] = (), **more: str
    ) -> Outcome:
        return self.lab.call(*before, str(PROGRAM), *command, user=user, cwd=self.folder, more=more)

    def report(self, *command: str) -> dict[str, Any]:
        found: dict[str, Any] = self(*command, "--json").report
        return found

    def codes(self, *command: str) -> list[str]:
        """The codes of what is a fault, a caution or a doubt."""
        return sorted({one["code"] for one in self.report(*command)["findings"] if one["weight"] != "note"})

    def estate(self, servers: tuple[str, ...] = ("dcone", "dctwo", "dcread"), more: str = "", hosts: str = "") -> None:
        text = "".join(f'[servers.{one}]\naddress = "{self.lab.members[one].address}"\n' for one in servers)
        listed = ", ".join(f'"{one}"' for one in servers)
        for zone, expect in ((DOMAIN, bool(hosts)), (f"_msdcs.{DOMAIN}", False)):
            text += f'[[zones]]\nname = "{zone}"\nservers = [{listed}]\nkerberos = true\nshort_signature = true\n'
            text += 'expect = ["hosts.zone"]\n' if expect else ""
        text += more or f'[[directories]]\ndomain = "{DOMAIN}"\ndirectory = "{FIRST}"\n'
        (self.folder / "estate.toml").write_text(text, encoding="utf-8")
        (self.folder / "hosts.zone").write_text(hosts, encoding="utf-8")

    def dns(self, what: str, name: str, *record: str, zone: str = DOMAIN, at: str = "dcone") -> None:
        self.lab.tool("dns", what, self.lab.members[at].host, zone, name, *record)


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    made = Lab(tmp_path_factory.mktemp("lab"))
    try:
        made.open()
        made.provision("dcone", "10.77.0.10")
        for site in ("Sea", "Shore"):
            made.tool("sites", "create", site)
        made.tool("dns", "zonecreate", f"dcone.{DOMAIN}", "77.10.in-addr.arpa")
        made.join("dctwo", "10.77.0.11", "Sea")
        made.join("dcread", "10.77.0.12", "Shore", read_only=True)
        for one in made.members:
            made.register(one)
        made.tool("user", "create", "worker", PASSWORD)
        made.insist("kinit", "worker", stdin=PASSWORD + "\n", user="worker")
        made.replicate()
        yield made
    finally:
        made.close()


@pytest.fixture
def office(lab: Lab, tmp_path: Path) -> Office:
    return Office(lab, tmp_path)


def test_a_draft_leaves_nothing_to_fill_in_and_sweeps_no_network_that_the_directory_tells(office: Office) -> None:
    """Truth: three controllers, secure updates, an answer signed without a length, a network that leads nowhere, and a reverse
    zone of 65,536 addresses with no pointer."""
    done = office("draft", "--directory", FIRST, "--expect", "registered", "--view", "internal")
    assert done.status == 0, done.out + done.err
    assert int(done.out.partition(" questions in")[0].rsplit(maxsplit=1)[-1].replace(",", "")) < 2000
    estate = tomllib.loads((office.folder / "estate.toml").read_text(encoding="utf-8"))
    (directory,) = estate["directories"]
    assert directory["directory"] == FIRST and "controllers" not in directory
    assert all(zone["kerberos"] and zone["short_signature"] for zone in estate["zones"]) and len(estate["zones"]) == 3
    assert estate["resolver_tests"] == {"external": []}
    services = office.report("services")
    assert services["outcome"] == "agrees" and "3 of 3 domain controllers" in services["says"], json.dumps(services)
    assert office.codes("authority") == ["auth.few-servers", "auth.one-network"]
    pairs = office.report("pairs")
    assert any("was not swept: the directory told all of its pointers" in remark for remark in pairs["remarks"])
    views = office("views")
    assert views.status == 0 and "in one view" in views.out
    # What is registered on real controllers is mended on a real controller: the pointers, and nothing else.
    assert office("mend", "--apply", "--yes", "--undo", "undo").out.startswith("3 of 3 changes were carried out")
    assert office("mend", "--json").report["plan"]["changes"] == []


def test_replication_that_is_held_up_is_told_as_that_and_mended_by_nothing_but_itself(office: Office, lab: Lab) -> None:
    """Truth: brine was added on dcone, and dctwo takes nothing in."""
    office.estate(("dcone", "dctwo"), hosts="brine A 10.77.0.50\n")
    with lab.held("dctwo"):
        office.dns("add", "brine", "A", "10.77.0.50")
        assert office.codes("authority", DOMAIN) == ["auth.not-replicated", "auth.one-network"]
        apart = next(
            one for one in office.report("authority", DOMAIN)["findings"] if one["code"] == "auth.not-replicated"
        )
        assert "dcone: 10.77.0.50; dctwo: none" in apart["text"] and "DomainDnsZones" in apart["advice"]
        (roll,) = office.report("rollcall")["findings"]
        assert "look at the replication of DomainDnsZones to dctwo;" in roll["advice"], roll["advice"]
        everything = office("audit", "--all").out + office("mend").out
        assert "transfer the zone" not in everything and "no transfer will" not in everything
        assert office("mend", "--json").report["plan"]["changes"] == []
        lab.replicate()  # refused, since it is held up: and now that is told with the meaning of its number
        told = next(
            one for one in office.report("authority", DOMAIN)["findings"] if one["code"] == "auth.not-replicated"
        )
        assert "inbound replication is switched off here" in told["advice"], told["advice"]
    assert office.codes("authority", DOMAIN) == ["auth.one-network"] and office("rollcall").status == 0


def test_a_record_of_somebody_else_is_refused_alone(office: Office, lab: Lab) -> None:
    """Truth: brine is an administrator's; any user may add new names."""
    office.estate(("dcone",), hosts="brine A 10.77.0.51\nnewpan A 10.77.0.60\nnewpan2 A 10.77.0.61\n")
    done = office("mend", "--apply", "--yes", "--undo", "undo", user="worker")
    assert done.out.startswith("2 of 3 changes were carried out"), done.out
    assert "says so of a record that belongs to somebody else; it was not carried out" in done.out
    assert "short_signature" not in done.out and "10.77.0.50" in office("ask", f"brine.{DOMAIN}", "A").out
    lab.replicate()


def test_locators_of_msdcs_are_mended_with_a_ticket_though_it_says_nothing_of_updates(office: Office, lab: Lab) -> None:
    """Truth: one locator of dctwo and the read-only controller's GUID alias are gone."""
    alias = lab.guid("dcread")
    office.dns("delete", "_ldap._tcp.dc", "SRV", f"dctwo.{DOMAIN} 389 0 100", zone=f"_msdcs.{DOMAIN}")
    office.dns("delete", alias, "CNAME", f"dcread.{DOMAIN}", zone=f"_msdcs.{DOMAIN}")
    lab.replicate()
    office.estate()
    told = {one["name"]: one["text"] for one in office.report("services")["findings"] if one["weight"] == "fault"}
    assert (
        "missing: _ldap._tcp.dc._msdcs" in told[f"dctwo.{DOMAIN}."] and f"missing: {alias}" in told[f"dcread.{DOMAIN}."]
    )
    assert office("mend", "--apply", "--yes", "--undo", "undo").out.startswith("2 of 2 changes were carried out")
    lab.replicate()
    assert office("services").status == 0


def test_a_global_catalog_that_was_switched_off_leaves_four_sets_and_an_address(office: Office, lab: Lab) -> None:
    lab.catalog("dctwo", on=False)
    lab.replicate()
    office.estate()
    (told,) = [one for one in office.report("services")["findings"] if one["weight"] == "caution"]
    assert told["code"] == "dir.beyond-role" and "is registered for more than its roles (none beyond" in told["text"]
    removed = {(change["name"], change["type"]) for change in told["changes"]}
    assert len(removed) == 5 and (f"gc._msdcs.{DOMAIN}.", "A") in removed
    office("mend", "--apply", "--yes", "--undo", "undo")
    lab.replicate()
    assert office.codes("services") == []
    lab.catalog("dctwo", on=True)
    lab.register("dctwo")
    lab.replicate()
    assert office.codes("services") == []


def test_one_controllers_own_list_removes_nobody_elses_records(office: Office, lab: Lab) -> None:
    """Truth: everything is registered; the list has the records of dcone alone."""
    office.estate()
    lines = []
    for line in (lab.folder / "dcone" / "private" / "dns_update_cache").read_text(encoding="utf-8").splitlines():
        rdtype, name, *data = line.split()
        if rdtype == "SRV":
            lines.append(f"{name}. 600 IN SRV 0 100 {data[1]} {data[0]}.")
    (office.folder / "dcone.dns").write_text("\n".join(lines) + "\n", encoding="utf-8")
    done = office("rollcall", "--records", "dcone.dns")
    assert len(lines) > 15 and done.status == 0, done.out


def test_a_site_without_a_controller_is_told_until_a_near_one_covers_it(office: Office, lab: Lab) -> None:
    lab.tool("sites", "create", "Pier")
    lab.replicate()
    office.estate()
    assert office.codes("services") == ["dir.site-uncovered"]
    for name, zone, port in (
        ("_ldap._tcp.Pier._sites", DOMAIN, 389), ("_kerberos._tcp.Pier._sites", DOMAIN, 88),
        ("_ldap._tcp.Pier._sites.dc", f"_msdcs.{DOMAIN}", 389), ("_kerberos._tcp.Pier._sites.dc", f"_msdcs.{DOMAIN}", 88),
    ):  # fmt: skip
        office.dns("add", name, "SRV", f"dcone.{DOMAIN} {port} 0 100", zone=zone)
    lab.replicate()
    assert office.codes("services") == []
    assert "automatic site coverage" in office("services").out


def test_a_moved_controller_is_asked_for_in_its_new_site(office: Office, lab: Lab) -> None:
    """Truth: dctwo stands in Pier, and has registered nothing there; what dcone registered for Pier is over by that; Sea has
    nobody, and is covered by what is left of dctwo."""
    servers = "CN=Servers,CN={},CN=Sites,CN=Configuration," + BASE
    lab.move(f"CN=DCTWO,{servers.format('Sea')}", f"CN=DCTWO,{servers.format('Pier')}")
    office.estate()
    told = {one["code"]: one["text"] for one in office.report("services")["findings"] if one["weight"] != "note"}
    assert set(told) == {"dir.not-registered", "dir.old-site"}
    assert "_ldap._tcp.pier._sites" in told["dir.not-registered"] and f"dcone.{DOMAIN}. stands" in told["dir.old-site"]
    assert office("mend", "--apply", "--yes", "--undo", "undo").status in (0, 1)
    lab.replicate()
    assert office.codes("services") == []
    assert f"dctwo.{DOMAIN}. in Pier" in office("services").out


def test_the_next_controller_is_read_where_one_does_not_answer_and_a_ticket_that_fails_is_told_in_words(
    office: Office,
) -> None:
    office.estate(more=f'[[directories]]\ndomain = "{DOMAIN}"\ndirectory = "ldap://dcone.{DOMAIN}:390"\n')
    report = office.report("services")
    assert report["outcome"] == "agrees"
    assert any(
        "nothing answers on port 390" in one and "the directory was read from" in one for one in report["remarks"]
    )
    office.estate(more=f'[[directories]]\ndomain = "{DOMAIN}"\ndirectory = "{DOMAIN}"\n')
    assert office.report("services")["outcome"] == "agrees"
    office.estate()
    for before, more, says in (
        ((), {"KRB5CCNAME": f"FILE:{office.folder}/none"}, "there is no Kerberos ticket"),
        (("faketime", "+20 minutes"), {}, "this computer's clock is 1200 s ahead of"),
        (("faketime", "+20 days"), {}, "the Kerberos ticket has expired"),
    ):
        (finding,) = office("services", "--json", before=before, **more).report["findings"]
        assert says in finding["text"] and "GSS" not in finding["text"], finding["text"]
        (whole,) = office("services", "--json", "--detail", before=before, **more).report["findings"]
        assert "the library says" in whole["text"] and "GSS" in whole["text"]
    office.estate(more=f'[[directories]]\ndomain = "{DOMAIN}"\ndirectory = "ldap://10.77.0.10"\n')
    (finding,) = [one for one in office.report("services")["findings"] if one["code"] == "dir.unverified"] or [
        {"text": ""}
    ]
    assert not finding["text"] or "name the domain controller by its full name" in finding["text"]


def test_an_ad_bit_that_is_sent_back_is_no_validation(office: Office) -> None:
    office.estate(more='[resolvers.one]\naddress = "10.77.0.10"\n')
    done = office("resolvers", "--all", "--timeout", "0.5").out
    assert "came as authentic" not in done, done


def test_what_replication_left_twice_is_no_record_and_is_named(office: Office, lab: Lab) -> None:
    """Truth: rake was added on dcone and on dctwo while neither took anything in, with other addresses."""
    with lab.held("dcone", "dctwo"):
        office.dns("add", "rake", "A", "10.77.0.70")
        office.dns("add", "rake", "A", "10.77.0.71", at="dctwo")
    office.estate()
    remarks = [one for one in office.report("stale")["remarks"] if "rake" in one]
    assert remarks and "(CNF)" in remarks[0]
    drafted = office("draft", "--directory", FIRST, "--folder", "new")
    assert "rake in pans.gullmarsh.internal is there twice" in " ".join((drafted.out + drafted.err).split())


def test_a_controller_that_was_removed_badly_is_told_whole_and_its_records_go(office: Office, lab: Lab) -> None:
    """Truth: dctwo's object is deleted and its DNS is off; every record of it is still there, its own address too."""
    alias = lab.guid("dctwo")
    lab.stop("dctwo")
    lab.delete(f"CN=DCTWO,CN=Servers,CN=Pier,CN=Sites,CN=Configuration,{BASE}")
    office.estate(("dcone",))
    report = office.report("services")
    told = {one["code"]: one for one in report["findings"] if one["weight"] == "fault"}
    assert set(told) == {"dir.leftover", "dir.old-name-server"}
    gone = {(change["name"], change["type"]) for change in told["dir.leftover"]["changes"]}
    assert {(f"{alias}._msdcs.{DOMAIN}.", "CNAME"), (f"{DOMAIN}.", "A"), (f"gc._msdcs.{DOMAIN}.", "A")} <= gone
    assert {(f"{part}.{DOMAIN}.", "A") for part in ("domaindnszones", "forestdnszones")} <= gone
    assert (f"dctwo.{DOMAIN}.", "A") not in gone and len([key for key in gone if key[1] == "SRV"]) >= 16
    assert "[[directories.controllers]]" not in office("services", "--all").out
    done = office("mend", "--apply", "--yes", "--undo", "undo")
    assert f"{len(gone)} of {len(gone)} changes were carried out" in done.out, done.out
    left = office.report("services")
    assert {one["code"] for one in left["findings"] if one["outcome"] != "agrees"} == {"dir.unverified"}
    for zone in (DOMAIN, f"_msdcs.{DOMAIN}"):  # by hand, as the advice says
        office.dns("delete", "@", "NS", f"dctwo.{DOMAIN}", zone=zone)
    assert office.codes("services") == ["dir.site-uncovered"]  # Pier and Sea have nobody any more
    back = office("mend", "--back", "undo", "--yes", "--undo", "again")
    assert back.out.startswith(f"{len(gone)} of {len(gone)} sets restored."), back.out

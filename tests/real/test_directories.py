"""A directory of three domain controllers in three sites, one of them read-only, on a network of their own: every situation is
made on the real servers, the truth is written beside it, and what the program says is held against that.

`make directory` runs it; never in CI, since it needs root, Debian's packages, and the extras `directory` and `kerberos`.
"""

from __future__ import annotations

import base64
import json
import struct
import tomllib
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from salt_mirror.estate.aging import hours_since_1601
from support.estates import found
from support.lab import BASE, DOMAIN, PASSWORD, USER, Lab, why_not
from support.program import PROGRAM, Outcome

WHY_NOT = why_not()
pytestmark = [pytest.mark.real, pytest.mark.skipif(bool(WHY_NOT), reason=WHY_NOT)]
FIRST = f"ldap://dcone.{DOMAIN}"
ZONE_DN = f"DC={DOMAIN},CN=MicrosoftDNS,DC=DomainDnsZones,{BASE}"


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
        made.tool("user", "create", USER, PASSWORD)
        made.insist("kinit", USER, stdin=PASSWORD + "\n", user=USER)
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
    done = office("draft", "--directory", FIRST, "--expect", "registered", "--view", "internal", user=USER)
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
    roll = office.report("rollcall")
    assert roll["outcome"] == "agrees" and roll["counts"]["agrees"] > 20
    pairs = office.report("pairs")
    assert any("was not swept: the directory has all of its PTR records" in remark for remark in pairs["remarks"])
    views = office("views")
    assert views.status == 0 and "in one view" in views.out
    # What is registered on real controllers is mended on a real controller: the pointers, and nothing else.
    assert office("mend", "--apply", "--yes", "--undo", "undo").out.startswith("3 of 3 changes were carried out")
    assert office("mend", "--json").report["plan"]["changes"] == []


def test_a_password_goes_over_tls_alone_and_stays_out_of_everything(office: Office, lab: Lab) -> None:
    (office.folder / "password").write_text(f"{PASSWORD}\n", encoding="utf-8")
    login = ("--user", f"{USER}@{DOMAIN}", "--password-file", "password")
    secure, trust = f"ldaps://dcone.{DOMAIN}", ("--ca-file", str(lab.folder / "dcone" / "private" / "tls" / "ca.pem"))
    done = office("draft", "--directory", secure, *login, *trust, user=USER)
    assert done.status == 0, done.err
    assert PASSWORD not in done.out + done.err + (office.folder / "estate.toml").read_text(encoding="utf-8")
    assert (
        office("services", "--json", user="nobody").report["outcome"] == "agrees"
    )  # the estate knows whose password it is
    for url, more, says in (
        (secure, login, "its certificate is not trusted (--ca-file FILE"),
        (FIRST, login, "use ldaps://, or ldap:// with a Kerberos ticket"),
        (secure, (), "over TLS a ticket cannot seal"),
    ):
        failed = office("draft", "--directory", url, *more, "--folder", "new", user=USER)
        assert failed.status == 3 and says in failed.err, failed.err
    (office.folder / "password").write_text("wrong\n", encoding="utf-8")
    wrong = office("draft", "--directory", secure, *login, *trust, "--folder", "new")
    assert wrong.status == 3 and "it refused the user" in wrong.err and "wrong" not in wrong.err
    by_locators = office("draft", "--directory", DOMAIN, "10.77.0.10", "--folder", "new")
    estate = tomllib.loads((office.folder / "new" / "estate.toml").read_text(encoding="utf-8"))
    assert by_locators.status == 0 and [one["directory"] for one in estate["directories"]] == [DOMAIN]


def test_dynamic_records_keep_their_age_in_a_draft(office: Office) -> None:
    office.dns("add", "rake", "A", "10.77.0.51")
    office.estate(("dcone",), hosts="vat-01 A 10.77.0.71\n")
    assert office("mend", "vat-01", "--apply", "--yes", "--undo", "undo").out.startswith(
        "1 of 1 change was carried out"
    )
    assert office("draft", "--directory", FIRST, "--expect", "registered", "--folder", "new").status == 0
    lines = (office.folder / "new" / "records" / f"{DOMAIN}.zone").read_text(encoding="utf-8").splitlines()
    aged = {line.partition(".")[0]: "[AGE:" in line for line in lines if line.startswith(("vat-01.", "rake."))}
    assert aged == {"vat-01": True, "rake": False}


def written_back(lab: Lab, text: str) -> None:
    """Changes the first controller's copy as its administrator, on its own disk."""
    (lab.folder / "change.ldif").write_text(text, encoding="utf-8")
    done = lab.call("ldbmodify", "-H", f"{lab.folder}/dcone/private/sam.ldb", str(lab.folder / "change.ldif"))
    assert done.status == 0, done.err


def kept_in(attribute: str, *values: bytes) -> str:
    lines = "".join(f"{attribute}:: {base64.b64encode(value).decode('ascii')}\n" for value in values)
    return f"changetype: modify\nreplace: {attribute}\n{lines}"


def test_ages_are_seen_by_an_ordinary_user_and_what_has_aged_is_taken_away_and_stays_away(
    office: Office, lab: Lab
) -> None:
    """Truth: vat-01 is fresh, vat-02 needed and aged, vat-03 expected static, vat-04 aged, vat-05 a tombstone; hoe is
    static."""
    office.dns("add", "hoe", "A", "10.77.0.52")
    hosts = {f"vat-0{number}": f"10.77.0.7{number}" for number in range(1, 6)}
    office.estate(("dcone",), hosts="".join(f"{host} A {address}\n" for host, address in hosts.items()))
    assert "changes were carried out" in office("mend", "--apply", "--yes", "--undo", "undo", "--at-most", "50").out
    for host, days in (("vat-02", 40), ("vat-04", 94)):
        stamp, data = int(hours_since_1601(datetime.now(UTC))) - 24 * days, bytes(map(int, hosts[host].split(".")))
        head = struct.pack("<HHBBHI", 4, 1, 5, 0xF0, 0, 1) + struct.pack(">I", 900) + struct.pack("<II", 0, stamp)
        written_back(lab, f"dn: DC={host},{ZONE_DN}\n" + kept_in("dnsRecord", head + data))
    gone = struct.pack("<HHBBHI", 8, 0, 5, 0, 0, 1) + bytes(12) + struct.pack("<Q", 134_000_000_000_000_000)
    tombstone = kept_in("dnsRecord", gone) + "-\nreplace: dNSTombstoned\ndNSTombstoned: TRUE\n"
    written_back(lab, f"dn: DC=vat-05,{ZONE_DN}\n{tombstone}")
    properties = ((0x40, 1), (0x10, 168), (0x20, 168))
    packed = [struct.pack("<IIIIII", 4, 0, 0, 1, number, value) + b"\0" for number, value in properties]
    written_back(lab, f"dn: {ZONE_DN}\n" + kept_in("dNSProperty", *packed))
    office.estate(("dcone",), hosts="x")
    path = office.folder / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8").replace("hosts.zone", "hosts.csv"), encoding="utf-8")
    rows = "vat-02,A,10.77.0.72,\nhoe,A,10.77.0.52,dynamic\nvat-03,A,10.77.0.73,static\n"
    (office.folder / "hosts.csv").write_text(f"name,type,value,lifetime\n{rows}", encoding="utf-8")
    report = office("stale", "--json", "--forecast", "60d", user=USER).report
    told = {(one["code"], one["name"].partition(".")[0]) for one in report["findings"]}
    assert told == {
        ("age.still-needed", "vat-02"), ("age.not-static", "vat-03"), ("age.not-dynamic", "hoe"), ("age.stale", "vat-04"),
    }  # fmt: skip
    zone = next(one for one in report["ages"]["zones"] if one["zone"] == f"{DOMAIN}.")
    assert (zone["aging"], zone["no_refresh_h"], zone["refresh_h"]) == (True, 168, 168)
    assert zone["dynamic"] == 4 and zone["tombstones"] >= 1 and zone["sources"] == [FIRST]
    assert "clock" not in " ".join(report["remarks"])
    call = ("mend", "vat-04", "--apply", "--yes", "--choose", "remove", "--undo", "taken")
    assert "1 of 1 change was carried out, and every server has it" in office(*call).out
    again = office("stale", "--json", user=USER).report
    assert "vat-04" not in str(again["findings"]) and again["ages"]["stale"] == 0
    assert office("mend", "--back", "taken", "--yes", "--undo", "again").status == 0
    unread = office("stale", "--json", user="nobody")
    assert found(unread) == ["age.unverified"] and unread.status == 3 and unread.report["ages"]["stale"] == 0


def test_a_directory_takes_changes_by_ticket_and_the_way_back(office: Office) -> None:
    hosts = 'brine A 10.77.0.50\nmarsh A 10.77.0.52\nmarsh TXT "a; \\"b\\""\n'
    office.estate(("dcone",), hosts=hosts)
    nobody = office("mend", "--apply", "--yes", "--undo", "none", user="nobody")
    assert nobody.status == 1 and nobody.out.startswith("0 of 3 changes were carried out")
    assert "no Kerberos context with dcone" in nobody.out and "there is no Kerberos ticket" in nobody.out
    done = office("mend", "--apply", "--yes", "--undo", "undo", "--json").report
    assert [one["says"] for one in done["plan"]["carried"]] == ["done"] * 3 and not done["plan"]["late"]
    assert office.report("mend")["plan"]["changes"] == []
    back = office("mend", "--back", "undo", "--yes", "--undo", "again")
    assert back.status == 0 and back.out.startswith("3 of 3 sets restored.")
    # Its signatures leave out a length. Where that was not accepted, what the server has is the proof, and it is told.
    path = office.folder / "estate.toml"
    path.write_text(path.read_text(encoding="utf-8").replace("short_signature = true\n", ""), encoding="utf-8")
    strict = office("mend", "--apply", "--yes", "--undo", "third")
    assert strict.out.startswith("3 of 3 changes were carried out") and "short_signature = true" in strict.out
    assert "is not signed with the key" in strict.out
    unsigned = office.report("authority", DOMAIN, "--try-updates")
    assert {row["updates"] for row in unsigned["sheets"][0]["servers"] if row["server"] == "dcone"} == {
        "refused unsigned"
    }
    assert office("mend", "--back", "third", "--yes", "--undo", "last").out.startswith("3 of 3 sets restored.")


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
    done = office("mend", "--apply", "--yes", "--undo", "undo", user=USER)
    assert done.out.startswith("2 of 3 changes were carried out"), done.out
    assert "says so of a record that another account owns; it was not carried out" in done.out
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
    assert (
        "_ldap._tcp.pier._sites" in told["dir.not-registered"]
        and f"dcone.{DOMAIN}. is in the site" in told["dir.old-site"]
    )
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
        (("faketime", "+20 minutes"), {}, "this computer's clock is 120"),
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
    """Truth: sluice was added on dcone and on dctwo while neither took anything in, with other addresses."""
    with lab.held("dcone", "dctwo"):
        office.dns("add", "sluice", "A", "10.77.0.80")
        office.dns("add", "sluice", "A", "10.77.0.81", at="dctwo")
    office.estate()
    remarks = [one for one in office.report("stale")["remarks"] if "sluice" in one]
    assert remarks and "(CNF)" in remarks[0]
    drafted = office("draft", "--directory", FIRST, "--folder", "new")
    assert "sluice in pans.gullmarsh.internal is there twice" in " ".join((drafted.out + drafted.err).split())


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

"""Drafts from a real directory server, as an ordinary user: with a ticket, and with a password over TLS. Never in CI: it needs
root, Debian's packages, and the extra `directory`."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

from support.directory import DOMAIN, HOST, PASSWORD, USER, InDirectory, directory_server, missing
from support.program import PROGRAM, Outcome

pytestmark = [pytest.mark.real, pytest.mark.skipif(bool(missing("bonsai")), reason=missing("bonsai"))]
PLAIN = f"ldap://{HOST}"
LOGIN = ("--user", f"{USER}@{DOMAIN}", "--password-file", "password")


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("directory")


@pytest.fixture(scope="module")
def directory(place: Path) -> Iterator[InDirectory]:
    with directory_server(place) as server:
        yield server


def begin(folder: Path) -> None:
    """That the address which the controller publishes is this computer's loopback is the one thing to fill in by hand."""
    (folder / "estate.toml").write_text('[reach]\n"10.99.0.10" = "127.0.0.1"\n', encoding="utf-8")
    (folder / "password").write_text(f"{PASSWORD}\n", encoding="utf-8")


def draft(directory: InDirectory, folder: Path, *more: str) -> Outcome:
    return directory(str(PROGRAM), "draft", *more, "--view", "internal", "--add", user=USER, cwd=folder)


def test_an_ordinary_users_ticket_gives_an_estate_whose_services_are_sound(
    directory: InDirectory, tmp_path: Path
) -> None:
    begin(tmp_path)
    done = draft(directory, tmp_path, "--directory", PLAIN, "--expect", "registered")
    assert done.status == 0 and done.out.startswith("3 zones on 1 server: 3 zones, 1 server, 1 directory added"), (
        done.out
    )
    estate = tomllib.loads((tmp_path / "estate.toml").read_text(encoding="utf-8"))
    assert {zone["name"] for zone in estate["zones"]} == {DOMAIN, f"_msdcs.{DOMAIN}", "10.99.0.0/24"}
    assert {zone["name"] for zone in estate["zones"] if zone.get("kerberos")} == {DOMAIN, "10.99.0.0/24"}
    ((controller,),) = [one["domain controllers"] for one in estate["directories"]]
    assert (
        controller["host"] == HOST and controller["roles"] == ["pdc-emulator", "global-catalog"] and controller["guid"]
    )
    services = directory(str(PROGRAM), "services", "--json", user=USER, cwd=tmp_path).report
    assert services["outcome"] == "agrees" and services["counts"]["differs"] == 0, json.dumps(services["findings"])
    assert "1 of 1 domain controller" in services["says"] and "as far as" not in services["says"]
    roll = directory(str(PROGRAM), "rollcall", "--json", user=USER, cwd=tmp_path).report
    assert roll["outcome"] == "agrees" and roll["counts"]["agrees"] > 20


def test_a_password_goes_over_tls_alone_and_stays_out_of_everything(
    directory: InDirectory, place: Path, tmp_path: Path
) -> None:
    begin(tmp_path)
    ca_file = str(place / "t" / "private" / "tls" / "ca.pem")
    done = draft(directory, tmp_path, "--directory", f"ldaps://{HOST}", *LOGIN, "--ca-file", ca_file)
    assert done.status == 0, done.err
    assert PASSWORD not in done.out + done.err + (tmp_path / "estate.toml").read_text(encoding="utf-8")
    for url, more, says in (
        (f"ldaps://{HOST}", (*LOGIN,), "its certificate is not trusted (--ca-file FILE)"),
        (PLAIN, (*LOGIN,), "use ldaps://, or ldap:// with a Kerberos ticket"),
        (f"ldaps://{HOST}", (), "over TLS a ticket cannot seal"),
    ):
        failed = directory(str(PROGRAM), "draft", "--directory", url, *more, "--folder", "new", user=USER, cwd=tmp_path)
        assert failed.status == 3 and says in failed.err, failed.err
    (tmp_path / "password").write_text("wrong\n", encoding="utf-8")
    wrong = draft(
        directory, tmp_path, "--directory", f"ldaps://{HOST}", *LOGIN, "--ca-file", ca_file, "--folder", "new"
    )
    assert wrong.status == 3 and "it refused the user" in wrong.err and "wrong" not in wrong.err


def test_a_domain_leads_to_its_controllers_by_its_own_locators(directory: InDirectory, tmp_path: Path) -> None:
    begin(tmp_path)
    done = draft(directory, tmp_path, "--directory", DOMAIN, "127.0.0.1")
    assert done.status == 0 and "1 directory added" in done.out, done.out + done.err


def test_dynamic_records_keep_their_age(directory: InDirectory, tmp_path: Path) -> None:
    begin(tmp_path)
    assert draft(directory, tmp_path, "--directory", PLAIN).status == 0
    pytest.importorskip("gssapi")
    path = tmp_path / "estate.toml"
    text = path.read_text(encoding="utf-8").replace("kerberos = true ", "short_signature = true\nkerberos = true ")
    path.write_text(text.replace("servers =", 'expect = ["hosts.zone"]\nservers =', 1), encoding="utf-8")
    (tmp_path / "hosts.zone").write_text("vat-01 A 10.99.0.71\n", encoding="utf-8")
    mended = directory(str(PROGRAM), "mend", "vat-01", "--apply", "--yes", "--undo", "undo", cwd=tmp_path)
    assert "1 of 1 change was carried out" in mended.out or "2 of 2 changes were carried out" in mended.out, mended.out
    again = tmp_path / "again"
    again.mkdir()
    begin(again)
    assert draft(directory, again, "--directory", PLAIN, "--expect", "registered").status == 0
    lines = (again / "records" / "internal" / f"{DOMAIN}.zone").read_text(encoding="utf-8").splitlines()
    (dynamic,) = [line for line in lines if line.startswith("vat-01.")]
    (static,) = [line for line in lines if line.startswith("rake.")]
    assert "[AGE:" in dynamic and "[AGE:" not in static


def test_services_and_audit_read_the_controllers_from_the_directory(directory: InDirectory, tmp_path: Path) -> None:
    begin(tmp_path)
    assert draft(directory, tmp_path, "--directory", PLAIN).status == 0
    path = tmp_path / "estate.toml"
    before = path.read_text(encoding="utf-8").partition("# Read from the directory itself.")[0]
    path.write_text(
        f'{before}[[directories]]\ndomain = "{DOMAIN}"\nview = "internal"\ndirectory = "{PLAIN}"\n', encoding="utf-8"
    )
    services = directory(str(PROGRAM), "services", "--json", user=USER, cwd=tmp_path).report
    assert services["outcome"] == "agrees" and "dir.found" not in {one["code"] for one in services["findings"]}
    audit = directory(str(PROGRAM), "audit", "--only", "services", "--json", user=USER, cwd=tmp_path).report
    assert audit["counts"]["agrees"] == 1
    nobody = directory(str(PROGRAM), "services", "--json", user="nobody", cwd=tmp_path).report
    assert nobody["outcome"] == "unverified" and [one["code"] for one in nobody["findings"]] == ["dir.unverified"]

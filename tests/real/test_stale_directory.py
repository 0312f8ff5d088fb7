"""Ages in a real directory, as an ordinary user: static and dynamic records, stamps set back, aging on, a tombstone. Never in
CI: it needs root, Debian's packages, and the extras `directory` and `kerberos`."""

from __future__ import annotations

import base64
import struct
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from salt_mirror.estate.aging import hours_since_1601
from support.directory import DOMAIN, HOST, PASSWORD, USER, InDirectory, directory_server, missing
from support.estates import found
from support.program import PROGRAM

WHY = missing("bonsai") or missing("gssapi")
pytestmark = [pytest.mark.real, pytest.mark.skipif(bool(WHY), reason=WHY)]
ZONE_DN = f"DC={DOMAIN},CN=MicrosoftDNS,DC=DomainDnsZones,{','.join(f'DC={part}' for part in DOMAIN.split('.'))}"


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("directory")


@pytest.fixture(scope="module")
def directory(place: Path) -> Iterator[InDirectory]:
    with directory_server(place) as server:
        yield server


def estate(folder: Path, url: str, more: str = "") -> None:
    rows = "vat-02,A,10.99.0.72,\nrake,A,10.99.0.51,dynamic\nvat-03,A,10.99.0.73,static\n"
    (folder / "hosts.csv").write_text(f"name,type,value,lifetime\n{rows}", encoding="utf-8")
    (folder / "password").write_text(f"{PASSWORD}\n", encoding="utf-8")
    text = (
        f'[[zones]]\nname = "{DOMAIN}"\nview = "internal"\nservers = ["dc1"]\nkerberos = true\nshort_signature = true\n'
    )
    text += 'expect = ["hosts.csv"]\n[servers.dc1]\naddress = "127.0.0.1"\n'
    text += f'[[directories]]\ndomain = "{DOMAIN}"\nview = "internal"\ndirectory = "{url}"\n{more}'
    text += '[reach]\n"10.99.0.10" = "127.0.0.1"\n'
    (folder / "estate.toml").write_text(text, encoding="utf-8")


def set_back(directory: InDirectory, place: Path, host: str, address: str, days: int) -> None:
    """Writes a dynamic record whose last refresh was so many days ago, as the directory keeps it (MS-DNSP section 2.3.2.2)."""
    stamp = int(hours_since_1601(datetime.now(UTC))) - 24 * days if days else 0
    data = bytes(map(int, address.split(".")))
    raw = struct.pack("<HHBBHI", 4, 1, 5, 0xF0, 0, 1) + struct.pack(">I", 900) + struct.pack("<II", 0, stamp) + data
    encoded = base64.b64encode(raw).decode("ascii")
    change(
        directory, place, f"dn: DC={host},{ZONE_DN}\nchangetype: modify\nreplace: dnsRecord\ndnsRecord:: {encoded}\n"
    )


def change(directory: InDirectory, place: Path, text: str) -> None:
    """Changes the directory as its administrator, on its own disk."""
    (place / "change.ldif").write_text(text, encoding="utf-8")
    done = directory("ldbmodify", "-H", f"{place}/t/private/sam.ldb", str(place / "change.ldif"))
    assert done.status == 0, done.err


def test_ages_of_a_real_directory_are_seen_by_an_ordinary_user_over_kerberos_and_tls(
    directory: InDirectory, place: Path, tmp_path: Path
) -> None:
    estate(tmp_path, f"ldap://{HOST}")
    hosts = {f"vat-0{number}": f"10.99.0.7{number}" for number in range(1, 6)}
    (tmp_path / "wanted.csv").write_text(
        "name,type,value\n" + "".join(f"{host},A,{address}\n" for host, address in hosts.items()), encoding="utf-8"
    )
    text = (tmp_path / "estate.toml").read_text(encoding="utf-8")
    (tmp_path / "making.toml").write_text(text.replace("hosts.csv", "wanted.csv"), encoding="utf-8")
    made = directory(
        str(PROGRAM),
        "mend",
        "--apply",
        "--yes",
        "--undo",
        "undo",
        "--estate",
        "making.toml",
        "--at-most",
        "50",
        cwd=tmp_path,
    )
    assert "changes were carried out" in made.out, made.out + made.err
    # vat-01 fresh, vat-02 needed and aged, vat-03 should be static, vat-04 aged, vat-05 a tombstone; rake is static
    for host, days in (("vat-02", 40), ("vat-04", 94)):
        set_back(directory, place, host, hosts[host], days)
    tombstone = base64.b64encode(
        struct.pack("<HHBBHI", 8, 0, 5, 0, 0, 1) + bytes(12) + struct.pack("<Q", 134_000_000_000_000_000)
    ).decode("ascii")
    change(
        directory, place,
        f"dn: DC=vat-05,{ZONE_DN}\nchangetype: modify\nreplace: dnsRecord\ndnsRecord:: {tombstone}\n-\n"
        "replace: dNSTombstoned\ndNSTombstoned: TRUE\n",
    )  # fmt: skip
    properties = [
        base64.b64encode(struct.pack("<IIIIII", 4, 0, 0, 1, number, value) + b"\0").decode("ascii")
        for number, value in ((0x40, 1), (0x10, 168), (0x20, 168))
    ]
    lines = "".join(f"dNSProperty:: {one}\n" for one in properties)
    change(directory, place, f"dn: {ZONE_DN}\nchangetype: modify\nreplace: dNSProperty\n{lines}")
    login = f'user = "{USER}@{DOMAIN}"\npassword_file = "password"\nca_file = "{place}/t/private/tls/ca.pem"\n'
    for url, more in ((f"ldap://{HOST}", ""), (f"ldaps://{HOST}", login)):
        estate(tmp_path, url, more)
        done = directory(str(PROGRAM), "stale", "--json", "--forecast", "60d", user=USER, cwd=tmp_path)
        told = {(one["code"], one["name"].partition(".")[0]) for one in done.report["findings"]}
        assert told == {
            ("age.still-needed", "vat-02"), ("age.not-static", "vat-03"), ("age.not-dynamic", "rake"), ("age.stale", "vat-04"),
        }, (url, done.out)  # fmt: skip
        (zone,) = done.report["ages"]["zones"]
        assert (zone["aging"], zone["no_refresh_h"], zone["refresh_h"]) == (True, 168, 168)
        assert zone["dynamic"] == 4 and zone["tombstones"] == 1 and zone["sources"] == [url]
        assert "clock" not in " ".join(done.report["remarks"])


def test_what_no_longer_belongs_is_taken_away_and_stays_away(directory: InDirectory, tmp_path: Path) -> None:
    """After the test before: the aged host is removed by an update on the real server, and nothing of it is told again."""
    estate(tmp_path, f"ldap://{HOST}")
    call = ("mend", "vat-04", "--apply", "--yes", "--choose", "remove", "--undo", "undo")
    mended = directory(str(PROGRAM), *call, cwd=tmp_path)
    assert "1 of 1 change was carried out, and every server has it" in mended.out, mended.out + mended.err
    again = directory(str(PROGRAM), "stale", "--json", user=USER, cwd=tmp_path).report
    assert "vat-04" not in str(again["findings"]) and again["ages"]["stale"] == 0
    back = directory(str(PROGRAM), "mend", "--back", "undo", "--yes", "--undo", "again", cwd=tmp_path)
    assert back.status == 0, back.out + back.err


def test_a_directory_that_cannot_be_read_leaves_ages_unknown(directory: InDirectory, tmp_path: Path) -> None:
    estate(tmp_path, f"ldap://{HOST}")
    done = directory(str(PROGRAM), "stale", "--json", user="nobody", cwd=tmp_path)
    assert found(done) == ["age.unverified"] and done.status == 3
    assert "credentials" in done.report["findings"][0]["text"] and done.report["ages"]["stale"] == 0

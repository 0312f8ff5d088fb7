"""Directories: their records as bytes, their objects as a table, and servers that lie, stall and break off."""

from __future__ import annotations

import contextlib
import importlib.util
import os
import socket
import struct
import sys
import uuid
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.draft.learnt import LearntZone
from salt_mirror.cli.directories import read_first, remarks_of
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import AAAA, CNAME, MX, NS, PTR, SOA, SRV, TXT, A, rdata_from_text, rdata_text
from salt_mirror.dns.tickets import ticket_trouble
from salt_mirror.estate.directory.found import Access, DirectoryFailed, FoundDirectory
from salt_mirror.estate.directory.inbound import inbound_of, ways_of
from salt_mirror.estate.directory.layout import BadLayout, read_property, read_record
from salt_mirror.estate.directory.learning import domain_of, learn
from salt_mirror.estate.directory.objects import Entry, rdns
from salt_mirror.estate.directory.reading import read_directory
from support.peers import peer
from support.program import Run

DOMAIN = "pans.gullmarsh.internal"
BASE = "DC=pans,DC=gullmarsh,DC=internal"
SETTINGS = f"CN=Configuration,{BASE}"
LABELS = st.text("abcxyz-19", min_size=1, max_size=63)


def counted(name: str) -> bytes:
    """A name as a directory keeps it: its length, the number of labels, the labels."""
    wire = b"".join(bytes([len(label)]) + label.encode() for label in name.rstrip(".").split(".") if label) + b"\0"
    return bytes([len(wire), len([label for label in name.rstrip(".").split(".") if label])]) + wire


def kept(rdtype: int, data: bytes, *, ttl: int = 900, age_h: int = 0, rank: int = 0xF0) -> bytes:
    return (
        struct.pack("<HHBBHI", len(data), rdtype, 5, rank, 0, 1)
        + struct.pack(">I", ttl)
        + struct.pack("<II", 0, age_h)
        + data
    )


RECORDS = [
    # As a real server keeps them (recorded), and each other type by the same layout.
    ("2500210005f00000010000000000038400000000000000000000006401d01d04036463310470616e730967756c6c6d6172736808696e7465726e616c00",
     SRV, "0 100 464 dc1.pans.gullmarsh.internal."),
    ("5900060005f000000100000000000e1000000000000000000000000100000384000002580001518000000e101d04036463310470616e730967756c6c6d61"
     "72736808696e7465726e616c0024040a686f73746d61737465720470616e730967756c6c6d6172736808696e7465726e616c00",
     SOA, "dc1.pans.gullmarsh.internal. hostmaster.pans.gullmarsh.internal. 1 900 600 86400 3600"),
    ("0400010005f0000003000000000003840000000000000000" "0a630033", A, "10.99.0.51"),
]  # fmt: skip


@pytest.mark.parametrize(("raw", "rdtype", "text"), RECORDS)
def test_records_of_a_real_directory_are_read(raw: str, rdtype: int, text: str) -> None:
    found = read_record(bytes.fromhex(raw))
    assert (found.rdtype, found.rank, found.age_h) == (rdtype, 0xF0, 0) and found.rdata is not None
    assert rdata_text(rdtype, found.rdata) == text and found.ttl == (3600 if rdtype == SOA else 900)


@pytest.mark.parametrize(
    ("rdtype", "data", "text"),
    [
        (AAAA, bytes.fromhex("20010db8007700000000000000000001"), "2001:db8:77::1"),
        (NS, counted("ns.example"), "ns.example."),
        (CNAME, counted("Web.Example"), "web.example."),
        (PTR, counted("host.example"), "host.example."),
        (MX, b"\x00\x0a" + counted("smtp.example"), "10 smtp.example."),
        (TXT, b"\x03one\x02zw", '"one" "zw"'),
    ],
)
def test_every_type_becomes_what_the_wire_has(rdtype: int, data: bytes, text: str) -> None:
    found = read_record(kept(rdtype, data, ttl=3600, age_h=3_700_000))
    assert (found.ttl, found.age_h) == (3600, 3_700_000)
    assert found.rdata == rdata_from_text(rdtype, text)


@given(st.lists(LABELS, min_size=1, max_size=3).map(".".join), st.integers(0, 0xFFFF))
def test_names_come_back_as_they_were_kept(name: str, priority: int) -> None:
    data = priority.to_bytes(2, "big") + counted(name)
    assert read_record(kept(MX, data)).rdata == priority.to_bytes(2, "big") + from_text(name)


@given(st.sampled_from([bytes.fromhex(raw) for raw, *_ in RECORDS]), st.integers(0, 200), st.binary(max_size=4))
def test_what_is_damaged_is_told_and_never_guessed(raw: bytes, at: int, put: bytes) -> None:
    for damaged in (raw[: at % len(raw)], raw[: at % len(raw)] + put + raw[at % len(raw) + len(put) :], raw + put):
        try:
            found = read_record(damaged)
        except BadLayout:
            continue
        assert found.rdata is None or len(damaged) == 24 + int.from_bytes(damaged[:2], "little")
    with contextlib.suppress(BadLayout):
        read_property(put + raw[:at])


def test_distinguished_names_are_taken_apart() -> None:
    assert rdns(r"CN=a\,b,CN=Caf\c3\a9,DC=x") == [("CN", "a,b"), ("CN", "Café"), ("DC", "x")]
    assert domain_of(BASE) == DOMAIN


class Objects:
    """A directory as a table of objects."""

    def __init__(self) -> None:
        self.objects: list[tuple[str, str, dict[str, list[bytes | str]]]] = []
        two = uuid.UUID(int=2).bytes_le
        self.add(
            "", "root", defaultNamingContext=BASE, rootDomainNamingContext=BASE, configurationNamingContext=SETTINGS
        )
        self.add(
            BASE, "domain", objectGUID=uuid.UUID(int=1).bytes_le, fSMORoleOwner=self.settings("NORTH", "North-Pans")
        )
        self.controller("NORTH", "North-Pans", options="1", objectGUID=two, hasMasterNCs=BASE)
        self.controller("KILN", "Kiln-House", options="0", hasMasterNCs=BASE)
        self.controller("OTHER", "Kiln-House", options="1", hasMasterNCs=f"DC=other,{BASE}")
        self.add(self.settings("GONE", "Kiln-House"), "nTDSDSA", hasMasterNCs=BASE)  # without a host
        self.add(
            f"CN=1,CN=Partitions,{SETTINGS}", "crossRef", dnsRoot=f"DomainDnsZones.{DOMAIN}",
            nCName=f"DC=DomainDnsZones,{BASE}", **{"msDS-NC-Replica-Locations": self.settings("KILN", "Kiln-House")},
        )  # fmt: skip
        for number, site in enumerate(("North-Pans", "Kiln-House")):
            self.add(f"CN={site},CN=Sites,{SETTINGS}", "site", cn=site)
            self.add(
                f"CN=s{number},CN=Sites,{SETTINGS}",
                "subnet",
                cn=f"10.77.{number}.0/24",
                siteObject=f"CN={site},CN=Sites",
            )
        self.add(f"CN=bad,CN=Sites,{SETTINGS}", "subnet", cn="10.77.0.1/24")

    @staticmethod
    def settings(host: str, site: str) -> str:
        return f"CN=NTDS Settings,CN={host},CN=Servers,CN={site},CN=Sites,{SETTINGS}"

    def controller(self, host: str, site: str, **values: bytes | str) -> None:
        dn = self.settings(host, site)
        self.add(dn.partition(",")[2], "server", dNSHostName=f"DC-{host}.{DOMAIN}")
        self.add(dn, "nTDSDSA", **values)

    def zone(
        self, name: str, partition: str, nodes: dict[str, list[bytes]], *, dead: frozenset[str] = frozenset()
    ) -> None:
        dn = f"DC={name},CN=MicrosoftDNS,{partition}"
        self.add(dn, "dnsZone", name=name)
        for label, records in nodes.items():
            self.objects.append((f"DC={label},{dn}", "dnsNode", {
                "name": [label], "dnsrecord": list(records), "dnstombstoned": ["TRUE" if label in dead else "FALSE"],
            }))  # fmt: skip

    def add(self, dn: str, kind: str, **values: bytes | str) -> None:
        self.objects.append((dn, kind, {name.lower(): [value] for name, value in values.items()}))

    def root(self) -> Entry:
        return Entry("", self.objects[0][2])

    def search(self, base: str, wanted: str, attributes: Sequence[str], *, below: bool = False) -> Iterator[Entry]:
        for dn, kind, values in self.objects:
            right_below = dn.partition(",")[2].lower() == base.lower()
            if f"objectClass={kind})" in wanted and dn.lower().endswith(base.lower()) and (right_below or not below):
                yield Entry(dn, values)

    def at(self, dn: str, attributes: Sequence[str]) -> Entry | None:
        return next((Entry(one, values) for one, _, values in self.objects if one.lower() == dn.lower()), None)


@pytest.mark.parametrize(
    ("said", "ahead"), [("20261126020500.0Z", 300.0), ("2026-11-26 01:59:00+00:00", -60.0), ("noon", None), ("", None)]
)
def test_a_clock_that_is_off_is_seen(said: str, ahead: float | None) -> None:
    class Telling(Objects):
        def root(self) -> Entry:
            dn, values = super().root()
            return Entry(dn, dict(values) | {"currenttime": [said]})

    assert learn(Telling(), datetime(2026, 11, 26, 2, 0, tzinfo=UTC)).clock_s == ahead


def test_what_a_directory_has_is_what_is_learnt() -> None:
    objects = Objects()
    partition = f"DC=DomainDnsZones,{BASE}"
    address = kept(A, bytes((10, 77, 0, 5)))
    objects.zone(DOMAIN, partition, {
        "@": [kept(NS, counted(f"dc-kiln.{DOMAIN}"))], "dc-north": [address],
        "rake.stores": [kept(A, bytes((10, 77, 0, 9)), age_h=9)], "old": [kept(0, bytes(8))],
        "odd": [address[:-1], kept(99, b"x")], "below": [kept(NS, counted("ns.example"), rank=0x82)],
    }, dead=frozenset(("old",)))  # fmt: skip
    objects.zone("RootDNSServers", partition, {"@": [kept(NS, counted("a.example"), rank=0x08)]})
    objects.zone("..TrustAnchors", partition, {})
    objects.zone("system.example", f"CN=System,{BASE}", {})
    found = learn(objects)
    assert (found.domain, found.forest, found.guid) == (DOMAIN, DOMAIN, str(uuid.UUID(int=1)))
    assert [(one.host, one.site, one.roles, one.holds_zones) for one in found.controllers] == [
        (f"dc-kiln.{DOMAIN}", "Kiln-House", [], True),
        (f"dc-north.{DOMAIN}", "North-Pans", ["pdc-emulator", "global-catalog"], False),
    ]  # fmt: skip
    assert found.controllers[1].guid == str(uuid.UUID(int=2))
    assert [(one.network, one.site) for one in found.networks] == [
        ("10.77.0.0/24", "North-Pans"),
        ("10.77.1.0/24", "Kiln-House"),
    ]
    assert len(found.remarks) == 1 or "10.77.0.1/24" in str(found.remarks)
    zone, system = found.zones
    assert (zone.partition, zone.hosts) == ("DomainDnsZones", [f"dc-kiln.{DOMAIN}"])
    assert system.hosts == [f"dc-kiln.{DOMAIN}", f"dc-north.{DOMAIN}"]
    assert {(one.name, one.rdtype, one.age_h) for one in zone.records} == {
        (from_text(DOMAIN), NS, 0), (from_text(f"dc-north.{DOMAIN}"), A, 0), (from_text(f"rake.stores.{DOMAIN}"), A, 9),
    }  # fmt: skip
    assert (zone.tombstones, zone.unread) == (1, 2)


def test_conflict_objects_and_what_cannot_be_read_are_no_records_and_are_named() -> None:
    objects = Objects()
    partition = f"DC=DomainDnsZones,{BASE}"
    twin = "brine\nCNF:6d21d1a6-7bb8-4a0c-9a3d-0d7f1b7a3c11"
    address = kept(A, bytes((10, 77, 0, 5)))
    objects.zone(DOMAIN, partition, {"brine": [address], twin: [address], "odd": [address[:-1], address[:-2]]})
    objects.zone(f"{DOMAIN}\nCNF:6d21d1a6-7bb8-4a0c-9a3d-0d7f1b7a3c12", partition, {"x": [address]})
    objects.add(
        f"CN=KILN\\0ACNF:6d21d1a6-7bb8-4a0c-9a3d-0d7f1b7a3c13,CN=Servers,CN=Kiln-House,CN=Sites,{SETTINGS}", "server"
    )
    found = learn(objects)
    (zone,) = found.zones
    assert {one.name for one in zone.records} == {from_text(f"brine.{DOMAIN}")} and zone.unread == 2
    assert sorted((one.name, one.place, one.why) for one in found.lost) == [
        ("KILN", "the domain controllers", "conflict"), ("brine", DOMAIN, "conflict"), ("odd", DOMAIN, "unreadable"),
        (DOMAIN, "the zones", "conflict"),
    ]  # fmt: skip
    said = remarks_of(found, "ldaps://dc")
    assert "ldaps://dc: brine in pans.gullmarsh.internal is there twice" in said[1] and "(CNF)" in said[1]
    assert any("odd in pans.gullmarsh.internal could not be read" in one for one in said)


# As a real controller keeps it: from the one with this GUID, last at this second, nothing failed.
REPS_FROM = bytes.fromhex(
    "01000000000000001801000000000000" "6c751c2103000000" "6c751c2103000000" "00000000" "d0000000" "48000000" "70000000"
    + "11" * 84 + "00000000" + "e50f000000000000" "0000000000000000" "e50f000000000000"
    "357459e8e037c946a0f3a6b5cd35502c" "80ec9f31599ac945854e05b0f751969f"
).ljust(280, b"\0")  # fmt: skip
NEIGHBOUR = (
    "<DS_REPL_NEIGHBOR><pszNamingContext>DC=DomainDnsZones</pszNamingContext><pszSourceDsaDN>CN=NTDS Settings,CN=DC-KILN,"
    "CN=Servers,CN=Kiln-House,CN=Sites</pszSourceDsaDN><uuidSourceDsaObjGuid>00000000-0000-0000-0000-000000000009"
    "</uuidSourceDsaObjGuid><ftimeLastSyncSuccess>2026-11-29T08:35:56Z</ftimeLastSyncSuccess><dwLastSyncResult>1722"
    "</dwLastSyncResult><cNumConsecutiveSyncFailures>41</cNumConsecutiveSyncFailures></DS_REPL_NEIGHBOR>"
)


def test_how_changes_come_to_a_controller_is_read_in_both_forms() -> None:
    moment = datetime(2026, 11, 29, 8, 38, 4, tzinfo=UTC).timestamp()
    (way,) = ways_of(Entry("", {"repsfrom": [REPS_FROM], "msds-ncreplinboundneighbors": [NEIGHBOUR]}))
    assert (way.guid, way.failures, way.error) == ("e8597435-37e0-46c9-a0f3-a6b5cd35502c", 0, 0)
    assert way.succeeded == moment
    objects = Objects()
    objects.zone(DOMAIN, f"DC=DomainDnsZones,{BASE}", {})
    objects.add(f"DC=DomainDnsZones,{BASE}", "domainDNS", **{"msDS-NCReplInboundNeighbors": NEIGHBOUR})
    (one,) = inbound_of(objects, "dc-north", learn(objects))
    assert (one.partition, one.source, one.failures, one.error) == ("DomainDnsZones", f"dc-kiln.{DOMAIN}", 41, 1722)
    assert one.succeeded == datetime(2026, 11, 29, 8, 35, 56, tzinfo=UTC).timestamp()


@given(st.binary(max_size=300), st.text(max_size=200), st.integers(0, 300), st.binary(max_size=4))
def test_a_state_that_is_no_state_is_passed_over(raw: bytes, text: str, at: int, put: bytes) -> None:
    damaged = REPS_FROM[:at] + put + REPS_FROM[at + len(put) :]
    broken = NEIGHBOUR[:at] + text + NEIGHBOUR[at:]
    for one in ([raw], [damaged]):
        for way in ways_of(Entry("", {"repsfrom": one, "msds-ncreplinboundneighbors": [text, broken]})):
            assert way.failures >= 0 and way.error >= 0


def test_the_delegation_of_msdcs_its_aliases_and_what_is_secure_by_default_are_told_without_every_record() -> None:
    objects = Objects()
    partition = f"DC=DomainDnsZones,{BASE}"
    gone = kept(NS, counted(f"dc-gone.{DOMAIN}"), rank=0x82)
    objects.zone(DOMAIN, partition, {"_msdcs": [gone], "rake": [kept(A, bytes((10, 77, 0, 9)))]})
    alias = kept(CNAME, counted(f"dc-kiln.{DOMAIN}"))
    objects.zone(f"_msdcs.{DOMAIN}", partition, {"5a17e000-0a00-4000-8000-00000000d0d0": [alias]})
    domain, msdcs = learn(objects, records=False).zones
    assert domain.delegated == [from_text(f"dc-gone.{DOMAIN}")] and not domain.records
    assert [one.rdata for one in msdcs.records] == [from_text(f"dc-kiln.{DOMAIN}")]
    assert msdcs.secure_updates is None
    zone = LearntZone(msdcs.apex, "in the directory")
    zone.take_kept(msdcs)
    assert zone.signed_changes and not zone.updates_told  # secure alone, as is usual; and that it was not said is said


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("No Kerberos credentials available (default cache: FILE:/tmp/krb5cc_0)", "there is no Kerberos ticket"),
        ("No credentials cache found", "there is no Kerberos ticket"),
        ("Minor code may provide more information (Ticket expired)", "has expired"),
        (
            "Clock skew too great",
            "this computer's clock is 1200 s ahead of that of dc.example, and Kerberos takes 300 s",
        ),
        (
            "Server not found in Kerberos database",
            "there is no service ldap/dc.example: name the domain controller by its full",
        ),
        ("Cannot contact any KDC for realm 'PANS'", "no Kerberos server of the realm"),
        ("0x8009030e", "there is no Kerberos ticket"),
        ("something new", ""),
    ],
)
def test_what_keeps_a_ticket_from_being_taken_is_said_in_words(text: str, says: str) -> None:
    said = ticket_trouble(text, "ldap/dc.example", -1200.0)
    assert said.startswith(says) if not says or says[0] in "tn" else says in said
    assert ("credentials" not in said) and ("Minor code" not in said)


def test_a_server_that_is_no_directory_is_told() -> None:
    empty = Objects()
    empty.objects[0] = ("", "root", {})
    with pytest.raises(DirectoryFailed, match="no domain and no configuration"):
        learn(empty)


def _stall(connection: socket.socket) -> None:
    connection.recv(4096)
    connection.settimeout(30)
    connection.recv(4096)


def _garbage(connection: socket.socket) -> None:
    connection.recv(4096)
    connection.sendall(b"\x30\x84\xff\xff\xff\xff" + bytes(range(256)) * 40)
    _stall(connection)


def _drop(connection: socket.socket) -> None:
    connection.recv(4096)


@pytest.mark.parametrize("scheme", ["ldap", "ldaps"])
@pytest.mark.parametrize("serve", [_stall, _garbage, _drop])
def test_a_directory_that_stalls_lies_or_breaks_off_is_given_up(serve: object, scheme: str) -> None:
    if importlib.util.find_spec("bonsai") is None:
        lacking = "the extra directory is not installed (make test installs it where the system's LDAP headers are)"
        pytest.fail(lacking) if os.environ.get("CI") else pytest.skip(lacking)
    with peer(tcp=serve) as port, pytest.raises(DirectoryFailed) as failed:  # type: ignore[arg-type]
        read_directory(Access(url=f"{scheme}://127.0.0.1:{port}", user="worker", password="x"), silence_s=1.5)
    assert "not installed" not in str(failed.value)


def test_a_draft_and_an_audit_go_on_without_a_directory_that_cannot_be_read(run: Run, tmp_path: Path) -> None:
    with peer(tcp=_drop) as port:
        url = f"ldaps://127.0.0.1:{port}"
        (tmp_path / "password").write_text("salt", encoding="utf-8")
        done = run("draft", "--directory", url, "--user", "worker", "--password-file", "password")
        assert done.status == 3 and f"The directory {url} could not be read" in done.err and "Traceback" not in done.err
        (tmp_path / "estate.toml").write_text(
            f'[[zones]]\nname = "{DOMAIN}"\nservers = ["one"]\n[servers.one]\naddress = "127.0.0.1"\nport = 9\n'
            f'[[directories]]\ndomain = "{DOMAIN}"\ndirectory = "{url}"\nuser = "worker"\npassword_file = "password"\n',
            encoding="utf-8",
        )
        report = run("services", "--json").report
        assert report["outcome"] == "unverified"
        (finding,) = report["findings"]
        assert finding["code"] == "dir.unverified" and f"could not be read ({url}" in finding["text"]
        assert "the library says" not in finding["text"]
        (whole,) = run("services", "--json", "--detail").report["findings"]
        assert "the library says: " in whole["text"]
        remarks = run("authority", "--json", "--timeout", "0.1", "--tries", "1").report["remarks"]
        assert any("could not be read" in one and "from their SOA records" in one for one in remarks), remarks
        assert "dir.unverified" in {one["code"] for one in run("audit", "--json").report["findings"]}


def test_where_one_controller_does_not_answer_the_next_is_read_and_both_are_told(run: Run, tmp_path: Path) -> None:
    found = learn(Objects())
    asked: list[str] = []

    def read(url: str) -> FoundDirectory:
        asked.append(url)
        if url != "ldaps://two":
            raise DirectoryFailed("no connection")
        return found

    assert read_first(["ldaps://one", "ldaps://two", "ldaps://three"], read) == (
        found, "ldaps://two", ["ldaps://one: no connection"],
    )  # fmt: skip
    assert asked == ["ldaps://one", "ldaps://two"]
    with pytest.raises(DirectoryFailed, match="ldaps://one: no connection; ldaps://three: no connection"):
        read_first(["ldaps://one", "ldaps://three"], read)
    with peer(tcp=_drop) as first, peer(tcp=_drop) as second:
        urls = [f"ldaps://127.0.0.1:{port}" for port in (first, second)]
        (tmp_path / "password").write_text("salt", encoding="utf-8")
        (tmp_path / "estate.toml").write_text(
            f'[[zones]]\nname = "{DOMAIN}"\nservers = ["one"]\n[servers.one]\naddress = "127.0.0.1"\nport = 9\n'
            f'[[directories]]\ndomain = "{DOMAIN}"\ndirectory = {urls}\nuser = "worker"\npassword_file = "password"\n',
            encoding="utf-8",
        )
        (finding,) = run("services", "--json").report["findings"]
        assert finding["code"] == "dir.unverified" and all(f"{url}: " in finding["text"] for url in urls)


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        ('directory = ["ldaps://dc.example", "https://dc.example"]', "is no directory; expected one such as ldaps://"),
        ('directory = "https://dc.example"', "is no directory; expected one such as ldaps://"),
        ('directory = "ldaps://dc.example"\nsites = ["a"]', "says directory, which has sites too"),
        ('directory = "ldaps://dc.example"\nuser = "worker"', "wants either password_file or password_env"),
        ('user = "worker"', 'say how to read a directory = "ldaps://…"'),
    ],
)
def test_a_directory_that_cannot_be_meant_is_an_error(run: Run, tmp_path: Path, lines: str, says: str) -> None:
    text = f'[[zones]]\nname = "{DOMAIN}"\n[[directories]]\ndomain = "{DOMAIN}"\n{lines}\n'
    (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
    done = run("services")
    assert done.status == 2 and says in done.err.replace("\n", " ")


def test_a_password_is_never_taken_from_nowhere(run: Run) -> None:
    done = run("draft", "--directory", "ldaps://127.0.0.1:9", "--user", "worker")
    assert done.status == 2 and "SALT_MIRROR_DIRECTORY_PASSWORD" in done.err and sys.executable

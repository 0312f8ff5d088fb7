"""Lists of hosts as they lie about: leases, hosts files, tables with other people's columns, exports with age marks; found by
their content or named, in every command that reads lists."""

from __future__ import annotations

import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.forms import Networks
from salt_mirror.estate.lists.spec import PLAIN, ListSpec
from salt_mirror.estate.sources import FORMS, form_of, read_given
from salt_mirror.estate.table import TableLayout
from support import realservers
from support.program import Run
from support.waiting import until

ZONE = from_text("pans.example")
NOW = 1_800_000_000.0
NETWORKS = Networks({"10.77.0.0/16": "pans.example", "10.77.20.0/24": "kiln.example", "2001:db8::/32": "six.example"})


def said(found: list[Expectation]) -> list[str]:
    return [f"{to_text(one.name)} {type_text(one.rdtype)} {rdata_text(one.rdtype, one.rdata)}" for one in found]


def read(text: str, spec: ListSpec = PLAIN, problems: list[Unusable] | None = None) -> list[Expectation]:
    return read_given(text, ZONE, problems, spec, NETWORKS, now=NOW)


ISC = """# The format of this file is documented in dhcpd.leases(5)
authoring-byte-order little-endian;
lease 10.77.20.11 {
  starts 4 2026/11/26 10:00:00;
  ends 4 2037/11/26 22:00:00;
  binding state active;
  client-hostname "kiln-11";
}
lease 10.77.10.12 {
  ends never;
  binding state active;
  set ddns-fwd-name = "rake-12.pans.example";
  client-hostname "other";
}
lease 10.77.20.11 {
  ends epoch 2000000000; # later
  binding state active;
  client-hostname "kiln-eleven";
}
lease 10.77.20.13 { this line is of no lease
lease 10.77.20.14 {
  ends 4 2037/11/26 22:00:00;
  binding state free;
  client-hostname "free";
}
lease 10.77.20.15 {
  ends 2 2020/11/26 22:00:00;
  binding state active;
  client-hostname "expired";
}
ia-na "abc" {
  iaaddr 2001:db8:77:20::16 {
    binding state active;
    ends 4 2037/11/26 22:00:00;
    set ddns-fwd-name = "kiln-16.pans.example.";
  }
}
"""
XML = """<?xml version="1.0" encoding="utf-8"?>
<DHCPServer xmlns="urn:example"><IPv4><Scopes><Scope><Leases>
<Lease><IPAddress>10.77.20.21</IPAddress><HostName>kiln-21.pans.example</HostName><AddressState>Active</AddressState><LeaseExpiryTime>2037-11-26T22:00:00Z</LeaseExpiryTime></Lease>
<Lease><IPAddress>10.77.20.22</IPAddress><HostName>kiln-22</HostName><AddressState>ActiveReservation</AddressState></Lease>
<Lease><IPAddress>10.77.20.23</IPAddress><HostName>gone</HostName><AddressState>Declined</AddressState></Lease>
<Lease><IPAddress>10.77.20.24</IPAddress><HostName>late</HostName><AddressState>Active</AddressState><LeaseExpiryTime>2020-01-01T00:00:00+01:00</LeaseExpiryTime></Lease>
</Leases></Scope></Scopes></IPv4><x ip="10.77.10.25" name="rake-25" state="bound"/></DHCPServer>
"""


KEA = """address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state,user_context,pool_id
10.77.20.31,,,3600,1800000100,1,0,0,kiln-31,0,,0
10.77.20.32,,,3600,1800000100,1,0,0,declined,1,,0
10.77.20.33,,,4294967295,0,1,0,0,kiln-33.pans.example.,0,,0
10.77.20.34,,,60,1799999999,1,0,0,late,0,,0
"""
HOSTS = """127.0.0.1 localhost
::1 localhost ip6-localhost
ff02::1 all
10.77.20.41 kiln-41.pans.example kiln-41 # by the door
2001:db8::7%eth0 six
"""
EXPECTED = {
    "isc": ["rake-12.pans.example. A 10.77.10.12", "kiln-eleven.kiln.example. A 10.77.20.11",
            "kiln-16.pans.example. AAAA 2001:db8:77:20::16"],
    "xml": ["kiln-21.pans.example. A 10.77.20.21", "kiln-22.kiln.example. A 10.77.20.22",
            "rake-25.pans.example. A 10.77.10.25"],
    "kea": ["kiln-31.kiln.example. A 10.77.20.31", "kiln-33.pans.example. A 10.77.20.33"],
    "hosts": ["kiln-41.pans.example. A 10.77.20.41",
              "six.six.example. AAAA 2001:db8::7"],
}  # fmt: skip


@pytest.mark.parametrize(("form", "text"), [("isc", ISC), ("xml", XML), ("kea", KEA), ("hosts", HOSTS)])
def test_a_list_is_known_by_its_content_and_read_for_what_still_holds(form: str, text: str) -> None:
    expected = EXPECTED[form]
    assert form_of(text, None) == form_of(text, Path("list.txt")) == form
    found = read(text)
    assert said(found) == expected
    assert all(one.lifetime == ("dynamic" if form != "hosts" else None) and one.line for one in found)
    assert said(read(text.replace("\n", "\r\n"), ListSpec(form))) == expected
    with_pointers = said(read(text, ListSpec(pointers=True)))
    assert len(with_pointers) == 2 * len(expected) and sum(" PTR " in one for one in with_pointers) == len(expected)


def test_somebody_elses_table_is_read_by_its_columns_and_keeps_the_others_as_a_note() -> None:
    spec = ListSpec(layout=TableLayout({"name": "Hostname", "value": "IP", "ttl": "TTL"}))
    text = "Room;Hostname;IP;TTL\n12;kiln-51;10.77.20.51;\n;kiln-52.pans.example;2001:db8::52;300\n13;;10.77.20.53;\n"
    for delimiter in ";,\t|":
        found = read(text.replace(";", delimiter), spec)
        assert said(found) == ["kiln-51.kiln.example. A 10.77.20.51", "kiln-52.pans.example. AAAA 2001:db8::52"]
        assert [(one.note, one.ttl) for one in found] == [("Room: 12", None), (None, 300)]
    with pytest.raises(BadInput, match='there is no one column called "Hostname"; did you mean "Hostnames"'):
        read(text.replace("Hostname", "Hostnames"), spec)
    problems: list[Unusable] = []
    assert len(read(text.replace("10.77.20.51", "10.77.20"), spec, problems)) == 1
    assert "standard input, line 2" in str(problems[0]) and "no column with its type" in str(problems[0])


def test_an_export_with_age_marks_keeps_the_ages() -> None:
    text = "@ 600 A 10.77.10.5\nkiln-61 [AGE:3745012] 1200 A 10.77.20.61\n"
    text += "  [age:3745013]\t1200 AAAA 2001:db8::61\nrake 1200 A 10.77.10.62\n"
    assert [(one.age_h, one.ttl) for one in read(text)] == [(None, 600), (3745012, 1200), (3745013, 1200), (None, 1200)]


HOSTILE = [
    '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "c">]><a><ip>10.0.0.1</ip><name>&b;</name></a>',
    "<a>" * 100_000,
    "<Lease><IPAddress>10.0.0.1</IPAddress><HostName>a\x00b</HostName></Lease>",
    "address,valid_lifetime,expire,hostname,state\n10.0.0.1,x,y,z,0\n",
    "address,valid_lifetime,expire,hostname,state\n10.0.0.1,60,99999999999999999999,z,0\n",
    'lease 10.0.0.1 {\n client-hostname "' + "x" * 300 + '";\n}\n',
    "lease 10.0.0.1 {\n binding state active;\n",
    "lease 999.0.0.1 {\n}\nlease 10.0.0.1 {\n}\n",
    f"10.0.0.1 {'x' * 300}\n10.0.0.2 a..b\n",
    "10.0.0.1\n",
]


@pytest.mark.parametrize("text", HOSTILE)
def test_a_damaged_list_is_told_with_its_line_and_hides_nothing_else(text: str) -> None:
    with pytest.raises(Unusable, match=r"standard input, line \d+|standard input: "):
        read(text)
    problems: list[Unusable] = []
    if not text.startswith("<"):
        read(text, problems=problems)
        assert problems and all("standard input, line" in str(one) for one in problems)


@given(st.sampled_from(tuple(FORMS)), st.text(max_size=200))
def test_no_text_in_any_form_does_more_than_be_unusable(form: str, text: str) -> None:
    try:
        read(text, ListSpec(form))
    except Unusable as error:
        assert "\n" not in str(error)


def test_an_estate_takes_lists_with_what_has_to_be_said_of_them(run: Run, tmp_path: Path) -> None:
    (tmp_path / "inventory.csv").write_bytes("Host;Adresse;Raum\nkiln-71;10.77.20.71;1\n".encode("utf-16"))
    (tmp_path / "hosts").write_text("10.77.30.72 crane\n", encoding="utf-8")
    text = (
        '[networks."10.77.30.0/24"]\nzone = "quay.example"\n[[zones]]\nname = "pans.example"\nservers = ["one"]\n'
        'expect = [{ file = "inventory.csv", columns = { name = "Host", value = "Adresse" }, pointers = true }, "hosts"]\n'
        '[servers.one]\naddress = "127.0.0.1"\nport = 1\n'
    )
    estate = tmp_path / "estate.toml"
    estate.write_text(text, encoding="utf-8")
    done = run("rollcall", "--json", "--all", "--timeout", "0.01", "--tries", "1").report
    assert {(one["name"], one["type"]) for one in done["subjects"]} == {
        ("kiln-71.pans.example.", "A"), ("71.20.77.10.in-addr.arpa.", "PTR"), ("crane.quay.example.", "A"),
    }  # fmt: skip
    for old, new, said_ in (
        ('name = "Host"', 'nmae = "Host"', 'there is no column "nmae"; did you mean "name"?'),
        ('value = "Adresse" }', 'value = "IP" }', 'there is no one column called "IP"'),
        ("pointers = true", 'form = "keas"', 'there is no form "keas"; did you mean "kea"?'),
        ("pointers = true", "pointer = true", 'unknown key "pointer"'),
        ("10.77.30.0/24", "10.77.30/24", 'networks: "10.77.30/24" is no network'),
    ):
        estate.write_text(text.replace(old, new), encoding="utf-8")
        refused = run("rollcall")
        assert refused.status == 2 and said_ in refused.err, refused.err


def test_lists_are_read_alike_by_every_command_that_takes_them(run: Run, tmp_path: Path) -> None:
    (tmp_path / "list").write_text("ip,host\n10.77.20.81,kiln-81\n", encoding="utf-8")
    options = ("--columns", "name=host,value=ip")
    done = run("expect", "list", *options, "--pointers", "--zone", "pans.example", "--to", "zone")
    assert (
        done.out == "kiln-81.pans.example. IN A 10.77.20.81\n81.20.77.10.in-addr.arpa. IN PTR kiln-81.pans.example.\n"
    )
    (tmp_path / "plain").write_text("10.77.20.82 kiln-82.pans.example\n", encoding="utf-8")
    named = run("expect", "plain", "--form", "hosts")
    assert named.status == 0 and "kiln-82.pans.example.,A,10.77.20.82" in named.out
    wrong = run("expect", "plain", "--form", "zone")
    assert wrong.status == 2 and "plain, line 1" in wrong.err
    silent = ("--at", "127.0.0.1:1", "--timeout", "0.01", "--tries", "1")
    called = run("rollcall", "list", *options, *silent, "--zone", "pans.example", "--json")
    assert called.report["counts"]["unverified"] == 1
    followed = run("settle", "--records", "list", *options, "--within", "1s", "--timeout", "0.01")
    assert "kiln-81" in followed.err + followed.out or followed.status == 2
    empty = run("rollcall", "nothing.leases", *silent)
    assert empty.status == 2 and "nothing.leases: cannot be read" in empty.err


@pytest.mark.real
def test_leases_that_a_real_address_server_wrote_are_expected_as_long_as_they_hold(run: Run, tmp_path: Path) -> None:
    lasting = {"valid-lft": 3600}
    past = {"valid-lft": 60, "expire": int(time.time()) - 10}
    leases = (
        (91, "kiln-91", lasting),
        (92, "kiln-92.pans.example", lasting),
        (93, "gone", lasting),
        (94, "late", past),
    )
    with realservers.kea(tmp_path / "four", 4) as command:
        for last, host, more in leases:
            lease = {"ip-address": f"10.77.20.{last}", "hw-address": f"1a:1b:1c:1d:1e:{last}", "hostname": host}
            command("lease4-add", **lease, **more)
        command("lease4-del", **{"ip-address": "10.77.20.93"})
        renamed = {"ip-address": "10.77.20.91", "hw-address": "1a:1b:1c:1d:1e:91", "hostname": "renamed"}
        command("lease4-update", **renamed)
        until(lambda: "renamed" in (tmp_path / "four" / "leases.csv").read_text(encoding="utf-8"))
    with realservers.kea(tmp_path / "six", 6) as command:
        lease = {"ip-address": "2001:db8:77:20::95", "duid": "1a:1b:1c:1d:1e:1f", "hostname": "kiln-95"}
        command("lease6-add", **lease, iaid=7, **lasting)
        prefix = {"ip-address": "2001:db8:77:21::", "prefix-len": 80, "duid": "1a:1b:1c:1d:1e:20", "hostname": "router"}
        command("lease6-add", **prefix, **{"type": "IA_PD", "iaid": 8, "subnet-id": 1}, **lasting)
    found = run("expect", "four/leases.csv", "six/leases.csv", "--zone", "pans.example", "--to", "jsonl").out
    assert sorted(line.split('"')[3] for line in found.splitlines()) == [
        "kiln-92.pans.example.", "kiln-95.pans.example.", "renamed.pans.example.",
    ]  # fmt: skip
    assert found.count('"lifetime":"dynamic"') == 3


@pytest.mark.real
def test_leases_are_called_against_the_zones_that_they_were_registered_in(demo: Run, tmp_path: Path) -> None:
    lasting = {"valid-lft": 3600}
    past = {"valid-lft": 60, "expire": int(time.time()) - 10}
    with realservers.kea(tmp_path / "four", 4) as command:
        for last, host, more in (
            (11, "kiln-01", lasting), (13, "kiln-33", lasting), (14, "kiln-34", past), (77, "kiln-77", lasting),
        ):  # fmt: skip
            lease = {"ip-address": f"10.77.20.{last}", "hw-address": f"1a:1b:1c:1d:1e:{last}", "hostname": host}
            command("lease4-add", **lease, **more)
    listed = ("four/leases.csv", "--pointers", "--view", "internal")
    done = demo("rollcall", *listed, "--json")
    told = {(one["code"], one["name"].partition(".pans")[0], one["type"]) for one in done.report["findings"]}
    # The lease of .13 has another name than is registered; that of .77 is registered nowhere; that of .14 has run out.
    assert told == {
        ("roll.missing-name", "kiln-33", "A"), ("roll.different", "13.20.77.10.in-addr.arpa.", "PTR"),
        ("roll.missing-name", "kiln-77", "A"), ("roll.missing-name", "77.20.77.10.in-addr.arpa.", "PTR"),
    }  # fmt: skip
    assert done.report["counts"]["agrees"] == 2


@pytest.mark.parametrize(
    ("table", "guess"),
    [
        (
            "Host Name,IP Address,Status\nkiln-01,10.77.20.11,in use\nkiln-02,10.77.20.12,in use\n",
            "name=Host Name,value=IP Address",
        ),
        (
            "Status;Address;Device;Site\nused;10.77.20.11;kiln-01;kilns\nfree;10.77.20.12;kiln-02;kilns\n",
            "name=Device,value=Address",
        ),
        ("a,b\n1,2\n3,4\n", ""),
        ("Host,IP\n,\n", ""),
    ],
)  # fmt: skip
def test_a_table_with_other_columns_is_answered_with_the_option_that_reads_it(
    run: Run, tmp_path: Path, table: str, guess: str
) -> None:
    (tmp_path / "export.csv").write_text(table, encoding="utf-8")
    done = run("expect", "export.csv", "--zone", "pans.example")
    assert done.status == 2
    assert (
        (f'--columns "{guess}"' in done.err)
        if guess
        else ("unknown column" in done.err and "--columns" not in done.err)
    )
    if guess:
        read = run("expect", "export.csv", "--zone", "pans.example", "--columns", guess, "--to", "zone")
        assert read.status == 0 and "kiln-02.pans.example. IN A 10.77.20.12" in read.out

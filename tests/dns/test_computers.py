"""Reading how computers are set: captured files, registry exports and scopes of three systems, whole and half missing."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns.computer.reading import captured_settings, own_settings
from salt_mirror.dns.computer.settings import Configured, HostsEntry, Settings, read_hosts
from salt_mirror.dns.computer.sources import read_registry
from salt_mirror.dns.computer.windows import kept_in
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support.estates import found
from support.examples import examples
from support.program import Run


def captured(folder: Path, **files: str) -> Settings:
    """The settings of a computer of which these files were captured; `__` in a name stands for a slash."""
    for name, text in files.items():
        path = folder / name.replace("__", "/").replace("DOT", ".")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text.encode("utf-16" if path.suffix == ".reg" else "utf-8"))
    return captured_settings(folder)


def names(found: list[bytes]) -> list[str]:
    return [to_text(one) for one in found]


def addresses(found: list[Configured]) -> list[str]:
    return [one.address for one in found]


def test_linux_is_read_as_the_c_library_reads_it(tmp_path: Path) -> None:
    found = captured(
        tmp_path,
        etc__hosts="127.0.0.1 localhost\n10.77.10.30\tweighbridge.pans.gullmarsh.internal  weighbridge # old\n"
        "fe80::1%eth0 a..b\n",
        etc__nsswitchDOTconf="passwd: files\nhosts: files mdns4_minimal [NOTFOUND=return] dns # by us\n",
        etc__resolvDOTconf="domain old.example\nsearch pans.gullmarsh.internal gullmarsh.example\n; no\n"
        "options ndots:3 timeout:2 attempts:1\nnameserver 10.77.30.53\nnameserver 10.77.30.54\nnameserver 2001:db8::53\n"
        "nameserver 10.77.30.56\n",
        etc__hostname="manifest\n",
    )
    assert (found.system, found.host, found.dots, found.wait_s) == ("linux", "manifest", 3, 2.0)
    assert names(found.suffixes) == ["pans.gullmarsh.internal.", "gullmarsh.example."]
    assert addresses(found.resolvers) == ["10.77.30.53", "10.77.30.54", "2001:db8::53"] and found.stub is None
    assert found.order == ["files", "mdns4_minimal", "dns"] and found.strange_sources == ["mdns4_minimal"]
    assert [entry.line for entry in found.hosts] == [1, 2] and found.uses_files
    assert found.unread == [
        "/etc/hosts, line 3 is no line of a hosts file, and was left out",
        "/etc/resolv.conf has more than 3 resolvers: 10.77.30.56 is never asked",
    ]
    tried = names(found.candidates("weighbridge.north"))
    assert tried == [
        "weighbridge.north.pans.gullmarsh.internal.", "weighbridge.north.gullmarsh.example.", "weighbridge.north.",
    ]  # fmt: skip
    assert names(found.candidates("a.b.c.d"))[0] == "a.b.c.d." and names(found.candidates("web.")) == ["web."]
    assert found.full_name == from_text("manifest.old.example")


def test_what_stands_behind_a_stub_is_read_link_by_link(tmp_path: Path) -> None:
    found = captured(
        tmp_path,
        etc__resolvDOTconf="nameserver 127.0.0.53\nsearch pans.gullmarsh.internal\n",
        run__systemd__resolve__resolvDOTconf="nameserver 10.77.30.53\nnameserver 192.0.2.99\n",
        run__systemd__netif__links__2="NAME=eth0\nDNS=10.77.30.53\nDOMAINS=pans.gullmarsh.internal\n",
        run__systemd__resolve__netif__7="IFNAME=vpn0\nDNS=10.77.9.53\nDOMAINS=~kiln.example ~.\nDNS_DEFAULT_ROUTE=no\n",
    )
    assert found.stub == Configured("127.0.0.53", "", "/etc/resolv.conf")
    assert addresses(found.resolvers) == ["10.77.30.53", "192.0.2.99"]
    assert addresses(found.resolvers_for(from_text("oven.kiln.example"))) == ["10.77.9.53"]
    assert found.resolvers_for(from_text("rake.pans.gullmarsh.internal"))[0].link == "eth0"
    nothing = captured(tmp_path / "bare", etc__resolvDOTconf="nameserver 127.0.0.1\n")
    assert any("what is behind the resolver on this computer" in one for one in nothing.unread)
    empty = captured(tmp_path / "empty", etc__hosts="")
    assert (
        addresses(empty.everywhere) == ["127.0.0.1"]
        and empty.resolvers == []
        and "/etc/resolv.conf cannot be read" in " ".join(empty.unread)
    )


HIVE = "[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet"
REGISTRY = rf"""Windows Registry Editor Version 5.00

{HIVE}\Services\Tcpip\Parameters]
"Hostname"="QUAY-PC"
"NV Domain"="pans.gullmarsh.internal"
"SearchList"=""
"DataBasePath"=hex(2):25,00,53,00,79,00,73,00,74,00,65,00,6d,00,52,00,6f,00,6f,00,\
  74,00,25,00,5c,00,65,00,74,00,63,00,00,00
"UseDomainNameDevolution"=dword:00000001

{HIVE}\Services\Tcpip\Parameters\Interfaces\{{A1}}]
"NameServer"="10.77.30.53,10.77.30.54"
"DhcpNameServer"="192.0.2.99"
"DhcpDomain"="harbour.gullmarsh.example"

{HIVE}\Services\Tcpip\Parameters\Interfaces\{{B2}}]
"NameServer"=""
"DhcpNameServer"="192.0.2.53"

{HIVE}\Services\Tcpip6\Parameters\Interfaces\{{A1}}]
"NameServer"=""
"Dhcpv6DNSServers"=hex:20,01,0d,b8,00,77,00,30,00,00,00,00,00,00,00,53

{HIVE}\Control\Network\{{4D36E972-E325-11CE-BFC1-08002BE10318}}\{{A1}}\Connection]
"Name"="Ethernet"

{HIVE}\Services\Dnscache\Parameters\DohWellKnownServers\192.0.2.53]
"Template"="https://resolver.example/dns-query"

{HIVE}\Services\Dnscache\InterfaceSpecificParameters\{{B2}}\DohInterfaceSettings\Doh\192.0.2.53]
"DohFlags"=hex(b):01,00,00,00,00,00,00,00

{HIVE}\Services\Dnscache\Parameters\DnsPolicyConfig\{{rule-1}}]
"Name"=hex(7):2e,00,6b,00,69,00,6c,00,6e,00,2e,00,65,00,78,00,61,00,6d,00,70,00,\
  6c,00,65,00,00,00,00,00
"GenericDNSServers"="10.77.9.53; 10.77.9.54"
"ConfigOptions"=dword:00000008

{HIVE}\Services\Dnscache\Parameters\DnsPolicyConfig\{{rule-2}}]
"Name"=hex(7):73,00,69,00,67,00,6e,00,65,00,64,00,2e,00,65,00,78,00,00,00,00,00
"ConfigOptions"=dword:00000002
@="nothing of use"
"""
CACHE = """[{"Entry":"weighbridge.pans.gullmarsh.internal","RecordType":1,"Status":0,"TimeToLive":120,"Data":"10.77.10.20"},
 {"Entry":"late.pans.gullmarsh.internal","RecordType":0,"Status":9003,"TimeToLive":400,"Data":null}, {"Data":"x"}, 7]"""


def test_windows_is_read_with_its_interfaces_rules_and_secure_resolvers(tmp_path: Path) -> None:
    found = captured(
        tmp_path, registryDOTreg=REGISTRY, cacheDOTjson=CACHE,
        Windows__etc__hosts="\ufeff10.77.10.30 weighbridge\r\n",
    )  # fmt: skip
    assert (found.system, found.host, found.wait_s) == ("windows", "QUAY-PC", 1.0)
    assert found.full_name == from_text("quay-pc.pans.gullmarsh.internal")
    assert addresses(found.resolvers) == [
        "10.77.30.53", "10.77.30.54", "https://resolver.example/dns-query", "2001:db8:77:30::53",
    ]  # fmt: skip
    assert [one.link for one in found.resolvers] == ["Ethernet", "Ethernet", "{b2}", "Ethernet"]
    assert names(found.suffixes) == ["pans.gullmarsh.internal.", "harbour.gullmarsh.example.", "gullmarsh.internal."]
    assert names(found.candidates("quay"))[:2] == ["quay.pans.gullmarsh.internal.", "quay.harbour.gullmarsh.example."]
    assert names(found.candidates("web.example")) == ["web.example."] and "quay." not in names(found.candidates("quay"))
    (rule,) = found.rules
    assert addresses(list(rule.resolvers)) == ["10.77.9.53", "10.77.9.54"]
    assert addresses(found.resolvers_for(from_text("oven.kiln.example"))) == ["10.77.9.53", "10.77.9.54"]
    assert found.hosts == [HostsEntry(bytes((10, 77, 10, 30)), (from_text("weighbridge"),), 1)]
    assert found.kept is not None and [(one.rdtype, one.values, one.ttl) for one in found.kept] == [
        (1, ("10.77.10.20",), 120), (0, (), 400),
    ]  # fmt: skip
    assert found.unread == []


def test_what_group_policy_says_counts_before_what_the_computer_has(tmp_path: Path) -> None:
    policy = r"[HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Vendor\Windows NT\DNSClient"
    more = f"""
{policy}]
"SearchList"="kiln.example,pans.gullmarsh.internal"
"AppendToMultiLabelName"=dword:00000001

{policy}\\DnsPolicyConfig\\{{rule-9}}]
"Name"="oven.kiln.example"
"GenericDNSServers"="10.77.9.99"
"""
    found = captured(tmp_path, registryDOTreg=REGISTRY + more, cacheDOTjson="[]")
    assert names(found.suffixes) == ["kiln.example.", "pans.gullmarsh.internal."] and found.multi_label
    (rule,) = found.rules
    assert rule.exact and addresses(found.resolvers_for(from_text("oven.kiln.example"))) == ["10.77.9.99"]
    assert found.rule_for(from_text("door.oven.kiln.example")) is None


@pytest.mark.parametrize("left_out", ["Tcpip\\Parameters]", "Interfaces\\{A1}]", "rule-1"])
def test_half_of_a_registry_is_read_as_far_as_it_goes(tmp_path: Path, left_out: str) -> None:
    parts = [part for part in REGISTRY.split("\n\n") if left_out not in part.split("]")[0] + "]"]
    found = captured(tmp_path, registryDOTreg="\n\n".join(parts))
    assert found.system == "windows" and "hosts cannot be read" in " ".join(found.unread)
    assert "this computer's cache cannot be read" in " ".join(found.unread)
    assert "10.77.30.53" in addresses(found.resolvers) or left_out.startswith("Interfaces")


def test_a_cache_that_is_no_json_is_told() -> None:
    unread: list[str] = []
    assert kept_in("Access denied", unread) is None and "gives no JSON" in unread[0]
    assert kept_in('{"Entry":"a.example","Type":28,"TimeToLive":5,"Data":"2001:db8::1"}', unread) is not None
    assert kept_in("", unread) == []


SCOPES = """DNS configuration

resolver #1
  search domain[0] : pans.gullmarsh.internal
  search domain[1] : gullmarsh.example
  nameserver[0] : 10.77.30.53
  nameserver[1] : 2001:db8:77:30::53
  if_index : 4 (en0)
  flags    : Request A records, Request AAAA records
  reach    : 0x00000002 (Reachable)

resolver #2
  domain   : kiln.example
  nameserver[0] : 10.77.9.53
  port     : 5353
  timeout  : 7
  flags    : Supplemental, Request A records

resolver #3
  domain   : local
  options  : mdns
  timeout  : 5
  order    : 300000

DNS configuration (for scoped queries)

resolver #1
  nameserver[0] : 192.0.2.1
  if_index : 4 (en0)
"""


def test_macos_is_read_by_its_scopes(tmp_path: Path) -> None:
    found = captured(tmp_path, scopesDOTtxt=SCOPES, etc__hosts="127.0.0.1 localhost\n")
    assert (found.system, found.wait_s) == ("macos", 7.0)
    assert addresses(found.resolvers) == ["10.77.30.53", "2001:db8:77:30::53"] and found.resolvers[0].link == "en0"
    assert names(found.suffixes) == ["pans.gullmarsh.internal.", "gullmarsh.example."]
    assert addresses(found.resolvers_for(from_text("oven.kiln.example"))) == ["10.77.9.53:5353"]
    assert addresses(found.everywhere) == ["10.77.30.53", "2001:db8:77:30::53", "10.77.9.53:5353"]
    assert found.unread == []
    half = captured(
        tmp_path / "half", scopesDOTtxt=SCOPES.replace("resolver #1", "resolver one").replace("kiln.", "kiln..")
    )
    assert "none is for all names" in " ".join(half.unread) and "a domain that is no name" in " ".join(half.unread)


def test_a_vpns_split_rule_decides_who_is_asked(run: Run, tmp_path: Path) -> None:
    """On Windows with a VPN: names below its suffix go to its own resolver, and all others to the office's."""
    head = "@ 60 SOA ns h 1 2 3 4 5\n@ 60 NS ns\nns 60 A 127.0.0.1\n"
    captured(tmp_path / "pc", registryDOTreg=REGISTRY, cacheDOTjson="[]", Windows__etc__hosts="")
    with StandIns() as standins:
        kiln = read_zone(head + "oven 60 A 10.77.9.20\n", "kiln.example")
        own, vpn = standins.add([kiln]), standins.add([kiln], recursive=True)
        office = standins.add([], recursive=True)
        text = (
            f'[[zones]]\nname = "kiln.example"\nservers = ["own"]\n[servers.own]\naddress = "{own.endpoint}"\n[reach]\n'
        )
        for address, server in (
            ("10.77.9.53", vpn),
            ("10.77.9.54", vpn),
            ("10.77.30.53", office),
            ("10.77.30.54", office),
        ):
            text += f'"{address}" = "{server.endpoint}"\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        done = run("from-here", "oven.kiln.example", "--settings", "pc", "--json")
        assert found(done) == [] and done.status == 0, done.out
        rows = [row["title"] for row in done.report["tests"][0]["tests"] if row["title"].startswith("resolver ")]
        assert len(rows) == 2 and all("10.77.9.5" in row for row in rows)
        kept = '[{"Entry":"oven.kiln.example","RecordType":0,"Status":9003,"TimeToLive":400,"Data":null}]'
        captured(tmp_path / "pc", cacheDOTjson=kept)
        done = run("from-here", "oven.kiln.example", "--settings", "pc", "--json")
        assert found(done) == ["here.negative-cache"], done.out
        assert (
            "This computer's cache gives NXDOMAIN or NODATA for oven.kiln.example. for another 6 min 40 s" in done.out
        )
        kept = '[{"Entry":"oven.kiln.example","RecordType":1,"Status":0,"TimeToLive":40,"Data":"10.77.9.19"}]'
        captured(tmp_path / "pc", cacheDOTjson=kept)
        assert found(run("from-here", "oven.kiln.example", "--settings", "pc", "--json")) == ["here.outdated-answer"]
        without = REGISTRY.replace("GenericDNSServers", "NoSuchServers")
        captured(tmp_path / "pc", registryDOTreg=without)
        done = run("from-here", "oven.kiln.example", "--settings", "pc", "--json", "--timeout", "0.1", "--tries", "1")
        assert "here.negative-cache" in found(done) or "here.elsewhere" in found(done)


def test_the_computer_at_hand_is_read_for_real() -> None:
    here = own_settings()
    assert here.system in ("linux", "windows", "macos") and here.host
    assert not any(one.address[:1] == b"\x7f" for one in here.addresses)


@examples(200)
@given(st.text(max_size=200))
def test_no_text_at_all_ends_a_reader(text: str) -> None:
    unread: list[str] = []
    read_hosts(text, "/etc/hosts", unread)
    read_registry(text)
    read_registry('[HKEY_LOCAL_MACHINE\\X]\n"a"=' + text)
    kept_in(text, unread)

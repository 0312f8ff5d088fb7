"""Windows: resolvers of each interface, suffixes, name-resolution policy and DNS over HTTPS from the registry; its cache by
CIM.

Strategy: what an administrator set stands beside what DHCP gave, and counts before it. A policy rule sends the names below a
suffix to resolvers of its own, as a VPN does; what group policy says counts before what the computer itself has.
"""

from __future__ import annotations

import ipaddress
import json

from salt_mirror.dns.computer.settings import Configured, Kept, Rule, Settings, read_hosts, suffix_list
from salt_mirror.dns.computer.sources import Source, Values
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT, from_text

SERVICES = r"SYSTEM\CurrentControlSet\Services"
TCPIP, TCPIP6, CLIENT = rf"{SERVICES}\Tcpip\Parameters", rf"{SERVICES}\Tcpip6\Parameters", rf"{SERVICES}\Dnscache"
POLICIES, POLICY_BELOW = r"SOFTWARE\Policies", r"Windows NT\DNSClient"
"""Group policy stands below the key of the system's vendor."""
NETWORK = r"SYSTEM\CurrentControlSet\Control\Network\{4D36E972-E325-11CE-BFC1-08002BE10318}"
RULES = "DnsPolicyConfig"
TEMPLATES = rf"{CLIENT}\Parameters\DohWellKnownServers"
CACHE = (
    "powershell.exe", "-NoProfile", "-NonInteractive", "-Command",
    "Get-CimInstance -Namespace root/StandardCimv2 -ClassName MSFT_DNSClientCache | "
    "Select-Object Entry, RecordType, Status, TimeToLive, Data | ConvertTo-Json -Compress",
)  # fmt: skip
"""The one call that reads the cache: the class MSFT_DNSClientCache (Windows documents it)."""
_HOSTS = r"C:\Windows\System32\drivers\etc\hosts"
_WAIT_S = 1.0
"""The first wait of the DNS client; each further one is longer."""


def read(source: Source) -> Settings:
    """Return the settings of Windows."""
    main = source.key(TCPIP)
    settings = Settings("windows", suffix_place="the suffix list", order_place="the system", wait_s=_WAIT_S, bare=False)
    if main is None:
        settings.unread.append(f"{TCPIP} cannot be read, and was left out")
        main = {}
    policies = _policies(source)
    policy = source.key(policies) or {}
    settings.host = _text(main, "nv hostname") or _text(main, "hostname")
    settings.domain = _text(main, "nv domain") or _text(main, "domain") or _text(main, "dhcpdomain")
    folder = _text(main, "databasepath").replace("%SystemRoot%", r"C:\Windows") or _HOSTS.rpartition("\\")[0]
    settings.hosts_file = f"{folder}\\hosts"
    hosts = source.text(settings.hosts_file)
    if hosts is None:
        settings.unread.append(f"{settings.hosts_file} cannot be read, and was left out")
    else:
        settings.hosts = read_hosts(hosts, settings.hosts_file, settings.unread)
    templates = {
        address: _text(source.key(rf"{TEMPLATES}\{address}") or {}, "template") for address in source.subkeys(TEMPLATES)
    }
    connection_suffixes = _read_interfaces(source, settings, templates)
    listed = _text(policy, "searchlist") or _text(main, "searchlist")
    words = listed.replace(",", " ").split() or [settings.domain, *connection_suffixes]
    settings.suffixes = suffix_list([word for word in words if word], settings.suffix_place, settings.unread)
    settings.multi_label = _number(policy, "appendtomultilabelname") == 1
    if not listed and _number(main, "usedomainnamedevolution", 1):
        settings.suffixes += [one for one in _devolved(settings) if one not in settings.suffixes]
    _read_rules(source, policies, settings)
    settings.kept = kept_in(source.output(*CACHE), settings.unread)
    return settings


def _read_interfaces(source: Source, settings: Settings, templates: dict[str, str]) -> list[str]:
    """Take the resolvers of each interface; return the suffixes of connections."""
    suffixes = []
    for key, doh in ((TCPIP, "Doh"), (TCPIP6, "Doh6")):
        for guid in source.subkeys(rf"{key}\Interfaces"):
            values = source.key(rf"{key}\Interfaces\{guid}")
            if values is None:
                settings.unread.append(f"the interface {guid} cannot be read, and was left out")
                continue
            link = _text(source.key(rf"{NETWORK}\{guid}\Connection") or {}, "name") or guid
            text = _text(values, "nameserver") or _text(values, "dhcpnameserver") or _packed(values)
            for address in text.replace(",", " ").split():
                place = rf"{key}\Interfaces\{guid}"
                secure = _secure(source, guid, doh, address, templates)
                settings.resolvers.append(Configured(secure or address, link, place))
            suffix = _text(values, "domain") or _text(values, "dhcpdomain")
            suffixes += [suffix] if suffix and text else []
    if not settings.resolvers:
        settings.unread.append("no interface has a resolver")
    return suffixes


def _packed(values: Values) -> str:
    """Return the resolvers that DHCPv6 gave: addresses of 16 bytes, one behind the other."""
    raw = values.get("dhcpv6dnsservers", b"")
    if not isinstance(raw, bytes):
        return ""
    return " ".join(str(ipaddress.ip_address(raw[at : at + 16])) for at in range(0, len(raw) - 15, 16))


def _secure(source: Source, guid: str, kind: str, address: str, templates: dict[str, str]) -> str:
    """Return the URL over which a resolver of an interface is asked; empty where it is asked in the open."""
    path = rf"{CLIENT}\InterfaceSpecificParameters\{guid}\DohInterfaceSettings\{kind}\{address}"
    values = source.key(path)
    if not values or not _number(values, "dohflags"):
        return ""
    return _text(values, "dohtemplate") or templates.get(address, "") or templates.get(address.lower(), "")


def _devolved(settings: Settings) -> list[bytes]:
    """Return the domains above the computer's own that are tried too, down to two labels."""
    labels = settings.domain.rstrip(".").split(".")
    return suffix_list(
        [".".join(labels[at:]) for at in range(1, len(labels) - 1)], settings.suffix_place, settings.unread
    )


def _policies(source: Source) -> str:
    """Return the key of what group policy says of names; one that is not there where it says nothing."""
    for vendor in source.subkeys(POLICIES):
        path = rf"{POLICIES}\{vendor}\{POLICY_BELOW}"
        if source.key(path) is not None or source.subkeys(path):
            return path
    return rf"{POLICIES}\{POLICY_BELOW}"


def _read_rules(source: Source, policies: str, settings: Settings) -> None:
    """Take the rules of the name-resolution policy; where group policy has any, the computer's own do not count."""
    for key in (rf"{policies}\{RULES}", rf"{CLIENT}\Parameters\{RULES}"):
        guids = source.subkeys(key)
        for guid in guids:
            values = source.key(rf"{key}\{guid}") or {}
            names = values.get("name", [])
            servers = _text(values, "genericdnsservers").replace(",", ";").split(";")
            own = tuple(Configured(one.strip(), "policy", rf"{key}\{guid}") for one in servers if one.strip())
            if not own:
                continue  # a rule for signatures or a proxy, which sends nobody elsewhere
            for name in names if isinstance(names, list) else str(names).split(";"):
                try:
                    suffix = from_text(name.lstrip(".") or ".")
                except Unusable:
                    settings.unread.append(rf"{key}\{guid}: a name that is none was left out")
                    continue
                settings.rules.append(Rule(suffix, own, rf"{key}\{guid}", not name.startswith(".") and suffix != ROOT))
        if guids:
            return


def kept_in(text: str | None, unread: list[str]) -> list[Kept] | None:
    """Return the entries of the cache as CIM gives them, in JSON; None where they cannot be read."""
    if text is None:
        unread.append("this computer's cache cannot be read, and was left out")
        return None
    try:
        rows = json.loads(text or "[]")
    except ValueError:
        unread.append("this computer's cache gives no JSON, and was left out")
        return None
    found = []
    for row in rows if isinstance(rows, list) else [rows]:
        try:
            denied = int(row.get("Status") or 0) != 0  # 9003: no such name; 9501: no such type
            name, ttl = from_text(str(row["Entry"])), int(row.get("TimeToLive") or 0)
            rdtype = int(row.get("RecordType") or row.get("Type") or 0)
        except (KeyError, TypeError, ValueError, AttributeError):
            continue
        values = () if denied or not row.get("Data") else (str(row["Data"]),)
        found.append(Kept(name, rdtype, values, ttl))
    return found


def _text(values: Values, name: str) -> str:
    found = values.get(name, "")
    return found.strip() if isinstance(found, str) else " ".join(found) if isinstance(found, list) else ""


def _number(values: Values, name: str, otherwise: int = 0) -> int:
    found = values.get(name, otherwise)
    return found if isinstance(found, int) else otherwise

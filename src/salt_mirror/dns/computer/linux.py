"""Linux and other systems with a resolv.conf: nsswitch.conf, hosts, resolv.conf, and what stands behind a local stub.

Strategy: resolv.conf is what the C library goes by. Where it leads to a resolver on this very computer, that is a stub, and the
real ones stand in the files of whatever runs it (systemd-resolved by link, NetworkManager, dnsmasq).
"""

from __future__ import annotations

import ipaddress
import re

from salt_mirror.dns.computer.settings import Configured, Rule, Settings, read_hosts, suffix_list
from salt_mirror.dns.computer.sources import Source
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT, from_text

HOSTS, SWITCH, RESOLVERS, HOST_NAME = "/etc/hosts", "/etc/nsswitch.conf", "/etc/resolv.conf", "/etc/hostname"
BEHIND = (
    "/run/systemd/resolve/resolv.conf",
    "/run/NetworkManager/no-stub-resolv.conf",
    "/run/dnsmasq/resolv.conf",
    "/var/run/dnsmasq/resolv.conf",
)
"""Where the resolvers behind a local stub are written, the first that is there."""
LINKS = ("/run/systemd/resolve/netif", "/run/systemd/netif/links")
"""Folders with a file for each link, as systemd-resolved was told and as DHCP gave it."""
MOST_RESOLVERS = 3
"""So many of resolv.conf are asked (MAXNS in resolv.h); others are never."""
_WAIT_S = 5.0


def read(source: Source) -> Settings:
    """Return the settings of a Linux system."""
    settings = Settings("linux", hosts_file=HOSTS, order_place=SWITCH, suffix_place=RESOLVERS, wait_s=_WAIT_S)
    hosts = source.text(HOSTS)
    if hosts is None:
        settings.unread.append(f"{HOSTS} cannot be read, and was left out")
    else:
        settings.hosts = read_hosts(hosts, HOSTS, settings.unread)
    _read_order(source, settings)
    text = source.text(RESOLVERS)
    if text is None:
        settings.unread.append(f"{RESOLVERS} cannot be read: the C library asks a resolver on this computer then")
        text = "nameserver 127.0.0.1\n"
    _read_resolvers(text, settings)
    if settings.stub is not None:
        _read_behind(source, settings)
    settings.host = (source.text(HOST_NAME) or "").strip()
    if "." in settings.host:
        settings.domain = settings.host.partition(".")[2]
    return settings


def _read_order(source: Source, settings: Settings) -> None:
    text = source.text(SWITCH)
    if text is None:
        settings.unread.append(f"{SWITCH} cannot be read: the hosts file is taken to come first")
        return
    for line in text.splitlines():
        database, colon, rest = line.partition("#")[0].partition(":")
        if colon and database.strip() == "hosts":
            settings.order = re.sub(r"\[[^\]]*\]", " ", rest).split()


def _read_resolvers(text: str, settings: Settings) -> None:
    """Read resolv.conf as the C library does: the last `search` or `domain` counts, and the first three resolvers."""
    for line in text.splitlines():
        words = line.split()
        if not words or words[0][0] in "#;":
            continue
        match words:
            case ["nameserver", address, *_]:
                settings.resolvers.append(Configured(address, "", RESOLVERS))
            case ["search" | "domain" as word, *suffixes]:
                settings.suffixes = suffix_list(suffixes, RESOLVERS, settings.unread)
                settings.domain = suffixes[0].rstrip(".") if suffixes and word == "domain" else settings.domain
            case ["options", *options]:
                for option in options:
                    name, _, number = option.partition(":")
                    if name == "ndots" and number.isdigit():
                        settings.dots = min(int(number), 15)
                    elif name == "timeout" and number.isdigit():
                        settings.wait_s = float(min(max(int(number), 1), 30))
    if not settings.domain and settings.suffixes:
        from salt_mirror.dns.names import to_text

        settings.domain = to_text(settings.suffixes[0]).rstrip(".")
    if len(settings.resolvers) > MOST_RESOLVERS:
        late = ", ".join(one.address for one in settings.resolvers[MOST_RESOLVERS:])
        settings.unread.append(f"{RESOLVERS} has more than {MOST_RESOLVERS} resolvers: {late} is never asked")
        del settings.resolvers[MOST_RESOLVERS:]
    settings.resolvers = settings.resolvers or [Configured("127.0.0.1", "", RESOLVERS)]
    if all(_on_loopback(one.address) for one in settings.resolvers):
        settings.stub = settings.resolvers[0]


def _on_loopback(address: str) -> bool:
    try:
        return ipaddress.ip_address(address.partition("%")[0]).is_loopback
    except ValueError:
        return False


def _read_behind(source: Source, settings: Settings) -> None:
    """Put the resolvers behind a stub in its place, and those of single links as rules for their domains."""
    links = {one: f"{folder}/{one}" for folder in reversed(LINKS) for one in source.entries(folder) if one.isdigit()}
    behind: list[Configured] = []
    for number, place in sorted(links.items(), key=lambda item: int(item[0])):
        said = _assignments(source.text(place) or "")
        link = said.get("NAME") or said.get("IFNAME") or f"link {number}"
        own = tuple(Configured(one, link, place) for one in said.get("DNS", "").split())
        domains = [*said.get("DOMAINS", "").split(), *said.get("ROUTE_DOMAINS", "").split()]
        for domain in domains if own else ():
            try:
                suffix = from_text(domain.lstrip("~") or ".")
            except Unusable:
                settings.unread.append(f"{place}: a domain that is no name was left out")
                continue
            if suffix != ROOT:
                settings.rules.append(Rule(suffix, own, place))
        if said.get("DNS_DEFAULT_ROUTE", "yes") in ("yes", "1", "true"):
            behind += own
    for path in BEHIND:
        text = source.text(path)
        if text is not None:
            known = {one.address for one in [*behind, *(one for rule in settings.rules for one in rule.resolvers)]}
            for line in text.splitlines():
                words = line.split()
                if len(words) > 1 and words[0] == "nameserver" and words[1] not in known:
                    behind.append(Configured(words[1], "", path))
            break
    behind = [one for one in behind if not _on_loopback(one.address)]
    if behind or settings.rules:
        settings.resolvers = behind
    else:
        settings.resolvers = []
        where = settings.stub.address if settings.stub is not None else ""
        settings.unread.append(f"what is behind the resolver on this computer ({where}) is not written anywhere known")


def _assignments(text: str) -> dict[str, str]:
    found = {}
    for line in text.splitlines():
        name, equals, value = line.strip().partition("=")
        if equals and not name.startswith("#"):
            found[name] = value.strip().strip('"')
    return found

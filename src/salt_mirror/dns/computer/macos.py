"""macOS: the scopes of its resolvers as the system itself prints them (`scutil --dns`), and the hosts file.

Strategy: the first scope without a domain of its own is what everything else goes to; each with a domain is a split rule.
Scopes for single interfaces, and those of multicast, are no way that an ordinary look-up takes.
"""

from __future__ import annotations

import re

from salt_mirror.dns.computer.settings import Configured, Rule, Settings, read_hosts, suffix_list
from salt_mirror.dns.computer.sources import Source
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text

HOSTS, PROGRAM = "/etc/hosts", "/usr/sbin/scutil"
_LINE = re.compile(r"\s*([a-z _]+?)(?:\[\d+\])?\s*:\s*(.*)")
_SCOPED = "for scoped queries"


def read(source: Source) -> Settings:
    """Return the settings of macOS."""
    place = "the system's resolver scopes"
    settings = Settings("macos", hosts_file=HOSTS, suffix_place=place, order_place="the system")
    hosts = source.text(HOSTS)
    if hosts is None:
        settings.unread.append(f"{HOSTS} cannot be read, and was left out")
    else:
        settings.hosts = read_hosts(hosts, HOSTS, settings.unread)
    text = source.output(PROGRAM, "--dns")
    if text is None:
        settings.unread.append("the system's resolver scopes cannot be read, and were left out")
        return settings
    ordinary, _, _ = text.partition(_SCOPED)
    waits = []
    for number, scope in enumerate(re.split(r"^resolver #\d+\s*$", ordinary, flags=re.M)[1:], 1):
        said: dict[str, list[str]] = {}
        for line in scope.splitlines():
            if match := _LINE.fullmatch(line):
                said.setdefault(match[1].strip(), []).append(match[2].strip())
        if "mdns" in " ".join(said.get("options", ())):
            continue
        link = next(iter(re.findall(r"\((\w+)\)", " ".join(said.get("if_index", ())))), "")
        port = said.get("port", ["53"])[0]
        own = tuple(
            Configured(one if port == "53" else f"[{one}]:{port}" if ":" in one else f"{one}:{port}", link, place)
            for one in said.get("nameserver", ())
        )
        waits += [float(one) for one in said.get("timeout", ()) if one.isdigit()]
        for domain in said.get("domain", ()):
            try:
                settings.rules.append(Rule(from_text(domain), own, f"{place}, number {number}"))
            except Unusable:
                settings.unread.append(f"{place}, number {number}: a domain that is no name was left out")
        if "domain" not in said and own and not settings.resolvers:
            settings.resolvers = list(own)
            settings.suffixes = suffix_list(said.get("search domain", []), place, settings.unread)
    settings.wait_s = max(waits, default=None)
    if not settings.resolvers:
        settings.unread.append(f"{place}: none is for all names")
    return settings

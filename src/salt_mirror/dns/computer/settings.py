"""How a computer looks up names: its hosts file, suffixes, resolvers and split rules, as plain data, whatever the system.

Strategy: the readers of the systems fill this in, and nothing after them asks which system it is. Which names are tried for
what somebody types, and which resolvers are asked for a name, follows from the data alone.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import ROOT, Name, from_text, is_within

FILES = "files"
"""The hosts file, in the order of sources."""
OWN_NAME = frozenset(("myhostname", "mymachines"))
"""Sources that know nothing but this computer itself, and what runs on it."""
ASKS = frozenset(("dns", "resolve"))
"""Sources that ask resolvers."""


@dataclass(frozen=True, slots=True)
class HostsEntry:
    """One line of a hosts file: a packed address, the names for it, and the number of the line."""

    address: bytes
    names: tuple[Name, ...]
    line: int


@dataclass(frozen=True, slots=True)
class Configured:
    """A resolver as a system has it: its address as text (or `tls://…`, `https://…`), the link or scope that it is for (empty:
    for all), and where that is written."""

    address: str
    link: str
    place: str


@dataclass(frozen=True, slots=True)
class Rule:
    """Names that are asked for elsewhere: those at or below `suffix` (the name alone with `exact`) at these resolvers."""

    suffix: Name
    resolvers: tuple[Configured, ...]
    place: str
    exact: bool = False

    def covers(self, name: Name) -> bool:
        """Return whether a name is under the rule."""
        return name == self.suffix if self.exact else is_within(name, self.suffix)


@dataclass(frozen=True, slots=True)
class OwnAddress:
    """An address of this computer's own, packed, with the link that it is on."""

    address: bytes
    link: str
    temporary: bool = False


@dataclass(frozen=True, slots=True)
class Kept:
    """An entry of this computer's own cache: a name, a type (0 for a name that is said not to exist), values as text, seconds
    left."""

    name: Name
    rdtype: int
    values: tuple[str, ...]
    ttl: int


@dataclass(slots=True)
class Settings:
    """All of it.

    `order` are the sources in their order; `dots` is how many a name needs to be tried as it is first; `multi_label` whether a
    name with dots is tried with suffixes too, `bare` whether one without is tried as it is. `stub` is a resolver on this very
    computer that stands before the others. `wait_s` is how long a resolver that says nothing is waited for, None where no
    system says. `unread` tells what could not be read, and was left out.
    """

    system: str
    host: str = ""
    domain: str = ""
    hosts_file: str = ""
    hosts: list[HostsEntry] = field(default_factory=list)
    order: list[str] = field(default_factory=lambda: [FILES, "dns"])
    order_place: str = ""
    suffixes: list[Name] = field(default_factory=list)
    suffix_place: str = ""
    dots: int = 1
    multi_label: bool = True
    bare: bool = True
    resolvers: list[Configured] = field(default_factory=list)
    stub: Configured | None = None
    rules: list[Rule] = field(default_factory=list)
    wait_s: float | None = None
    addresses: list[OwnAddress] = field(default_factory=list)
    kept: list[Kept] | None = None
    unread: list[str] = field(default_factory=list)

    def candidates(self, typed: str) -> list[Name]:
        """Return the names that are tried for what somebody types, in their order. Raises BadName for what is none."""
        whole = from_text(typed)
        if typed.endswith("."):
            return [whole]
        dots = typed.count(".")
        completed = []
        for suffix in self.suffixes if dots == 0 or self.multi_label else ():
            try:
                completed.append(from_text(typed, suffix))
            except Unusable:
                continue  # too long with it, and so never asked for
        alone = [whole] if dots or self.bare else []
        return list(dict.fromkeys([*alone, *completed] if dots >= self.dots else [*completed, *alone]))

    def rule_for(self, name: Name) -> Rule | None:
        """Return the rule with the longest suffix that covers a name."""
        covering = [rule for rule in self.rules if rule.covers(name) and rule.resolvers]
        return max(covering, key=lambda rule: (rule.exact, len(rule.suffix)), default=None)

    def resolvers_for(self, name: Name) -> list[Configured]:
        """Return the resolvers that are asked for a name, in their order."""
        rule = self.rule_for(name)
        return list(rule.resolvers) if rule is not None else self.resolvers

    @property
    def everywhere(self) -> list[Configured]:
        """Every resolver that is asked for something, once."""
        found = {one.address: one for one in (*([self.stub] if self.stub is not None else []), *self.resolvers)}
        for rule in self.rules:
            found |= {one.address: one for one in rule.resolvers if one.address not in found}
        return list(found.values())

    @property
    def full_name(self) -> Name | None:
        """This computer's own name with its domain; None where it has none that is one."""
        try:
            if not self.host or (not self.domain and "." not in self.host):
                return None
            return from_text(self.host if "." in self.host else f"{self.host}.{self.domain}")
        except Unusable:
            return None

    @property
    def uses_files(self) -> bool:
        """Whether the hosts file is looked at before any resolver is asked."""
        for source in self.order:
            if source == FILES:
                return True
            if source == "dns":
                return False
            if source == "resolve":
                return True  # it looks at the hosts file itself
        return False

    @property
    def strange_sources(self) -> list[str]:
        """Sources of names that nobody but this computer's programs can ask, before resolvers are."""
        found = []
        for source in self.order:
            if source in ASKS:
                break
            if source != FILES and source not in OWN_NAME:
                found.append(source)
        return found


def read_hosts(text: str, path: str, unread: list[str]) -> list[HostsEntry]:
    """Read a hosts file: an address and names on each line, comments behind `#`. Lines that are none are told and left out."""
    import ipaddress

    found = []
    for number, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        words = line.partition("#")[0].split()
        if not words:
            continue
        try:
            address = ipaddress.ip_address(words[0].partition("%")[0]).packed
            names = tuple(from_text(word) for word in words[1:])
        except ValueError:
            unread.append(f"{path}, line {number} is no line of a hosts file, and was left out")
            continue
        found.append(HostsEntry(address, tuple(name for name in names if name != ROOT), number))
    return found


def suffix_list(words: list[str], place: str, unread: list[str]) -> list[Name]:
    """Return suffixes as names; what is none is told and left out."""
    values = []
    for word in words:
        try:
            name = from_text(word)
        except Unusable:
            unread.append(f"{place}: a suffix that is no name was left out")
            continue
        if name != ROOT:
            values.append(name)
    return list(dict.fromkeys(values))

"""The hosts file: its entries for a name and for its addresses, held against the authoritative servers.

Strategy: an entry is right when everything that it gives is given by the servers of one view too. Entries for this computer
itself, for loopback names, and those that block a name (an unspecified address) are nobody's fault.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, field

from salt_mirror.checks.common.lookup import lookup
from salt_mirror.checks.common.test_tree import Judged, Test, worst
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.from_here.asking import HereSeen, ViewAnswers
from salt_mirror.checks.from_here.scope import HereScope
from salt_mirror.checks.from_here.wording import HereWords, hosts_finding, hosts_unknown
from salt_mirror.dns.computer.settings import HostsEntry
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import Name, from_text, is_within, labels, to_text
from salt_mirror.dns.records import AAAA, A
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding, Outcome

_LOCAL = tuple(map(from_text, ("localhost", "localdomain", "local")))
_OWN_LABELS = frozenset((b"localhost", b"broadcasthost"))


def entries_for(name: Name, scope: HereScope) -> list[HostsEntry]:
    """Return the entries for a name."""
    return [entry for entry in scope.settings.hosts if name in entry.names]


def judged_alone(entry: HostsEntry, name: Name, scope: HereScope) -> bool:
    """Return whether servers have a say in an entry: not for this computer itself, for loopback, for multicast, nor for a
    block."""
    address = ipaddress.ip_address(entry.address)
    first = labels(name)[0]
    if first in _OWN_LABELS or first.startswith((b"ip6-", b"localhost")) or any(is_within(name, one) for one in _LOCAL):
        return False
    if address.is_unspecified or address.is_multicast or address.is_link_local:
        return False
    settings = scope.settings
    own = {name for name in (settings.full_name,) if name is not None}
    return not (address.is_loopback and (name in own or first == settings.host.partition(".")[0].lower().encode()))


def hosts_row(seen: HereSeen, scope: HereScope, words: HereWords, *, decides: bool) -> Judged:
    """Return the station of the hosts file for one thing that was typed."""
    settings = scope.settings
    title = f"hosts file ({settings.hosts_file})"
    address = seen.typed.address
    if address is not None:
        entries = [entry for entry in settings.hosts if entry.address == address]
        values = frozenset(name for entry in entries for name in entry.names)
    else:
        names = dict.fromkeys([*seen.typed.candidates, seen.name])
        entries = [entry for name in names for entry in entries_for(name, scope)]
        entries = list({entry.line: entry for entry in entries if _counts(entry, names, scope)}.values())
        values = frozenset(entry.address for entry in entries)
    others = _other_names(seen, scope) if address is None else ""
    if not entries:
        return Judged(Test(mark="ok", title=title, says=f"no entry{others}"))
    says = "; ".join(f"line {entry.line}: {words.values_text([entry.address])}" for entry in entries)
    if address is not None:
        says = "; ".join(f"line {entry.line}: {', '.join(map(to_text, entry.names))}" for entry in entries)
    says += others
    if not decides:
        says += " (not looked at before resolvers are asked)"
    if _agree(values, seen.sides, address is not None):
        return Judged(Test(mark="ok", title=title, says=says))
    if not seen.sides or not all(side.certain for side in seen.sides):
        return Judged(Test(mark="unverified", title=title, says=says))
    finding = words.hosts_differ([entry.line for entry in entries], values)
    return Judged(Test(mark="fault", title=title, says=says), [finding])


def _other_names(seen: HereSeen, scope: HereScope) -> str:
    """Return entries for the name's addresses under other names: what programs take for the name of the host."""
    addresses = {value for side in seen.sides for values in side.alternatives for value in values}
    known = {seen.name, *seen.typed.candidates}
    rows = [
        f"line {entry.line}: {address_text(entry.address)} as {', '.join(map(to_text, entry.names))}"
        for entry in scope.settings.hosts
        if entry.address in addresses and entry.names and not known & set(entry.names)
    ]
    return f"; its address under other names in {'; '.join(rows)}" if rows else ""


def _counts(entry: HostsEntry, names: dict[Name, None], scope: HereScope) -> bool:
    return any(judged_alone(entry, name, scope) for name in entry.names if name in names)


def _agree(given: frozenset[bytes], sides: list[ViewAnswers], names: bool) -> bool:
    """Return whether the servers of one view give all that the file gives; of names of an address, any."""
    for side in sides:
        for values in side.alternatives:
            if given <= values or (names and given & values):
                return True
    return False


# The file by itself


@dataclass(slots=True)
class FileSeen:
    """One name of the hosts file: its entries, what the servers say, the findings about it."""

    name: Name
    entries: list[HostsEntry]
    outcome: Outcome
    findings: list[Finding] = field(default_factory=list)


def names_in_file(scope: HereScope) -> tuple[list[Name], int]:
    """Return the names of the file that servers have a say in, and how many it has besides."""
    found: dict[Name, None] = {}
    others: dict[Name, None] = {}
    for entry in scope.settings.hosts:
        for name in entry.names:
            whole = scope.views_of(name) != [""] or len(labels(name)) > 1
            (found if judged_alone(entry, name, scope) and whole else others)[name] = None
    return list(found), len([name for name in others if name not in found])


def look_up(name: Name, scope: HereScope) -> Dialogue[FileSeen]:
    """Hold the entries of one name against the servers of its views."""
    entries = [entry for entry in entries_for(name, scope) if judged_alone(entry, name, scope)]
    views = scope.views_of(name)
    lookups = yield from together([lookup(name, (A, AAAA), view, scope.atlas) for view in views])
    sides = [ViewAnswers(view, one) for view, one in zip(views, lookups, strict=True) if scope.view in (None, view)]
    values = frozenset(entry.address for entry in entries)
    if _agree(values, sides, names=False):
        return FileSeen(name, entries, "agrees")
    if not all(side.certain for side in sides):
        why = next((side.found.trouble for side in sides if side.found.trouble), "not all of its servers answered")
        return FileSeen(name, entries, "unverified", [hosts_unknown(name, scope, why or "")])
    lines = [entry.line for entry in entries]
    finding = hosts_finding(name, scope, lines, [address_text(one) for one in sorted(values)], sides)
    return FileSeen(name, entries, "differs", [finding])


def file_tree(seen: list[FileSeen], others: int, scope: HereScope) -> Test:
    """Return the whole file as a tree."""
    wrong = [one for one in seen if one.outcome == "differs"]
    rows = [
        Test(mark="fault" if seen_file.outcome == "differs" else "unverified" if seen_file.outcome == "unverified" else "ok",
             title=to_text(seen_file.name), says="line " + ", ".join(str(entry.line) for entry in seen_file.entries))
        for seen_file in seen
    ]  # fmt: skip
    says = f"{many(len(seen), 'name')} that servers have a say in, {len(wrong)} not as they say; {others} others"
    return Test(
        mark=worst(row.mark for row in rows), title=f"hosts file ({scope.settings.hosts_file})", says=says, tests=rows
    )

"""Is this computer itself registered? Its full name, every address of its interfaces, and the PTR records of those.

Strategy: what the interfaces have is compared with what every authoritative server has: addresses that are not registered,
pointers that are missing or name another, addresses registered that this computer does not have (old ones), and another
computer that has one of its addresses. Addresses of networks that the estate knows nothing of are told and left out.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass, field

from salt_mirror.checks.common.lookup import Lookup, lookup
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.test_tree import Judged, Test, marks_told, row, worst
from salt_mirror.checks.common.wording import answers_of, labels_of, state, together_said, troubles_of
from salt_mirror.checks.from_here.scope import HereScope
from salt_mirror.dns.computer.settings import OwnAddress
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import AAAA, PTR, A, address_type
from salt_mirror.dns.reverse import address_text, reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.findings import Change, Finding


@dataclass(slots=True)
class OwnScope:
    """This computer's name, the view that it is registered in, its addresses that count and those that were left out."""

    name: Name
    view: str
    addresses: list[OwnAddress]
    left_out: list[OwnAddress] = field(default_factory=list)


def own_scope(scope: HereScope) -> OwnScope:
    """Return what there is to look at. Raises BadInput where this computer has no full name."""
    settings = scope.settings
    name = settings.full_name
    if name is None:
        raise BadInput("--self: this computer has no domain, and so no full name; set its domain, or a suffix")
    views = [view for view in scope.views_of(name) if scope.view in (None, view)]
    inside = [view for view in views if view not in scope.estate.public_views]
    view = (inside or views)[0]
    counted: list[OwnAddress] = []
    left_out: list[OwnAddress] = []
    for own in settings.addresses:
        known = scope.estate.zone_of(reverse_name(own.address), view) is not None
        counts = not own.temporary and (known or not scope.estate.zones)
        (counted if counts else left_out).append(own)
    return OwnScope(name, view, counted, left_out)


def judged_self(own: OwnScope, scope: HereScope) -> Dialogue[Judged]:
    """Ask for this computer's name and the PTR records of its addresses, and judge what is registered."""
    atlas = scope.atlas
    pointers = [reverse_name(one.address) for one in own.addresses]
    forward, *lookups = yield from together(
        [lookup(own.name, (A, AAAA), own.view, atlas), *(lookup(one, (PTR,), own.view, atlas) for one in pointers)]
    )
    named = sorted({value for one in lookups for value in one.values if value != own.name})
    others = yield from together([lookup(one, (A, AAAA), own.view, atlas) for one in named])
    addresses_of = {name: set(one.values) for name, one in zip(named, others, strict=True)}
    words = _OwnWords(own, scope)
    rows = [words.forward(forward)]
    for one, pointer in zip(own.addresses, lookups, strict=True):
        rows.append(words.address(one, forward, pointer, addresses_of))
    rows += words.old(forward)
    for left in own.left_out:
        why = "changes by the day" if left.temporary else "in no network of the estate"
        rows.append(
            Judged(Test(mark="ok", title=f"{address_text(left.address)} ({left.link})", says=f"left out: {why}"))
        )
    findings = [finding for row in rows for finding in row.findings]
    mark = worst(row.test.mark for row in rows)
    says = "is registered, with every address" if mark == "ok" and own.addresses else _says(findings)
    return Judged(Test(mark=mark, title=to_text(own.name), says=says, tests=[row.test for row in rows]), findings)


def _says(findings: Sequence[Finding]) -> str:
    differs = [one for one in findings if one.outcome == "differs"]
    if differs:
        return "is not registered as it should be"
    return "could not be verified" if findings else "has no address that counts"


class _OwnWords:
    def __init__(self, own: OwnScope, scope: HereScope) -> None:
        self._own = own
        self._scope = scope
        self._text = to_text(own.name)
        zone = scope.estate.zone_of(own.name, own.view)
        self._zone = zone.apex if zone is not None else None

    def _row(self, title: str, says: str, findings: list[Finding], *, certain: bool) -> Judged:
        return row(title, says, findings, worst([*marks_told(findings), "ok" if certain else "unverified"]))

    def _unverified(self, name: Name, rdtype: int, looked_up: Lookup) -> Finding:
        why = troubles_of(looked_up)
        text = f"Whether {to_text(name)} is registered could not be seen: {why}."
        return state(
            "here.unverified", text, name=name, rdtype=rdtype, view=self._own.view, outcome="unverified", cause=why,
            answers=answers_of(looked_up)[:4],
        )  # fmt: skip

    def _of_address(
        self, code: str, text: str, looked_up: Lookup, address: bytes, *, changes: Sequence[Change]
    ) -> Finding:
        return state(
            code, text, name=self._own.name, rdtype=address_type(address), view=self._own.view,
            answers=answers_of(looked_up), changes=changes, address=address,
        )  # fmt: skip

    def _of_pointer(
        self,
        code: str,
        text: str,
        looked_up: Lookup,
        address: bytes,
        *,
        changes: Sequence[Change] = (),
        advice: str = "",
    ) -> Finding:
        return state(
            code, text, name=reverse_name(address), rdtype=PTR, view=self._own.view,
            answers=answers_of(looked_up), changes=changes, address=address, advice=advice,
        )  # fmt: skip

    def forward(self, looked_up: Lookup) -> Judged:
        """Return what the full name has."""
        says = ", ".join(address_text(value) for value in looked_up.values) or "no address"
        certain = looked_up.certain == "agrees"
        findings = [] if certain else [self._unverified(self._own.name, A, looked_up)]
        return self._row(f"{self._text} has", says, findings, certain=certain)

    def address(
        self, own: OwnAddress, forward: Lookup, pointer: Lookup, addresses_of: dict[Name, set[bytes]]
    ) -> Judged:
        """Return one address of an interface: registered with the name, and its pointer back at it."""
        findings: list[Finding] = []
        text = address_text(own.address)
        lacking = [telling.server for telling in forward.usable if own.address not in telling.values]
        if lacking:
            change = changed(
                self._own.name, address_type(own.address), "expected", "this computer has it", view=self._own.view,
                zone=self._zone, add=[own.address],
            )  # fmt: skip
            said = f"{text} of {own.link} is not registered for {self._text} on {labels_of(lacking)}."
            findings.append(self._of_address("here.self-missing", said, forward, own.address, changes=[change]))
        findings += self._pointer(own, pointer, addresses_of)
        certain = forward.certain == "agrees" and pointer.certain == "agrees"
        says = (
            "registered, with its PTR record" if not findings and certain else "; ".join(one.text for one in findings)
        )
        return self._row(f"{text} ({own.link})", says or "not known", findings, certain=certain)

    def _pointer(self, own: OwnAddress, pointer: Lookup, addresses_of: dict[Name, set[bytes]]) -> list[Finding]:
        name, text = reverse_name(own.address), address_text(own.address)
        if pointer.certain != "agrees":
            return [self._unverified(name, PTR, pointer)]
        values = [other for other in pointer.values if other != self._own.name and own.address in addresses_of[other]]
        if values:
            who = together_said(map(to_text, values))
            said = (
                f"{text} of {own.link} is registered for {who} as well: another computer has this address, or had it."
            )
            advice = f"find out whether {who} still has {text}"
            return [self._of_pointer("here.self-taken", said, pointer, own.address, advice=advice)]
        if all(self._own.name in telling.values for telling in pointer.usable):
            return []
        zone = self._scope.estate.zone_of(name, self._own.view)
        gone = [value for value in pointer.values if value != self._own.name]
        change = changed(
            name, PTR, "forward", "this computer has the address", view=self._own.view,
            zone=zone.apex if zone is not None else None, add=[self._own.name], remove=gone,
        )  # fmt: skip
        points = together_said(map(to_text, pointer.values)) or "nobody"
        said = f"The PTR record of {text} ({own.link}) leads to {points}, and not to {self._text} on every server."
        return [self._of_pointer("here.self-pointer", said, pointer, own.address, changes=[change])]

    def old(self, forward: Lookup) -> list[Judged]:
        """Return addresses that are registered, and that this computer does not have."""
        mine = {one.address for one in self._scope.settings.addresses}
        rows = []
        for value in sorted(set(forward.values) - mine):
            if ipaddress.ip_address(value).is_loopback:
                continue
            text, rdtype = address_text(value), address_type(value)
            change = changed(
                self._own.name, rdtype, "expected", "this computer does not have it", view=self._own.view, zone=self._zone,
                remove=[value],
            )  # fmt: skip
            said = f"{text} is registered for {self._text}, and this computer does not have it."
            finding = self._of_address("here.self-old", said, forward, value, changes=[change])
            rows.append(self._row(text, "registered, and not here", [finding], certain=True))
        return rows

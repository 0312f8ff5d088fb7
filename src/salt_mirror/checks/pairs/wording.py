"""What the check `pairs` says of what differs: one method for each case, with its evidence and what would mend it.

Strategy: the judgement decides which case it is, and this module words it. Texts are short, name the host first, and give
server labels; what would mend it is a change from `repairs`, or a choice where two of them are right.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from salt_mirror.checks.common.lookup import Lookup, Telling
from salt_mirror.checks.common.standing import UNKNOWN, let_transfer
from salt_mirror.checks.common.undotted import undotted
from salt_mirror.checks.common.wording import labels_of
from salt_mirror.checks.pairs.repairs import address_changed, alias_to, as_expected, one_pointer, pointers_changed
from salt_mirror.checks.pairs.unverified import DoubtWords
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import PTR, A, address_type
from salt_mirror.dns.reverse import address_text, is_reverse
from salt_mirror.findings import Change, Choice, Finding, Precedence

if TYPE_CHECKING:
    from salt_mirror.checks.pairs.case import PairCase


class PairWords(DoubtWords):
    """Words the findings about one case."""

    def __init__(self, case: PairCase) -> None:
        super().__init__(case.view, case.subject)
        self._case = case
        self._expects = case.atlas.expects
        self._expected = case.expected

    # What the forward side says

    def no_address(self, expected: Sequence[bytes]) -> Finding:
        """Report that the name has no address on any server that answered."""
        forward = self._subject
        name, twice = to_text(forward.name), undotted(forward.canonical)
        changes: list[Change] = []
        if forward.circle:
            what = f"{name} is an alias that leads in a circle: {' -> '.join(map(to_text, forward.circle))}"
        elif forward.followed:
            what = f"{name} is an alias of {to_text(forward.canonical)}, which "
            what += "has no address" if forward.exists else "does not exist"
            if twice is not None:
                what += f"; the trailing dot of the alias seems to be missing (meant {to_text(twice)}?)"
        elif forward.exists:
            what = f"{name} exists, but has neither A nor AAAA"
        else:
            what = f"{name} does not exist"
        if expected:
            changes = as_expected(forward, self.view, self._expected)
        elif forward.followed and twice is not None:
            changes = [
                alias_to(forward, self.view, twice, f"the trailing dot of {to_text(forward.canonical)} is missing")
            ]
        return self._finding(
            "pair.no-address",
            what + _on(forward.usable, forward) + ".",
            evidence=forward.evidence(),
            rdtype=address_type(expected[0]) if expected else A,
            expected=list(map(address_text, expected)),
            changes=changes,
            advice=""
            if changes
            else f"it is not known which address {to_text(forward.canonical)} should have: register it, or "
            "expect it in the estate, or take away what leads to it",
        )

    def other_address(self, expected: bytes, instead: Sequence[bytes]) -> Finding:
        """Report that the servers do not give an address that is expected."""
        forward = self._subject
        has = ", ".join(map(address_text, instead or forward.values))
        return self._finding(
            "pair.other-address",
            f"{to_text(forward.name)} is expected at {address_text(expected)}, and is registered at {has}.",
            evidence=forward.evidence(),
            address=expected,
            expected=[address_text(expected)],
            changes=as_expected(forward, self.view, self._expected),
        )

    def forward_divided(self, forward: Lookup, address: bytes) -> Finding:
        """Report that some servers of the name's zone give the address, others do not. What mends it follows from whose version
        counts."""
        yes = forward.saying(address)
        no = [telling.server for telling in forward.usable if telling.server not in yes]
        name, where = to_text(forward.canonical), address_text(address)
        known = forward is self._subject
        standing = self._case.standing or UNKNOWN if known else self._case.of_leads.get(forward.name, UNKNOWN)
        right = standing.right(forward)
        outdated = right is not None and address not in right and not (known and address in self._expected)
        text, advice, cause = f"{name} is at {where} on {labels_of(yes)}, and not on {labels_of(no)}.", "", ""
        changes: list[Change] = []
        choices: list[Choice] = []
        disagreement = f"the servers of {name} disagree on {where}"
        everywhere = partial(address_changed, forward, self.view, address, disagreement)
        if outdated:
            text = f"{name} is still at {where} on {labels_of(yes)}; {labels_of(no)} has the version that counts, without it."
            advice = let_transfer(yes) if standing.only_lag(yes) else f"on {labels_of(yes)} remove {name} {where}"
        elif standing.only_lag(no):
            text += f" {labels_of(no)} {'is' if len(no) == 1 else 'are'} behind."
            advice = let_transfer(no)
        elif standing.unreplicated(no, yes) and standing.replicas is not None:
            text += f" They replicate {standing.replicas.through}: what was changed on one of them has not come to the other."
            advice, cause = standing.catching_up(no, yes)
        elif known and address in self._expected and not forward.followed:
            changes = as_expected(forward, self.view, self._expected)
        elif right is not None and not forward.followed:
            changes = [everywhere(register=True)]
        else:
            text += " No version counts for more than another: decide which is right, then bring the servers into line."
            choices = [
                Choice(word="remove", says="the address is old", changes=[everywhere(register=False)]),
                Choice(word="register", says="it is right", changes=[everywhere(register=True)]),
            ]
        return self._finding(
            "pair.servers-disagree",
            text,
            name=forward.name,
            address=address,
            evidence=forward.evidence(),
            expected=[address_text(address)] if not outdated else [],
            changes=changes,
            choices=choices,
            advice=advice,
            cause=cause,
        )

    def through_alias(self, address: bytes) -> Finding:
        """Report that the name is an alias; its canonical name was judged."""
        forward = self._subject
        return self._finding(
            "pair.through-alias",
            f"{to_text(forward.name)} is an alias; judged at its canonical name {to_text(forward.canonical)}.",
            address=address,
            evidence=forward.evidence(),
        )

    # What the reverse side says

    def no_pointer(self, reverse: Lookup, address: bytes) -> Finding:
        """Report that the address has no PTR record on any server that answered."""
        return self._pointer(
            "pair.no-pointer",
            f"{address_text(address)} of {to_text(self._subject.canonical)} has no PTR record{_on(reverse.usable, reverse)}.",
            reverse,
            address,
            self._subject.canonical,
        )

    def no_pointer_no_name(self, address: bytes) -> Finding:
        """Return an address that was asked for has no PTR record, and nobody knows its name."""
        reverse = self._subject
        return self._finding(
            "pair.no-pointer",
            f"{address_text(address)} has no PTR record{_on(reverse.usable, reverse)}, and the estate knows no name for it.",
            address=address,
            rdtype=PTR,
            evidence=reverse.evidence(),
            advice=f"it is not known whose address {address_text(address)} is: give the host, or expect the PTR record",
            stands_at=reverse.canonical,
        )

    def reverse_divided(self, reverse: Lookup, address: bytes, forward: Lookup) -> Finding:
        """Report that servers of the reverse zone name different targets."""
        said: dict[str, list[Server]] = {}
        for telling in reverse.usable:
            says = ", ".join(map(to_text, telling.values)) or (
                f"an alias of {to_text(telling.alias)}" if telling.alias else "nothing"
            )
            said.setdefault(says, []).append(telling.server)
        sides = "; ".join(f"{labels_of(servers)} says {says}" for says, servers in said.items())
        wrong = [one.server for one in reverse.usable if one.values != (forward.canonical,)]
        right = [one.server for one in reverse.usable if one.values == (forward.canonical,)]
        advice, cause = self._case.of_pointers.get(address, UNKNOWN).catching_up(wrong, right)
        if address not in forward.values:
            advice = advice or "decide which is right, then bring the servers into line"
        return self._pointer(
            "pair.servers-disagree",
            f"The servers differ about the PTR record of {address_text(address)}: {sides}.",
            reverse,
            address,
            forward.canonical,
            rdtype=PTR,
            advice=advice,
            cause=cause,
        )

    def many_pointers(self, reverse: Lookup, address: bytes, leading: Sequence[Name]) -> Finding:
        """Report that the address has several pointers."""
        names = ", ".join(sorted(map(to_text, reverse.values)))
        spare = set(reverse.values) - set(leading)
        change = partial(pointers_changed, reverse, self.view, reason=f"{address_text(address)} needs one PTR record")
        changes: list[Change] = []
        choices: list[Choice] = []
        if len(leading) > 1:
            keep = f"keep only {to_text(leading[0])}"
            choices = [
                Choice(word="remove", says=keep, changes=[change(remove=set(reverse.values) - {leading[0]})]),
                Choice(word="register", says="keep several", changes=[change(remove=spare)] if spare else []),
            ]
        elif leading:
            changes = [change(remove=spare)]
        return self._finding(
            "pair.many-pointers",
            f"{address_text(address)} has {len(reverse.values)} PTR records: {names}.",
            name=reverse.name,
            rdtype=PTR,
            address=address,
            evidence=reverse.evidence(),
            changes=changes,
            choices=choices,
            stands_at=reverse.canonical,
        )

    def alias_target(self, reverse: Lookup, address: bytes, target: Name, lead: Lookup) -> Finding:
        """Report that the pointer names an alias of the name that has the address."""
        return self._pointer(
            "pair.alias-target",
            f"The PTR record of {address_text(address)} names {to_text(target)}, an alias of {to_text(lead.canonical)}.",
            reverse,
            address,
            lead.canonical,
            name=lead.canonical,
            extra=lead,
        )

    def shared(self, reverse: Lookup, address: bytes, target: Name, lead: Lookup) -> Finding:
        """Report that the pointer names another host that has the address too."""
        return self._finding(
            "pair.shared",
            f"{to_text(self._subject.name)} shares {address_text(address)} with {to_text(target)}, which the PTR record names.",
            address=address,
            evidence=reverse.evidence() + lead.evidence(),
        )

    def bad_pointer(self, reverse: Lookup, address: bytes, target: Name, lead: Lookup, owner: Lookup | None) -> Finding:
        """Report that the pointer's name does not lead back. `owner` has the address by right, where that is known."""
        where, said = address_text(address), to_text(target)
        meant = undotted(target)
        if owner is not None:
            start, right = f"{where} belongs to {to_text(owner.canonical)}, but its PTR record", owner.canonical
        else:
            start, right = f"The PTR record of {where}", None
        code, text = _leads_wrong(start, target, lead)
        if code == "pair.missing-dot":
            right = right or meant
        changes: list[Change] = []
        choices: list[Choice] = []
        advice = ""
        change = partial(pointers_changed, reverse, self.view, remove={target})
        gone = change(reason=f"{said} is not at {where}")
        if right is not None:
            by: Precedence = "forward" if owner is not None else "registered"
            changes = [change(add={right}, reason=f"{where} belongs to {to_text(right)}", by=by)]
            if owner is None:  # where nobody of that name is there either
                choices = (
                    [Choice(word="remove", says="no host has the address", changes=[gone])] if not reverse.wild else []
                )
        elif target in self._expects.values(self.view, reverse.canonical, PTR):
            changes, advice = self._as_the_pointer_says(address, target, lead)
        elif (wanted := self._expects.addresses(self.view, target)) or self._expects.gone(self.view, target):
            if address in wanted:  # what is expected is registered, and nobody has to decide that
                changes = as_expected(lead, self.view, wanted)
            elif not reverse.wild:
                changes = [gone]
        elif reverse.wild:
            text += " A wildcard synthesizes that PTR record: there is no record of its own to remove."
            advice = (
                f"register a PTR record for {where} if a host has it; else take the wildcard out, which names {said} for every "
                "address without one"
            )
        elif code in ("pair.stale-pointer", "pair.missing-dot") or target == ROOT or lead.circle:
            changes = [gone]
        else:
            text += " Register the name, or remove the PTR record."
            host = address_changed(lead, self.view, address, f"{said} was forgotten", register=True)
            choices = [
                Choice(word="remove", says="the host is gone", changes=[gone]),
                Choice(word="register", says="the host was forgotten", changes=[host]),
            ]
        return self._finding(
            code,
            text,
            name=owner.name if owner is not None else target,
            address=address,
            evidence=reverse.evidence() + lead.evidence(),
            expected=[to_text(owner.canonical)] if owner is not None else [],
            changes=changes,
            choices=choices,
            advice=advice,
            stands_at=reverse.canonical,
        )

    def _as_the_pointer_says(self, address: bytes, target: Name, lead: Lookup) -> tuple[list[Change], str]:
        """Return what mends a pointer that the estate expects, and that leads astray: it stays, and its host is to have the
        address."""
        wanted = self._expects.addresses(self.view, target)
        if address in wanted:
            return as_expected(lead, self.view, wanted), ""
        text, where = to_text(target), address_text(address)
        return [], f"the estate expects this PTR record: expect {text} at {where} too, or another PTR record"

    def _pointer(
        self,
        code: str,
        text: str,
        reverse: Lookup,
        address: bytes,
        right: Name,
        *,
        name: Name | None = None,
        extra: Lookup | None = None,
        rdtype: int | None = None,
        advice: str = "",
        cause: str = "",
    ) -> Finding:
        """Return a finding that one right pointer would mend, unless there is other advice."""
        reason = f"{address_text(address)} belongs to {to_text(right)}"
        return self._finding(
            code,
            text,
            name=name,
            rdtype=rdtype,
            address=address,
            evidence=reverse.evidence() + (extra.evidence() if extra is not None else []),
            expected=[to_text(right)],
            changes=[] if advice else [one_pointer(reverse, self.view, right, reason)],
            advice=advice,
            cause=cause,
            stands_at=reverse.canonical,
        )


def _leads_wrong(start: str, target: Name, lead: Lookup) -> tuple[str, str]:
    """Return the code and the text of a pointer whose name does not lead back; `start` is how the text begins."""
    text, meant = to_text(target), undotted(target)
    if target == ROOT:
        return "pair.lost-pointer", f'{start} names the root ("."), which is no host.'
    if lead.circle:
        return "pair.orphan-pointer", f"{start} names {text}, whose aliases lead in a circle."
    if meant is not None or is_reverse(target):
        hint = f" (meant {to_text(meant)}?)" if meant is not None else ""
        return "pair.missing-dot", f"{start} names {text}: a trailing dot is missing where it was written{hint}."
    if not lead.exists:
        return "pair.lost-pointer", f"{start} names {text}, which does not exist."
    if not lead.values:
        return "pair.orphan-pointer", f"{start} names {text}, which has no address of this family."
    has = ", ".join(map(address_text, lead.values))
    return "pair.stale-pointer", f"{start} names {text}, which is at {has}."


def _on(tellings: Sequence[Telling], whole: Lookup) -> str:
    """Say on which servers, when not all of them answered."""
    if not whole.unverified:
        return ""
    return f" on {labels_of([telling.server for telling in tellings])}"

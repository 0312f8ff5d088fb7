"""What the check `pairs` says: one method for each finding, with its evidence and the line that would mend it.

Strategy: the judgement decides which case it is, and this module words it, one method a case, so that it is longer than others.
Texts are short, name the host first, and give server labels; what would mend it is proposed as changes to whole sets, or as a
choice where two repairs are right.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from functools import partial
from typing import Any

from salt_mirror.checks.behind import UNKNOWN, Standing, let_transfer
from salt_mirror.checks.lookup import Lookup, Telling, evidence_of
from salt_mirror.checks.proposing import changed, whole_set
from salt_mirror.checks.undotted import undotted
from salt_mirror.checks.wording import labels_of, no_word_of, silence_of, state, together_said
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, CNAME, PTR, A, address_type
from salt_mirror.dns.reverse import address_text, is_reverse
from salt_mirror.findings import Change, Choice, Evidence, Finding, Outcome, Rule


class PairWords:
    """Words the findings about one name in one view. `standing` says whose word on the name counts, `expected` which addresses
    it is to have; `of_pointers` and `of_leads` whose word counts on the pointers of an address, and on the names that those
    lead to, where servers differ."""

    def __init__(
        self, view: str, subject: Lookup, standing: Standing = UNKNOWN, expected: Collection[bytes] = frozenset()
    ) -> None:
        self.view = view
        self.of_pointers: dict[bytes, Standing] = {}
        self.of_leads: dict[Name, Standing] = {}
        self._subject = subject
        self._standing = standing
        self._expected = expected
        self._right = standing.right(subject) if subject.divided else None

    def outdated(self, address: bytes) -> bool:
        """Whether only servers have the address whose version does not count, and nobody expects it."""
        return self._right is not None and address not in self._right and address not in self._expected

    def _finding(
        self,
        code: str,
        text: str,
        *,
        evidence: list[Evidence],
        address: bytes | None = None,
        name: Name | None = None,
        rdtype: int | None = None,
        expected: Sequence[str] = (),
        changes: Sequence[Change] = (),
        choices: Sequence[Choice] = (),
        advice: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
        stands_at: Name | None = None,
    ) -> Finding:
        return state(
            code, text, name=name if name is not None else self._subject.name,
            rdtype=rdtype if rdtype is not None else address_type(address) if address is not None else A,
            view=self.view, evidence=evidence, expected=expected, changes=changes, choices=choices,
            advice=advice, outcome=outcome, cause=cause, address=address, stands_at=stands_at,
        )  # fmt: skip

    # What the forward side says

    def no_address(self, expected: Sequence[bytes]) -> Finding:
        """The name has no address on any server that answered."""
        forward = self._subject
        name, twice = to_text(forward.name), undotted(forward.canonical)
        changes: list[Change] = []
        if forward.circle:
            what = f"{name} is an alias that leads in a circle: {' -> '.join(map(to_text, forward.circle))}"
        elif forward.followed:
            what = f"{name} is an alias of {to_text(forward.canonical)}, which "
            what += "has no address" if forward.exists else "does not exist"
            if twice is not None:
                what += f"; the alias looks as if its final dot were missing (meant {to_text(twice)}?)"
        elif forward.exists:
            what = f"{name} exists, but has neither A nor AAAA"
        else:
            what = f"{name} does not exist"
        if expected:
            changes = self._as_expected()
        elif forward.followed and twice is not None:
            changes = [self._alias_to(twice, f"the final dot of {to_text(forward.canonical)} is missing")]
        return self._finding(
            "pair.no-address",
            what + _on(forward.usable, forward) + ".",
            evidence=forward.evidence(),
            rdtype=address_type(expected[0]) if expected else A,
            expected=list(map(address_text, expected)),
            changes=changes,
            advice=""
            if changes
            else f"nobody has told which address {to_text(forward.canonical)} should have: register it, or "
            "expect it in the estate, or take away what leads to it",
        )

    def _as_expected(self) -> list[Change]:
        """The name's address sets as they are expected, with an alias in their place taken away."""
        forward, zone = self._subject, self._subject.first.zone
        where: dict[str, Any] = {"view": self.view, "zone": zone}
        reason = f"expected at {together_said(map(address_text, sorted(self._expected)))}"
        changes = [
            changed(forward.name, CNAME, "expected", reason, remove={telling.alias}, **where)
            for telling in forward.trail
            if telling.alias is not None and telling.answers[0].question.name == forward.name
        ]
        for rdtype in (A, AAAA):
            wanted = {value for value in self._expected if address_type(value) == rdtype}
            there = [{value for value in telling.values if address_type(value) == rdtype} for telling in forward.usable]
            if wanted and (forward.followed or any(wanted - one for one in there) or not there):
                there = [] if forward.followed else there
                changes.append(whole_set(forward.name, rdtype, "expected", reason, whole=wanted, there=there, **where))
        return list({(one.type, *one.add, *one.remove): one for one in changes}.values())

    def _alias_to(self, target: Name, reason: str) -> Change:
        """The last alias on the way, with another target."""
        last = next(one for one in reversed(self._subject.trail) if one.alias is not None)
        name = last.answers[0].question.name
        zone = self._subject.first.zone if name == self._subject.name else None
        there = [one.values or (one.alias,) for one in self._subject.trail if one.alias is not None]
        return whole_set(name, CNAME, "registered", reason, view=self.view, zone=zone, whole={target}, there=there)

    def other_address(self, expected: bytes, instead: Sequence[bytes]) -> Finding:
        """The servers do not give an address that is expected."""
        forward = self._subject
        has = ", ".join(map(address_text, instead or forward.values))
        return self._finding(
            "pair.other-address",
            f"{to_text(forward.name)} is expected at {address_text(expected)}, and is registered at {has}.",
            evidence=forward.evidence(),
            address=expected,
            expected=[address_text(expected)],
            changes=self._as_expected(),
        )

    def forward_divided(self, forward: Lookup, address: bytes) -> Finding:
        """Some servers of the name's zone give the address, others do not. What mends it follows from whose version counts."""
        yes = forward.saying(address)
        no = [telling.server for telling in forward.usable if telling.server not in yes]
        name, where = to_text(forward.canonical), address_text(address)
        known = forward is self._subject
        standing = self._standing if known else self.of_leads.get(forward.name, UNKNOWN)
        right = standing.right(forward)
        outdated = right is not None and address not in right and not (known and address in self._expected)
        text, advice = f"{name} is at {where} on {labels_of(yes)}, and not on {labels_of(no)}.", ""
        changes: list[Change] = []
        choices: list[Choice] = []
        if outdated:
            text = f"{name} is still at {where} on {labels_of(yes)}; {labels_of(no)} has the version that counts, without it."
            advice = let_transfer(yes) if standing.only_lag(yes) else f"on {labels_of(yes)} remove {name} {where}"
        elif standing.only_lag(no):
            text += f" {labels_of(no)} {'is' if len(no) == 1 else 'are'} behind."
            advice = let_transfer(no)
        elif known and address in self._expected and not forward.followed:
            changes = self._as_expected()
        elif right is not None and not forward.followed:
            changes = [self._everywhere(forward, address, register=True)]
        else:
            text += " No version counts for more than another: decide which is right, then bring the servers into line."
            choices = [
                Choice(
                    word="remove",
                    says="the address is old",
                    changes=[self._everywhere(forward, address, register=False)],
                ),
                Choice(
                    word="register", says="it is right", changes=[self._everywhere(forward, address, register=True)]
                ),
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
        )

    def _everywhere(self, forward: Lookup, address: bytes, *, register: bool) -> Change:
        """An address that only some servers have, registered on all or on none."""
        reason = f"the servers of {to_text(forward.canonical)} disagree on {address_text(address)}"
        return changed(
            forward.canonical, address_type(address), "registered", reason, view=self.view, zone=forward.authority.zone,
            add=[address] if register else [], remove=[] if register else [address],
        )  # fmt: skip

    def through_alias(self, address: bytes) -> Finding:
        """The name is an alias; its canonical name was judged."""
        forward = self._subject
        return self._finding(
            "pair.through-alias",
            f"{to_text(forward.name)} is an alias; judged at its canonical name {to_text(forward.canonical)}.",
            address=address,
            evidence=forward.evidence(),
        )

    # What the reverse side says

    def no_pointer(self, reverse: Lookup, address: bytes) -> Finding:
        """The address has no pointer on any server that answered."""
        return self._pointer(
            "pair.no-pointer",
            f"{address_text(address)} of {to_text(self._subject.canonical)} has no pointer{_on(reverse.usable, reverse)}.",
            reverse,
            address,
            self._subject.canonical,
        )

    def no_pointer_no_name(self, address: bytes) -> Finding:
        """An address that was asked for has no pointer, and nobody knows its name."""
        reverse = self._subject
        return self._finding(
            "pair.no-pointer",
            f"{address_text(address)} has no pointer{_on(reverse.usable, reverse)}, and the estate knows no name for it.",
            address=address,
            rdtype=PTR,
            evidence=reverse.evidence(),
            advice=f"nobody has told whose address {address_text(address)} is: give the host, or expect the pointer",
            stands_at=reverse.canonical,
        )

    def reverse_divided(self, reverse: Lookup, address: bytes, forward: Lookup) -> Finding:
        """Servers of the reverse zone name different targets."""
        said: dict[str, list[Server]] = {}
        for telling in reverse.usable:
            says = ", ".join(map(to_text, telling.values)) or (
                f"an alias of {to_text(telling.alias)}" if telling.alias else "nothing"
            )
            said.setdefault(says, []).append(telling.server)
        sides = "; ".join(f"{labels_of(servers)} says {says}" for says, servers in said.items())
        wrong = [one.server for one in reverse.usable if one.values != (forward.canonical,)]
        advice = let_transfer(wrong) if self.of_pointers.get(address, UNKNOWN).only_lag(wrong) else ""
        if address not in forward.values:
            advice = advice or "decide which is right, then bring the servers into line"
        return self._pointer(
            "pair.servers-disagree",
            f"The servers disagree on the pointer of {address_text(address)}: {sides}.",
            reverse,
            address,
            forward.canonical,
            rdtype=PTR,
            advice=advice,
        )

    def many_pointers(self, reverse: Lookup, address: bytes, leading: Sequence[Name]) -> Finding:
        """The address has several pointers."""
        names = ", ".join(sorted(map(to_text, reverse.values)))
        spare = set(reverse.values) - set(leading)
        change = partial(self._pointer_change, reverse, reason=f"{address_text(address)} needs one pointer")
        changes: list[Change] = []
        choices: list[Choice] = []
        if len(leading) > 1:
            keep = f"keep {to_text(leading[0])} alone"
            choices = [
                Choice(word="remove", says=keep, changes=[change(remove=set(reverse.values) - {leading[0]})]),
                Choice(word="register", says="let several stand", changes=[change(remove=spare)] if spare else []),
            ]
        elif leading:
            changes = [change(remove=spare)]
        return self._finding(
            "pair.many-pointers",
            f"{address_text(address)} has {len(reverse.values)} pointers: {names}.",
            name=reverse.name,
            rdtype=PTR,
            address=address,
            evidence=reverse.evidence(),
            changes=changes,
            choices=choices,
            stands_at=reverse.canonical,
        )

    def alias_target(self, reverse: Lookup, address: bytes, target: Name, lead: Lookup) -> Finding:
        """The pointer names an alias of the name that has the address."""
        return self._pointer(
            "pair.alias-target",
            f"The pointer of {address_text(address)} names {to_text(target)}, an alias of {to_text(lead.canonical)}.",
            reverse,
            address,
            lead.canonical,
            name=lead.canonical,
            extra=lead,
        )

    def shared(self, reverse: Lookup, address: bytes, target: Name, lead: Lookup) -> Finding:
        """The pointer names another host that has the address too."""
        return self._finding(
            "pair.shared",
            f"{to_text(self._subject.name)} shares {address_text(address)} with {to_text(target)}, which the pointer names.",
            address=address,
            evidence=reverse.evidence() + lead.evidence(),
        )

    def bad_pointer(self, reverse: Lookup, address: bytes, target: Name, lead: Lookup, owner: Lookup | None) -> Finding:
        """The pointer's name does not lead back. `owner` has the address by right, where that is known."""
        where, said = address_text(address), to_text(target)
        meant = undotted(target)
        if owner is not None:
            start, right = f"{where} belongs to {to_text(owner.canonical)}, but its pointer", owner.canonical
        else:
            start, right = f"The pointer of {where}", None
        if target == ROOT:
            code, text = "pair.lost-pointer", f'{start} names the root ("."), which is no host.'
        elif lead.circle:
            code, text = "pair.orphan-pointer", f"{start} names {said}, whose aliases lead in a circle."
        elif meant is not None or is_reverse(target):
            hint = f" (meant {to_text(meant)}?)" if meant is not None else ""
            text = f"{start} names {said}: a final dot is missing where it was written{hint}."
            code, right = "pair.missing-dot", right or meant
        elif not lead.exists:
            code, text = "pair.lost-pointer", f"{start} names {said}, which does not exist."
        elif not lead.values:
            code, text = "pair.orphan-pointer", f"{start} names {said}, which has no address of this family."
        else:
            has = ", ".join(map(address_text, lead.values))
            code, text = "pair.stale-pointer", f"{start} names {said}, which is at {has}."
        changes: list[Change] = []
        choices: list[Choice] = []
        change = partial(self._pointer_change, reverse, remove={target})
        gone = change(reason=f"{said} is not at {where}")
        if right is not None:
            by: Rule = "forward" if owner is not None else "registered"
            changes = [change(add={right}, reason=f"{where} belongs to {to_text(right)}", by=by)]
            if owner is None:  # where nobody of that name is there either
                choices = [Choice(word="remove", says="no host has the address", changes=[gone])]
        elif code in ("pair.stale-pointer", "pair.missing-dot") or target == ROOT or lead.circle:
            changes = [gone]
        else:
            text += " Register the name, or remove the pointer."
            host = changed(
                lead.canonical, address_type(address), "registered", f"{said} was forgotten", view=self.view,
                zone=lead.authority.zone, add=[address],
            )  # fmt: skip
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
            stands_at=reverse.canonical,
        )

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
    ) -> Finding:
        """A finding that one right pointer would mend, unless there is other advice."""
        reason = f"{address_text(address)} belongs to {to_text(right)}"
        return self._finding(
            code,
            text,
            name=name,
            rdtype=rdtype,
            address=address,
            evidence=reverse.evidence() + (extra.evidence() if extra is not None else []),
            expected=[to_text(right)],
            changes=[] if advice else [self._pointers(reverse, {right}, reason)],
            advice=advice,
            stands_at=reverse.canonical,
        )

    def _pointer_change(
        self, reverse: Lookup, reason: str, add: Iterable[Name] = (), remove: Iterable[Name] = (), by: Rule = "forward"
    ) -> Change:
        """Pointers that come and go, at the name that owns them."""
        zone = reverse.authority.zone
        return changed(reverse.canonical, PTR, by, reason, view=self.view, zone=zone, add=add, remove=remove)

    def _pointers(self, reverse: Lookup, whole: Collection[Name], reason: str, by: Rule = "forward") -> Change:
        """The pointers that an address has to have, at the name that owns them."""
        there = [telling.values for telling in reverse.usable]
        zone = reverse.authority.zone
        return whole_set(reverse.canonical, PTR, by, reason, view=self.view, zone=zone, whole=whole, there=there)

    # What could not be verified

    def _unverified(
        self,
        text: str,
        cause: str,
        evidence: list[Evidence],
        address: bytes | None,
        rdtype: int | None = None,
        stands_at: Name | None = None,
    ) -> Finding:
        return self._finding(
            "pair.unverified",
            text,
            address=address,
            rdtype=rdtype,
            evidence=evidence,
            outcome="unverified",
            cause=cause,
            stands_at=stands_at,
        )

    def unverified_name(self, expected: Sequence[bytes]) -> Finding:
        """No server gave a usable answer for the name."""
        forward = self._subject
        address = expected[0] if expected else None
        why = forward.trouble or "no usable answer"
        return self._unverified(f"{to_text(forward.name)}: {why}.", _cause(forward, why), forward.evidence(), address)

    def unverified_pointer(self, address: bytes) -> Finding:
        """No server gave a usable answer for the address's pointer, and no name is known for it."""
        reverse = self._subject
        why = reverse.trouble or "no usable answer"
        return self._unverified(
            f"The pointer of {address_text(address)}: {why}.", _cause(reverse, why), reverse.evidence(), address, PTR
        )

    def unverified_reverse(self, reverse: Lookup, address: bytes) -> Finding:
        """No server gave a usable answer for the pointer of a name's address."""
        why = reverse.trouble or "no usable answer"
        return self._unverified(
            f"The pointer of {address_text(address)} of {to_text(self._subject.name)}: {why}.",
            _cause(reverse, why),
            reverse.evidence(),
            address,
            stands_at=reverse.canonical,
        )

    def unverified_lead(self, address: bytes, target: Name, lead: Lookup) -> Finding:
        """The pointer names another host, and nobody says whether that has the address."""
        why = lead.trouble or "no usable answer"
        return self._unverified(
            f"The pointer of {address_text(address)} names {to_text(target)}: {why}.",
            _cause(lead, why),
            lead.evidence(),
            address,
        )

    def unverified_telling(self, telling: Telling, address: bytes, forward: Lookup, reverse: Lookup) -> Finding:
        """One server among several gave no usable answer."""
        server = telling.server
        why = f"{server.label}: {telling.trouble}"
        side = forward if telling in forward.unverified else reverse
        evidence = [evidence_of(answer) for answer in telling.answers]
        evidence += [evidence_of(answer) for other in side.usable for answer in other.answers]
        what = "addresses" if side is forward else f"pointer of {address_text(address)}"
        return self._unverified(
            f"{to_text(self._subject.name)}, {what}: {why}.",
            no_word_of(server, telling.trouble),
            evidence,
            address,
            stands_at=side.canonical,
        )


def _on(tellings: Sequence[Telling], whole: Lookup) -> str:
    """Says on which servers, when not all of them answered."""
    if not whole.unverified:
        return ""
    return f" on {labels_of([telling.server for telling in tellings])}"


def _cause(found: Lookup, why: str) -> str:
    """One text for all findings that the same servers' silence explains."""
    if not found.unverified:
        return f"no server to ask{' about the pointer' if is_reverse(found.name) else ''}: {why}"
    return silence_of(found.unverified)

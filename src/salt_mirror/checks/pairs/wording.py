"""What the check `pairs` says: one method for each finding, with its evidence and the line that would mend it.

Strategy: the judgement decides which case it is, and this module words it. Texts are short, name the host first, and give
server labels; remedies are whole records in master-file syntax, or a comment in that syntax where a record has to go.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from salt_mirror.checks.behind import UNKNOWN, Standing, let_transfer
from salt_mirror.checks.lookup import Lookup, Telling, evidence_of
from salt_mirror.checks.undotted import undotted
from salt_mirror.checks.wording import labels_of, no_word_of, silence_of, state
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import PTR, A, address_type, record_line
from salt_mirror.dns.reverse import address_text, is_reverse
from salt_mirror.findings import Evidence, Finding, Outcome


class PairWords:
    """Words the findings about one name in one view. `standing` says whose word on the name counts, `expected` which addresses
    it is to have; `of_pointers` whose word counts on the pointers of an address, where servers differ on them."""

    def __init__(
        self, view: str, subject: Lookup, standing: Standing = UNKNOWN, expected: Collection[bytes] = frozenset()
    ) -> None:
        self.view = view
        self.of_pointers: dict[bytes, Standing] = {}
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
        remedy: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
        stands_at: Name | None = None,
    ) -> Finding:
        return state(
            code, text, name=name if name is not None else self._subject.name,
            rdtype=rdtype if rdtype is not None else address_type(address) if address is not None else A,
            view=self.view, evidence=evidence, expected=expected, remedy=remedy, outcome=outcome, cause=cause, address=address,
            stands_at=stands_at,
        )  # fmt: skip

    # What the forward side says

    def no_address(self, expected: Sequence[bytes]) -> Finding:
        """The name has no address on any server that answered."""
        forward = self._subject
        name = to_text(forward.name)
        if forward.circle:
            what = f"{name} is an alias that leads in a circle: {' -> '.join(map(to_text, forward.circle))}"
        elif forward.followed:
            what = f"{name} is an alias of {to_text(forward.canonical)}, which "
            what += "has no address" if forward.exists else "does not exist"
            twice = undotted(forward.canonical)
            if twice is not None:
                what += f"; the alias looks as if its final dot were missing (meant {to_text(twice)}?)"
        elif forward.exists:
            what = f"{name} exists, but has neither A nor AAAA"
        else:
            what = f"{name} does not exist"
        remedy = _address_line(forward.canonical, expected[0]) if expected else ""
        return self._finding(
            "pair.no-address",
            what + _on(forward.usable, forward) + ".",
            evidence=forward.evidence(),
            rdtype=address_type(expected[0]) if expected else A,
            expected=list(map(address_text, expected)),
            remedy=remedy,
        )

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
            remedy=_address_line(forward.canonical, expected),
        )

    def forward_divided(self, forward: Lookup, address: bytes) -> Finding:
        """Some servers of the name's zone give the address, others do not. What mends it follows from whose version counts."""
        yes = forward.saying(address)
        no = [telling.server for telling in forward.usable if telling.server not in yes]
        name, where = to_text(forward.canonical), address_text(address)
        line = _address_line(forward.canonical, address)
        known = forward is self._subject
        outdated = known and self.outdated(address)
        text, remedy = f"{name} is at {where} on {labels_of(yes)}, and not on {labels_of(no)}.", line
        if outdated:
            text = f"{name} is still at {where} on {labels_of(yes)}; {labels_of(no)} has the version that counts, without it."
            remedy = let_transfer(yes) if self._standing.only_lag(yes) else f"; on {labels_of(yes)} remove: {line}"
        elif known and self._standing.only_lag(no):
            text += f" {labels_of(no)} {'is' if len(no) == 1 else 'are'} behind."
            remedy = let_transfer(no)
        elif not known or (address not in self._expected and self._right is None):
            text += " No version counts for more than another: decide which is right, then bring the servers into line."
            remedy = ""
        return self._finding(
            "pair.servers-disagree",
            text,
            name=forward.name,
            address=address,
            evidence=forward.evidence(),
            expected=[address_text(address)] if not outdated else [],
            remedy=remedy,
        )

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
        lag = self.of_pointers.get(address, UNKNOWN).only_lag(wrong)
        return self._pointer(
            "pair.servers-disagree",
            f"The servers disagree on the pointer of {address_text(address)}: {sides}.",
            reverse,
            address,
            forward.canonical,
            rdtype=PTR,
            remedy=let_transfer(wrong) if lag else None,
        )

    def many_pointers(self, reverse: Lookup, address: bytes, leading: Sequence[Name]) -> Finding:
        """The address has several pointers."""
        names = ", ".join(sorted(map(to_text, reverse.values)))
        best = leading[0] if leading else reverse.values[0]
        remedy = "; keep one of them, such as: " + record_line(reverse.canonical, PTR, best)
        return self._finding(
            "pair.many-pointers",
            f"{address_text(address)} has {len(reverse.values)} pointers: {names}.",
            name=reverse.name,
            rdtype=PTR,
            address=address,
            evidence=reverse.evidence(),
            remedy=remedy,
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
        if right is not None:
            remedy = record_line(reverse.canonical, PTR, right)
        elif code in ("pair.stale-pointer", "pair.missing-dot") or target == ROOT or lead.circle:
            remedy = "; remove: " + record_line(reverse.canonical, PTR, target)
        else:
            remedy = _address_line(lead.canonical, address)
            text += " Register the name, or remove the pointer."
        return self._finding(
            code,
            text,
            name=owner.name if owner is not None else target,
            address=address,
            evidence=reverse.evidence() + lead.evidence(),
            expected=[to_text(owner.canonical)] if owner is not None else [],
            remedy=remedy,
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
        remedy: str | None = None,
    ) -> Finding:
        """A finding that one right pointer would mend, unless another remedy is given."""
        return self._finding(
            code,
            text,
            name=name,
            rdtype=rdtype,
            address=address,
            evidence=reverse.evidence() + (extra.evidence() if extra is not None else []),
            expected=[to_text(right)],
            remedy=record_line(reverse.canonical, PTR, right) if remedy is None else remedy,
            stands_at=reverse.canonical,
        )

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


def _address_line(name: Name, address: bytes) -> str:
    return record_line(name, address_type(address), address)


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

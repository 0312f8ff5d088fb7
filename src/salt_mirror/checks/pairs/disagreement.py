"""A name and an address of which not everything is as it should be: the cases, one method for each side."""

from __future__ import annotations

from salt_mirror.checks.common.lookup import Lookup, Telling
from salt_mirror.checks.common.standing import UNKNOWN
from salt_mirror.checks.pairs.case import Pair, PairCase, pointer_of
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.findings import Finding, worse


class Disagreement:
    """The cases in which not everything is as it should be, one method for each side."""

    def __init__(
        self, name: Name, address: bytes, forward: Lookup, reverse: Lookup, leads: dict[Name, Lookup], case: PairCase
    ) -> None:
        self.name = name
        self.address = address
        self.forward = forward
        self.reverse = reverse
        self.leads = leads
        self.case = case
        self.words = case.words
        self.outcome = worse(forward.certain, reverse.certain)
        self.findings: list[Finding] = []
        self.others: list[Pair] = []

    def pairs(self) -> list[Pair]:
        self._forward_side()
        if self.reverse.usable:
            self._reverse_side()
        self._doubts()
        pair = Pair(
            self.case.view,
            self.name,
            self.address,
            self.outcome,
            tuple(self.findings),
            pointer=pointer_of(self.reverse),
        )
        return [pair, *self.others]

    def _say(self, finding: Finding) -> None:
        self.findings.append(finding)
        # A caution or a note is worth reading, but forward and reverse agree all the same.
        if finding.weight == "fault":
            self.outcome = worse(self.outcome, finding.outcome)

    def _forward_side(self) -> None:
        forward, words = self.forward, self.words
        if forward.divided and 0 < len(forward.saying(self.address)) < len(forward.usable):
            self._say(words.forward_divided(forward, self.address))
        if forward.followed and not forward.circle:
            self._say(words.through_alias(self.address))

    def _reverse_side(self) -> None:
        reverse, words, address = self.reverse, self.words, self.address
        mine = self._names_me(reverse.values)
        if reverse.divided:
            self._say(words.reverse_divided(reverse, address, self.forward))
        if not reverse.values:
            self._say(words.no_pointer(reverse, address))
            return
        leading = sorted(filter(self._leads_back, reverse.values), key=to_text)
        if len(reverse.values) > 1 and not reverse.divided:
            self._say(words.many_pointers(reverse, address, leading))
        if mine and not self.forward.circle and self.forward.canonical not in reverse.values:
            self._say(words.alias_target(reverse, address, self.name, self.forward))
        outdated = self._outdated()
        strangers = [
            target
            for target in reverse.values
            if target not in (self.name, self.forward.canonical) and target not in outdated
        ]
        for target in strangers:
            self._stranger(target, mine=mine, shared=bool(leading))
        known = self.forward.usable or _leads_nowhere(self.name, self.forward)
        if mine and address not in self.forward.values and known and self.name not in outdated:
            self._say(words.bad_pointer(reverse, address, self.name, self.forward, None))

    def _outdated(self) -> set[Name]:
        """Return the pointers that only servers have which are behind: they go with the next transfer, and are told as that."""
        right = self.case.of_pointers.get(self.address, UNKNOWN).right(self.reverse) if self.reverse.divided else None
        return set(self.reverse.values) - right if right is not None else set()

    def _names_me(self, targets: tuple[bytes, ...]) -> bool:
        return self.name in targets or self.forward.canonical in targets

    def _leads_back(self, target: Name) -> bool:
        lead = self.forward if target in (self.name, self.forward.canonical) else self.leads.get(target)
        return lead is not None and self.address in lead.values

    def _stranger(self, target: Name, *, mine: bool, shared: bool) -> None:
        """A pointer to another name: it leads back, or it does not, or nobody can say."""
        lead, words, reverse, address = self.leads[target], self.words, self.reverse, self.address
        if address in lead.values:
            if lead.followed:
                self._say(words.alias_target(reverse, address, target, lead))
            elif not mine:
                self._say(words.shared(reverse, address, target, lead))
            if lead.divided and len(lead.saying(address)) < len(lead.usable):
                self._say(words.forward_divided(lead, address))
            return
        if not lead.usable and not _leads_nowhere(target, lead):
            self._doubt(words.unverified_lead(address, target, lead))
            return
        own_cause = mine or shared
        finding = words.bad_pointer(reverse, address, target, lead, None if own_cause else self.forward)
        if own_cause:  # this pair is sound; the faulty pointer is the other name's
            self.others.append(Pair(self.case.view, target, address, "differs", (finding,)))
        else:
            self._say(finding)

    def _doubts(self) -> None:
        """What was not answered makes agreement unproven. It never makes a fault, and never hides one."""
        reverse, forward, words = self.reverse, self.forward, self.words
        if not reverse.usable:
            self._doubt(words.unverified_reverse(reverse, self.address))
            return
        if not forward.usable:
            if not _leads_nowhere(self.name, forward):
                self._doubt(words.unverified_lead(self.address, self.name, forward))
            return
        for telling in _silent(forward, reverse):
            self._doubt(words.unverified_telling(telling, self.address, forward, reverse))

    def _doubt(self, finding: Finding) -> None:
        if self.outcome != "differs":
            self.outcome = "unverified"
        self.findings.append(finding)


def _leads_nowhere(target: Name, lead: Lookup) -> bool:
    """Return whether a pointer's name is known to lead nowhere, whatever anybody could say of it."""
    return target == ROOT or bool(lead.circle)


def _silent(forward: Lookup, reverse: Lookup) -> list[Telling]:
    """Return the tellings without proof, one for each server and side."""
    found: dict[tuple[int, Server], Telling] = {}
    for side in (forward, reverse):
        for telling in side.unverified:
            found.setdefault((id(side), telling.server), telling)
    return list(found.values())

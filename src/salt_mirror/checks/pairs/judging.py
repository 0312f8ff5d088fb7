"""Forward and reverse: does each address point back at its name, and does each pointer lead forward?

Strategy: one dialogue a name. Round one asks the forward zone's servers for addresses, round two the reverse zone's servers
for pointers, round three where those pointers lead. A pointer that no name led to gets a dialogue of its own, from round
two on. Each judgement is made per server first and across servers second, so that a server which lags behind is
named, and one which did not answer accuses nobody. The judgement itself is a pure function over three look-ups.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING

from salt_mirror.checks.common.atlas import Atlas, Authority
from salt_mirror.checks.common.lookup import Lookup, lookup
from salt_mirror.checks.common.part import NOTHING_JUDGED, ForeseenThings, Part, Setting, Verdict
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.pairs.case import Pair, PairCase, pointer_of
from salt_mirror.checks.pairs.plain import PlainPairs
from salt_mirror.checks.pairs.scope import UNSEEN, PairsScope, registered_addresses
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import ROOT, Name
from salt_mirror.dns.records import ADDRESS_TYPES, PTR, A, address_type
from salt_mirror.dns.reverse import address_of, reverse_name
from salt_mirror.dns.screening import ForeseenSubject
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome, worse

if TYPE_CHECKING:
    from salt_mirror.checks.common.coverage import Coverage
    from salt_mirror.checks.common.standing import Standing

Expectations = Mapping[tuple[str, Name], frozenset[bytes]]


class Pairs(Part):
    """The check at work: names first, then the pointers that no name has led to; each pair and each finding once."""

    def __init__(self, scope: PairsScope, atlas: Atlas) -> None:
        super().__init__()
        self.outcomes: dict[tuple[str, Name, bytes | None], Outcome] = {}
        self.size = scope.size
        self.remarks = scope.remarks
        self._scope = scope
        self._atlas = atlas
        self._findings: dict[tuple[str, ...], Finding] = {}
        self._looked_at: dict[str, set[bytes]] = {}
        self._elsewhere: dict[tuple[str, bytes], Name] = {}
        self._swept = False

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[list[Pair]]]]:
        scope, atlas = self._scope, self._atlas
        for name, view, says in scope.damaged():
            from salt_mirror.checks.pairs.unverified import damaged_row

            finding = damaged_row(name, view, says)
            self.take([Pair(view, name, None, "unverified", (finding,), pointed=False)])
        in_hand = list(registered_addresses(scope, atlas.given, setting.holdings))
        scope.take_registered(in_hand)
        if not in_hand and any(True for _ in scope.swept()):
            self.remarks.append(UNSEEN)
        self.size = scope.size
        plain = PlainPairs(atlas, scope.expected)
        yield ForeseenThings(
            scope.names, plain.foresee, _agreeing, lambda thing: pair_name(thing[0], thing[1], atlas, scope.expected)
        )
        yield self._unseen(setting)

    def _unseen(self, setting: Setting) -> Iterator[Dialogue[list[Pair]]]:
        for address, view, asked_for in self._scope.addresses(setting.holdings):
            if address not in self._looked_at.get(view, ()):
                yield pair_pointer(address, view, self._atlas, asked_for=asked_for)
        self._swept = True

    @property
    def sweeps(self) -> bool:
        """Whether whole networks are looked through."""
        return self._scope.sweeps

    def take(self, result: list[Pair]) -> None:
        """Add pairs; one that is known already keeps the worse of both outcomes."""
        for pair in result:
            key = (pair.view, pair.name, pair.address)
            known = self.outcomes.get(key)
            self.outcomes[key] = pair.outcome if known is None else worse(known, pair.outcome)
            if pair.address is not None and pair.pointed:
                self._looked_at.setdefault(pair.view, set()).add(pair.address)
                if pair.pointer is not None:
                    self._elsewhere[pair.view, pair.address] = pair.pointer
            for finding in pair.findings:
                other = self._findings.get(finding.identity)
                # A name is come to from several sides, in whatever order answers come: what says most of it is kept.
                if other is None or _says(finding) > _says(other):
                    self._findings[finding.identity] = finding

    def verdicts(self) -> Iterator[Verdict]:
        for (view, name, address), outcome in self.outcomes.items():
            yield Verdict(name, address_type(address) if address is not None else A, view, outcome, address)

    def counts(self) -> Counter[Outcome]:
        return Counter(self.outcomes.values())

    def owners(self, verdict: Verdict) -> Sequence[Name]:
        """Return the names whose zones a pair concerns: its own, and that at which its pointer stands."""
        forward = (verdict.name,) if address_of(verdict.name) is None else ()
        address = verdict.address
        if address is None or address not in self._looked_at.get(verdict.view, ()):
            return forward
        return (*forward, self._elsewhere.get((verdict.view, address)) or reverse_name(address))

    def swept(self) -> Iterator[tuple[Name, str]]:
        return self._scope.swept() if self._swept else iter(())

    @property
    def says(self) -> str:
        """The answer where there is nothing to count."""
        return f"No PTR record at {many(self.looked, 'address', 'addresses')}." if self.looked else NOTHING_JUDGED

    def findings(self) -> Iterable[Finding]:
        return self._findings.values()


def _says(finding: Finding) -> tuple[int, str, list[str], str]:
    """How much a finding says, in an order that is the same in every run."""
    return len(finding.evidence), finding.text, [one.question for one in finding.evidence], finding.remedy


def _agreeing(subject: ForeseenSubject) -> list[Pair]:
    """Return the pairs of a name of which all was as foreseen."""
    name, view = subject.what
    forward = subject.rounds[0]
    return [Pair(view, name, one.value, "agrees") for one in forward if one.value is not None]


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Pairs | None:
    """Return all names and networks of an estate, as far as they are covered."""
    try:
        scope = PairsScope(estate)
    except BadInput:  # there is nothing that it could look at
        return None
    if coverage.nearby is not None:
        scope.sweep_alone(coverage.nearby.addresses)
    scope.narrow(partial(coverage.looks_at, "pairs"))
    if not coverage.whole:
        scope.remarks.clear()
    if coverage.narrowing is not None:
        scope.leave_out(coverage.narrowing)
    return Pairs(scope, atlas) if scope.size or coverage.nearby is not None else None


def pair_name(name: Name, view: str, atlas: Atlas, expectations: Expectations) -> Dialogue[list[Pair]]:
    """Judge every address of a name. Returns a pair for each, and pairs of others whose pointers were found faulty.

    `expectations` are the addresses that are expected of a (view, name).
    """
    forward = yield from lookup(name, ADDRESS_TYPES, view, atlas)
    expected = expectations.get((view, name), frozenset())
    standing = (yield from _standing_of(forward, view, atlas)) if forward.divided else None
    case = PairCase(view, forward, atlas, standing, expected)
    if forward.circle:
        return [Pair(view, name, None, "differs", (case.words.no_address(sorted(expected)),))]
    # Nobody answered: nothing is missing, and nothing agrees either.
    if not forward.plain and not forward.usable:
        unknown = case.words.unverified_name(sorted(expected))
        return [
            Pair(view, name, address, "unverified", (unknown,), pointed=False)
            for address in sorted(expected) or (None,)
        ]
    if not forward.values:
        return [Pair(view, name, None, "differs", (case.words.no_address(sorted(expected)),))]
    # An address that only a server has which is behind has no PTR record to be judged by: it goes with the next transfer.
    outdated = [address for address in forward.values if case.outdated(address)]
    current = [address for address in forward.values if address not in outdated]
    # The common case does without the generator that joins several dialogues.
    if len(current) == 1:
        pairs = yield from _pair_address(name, current[0], forward, case, atlas)
    else:
        judgements = yield from together([_pair_address(name, address, forward, case, atlas) for address in current])
        pairs = [pair for judgement in judgements for pair in judgement]
    for address in outdated:
        finding = case.words.forward_divided(forward, address)
        pairs.append(Pair(view, name, address, "differs", (finding,), pointed=False))
    if expected and forward.canonical == name and expected != frozenset(forward.values):
        unexpected = set(forward.values) - expected
        gone = expected - set(forward.values)
        for address in sorted(gone):
            finding = case.words.other_address(address, sorted(unexpected))
            pairs.append(Pair(view, name, address, "differs", (finding,), pointed=False))
    return pairs


def _pair_address(name: Name, address: bytes, forward: Lookup, case: PairCase, atlas: Atlas) -> Dialogue[list[Pair]]:
    view = case.view
    reverse = yield from lookup(reverse_name(address), (PTR,), view, atlas)
    if reverse.divided:
        case.of_pointers[address] = yield from _standing_of(reverse, view, atlas)
    others = [target for target in reverse.values if target not in (name, forward.canonical)]
    leads: dict[Name, Lookup] = {}
    if others:
        leads = yield from _led_to(others, address, view, atlas)
        case.of_leads |= yield from _standings(leads, view, atlas)
        if any(address not in lead.values for lead in leads.values()):
            reverse.wild = yield from _made_by_a_wildcard(reverse)
    return judge(name, address, forward, reverse, leads, case)


def pair_pointer(address: bytes, view: str, atlas: Atlas, *, asked_for: bool) -> Dialogue[list[Pair]]:
    """Judge the PTR records of an address that no name led to. A missing PTR is reported only if `asked_for`."""
    reverse = yield from lookup(reverse_name(address), (PTR,), view, atlas)
    case = PairCase(view, reverse, atlas)
    if not reverse.usable:
        return [Pair(view, reverse.name, address, "unverified", (case.words.unverified_pointer(address),))]
    if not reverse.values:
        if not asked_for:
            return []
        return [Pair(view, reverse.name, address, "differs", (case.words.no_pointer_no_name(address),))]
    leads = yield from _led_to(reverse.values, address, view, atlas)
    standing = (yield from _standing_of(reverse, view, atlas)) if reverse.divided else None
    of_leads = yield from _standings(leads, view, atlas)
    if any(address not in lead.values for lead in leads.values()):
        reverse.wild = yield from _made_by_a_wildcard(reverse)
    pairs: list[Pair] = []
    for target, forward in leads.items():
        own = PairCase(view, forward, atlas, of_leads.get(target))
        if standing is not None:
            own.of_pointers[address] = standing
        own.of_leads = of_leads
        pairs += judge(target, address, forward, reverse, leads, own)
    return pairs


def _standing_of(looked_up: Lookup, view: str, atlas: Atlas) -> Dialogue[Standing]:
    # Brought in where servers differ: most never do.
    from salt_mirror.checks.common.standing import standing_of

    return (yield from standing_of(looked_up, view, atlas))


def _made_by_a_wildcard(reverse: Lookup) -> Dialogue[bool]:
    from salt_mirror.checks.common.wildcards import made_by_a_wildcard

    return (yield from made_by_a_wildcard(reverse))


def _led_to(targets: Sequence[Name], address: bytes, view: str, atlas: Atlas) -> Dialogue[dict[Name, Lookup]]:
    """Return where pointers lead. The root is no host, and is not asked for."""
    hosts = [target for target in targets if target != ROOT]
    lookups = yield from together([lookup(target, (address_type(address),), view, atlas) for target in hosts])
    leads = dict(zip(hosts, lookups, strict=True))
    return {target: leads.get(target) or Lookup(ROOT, ROOT, Authority(ROOT, ()), []) for target in targets}


def _standings(leads: dict[Name, Lookup], view: str, atlas: Atlas) -> Dialogue[dict[Name, Standing]]:
    """Return whose word counts on the names that pointers lead to, where servers differ on them."""
    found: dict[Name, Standing] = {}
    for target, lead in leads.items():
        if lead.divided:
            found[target] = yield from _standing_of(lead, view, atlas)
    return found


def judge(
    name: Name, address: bytes, forward: Lookup, reverse: Lookup, leads: dict[Name, Lookup], case: PairCase
) -> list[Pair]:
    """Judge one name and one address: `forward` looked the name up, `reverse` its pointers, `leads` the pointers' names.

    Pure: no question is asked. Returns the pair, and a pair for each other name whose pointer here is faulty.
    """
    # Most pairs end here; no object is made for their case.
    if address in forward.values and not reverse.divided:
        mine = reverse.values == (forward.canonical,)
        if mine and not forward.divided and forward.certain == reverse.certain == "agrees":
            note = (case.words.through_alias(address),) if forward.followed else ()
            return [Pair(case.view, name, address, "agrees", note, pointer=pointer_of(reverse))]
    from salt_mirror.checks.pairs.disagreement import Disagreement

    return Disagreement(name, address, forward, reverse, leads, case).pairs()

"""Names in several views: one dialogue a name, all its views at once; then what leaks, and which view each resolver gives.

Strategy: each view's own servers say what they say, and views are compared only where every one of them was answered for: what
one view's servers did not tell is unverified, and never hidden. Servers of one view that differ are no side to compare with. A
resolver is asked for names that tell the views apart, and is recognised by its answers alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.lookup import Lookup, at_name
from salt_mirror.checks.common.part import ForeseenThings, Part, Setting, Verdict
from salt_mirror.checks.views.plain import PlainViews
from salt_mirror.checks.views.scope import APART, NOTHING, InsideZone, NameInViews, Sets, ViewsScope
from salt_mirror.checks.views.wording import ViewWords
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import CNAME, NS, SOA, A
from salt_mirror.dns.screening import ForeseenSubject
from salt_mirror.estate.expectations import value_set
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding, Outcome

_PROBES = 5


@dataclass(slots=True)
class Side:
    """What one view's servers say of a name: its sets, or why that cannot be compared with anything. `apart` are sets that each
    view has for itself (NS, SOA). One that is only expected to say so was not looked up."""

    view: str
    found: Lookup | None
    sets: Sets = field(default_factory=dict)
    apart: Sets = field(default_factory=dict)
    trouble: str = ""

    @property
    def there(self) -> bool:
        """Whether the name has anything that was asked for."""
        return bool(self.sets)


def side_of(view: str, looked_up: Lookup) -> Side:
    """Put together what a view's servers say, where all of them answered and say the same."""
    if looked_up.trouble is not None or looked_up.unverified or not looked_up.usable:
        return Side(
            view,
            looked_up,
            trouble=looked_up.trouble
            or "; ".join(f"{one.server.label}: {one.trouble}" for one in looked_up.unverified),
        )
    told: list[Sets] = []
    for telling in looked_up.usable:
        sets = {answer.question.rdtype: frozenset(answer.values) for answer in telling.answers if answer.values}
        told.append(sets | ({CNAME: frozenset((telling.alias,))} if telling.alias is not None else {}))
    compared = [{rdtype: values for rdtype, values in one.items() if rdtype not in APART} for one in told]
    if any(one != compared[0] for one in compared):
        return Side(view, looked_up, trouble="its servers say different things")
    apart = {rdtype: values for rdtype, values in told[0].items() if rdtype in APART}
    return Side(view, looked_up, {rdtype: values for rdtype, values in told[0].items() if rdtype not in APART}, apart)


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Views | None:
    """Return the names of zones that stand in several views, and what must not be told outside, as far as that is covered."""
    if len(estate.zones) < 2:
        return None
    scope = ViewsScope(estate, sees=partial(coverage.looks_at, "views"))
    scope.check()
    return Views(scope, atlas)


@dataclass(slots=True)
class SeenInViews:
    """One thing that was looked at, and what became of it in each of its `views`: a name, a zone of the inside, or what a
    resolver gives. `addresses` are the A sets of a name by view, where they tell the views apart."""

    name: Name
    views: dict[str, Outcome]
    findings: Sequence[Finding] = ()
    addresses: Mapping[str, frozenset[bytes]] = field(default_factory=dict)
    rdtype: int = 0


class Views(Part):
    """The comparison of views at work."""

    def __init__(self, scope: ViewsScope, atlas: Atlas) -> None:
        super().__init__()
        self._scope = scope
        self._atlas = atlas
        self._seen: list[SeenInViews] = []

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[SeenInViews]]]:
        names = self._scope.names(setting.holdings)
        self.size = len(names)
        plain = PlainViews(self._atlas, self._is_right)
        yield ForeseenThings(names, plain.foresee, _agreeing, lambda one: look(one, self._scope, self._atlas))
        yield (leaks(zone) for zone in self._scope.inside_zones())
        if telling := self._telling():
            resolvers = self._scope.estate.resolvers.items()
            yield (recognise(label, server, telling, self._scope) for label, server in resolvers)

    def take(self, result: SeenInViews) -> None:
        self._seen.append(result)

    def _telling(self) -> list[SeenInViews]:
        """Names whose addresses tell the views apart, that both have first."""
        apart = [seen for seen in self._seen if seen.addresses]
        return sorted(apart, key=lambda one: (sum(not sets for sets in one.addresses.values()), one.name))[:_PROBES]

    def _is_right(self, name: Name, sides: list[tuple[str, Sets]]) -> bool:
        """Return whether nothing would be said of a name that has these sets in its views."""
        return not judge(name, [Side(view, None, sets) for view, sets in sides], self._scope, serves=False)

    def verdicts(self) -> Iterator[Verdict]:
        for seen in self._seen:
            for view, outcome in seen.views.items():
                yield Verdict(seen.name, seen.rdtype, view, outcome)

    def findings(self) -> Iterator[Finding]:
        for seen in self._seen:
            yield from seen.findings


def look(name_in_views: NameInViews, scope: ViewsScope, atlas: Atlas) -> Dialogue[SeenInViews]:
    """Ask every view for a name and judge what they say."""
    lookups = yield from together(
        [at_name(name_in_views.name, name_in_views.rdtypes, view, atlas) for view in name_in_views.views]
    )
    sides = [side_of(view, lookup) for view, lookup in zip(name_in_views.views, lookups, strict=True)]
    serves = False
    if any(side.there for side in sides) and not all(side.there for side in sides):  # only then it may be hidden
        serves = name_in_views.name in (yield from _name_servers(name_in_views, scope, atlas))
    findings = judge(name_in_views.name, sides, scope, serves=serves)
    outcomes = {side.view: _outcome(side, findings) for side in sides}
    doubtful = any(side.trouble or CNAME in side.sets for side in sides)
    addresses = {} if doubtful else _apart({side.view: side.sets.get(A, NOTHING) for side in sides})
    return SeenInViews(name_in_views.name, outcomes, findings, addresses)


def _agreeing(subject: ForeseenSubject) -> SeenInViews:
    """Return what comes of a name that every view has as it was foreseen."""
    thing: NameInViews = subject.what
    width = len(thing.rdtypes)
    of_views = subject.rounds[0][thing.rdtypes.index(A) :: width] if A in thing.rdtypes else ()
    values = [value_set(one.value) if one.value is not None else NOTHING for one in of_views]
    addresses = _apart(dict(zip(thing.views, values, strict=False)))
    return SeenInViews(thing.name, dict.fromkeys(thing.views, "agrees"), (), addresses)


def _apart(addresses: dict[str, frozenset[bytes]]) -> dict[str, frozenset[bytes]]:
    """Return the A sets of the views where these differ; nothing where they do not."""
    return addresses if len(set(addresses.values())) > 1 else {}


def _outcome(side: Side, findings: list[Finding]) -> Outcome:
    """Return what came of a name in one view: a finding that names no view counts in each."""
    if any(one.outcome == "differs" and one.view in ("", side.view) for one in findings):
        return "differs"
    return "unverified" if side.trouble or any(one.outcome == "unverified" for one in findings) else "agrees"


def _name_servers(name_in_views: NameInViews, scope: ViewsScope, atlas: Atlas) -> Dialogue[set[Name]]:
    """Return the name servers of the public zones around a name: who is outside needs them, and nobody else."""
    targets: set[Name] = set()
    for view in name_in_views.views:
        zone = scope.estate.zone_of(name_in_views.name, view)
        if view in scope.publics and zone is not None:
            looked_up = yield from at_name(zone.apex, (NS,), view, atlas)
            targets.update(looked_up.values)
    return targets


def judge(name: Name, sides: list[Side], scope: ViewsScope, *, serves: bool) -> list[Finding]:
    """Return what is wrong with a name over its views. `serves`: it is a name server of a public zone."""
    words, publics = ViewWords(name, scope), scope.publics
    findings = [
        finding
        for side in sides
        if side.view in publics
        for finding in words.told_outside(side.view, side.sets, side.apart)
    ]
    sound = [side for side in sides if not side.trouble]
    findings += [words.unverified(side.view, side.trouble, side.found) for side in sides if side.trouble]
    return findings + (list(_compared(words, sound, scope, serves=serves)) if len(sound) > 1 else [])


def _compared(words: ViewWords, sides: list[Side], scope: ViewsScope, *, serves: bool) -> Iterator[Finding]:
    name = words.name
    same = scope.is_same(name)
    if same is not None:
        bound = [side for side in sides if side.view in same]
        if any(side.sets != bound[0].sets for side in bound[1:]):
            yield words.not_same([(side.view, side.sets) for side in bound])
        return
    publics = scope.publics
    outside = [side for side in sides if side.view in publics and side.there]
    for side in sides:
        if side.view not in publics and outside and not side.there and not serves:
            expected = scope.expected(name, side.view)
            if not expected or any(expected.values()):
                yield words.hidden(side.view, outside[0].view, outside[0].sets)
    there = [side for side in sides if side.there]
    if len(there) > 1 and any(side.sets != there[0].sets for side in there[1:]):
        meant = all(_as_expected(side, scope.expected(name, side.view)) for side in there)
        if not meant:
            yield words.differs([(side.view, side.sets) for side in there])


def _as_expected(side: Side, expected: Sets) -> bool:
    """Return whether everything that a view has at a name is what the estate expects there."""
    return all(expected.get(rdtype) == values for rdtype, values in side.sets.items())


def leaks(inside: InsideZone) -> Dialogue[SeenInViews]:
    """Ask public servers for a zone that is internal. One that refuses tells nothing, as it should."""
    told: dict[Server, None] = {}
    silent: dict[Server, str] = {}
    batch = [Question(name, rdtype, server) for server in inside.servers for name, rdtype in inside.probes]
    for answer in (yield batch) if batch else ():
        server = answer.question.server
        if answer.trouble is None and (answer.values or answer.alias is not None):
            told[server] = None
        elif not answer.message and answer.trouble is not None:
            silent[server] = answer.trouble
    findings = [ViewWords.leak(inside.zone, server) for server in told]
    findings += [
        ViewWords.leak_unverified(inside.zone, server, why) for server, why in silent.items() if server not in told
    ]
    outcome: Outcome = "differs" if told else "unverified" if silent or not batch else "agrees"
    return SeenInViews(inside.zone.apex, {inside.zone.view: outcome}, findings, rdtype=SOA)


def recognise(label: str, server: Server, telling: list[SeenInViews], scope: ViewsScope) -> Dialogue[SeenInViews]:
    """Return which view a resolver gives, by names that tell the views apart."""
    name, wanted = telling[0].name, scope.estate.duties[label].view
    answers = yield [Question(one.name, A, server, True) for one in telling]
    fitting: dict[str, int] = {}
    strange: list[tuple[Name, tuple[bytes, ...]]] = []
    usable = 0
    for seen, answer in zip(telling, answers, strict=True):
        if answer.trouble is not None or answer.alias is not None:
            continue
        usable += 1
        views = [view for view, values in seen.addresses.items() if values == frozenset(answer.values)]
        for view in views:
            fitting[view] = fitting.get(view, 0) + 1
        if not views:
            strange.append((seen.name, answer.values))
    whole = sorted(view for view, number in fitting.items() if number == usable)
    outcome: Outcome = "agrees"
    findings: list[Finding] = []
    if not usable:
        outcome = "unverified"
        findings.append(ViewWords.resolver_unverified(label, server, answers[0]))
    elif strange:
        findings.append(ViewWords.neither(label, server, *strange[0]))
    elif wanted and wanted not in whole:
        outcome = "differs"
        findings.append(ViewWords.wrong_view(label, server, wanted, sorted(fitting), name))
    elif not wanted:
        findings.append(ViewWords.gives(label, server, whole, name))
    return SeenInViews(name, {wanted: outcome} if wanted else {}, findings, rdtype=A)

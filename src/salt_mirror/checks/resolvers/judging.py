"""A resolver judged: a tree of tests, each with its findings, and the resolvers of an estate as one part.

Strategy: a resolver is accused only of what it said, or of what it did not say while it answered other questions and the
servers behind it answered too. One that answers nothing at all is unverified, and so is a zone whose own servers tell nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.common.test_tree import Judged, Mark, Test, outcome_of, row, worst
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.resolvers.asking import ResolverSeen, Way, inspect, recurses
from salt_mirror.checks.resolvers.keeping import keeping_tests
from salt_mirror.checks.resolvers.reaching import reached, zones_test
from salt_mirror.checks.resolvers.scope import TriedResolver, tried_with
from salt_mirror.checks.resolvers.validating import validation_test
from salt_mirror.checks.resolvers.values import unvalidated, values_test
from salt_mirror.checks.resolvers.wording import ResolverWords, over_text
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import ROOT, from_text, is_within
from salt_mirror.dns.questions import WRONG_CASE, Answer, Server
from salt_mirror.dns.records import CNAME, SOA, soa_fields
from salt_mirror.dns.special import AS112_PRIMARIES
from salt_mirror.dns.wire import is_authentic
from salt_mirror.estate.duties import Duty
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding

_WORLD = frozenset(map(from_text, (".", "arpa", "in-addr.arpa", "ip6.arpa")))


class Resolvers(Part):
    """The resolvers at work: each with the tree of its tests."""

    def __init__(self, tried: Sequence[TriedResolver], atlas: Atlas) -> None:
        super().__init__()
        self.size = len(tried)
        self.names = 50
        self._tried = tried
        self._atlas = atlas
        self._judged: list[tuple[TriedResolver, Judged]] = []

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[tuple[TriedResolver, Judged]]]]:
        self._judged = []
        yield (judged(one, self._atlas, setting.stranger) for one in self._tried)

    def take(self, result: tuple[TriedResolver, Judged]) -> None:
        self._judged.append(result)

    def trees(self) -> list[Test]:
        """Return what was tested, resolver by resolver, in the order in which they were wished for."""
        trees = {tried.label: found.test for tried, found in self._judged}
        return [trees[one.label] for one in self._tried if one.label in trees]

    def verdicts(self) -> Iterator[Verdict]:
        for tried, found in self._judged:
            yield Verdict(ROOT, 0, tried.view, outcome_of(found.test.mark), tried.ways[0].address or None)

    def findings(self) -> list[Finding]:
        every = (finding for _, found in self._judged for finding in found.findings)
        shared: dict[Any, Finding] = {}  # what is a zone's fault, several resolvers may show
        return [one for one in every if one.server or shared.setdefault(one.subject, one) is one]


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Resolvers | None:
    """Return the resolvers of an estate, as far as their views are covered."""
    if not coverage.whole and coverage.only.zones:
        return None  # zones were chosen, and a resolver is none
    tried = [one for one in resolvers_of(estate, atlas) if coverage.sees(ROOT, one.view)]
    return Resolvers(tried, atlas) if tried else None


def resolvers_of(estate: Estate, atlas: Atlas, only: Iterable[Server] = ()) -> list[TriedResolver]:
    """Return the resolvers to look at, all of the estate's unless some are given, each with all that it is tried with."""
    labels = {server: label for label, server in estate.resolvers.items()}
    found = []
    for server in tuple(only) or tuple(labels):
        duty = estate.duties.get(labels.get(server, ""), Duty())
        ways = [server, *([atlas.sibling(server, "tcp")] if server.over == "udp" else [])]
        for other in duty.also:
            ways += [other, *([atlas.sibling(other, "tcp")] if other.over == "udp" else [])]
        found.append(tried_with(labels.get(server, server.label), ways, duty, estate, atlas.outside_of))
    return found


def judged(tried: TriedResolver, atlas: Atlas, stranger: bytes) -> Dialogue[tuple[TriedResolver, Judged]]:
    """Ask a resolver, and judge what it said."""
    seen = yield from inspect(tried, atlas, stranger)
    return tried, judge(seen)


def judge(seen: ResolverSeen) -> Judged:
    """Return the tests of one resolver."""
    words = ResolverWords(seen)
    done = list(_tests(seen, words))
    findings = [finding for one in done for finding in one.findings]
    place = seen.tried.ways[0].endpoint
    title = seen.tried.label if seen.tried.label == place else f"{seen.tried.label} ({place})"
    mark = worst(one.test.mark for one in done)
    return Judged(Test(mark=mark, title=title, says=_says(seen, done), tests=[one.test for one in done]), findings)


def _says(seen: ResolverSeen, done: list[Judged]) -> str:
    if seen.main is None:
        return "gives no usable answer"
    wrong = [one.test.title for one in done if one.test.mark not in ("ok", "note")]
    return f"failed: {', '.join(wrong)}" if wrong else "passed all tests"


def _tests(seen: ResolverSeen, words: ResolverWords) -> Iterator[Judged]:
    """Return every test in the order in which one would ask."""
    yield _answers(seen, words)
    if seen.main is None:
        return
    first = next(way for way in seen.ways if way.server is seen.main)
    yield _recursion(first, seen, words)
    if seen.tried.outside or not recurses(first.looked_up):
        return
    looked = reached(seen)
    if looked:
        yield zones_test(looked, seen, words)
    if compared := values_test(seen, looked, words):
        yield compared
    if failed := list(unvalidated(seen)):
        names = many(len({one.answer.question.name for one, _ in failed}), "name")
        yield row(
            "signatures",
            f"{names} fail to validate, and come with checking disabled",
            words.unvalidated(failed),
            mark="ok",
        )
    if seen.external:
        yield _external(seen, words)
    yield _no_such_name(seen, words)
    if told := _private(seen, words):
        yield told
    if seen.large:
        yield _large(seen, words)
    yield from _unchanged(seen, words)
    yield from keeping_tests(seen, {one.zone.apex for one in looked if one.own}, words)
    echoed = any(answer.question.recurse and is_authentic(answer.message) for answer in seen.answers())
    yield from validation_test(seen.validation, seen.tried, words, echoed=echoed)


def _answers(seen: ResolverSeen, words: ResolverWords) -> Judged:
    """Return whether each way to it answers, and how fast."""
    rows, findings = [], []
    for way in seen.ways:
        said = (way.simple, *way.looked_up)
        found: list[Finding] = []
        times = [one.rtt_ms for one in said if one.message and one.rtt_ms is not None]
        says = f"answers in {min(times):.1f} ms" if times else "answers"
        if any(one.status == WRONG_CASE for one in said):
            found = [words.changes_case(way)]
            says = "answers, with the letters of the question in another case"
        elif not any(one.message for one in said):
            says = next((one.trouble for one in said if one.trouble), "nothing came back")
            unknown = seen.main is None or any(one.unasked for one in said)
            found = [] if unknown else [words.no_transport(way, says)]
        findings += found
        silent = not any(one.message for one in said)
        mark: Mark = "unverified" if silent and not found else worst(one.weight for one in found)
        rows.append(Test(mark=mark, title=over_text(way.server), says=says))
    if seen.main is None:
        findings.append(words.silent([answer for way in seen.ways for answer in (way.simple, *way.looked_up)]))
    answering = sum(row.mark == "ok" for row in rows)
    says = f"over {answering} of {many(len(rows), 'transport')}"
    return Judged(Test(mark=worst(row.mark for row in rows), title="answers", says=says, tests=rows), findings)


def _recursion(way: Way, seen: ResolverSeen, words: ResolverWords) -> Judged:
    given = recurses(way.looked_up) and any(answer.message for answer in way.looked_up)
    if seen.tried.outside:
        if given and any(answer.values for answer in way.looked_up):
            return row(
                "only its clients", "open resolver: it resolves for others too", [words.open_to_all(way.looked_up)]
            )
        return row("only its clients", "no recursion for this computer, which is not in its networks", [])
    if not recurses(way.looked_up):
        text = ", ".join(dict.fromkeys(answer.status for answer in way.looked_up if answer.message))
        return row("recursion", f"none from here ({text})", [words.no_recursion(way.looked_up, text)])
    return row("recursion", "offered" if given else "not known", [])


def _external(seen: ResolverSeen, words: ResolverWords) -> Judged:
    """Return whether public names are found; an address that it gives for names that nobody has proves nothing."""
    invented = {value for answer in _made_up(seen) for value in answer.values}
    came = [one for one in seen.external if one.trouble is None and (one.values or one.alias is not None)]
    came += [
        unchecked
        for reply in seen.external
        if (unchecked := seen.unchecked.get((reply.question.name, reply.question.rdtype))) is not None
        and unchecked.trouble is None
    ]
    answers = [one for one in came if one.alias is not None or not set(one.values) <= invented]
    if came and not answers:
        return row("public names", "not known: it rewrites NXDOMAIN", [], mark="unverified")
    says = f"{len(answers)} of {many(len(seen.external), 'name')} found"
    if not answers and any(one.unasked for one in seen.external):
        return row("public names", "not asked", [], mark="unverified")
    return row("public names", says, [] if answers else [words.no_external(seen.external)])


def _made_up(seen: ResolverSeen) -> list[Answer]:
    """Return what it gives for names that nobody has, where their own servers do not give anything."""
    answers = []
    for through in seen.nobody:
        wildcard = through.found is not None and (
            not through.found.usable or any(t.exists for t in through.found.usable)
        )
        given = through.answer.trouble is None and (through.answer.values or through.answer.alias is not None)
        if given and not wildcard:
            answers.append(through.answer)
    return answers


def _no_such_name(seen: ResolverSeen, words: ResolverWords) -> Judged:
    """Return whether a "no" stays one."""
    made_up = _made_up(seen)
    denied = sum(
        through.answer.trouble is None and not through.answer.values and through.answer.alias is None
        for through in seen.nobody
    )
    if made_up:
        return row("NXDOMAIN", "rewritten to an address", [words.rewrites(made_up)])
    says = "passed on" if denied else "could not be tried: no answer for a nonexistent name"
    return row("NXDOMAIN", says, [], mark="ok" if denied else "note")


def _private(seen: ResolverSeen, words: ResolverWords) -> Judged | None:
    """Return whether it keeps questions about private networks to itself."""
    answers = [answer for answer in seen.private if answer.trouble is None]
    if not answers:
        return None
    outside = [answer for answer in answers if _by_the_world(answer)]
    says = f"{len(answers) - len(outside)} of {many(len(answers), 'reverse zone')} of private networks are answered locally"
    return row("private networks", says, [words.private_outside(outside)] if outside else [])


def _by_the_world(answer: Answer) -> bool:
    """Return whether an answer about a private network's reverse zone came from servers of the world."""
    if any(soa_fields(value).mname in AS112_PRIMARIES for value in answer.values):
        return True
    for record in answer.sections.authority:
        if record.rdtype == SOA and is_within(answer.question.name, record.owner):
            return record.owner in _WORLD or soa_fields(record.rdata).mname in AS112_PRIMARIES
    return False


def _large(seen: ResolverSeen, words: ResolverWords) -> Judged:
    """Return whether answers arrive that are longer than a datagram."""
    lost = []
    for through in seen.large:
        whole = through.found is None or bool(through.found.usable and through.found.values)
        short = through.found is not None and set(through.answer.values) < set(through.found.values)
        if through.answer.unasked:
            continue
        if (through.answer.trouble is not None and whole) or (short and through.answer.trouble is None):
            lost.append(through)
    says = f"{len(seen.large) - len(lost)} of {many(len(seen.large), 'large answer')} arrive"
    return row("large answers", says, [words.large_lost(lost)] if lost else [])


def _unchanged(seen: ResolverSeen, words: ResolverWords) -> Iterator[Judged]:
    """Return whether an alias comes before what it leads to, without which some programs find nothing."""
    for answer in seen.aliases:
        if answer.trouble is None and answer.alias is not None:
            owners = [record.owner for record in answer.sections.answer]
            at = next((n for n, r in enumerate(answer.sections.answer) if r.rdtype == CNAME), 0)
            late = at > 0 and owners[0] != answer.question.name
            yield row("order", "preserved", [words.out_of_order(answer)] if late else [])

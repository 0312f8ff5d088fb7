"""A domain's mail judged: the tests as a tree, each with its findings.

Strategy: each test answers one question that somebody on the phone would ask, says why it matters, and carries its findings
with it; the tree's marks follow from those alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.expected import ExpectedSet, expected_sets
from salt_mirror.checks.common.hosts import host_findings
from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.part import Setting, nobody
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.registered import registered_names
from salt_mirror.checks.common.test_tree import InView, Judged, Mark, Test, Trees, mark_of, worst
from salt_mirror.checks.common.wording import answers_of, state, together_said, troubles_of, who_says_what
from salt_mirror.checks.mail.asking import Exchanger, MailSeen, inspect_mail
from salt_mirror.checks.mail.wording import exchanger_test, losses, order, shared_with_web, verdict
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import MX, rdata_text
from salt_mirror.dns.reverse import address_text, is_reverse
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Change, Choice, Finding


def judged_mail(
    domain: Name,
    view: str,
    atlas: Atlas,
    caches: Sequence[Server] = (),
    expected: ExpectedSet | None = None,
    stranger: bytes | None = None,
) -> Dialogue[Judged]:
    """Inspect a domain's mail in one view, and judge it. `caches` are resolvers, `expected` the MX set of the estate,
    `stranger` a label that nobody has registered."""
    seen = yield from inspect_mail(domain, view, atlas, caches, expected, stranger or nobody())
    return judge_mail(seen, atlas)


def judge_mail(seen: MailSeen, atlas: Atlas) -> Judged:
    """Return the tests of one domain in one view."""
    words = _MailTests(seen, atlas)
    tests, findings = [], []
    for judged in words.tests():
        tests.append(judged.test)
        findings += judged.findings
    mark = worst(test.mark for test in tests)
    return Judged(Test(mark=mark, title=to_text(seen.domain), says=verdict(seen), tests=tests), findings)


def mail_domains(estate: Estate, view: str | None = None) -> dict[InView, ExpectedSet | None]:
    """Return the domains whose mail an estate says something about, with the MX set that it expects: every forward zone in a
    public view, and every name for which MX records are expected."""
    expected = {(one.name, one.view): one for one in expected_sets(estate, None, view=view, rdtypes=(MX,))}
    public = [
        (zone.apex, zone.view)
        for zone in estate.all_zones()
        if zone.view in estate.public_views and view in (None, zone.view) and not is_reverse(zone.apex)
    ]
    return {key: expected.get(key) for key in dict.fromkeys([*public, *expected])}


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Trees:
    """Return the mail of all domains of an estate, as far as they are covered."""
    wanted = {key: expected for key, expected in mail_domains(estate).items() if coverage.sees(*key)}
    return of_domains(wanted, atlas, found_too=coverage.sees)


def of_domains(
    wanted: Mapping[InView, ExpectedSet | None],
    atlas: Atlas,
    caches: Sequence[Server] = (),
    *,
    found_too: Callable[[Name, str], bool] = lambda _, __: False,
) -> Trees:
    """Return the mail of some domains, each in its view; `caches` are resolvers whose word is shown beside. `found_too` says of
    a name in a view whether it is looked at where it has MX records that nobody expects, and that are in hand."""

    def make(setting: Setting) -> dict[InView, Dialogue[Judged]]:
        found: dict[InView, ExpectedSet | None] = dict(wanted)
        for name, _, zone in registered_names(atlas.estate, setting.holdings, (MX,)):
            if found_too(name, zone.view):
                found.setdefault((name, zone.view), None)
        return {
            (name, view): judged_mail(name, view, atlas, caches, expected, setting.stranger)
            for (name, view), expected in found.items()
        }

    return Trees(make, len(wanted))


_NULL = b"\x00\x00\x00"


class _MailTests:
    def __init__(self, seen: MailSeen, atlas: Atlas) -> None:
        self._seen = seen
        self._public = seen.view in atlas.estate.public_views
        self._expects = atlas.expects
        self._domain = to_text(seen.domain)
        self._state = partial(state, name=seen.domain, rdtype=MX, view=seen.view)

    def tests(self) -> Iterator[Judged]:
        """Return every test in the order in which one would ask."""
        seen = self._seen
        yield self._set()
        if seen.found.usable and not seen.exchangers and not seen.null:
            yield self._without()
        if seen.null:
            yield self._null()
        for pool in seen.pools:
            for exchanger in pool:
                yield self._exchanger(exchanger)
        if seen.exchangers:
            yield Judged(order(seen))
            yield from map(Judged, losses(seen))
            yield Judged(shared_with_web(seen))
        if seen.cached:
            yield self._caches()
        if seen.apex is not None and seen.apex != seen.domain and seen.found.values and seen.apex_mx:
            text = (
                f"{self._domain} has MX records of its own below {to_text(seen.apex)}, which has others: each name's "
                f"mail is its own."
            )
            yield self._judged("below the apex", text, [self._state("mail.below-apex", text)], [seen.found])
        if seen.expected:
            says = "not as expected"
            if all(finding.outcome == "unverified" for finding in seen.expected):
                says = "could not be verified everywhere"
            yield self._judged("the MX set that the estate expects", says, seen.expected, [seen.found])

    @staticmethod
    def _judged(
        title: str,
        says: str,
        findings: list[Finding],
        over: Iterable[Lookup],
        why: str = "",
        tests: list[Test] | None = None,
    ) -> Judged:
        inside = tests or []
        mark = worst([mark_of(findings, over), *(test.mark for test in inside)])
        return Judged(Test(mark=mark, title=title, says=says, why=why, tests=inside), findings)

    def _set(self) -> Judged:
        """Return the MX set on every authoritative server."""
        looked_up = self._seen.found
        findings = []
        says = "; ".join(rdata_text(MX, value) for value in sorted(looked_up.values)) or "none"
        if looked_up.usable and not looked_up.exists and not looked_up.values:
            findings.append(
                self._state("mail.no-such-domain", f"{self._domain} does not exist.", answers=answers_of(looked_up))
            )
        if looked_up.divided:
            sides = who_says_what(looked_up.usable, partial(rdata_text, MX))
            text = f"The servers of {self._domain} have different MX sets: {sides}."
            findings.append(self._state("mail.servers-disagree", text, answers=answers_of(looked_up)))
        if looked_up.unverified or not looked_up.usable:
            why = troubles_of(looked_up)
            text = f"The MX set of {self._domain} could not be seen everywhere: {why}."
            findings.append(
                self._state("mail.unverified", text, answers=answers_of(looked_up), outcome="unverified", cause=why)
            )
        who = together_said(telling.server.label for telling in looked_up.usable)
        if looked_up.usable and not looked_up.divided:
            says += f" ({who} {'agree' if len(looked_up.usable) > 1 else 'says so'})"
        return self._judged("MX set", says, findings, [looked_up], "a sender takes any server's word for it")

    def _without(self) -> Judged:
        seen = self._seen
        if seen.own is not None and seen.own.values:
            said = ", ".join(map(address_text, seen.own.values))
            text = f"{self._domain} has no MX record; senders use its own address, {said} (implicit MX, RFC 5321 section 5.1)."
            implicit = self._state("mail.implicit", text, answers=answers_of(seen.own))
            return self._judged("no MX", text, [implicit], [seen.found, seen.own])
        if not seen.found.exists:
            return Judged(Test(mark="fault", title="no MX", says="the name does not exist"))
        if seen.own is None or not seen.own.usable:
            why = troubles_of(seen.own) if seen.own is not None else "it was not asked for"
            text = f"{self._domain} has no MX record, and whether it has an address is not known: {why}."
            doubt = self._state("mail.unverified", text, outcome="unverified", cause=why)
            return self._judged("no MX", text, [doubt], [])
        text = f"{self._domain} has neither MX nor address records: mail to it is returned."
        null = self._change("it is to take no mail (RFC 7505)", add=[_NULL])
        choices = [Choice(word="register", says="it takes no mail, and says so (RFC 7505)", changes=[null])]
        # A public zone without mail is nothing unusual: it is a fault only where the estate expects some.
        code = "mail.none" if seen.wanted else "mail.without"
        none = self._state(code, text, answers=answers_of(seen.found), choices=choices if seen.wanted else ())
        return self._judged("no MX", text, [none], [seen.found, seen.own])

    def _change(self, reason: str, add: Iterable[bytes] = (), remove: Iterable[bytes] = ()) -> Change:
        """Return a change to the MX set."""
        looked_up = self._seen.found
        where: dict[str, Any] = {"view": self._seen.view, "zone": looked_up.authority.zone}
        return changed(looked_up.canonical, MX, "registered", reason, add=add, remove=remove, **where)

    def _null(self) -> Judged:
        seen = self._seen
        if len(seen.found.values) > 1:
            text = (
                f"{self._domain} has a null MX beside others: some senders give up, others go on (RFC 7505 section 3)."
            )
            others = [value for value in seen.found.values if value != _NULL]
            mail, none = self._change("it takes mail", remove=[_NULL]), self._change("it takes none", remove=others)
            choices = [
                Choice(word="remove", says="it takes mail: the null MX goes", changes=[mail]),
                Choice(word="no-mail", says="it takes none: only the null MX stays", changes=[none]),
            ]
            beside = self._state("mail.null-not-alone", text, answers=answers_of(seen.found), choices=choices)
            return self._judged("null MX", text, [beside], [seen.found])
        text = f"{self._domain} takes no mail, and says so with a null MX."
        return self._judged("null MX", text, [self._state("mail.null", text)], [seen.found])

    def _exchanger(self, exchanger: Exchanger) -> Judged:
        seen, host = self._seen, exchanger.host
        others = [to_text(other.host.name) for other in seen.exchangers if other is not exchanger and other.host.usable]
        still = (
            f"Mail is still delivered to {together_said(others)}."
            if others
            else "No other mail exchanger works: no mail arrives."
        )
        own = list(
            host_findings(
                host, seen.view, public=self._public, codes="mail", owner=seen.domain, rdtype=MX, role="mail exchanger",
                rule="RFC 2181 section 10.3, RFC 5321 section 5.1", still=still, pointing=seen.found,
                expects=self._expects,
            )
        )  # fmt: skip
        pointers = [finding for pair in exchanger.pairs for finding in pair.findings]
        unseen = set() if host.literal or host.found.usable else {"mail.unverified"}
        bad = {finding.code for finding in own}
        tests = [
            exchanger_test("it is a host name, not an address", bad & {"mail.literal"}, "senders look it up as a name"),
            exchanger_test(
                "it is a name of its own, not an alias", bad & {"mail.alias"} | unseen, "RFC 2181 section 10.3"
            ),
            exchanger_test(
                "it has addresses",
                bad & {"mail.missing-host", "mail.no-address", "mail.unverified"},
                "a sender connects to one of them",
            ),
        ]
        if self._public and not bad & {"mail.missing-host", "mail.no-address"}:
            tests.append(
                exchanger_test(
                    "its addresses are public", bad & {"mail.private-address"} | unseen, "senders are on the Internet"
                )
            )
        for pair in exchanger.pairs:
            where = address_text(pair.address) if pair.address is not None else ""
            doubtful: Mark = "unverified" if pair.outcome == "unverified" else "ok"
            mark = worst([doubtful, mark_of(pair.findings, [host.found])])
            says = "leads back" if mark in ("ok", "note") else pair.findings[0].text
            tests.append(
                Test(
                    mark=mark,
                    title=f"the PTR record of {where}",
                    says=says,
                    why="many servers refuse mail from a host without it",
                )
            )
        says = ", ".join(host.addresses) or ("could not be looked up" if host.unknown else "no address")
        title = f"mail exchanger {exchanger.preference} {to_text(host.name)}"
        over = [host.found] if not host.literal else [seen.found]
        return self._judged(title, says, own + pointers, over, "a sender connects to its addresses", tests)

    def _caches(self) -> Judged:
        """Return what resolvers still believe, with the TTL that is left."""
        seen = self._seen
        tests, findings = [], []
        for answer in seen.cached:
            label = answer.question.server.label
            said = ", ".join(rdata_text(MX, value) for value in answer.values) or "none"
            found: list[Finding] = []
            left = f", for another {answer.ttl} s" if answer.ttl is not None else ""
            if answer.trouble is not None:
                text = f"{label} could not be asked for its cached MX set: {answer.trouble}."
                cause = f"{label}: {answer.trouble}"
                found = [self._state("mail.unverified", text, answers=[answer], outcome="unverified", cause=cause)]
                says = answer.trouble
            elif not seen.found.usable:
                says = f"{said}{left}; what is right is not known"
            elif answer.values != seen.found.values:
                text = f"{label} still has {said}{left}: a change that has not come there yet, not a fault."
                found = [self._state("mail.cached-other", text, answers=[answer])]
                says = f"{said}{left}: not the present set"
            else:
                says = f"the same{left}"
            unknown = answer.trouble is not None or not seen.found.usable
            mark: Mark = "unverified" if unknown else "note" if found else "ok"
            tests.append(Test(mark=mark, title=label, says=says))
            findings += found
        why = "what a resolver has cached is what its users get"
        mark = worst(test.mark for test in tests)
        return Judged(Test(mark=mark, title="in caches", why=why, tests=tests), findings)

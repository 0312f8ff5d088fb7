"""A domain's mail judged: the tests as a tree, each with its findings.

Strategy: each test answers one question that somebody on the phone would ask, says why it matters, and carries its findings
with it; the tree's marks follow from those alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.hosts import host_findings
from salt_mirror.checks.mail.asking import Exchanger, MailSeen, inspect_mail
from salt_mirror.checks.rollcall.scope import ExpectedSet
from salt_mirror.checks.tests import Judged, Test, mark_of, worst
from salt_mirror.checks.wording import answers_of, state, together_said, troubles_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import MX, rdata_text, record_line
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding


def judged_mail(
    domain: Name, view: str, atlas: Atlas, caches: Sequence[Server] = (), expected: ExpectedSet | None = None
) -> Dialogue[Judged]:
    """Inspects a domain's mail in one view, and judges it. `caches` are resolvers, `expected` the MX set of the estate."""
    seen = yield from inspect_mail(domain, view, atlas, caches, expected)
    return judge_mail(seen, atlas)


def judge_mail(seen: MailSeen, atlas: Atlas) -> Judged:
    """The tests of one domain in one view."""
    words = _Words(seen, atlas)
    tests, findings = [], []
    for one in words.tests():
        tests.append(one.test)
        findings += one.findings
    mark = worst(test.mark for test in tests)
    return Judged(Test(mark=mark, title=to_text(seen.domain), says=words.verdict(), tests=tests), findings)


class _Words:
    def __init__(self, seen: MailSeen, atlas: Atlas) -> None:
        self._seen = seen
        self._public = seen.view in atlas.estate.public_views
        self._domain = to_text(seen.domain)
        self._state = partial(state, name=seen.domain, rdtype=MX, view=seen.view)

    def verdict(self) -> str:
        """What becomes of mail to the domain, in one sentence."""
        seen = self._seen
        if not seen.found.usable:
            return f"mail for {self._domain} could not be judged: {seen.found.trouble}"
        if seen.null and len(seen.found.values) == 1:
            return f"{self._domain} takes no mail, and says so (RFC 7505)"
        working = [one for one in seen.exchangers if one.host.usable and not one.host.literal]
        if seen.exchangers:
            if working:
                return f"mail for {self._domain} flows by {len(working)} of {len(seen.exchangers)} exchangers"
            return f"no exchanger of {self._domain} can be connected to: mail does not arrive"
        if seen.own is not None and seen.own.values:
            return f"{self._domain} has no MX: mail goes to its own address"
        return f"{self._domain} can receive no mail: it has neither MX nor address"

    def tests(self) -> Iterator[Judged]:
        """Every test in the order in which one would ask."""
        seen = self._seen
        yield self._set()
        if seen.found.usable and not seen.exchangers and not seen.null:
            yield self._without()
        if seen.null:
            yield self._null()
        for pool in seen.pools:
            for one in pool:
                yield self._exchanger(one)
        if seen.exchangers:
            yield Judged(self._order())
            yield from map(Judged, self._losses())
            yield Judged(self._web())
        if seen.cached:
            yield self._caches()
        if seen.apex is not None and seen.apex != seen.domain and seen.found.values and seen.apex_mx:
            text = (
                f"{self._domain} has MX records of its own below {to_text(seen.apex)}, which has others: each name's "
                f"mail is its own."
            )
            yield self._judged("below the apex", text, [self._state("mail.below-apex", text)])
        if seen.expected:
            yield self._judged("the MX set that the estate expects", "not as expected", seen.expected)

    @staticmethod
    def _judged(
        title: str, says: str, findings: list[Finding], why: str = "", tests: list[Test] | None = None
    ) -> Judged:
        inside = tests or []
        mark = worst([mark_of(findings), *(test.mark for test in inside)])
        return Judged(Test(mark=mark, title=title, says=says, why=why, tests=inside), findings)

    def _set(self) -> Judged:
        """The MX set on every authoritative server."""
        found = self._seen.found
        findings = []
        says = "; ".join(rdata_text(MX, value) for value in sorted(found.values)) or "none"
        if found.usable and not found.exists and not found.values:
            findings.append(
                self._state("mail.no-such-domain", f"{self._domain} does not exist.", answers=answers_of(found))
            )
        if found.divided:
            sides = "; ".join(
                f"{telling.server.label}: {', '.join(rdata_text(MX, value) for value in telling.values) or 'none'}"
                for telling in found.usable
            )
            text = f"The servers of {self._domain} have different MX sets: {sides}."
            findings.append(self._state("mail.servers-disagree", text, answers=answers_of(found)))
        if found.unverified or not found.usable:
            why = troubles_of(found)
            text = f"The MX set of {self._domain} could not be seen everywhere: {why}."
            findings.append(
                self._state("mail.unverified", text, answers=answers_of(found), outcome="unverified", cause=why)
            )
        who = together_said(telling.server.label for telling in found.usable)
        if found.usable and not found.divided:
            says += f" ({who} {'agree' if len(found.usable) > 1 else 'says so'})"
        return self._judged("MX set", says, findings, "a sender takes any server's word for it")

    def _without(self) -> Judged:
        seen = self._seen
        if seen.own is not None and seen.own.values:
            said = ", ".join(map(address_text, seen.own.values))
            text = f"{self._domain} has no MX record; senders use its own address, {said} (implicit MX, RFC 5321 section 5.1)."
            return self._judged("no MX", text, [self._state("mail.implicit", text, answers=answers_of(seen.own))])
        if not seen.found.exists:
            return Judged(Test(mark="fault", title="no MX", says="the name does not exist"))
        text = f"{self._domain} has neither MX nor address records: mail to it is returned."
        remedy = record_line(seen.domain, MX, b"\x00\x00\x00") + " ; if it is to take no mail (RFC 7505)"
        return self._judged(
            "no MX", text, [self._state("mail.none", text, answers=answers_of(seen.found), remedy=remedy)]
        )

    def _null(self) -> Judged:
        seen = self._seen
        if len(seen.found.values) > 1:
            text = (
                f"{self._domain} has a null MX beside others: some senders give up, others go on (RFC 7505 section 3)."
            )
            return self._judged(
                "null MX", text, [self._state("mail.null-not-alone", text, answers=answers_of(seen.found))]
            )
        text = f"{self._domain} takes no mail, and says so with a null MX."
        return self._judged("null MX", text, [self._state("mail.null", text)])

    def _exchanger(self, one: Exchanger) -> Judged:
        seen, host = self._seen, one.host
        others = [to_text(other.host.name) for other in seen.exchangers if other is not one and other.host.usable]
        still = (
            f"Mail still flows by {together_said(others)}." if others else "No other exchanger works: no mail arrives."
        )
        own = list(
            host_findings(
                host, seen.view, public=self._public, codes="mail", owner=seen.domain, rdtype=MX, role="mail exchanger",
                rule="RFC 2181 section 10.3, RFC 5321 section 5.1", still=still,
            )
        )  # fmt: skip
        pointers = [finding for pair in host.pairs for finding in pair.findings]
        bad = {finding.code.partition(".")[2] for finding in own}
        tests = [
            _test("it is a host name, not an address", bad & {"literal"}, "senders look it up as a name"),
            _test("it is a name of its own, not an alias", bad & {"alias"}, "RFC 2181 section 10.3"),
            _test(
                "it has addresses",
                bad & {"missing-host", "no-address", "unverified"},
                "a sender connects to one of them",
            ),
        ]
        if self._public:
            tests.append(_test("its addresses are public", bad & {"private-address"}, "senders come from outside"))
        for pair in host.pairs:
            where = address_text(pair.address) if pair.address is not None else ""
            mark = mark_of(pair.findings)
            says = "leads back" if mark in ("ok", "note") else pair.findings[0].text
            tests.append(
                Test(
                    mark=mark,
                    title=f"the pointer of {where}",
                    says=says,
                    why="mail from a host without that is turned away by many",
                )
            )
        says = ", ".join(host.addresses) or "no address"
        title = f"exchanger {one.preference} {to_text(host.name)}"
        return self._judged(title, says, own + pointers, "a sender connects to its addresses", tests)

    def _order(self) -> Test:
        pools = [
            together_said(to_text(one.host.name) + ("" if one.host.usable else " (no address)") for one in pool)
            + (" (equal: by chance)" if len(pool) > 1 else "")
            for pool in self._seen.pools
        ]
        return Test(mark="ok", title="order", says=", then ".join(pools), why="the lowest preference is tried first")

    def _losses(self) -> Iterator[Test]:
        pools = self._seen.pools
        for number, pool in enumerate(pools):
            if not any(one.host.usable for one in pool):
                continue  # it is lost already
            lost = together_said(to_text(one.host.name) for one in pool)
            left = [
                to_text(one.host.name)
                for other in pools[:number] + pools[number + 1 :]
                for one in other
                if one.host.usable
            ]
            says = (
                f"mail goes to {', then '.join(left)}"
                if left
                else "nothing is left: senders keep mail for some days, then return it"
            )
            yield Test(mark="ok", title=f"if {lost} {'is' if len(pool) == 1 else 'are'} down", says=says)

    def _web(self) -> Test:
        seen = self._seen
        web = {*(seen.web.values if seen.web is not None else ()), *(seen.own.values if seen.own is not None else ())}
        shared = [
            f"{to_text(one.host.name)} ({', '.join(address_text(v) for v in one.host.found.values if v in web)})"
            for one in seen.exchangers
            if web & set(one.host.found.values)
        ]
        says = f"shared by {together_said(shared)}" if shared else "shared by no exchanger"
        return Test(mark="ok", title="the web host's address", says=says if web else "there is no web host")

    def _caches(self) -> Judged:
        """What resolvers still believe, with the TTL that is left."""
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
            elif seen.found.usable and answer.values != seen.found.values:
                text = f"{label} still has {said}{left}: a change that has not come there yet, not a fault."
                found = [self._state("mail.cached-other", text, answers=[answer])]
                says = f"{said}{left}: not the present set"
            else:
                says = f"the same{left}"
            tests.append(Test(mark=mark_of(found), title=label, says=says))
            findings += found
        return self._judged("in caches", "", findings, "what a resolver has cached is what its users get", tests)


_SHORT = {
    "literal": "an address",
    "alias": "an alias",
    "missing-host": "the name does not exist",
    "no-address": "neither A nor AAAA",
    "private-address": "nobody outside can connect to it",
}


def _test(title: str, bad: set[str], why: str) -> Test:
    """One small test of an exchanger; `bad` are the codes that speak against it."""
    if "unverified" in bad and len(bad) == 1:
        return Test(mark="unverified", title=title, says="could not be asked", why=why)
    return Test(mark="fault" if bad else "ok", title=title, says=_SHORT[min(bad)] if bad else "", why=why)

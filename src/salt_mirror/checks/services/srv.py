"""Service locators (SRV, RFC 2782), followed down to hosts that a client can connect to.

Strategy: one dialogue a set. The set comes from every authoritative server, each target is looked at as a host, and what a
client would do follows from priorities and weights alone.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import partial
from itertools import groupby
from typing import NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.hosts import Host, host_findings, look_at
from salt_mirror.checks.common.lookup import Lookup, lookup
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.test_tree import Judged, Mark, Test, mark_of, worst
from salt_mirror.checks.common.wording import answers_of, many, state, together_said, troubles_of, who_says_what
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import ROOT, Name, to_text
from salt_mirror.dns.records import SRV, rdata_text
from salt_mirror.findings import Choice, Finding


class Target(NamedTuple):
    """One SRV record taken apart."""

    priority: int
    weight: int
    port: int
    host: Name


@dataclass(slots=True)
class ServiceSeen:
    """A set of SRV records and the hosts that it leads to. `demanded`: it is a fault when there is no such set."""

    name: Name
    view: str
    found: Lookup
    demanded: bool
    hosts: dict[Name, Host] = field(default_factory=dict)

    @property
    def targets(self) -> list[Target]:
        """The targets in the order in which a client tries them: by priority, the heavier ones first."""
        return sorted(map(target_in, self.found.values), key=lambda one: (one.priority, -one.weight, one.host))

    @property
    def unavailable(self) -> bool:
        """Whether the set says that there is decidedly no such service."""
        return any(one.host == ROOT for one in self.targets)


def target_in(rdata: bytes) -> Target:
    """Take the canonical rdata of an SRV record apart."""
    priority, weight, port = (int.from_bytes(rdata[at : at + 2], "big") for at in (0, 2, 4))
    return Target(priority, weight, port, rdata[6:])


def shares(targets: list[Target]) -> list[float]:
    """Return the share of clients that each target of one priority gets first, in per cent (RFC 2782).

    A running sum is drawn up to the sum of the weights, both ends included; weightless targets come first and are chosen
    when zero is drawn, equally when all are weightless.
    """
    total = sum(one.weight for one in targets)
    if not total:
        return [100 / len(targets)] * len(targets)
    weightless = sum(one.weight == 0 for one in targets)
    whole = total + (1 if weightless else 0)
    return [100 * (one.weight / whole if one.weight else 1 / (whole * weightless)) for one in targets]


def inspect_service(name: Name, view: str, atlas: Atlas, *, demanded: bool) -> Dialogue[ServiceSeen]:
    """Find a set of SRV records and the hosts in it."""
    seen = ServiceSeen(name, view, (yield from lookup(name, (SRV,), view, atlas)), demanded)
    hosts = sorted({one.host for one in seen.targets if one.host != ROOT})
    looked = yield from together([look_at(host, view, atlas) for host in hosts])
    seen.hosts = dict(zip(hosts, looked, strict=True))
    return seen


def judged_service(name: Name, view: str, atlas: Atlas, *, demanded: bool) -> Dialogue[Judged]:
    """Find a set of SRV records and judge it. `demanded`: it is a fault when there is none."""
    seen = yield from inspect_service(name, view, atlas, demanded=demanded)
    return judge_service(seen, atlas)


def judge_service(seen: ServiceSeen, atlas: Atlas) -> Judged:
    """Return the tests of one set."""
    findings = list(_about_set(seen))
    tests: list[Test] = []
    if seen.unavailable and len(seen.targets) == 1:
        text = f"{to_text(seen.name)} says that there is decidedly no such service."
        findings.append(state("srv.unavailable", text, name=seen.name, rdtype=SRV, view=seen.view))
    for _, group in groupby(seen.targets, key=lambda one: one.priority):
        pool = list(group)
        for target, share in zip(pool, shares(pool), strict=True):
            if target.host != ROOT:
                test, found = _target(seen, target, share, atlas)
                tests.append(test)
                findings += found
    if len(seen.targets) > 1:
        tests += _order(seen)
    mark = worst([mark_of(findings, [seen.found]), *(test.mark for test in tests)])
    return Judged(Test(mark=mark, title=to_text(seen.name), says=_says(seen), tests=tests), findings)


def _says(seen: ServiceSeen) -> str:
    if not seen.found.usable:
        return f"could not be looked up: {seen.found.trouble}"
    if seen.unavailable:
        return "decidedly not available"
    if not seen.targets:
        return "none"
    usable = sum(seen.hosts[one.host].usable for one in seen.targets if one.host != ROOT)
    unknown = sum(seen.hosts[one.host].unknown for one in seen.targets if one.host != ROOT)
    what = many(len(seen.targets), "target")
    if unknown == len(seen.targets):
        return f"whether its {what} can be connected to could not be looked up"
    return f"{usable} of {what} can be connected to" + (f"; {unknown} could not be looked up" if unknown else "")


def _about_set(seen: ServiceSeen) -> Iterator[Finding]:
    looked_up, name = seen.found, to_text(seen.name)
    about = partial(state, name=seen.name, rdtype=SRV, view=seen.view, answers=answers_of(looked_up))
    if looked_up.unverified or not looked_up.usable:
        why = troubles_of(looked_up)
        text = f"{name} SRV could not be seen everywhere: {why}."
        yield about("srv.unverified", text, outcome="unverified", cause=why)
    if looked_up.usable and not looked_up.values and seen.demanded:
        yield about("srv.missing", f"{name} has no SRV records: clients do not find the service.")
    if looked_up.divided:
        sides = who_says_what(looked_up.usable, partial(rdata_text, SRV))
        yield about("srv.servers-disagree", f"{name} SRV differs between servers: {sides}.")
    if seen.unavailable and len(seen.targets) > 1:
        text = f'{name} has the target "." (no such service) beside others: clients see either (RFC 2782).'
        dots = [value for value in looked_up.values if value[6:] == ROOT]
        change = partial(changed, looked_up.canonical, SRV, "registered", view=seen.view, zone=looked_up.authority.zone)
        choices = [
            Choice(word="remove", says="there is the service", changes=[change("there is the service", remove=dots)]),
            Choice(
                word="register", says="there is none",
                changes=[change("there is none", remove=[value for value in looked_up.values if value not in dots])],
            ),
        ]  # fmt: skip
        yield about("srv.dot-not-alone", text, choices=choices)


def _target(seen: ServiceSeen, target: Target, share: float, atlas: Atlas) -> tuple[Test, list[Finding]]:
    host = seen.hosts[target.host]
    others = [
        to_text(one.host)
        for one in seen.targets
        if one.host != target.host and one.host != ROOT and seen.hosts[one.host].usable
    ]
    still = f"Clients still find {together_said(dict.fromkeys(others))}." if others else "No other target works."
    findings = list(
        host_findings(
            host, seen.view, public=seen.view in atlas.estate.public_views, codes="srv", owner=seen.name, rdtype=SRV,
            role="target", rule="RFC 2782", still=still, pointing=seen.found, expects=atlas.expects,
        )
    )  # fmt: skip
    if target.port == 0:
        text = f"{to_text(target.host)}, target of {to_text(seen.name)}, has the port 0: nothing can be connected to there."
        findings.append(
            state("srv.port", text, name=seen.name, rdtype=SRV, view=seen.view, answers=answers_of(seen.found))
        )
    says = f"{share_text(share)} of clients, {', '.join(host.addresses) or 'no address'}"
    title = f"target {target.priority} {to_text(target.host)} port {target.port}"
    return Test(
        mark=mark_of(findings, [host.found]), title=title, says=says, why="the name must have addresses and be no alias"
    ), findings


def share_text(share: float) -> str:
    """Return a share in per cent, as people read it."""
    return "under 1 %" if 0 < share < 1 else f"{share:.0f} %"


def _order(seen: ServiceSeen) -> Iterator[Test]:
    """Return what a client tries one after the other, and what is left without each target."""
    pools = [list(group) for _, group in groupby(seen.targets, key=lambda one: one.priority)]
    text = ", then ".join(
        together_said(f"{to_text(one.host)} {share_text(share)}" for one, share in zip(pool, shares(pool), strict=True))
        for pool in pools
    )
    yield Test(mark="ok", title="order", says=text, why="the lowest priority is tried first, by weight within it")
    for lost in dict.fromkeys(one.host for one in seen.targets):
        left = [one for one in seen.targets if one.host != lost and one.host != ROOT and seen.hosts[one.host].usable]
        if lost == ROOT or not seen.hosts[lost].usable:
            continue
        first = [one for one in left if one.priority == left[0].priority] if left else []
        says = "nothing is left"
        mark: Mark = "ok" if first else "note"
        if first:
            says = together_said(
                f"{to_text(target.host)} {share_text(share)}"
                for target, share in zip(first, shares(first), strict=True)
            )
            rest = len(left) - len(first)
            says += f", then {rest} more" if rest else ""
        yield Test(mark=mark, title=f"without {to_text(lost)}", says=says)

"""A directory judged: a test for each controller with its records inside it, then sites, roles and what was left behind.

Strategy: findings are told by controller, since that is what gets repaired; a record set that a controller is missing from is
one line in its finding. What no server could be asked for is unverified, and never missing.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any, NamedTuple

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.delegation import lameness
from salt_mirror.checks.common.directories import Controller, Directory, WantedLocator, name_of, untested_of, wanted_of
from salt_mirror.checks.common.hosts import host_findings
from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.part import Holdings, no_holding
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.standing import UNKNOWN
from salt_mirror.checks.common.test_tree import Judged, Mark, Test, mark_of, worst
from salt_mirror.checks.common.wording import answers_of, labels_of, many, state, together_said, troubles_of
from salt_mirror.checks.services.directory import DirectorySeen, inspect_directory, registered
from salt_mirror.checks.services.leftovers import Leftovers
from salt_mirror.checks.services.srv import target_in
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, from_text, is_within, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import CNAME, SRV, address_type, record_line
from salt_mirror.findings import Change, Finding

_TTL = 600  # what controllers register with
_FEW = 4
_KINDS = {"SRV": "", "CNAME": " CNAME", "HOST": " A and AAAA"}


def judged_directory(directory: Directory, atlas: Atlas, holdings: Holdings = no_holding) -> Dialogue[Judged]:
    """Inspect a directory and judge it; one that could not be read accuses nobody, and find nobody in order."""
    if directory.unread:
        domain = to_text(directory.domain)
        text = f"The directory of {domain} could not be read ({directory.unread}): who its domain controllers are is not known."
        finding = state(
            "dir.unverified", text, name=directory.domain, rdtype=SRV, view=directory.view, outcome="unverified",
            cause=directory.unread,
        )  # fmt: skip
        says = f"whether the domain controllers of {domain} are registered could not be verified"
        return Judged(Test(mark="unverified", title=domain, says=says, why=text), [finding])
    seen = yield from inspect_directory(directory, atlas, holdings)
    words = DirectoryWords(seen)
    tests: list[Test] = []
    findings: list[Finding] = []
    for judged in words.tests():
        tests.append(judged.test)
        findings += judged.findings
    mark = worst(test.mark for test in tests)
    return Judged(Test(mark=mark, title=to_text(directory.domain), says=words.verdict(tests), tests=tests), findings)


class _Row(NamedTuple):
    """One record of a controller: the test of it, whether it is right wherever an answer came, and the servers that lack it
    where others have it."""

    wanted: WantedLocator
    test: Test
    right: bool
    lacking: tuple[Server, ...]


class DirectoryWords:
    def __init__(self, seen: DirectorySeen) -> None:
        self._seen = seen
        self._directory = seen.directory
        self._domain = to_text(seen.directory.domain)
        self._state = partial(state, rdtype=SRV, view=seen.directory.view)

    def verdict(self, tests: list[Test]) -> str:
        """Return the state of the directory in one sentence: what is known, and what is not."""
        controllers = self._directory.controllers
        if not controllers:
            return tests[0].says.rstrip(".")
        number, marks = len(controllers), [test.mark for test in tests[: len(controllers)]]
        untested = any(untested_of(self._directory, one) for one in controllers)
        whole, doubtful = sum(mark in ("ok", "note", "caution") for mark in marks), marks.count("unverified")
        what = f"{many(number, 'domain controller')} of {self._domain}"
        if doubtful == number:
            return f"whether the {what} {'is' if number == 1 else 'are'} registered could not be verified"
        says = f"{whole} of {what} {'is' if whole == 1 else 'are'} registered in full"
        if untested:
            says += ", as far as could be tested"
        return says + (f"; {doubtful} could not be verified" if doubtful else "")

    def tests(self) -> Iterator[Judged]:
        """Return every test, the controllers first."""
        for controller in self._directory.controllers:
            yield self._controller(controller)
        if not self._directory.controllers:
            yield self._nobody()
        yield self._primary()
        for site in self._directory.sites:
            yield self._site(site)
        yield from Leftovers(self._seen).tests()
        yield from self._subzone()
        if not self._seen.declared and self._directory.controllers:
            text = (
                f"The domain controllers of {self._domain} were found through its own records: who is missing "
                f"altogether is not seen."
            )
            finding = self._state("dir.found", text, name=self._directory.domain)
            yield Judged(Test(mark="note", title="domain controllers", says=text), [finding])

    # Controllers

    def _controller(self, controller: Controller) -> Judged:
        seen, host = self._seen, self._seen.hosts[controller.host]
        name = to_text(controller.host)
        rows = [self._row(one, controller) for one in wanted_of(self._directory, controller)]
        says = f"{sum(row.right for row in rows)} of {len(rows)} registered"
        findings = list(
            host_findings(
                host, self._directory.view, public=False, codes="srv", owner=controller.host, rdtype=SRV,
                role="domain controller", rule="RFC 2782", still="Its records lead nowhere.", whose=self._directory.domain,
                expects=self._seen.expects,
            )
        )  # fmt: skip
        findings += self._unregistered(controller, f"{name}: {says}", rows)
        told = {finding.cause for finding in findings}
        unverified: dict[str, Answer | None] = {}
        for row in rows:
            looked_up = seen.at(row.wanted)
            if looked_up.certain == "unverified" and troubles_of(looked_up) not in told:
                unverified.setdefault(troubles_of(looked_up), next(iter(answers_of(looked_up)), None))
        for why, answer in unverified.items():
            text = f"{name}: some of its records could not be looked up: {why}."
            finding = self._state(
                "dir.unverified", text, name=controller.host, answers=[answer], outcome="unverified", cause=why
            )
            findings.append(finding)
        tests = _folded(rows)
        if lacking := untested_of(self._directory, controller):
            count = sum(lacking.values())
            says += f", {count} not tested"
            why = "; ".join(f"{what} is not known ({many(number, 'record')})" for what, number in lacking.items())
            text = f"{name}: {many(count, 'record')} could not be tested, as {why}."
            findings.append(self._state("dir.untested", text, name=controller.host))
            tests.append(Test(mark="note", title="not tested", says=why))
        place = f" in {controller.site}" if controller.site else ""
        roles = f" ({controller.roles_said})" if controller.roles else ""
        mark = worst([mark_of(findings, [host.found]), *(test.mark for test in tests)])
        return Judged(Test(mark=mark, title=f"{name}{place}{roles}", says=says, tests=tests), findings)

    def _row(self, wanted: WantedLocator, controller: Controller) -> _Row:
        """Return how one record of a controller stands on the servers."""
        looked_up, host = self._seen.at(wanted), self._seen.hosts[controller.host]
        title = to_text(wanted.name) + (_KINDS[wanted.row.kind] or " SRV")

        def row(mark: Mark, says: str = "", *, right: bool = False, lacking: tuple[Server, ...] = ()) -> _Row:
            return _Row(wanted, Test(mark=mark, title=title, says=says, why=wanted.row.why), right, lacking)

        if not looked_up.usable:
            return row("unverified", "could not be looked up")
        if wanted.row.kind == "HOST" and not host.usable:
            why = "has no address" if host.found.usable else "could not be looked up"
            return row("unverified", f"cannot be tested: the domain controller {why}")
        states = {telling.server.label: registered(wanted, controller, telling, host) for telling in looked_up.usable}
        wrong = {label: how for label, how in states.items() if how != "right"}
        if not wrong:
            silent = labels_of(telling.server for telling in looked_up.unverified)
            return (
                row("unverified", f"right on {together_said(states)}; {silent}: no answer", right=True)
                if silent
                else row("ok", right=True)
            )
        how = ", ".join(dict.fromkeys("missing" if how == "absent" else how for how in wrong.values()))
        if len(wrong) < len(states):
            lacking = tuple(telling.server for telling in looked_up.usable if telling.server.label in wrong)
            return row("fault", f"{how} on {labels_of(lacking)}", lacking=lacking)
        return row("fault", how)

    def _unregistered(self, controller: Controller, begin: str, rows: list[_Row]) -> Iterator[Finding]:
        missing: list[WantedLocator] = []
        partly: dict[tuple[Server, ...], list[WantedLocator]] = {}
        for row in rows:
            if row.test.mark == "fault":
                (partly.setdefault(row.lacking, []) if row.lacking else missing).append(row.wanted)
        if missing:
            answers = [answer for one in missing[:_FEW] for answer in answers_of(self._seen.at(one))]
            yield self._state(
                "dir.not-registered", f"{begin}; missing: {_names(missing)}.", name=controller.host, answers=answers,
                expected=self._lines(missing, controller), changes=self._changes(missing, controller),
            )  # fmt: skip
        for servers, lacking in partly.items():
            where = labels_of(servers)
            others = [t.server for one in lacking for t in self._seen.at(one).usable if t.server not in servers]
            standings = (self._seen.standings.get(one.name, UNKNOWN) for one in lacking)
            ways = list(dict.fromkeys(standing.catching_up(servers, others) for standing in standings))
            lag = "; ".join(advice for advice, _ in ways) if all(advice for advice, _ in ways) else ""
            cause = ways[0][1] if lag else ""
            answers = [answer for one in lacking[:_FEW] for answer in answers_of(self._seen.at(one))]
            yield self._state(
                "dir.servers-disagree", f"{begin}; only missing on {where}: {_names(lacking)}.", name=controller.host,
                answers=answers, expected=self._lines(lacking, controller),
                advice=lag, cause=cause, changes=[] if lag else self._changes(lacking, controller),
            )  # fmt: skip

    def _lines(self, missing: list[WantedLocator], controller: Controller) -> list[str]:
        return [
            record_line(wanted.name, rdtype, value, _TTL)
            for wanted in missing
            for rdtype, value in self._values(wanted, controller)
        ]

    def _values(self, wanted: WantedLocator, controller: Controller) -> Iterator[tuple[int, bytes]]:
        """Return the records that a controller lacks at a wanted name, each with its type."""
        if wanted.row.kind == "SRV":
            yield SRV, b"\x00\x00\x00\x64" + wanted.row.port.to_bytes(2, "big") + controller.host
        elif wanted.row.kind == "CNAME":
            yield CNAME, controller.host
        else:
            told = self._seen.at(wanted).usable
            for value in self._seen.hosts[controller.host].found.values:
                if any(value not in telling.values for telling in told):
                    yield address_type(value), value

    def _changes(self, missing: list[WantedLocator], controller: Controller) -> list[Change]:
        """Return what registers a controller. A record of it on another port goes, and so does another host's identifier."""
        reason = f"{to_text(controller.host)} has to register it"
        found = []
        for wanted in missing:
            there = {value for telling in self._seen.at(wanted).usable for value in telling.values}
            where: dict[str, Any] = {"view": self._directory.view, "zone": self._seen.at(wanted).authority.zone}
            for rdtype, value in self._values(wanted, controller):
                old = {other for other in there if rdtype == CNAME and other != value}
                old |= {other for other in there if rdtype == SRV and other[4:] != value[4:] and other[6:] == value[6:]}
                found.append(
                    changed(wanted.name, rdtype, "directory", reason, add=[value], remove=old, ttl=_TTL, **where)
                )
        return found

    def _nobody(self) -> Judged:
        name = name_of("_ldap._tcp.dc._msdcs.{domain}", self._directory) or self._directory.domain
        looked_up = self._seen.found.get((name, "SRV"))
        if looked_up is None or looked_up.usable:
            text = f"No record leads to a domain controller of {self._domain}: users cannot log on."
            finding = self._state("dir.no-controller", text, name=self._directory.domain)
            return Judged(Test(mark="fault", title="domain controllers", says=text), [finding])
        why = troubles_of(looked_up)
        text = f"The domain controllers of {self._domain} could not be looked up: {why}."
        finding = self._state("dir.unverified", text, name=self._directory.domain, outcome="unverified", cause=why)
        return Judged(Test(mark="unverified", title="domain controllers", says=text), [finding])

    # The domain as a whole

    def _primary(self) -> Judged:
        name = name_of("_ldap._tcp.pdc._msdcs.{domain}", self._directory) or self._directory.domain
        looked_up = self._seen.found.get((name, "SRV"))
        why = "password changes and clocks follow the PDC emulator, so there is exactly one"
        if looked_up is None or not looked_up.usable:
            return Judged(
                Test(mark="unverified", title="the PDC emulator role", says="could not be looked up", why=why)
            )
        hosts = sorted({target_in(value).host for value in looked_up.values})
        names = together_said(map(to_text, hosts))
        findings = []
        if len(hosts) > 1:
            text = (
                f"{names} both claim the PDC emulator role of {self._domain}."
                if len(hosts) == 2
                else f"{names} all claim it."
            )
            findings.append(self._state("dir.two-primaries", text, name=name, answers=answers_of(looked_up)))
        elif not hosts:
            text = f"No controller has registered the PDC emulator role of {self._domain}."
            findings.append(self._state("dir.no-primary", text, name=name, answers=answers_of(looked_up)))
        mark = mark_of(findings, [looked_up])
        return Judged(Test(mark=mark, title="the PDC emulator role", says=names or "nobody", why=why), findings)

    def _site(self, site: str) -> Judged:
        name = name_of("_ldap._tcp.{site}._sites.dc._msdcs.{domain}", self._directory, site)
        looked_up = self._seen.found.get((name, "SRV")) if name is not None else None
        own = [to_text(one.host) for one in self._seen.controllers_of(site)]
        why = "clients take a domain controller of their own site first"
        if looked_up is None or name is None or not looked_up.usable:
            return Judged(Test(mark="unverified", title=f"site {site}", says="could not be looked up", why=why))
        if own:
            says = f"has {together_said(own)}"
            return Judged(Test(mark=mark_of((), [looked_up]), title=f"site {site}", says=says, why=why))
        known = {controller.host for controller in self._directory.controllers}
        covering = [
            to_text(host) for host in sorted({target_in(value).host for value in looked_up.values}) if host in known
        ]
        if covering:  # the near controllers register themselves for a site without one: automatic site coverage
            says = f"covered by {together_said(covering)} (automatic site coverage)"
            return Judged(Test(mark=mark_of((), [looked_up]), title=f"site {site}", says=says, why=why))
        where = "its clients go to any domain controller, however far"
        text = f"The site {site} has no domain controller of its own: {where}."
        finding = self._state("dir.site-uncovered", text, name=name, answers=answers_of(looked_up))
        mark = mark_of([finding], [looked_up])
        return Judged(Test(mark=mark, title=f"site {site}", says=where, why=why), [finding])

    def _subzone(self) -> Iterator[Judged]:
        """Return whether `_msdcs` is delegated to servers that do not serve it."""
        zone = from_text("_msdcs", self._directory.forest)
        for (name, _), looked_up in self._seen.found.items():
            if not is_within(name, zone) or looked_up.usable or looked_up.authority.zone is None:
                continue
            if is_within(looked_up.authority.zone, zone):
                lame = [answer for answer in answers_of(looked_up) if lameness(answer, zone)]
                if lame and len(lame) == len(answers_of(looked_up)):
                    yield self._lame(zone, looked_up, lame)
                    return

    def _lame(self, zone: Name, looked_up: Lookup, lame: list[Answer]) -> Judged:
        who = together_said(telling.server.label for telling in looked_up.tellings)
        how = lameness(lame[0], zone)
        text = f"{to_text(zone)} is delegated to {who}, which {how}: no domain controller can be found through it."
        finding = self._state("dir.subzone-lame", text, name=zone, answers=lame)
        why = "log-ons and replication look there"
        return Judged(Test(mark="fault", title=f"the delegation of {to_text(zone)}", says="lame", why=why), [finding])


def _folded(rows: list[_Row]) -> list[Test]:
    """Return a test for each record; those that are right wherever an answer came are one, counted, for each silent server."""
    doubtful: dict[str, list[Test]] = {}
    tests = []
    for row in rows:
        if row.right and row.test.mark == "unverified":
            doubtful.setdefault(row.test.says, []).append(row.test)
        else:
            tests.append(row.test)
    for says, alike in doubtful.items():
        tests += alike if len(alike) == 1 else [Test(mark="unverified", title=many(len(alike), "record"), says=says)]
    return tests


def _names(wanted: list[WantedLocator]) -> str:
    shown = [to_text(one.name) + _KINDS[one.row.kind] for one in wanted[:_FEW]]
    return ", ".join(shown) + (f" and {len(wanted) - _FEW} more" if len(wanted) > _FEW else "")

"""A directory judged: a test for each controller with its records inside it, then sites, roles and what was left behind.

Strategy: findings are told by controller, since that is what gets repaired; a record set that a controller is missing from is
one line in its finding. What no server could be asked for is unverified, and never missing.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from salt_mirror.checks.atlas import Atlas
from salt_mirror.checks.delegation import lameness
from salt_mirror.checks.hosts import host_findings
from salt_mirror.checks.lookup import Lookup
from salt_mirror.checks.services.directory import (
    Controller,
    Directory,
    DirectorySeen,
    Wanted,
    inspect_directory,
    name_of,
    registered,
    wanted_of,
)
from salt_mirror.checks.services.judging import target_in
from salt_mirror.checks.tests import Judged, Mark, Test, mark_of, worst
from salt_mirror.checks.wording import answers_of, state, together_said, troubles_of
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, from_text, is_within, to_text
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import CNAME, SRV, address_type, record_line
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Finding

_TTL = 600  # what controllers register with
_FEW = 4
_KINDS = {"SRV": "", "CNAME": " CNAME", "HOST": " A and AAAA"}


def judged_directory(directory: Directory, atlas: Atlas) -> Dialogue[Judged]:
    """Inspects a directory and judges it."""
    seen = yield from inspect_directory(directory, atlas)
    words = DirectoryWords(seen)
    tests: list[Test] = []
    findings: list[Finding] = []
    for one in words.tests():
        tests.append(one.test)
        findings += one.findings
    mark = worst(test.mark for test in tests)
    return Judged(Test(mark=mark, title=to_text(directory.domain), says=words.verdict(tests), tests=tests), findings)


class DirectoryWords:
    def __init__(self, seen: DirectorySeen) -> None:
        self._seen = seen
        self._directory = seen.directory
        self._domain = to_text(seen.directory.domain)
        self._state = partial(state, rdtype=SRV, view=seen.directory.view)

    def verdict(self, tests: list[Test]) -> str:
        """The state of the directory in one sentence."""
        controllers = self._directory.controllers
        if not controllers:
            return f"no controller of {self._domain} was found"
        whole = sum(test.mark in ("ok", "note") for test in tests[: len(controllers)])
        what = "controller" if len(controllers) == 1 else "controllers"
        return (
            f"{whole} of {len(controllers)} {what} of {self._domain} {'is' if whole == 1 else 'are'} registered in full"
        )

    def tests(self) -> Iterator[Judged]:
        """Every test, the controllers first."""
        for controller in self._directory.controllers:
            yield self._controller(controller)
        if not self._directory.controllers:
            yield self._nobody()
        yield self._primary()
        for site in self._directory.sites:
            yield self._site(site)
        yield self._leftovers()
        yield self._addresses()
        yield from self._subzone()
        if not self._seen.declared and self._directory.controllers:
            text = (
                f"The controllers of {self._domain} were found through its own records: who is missing "
                f"altogether is not seen."
            )
            finding = self._state("dir.found", text, name=self._directory.domain)
            yield Judged(Test(mark="note", title="controllers", says=text), [finding])

    # Controllers

    def _controller(self, controller: Controller) -> Judged:
        seen, host = self._seen, self._seen.hosts[controller.host]
        wanted = wanted_of(self._directory, controller)
        name = to_text(controller.host)
        rows: list[Test] = []
        missing: list[Wanted] = []
        partly: dict[str, list[Wanted]] = {}
        unverified: dict[str, Answer | None] = {}
        for one in wanted:
            mark, says, lacking = self._row(one, controller)
            if mark == "unverified":
                found = seen.at(one)
                unverified.setdefault(troubles_of(found), next(iter(answers_of(found)), None))
            elif mark == "fault" and lacking:
                partly.setdefault(lacking, []).append(one)
            elif mark == "fault":
                missing.append(one)
            title = to_text(one.name) + (_KINDS[one.row.kind] or " SRV")
            rows.append(Test(mark=mark, title=title, says=says, why=one.row.why))
        right = sum(row.mark == "ok" for row in rows)
        says = f"{right} of {len(rows)} registered"
        findings = list(
            host_findings(
                host, self._directory.view, public=False, codes="srv", owner=controller.host, rdtype=SRV, role="controller",
                rule="RFC 2782", still="Its records lead nowhere.",
            )
        )  # fmt: skip
        findings += self._unregistered(controller, f"{name}: {says}", missing, partly)
        for why, answer in unverified.items():
            text = f"{name}: some of its records could not be looked up: {why}."
            finding = self._state(
                "dir.unverified", text, name=controller.host, answers=[answer], outcome="unverified", cause=why
            )
            findings.append(finding)
        place = f" in {controller.site}" if controller.site else ""
        roles = f" ({', '.join(sorted(controller.roles))})" if controller.roles else ""
        return Judged(
            Test(
                mark=worst([mark_of(findings), *(row.mark for row in rows)]),
                title=f"{name}{place}{roles}",
                says=says,
                tests=rows,
            ),
            findings,
        )

    def _row(self, wanted: Wanted, controller: Controller) -> tuple[Mark, str, str]:
        """How one record stands: its mark, what to say, and the servers that lack it when others have it."""
        found = self._seen.at(wanted)
        host = self._seen.hosts[controller.host]
        if not found.usable or (wanted.row.kind == "HOST" and not host.found.usable):
            return "unverified", "could not be looked up", ""
        states = {telling.server.label: registered(wanted, controller, telling, host) for telling in found.usable}
        wrong = {label: how for label, how in states.items() if how != "right"}
        if not wrong:
            return ("unverified", "not on every server to be seen", "") if found.unverified else ("ok", "", "")
        how = ", ".join(dict.fromkeys("missing" if how == "absent" else how for how in wrong.values()))
        if len(wrong) < len(states):
            where = together_said(wrong)
            return "fault", f"{how} on {where}", where
        return "fault", how, ""

    def _unregistered(
        self, controller: Controller, begin: str, missing: list[Wanted], partly: dict[str, list[Wanted]]
    ) -> Iterator[Finding]:
        if missing:
            answers = [answer for one in missing[:_FEW] for answer in answers_of(self._seen.at(one))]
            yield self._state(
                "dir.not-registered", f"{begin}; missing: {_names(missing)}.", name=controller.host, answers=answers,
                expected=[self._line(one, controller) for one in missing], remedy=self._remedy(missing, controller),
            )  # fmt: skip
        for where, lacking in partly.items():
            answers = [answer for one in lacking[:_FEW] for answer in answers_of(self._seen.at(one))]
            yield self._state(
                "dir.servers-disagree", f"{begin}; missing on {where} alone: {_names(lacking)}.", name=controller.host,
                answers=answers, expected=[self._line(one, controller) for one in lacking],
                remedy=self._remedy(lacking, controller),
            )  # fmt: skip

    def _line(self, wanted: Wanted, controller: Controller) -> str:
        if wanted.row.kind == "SRV":
            rdata = b"\x00\x00\x00\x64" + wanted.row.port.to_bytes(2, "big") + controller.host
            return record_line(wanted.name, SRV, rdata, _TTL)
        if wanted.row.kind == "CNAME":
            return record_line(wanted.name, CNAME, controller.host, _TTL)
        addresses = self._seen.hosts[controller.host].found.values
        there = set(self._seen.at(wanted).values)
        address = next((one for one in addresses if one not in there), addresses[0] if addresses else b"")
        return record_line(wanted.name, address_type(address), address, _TTL) if address else ""

    def _remedy(self, wanted: list[Wanted], controller: Controller) -> str:
        more = f" ; and {len(wanted) - 1} more of this controller" if len(wanted) > 1 else ""
        return self._line(wanted[0], controller) + more

    def _nobody(self) -> Judged:
        name = name_of("_ldap._tcp.dc._msdcs.{domain}", self._directory) or self._directory.domain
        found = self._seen.found.get((name, "SRV"))
        if found is None or found.usable:
            text = f"No record leads to a controller of {self._domain}: nobody can log on."
            finding = self._state("dir.no-controller", text, name=self._directory.domain)
            return Judged(Test(mark="fault", title="controllers", says=text), [finding])
        why = troubles_of(found)
        text = f"The controllers of {self._domain} could not be looked up: {why}."
        finding = self._state("dir.unverified", text, name=self._directory.domain, outcome="unverified", cause=why)
        return Judged(Test(mark="unverified", title="controllers", says=text), [finding])

    # The domain as a whole

    def _primary(self) -> Judged:
        name = name_of("_ldap._tcp.pdc._msdcs.{domain}", self._directory) or self._directory.domain
        found = self._seen.found.get((name, "SRV"))
        why = "password changes and clocks follow the primary controller, so there is exactly one"
        if found is None or not found.usable:
            return Judged(Test(mark="unverified", title="the primary role", says="could not be looked up", why=why))
        hosts = sorted({target_in(value).host for value in found.values})
        names = together_said(map(to_text, hosts))
        findings = []
        if len(hosts) > 1:
            text = (
                f"{names} both claim the primary role of {self._domain}."
                if len(hosts) == 2
                else f"{names} all claim it."
            )
            findings.append(self._state("dir.two-primaries", text, name=name, answers=answers_of(found)))
        elif not hosts:
            text = f"Nobody has registered the primary role of {self._domain}."
            findings.append(self._state("dir.no-primary", text, name=name, answers=answers_of(found)))
        return Judged(Test(mark=mark_of(findings), title="the primary role", says=names or "nobody", why=why), findings)

    def _site(self, site: str) -> Judged:
        name = name_of("_ldap._tcp.{site}._sites.dc._msdcs.{domain}", self._directory, site)
        found = self._seen.found.get((name, "SRV")) if name is not None else None
        own = [to_text(one.host) for one in self._seen.controllers_of(site)]
        why = "clients take a controller of their own site first"
        if own:
            return Judged(Test(mark="ok", title=f"site {site}", says=f"has {together_said(own)}", why=why))
        if found is None or name is None or not found.usable:
            return Judged(Test(mark="unverified", title=f"site {site}", says="could not be looked up", why=why))
        known = {controller.host for controller in self._directory.controllers}
        covering = [
            to_text(host) for host in sorted({target_in(value).host for value in found.values}) if host in known
        ]
        where = (
            f"they are sent to {together_said(covering)}"
            if covering
            else "its clients go to any controller, however far"
        )
        text = f"The site {site} has no controller of its own: {where}."
        finding = self._state("dir.site-uncovered", text, name=name, answers=answers_of(found))
        return Judged(Test(mark="caution", title=f"site {site}", says=where, why=why), [finding])

    def _leftovers(self) -> Judged:
        """Targets that are no controllers any more."""
        seen = self._seen
        by_host: dict[Name, list[Name]] = {}
        known = {controller.host for controller in self._directory.controllers}
        for name, host in seen.targets():
            if host not in known or (
                not seen.declared and seen.hosts[host].found.usable and not seen.hosts[host].usable
            ):
                by_host.setdefault(host, []).append(name)
        findings = []
        for host, names in by_host.items():
            stranger = seen.strangers.get(host) or seen.hosts[host]
            gone = "" if stranger.usable else " Its name has no address: clients that pick it wait for nothing."
            said = ", ".join(map(to_text, names[:_FEW])) + (
                f" and {len(names) - _FEW} more" if len(names) > _FEW else ""
            )
            what = "record set still leads" if len(names) == 1 else "record sets still lead"
            text = f"{to_text(host)} is no controller of {self._domain}, and {len(names)} {what} there: {said}.{gone}"
            lines = [
                record_line(name, SRV, value)
                for name in names
                for value in seen.found[name, "SRV"].values
                if target_in(value).host == host
            ]
            answers = [answer for name in names[:_FEW] for answer in answers_of(seen.found[name, "SRV"])]
            remedy = f"; remove: {lines[0]}" + (f" ; and {len(lines) - 1} more" if len(lines) > 1 else "")
            findings.append(self._state("dir.leftover", text, name=host, answers=answers, remedy=remedy))
        says = together_said(map(to_text, by_host)) or "none"
        why = "a controller that was taken away leaves records behind, and clients try it in vain"
        return Judged(Test(mark=mark_of(findings), title="left behind", says=says, why=why), findings)

    def _addresses(self) -> Judged:
        """Addresses under the domain's own name, or the catalogues', that no controller has."""
        seen = self._seen
        findings = []
        known = all(host.found.usable for host in seen.hosts.values())
        for (name, kind), found in seen.found.items() if known else ():
            for value in found.values if kind == "HOST" else ():
                if value not in seen.owners:
                    continue
                owner = seen.owners[value]
                whose = ", ".join(to_text(target) for target in owner.values)
                belongs = f"; by its pointer it belongs to {whose}" if whose else ""
                text = f"{to_text(name)} has the address {address_text(value)}, which no controller has{belongs}."
                rdtype = address_type(value)
                remedy = f"; remove: {record_line(name, rdtype, value)}"
                findings.append(
                    state("dir.other-host", text, name=name, rdtype=rdtype, view=self._directory.view,
                          answers=[*answers_of(found), *answers_of(owner)], remedy=remedy)
                )  # fmt: skip
        says = "all of them controllers'" if not findings else f"{len(findings)} of no controller"
        why = "who connects there reaches another host, or nobody"
        return Judged(Test(mark=mark_of(findings), title="addresses of the domain", says=says, why=why), findings)

    def _subzone(self) -> Iterator[Judged]:
        """Whether `_msdcs` is delegated to servers that do not serve it."""
        zone = from_text("_msdcs", self._directory.forest)
        for (name, _), found in self._seen.found.items():
            if not is_within(name, zone) or found.usable or found.authority.zone is None:
                continue
            if is_within(found.authority.zone, zone):
                lame = [answer for answer in answers_of(found) if lameness(answer, zone)]
                if lame and len(lame) == len(answers_of(found)):
                    yield self._lame(zone, found, lame)
                    return

    def _lame(self, zone: Name, found: Lookup, lame: list[Answer]) -> Judged:
        who = together_said(telling.server.label for telling in found.tellings)
        text = f"{to_text(zone)} is delegated to {who}, which {lameness(lame[0], zone)}: no controller can be found through it."
        finding = self._state("dir.subzone-lame", text, name=zone, answers=lame)
        why = "log-ons and replication look there"
        return Judged(Test(mark="fault", title=f"the delegation of {to_text(zone)}", says="lame", why=why), [finding])


def _names(wanted: list[Wanted]) -> str:
    shown = [to_text(one.name) + _KINDS[one.row.kind] for one in wanted[:_FEW]]
    return ", ".join(shown) + (f" and {len(wanted) - _FEW} more" if len(wanted) > _FEW else "")

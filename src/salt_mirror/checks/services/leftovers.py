"""What does not belong in a directory's records: what a controller left behind that is gone, moved, or lost a role.

Strategy: where the directory was read, whoever is not in its list is no controller, whatever is registered. Else whoever has
an address and the locators of a live controller is one that nobody has declared, and nothing of it is to be removed; left
behind is what leads to a host without an address, or with a few records alone. What is to go is listed whole, record by record,
inside the test; the finding counts it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from salt_mirror.checks.common.directories import CATALOGUE, PRIMARY, READ_ONLY, Controller, name_of
from salt_mirror.checks.common.hosts import Host
from salt_mirror.checks.common.locators import LOCATORS, Locator
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.test_tree import Judged, Mark, Test, mark_of
from salt_mirror.checks.common.wording import answers_of, many, state, together_said, troubles_of
from salt_mirror.checks.services.directory import DirectorySeen
from salt_mirror.checks.services.srv import target_in
from salt_mirror.dns.names import Name, from_text, parent, to_text
from salt_mirror.dns.records import CNAME, NS, PTR, SRV, address_type, record_line
from salt_mirror.dns.reverse import address_text, reverse_name
from salt_mirror.findings import Change, Finding

_FEW = 4
_Record = tuple[Name, int, bytes]
"""A name, a type, rdata."""


class Leftovers:
    """The tests of what does not belong in the records of one directory."""

    def __init__(self, seen: DirectorySeen) -> None:
        self._seen = seen
        self._directory = seen.directory
        self._domain = to_text(seen.directory.domain)
        self._state = partial(state, view=seen.directory.view)
        self._known = {controller.host for controller in seen.directory.controllers}
        self._names: dict[Name, list[Name]] = {}
        for name, host in seen.targets():
            if host not in self._known:
                self._names.setdefault(host, []).append(name)
        for host in seen.aliases if seen.directory.complete else ():  # nothing but its GUID alias may be left of it
            if host not in self._known and host in seen.strangers:
                self._names.setdefault(host, [])

    def tests(self) -> Iterator[Judged]:
        """Return every test, in the order in which one would ask."""
        # Where the directory was read, its list is the truth about who is a controller, whatever is registered.
        new = [] if self._directory.complete else [host for host in self._names if self._live(host)]
        if new:
            yield self._undeclared(new)
        yield self._left([host for host in self._names if host not in new])
        yield self._addresses()
        yield from self._name_servers()
        if self._seen.declared:
            yield self._old_sites()
            yield self._beyond_roles()

    # Controllers that are gone, and such as nobody has declared

    def _live(self, host: Name) -> bool:
        """Return whether a host has an address and most of the records that every controller has."""
        if not self._seen.strangers[host].usable:
            return False
        rows = [row for row in LOCATORS if row.kind == "SRV" and row.who == "all" and "{domain}" in row.pattern]
        asked = [row for row in rows if not row.site_form]
        return 2 * sum(host in self._seen.hosts_at(row) for row in asked) > len(asked)

    def _undeclared(self, hosts: list[Name]) -> Judged:
        findings = []
        for host in hosts:
            sites = [site for site in self._directory.sites if self._in_site(host, site)]
            text = (
                f"{to_text(host)} has an address and the records of a live domain controller of {self._domain}, and is not in "
                "the estate: whether all of its records are there is not tested."
            )
            line = f'in the estate: [[directories.controllers]] host = "{to_text(host).rstrip(".")}"'
            advice = line + (f', site = "{sites[0]}"' if len(sites) == 1 else "")
            findings.append(self._said("dir.not-in-estate", text, host, self._names[host], advice=advice))
        says = together_said(map(to_text, hosts))
        why = "a new domain controller is checked once it is declared"
        return Judged(Test(mark=self._mark(findings), title="not in the estate", says=says, why=why), findings)

    def _in_site(self, host: Name, site: str) -> bool:
        row = next(row for row in LOCATORS if row.pattern.startswith("_ldap._tcp.{site}._sites.dc."))
        return host in self._seen.hosts_at(row, site)

    def _left(self, hosts: list[Name]) -> Judged:
        """Return hosts that are no controllers any more, with every record that still leads to them."""
        findings, rows = [], []
        for host in hosts:
            names, stranger = self._names[host], self._seen.strangers[host]
            if not stranger.found.usable:
                why = troubles_of(stranger.found)
                text = f"{to_text(host)} has records of a domain controller, and whether it is one is not known: {why}."
                findings.append(
                    self._state("dir.unverified", text, name=host, rdtype=SRV, outcome="unverified", cause=why)
                )
                rows.append(Test(mark="unverified", title=to_text(host), says="could not be looked up"))
                continue
            records = self.records_of(host, stranger)
            gone = "" if stranger.usable else " Its name has no address: clients that choose it cannot connect."
            sets = list(dict.fromkeys(record[0] for record in records))
            said = ", ".join(map(to_text, sets[:_FEW]))
            said += f" and {len(sets) - _FEW} more" if len(sets) > _FEW else ""
            what = "name still leads" if len(sets) == 1 else "names still lead"
            who = (
                "is not in the directory's list of domain controllers"
                if self._directory.complete
                else "is no domain controller"
            )
            text = f"{to_text(host)} {who} of {self._domain}, and {len(sets)} {what} there: {said}.{gone}"
            changes = self._removal(records, f"{to_text(host)} is no domain controller")
            findings.append(self._said("dir.leftover", text, host, names, changes))
            rows.append(_listed(to_text(host), records))
        why = "a domain controller that was removed leaves records, and clients try it without success"
        return self._told("leftover records", why, rows, findings)

    def records_of(self, host: Name, stranger: Host) -> list[_Record]:
        """Return every record that has to go with a controller: locators, addresses, pointers, identifier, NS."""
        seen = self._seen
        records = [
            (name, SRV, value)
            for name in self._names.get(host, ())
            for value in seen.found[name, "SRV"].values
            if target_in(value).host == host
        ]
        mine = [address for address, owner in seen.owners.items() if host in owner.values]
        mine += [address for address in stranger.found.values if address not in mine]
        for (name, kind), looked_up in seen.found.items():
            if kind == "HOST":
                records += [(name, address_type(one), one) for one in mine if one in looked_up.values]
            elif kind == "CNAME" and host in looked_up.values:
                records.append((name, CNAME, host))
        records += [(alias, CNAME, host) for alias in seen.aliases.get(host, ())]
        if not stranger.usable:  # a host that lives on keeps its own address and pointer
            records += [(reverse_name(address), PTR, host) for address in mine]
        return list(dict.fromkeys(records))

    def _removal(self, records: list[_Record], reason: str) -> list[Change]:
        """Return the changes that take records away, one for each set."""
        sets: dict[tuple[Name, int], list[bytes]] = {}
        for name, rdtype, value in records:
            sets.setdefault((name, rdtype), []).append(value)
        view = self._directory.view
        return [
            changed(name, rdtype, "directory", reason, view=view, zone=self._zone_of(name, rdtype), remove=values)
            for (name, rdtype), values in sets.items()
        ]

    def _zone_of(self, name: Name, rdtype: int) -> Name | None:
        """Return the zone in which a set was found, as far as it was asked for."""
        kind = {SRV: "SRV", CNAME: "CNAME"}.get(rdtype, "HOST")
        looked_up = self._seen.found.get((name, kind)) or self._seen.name_servers.get(name)
        return looked_up.authority.zone if looked_up is not None else None

    def _name_servers(self) -> Iterator[Judged]:
        """Name servers of the domain, of `_msdcs`, or in the delegation of that, that are controllers no more."""
        seen, inside = self._seen, from_text("_msdcs", self._directory.forest)
        places: dict[Name, dict[str, str]] = {}
        for apex, looked_up in seen.name_servers.items():
            for target in looked_up.values:
                line = f"in {to_text(apex)}: {record_line(apex, NS, target)}"
                places.setdefault(target, {})[f"the NS set of {to_text(apex)}"] = line
        own = set(places)
        answered = {one.server.address for found in seen.name_servers.values() for one in found.usable}
        for target, who in seen.delegated.items():
            line = f"in {to_text(parent(inside))}: {record_line(inside, NS, target)}"
            places.setdefault(target, {})[f"the delegation of {to_text(inside)} (as {who} has it)"] = line
        findings = []
        for target in sorted(places.keys() - self._known):
            stranger = seen.strangers.get(target)
            lost = stranger is not None and stranger.found.usable and not stranger.usable
            if not seen.declared or stranger is None:
                continue
            if not (target in self._names or lost or target not in own):
                if not answered & set(stranger.found.values):
                    findings.append(self._silent(target, list(places[target])))
                continue
            text = (
                f"{to_text(target)} is no domain controller of {self._domain}, and is in "
                f"{together_said(places[target])}: clients that are referred to it wait without success."
            )
            advice = f"remove by hand, since no dynamic update takes it away: {'; '.join(places[target].values())}"
            answers = [answer for found in seen.name_servers.values() for answer in answers_of(found)]
            findings.append(
                self._state("dir.old-name-server", text, name=target, rdtype=NS, answers=answers, advice=advice)
            )
        said = (
            f"{finding.name} {'is' if finding.outcome == 'differs' else 'may be'} no longer a domain controller"
            for finding in findings
        )
        says = together_said(said) or "none of a domain controller that is gone"
        why = "clients that look for the domain are referred to it"
        mark = mark_of(findings, seen.name_servers.values())
        yield Judged(Test(mark=mark, title="name servers", says=says, why=why), findings)

    def _silent(self, target: Name, places: list[str]) -> Finding:
        """Report a name server that is no controller and gave no answer: a secondary that is down, or what was left of a
        controller."""
        cause = f"{to_text(target)} is no domain controller, and gave no answer"
        text = (
            f"{to_text(target)} is in {together_said(places)}, is no domain controller of {self._domain}, and gave no "
            "answer: a secondary that is down, or left of a domain controller that is gone."
        )
        return self._state("dir.unverified", text, name=target, rdtype=NS, outcome="unverified", cause=cause)

    # Addresses

    def _addresses(self) -> Judged:
        """Return addresses under the domain's own name, or the catalogues', that no controller has."""
        seen = self._seen
        findings = []
        over = [*seen.of_kind("HOST"), *(host.found for host in seen.hosts.values())]
        told_already = {*self._names, *(host.name for host in seen.hosts.values() if not host.usable)}
        known = bool(seen.hosts) and all(host.found.usable for host in seen.hosts.values())
        wide = seen.forest_wide
        for (name, kind), looked_up in seen.found.items() if known else ():
            for value in looked_up.values if kind == "HOST" else ():
                owner = seen.owners.get(value)
                if owner is None or any(host in told_already for host in owner.values):
                    continue  # a controller's own, or told with the one that left it behind or lost it
                if name in wide and owner.values and all(parent(one) != self._directory.domain for one in owner.values):
                    continue  # of another domain of the forest
                whose = ", ".join(to_text(target) for target in owner.values)
                belongs = f"; by its PTR record it belongs to {whose}" if whose else ""
                text = (
                    f"{to_text(name)} has the address {address_text(value)}, which no domain controller has{belongs}."
                )
                changes = self._removal([(name, address_type(value), value)], "no domain controller has the address")
                answers = [*answers_of(looked_up), *answers_of(owner)]
                findings.append(
                    self._state(
                        "dir.other-host", text, name=name, rdtype=address_type(value), answers=answers, changes=changes,
                        address=value,
                    )
                )  # fmt: skip
        mark = mark_of(findings, over)
        says = "all of them domain controllers'" if mark == "ok" else "not all of them could be looked up"
        says = f"{len(findings)} of no domain controller" if findings else says
        why = "clients that connect there reach another host, or none"
        return Judged(Test(mark=mark, title="addresses of the domain", says=says, why=why), findings)

    # Controllers that moved, or have another role

    def _old_sites(self) -> Judged:
        """Return a controller that still stands in a site which has others of its own; one without any is covered by whoever
        does."""
        findings, rows = [], []
        for controller in self._directory.controllers:
            for site in self._directory.sites:
                if (
                    site.lower() == controller.site.lower()
                    or not controller.site
                    or not self._seen.controllers_of(site)
                ):
                    continue
                names = self._registered_at(controller, [row for row in LOCATORS if row.site_form], site)
                if names:
                    text = (
                        f"{to_text(controller.host)} is in the site {controller.site}, and is still registered for "
                        f"{site}, which has domain controllers of its own: clients there may be sent to it, however far."
                    )
                    test, finding = self._to_remove("dir.old-site", text, controller, names, site)
                    rows.append(test)
                    findings.append(finding)
        why = "a domain controller that moved leaves its old site's records behind"
        return self._told("records of another site", why, rows, findings)

    def _beyond_roles(self) -> Judged:
        """Return a controller with records of a role that it was not declared with, where others are declared with it."""
        findings, rows = [], []
        for controller in self._directory.controllers:
            rowset = [row for row in LOCATORS if self._not_its_own(row, controller)]
            names = self._registered_at(controller, rowset, controller.site)
            addresses = self._addresses_beyond(controller)
            if names or addresses:
                roles = controller.roles_said or "none beyond a domain controller's own"
                text = (
                    f"{to_text(controller.host)} is registered for more than its roles ({roles}): clients ask it for what "
                    f"it does not do{'' if self._directory.complete else ', or the estate does not know its roles'}."
                )
                test, finding = self._to_remove("dir.beyond-role", text, controller, names, "", addresses)
                rows.append(test)
                findings.append(finding)
        why = "clients go by the records, not by what a domain controller is"
        return self._told("records beyond a role", why, rows, findings)

    def _not_its_own(self, row: Locator, controller: Controller) -> bool:
        if READ_ONLY in controller.roles and not row.site_form:
            return True
        others = [one for one in self._directory.controllers if one.has(row.who)]
        # that two claim the primary role is told by itself
        return (
            row.who in (CATALOGUE, PRIMARY)
            and not controller.has(row.who)
            and (bool(others) or self._directory.complete)
            and not (row.who == PRIMARY and len(self._seen.hosts_at(row)) > 1)
        )

    def _registered_at(self, controller: Controller, rows: list[Locator], site: str) -> list[Name]:
        """Return the names of SRV records at which a controller is registered, among some rows of the table."""
        found = [
            name_of(row.pattern, self._directory, site)
            for row in rows
            if row.kind == "SRV" and controller.host in self._seen.hosts_at(row, site)
        ]
        return [name for name in found if name is not None]

    def _addresses_beyond(self, controller: Controller) -> list[_Record]:
        """Return the addresses of a controller under a name that only those of another role have to register, and that no other
        host shares with it: gc._msdcs of one that is no global catalog any more."""
        seen, found = self._seen, []
        own = set(seen.hosts[controller.host].found.values)
        for row in LOCATORS:
            name = name_of(row.pattern, self._directory) if row.kind == "HOST" and row.who == CATALOGUE else None
            lookup = seen.found.get((name, "HOST")) if name is not None else None
            if name is None or lookup is None or not self._not_its_own(row, controller):
                continue
            others = {
                value for one, host in seen.hosts.items() if one != controller.host for value in host.found.values
            }
            found += [(name, address_type(value), value) for value in lookup.values if value in own - others]
        return found

    def _to_remove(
        self, code: str, text: str, controller: Controller, names: list[Name], site: str, more: Sequence[_Record] = ()
    ) -> tuple[Test, Finding]:
        records: list[_Record] = [
            (name, SRV, value)
            for name in names
            for value in self._seen.found[name, "SRV"].values
            if target_in(value).host == controller.host
        ]
        records += more
        title = to_text(controller.host) + (f" in {site}" if site else "")
        reason = f"it is not what {to_text(controller.host)} does"
        finding = self._said(code, text, controller.host, names, self._removal(records, reason))
        return _listed(title, records, "caution"), finding

    def _said(
        self, code: str, text: str, host: Name, names: list[Name], changes: Sequence[Change] = (), advice: str = ""
    ) -> Finding:
        answers = [answer for name in names[:_FEW] for answer in answers_of(self._seen.found[name, "SRV"])]
        return self._state(code, text, name=host, rdtype=SRV, answers=answers, changes=changes, advice=advice)

    def _told(self, title: str, why: str, rows: list[Test], findings: list[Finding]) -> Judged:
        """Return the test of one kind of leftover, with a row for each host that has some."""
        says = together_said(row.title for row in rows) or "none"
        return Judged(Test(mark=self._mark(findings), title=title, says=says, why=why, tests=rows), findings)

    def _mark(self, findings: list[Finding]) -> Mark:
        return mark_of(findings, self._seen.of_kind("SRV"))


def _listed(title: str, records: list[_Record], mark: Mark = "fault") -> Test:
    """Return what has to go of one host: counted, and each record by itself inside."""
    inside = [Test(mark=mark, title=record_line(*record)) for record in records]
    return Test(mark=mark, title=title, says=f"{many(len(records), 'record')} to remove", tests=inside)

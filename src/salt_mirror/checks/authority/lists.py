"""Where people are sent: the name servers of a zone, the parent's delegation with its glue, and the lists against each other.

Strategy: the second half of the judgement over a zone's authority. What the parent says is held against what the zone says, and
both against the estate; the zone itself is the measure, since its own administrators can change it.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence

from salt_mirror.checks.authority.seen import Place, Seen, own_set
from salt_mirror.checks.authority.versions import VersionWords, places_said
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.hosts import without
from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.wording import answers_of, labels_of, together_said
from salt_mirror.dns.names import ROOT, is_within, to_text
from salt_mirror.dns.records import NS, SOA, address_type, record_line
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.special import is_private
from salt_mirror.findings import Change, Choice, Finding, Outcome


def judged(seen: Seen, atlas: Atlas) -> list[Finding]:
    """Return every finding about a zone in one view."""
    words = AuthorityWords(seen, atlas)
    if not seen.exists or seen.belongs is not None:
        return [words.no_zone()]
    if not seen.places:
        return [words.nobody()]
    steps = (
        words.servers, words.serials, words.edited_apart, words.soa, words.name_servers, words.delegation, words.glue,
        words.lists, words.placement, words.primary,
    )  # fmt: skip
    return [finding for step in steps for finding in step()]


class AuthorityWords(VersionWords):
    # Name servers and their addresses

    def name_servers(self) -> Iterator[Finding]:
        seen = self.seen
        own, parents = seen.own_targets, seen.parentage.targets
        targets = dict.fromkeys([*own, *(() if seen.elsewhere else parents)])
        for target in targets:
            looked_up = seen.lookups.get(target)
            if looked_up is None:
                continue
            name = to_text(target)
            who = " and ".join(["the parent"] * (target in parents) + ["the zone"] * (target in own))
            if looked_up.followed:
                text = (
                    f"{name}, a name server by {who}, is an alias of {to_text(looked_up.canonical)}: many resolvers do not "
                    "follow it (RFC 2181 section 10.3)."
                )
                yield self._about(looked_up, "auth.ns-alias", text)
            if looked_up.trouble is not None and not looked_up.usable:
                text = f"The addresses of {name}, a name server by {who}, could not be found: {looked_up.trouble}."
                cause = f"the addresses of {name}: {looked_up.trouble}"
                yield self._about(looked_up, "auth.unverified", text, outcome="unverified", cause=cause)
            elif not looked_up.values:
                why = "has neither A nor AAAA" if looked_up.exists else "does not exist"
                reached = [
                    place for place in seen.places if target in place.names and place.spoken and place.spoken.message
                ]
                whom = "it is only found by the parent's glue" if reached else "it cannot be asked"
                dot = ""
                if seen.zone != ROOT and target.endswith(seen.zone[:-1] + seen.zone):
                    dot = " It ends in its own zone twice: the trailing dot is missing."
                text = f"{name}, a name server by {who}, {why}: {whom}.{dot}"
                yield self._about(looked_up, "auth.ns-no-address", text)
            private = [address for address in looked_up.values if is_private(address)]
            if private and seen.view in self.atlas.estate.public_views:
                said = ", ".join(map(address_text, private))
                text = f"{name}, a name server by {who}, has a private address in a public view: {said}."
                changes, choices = without(private, looked_up, seen.view, self.atlas.expects)
                yield self._about(looked_up, "auth.private-address", text, changes=changes, choices=choices)

    def _about(
        self,
        looked_up: Lookup,
        code: str,
        text: str,
        *,
        outcome: Outcome | None = None,
        changes: Sequence[Change] = (),
        choices: Sequence[Choice] = (),
        cause: str = "",
    ) -> Finding:
        return self.finding(
            code, text, answers_of(looked_up), outcome=outcome, changes=changes, choices=choices, cause=cause,
            server=looked_up.name,
        )  # fmt: skip

    def delegation(self) -> Iterator[Finding]:
        seen, above = self.seen, self.seen.parentage
        parent = to_text(above.zone) if above.zone is not None else "the parent"
        if above.trouble:
            yield self.finding(
                "auth.unverified",
                f"The delegation of {self.zone} could not be seen: {above.trouble}.",
                above.answers,
                outcome="unverified",
                cause=f"the delegation from {parent}: {above.trouble}",
            )
        elif above.none:
            yield self.finding("auth.no-parent", f"{self.zone} has no parent that could be asked: {above.none}.")
        elif above.shared:
            text = (
                f"The servers of {parent} serve {self.zone} too, and answer with its own NS set: the delegation itself "
                f"cannot be seen."
            )
            yield self.finding("auth.shared-parent", text, above.answers)
        elif seen.elsewhere:
            names = ", ".join(map(to_text, above.targets))
            text = (
                f"{parent} delegates {self.zone} to the servers of another view ({names}), as is right with split DNS."
            )
            yield self.finding("auth.other-view", text, above.answers)
        elif above.denied and not above.delegations:
            code = "auth.not-delegated" if self._public() else "auth.no-parent"
            text = f"{parent} does not delegate {self.zone}: it cannot be found from the parent zone."
            advice = (
                "in " + parent + ": " + record_line(seen.zone, NS, min(seen.own_targets)) if seen.own_targets else ""
            )
            yield self.finding(code, text, above.answers, advice=advice)
        else:
            yield from self._parents_set()

    def _public(self) -> bool:
        return self.seen.view in self.atlas.estate.public_views or not self.atlas.estate.zones

    def _parents_set(self) -> Iterator[Finding]:
        seen, above = self.seen, self.seen.parentage
        parent = to_text(above.zone) if above.zone is not None else "the parent"
        sets = {delegation.targets for delegation in above.delegations.values()}
        if len(sets) > 1:
            said = "; ".join(f"{s.label}: {', '.join(map(to_text, d.targets))}" for s, d in above.delegations.items())
            yield self.finding(
                "auth.parents-disagree",
                f"The servers of {parent} delegate {self.zone} differently: {said}.",
                above.answers,
            )
        own, parents = set(seen.own_targets), set(above.targets)
        if not own:
            return
        if extra := sorted(parents - own):
            names = ", ".join(map(to_text, extra))
            text = f"{parent} refers resolvers to {names}, which the zone itself does not list."
            advice = f"in {parent} remove: " + record_line(seen.zone, NS, extra[0])
            yield self.finding(
                "auth.parent-extra", text, above.answers, expected=map(to_text, sorted(own)), advice=advice
            )
        if lacking := sorted(own - parents):
            names = ", ".join(map(to_text, lacking))
            text = f"The zone lists {names}, and {parent} does not: the delegation never refers to it."
            advice = f"in {parent}: " + record_line(seen.zone, NS, lacking[0])
            yield self.finding(
                "auth.parent-lacks", text, above.answers, expected=map(to_text, sorted(own)), advice=advice
            )

    def glue(self) -> Iterator[Finding]:
        seen, above = self.seen, self.seen.parentage
        if seen.elsewhere:
            return
        parent = to_text(above.zone) if above.zone is not None else "the parent"
        for target in above.targets:
            looked_up, glue = seen.lookups.get(target), above.glue(target)
            name = to_text(target)
            if not glue and is_within(target, seen.zone) and above.delegations:
                text = (
                    f"{parent} delegates to {name}, which is in {self.zone} itself, without its address (glue): it cannot "
                    "be found from above."
                )
                yield self.finding("auth.glue-missing", text, above.answers, server=target)
                continue
            if looked_up is None or not looked_up.usable or not looked_up.values or not glue:
                continue
            wrong = [address for address in glue if address not in looked_up.values]
            lacking = [address for address in looked_up.values if address not in glue]
            if wrong:
                has, right = ", ".join(map(address_text, wrong)), ", ".join(map(address_text, looked_up.values))
                text = (
                    f"{parent} gives {has} as the address of {name}, and its own zone says {right}: resolvers are "
                    "referred to the wrong address."
                )
                address = lacking[0] if lacking else looked_up.values[0]
                advice = f"in {parent}: " + record_line(target, address_type(address), address)
                evidence = [a for telling in looked_up.tellings for a in telling.answers if a.values]
                yield self.finding("auth.glue-wrong", text, evidence, expected=[right], advice=advice, server=target)
            elif lacking:
                said = ", ".join(map(address_text, lacking))
                yield self.finding(
                    "auth.glue-partial", f"{parent} gives {name} without its address {said}.", server=target
                )

    # The lists against each other

    def lists(self) -> Iterator[Finding]:
        seen = self.seen
        # A server that is merely behind, or keeps an old copy, is told as that.
        told = seen.serving if seen.reference[1] is None else seen.measure
        by_set: dict[tuple[bytes, ...], list[Place]] = {}
        for place in told:
            if own_set(place):
                by_set.setdefault(own_set(place), []).append(place)
        if len(by_set) > 1:
            said = "; ".join(
                f"{places_said(places)}: {', '.join(map(to_text, names))}" for names, places in by_set.items()
            )
            yield self.finding(
                "auth.ns-disagree",
                f"The servers of {self.zone} list different name servers: {said}.",
                [place.ns for places in by_set.values() for place in places],
            )
        if not seen.listed:
            return
        for place in seen.places:
            listed = place.listed
            if "estate" in listed and not {"zone", "parent"} & set(listed) and seen.own_targets:
                text = f"{place.server.label} serves {self.zone} by the estate, and is in no NS set: resolvers never ask it."
                yield self.finding("auth.unlisted", text, server=place.server)
            elif "estate" not in listed and "zone" in listed:
                text = (
                    f"{together_said(map(to_text, place.names))} ({place.server.endpoint}) is in the zone's NS set "
                    f"and not among the "
                    "estate's servers: nothing else of the estate is checked there."
                )
                yield self.finding("auth.not-in-estate", text, server=place.server)

    def placement(self) -> Iterator[Finding]:
        """Few servers, or all of them in one place (RFC 2182 section 3)."""
        seen = self.seen
        if not seen.own_targets:
            return
        if len(seen.own_targets) < 2:
            lookup_ = f"{self.zone} has one name server, {to_text(seen.own_targets[0])}"
            # A zone file that stands in for servers has no address, and belongs in no NS set.
            others = [place.server for place in seen.serving if not place.names and any(place.server.address)]
            text = (
                f"{lookup_}, in its NS set. {labels_of(others)} {'is' if len(others) == 1 else 'are'} "
                "authoritative for it too, and not in that set, by which others find its servers (RFC 1034 section 4.1)."
                if others
                else f"{lookup_}: with that one down it is gone (RFC 1034 section 4.1)."
            )
            yield self.finding("auth.few-servers", text, [place.ns for place in seen.serving][:1])
            return
        lookups = [seen.lookups[target] for target in seen.own_targets if target in seen.lookups]
        addresses = {address for one in lookups for address in one.values}
        if len(lookups) < len(seen.own_targets) or not all(one.values for one in lookups) or len(addresses) < 2:
            return
        networks = {
            ipaddress.ip_network((address, 24 if len(address) == 4 else 48), strict=False) for address in addresses
        }
        if len({network for network in networks if network.version == 4}) < 2 and len(networks) < 2:
            text = (
                f"All name servers of {self.zone} are in one network, {next(iter(networks))}: one broken link, and the zone "
                "is gone (RFC 2182)."
            )
            yield self.finding("auth.one-network", text)

    def primary(self) -> Iterator[Finding]:
        seen = self.seen
        version = next((place.version for place in seen.serving), None)
        if version is None or seen.several_primaries or version.mname in seen.own_targets:
            return
        looked_up = seen.lookups.get(version.mname)
        where = (
            f" ({', '.join(map(address_text, looked_up.values))})" if looked_up is not None and looked_up.values else ""
        )
        if looked_up is not None and looked_up.certain == "agrees" and not looked_up.exists and not looked_up.followed:
            text = (
                f"The primary that the SOA of {self.zone} names, {to_text(version.mname)}, does not exist: dynamic updates and "
                "notifies that go by it are lost."
            )
            evidence = [answer for telling in looked_up.tellings for answer in telling.answers]
            yield self.finding(
                "auth.primary-missing", text, evidence, rdtype=SOA, advice="name a primary that exists in the SOA"
            )
            return
        text = (
            f"The primary {to_text(version.mname)}{where} is not among the name servers of {self.zone}: it is hidden."
        )
        if not where:
            text = (
                f"The primary {to_text(version.mname)} is not among the name servers of {self.zone}, and no address of it is "
                "known."
            )
        yield self.finding("auth.hidden-primary", text, rdtype=SOA)

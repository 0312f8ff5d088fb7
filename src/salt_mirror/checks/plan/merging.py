"""Changes merged into one resulting set for each view, zone, name and type.

Strategy: a change is values to add and values to remove, in the order of precedence: what is registered, the forward side, a
directory's locators, what is expected. A value that a higher precedence has added or removed stays so in later rounds, and what
the estate expects of a set is kept whatever anybody proposes. A set is read from the primary, where the change goes; where that
has it right already, the other servers have to follow, which is not ours to change. What cannot be planned is kept with the
reason.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from copy import deepcopy

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.common.standing import let_transfer
from salt_mirror.checks.common.wording import labels_of, together_said
from salt_mirror.checks.plan.primaries import Primary, held_at, primary_of, serials_of, usual_ttls
from salt_mirror.checks.plan.proposals import OpenSet, Proposal, apply, read_proposal
from salt_mirror.checks.plan.rules import PRECEDENCE
from salt_mirror.checks.plan.sets import PlannedSet, SetKey
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, CNAME, NS, OF_KEYS, ONE_HAND, PTR, SOA, SWEPT, A, type_from_text, type_text
from salt_mirror.dns.reverse import address_of, is_reverse
from salt_mirror.estate.model import Zone
from salt_mirror.findings import Change

CONTRADICTS = "the estate contradicts itself"


class Merging:
    """The sets so far. `blocked` says why changes to a set came to nothing."""

    def __init__(
        self,
        atlas: Atlas,
        meant: Mapping[SetKey, tuple[frozenset[bytes], frozenset[bytes]]] | None = None,
        *,
        only_adding: bool = False,
    ) -> None:
        """`meant` are the states in which sets of an older plan may be now; any other is somebody else's. `only_adding`:
        nothing is taken away."""
        self._only_adding = only_adding
        self._atlas = atlas
        self._meant = dict(meant or {})
        self._estate = atlas.estate
        self._expected: dict[tuple[str, Name, int], ExpectedSet] = atlas.expects.sets
        self._beings: dict[SetKey, OpenSet] = {}
        self._primaries: dict[tuple[str, Name], Primary] = {}
        self._serials: dict[tuple[str, Name], dict[Server, int]] = {}
        self._usual: dict[tuple[str, Name], Counter[int]] = {}
        self.blocked: dict[SetKey, str] = {}
        self.refused: dict[SetKey, str] = {}
        self._refused_again: set[SetKey] = set()

    # What comes out

    def sets(self) -> list[PlannedSet]:
        """Return every set that is to change, in the order of zones and names, forward zones first."""
        found = []
        for key, being in self._beings.items():
            planned = PlannedSet(
                key, being.held.values, frozenset(being.values), being.held.ttl, self._ttl(key, being), being.held.named,
                self._primaries[key.view, key.zone].server, list(being.reasons),
            )  # fmt: skip
            if planned.differs:
                found.append(planned)
        return sorted(found, key=lambda one: order_of(one.key))

    def laid(self) -> list[tuple[PlannedSet, tuple[Server, ...]]]:
        """Return the same with the servers of each."""
        return [(one, self._primaries[one.key.view, one.key.zone].servers) for one in self.sets()]

    def _ttl(self, key: SetKey, being: OpenSet) -> int | None:
        """Return the TTL as expected, else as registered, else the zone's usual."""
        if not being.values:
            return None
        if being.ttl is not None:
            return being.ttl
        if being.held.ttl is not None and being.held.values:
            return being.held.ttl
        usual = self._usual.get((key.view, key.zone))
        return usual.most_common(1)[0][0] if usual else 3600

    # What goes in

    def key_of(self, change: Change) -> SetKey | str:
        """Return the set that a change is about, or why it is not ours."""
        name, rdtype = from_text(change.name), type_from_text(change.type)
        if rdtype in OF_KEYS:
            return (
                f"{change.type} records follow from keys, and are never changed from here: budget says in which order"
            )
        zone = self._estate.zone_for(name, change.view)
        if zone is None:
            where = f"the zone {change.zone}" if change.zone else f"the zone of {change.name}"
            return f"{where} is not in the estate: ask its administrators"
        # RFC 2136 section 3.4.2.4: servers ignore the removal of these, and a zone without them is gone.
        if rdtype in (SOA, NS) and name == zone.apex:
            return f"the {change.type} of a zone itself is never changed from here"
        return SetKey(zone.view, zone.apex, name, rdtype)

    def take(self, changes: Iterable[Change], chosen: Iterable[Change] = ()) -> Dialogue[bool]:
        """Merge some changes into the sets so far; whether anything came of it. What a person has `chosen` is also tried where
        what a check proposed was refused."""
        proposals: dict[SetKey, list[Proposal]] = {}
        for change, barred in [
            *((one, self.refused) for one in changes),
            *((one, self._refused_again) for one in chosen),
        ]:
            key = self.key_of(change)
            if isinstance(key, SetKey) and key not in barred:
                proposals.setdefault(key, []).append(read_proposal(change, key.rdtype))
        before = {key: (frozenset(being.values), being.ttl) for key, being in self._beings.items()}
        yield from self._look_up(proposals)
        for key, told in proposals.items():
            if key in self._beings:
                self._merge(key, self._beings[key], told)
        yield from self._make_room(proposals)
        if self._only_adding:
            self._take_nothing_away()
        return any(
            before.get(key, (being.held.values, None)) != (frozenset(being.values), being.ttl)
            for key, being in self._beings.items()
        )

    def begin(self) -> None:
        """Start a pass: forget what was refused, and the precedence of values that were claimed."""
        self.refused.clear()
        self._refused_again.clear()
        self.blocked.clear()
        for being in self._beings.values():
            being.precedence.clear()

    def kept(self) -> dict[SetKey, OpenSet]:
        """Return the sets as they are, to come back to."""
        return deepcopy(self._beings)

    def back_to(self, kept: dict[SetKey, OpenSet]) -> None:
        """Take every set back to what it was, all but what was refused meanwhile."""
        self._beings = deepcopy(kept)
        self.blocked = dict(self.refused)

    def refuse(self, key: SetKey, why: str) -> None:
        """Leave a set as it is from now on, in this pass."""
        if key in self.refused:
            self._refused_again.add(key)
        self.refused.setdefault(key, why)

    def _merge(self, key: SetKey, being: OpenSet, proposals: list[Proposal]) -> None:
        expected = self._expected.get((key.view, key.name, key.rdtype))
        if expected is not None and expected.damaged:
            self._block(key, f"what is expected of it is not known: {expected.damaged}")
            return
        clash = self._clash(key, proposals)
        if clash:
            self._block(key, f"{CONTRADICTS}: {clash}")
            return
        if expected is not None and expected.values and (expected.gone or expected.values & expected.absent):
            self._block(
                key,
                f"{CONTRADICTS}: it expects {to_text(key.name)} {type_text(key.rdtype)}, and its absence",
            )
            return
        for source in sorted(PRECEDENCE, key=PRECEDENCE.__getitem__):
            equals = [proposal for proposal in proposals if proposal.change.by == source]
            wholes = [proposal for proposal in equals if proposal.whole is not None]
            if key.rdtype == PTR and source in ("registered", "forward"):
                self._merge_pointers(key, being, equals)
                continue
            # Two checks that both know the whole set know the same one; if they did not, the first by the order of checks
            # counts.
            for proposal in wholes[:1]:
                assert proposal.whole is not None
                apply(being, proposal.whole, being.values - proposal.whole, proposal)
            for proposal in equals:
                if proposal.whole is None:
                    apply(being, frozenset(), proposal.remove, proposal)
            for proposal in equals:
                if proposal.whole is None:
                    apply(being, proposal.add, frozenset(), proposal)
        told = [
            proposal for proposal in proposals if proposal.change.by == "expected" and proposal.change.ttl is not None
        ]
        if being.ttl is None and told and being.values:  # also where another proposal brought the values
            being.ttl = told[0].change.ttl
            being.reasons[told[0].change.reason] = None
        self._keep_expected(key, being)
        meant = self._meant.get(key)
        if meant is not None and frozenset(being.values) not in (meant[1], being.held.values):
            self._block(key, "the estate expects something else of it by now than when it was planned")
            return
        if frozenset(being.values) == being.held.values and being.ttl in (None, being.held.ttl):
            self.blocked.setdefault(key, self._nothing_to_do(key))
        else:
            self.blocked.pop(key, None)

    def _clash(self, key: SetKey, proposals: list[Proposal]) -> str:
        """Return what sources contradict each other about that concerns a set: nothing of that host is planned before one is
        chosen."""
        names = {key.name}
        if key.rdtype == PTR:
            names |= {name for proposal in proposals for name in proposal.add | (proposal.whole or frozenset())}
        for name in names:
            for rdtype in ONE_HAND:
                expected = self._expected.get((key.view, name, rdtype))
                if expected is not None and expected.clash:
                    return expected.clash_text
        return ""

    def brings_expected(self, planned: PlannedSet) -> bool:
        """Return whether a set comes to what the estate expects of it, or makes room for that."""
        key, comes, goes = planned.key, planned.after - planned.before, planned.before - planned.after
        expected = self._expected.get((key.view, key.name, key.rdtype))
        if expected is not None:
            values = expected.values - expected.absent
            return bool(comes & values) or bool(goes and (expected.gone or goes & expected.absent or expected.exact))
        # An alias makes room for whatever is expected at its name, and addresses for an expected alias.
        beside = SWEPT if key.rdtype == CNAME else (CNAME,)
        wanted = [self._expected.get((key.view, key.name, rdtype)) for rdtype in beside if rdtype != key.rdtype]
        return bool(goes) and not planned.after and any(other is not None and other.values for other in wanted)

    def _merge_pointers(self, key: SetKey, being: OpenSet, proposals: list[Proposal]) -> None:
        """An address needs one PTR record: of several hosts that have it, one is named, an expected host before others."""
        expected = self._expected.get((key.view, key.name, PTR))
        own = {name for name in being.values if not self._worse_pointer(key, name)[0]}
        for proposal in proposals:
            # A host that is expected there keeps its pointer.
            apply(being, frozenset(), proposal.remove - own, proposal)
        if expected is not None and expected.values:
            return  # which pointer it has, the estate says
        best: tuple[tuple[bool, bool, bool, str], Name, Proposal] | None = None
        for proposal in proposals:
            for name in own or (proposal.whole if proposal.whole is not None else proposal.add):
                barred = expected is not None and (expected.gone or name in expected.absent)
                order = (barred, *self._worse_pointer(key, name))
                if best is None or order < best[0]:
                    best = (order, name, proposal)
        if best is not None:
            _, name, proposal = best
            # Only whoever knows the whole set may take PTR records away: others know of the one that they add.
            gone = being.values - {name} if proposal.whole is not None else frozenset()
            apply(being, frozenset({name}), gone, proposal)

    def _keep_expected(self, key: SetKey, being: OpenSet) -> None:
        """Have a set satisfy the estate, whatever was proposed."""
        expected = self._expected.get((key.view, key.name, key.rdtype))
        if expected is None:
            return
        right = set() if expected.gone else set(expected.values) if expected.exact else being.values | expected.values
        being.values = set(right) - expected.absent
        if expected.ttl is not None and being.values != being.held.values:
            being.ttl = expected.ttl

    def _nothing_to_do(self, key: SetKey) -> str:
        """Return why no change to a set is needed at its source."""
        primary = self._primaries[key.view, key.zone]
        others = [server for server in primary.servers if server is not primary.source]
        source = primary.source.label if primary.source is not None else "the primary"
        expected = self._expected.get((key.view, key.name, key.rdtype))
        wanted = expected is not None and not expected.gone
        if not others:
            return f"the estate expects it as {source} has it"
        begin = f"{source} has it as the estate expects it" if wanted else f"{source} has it right"
        if primary.replicas is not None and primary.replicas.servers.issuperset(others):
            return f"{begin}: {primary.replicas.advice(others)}"
        serials = self._serials.get((key.view, key.zone), {})
        own = serials.get(primary.source) if primary.source is not None else None
        alike = [one for one in others if own is not None and serials.get(one) == own]
        if alike:  # with one serial on both no transfer begins
            return f"{begin}: raise the serial on {source}, or force a transfer to {labels_of(alike)} (they have one serial)"
        return f"{begin}: {let_transfer(others)}"

    def _worse_pointer(self, key: SetKey, name: Name) -> tuple[bool, bool, str]:
        """Return a host that is expected at the address goes before one that is expected elsewhere, and that before any
        other."""
        wanted = [
            expected for rdtype in (A, AAAA) if (expected := self._expected.get((key.view, name, rdtype))) is not None
        ]
        address = address_of(key.name)
        return not any(address in one.values for one in wanted), not wanted, to_text(name)

    # What stands there

    def _look_up(self, wanted: Iterable[SetKey]) -> Dialogue[None]:
        """Read what is not known yet of some sets from the primaries of their zones."""
        zones = dict.fromkeys((key.view, key.zone) for key in wanted)
        for view, apex in zones:
            if (view, apex) not in self._primaries:
                zone: Zone = self._estate.zones[view][apex]
                primary = self._primaries[view, apex] = yield from primary_of(zone, self._atlas)
                self._serials[view, apex] = yield from serials_of(zone, primary)
                self._usual[view, apex] = yield from usual_ttls(zone, primary)
        keys = [key for key in wanted if key not in self._beings]
        for key in keys:
            source = self._primaries[key.view, key.zone].source
            if source is None:
                self.blocked[key] = self._primaries[key.view, key.zone].trouble
        keys = [key for key in keys if self._primaries[key.view, key.zone].source is not None]
        sources = [self._primaries[key.view, key.zone].source for key in keys]
        found = yield from together(
            [held_at(key, source) for key, source in zip(keys, sources, strict=True) if source is not None]
        )
        for key, held in zip(keys, found, strict=True):
            if isinstance(held, str):
                self.blocked[key] = held
                continue
            meant = self._meant.get(key)
            if meant is not None and held.values not in meant:
                self.refuse(key, "it was changed since it was planned")
                self.blocked[key] = self.refused[key]
                continue
            self._beings[key] = OpenSet(held, set(held.values))

    # An alias stands alone

    def _make_room(self, wanted: Iterable[SetKey]) -> Dialogue[None]:
        """Return where an alias comes, addresses in its place go; nothing comes beside one that stays (RFC 1034 section
        3.6.2)."""
        for key in list(wanted):
            being = self._beings.get(key)
            if being is None or not being.values - being.held.values:
                continue
            if key.rdtype == CNAME:
                yield from self._clear(key)
            else:
                alias = key._replace(rdtype=CNAME)
                if alias not in self._beings:
                    yield from self._look_up([alias])
                stays = self._beings.get(alias)
                if stays is not None and stays.values:
                    self._block(key, f"{to_text(key.name)} is an alias, beside which there can be no other record")

    def _clear(self, key: SetKey) -> Dialogue[None]:
        others = [key._replace(rdtype=rdtype) for rdtype in SWEPT if rdtype not in (CNAME, SOA)]
        yield from self._look_up(others)
        there = [one for one in others if (being := self._beings.get(one)) is not None and being.values]
        kept = [
            one
            for one in there
            if one.rdtype not in (A, AAAA)
            or ((wanted := self._expected.get((one.view, one.name, one.rdtype))) is not None and wanted.values)
        ]
        if kept:
            text = together_said(type_text(one.rdtype) for one in kept)
            self._block(key, f"{to_text(key.name)} has {text} records, beside which there can be no alias")
            return
        for one in there:
            self._beings[one].values.clear()
            self._beings[one].reasons["an alias comes in its place"] = None

    def _take_nothing_away(self) -> None:
        """Keep what is there; what can come only in the place of something else does not come."""
        why = "it would take something away, and --only-adding forbids that"
        for key, being in self._beings.items():
            gone = being.held.values - being.values
            if gone and (key.rdtype in (CNAME, PTR) or not being.values - being.held.values):
                self._block(key, why)
            elif gone:
                being.values |= gone
        for key, being in self._beings.items():
            alias = self._beings.get(key._replace(rdtype=CNAME))
            if key.rdtype != CNAME and being.values and alias is not None and alias.values:
                self._block(key if alias.held.values else key._replace(rdtype=CNAME), why)

    def _block(self, key: SetKey, why: str) -> None:
        being = self._beings[key]
        being.values, being.ttl = set(being.held.values), None
        being.precedence.clear()
        self.blocked[key] = why


def order_of(key: SetKey) -> tuple[bool, str, list[str], str, int]:
    """Forward zones before the reverse ones that point at their names, then by name from the top."""
    zone, name = to_text(key.zone), to_text(key.name)
    return is_reverse(key.zone), key.view, zone.split(".")[::-1], name, key.rdtype

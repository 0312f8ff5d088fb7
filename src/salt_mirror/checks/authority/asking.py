"""The authority of a zone: who serves it, which version, who sends people there, and whether they all say the same.

Strategy: this module asks and lays out what was seen; `versions` and `lists` judge it. The servers are the union of the
estate's list, the zone's own NS set and the parent's, each at every address. All that can be asked is asked at once: the
known servers' SOA, NS, TCP and transfer together with the parent's delegation; then the addresses of all name servers
together; then what is new among those. So a hundred silent servers cost one wait, not a hundred.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from salt_mirror.checks.authority.content import across_lineages, compare
from salt_mirror.checks.authority.seen import Parentage, Place, Seen, own_set
from salt_mirror.checks.common.atlas import Atlas, Authority
from salt_mirror.checks.common.delegation import delegation_in
from salt_mirror.checks.common.lookup import at_name, lookup
from salt_mirror.checks.common.part import Holdings
from salt_mirror.checks.common.replicas import replicas_of
from salt_mirror.checks.signed.asking import SignedCopy, SignedSeen, ask_keys, ask_parent, ask_signatures
from salt_mirror.dns.dialogue import Dialogue, together
from salt_mirror.dns.names import ROOT, Name, parent, to_text
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import AAAA, AXFR, DNSKEY, NS, SOA, A
from salt_mirror.dns.special import undelegated

_MOST_CUTS = 8


def inspect(zone: Name, view: str, atlas: Atlas, holdings: Holdings, stranger: bytes) -> Dialogue[Seen]:
    """Ask all there is to ask about a zone's authority in one view; `stranger` is a label that nobody has registered."""
    authority = atlas.known(zone, view)
    if authority is None:
        authority = yield from atlas.find(zone, view)
    steps: list[Dialogue[Any]] = [
        at_name(zone, (SOA,), view, atlas),
        _ask_places(zone, view, [Place(server) for server in authority.servers], atlas),
        _parentage(zone, view, atlas),
    ]
    found, early, parentage = yield from together(steps)
    seen = Seen(zone, view, found)
    values = [telling for telling in found.usable if telling.values]
    if found.usable and not values:
        seen.belongs, seen.exists = found.authority.zone, found.exists
        return seen
    if found.authority.servers != authority.servers:  # the servers asked first referred down to the zone's own
        early = yield from _ask_places(zone, view, [Place(server) for server in found.authority.servers], atlas)
    seen.parentage = parentage
    yield from _gather(seen, early, atlas)
    yield from _ask_for_keys(seen, atlas, holdings)
    seen.compared = yield from compare(seen, atlas, holdings)
    if seen.unsigned:
        seen.across = yield from across_lineages(seen, atlas)
    if seen.signed is not None:
        yield from ask_signatures(seen.signed, stranger, atlas)
    return seen


def _ask_for_keys(seen: Seen, atlas: Atlas, holdings: Holdings) -> Dialogue[None]:
    """Ask for the keys at the apex, and the parent's servers for the DS set. Where servers have several versions, the keys
    tell a signer's from others, with which they have no order."""
    serving, above = seen.serving, seen.parentage
    signed = SignedSeen(
        seen.zone, seen.view, above.zone, parentless=bool(above.none) and seen.zone != ROOT and not atlas.given
    )
    signed.elsewhere = seen.elsewhere
    signed.anchors = atlas.estate.anchors.get(seen.zone, ())
    servers = [
        answer.question.server for answer in above.answers if answer.trouble is None or answer.referral is not None
    ]
    steps: list[Dialogue[Any]] = [
        ask_keys(seen.zone, [place.server for place in serving], atlas),
        ask_parent(signed, servers, atlas),
    ]
    answers, _ = yield from together(steps)
    several = len({place.version.serial for place in serving if place.version is not None}) > 1
    sent = any({"zone", "parent"} & set(place.listed) for place in serving)
    for place, answer in zip(serving, answers, strict=True):
        place.keys = answer if several and answer.trouble is None else None
        listed = not sent or bool({"zone", "parent"} & set(place.listed))
        copy = holdings(place.server, seen.zone)
        # One without keys is what its server signs, and nothing to look for signatures in.
        copy = copy if copy is not None and copy.whole and copy.rdata(seen.zone, DNSKEY) else None
        signed.copies.append(SignedCopy(place.server, listed, answer, holding=copy))
    # One that does not serve the zone now is not sound: what was wrong with its signatures is not known to be mended.
    signed.copies += [
        SignedCopy(place.server, True, place.spoken)
        for place in seen.places
        if place.version is None and place.listed and place.spoken is not None and place.spoken.trouble is not None
    ]
    seen.signed = signed


def _ask_places(zone: Name, view: str, places: list[Place], atlas: Atlas) -> Dialogue[list[Place]]:
    """Ask each server what a row of the sheet needs, all at once."""
    batch: list[Question] = []
    trying = atlas.tries_updates(zone, view)
    for place in places:
        batch += [Question(zone, SOA, place.server), Question(zone, NS, place.server)]
        if place.server.over == "udp":  # over TLS or HTTPS there is no other way to the same server
            batch.append(Question(zone, SOA, atlas.sibling(place.server, "tcp")))
            batch.append(Question(zone, AXFR, atlas.sibling(place.server, "transfer")))
            if trying:
                batch.append(Question(zone, SOA, atlas.sibling(place.server, "update")))
    answers = iter((yield batch))
    for place in places:
        place.soa, place.ns = next(answers), next(answers)
        if place.server.over == "udp":
            place.tcp, place.transfer = next(answers), next(answers)
            place.update = next(answers) if trying else None
    return places


def _parentage(zone: Name, view: str, atlas: Atlas) -> Dialogue[Parentage]:
    """Ask the servers of the zone above where they send people for this one."""
    if zone == ROOT:
        return Parentage(none="the root has no parent")
    if atlas.given:
        return Parentage(none="not looked at, since the servers to ask were given")
    above = atlas.estate.zone_of(parent(zone), view)
    special = undelegated(zone)
    if above is None and special is not None:
        return Parentage(none=f"{to_text(special)} is set aside, and no public zone delegates it")
    authority = (
        atlas.root if parent(zone) == ROOT and atlas.root.servers else (yield from atlas.find(parent(zone), view))
    )
    if authority.trouble is not None and not authority.servers and atlas.root.servers:
        authority = atlas.root  # no resolver could tell: the way down from the named roots does
    if authority.trouble is not None and authority.zone is None:
        return Parentage(trouble=authority.trouble)
    for _ in range(_MOST_CUTS):
        answers = yield [Question(zone, NS, server) for server in authority.servers]
        between = {
            answer.referral: answer for answer in answers if answer.referral is not None and answer.referral != zone
        }
        if not between:
            break
        cut = max(between, key=len)
        authority = yield from atlas.descend(cut, [answer for answer in answers if answer.referral == cut])
    return _told_by_parent(zone, authority, answers)


def _told_by_parent(zone: Name, authority: Authority, answers: list[Answer]) -> Parentage:
    parentage = Parentage(authority.zone, answers)
    for answer in answers:
        delegation = delegation_in(answer)
        if delegation is not None and delegation.cut == zone:
            parentage.delegations[answer.question.server] = delegation
        elif answer.trouble is None and answer.values:
            parentage.shared = True
        elif answer.trouble is None:
            parentage.denied = True
    if not parentage.delegations and not parentage.shared and not parentage.denied:
        why = "; ".join(dict.fromkeys(f"{a.question.server.label}: {a.trouble}" for a in answers))
        parentage.trouble = why or authority.trouble or "it has no server that could be asked"
    if parentage.denied and not parentage.delegations and not parentage.shared and authority.zone == ROOT:
        parentage.none = "the root delegates nothing above it"
    return parentage


def _gather(seen: Seen, early: list[Place], atlas: Atlas) -> Dialogue[None]:
    """Put the servers of all lists together, each place once, and ask those that were not asked yet."""
    zone, view = seen.zone, seen.view
    at: dict[tuple[bytes, int], Place] = {(p.server.address, p.server.port): p for p in early}
    held = atlas.estate.zones.get(view, {}).get(zone)
    seen.listed = (held.servers or ()) if held is not None and not atlas.given else ()
    for place in early:
        if place.server in seen.listed:
            place.listed["estate"] = None
    if held is not None and not atlas.given:
        seen.primary = held.primary or held.updates.server
        if seen.primary is not None:  # a hidden one is in no list of servers, and leads all the same
            at.setdefault((seen.primary.address, seen.primary.port), Place(seen.primary, listed={"primary": None}))
    own = sorted({value for place in early for value in own_set(place)})
    named = {place.version.mname for place in early if place.version is not None} - {ROOT}
    targets = list(dict.fromkeys([*own, *seen.parentage.targets]))
    wanted = [*targets, *sorted(named - set(targets))]
    lookups = yield from together([lookup(target, (A, AAAA), view, atlas) for target in wanted])
    seen.lookups = dict(zip(wanted, lookups, strict=True))
    seen.elsewhere = _elsewhere(seen, own, atlas)
    if not atlas.given:
        pairs = [
            (target, address, right)
            for target in targets
            for right in [frozenset(seen.lookups[target].values)]
            for address in _addresses(seen, target)
        ]
        # An address that stands in the glue alone comes last: what is there belongs to whoever has it by right.
        for target, address, right in sorted(pairs, key=lambda pair: (pair[1] not in pair[2], len(pair[1]))):
            glue = seen.parentage.glue(target)
            by_parent = target in seen.parentage.targets and (address in glue or not glue) and not seen.elsewhere
            by_zone = target in own and (address in right or not right)
            if not by_parent and not by_zone:
                continue
            if not atlas.reachable(address):
                seen.beyond[address] = None
                continue
            server = atlas.server_at(target, address)
            place = at.setdefault((server.address, server.port), Place(server))
            place.names[target] = place.addresses[address] = None
            place.listed.update(dict.fromkeys(["parent"] * by_parent + ["zone"] * by_zone))
    else:
        _name_given(seen, early)
    seen.places = list(at.values())
    yield from _ask_places(zone, view, [place for place in seen.places if place.soa is None], atlas)
    late = [place for place in seen.places if place not in early]
    told = {value for place in late for value in own_set(place)}
    told |= {place.version.mname for place in late if place.version is not None} - {ROOT}
    unknown = sorted(told - set(seen.lookups))
    if unknown:
        lookups = yield from together([lookup(target, (A, AAAA), view, atlas) for target in unknown])
        seen.lookups.update(zip(unknown, lookups, strict=True))
    yield from _name_primaries(seen, atlas)


def _name_primaries(seen: Seen, atlas: Atlas) -> Dialogue[None]:
    """Find the servers that name themselves as the primary, and those that replicate the zone."""
    for place in seen.serving:
        mname = place.version.mname if place.version is not None else ROOT
        known = seen.lookups[mname].values if mname in seen.lookups else ()
        here = (place.server.address, place.server.port)
        place.own_primary = mname in place.names or here in map(atlas.estate.reached, known)
    copies = {place.server: place.version for place in seen.serving if place.version is not None}
    seen.replicas = yield from replicas_of(seen.zone, seen.view, copies, atlas)
    for place in seen.serving:
        place.own_primary |= seen.replicas is not None and place.server in seen.replicas.hosts


def _addresses(seen: Seen, target: Name) -> list[bytes]:
    """Return every address of a name server: its own, and the glue that the parent gives."""
    glue = () if seen.elsewhere else seen.parentage.glue(target)
    return list(dict.fromkeys([*seen.lookups[target].values, *glue]))


def _name_given(seen: Seen, places: Iterable[Place]) -> None:
    """Find the names of servers that are known by address only."""
    for target, looked_up in seen.lookups.items():
        for place in places:
            if place.server.address in looked_up.values:
                place.names[target] = place.addresses[place.server.address] = None


def _elsewhere(seen: Seen, own: list[bytes], atlas: Atlas) -> bool:
    """Return whether the parent's delegation leads to another view's servers, as it does with split DNS."""
    views = [view for view, zones in atlas.estate.zones.items() if seen.zone in zones]
    targets = seen.parentage.targets
    if not targets or seen.view in atlas.estate.public_views or not seen.listed:
        return False
    ours = {(server.address, server.port) for server in seen.listed}
    theirs = {
        atlas.estate.reached(address)
        for target in targets
        for address in (*seen.parentage.glue(target), *(seen.lookups[target].values if target in seen.lookups else ()))
    }
    return not ours & theirs and not set(own) & set(targets) and (len(views) > 1 or seen.view != "")

"""What a server that hands over no zone has of it now, as far as a file and the estate name it: asked set by set.

Strategy: one dialogue a name. What comes back is a listing, no whole zone: what it lacks may be there all the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from salt_mirror.checks.common.wildcards import of_a_wildcard
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.holding import PartialHolding
from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import AAAA, CNAME, NOT_COMPARED, NS, SOA, A, Record

_HOST = frozenset((A, AAAA, CNAME))


def listed(proposed: ProposedZone, server: Server, runner: Runner) -> PartialHolding | None:
    """Return what a server has of a zone, by asking for what its file has and what is expected in it; None without an SOA."""
    zone = proposed.zone
    wanted: dict[Name, set[int]] = {zone.apex: {SOA, NS}}
    sets = [(one.name, one.rdtype) for one in (*proposed.records, *zone.expectations)]
    for name, rdtype in sets:
        if is_within(name, zone.apex) and rdtype not in NOT_COMPARED:
            wanted.setdefault(name, set()).add(rdtype)
    for rdtypes in wanted.values():
        if rdtypes & _HOST:  # a host may have had either family, or have been an alias, which any answer shows
            rdtypes |= {A, AAAA}
    records = [record for found in runner.run(_ask(wanted, server)) for record in found]
    if not any(one.rdtype == SOA and one.owner == zone.apex for one in records):
        return None
    return PartialHolding(zone.apex, records, of_one_set=len(records) + 1)


def _ask(wanted: dict[Name, set[int]], server: Server) -> Iterator[Dialogue[list[Record]]]:
    for name, rdtypes in wanted.items():
        yield _at(name, sorted(rdtypes), server)


def _at(name: Name, rdtypes: Iterable[int], server: Server) -> Dialogue[list[Record]]:
    """Return what stands at a name. What a wildcard makes of it is no record of the zone."""
    answers = yield [Question(name, rdtype, server) for rdtype in rdtypes]
    usable = [one for one in answers if one.trouble is None]
    records: list[Record] = []
    for one in usable:
        own = name.startswith(b"\x01*") or not (one.values or one.alias) or not (yield from of_a_wildcard(one))
        if own:
            records += [Record(name, one.question.rdtype, one.ttl or 0, value) for value in one.values]
        if own and one.alias is not None and not any(record.rdtype == CNAME for record in records):
            records.append(Record(name, CNAME, one.ttl or 0, one.alias))
    return records

"""Whether servers of a zone hold the same records: whole zones where they were transferred, else what matters most.

Strategy: servers with one serial must agree in everything; servers that each are a primary of their own have no common serial,
so that for them the content is all there is to compare: the apex, name servers, locators, and whatever is expected.
"""

from __future__ import annotations

from salt_mirror.checks.authority.plain import plain_content
from salt_mirror.checks.authority.seen import Compared, Place, Seen
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.directories import Directory, all_wanted, directory_of, name_of
from salt_mirror.checks.common.locators import LOCATORS
from salt_mirror.checks.common.part import Holdings
from salt_mirror.checks.common.wording import many
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, from_text, is_within
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import AAAA, NOT_CONTENT, NS, SAMPLED, SOA, SRV, A
from salt_mirror.dns.screening import ForeseenBatch

MOST_COMPARED = 400
"""So many expected record sets are compared between servers of one version, evenly chosen where there are more."""
FEW_COMPARED = 8
"""So many of a zone that is as it was at its last whole look."""


def compare(seen: Seen, atlas: Atlas, holdings: Holdings) -> Dialogue[Compared]:
    """Return how the content of the servers compares whose records have to be the same."""
    group = seen.primaries or _of_one_version(seen)
    if len(group) < 2:
        return Compared()
    whole = [holding for place in group if (holding := holdings(place.server, seen.zone)) is not None and holding.whole]
    unlike: dict[tuple[Name, int], list[Answer]] = {}
    if len(whole) > 1 and len({holding.digest for holding in whole}) > 1:
        for other in whole[1:]:
            unlike.update((key, []) for key in whole[0].unlike(other, 10))
    if len(whole) == len(group):
        return Compared(f"whole zones compared, {whole[0].size:,} records", unlike, group)
    sets, words = _chosen(seen, atlas, taken=len(whole))
    # Where no other check has read what is expected, that would take longer than it gains.
    known = atlas.expects.read
    plain = plain_content(sets, seen.view, [place.server for place in group], atlas.expects) if known else None
    if plain is not None:
        yield ForeseenBatch(plain)
        if plain.agreed:
            agreed = {(one.name, one.rdtype) for one in plain.rounds[0]}
            sets = [key for key in sets if key not in agreed]
    answers = yield [Question(name, rdtype, place.server) for name, rdtype in sets for place in group]
    compared = Compared(words, unlike, group)
    for number, key in enumerate(sets):
        told = answers[number * len(group) : (number + 1) * len(group)]
        usable = {(answer.values, answer.alias, answer.exists) for answer in told if answer.trouble is None}
        if len(usable) > 1:
            compared.unlike[key] = told
    return compared


def _of_one_version(seen: Seen) -> list[Place]:
    """Return the largest group of servers that have one serial."""
    by_version: dict[tuple[int, bool], list[Place]] = {}
    for place in seen.serving:
        if place.version is not None:
            by_version.setdefault((place.version.serial, place.signed), []).append(place)
    return max(by_version.values(), key=len, default=[])


def across_lineages(seen: Seen, atlas: Atlas) -> Dialogue[Compared]:
    """Return how what a signer serves compares with what it signs: the content of one server of each, by what is expected."""
    origin, serial = seen.reference_of(seen.unsigned)
    newest = [one for one in seen.unsigned if one.version is not None and one.version.serial == serial]
    first = origin or next(iter(newest), None)
    pair = [first, *seen.measure[:1]] if first is not None else []
    if len(pair) < 2:
        return Compared()
    sets, words = _some(seen, atlas)
    answers = yield [Question(name, rdtype, place.server) for name, rdtype in sets for place in pair]
    compared = Compared(words, {}, pair)
    for number, key in enumerate(sets):
        told = answers[number * 2 : number * 2 + 2]
        usable = {(answer.values, answer.alias, answer.exists) for answer in told if answer.trouble is None}
        if len(usable) > 1 and key[1] not in NOT_CONTENT:
            compared.unlike[key] = told
    return compared


def _of_directory(zone: Name) -> list[tuple[Name, int]]:
    """Return what a zone that is replicated through a directory is likely to hold, for whoever has declared nothing."""
    names = (name_of(row.pattern, Directory(zone, zone)) for row in LOCATORS if row.kind == "SRV")
    return [(name, SRV) for name in dict.fromkeys(names) if name is not None]


def _declared(seen: Seen, atlas: Atlas) -> list[tuple[Name, int]]:
    """Return the locators that the estate's directories want in a zone."""
    entries = (directory_of(entry) for entry in atlas.estate.directories if entry.view == seen.view)
    return [
        (wanted.name, rdtype)
        for directory in entries
        for wanted in all_wanted(directory)
        for rdtype in wanted.rdtypes
        if atlas.estate.zone_of(wanted.name, seen.view) is atlas.estate.zones.get(seen.view, {}).get(seen.zone)
        and is_within(wanted.name, seen.zone)
    ]


def _chosen(seen: Seen, atlas: Atlas, *, taken: int) -> tuple[list[tuple[Name, int]], str]:
    """Return which RRsets to compare on all servers: the expected ones, or a sample; and that in words. `taken` is of how many
    servers the whole zone is in hand, and compared besides."""
    sets, words = _some(seen, atlas)
    advice = "zones in a directory are not transferred" if seen.several_primaries else "--transfer compares all"
    if taken:
        advice = f"of the others no whole zone was had; those of {many(taken, 'server')} were compared whole"
    return sets, f"{words} ({advice})"


def _some(seen: Seen, atlas: Atlas) -> tuple[list[tuple[Name, int]], str]:
    zone = atlas.estate.zones.get(seen.view, {}).get(seen.zone)
    expected = {(one.name, one.rdtype) for one in zone.expectations} if zone is not None else set()
    sets = sorted(one for one in expected if one[1] != SOA)
    most = MOST_COMPARED
    if (seen.view, seen.zone) in atlas.unchanged:
        most, sets = FEW_COMPARED, sets[:: max(1, len(sets) // FEW_COMPARED)]
    sample = [(name, rdtype) for name in _sampled(seen.zone) for rdtype in SAMPLED]
    if seen.several_primaries:
        hosts = [
            (target, rdtype) for target in seen.own_targets if is_within(target, seen.zone) for rdtype in (A, AAAA)
        ]
        locators = _declared(seen, atlas) or _of_directory(seen.zone)
        chosen = list(dict.fromkeys([(seen.zone, NS), *sample, *hosts, *locators, *sets]))
        return (
            chosen,
            f"{len(chosen):,} record sets compared: apex, name servers, locators and {len(sets):,} expected ones",
        )
    if not sets:
        return sample, f"a sample of {len(sample)} record sets compared, as nothing is expected"
    if len(sets) > most:
        step = len(sets) / most
        chosen = [sets[int(number * step)] for number in range(most)]
        return chosen, f"{most:,} of {len(sets):,} expected record sets compared"
    return sets, f"{many(len(sets), 'expected record set')} compared"


def _sampled(zone: Name) -> list[Name]:
    return [zone, from_text("www", zone)] if len(zone) + 4 <= 255 else [zone]

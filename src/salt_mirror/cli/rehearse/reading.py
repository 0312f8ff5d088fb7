"""What is proposed, read: zone files with what cannot be read of them, lists of records, plans.

Strategy: a line that cannot be read is a finding of its own and hides nothing of the rest. Lists and plans become whole record
sets as soon as it is known what there is now.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.wording import many, together_said
from salt_mirror.checks.plan.primaries import Primary, held_at, primary_of, usual_ttls
from salt_mirror.checks.plan.sets import Held, PlannedSet, SetKey, set_of
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.checks.rehearse.proposed import FileProblem, ProposedZone
from salt_mirror.checks.rehearse.wording import removed_finding, unknown_finding
from salt_mirror.cli.arguments import first_forward, left_out, spec_of
from salt_mirror.cli.options import Asking, Listing
from salt_mirror.cli.zonefiles import ZoneFile, passed_over, zone_files, zone_files_of, zone_in, zone_of
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import ONE_HAND, SOA
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.masterfile import read_master_file
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.estate.sources import read_expectations
from salt_mirror.findings import Finding
from salt_mirror.keeping.approvals import from_end_to_end, read_plan

_FEW = 3
_AT = re.compile(r"\A(.*), line (\d+): (.*)\Z", re.DOTALL)


def proposed_zones(words: list[str], estate: Estate, view: str | None, *, offline: bool) -> list[ProposedZone]:
    """Return the zone files that were named, read. Without servers a zone need not be in the estate. Raises BadInput."""
    files = [one if one.view or view is None else one._replace(view=view) for one in zone_files(words, "--zone-file")]
    return [_read(one, _zone(one, estate, offline=offline)) for one in files]


def _zone(file: ZoneFile, estate: Estate, *, offline: bool) -> Zone:
    known = any(zone.apex == file.apex for zone in estate.all_zones())
    if known or not offline:
        return zone_of(file, estate, "--zone-file")
    views = estate.views
    return Zone(file.apex, file.view or (views[0] if views else ""), ())


def _read(file: ZoneFile, zone: Zone) -> ProposedZone:
    problems: list[Unusable] = []
    records = read_master_file(file.path, zone.apex, problems)
    return ProposedZone(zone, file.path, records, [problem_in(one) for one in problems])


def problem_in(problem: Unusable) -> FileProblem:
    """Return a damaged line by its file and number."""
    match = _AT.match(str(problem))
    return FileProblem(match[1], int(match[2]), match[3]) if match else FileProblem("", 0, str(problem))


def files_today(
    folder: Path, old: Sequence[tuple[Name, Path]], zones: Sequence[ProposedZone]
) -> dict[tuple[str, Name], Holding]:
    """Return the zones as they are by the files of today: under the same paths in a folder, or among the `old` files, where one
    has another name. Raises BadInput where none is there."""
    found: dict[tuple[str, Name], Holding] = {}
    moved = dict(reversed(old))
    for one in zones:
        same = [
            folder / relative if not relative.is_absolute() else folder / relative.name
            for relative in (one.path, Path(one.path.name))
        ]
        for path in [*same, moved.get(one.zone.apex, folder)]:
            if path.is_file():
                problems: list[Unusable] = []
                records = read_master_file(path, one.zone.apex, problems)
                then = ProposedZone(one.zone, path, records)
                if then.soa is not None:
                    found[one.zone.view, one.zone.apex] = then.holding
                break
    if zones and not found:
        raise BadInput(f"--before: {folder} has none of the {many(len(zones), 'zone file')}, such as {zones[0].path}")
    return found


def removed_zones(before: Path, old: Sequence[tuple[Name, Path]], zones: Sequence[ProposedZone]) -> list[Finding]:
    """Return what is said of zones that have an `old` file, and no longer have one."""
    there = {one.zone.apex for one in zones}
    return [removed_finding(apex, "", str(path.relative_to(before))) for apex, path in old if apex not in there]


def files_of_today(before: Path, words: Sequence[str]) -> list[tuple[Name, Path]]:
    """Return the zone files of today in the folders that were named, each with its zone."""
    folders = [before / word for word in words if Path(word).is_dir() and not Path(word).is_absolute()]
    return [(zone_in(path, "--before"), path) for one in folders if one.is_dir() for path in zone_files_of(one)]


def passed_over_said(words: Sequence[str]) -> list[str]:
    """Return what is said of files that have an SOA record and were not read, since they are not named as zone files are."""
    paths = passed_over(words)
    if not paths:
        return []
    few = together_said(map(str, paths[:_FEW]))
    more = f" and {len(paths) - _FEW:,} more" if len(paths) > _FEW else ""
    return [f"not read, since their names are none of zone files: {few}{more}; name each as --zone-file ZONE=FILE"]


class ProposedSets:
    """Records of lists, and sets of a plan, that are to be there beside the zone files; `unknown` says of which it is not known
    what they are now. Raises BadInput."""

    def __init__(
        self, estate: Estate, lists: Sequence[Path], plan: Path | None, listing: Listing, asking: Asking
    ) -> None:
        self._estate = estate
        self._view = asking.view
        self._lines: list[SetLine] = from_end_to_end(read_plan(plan, None)[1]) if plan is not None else []
        self._wanted: list[Expectation] = []
        self.unknown: list[Finding] = []
        origin, spec = first_forward(asking, estate), spec_of(listing)
        for path in lists:
            problems: list[Unusable] = []
            self._wanted += read_expectations(path, origin, problems, spec, estate.networks)
            estate.remarks += left_out([str(one) for one in problems], asking)
        if lists and not self._wanted:
            raise BadInput(f"--records: {lists[0]} has no records")

    @property
    def listed(self) -> str:
        """How many records the lists have, in words."""
        number = len(self._wanted)
        return "this record" if number == 1 else f"these {number:,} records"

    def planned(self, atlas: Atlas, runner: Runner) -> list[PlannedSet]:
        """Return whole sets, before and after. Raises BadInput for a record that no zone of the estate holds."""
        sets = [set_of(line, None) for line in self._lines]
        for planned in sets:
            if planned.key.zone not in self._estate.zones.get(planned.key.view, {}):
                raise BadInput(
                    f"--plan: the estate has no zone {to_text(planned.key.zone)}"
                    + (f" in the view {planned.key.view}" if planned.key.view else "")
                )
        grouped: dict[SetKey, list[Expectation]] = {}
        for one in self._wanted:
            if one.rdtype != SOA:
                for key in self._keys(one):
                    grouped.setdefault(key, []).append(one)
        primaries: dict[tuple[str, Name], tuple[Primary, int]] = {}
        for key, members in grouped.items():
            zone = self._estate.zones[key.view][key.zone]
            if (key.view, key.zone) not in primaries:
                primaries[key.view, key.zone] = next(iter(runner.run([_source(zone, atlas)])))
            primary, ttl = primaries[key.view, key.zone]
            held: Held | str = primary.trouble
            if primary.source is not None:
                held = next(iter(runner.run([held_at(key, primary.source)])))
            if isinstance(held, str):
                self.unknown.append(unknown_finding(key, held))
                held = Held(frozenset(), None, False)
            sets.append(_set(key, members, held, ttl))
        return sets

    def _keys(self, one: Expectation) -> list[SetKey]:
        views = [self._view] if self._view is not None else self._estate.views
        keys = [
            SetKey(view, zone.apex, one.name, one.rdtype)
            for view in views
            if (zone := self._estate.zone_of(one.name, view)) is not None
        ]
        if not keys:
            raise BadInput(f"--records: {one.where}: {to_text(one.name)} is in no zone of the estate")
        return keys


def _source(zone: Zone, atlas: Atlas) -> Dialogue[tuple[Primary, int]]:
    primary = yield from primary_of(zone, atlas)
    ttls = yield from usual_ttls(zone, primary)
    return primary, next((ttl for ttl, _ in ttls.most_common(1)), 3600)


def _set(key: SetKey, members: Sequence[Expectation], held: Held, usual_ttl: int) -> PlannedSet:
    """Return a set with the records of a list in it. An address, alias or pointer takes the place of the others; in sets that
    several people fill, the others stay unless the list is exact."""
    come = {one.rdata for one in members if one.presence != "absent"}
    gone = {one.rdata for one in members if one.presence == "absent"}
    whole = key.rdtype in ONE_HAND or any(one.presence == "exact" for one in members)
    after = (come if whole and come else set(held.values) | come) - gone
    if b"" in gone and not come:
        after = set()
    ttl = next((one.ttl for one in members if one.ttl is not None), held.ttl if held.ttl is not None else usual_ttl)
    return PlannedSet(key, held.values, frozenset(after), held.ttl, ttl if after else None, held.named, None)

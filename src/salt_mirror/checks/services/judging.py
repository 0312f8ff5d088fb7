"""Services and directories: which trees are judged, each by its own dialogue."""

from __future__ import annotations

from collections.abc import Collection

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import Coverage
from salt_mirror.checks.common.directories import is_locator
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.locators import FAMILIES
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.common.registered import registered_names
from salt_mirror.checks.common.test_tree import InView, Judged, Trees
from salt_mirror.checks.services.scope import FAMILY_HINT, ServicesScope, directories_of
from salt_mirror.checks.services.srv import judged_service
from salt_mirror.checks.services.wording import judged_directory
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, from_text, is_within, labels
from salt_mirror.dns.records import SRV
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate


def of_estate(estate: Estate, atlas: Atlas, coverage: Coverage) -> Trees:
    """Return every directory of an estate, and every set of SRV records beside those that it expects, or that is in hand."""
    directories = [one for one in directories_of(estate) if coverage.sees(one.domain, one.view)]
    domains = {(one.domain, one.view) for one in directories_of(estate)}
    sets = [
        (expected.name, expected.view)
        for expected in expected_sets(estate, None, rdtypes=(SRV,))
        if expected.values and not _of_directory(expected.name, domains) and coverage.sees(expected.name, expected.view)
    ]

    def make(setting: Setting) -> dict[InView, Dialogue[Judged]]:
        found = {(one.domain, one.view): judged_directory(one, atlas, setting.holdings) for one in directories}
        seen = [
            (name, zone.view)
            for name, _, zone in registered_names(estate, setting.holdings, (SRV,))
            if not _of_directory(name, domains) and coverage.sees(name, zone.view)
        ]
        every = dict.fromkeys(seen, False) | dict.fromkeys(sets, True)  # what is in hand only may be gone by now
        return found | {key: judged_service(*key, atlas, demanded=demanded) for key, demanded in every.items()}

    return Trees(make, len(directories) + len(sets))


def dialogues_of(
    scope: ServicesScope, estate: Estate, atlas: Atlas, setting: Setting
) -> dict[tuple[Name, str], Dialogue[Judged]]:
    """Return every tree that is wished for. Raises BadInput."""
    transferred = setting.transferred
    found: dict[tuple[Name, str], Dialogue[Judged]] = {}
    views = [scope.view] if scope.view is not None else estate.views
    directories = {(one.domain, one.view) for one in directories_of(estate) if one.view in views}
    chosen = bool(scope.services or scope.families)
    names = scope.names or sorted(directories)
    for name, view in names:
        if scope.directory or (not chosen and (name, view) in directories):
            directory = scope.directory_at(name, view, estate, transferred)
            found[name, view] = judged_directory(directory, atlas, setting.holdings)
        for text in scope.services:
            _add(found, text, name, view, atlas, demanded=True)
        for family in scope.families:
            for text in FAMILIES[family]:
                _add(found, text, name, view, atlas, demanded=False)
    if not chosen and not scope.directory:
        inside = [name for name, _ in scope.names]
        for name, view in _known_sets(estate, views, transferred):
            if (not inside or any(is_within(name, one) for one in inside)) and not _of_directory(name, directories):
                found[name, view] = judged_service(name, view, atlas, demanded=True)
    if not found:
        hint = f" {FAMILY_HINT}"
        raise BadInput(f"nothing to look at: name a --service, a --family or --directory, or expect SRV records.{hint}")
    return found


def _add(
    found: dict[tuple[Name, str], Dialogue[Judged]], text: str, domain: Name, view: str, atlas: Atlas, *, demanded: bool
) -> None:
    name = from_text(text, domain)
    found.setdefault((name, view), judged_service(name, view, atlas, demanded=demanded))


def _known_sets(estate: Estate, views: list[str], transferred: Collection[Name]) -> list[tuple[Name, str]]:
    """Return the names of SRV sets that the estate expects, or that were seen in a transfer."""
    sets = {
        (expectation.name, view): None
        for view in views
        for zone in estate.zones.get(view, {}).values()
        for expectation in zone.expectations
        if expectation.rdtype == SRV and expectation.presence != "absent"
    }
    for name in sorted(transferred):
        parts = labels(name)
        if len(parts) > 2 and parts[0].startswith(b"_") and parts[1] in (b"_tcp", b"_udp"):
            for view in views:
                if estate.zone_of(name, view) is not None:
                    sets[name, view] = None
    return list(sets)


def _of_directory(name: Name, directories: Collection[tuple[Name, str]]) -> bool:
    """Return whether a set is one of a directory's own, which is judged there."""
    return is_locator(name) and any(is_within(name, domain) for domain, _ in directories)

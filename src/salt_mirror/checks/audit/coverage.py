"""What an audit covers: checks, zones, views and codes, chosen or left out by one word each.

Strategy: a word is what it is known as: a check, a view, a code (or a pattern of codes), else a zone or a network. So one
option does for all four, and a word that is nothing of that is an error that names the nearest.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from difflib import get_close_matches
from fnmatch import fnmatchcase

from salt_mirror.dns.names import Name, from_text, is_within
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate, zone_name
from salt_mirror.findings import CATALOGUE, Finding

CHECKS = ("authority", "pairs", "rollcall", "mail", "services")
PREFIXES = {
    "auth": "authority",
    "pair": "pairs",
    "roll": "rollcall",
    "mail": "mail",
    "srv": "services",
    "dir": "services",
}
"""The check that a code's first word belongs to."""


@dataclass(slots=True)
class Words:
    """Words sorted by what they name."""

    checks: set[str] = field(default_factory=set)
    views: set[str] = field(default_factory=set)
    codes: list[str] = field(default_factory=list)
    zones: list[Name] = field(default_factory=list)


@dataclass(slots=True)
class Coverage:
    """What is looked at, and what of that is told. `only` and `skip` hold the words of the command line."""

    only: Words
    skip: Words

    def checks(self, check: str) -> bool:
        """Whether a check runs."""
        wanted = self.only.checks or {
            PREFIXES[code.split(".")[0]] for code in self.only.codes if code.split(".")[0] in PREFIXES
        }
        return (not wanted or check in wanted) and check not in self.skip.checks

    def sees(self, name: Name, view: str) -> bool:
        """Whether a name in a view is looked at."""
        if (self.only.views and view not in self.only.views) or view in self.skip.views:
            return False
        if self.only.zones and not any(is_within(name, zone) for zone in self.only.zones):
            return False
        return not any(is_within(name, zone) for zone in self.skip.zones)

    def tells(self, finding: Finding) -> bool:
        """Whether a finding is told."""
        if self.only.codes and not any(fnmatchcase(finding.code, code) for code in self.only.codes):
            return False
        return not any(fnmatchcase(finding.code, code) for code in self.skip.codes)


def coverage(only: Iterable[str], skip: Iterable[str], estate: Estate) -> Coverage:
    """Reads the words of `--only` and `--skip`. Raises BadInput."""
    return Coverage(_sorted(only, estate, "--only"), _sorted(skip, estate, "--skip"))


def _sorted(words: Iterable[str], estate: Estate, option: str) -> Words:
    found = Words()
    apexes = {zone.apex for zone in estate.all_zones()}
    for word in (part.strip() for text in words for part in text.split(",")):
        if word in CHECKS:
            found.checks.add(word)
        elif word in estate.zones:
            found.views.add(word)
        elif any(fnmatchcase(code, word) for code in CATALOGUE):
            found.codes.append(word)
        else:
            try:
                apex = zone_name(word)
            except BadInput:
                apex = from_text("invalid")
            if apex not in apexes:
                known = [*CHECKS, *estate.zones, *CATALOGUE]
                near = get_close_matches(word, known, 1)
                hint = (
                    f'did you mean "{near[0]}"?'
                    if near
                    else f"checks: {', '.join(CHECKS)}; views: {', '.join(estate.zones)}"
                )
                raise BadInput(f'{option}: "{word}" is no check, view, code or zone of the estate; {hint}')
            found.zones.append(apex)
    return found

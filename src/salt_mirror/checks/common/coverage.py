"""What an audit covers: checks, zones, views and codes, chosen or left out by one word each.

Strategy: a word is what it is known as: a check, a view, a code (or a pattern of codes), else a zone or a network. So one
option does for all four, and a word that is nothing of that is an error that names the nearest.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING

from salt_mirror.catalogue import catalogue, family_of
from salt_mirror.checks import audited
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, is_within, to_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding

if TYPE_CHECKING:
    from salt_mirror.checks.audit.nearby import Nearby
    from salt_mirror.checks.common.narrowing import Narrowing


@dataclass(slots=True)
class Chosen:
    """Chosen sorted by what they name."""

    checks: set[str] = field(default_factory=set)
    views: set[str] = field(default_factory=set)
    codes: list[str] = field(default_factory=list)
    zones: list[Name] = field(default_factory=list)


@dataclass(slots=True)
class Coverage:
    """What is looked at, and what of that is told. `only` and `skip` hold the words of the command line,
    `narrowing` what of unchanged zones is asked, and `nearby` what is judged, where not all is."""

    only: Chosen
    skip: Chosen
    narrowing: Narrowing | None = None
    nearby: Nearby | None = None

    def asks_set(self, name: Name, view: str) -> bool:
        """Return whether what is expected at a name is asked for."""
        narrowing = self.narrowing
        return self.looks_at("rollcall", name, view) and (narrowing is None or narrowing.asks_set(name, view))

    def looks_at(self, check: str, name: Name, view: str) -> bool:
        """Return whether a check looks at a name in a view."""
        return self.sees(name, view) and (self.nearby is None or self.nearby.looks_at(check, name, view))

    def checks(self, check: str) -> bool:
        """Return whether a check runs."""
        of_codes = {one.name for code in self.only.codes for one in audited() if family_of(code) in one.codes}
        wanted = self.only.checks or of_codes
        near = self.nearby is None or self.nearby.runs(check)
        return near and (not wanted or check in wanted) and check not in self.skip.checks

    def told(self) -> tuple[list[str], str]:
        """Return the checks that run where not all do, and in words what is looked at where that is not everything."""
        every = [one.name for one in audited()]
        ran = [name for name in every if self.checks(name)]
        parts = []
        if len(ran) < len(every):
            left = [name for name in every if name not in ran]
            some = f"{', '.join(ran)} only, of {len(every)} checks"
            parts.append(some if len(ran) <= len(left) else f"without {', '.join(left)}")
        for what, word, leaving in (("view", "in the view", "without the view"), ("zone", "in", "without")):
            chosen, skipped = getattr(self.only, f"{what}s"), getattr(self.skip, f"{what}s")
            names = [one if isinstance(one, str) else to_text(one) for one in sorted(chosen)]
            others = [one if isinstance(one, str) else to_text(one) for one in sorted(skipped)]
            parts += [f"{word} {', '.join(names)} only"] if names else []
            parts += [f"{leaving} {', '.join(others)}"] if others else []
        return ran if len(ran) < len(every) else [], ", ".join(parts)

    @property
    def whole(self) -> bool:
        """Whether every zone and view is looked at."""
        return not any(words.views or words.zones for words in (self.only, self.skip))

    def sees(self, name: Name, view: str) -> bool:
        """Return whether a name in a view is looked at."""
        if (self.only.views and view not in self.only.views) or view in self.skip.views:
            return False
        if self.only.zones and not any(is_within(name, zone) for zone in self.only.zones):
            return False
        return not any(is_within(name, zone) for zone in self.skip.zones)

    def tells(self, finding: Finding) -> bool:
        """Return whether a finding is told."""
        if self.only.codes and not any(fnmatchcase(finding.code, code) for code in self.only.codes):
            return False
        if not self.whole and not any(
            self.sees(from_text(name), finding.view) for name in (finding.name, finding.owner)
        ):
            return False
        return not any(fnmatchcase(finding.code, code) for code in self.skip.codes)


def coverage(only: Iterable[str], skip: Iterable[str], estate: Estate) -> Coverage:
    """Read the words of `--only` and `--skip`. Raises BadInput."""
    return Coverage(_sorted(only, estate, "--only"), _sorted(skip, estate, "--skip"))


def _sorted(words: Iterable[str], estate: Estate, option: str) -> Chosen:
    chosen = Chosen()
    apexes = {zone.apex for zone in estate.all_zones()}
    checks = [check.name for check in audited()]
    for word in (part.strip() for text in words for part in text.split(",")):
        if word in checks:
            chosen.checks.add(word)
        elif word in estate.zones:
            chosen.views.add(word)
        elif any(fnmatchcase(code, word) for code in catalogue()):
            chosen.codes.append(word)
        else:
            try:
                apex = zone_name(word)
            except Unusable:
                apex = from_text("invalid")
            if apex not in apexes:
                raise BadInput.unknown(
                    f"{option}: no check, view, code or zone of the estate is called", word,
                    [*checks, *estate.zones, *catalogue()],
                    otherwise=f"checks: {', '.join(checks)}; views: {', '.join(estate.zones)}",
                )  # fmt: skip
            chosen.zones.append(apex)
    return chosen

"""The checks that there are: one line for each, and what every check is.

Strategy: a check is one object, and this table is all that the audit, its coverage, the headlines, `--only` and `--skip`, and
`explain` go by. What it does stands in its own folder, which is brought in when it is used.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

from salt_mirror.catalogue import family_of

if TYPE_CHECKING:
    from salt_mirror.checks.common.atlas import Atlas
    from salt_mirror.checks.common.coverage import Coverage
    from salt_mirror.checks.common.part import Part
    from salt_mirror.estate.model import Estate


class Units(NamedTuple):
    """What a check counts, and what it says of those that are sound."""

    one: str
    several: str
    is_sound: str
    are_sound: str


@dataclass(frozen=True, slots=True)
class Check:
    """One check: its command's name, the families of its codes, and what it counts. Its package is named after its command.

    `nothing` says why an estate may have nothing for it; a check without that is no part of the audit. Of a `quiet` one
    nothing is told where an estate has nothing for it, as most have.
    """

    name: str
    codes: tuple[str, ...]
    units: Units
    nothing: str = ""
    quiet: bool = False

    @property
    def audited(self) -> bool:
        """Whether the audit runs it."""
        return bool(self.nothing)

    def scope(self, estate: Estate, atlas: Atlas, coverage: Coverage) -> Part | None:
        """Return all that it has to look at in an estate, as a part of an audit; None when that is nothing."""
        part: Part | None = import_module(f"{__name__}.{self.name.replace('-', '_')}.judging").of_estate(
            estate, atlas, coverage
        )
        return part

    def headline(self, agrees: int, differs: int, unverified: int) -> str:
        """Return the answer in one sentence, from how many subjects have each outcome."""
        units, total = self.units, agrees + differs + unverified
        parts = [
            f"{agrees:,} of {total:,} {units.one if total == 1 else units.several} "
            f"{units.is_sound if 1 in (total, agrees) else units.are_sound}"
        ]
        if differs:
            parts.append(f"{differs:,} {'differs' if differs == 1 else 'differ'}")
        if unverified:
            parts.append(f"{unverified:,} could not be verified")
        return "; ".join(parts) + "."


CHECKS = (
    Check(
        "pairs", ("pair",), Units("address", "addresses", "agrees", "agree"),
        nothing="no expected addresses and no reverse zones",
    ),
    Check(
        "rollcall", ("roll",), Units("record set", "record sets", "is as expected", "are as expected"),
        nothing="no zone expects records",
    ),
    Check(
        "authority", ("auth", "sig"), Units("zone", "zones", "has a sound authority", "have a sound authority"),
        nothing="no zones",
    ),
    Check(
        "mail", ("mail",), Units("domain", "domains", "takes mail as it should", "take mail as they should"),
        nothing="no forward zone in a public view, and no MX records expected or in hand",
    ),
    Check(
        "services", ("srv", "dir"), Units("service", "services", "is sound", "are sound"),
        nothing="no directories, and no SRV records expected or in hand",
    ),
    Check(
        "views", ("view",), Units("name", "names", "is right in its view", "are right in their views"),
        nothing="no zones in several views", quiet=True,
    ),
    Check(
        "resolvers", ("res",), Units("resolver", "resolvers", "passes all tests", "pass all tests"),
        nothing="no resolvers", quiet=True,
    ),
    Check(
        "stale", ("age", "left"), Units("record", "records", "belongs", "belong"),
        nothing="no source of ages, and no aliases", quiet=True,
    ),
    Check(
        "from-here", ("here",), Units("thing", "things", "is here as it should be", "are here as they should be"),
    ),
    Check("descend", ("cut",), Units("name", "names", "is found", "are found")),
    Check("settle", ("settle",), Units("vantage", "vantages", "has settled", "have settled")),
    Check("compare", ("cmp",), Units("record set", "record sets", "is as before", "are as before")),
    Check("differ", ("diff",), Units("record set", "record sets", "is the same on both", "are the same on both")),
    Check("rehearse", ("reh",), Units("subject", "subjects", "will agree", "will agree")),
    Check("vantage", ("vantage",), Units("vantage", "vantages", "can be used", "can be used")),
    Check("history", ("run",), Units("history", "histories", "is up to date", "are up to date")),
    Check("audit", ("accept",), Units("zone", "zones", "is sound", "are sound")),
)  # fmt: skip
"""Every check, those of the audit in the order in which it runs them."""


UNKNOWN = Check("", (), Units("finding", "findings", "is known", "are known"))
"""For codes in what another version wrote."""


def check_named(name: str) -> Check:
    """Return the check of a command."""
    return next(check for check in CHECKS if check.name == name)


def check_of(code: str) -> Check:
    """Return the check that a code belongs to; one without a name for a code that this version does not know."""
    family = family_of(code)
    return next((check for check in CHECKS if family in check.codes), UNKNOWN)


def audited() -> list[Check]:
    """Return the checks that the audit runs, in their order."""
    return [check for check in CHECKS if check.audited]

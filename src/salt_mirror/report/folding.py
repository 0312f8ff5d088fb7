"""Many findings told as few sentences: what has one cause, and what is the same of many names.

Strategy: findings with one cause are one thing. Things of one view that have the same codes are one fold, in a sentence with a
number: `2,500 addresses in 10.64.0.0/16 have no pointer`. A large fold comes apart by network or by zone where that makes few
parts, since where it happened is the next question. Nothing is lost: a fold keeps its findings, in the order of the report.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache
from ipaddress import IPv6Network
from typing import NamedTuple

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.wording import many, together_said
from salt_mirror.findings import Finding
from salt_mirror.report.cleaning import clean

KINDS = ("fault", "unverified", "caution", "note")
"""The kinds of findings, in the order in which they are told."""

FIRST = 3
"""So many are named of a fold."""

_OF_ITS_OWN = 4
"""A cause behind so many findings stays a fold of its own, unless there are many like it."""
_MANY_CAUSES = 10
_LARGE = 50
"""A fold of so many things comes apart where that makes few parts."""
_PARTS = 6
_LENGTHS = {4: (24, 16, 8), 6: (64, 48, 32)}
_DIGITS = re.compile(r"\d+")


class Fold(NamedTuple):
    """Findings that one sentence tells: `says` is that sentence, `cause` what explains them all, where one thing does.

    `things` is how many things there are to mend behind them.
    """

    kind: str
    says: str
    cause: str
    things: int
    findings: list[Finding]

    @property
    def alone(self) -> bool:
        """Whether there is but one finding."""
        return len(self.findings) == 1

    def places(self) -> list[str]:
        """Return what it is about, each once, as short as a list of them allows."""
        noun, _ = catalogue()[self.findings[0].code].several
        return list(dict.fromkeys(_place(noun, one) for one in self.findings))

    def first(self) -> str:
        """Return the first of what it is about, one after the other."""
        places = self.places()
        return ", ".join(places[:FIRST]) + (", …" if len(places) > FIRST else "")

    @property
    def named(self) -> str:
        """How its sentence goes on to name them, where it does not already."""
        places = self.places()
        if len(places) < 2:
            return ""
        return f"{': ' if len(places) <= FIRST else '; the first: '}{', '.join(places[:FIRST])}"


def kind_of(finding: Finding) -> str:
    """Return the kind of a finding: its weight, or that it could not be verified."""
    return "unverified" if finding.outcome == "unverified" else finding.weight


class Folding:
    """The findings of a report as folds; `zones` are the apexes by view by which they are told apart."""

    def __init__(self, findings: Iterable[Finding], zones: Iterable[tuple[str, str]] = ()) -> None:
        self._findings = list(findings)
        self._apexes = {(view, apex.rstrip(".").lower()) for view, apex in zones}
        self._labels = {one.endpoint: one.server for finding in self._findings for one in finding.evidence}
        self._zone_above = lru_cache(maxsize=None)(self._found_above)

    def of_kind(self, kind: str) -> list[Fold]:
        """Return the folds of one kind: those with a cause first, then in the order of the report."""
        things: dict[object, list[Finding]] = {}
        for number, finding in enumerate(self._findings):
            if kind_of(finding) == kind:
                things.setdefault((finding.cause, finding.view) if finding.cause else number, []).append(finding)
        alike: dict[tuple[str, tuple[str, ...]], list[list[Finding]]] = {}
        for thing in things.values():
            codes = tuple(dict.fromkeys(one.code for one in thing))
            alike.setdefault((thing[0].view, codes), []).append(thing)
        folds = [fold for same in alike.values() for fold in self._folds(kind, same)]
        return sorted(folds, key=lambda fold: not fold.findings[0].cause)

    def _folds(self, kind: str, same: list[list[Finding]]) -> list[Fold]:
        few = len(same) <= _MANY_CAUSES
        alone = [thing for thing in same if len(same) == 1 or (few and len(thing) >= _OF_ITS_OWN)]
        together = [thing for thing in same if thing not in alone] if alone else same
        found = [Fold(kind, self._cause(thing), thing[0].cause, 1, thing) for thing in alone]
        if together:
            found += [self._fold(kind, part) for part in self._parts(together)]
        return found

    def _cause(self, thing: list[Finding]) -> str:
        return thing[0].cause or self._says(thing)

    def _fold(self, kind: str, things: list[list[Finding]]) -> Fold:
        findings = [one for thing in things for one in thing]
        by_code: dict[str, list[Finding]] = {}
        for finding in findings:
            by_code.setdefault(finding.code, []).append(finding)
        return Fold(kind, together_said(map(self._says, by_code.values())), "", len(things), findings)

    # Apart by where

    def _parts(self, things: list[list[Finding]]) -> list[list[list[Finding]]]:
        if len(things) < _LARGE:
            return [things]
        ways: list[Callable[[Finding], object]] = [
            *(lambda one, length=length: _network(one.address, length) for length in (0, 1, 2)),
            self._zone,
        ]
        for way in ways:
            parts: dict[object, list[list[Finding]]] = {}
            for thing in things:
                parts.setdefault(way(thing[0]), []).append(thing)
            if 1 < len(parts) <= _PARTS and None not in parts:
                return list(parts.values())
        return [things]

    def _zone(self, finding: Finding) -> str | None:
        return self._zone_above(finding.view, finding.owner.partition(".")[2]) or None

    def _found_above(self, view: str, name: str) -> str:
        """Return the zone that a name lies in, by the labels above it; the name itself where nobody says."""
        labels = name.rstrip(".").lower().split(".")
        for number in range(len(labels)):
            above = ".".join(labels[number:])
            if (view, above) in self._apexes:
                return above + "."
        return "" if self._apexes else name

    # In words

    def _says(self, findings: Sequence[Finding]) -> str:
        """Return one sentence about findings of one code."""
        code = findings[0].code
        noun, true = catalogue()[code].several
        places = dict.fromkeys(_place(noun, one) for one in findings)
        if len(places) < 2:
            return f"{catalogue()[code].title}: {many(len(findings), 'finding')} at {next(iter(places))}"
        return f"{len(places):,} {noun}{self._where(noun, findings)} {true}{self._servers(noun, findings)}"

    def _where(self, noun: str, findings: Sequence[Finding]) -> str:
        words = []
        network = _common_network(one.address for one in findings) if noun == "addresses" else None
        if network:
            words.append(f" in {network}")
        elif noun not in ("zones", "resolvers"):
            zones = dict.fromkeys(self._zone(one) for one in findings)
            if len(zones) == 1 and None not in zones:
                words.append(f" in {next(iter(zones))}")
            elif len(zones) > 1:
                words.append(f" in {len(zones):,} zones")
        patterns = {_DIGITS.sub("*", one.name.partition(".")[0]) for one in findings}
        if len(patterns) == 1 and "*" in next(iter(patterns)) and noun not in ("resolvers", "zones"):
            words.append(f" named {next(iter(patterns))}")
        return "".join(words)

    def _servers(self, noun: str, findings: Sequence[Finding]) -> str:
        if noun.startswith("resolvers"):
            return ""
        meant = Counter(self._labels.get(one.server, one.server) for one in findings if one.server)
        if not meant:
            return ""
        named = together_said(clean(label) for label in list(meant)[:FIRST])
        return f" ({named})" if len(meant) <= FIRST else f" ({len(meant):,} servers, {next(iter(meant))} among them)"


def folded(findings: Iterable[Finding], zones: Iterable[tuple[str, str]] = ()) -> list[Fold]:
    """Return findings as folds, whatever their kind, the worst kind first."""
    folding = Folding(findings, zones)
    return [fold for kind in KINDS for fold in folding.of_kind(kind)]


def largest(findings: Iterable[Finding], zones: Iterable[tuple[str, str]], most: int) -> tuple[list[str], int]:
    """Return findings as the sentences of their largest folds, at most so many, and how many findings are left over."""
    folds = sorted(folded(findings, zones), key=lambda fold: -len(fold.findings))
    said = [f"{clean(fold.says)}{fold.named}" for fold in folds[:most]]
    return said, sum(len(fold.findings) for fold in folds[most:])


def _place(noun: str, finding: Finding) -> str:
    """Return what a finding is about, as short as a list of them allows."""
    if finding.name == "." or noun.startswith("resolvers"):
        return clean(finding.server or finding.place)
    if noun.startswith("addresses") and finding.address:
        return clean(f"{finding.address} ({finding.name})")
    return clean(f"{finding.name} {finding.type}" if noun == "record sets" else finding.name)


@lru_cache(maxsize=100_000)
def _network(address: str | None, nth: int) -> str | None:
    """Return the network of an address, of the nth usual length; None without one."""
    if not address:
        return None
    version = 6 if ":" in address else 4
    length = _LENGTHS[version][nth]
    if version == 4:
        kept = length // 8
        return ".".join([*address.split(".")[:kept], *"0" * (4 - kept)]) + f"/{length}"
    return str(IPv6Network((address, length), strict=False))


def _common_network(addresses: Iterable[str | None]) -> str | None:
    """Return the smallest network of a usual length that has all addresses."""
    given = list(addresses)
    for nth in range(3):
        networks = {_network(address, nth) for address in given}
        if len(networks) == 1:
            return networks.pop()
    return None

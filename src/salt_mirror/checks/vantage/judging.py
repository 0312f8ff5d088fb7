"""One check from several vantages: what all of them saw is told once, what some saw is told with their names.

Strategy: each vantage has a part of its own, run as ever; this part is all of them together. A finding is the same one where
code, subject and text are; a subject is as bad as it is from anywhere. A vantage that could not be used, or was lost, is a
finding of its own, and unverified: it agrees with nothing and accuses nobody.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any

from msgspec.structs import replace

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.common.wording import many, together_said
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name
from salt_mirror.findings import Finding, Outcome, worse

_Key = tuple[Name, int, str, bytes | None]


class FromPlaces(Part):
    """The parts of one check by their vantages; `troubles` are the vantages that could not be used, `lost` those that were lost
    in the middle, each with the reason."""

    def __init__(
        self, parts: dict[str, Part], troubles: dict[str, str], lost: dict[str, str], *, audited: bool = False
    ) -> None:
        """`audited`: it is part of an audit, which says by itself from where it was asked."""
        super().__init__()
        self.parts = parts
        self._troubles = troubles
        self._audited = audited
        self._lost = lost
        self.size = sum(part.size for part in parts.values()) + len(troubles)
        self.looked = sum(part.looked for part in parts.values())
        said = dict.fromkeys(remark for part in parts.values() for remark in part.remarks)
        self.remarks = [*said, *(() if audited else self._coverage())]

    def _coverage(self) -> Iterator[str]:
        used = [name for name in self.parts if name not in self._lost]
        if self.parts:
            yield f"asked from {together_said(list(self.parts))}"
        if self._troubles or self._lost:
            missing = together_said([*self._troubles, *self._lost])
            yield f"{many(len(used), 'vantage', 'vantages')} could be used to the end; not {missing}"

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Any]]]:
        raise NotImplementedError("each vantage's own part is run")

    def take(self, result: Any) -> None:
        raise NotImplementedError("each vantage's own part takes")

    def verdicts(self) -> Iterator[Verdict]:
        yield from self._judged.values()

    @cached_property
    def _judged(self) -> dict[_Key, Verdict]:
        """Every subject once, as bad as it is from anywhere."""
        found: dict[_Key, Verdict] = {}
        for part in self.parts.values():
            for verdict in part.verdicts():
                key = verdict.name, verdict.rdtype, verdict.view, verdict.address
                known = found.get(key)
                found[key] = verdict if known is None else known._replace(outcome=worse(known.outcome, verdict.outcome))
        return found

    def counts(self) -> Counter[Outcome]:
        found = Counter(one.outcome for one in self._judged.values())
        found["unverified"] += 0 if self._audited else len(self._troubles) + len(self._lost)
        return found

    def owners(self, verdict: Verdict) -> Sequence[Name]:
        return next((part.owners(verdict) for part in self.parts.values()), ())

    def swept(self) -> Iterator[tuple[Name, str]]:
        for part in self.parts.values():
            yield from part.swept()

    @property
    def says(self) -> str:
        return next((part.says for part in self.parts.values()), "Nothing was asked: no vantage could be used.")

    def findings(self) -> Iterable[Finding]:
        seen = together({name: part.findings() for name, part in self.parts.items()})
        return [*troubled(self._troubles, self._lost), *seen]


def together(by_vantage: dict[str, Iterable[Finding]]) -> list[Finding]:
    """Return the findings of several vantages: what all saw once, what some saw with their names before it."""
    found: dict[tuple[str, ...], Finding] = {}
    seen_from: dict[tuple[str, ...], list[str]] = {}
    for name, findings in by_vantage.items():
        for finding in findings:
            key = (*finding.identity, finding.text)
            found.setdefault(key, finding)
            if name not in seen_from.setdefault(key, []):
                seen_from[key].append(name)
    told = []
    for key, finding in found.items():
        names = seen_from[key]
        text = finding.text if len(names) == len(by_vantage) else f"From {together_said(names)}: {finding.text}"
        told.append(replace(finding, text=text, vantages=names))
    return told


def troubled(troubles: dict[str, str], lost: dict[str, str]) -> Iterator[Finding]:
    """Return what is said of vantages that could not be used, or were lost in the middle."""
    for code, found in (("vantage.unverified", troubles), ("vantage.lost", lost)):
        for name, why in found.items():
            text = f"The vantage {name} could not be used: {why}."
            if code == "vantage.lost":
                text = f"The vantage {name} was used, and then: {why}."
            yield Finding(
                code=code, weight=catalogue()[code].weight, outcome="unverified", name=".", type="", view="", expected=[],
                evidence=[], text=text, cause=text, server=f"vantage {name}", vantages=[name],
            )  # fmt: skip

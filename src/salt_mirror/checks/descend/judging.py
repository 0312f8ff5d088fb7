"""The way down to one name, at work."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Part, Setting, Verdict
from salt_mirror.checks.descend.walking import Descent, Walker, inside_of
from salt_mirror.checks.descend.wording import answer_words, findings_of
from salt_mirror.checks.signed.chain import follow_chain, starting
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import type_text
from salt_mirror.findings import Finding, Outcome, worse


class Descents(Part):
    """The check at work on one name."""

    size = 1

    def __init__(self, name: Name, rdtype: int, atlas: Atlas, *, first: bool = False, from_root: bool = False) -> None:
        """With `first` one server a level is asked, the next one only when it gives nothing; `from_root` as for the walker."""
        super().__init__()
        self.descent: Descent | None = None
        self._name = name
        self._rdtype = rdtype
        self._atlas = atlas
        self._walker = Walker(atlas, first=first, from_root=from_root)
        inside = inside_of(atlas.estate, name)
        if inside is not None and not from_root:
            self.remarks.append(
                f"begun at {to_text(inside.apex)}, a zone of the estate (--from-root begins at the root)"
            )

    def dialogues(self, setting: Setting) -> Iterator[Iterable[Dialogue[Descent]]]:
        yield [self._with_trust(setting.moment.timestamp())]

    def _with_trust(self, now: float) -> Dialogue[Descent]:
        """Walk down, and follow the chain of trust along the same way."""
        descent = yield from self._walker.descend(self._name, self._rdtype)
        estate = self._atlas.estate
        for leg in descent.legs:
            way = leg.way
            if way and leg.ends:
                anchors = starting(way[0][0], estate.anchors, own_roots=bool(estate.roots))
                leg.chain = yield from follow_chain(way, leg.name, leg.rdtype, anchors, self._atlas, now)
        return descent

    def take(self, result: Descent) -> None:
        self.descent = result

    @property
    def says(self) -> str:
        """The end of the way in one sentence."""
        if self.descent is None:
            return f"{to_text(self._name)} {type_text(self._rdtype)}: the way down was not finished."
        says = answer_words(self.descent)[0]
        if any(leg.chain is not None and leg.chain.trust == "bogus" for leg in self.descent.legs):
            return f"{says.removesuffix('.')}; it does not validate (DNSSEC)."
        return says

    def verdicts(self) -> Iterator[Verdict]:
        outcome: Outcome = "unverified"
        if self.descent is not None:
            outcome = answer_words(self.descent)[1]
            for finding in self.findings():
                outcome = worse(outcome, finding.outcome)
        yield Verdict(self._name, self._rdtype, "", outcome)

    def findings(self) -> list[Finding]:
        return findings_of(self.descent) if self.descent is not None else []

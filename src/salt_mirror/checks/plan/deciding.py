"""Choices that a person settles: by one word for all, or by lines that name which.

Strategy: a decisions file has one line a decision: the word, then a shell pattern for names or addresses, and perhaps one for
codes. The first line that fits a finding settles it, and the word of the command line settles what no line fits.
"""

from __future__ import annotations

from collections.abc import Iterable
from fnmatch import fnmatchcase
from pathlib import Path
from typing import NamedTuple, get_args

from salt_mirror.catalogue import catalogue
from salt_mirror.dns.names import shown
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.reading import read_text
from salt_mirror.findings import Choice, Finding, Word

WORDS: tuple[Word, ...] = get_args(Word)


class Decision(NamedTuple):
    """One decision: its word, and which names (or addresses) and codes it is about, as shell patterns; the
    `place` where it was written down."""

    word: Word
    pattern: str = "*"
    code: str = "*"
    place: str = ""

    def fits(self, finding: Finding) -> bool:
        """Return whether it is about a finding."""
        names = (
            finding.name,
            finding.name.rstrip("."),
            finding.owner,
            finding.owner.rstrip("."),
            finding.address or "",
        )
        return fnmatchcase(finding.code, self.code) and any(fnmatchcase(one, self.pattern) for one in names)


def decided(finding: Finding, decisions: Iterable[Decision]) -> Choice | None:
    """Return the choice that was made for a finding, if one was."""
    for decision in decisions:
        if decision.fits(finding):
            return next((one for one in finding.choices if one.word == decision.word), None)
    return None


def made_by(findings: Iterable[Finding], decisions: Iterable[Decision]) -> list[str]:
    """Return in words which choice was made for which of some findings, and where that was said."""
    said = []
    settled = list(decisions)
    for finding in findings:
        decision = next((one for one in settled if one.fits(finding)), None)
        choice = decided(finding, settled)
        if choice is not None and decision is not None and not finding.changes:
            said.append(f"{choice.word} ({decision.place or '--choose'}): {finding.text}")
    return said


def idle(decisions: Iterable[Decision], findings: Iterable[Finding]) -> list[str]:
    """Return in words which decisions settle none of some findings, and why."""
    open_ones = [one for one in findings if one.choices]
    said = []
    for decision in decisions:
        about = [one for one in open_ones if decision.fits(one)]
        if any(choice.word == decision.word for one in about for choice in one.choices):
            continue
        words = sorted({choice.word for one in about for choice in one.choices})
        what = f"{decision.word} {decision.pattern}" + (f" {decision.code}" if decision.code != "*" else "")
        why = f"there the choice is {' or '.join(words)}" if words else "no open choice is about it"
        said.append(f"{decision.place or '--choose'}: {what} settles nothing: {why}")
    return said


def word_of(text: str, place: str) -> Word:
    """Read a decision's word. Raises BadInput."""
    for word in WORDS:
        if text.lower() == word:
            return word
    raise BadInput.unknown(f"{place}: there is no decision", text, WORDS)


def read_decisions(path: Path) -> list[Decision]:
    """Read a decisions file: `remove rake-19.* [CODE]` on each line, `#` before a remark. Raises BadInput."""
    found = []
    for number, line in enumerate(read_text(path).splitlines(), 1):
        words = line.partition("#")[0].split()
        if not words:
            continue
        if len(words) not in (2, 3):
            raise BadInput.at(path, number, f"{shown(line)} is no decision; expected a word, a name and perhaps a code")
        word = word_of(words[0], f"{path}, line {number}")
        code = words[2] if len(words) == 3 else "*"
        if not any(fnmatchcase(one, code) for one in catalogue()):
            raise BadInput.unknown(f"{path}, line {number}: no code fits", code, catalogue(), alike=0.4)
        found.append(Decision(word, words[1].lower(), code, f"{path}, line {number}"))
    return found

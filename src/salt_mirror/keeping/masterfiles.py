"""A master file that somebody keeps by hand, with a plan carried out line by line: nothing else in it is touched.

Strategy: the reader of master files says which record stands in which line of which file; the lines of those that change are
edited, with their comments, their columns and the order of the file. What was edited is read again, and has to be what the file
was with exactly the planned sets changed, or nothing is written. The serial is raised in the way in which the file counts: by
days, by seconds since 1970, or one by one.
"""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import SOA, rdata_text, soa_fields, type_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.masterfile import read_master_text
from salt_mirror.estate.reading import read_text

_DAYS = re.compile(r"(19|20)\d\d(0[1-9]|1[0-2])(0[1-9]|[12]\d|3[01])\d\d\Z")
_A_YEAR_S = 400 * 86_400
_TOKEN = re.compile(r';[^\n]*|"(?:[^"\\]|\\.)*"|[()]|(?:\\.|[^\s;()"])+', re.DOTALL)
_TTL = re.compile(r"(?:\d+[wdhms]?)+\Z", re.IGNORECASE)
_CLASSES = ("IN", "CH", "HS", "CS")


class Rewritten(NamedTuple):
    """The new text of each file that changed, what has to be told, and the sets that were left as they are, with the reason."""

    texts: dict[Path, str]
    remarks: list[str]
    others: list[tuple[PlannedSet, str]]


class _Token(NamedTuple):
    start: int
    end: int
    text: str


@dataclass(slots=True)
class _RecordLines:
    """The lines of one record, from the first to the last; `owned` where its owner stands in it, and is not the one before."""

    text: str
    owned: bool
    name: Name | None = None
    removed: bool = False
    added: list[str] = field(default_factory=list)

    def tokens(self) -> list[_Token]:
        """Return its words with their places, without comments and parentheses."""
        found = (_Token(*match.span(), match[0]) for match in _TOKEN.finditer(self.text))
        return [one for one in found if one.text[0] not in ";()"]

    def _places(self) -> tuple[list[_Token], int | None, int]:
        """Return its words, the number of its TTL among them, if it has one, and that of its type."""
        words, ttl = self.tokens(), None
        at = 1 if self.owned else 0
        while _TTL.match(words[at].text) or words[at].text.upper() in _CLASSES:
            ttl = at if _TTL.match(words[at].text) else ttl
            at += 1
        return words, ttl, at

    def with_values(self, rdata: str, ttl: int | None) -> str:
        """Return its text with other rdata, and with a TTL where one is given."""
        words, _, at = self._places()
        first, last = words[at + 1], words[-1]
        if "(" in (match[0] for match in _TOKEN.finditer(self.text, words[at].end)):  # they go with what stood in them
            lines = self.text.rstrip("\r\n").split("\n")
            comment = re.search(r"[ \t]*;[^\n]*\Z", lines[-1]) if len(lines) == 1 else None
            text = f"{self.text[: words[at].end]} {rdata}{comment[0] if comment else ''}{_end_of(self.text)}"
        else:
            text = self.text[: first.start] + rdata + self.text[last.end :]
        return _RecordLines(text, self.owned).with_ttl(ttl)

    def with_ttl(self, ttl: int | None) -> str:
        """Return its text with a TTL, where one is given."""
        if ttl is None:
            return self.text
        words, at, _ = self._places()
        if at is not None:
            return f"{self.text[: words[at].start]}{ttl}{self.text[words[at].end :]}"
        if self.owned:
            return f"{self.text[: words[0].end]} {ttl}{self.text[words[0].end :]}"
        return f"{self.text[: words[0].start]}{ttl} {self.text[words[0].start :]}"

    def with_owner(self, owner: str) -> str:
        """Return its text behind an owner, in the columns that it had."""
        begin = len(self.text) - len(self.text.lstrip(" \t"))
        return owner + (self.text[len(owner) :] if begin > len(owner) else f" {self.text[begin:]}")


class _File:
    """One file: its entries by the number of their first line, and the lines in between."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.before = read_text(path, as_is=True)
        self.end = "\r\n" if "\r\n" in self.before else "\n"
        self.parts: list[_RecordLines | str] = []
        self.entries: dict[int, _RecordLines] = {}
        self.tail: list[str] = []
        lines = self.before.splitlines(keepends=True)
        at = 0
        while at < len(lines):
            start, line = at, lines[at]
            at += 1
            if line.startswith("$") or not _RecordLines(line, owned=False).tokens():
                self.parts.append(line)
                continue
            depth = _depth(line)
            while depth > 0 and at < len(lines):
                depth += _depth(lines[at])
                at += 1
            entry = _RecordLines("".join(lines[start:at]), not line[0].isspace())
            self.parts.append(entry)
            self.entries[start + 1] = entry

    @property
    def text(self) -> str:
        """The file as it is by now. Whoever had his name from an entry that went has it himself."""
        lines: list[str] = []
        owner, moved = "", False
        for part in self.parts:
            if isinstance(part, str):
                moved = moved or part.upper().startswith("$ORIGIN")
                lines.append(part)
                continue
            if not part.removed:
                text = part.text
                if not part.owned and owner:
                    text = part.with_owner(to_text(part.name) if moved and part.name is not None else owner)
                owner, moved = "", False
                lines += [text if text.endswith("\n") or not part.added else text + self.end, *part.added]
            elif part.owned:
                owner, moved = part.tokens()[0].text, False
        if self.tail and lines and not lines[-1].endswith("\n"):
            lines[-1] += self.end
        return "".join([*lines, *self.tail])


def _depth(text: str) -> int:
    """Return how many more parentheses a text opens than it closes."""
    words = [match[0] for match in _TOKEN.finditer(text)]
    return words.count("(") - words.count(")")


def _end_of(text: str) -> str:
    return "\r\n" if text.endswith("\r\n") else "\n" if text.endswith("\n") else ""


class _Editing:
    """The files of a zone while sets are changed in them."""

    def __init__(self, path: Path, zone: Name) -> None:
        self.path = path
        self.zone = zone
        self.records = self.read({})
        self.files = {one: _File(one) for one in dict.fromkeys((path, *(_source(record) for record in self.records)))}
        self.sets: dict[tuple[Name, int], list[Expectation]] = {}
        self.names: dict[Name, list[Expectation]] = {}
        self._coming: list[tuple[PlannedSet, str]] = []
        for record in self.records:
            self.sets.setdefault((record.name, record.rdtype), []).append(record)
            self.names.setdefault(record.name, []).append(record)
            entry = self.entry(record)
            if entry is not None:
                entry.name = record.name

    def read(self, instead: dict[Path, str]) -> list[Expectation]:
        """Return the records of the zone, with some files as they are to be. Raises BadInput."""
        text = instead.get(self.path)
        return read_master_text(
            text if text is not None else read_text(self.path), self.path, self.zone, instead=instead
        )

    def entry(self, record: Expectation) -> _RecordLines | None:
        """Return the lines of a record; None where a directive makes it."""
        return self.files[_source(record)].entries.get(record.line or 0)

    def change(self, planned: PlannedSet) -> str:
        """Changes a set; why not, where that cannot be done."""
        key = planned.key
        there = self.sets.get((key.name, key.rdtype), [])
        if {record.rdata for record in there} != planned.before:
            return "the file has other records there"
        made = [record for record in there if self.entry(record) is None]
        ttl = planned.ttl_after if planned.ttl_before != planned.ttl_after and planned.before else None
        gone, come = sorted(planned.before - planned.after), sorted(planned.after - planned.before)
        if made and (gone or ttl is not None):
            return f"$GENERATE makes it in {_source(made[0])}, line {made[0].line}"
        for value in gone:
            record = next(record for record in there if record.rdata == value)
            entry = self.entry(record)
            assert entry is not None
            if come:
                entry.text = entry.with_values(rdata_text(key.rdtype, come.pop(0)), None)
            else:
                entry.removed = True
            for other in there:
                if other is not record and other.rdata == value and (twice := self.entry(other)) is not None:
                    twice.removed = True
        kept = [entry for record in there if (entry := self.entry(record)) is not None and not entry.removed]
        if ttl is not None:
            for entry in kept:
                entry.text = entry.with_ttl(ttl)
        self._coming += [(planned, rdata_text(key.rdtype, value)) for value in come]
        return ""

    def add(self) -> None:
        """Add the records that take nobody's place, once all that goes is gone: behind the others of their set, else behind
        their name's, else at the end of the zone's own file."""
        for planned, rdata in self._coming:
            self._add(planned, rdata)

    def _add(self, planned: PlannedSet, rdata: str) -> None:
        key = planned.key
        there = self.sets.get((key.name, key.rdtype), ())
        kept = [entry for record in there if (entry := self.entry(record)) is not None and not entry.removed]
        if kept:
            entry = kept[-1]
            like = _RecordLines(entry.with_values(rdata, None), entry.owned)
            entry.added.append(
                like.text[: like.tokens()[-1].end] + self.files[self.path].end
            )  # a comment is another record's
            return
        beside = [
            record
            for record in self.names.get(key.name, ())
            if (it := self.entry(record)) is not None and not it.removed
        ]
        if beside:
            file, entry = self.files[_source(beside[-1])], self.entry(beside[-1])
            assert entry is not None
            entry.added.append(f"\t{planned.ttl_after} IN {type_text(key.rdtype)} {rdata}{file.end}")
            return
        file = self.files[self.path]
        file.tail.append(f"{to_text(key.name)} {planned.ttl_after} IN {type_text(key.rdtype)} {rdata}{file.end}")

    def raise_serial(self, now: float) -> str:
        """Raise the serial where it stands; say how. Raises BadInput for a file without SOA."""
        record = next((one for one in self.records if one.rdtype == SOA and one.name == self.zone), None)
        entry = self.entry(record) if record is not None else None
        if record is None or entry is None:
            raise BadInput.at(self.path, None, f"cannot be read as the zone {to_text(self.zone)}: it has no SOA")
        before = soa_fields(record.rdata).serial
        after, how = next_serial(before, now)
        words, _, at = entry._places()
        serial = words[at + 3]
        entry.text = f"{entry.text[: serial.start]}{after}{entry.text[serial.end :]}"
        return f"serial {before} -> {after} ({how})"


def _source(record: Expectation) -> Path:
    assert record.source is not None
    return record.source


def rewritten(path: Path, zone: Name, sets: Iterable[PlannedSet], now: float | None = None) -> Rewritten:
    """Return the files of a zone with some sets as they are to be. A set that a file has otherwise, or that a directive makes,
    is left. Raises BadInput for a file that cannot be read, or not be edited without changing something else."""
    editing = _Editing(path, zone)
    others: list[tuple[PlannedSet, str]] = []
    done: list[PlannedSet] = []
    for planned in sets:
        why = editing.change(planned)
        if why:
            others.append((planned, why))
        else:
            done.append(planned)
    if not done:
        return Rewritten({path: editing.files[path].before}, [], others)
    editing.add()
    remarks = [editing.raise_serial(now if now is not None else time.time())]
    texts = {file.path: text for file in editing.files.values() if (text := file.text) != file.before}
    after = Counter(map(_said, editing.read({path: text.replace("\r\n", "\n") for path, text in texts.items()})))
    wrong = list((after - _meant(editing, done)) + (_meant(editing, done) - after))
    if wrong:
        name, rdtype = min(wrong)[:2]
        raise BadInput(
            f"{path} cannot be edited line by line: {to_text(name)} {type_text(rdtype)} would not be what is planned; "
            "change it by hand, by what --write writes"
        )
    remarks += [f"{one} is included, and changes with it" for one in texts if one != path]
    return Rewritten(texts, remarks, others)


def _said(record: Expectation) -> tuple[Name, int, bytes, int | None]:
    """Return a record as it is compared; the serial of a zone is meant to change."""
    rdata = record.rdata[:-20] + record.rdata[-16:] if record.rdtype == SOA else record.rdata
    return record.name, record.rdtype, rdata, record.ttl


def _meant(editing: _Editing, sets: list[PlannedSet]) -> Counter[tuple[Name, int, bytes, int | None]]:
    """Return the records that have to be there once the sets are changed."""
    planned = {(one.key.name, one.key.rdtype): one for one in sets}

    def records() -> Iterator[tuple[Name, int, bytes, int | None]]:
        ttls: dict[tuple[Name, int], int | None] = {}
        for record in editing.records:
            key = (record.name, record.rdtype)
            one = planned.get(key)
            ttls[key] = record.ttl
            if one is None:
                yield _said(record)
            elif record.rdata in one.after:
                yield (
                    record.name,
                    record.rdtype,
                    record.rdata,
                    one.ttl_after if one.ttl_before != one.ttl_after else record.ttl,
                )
        for key, one in planned.items():
            for value in one.after - one.before:
                kept = one.ttl_before == one.ttl_after and key in ttls
                yield one.key.name, one.key.rdtype, value, ttls[key] if kept else one.ttl_after

    return Counter(records())


def next_serial(serial: int, now: float) -> tuple[int, str]:
    """Return the next serial in the way in which a file counts, and which that is (RFC 1912 section 2.2 for dates)."""
    today = int(datetime.fromtimestamp(now, UTC).strftime("%Y%m%d")) * 100
    if _DAYS.match(str(serial)):
        return max(today + 1, serial + 1), "by date"
    if abs(serial - now) < _A_YEAR_S and serial > 1_000_000_000:
        return max(int(now), serial + 1), "by the clock"
    return (serial + 1) & 0xFFFFFFFF or 1, "one by one"

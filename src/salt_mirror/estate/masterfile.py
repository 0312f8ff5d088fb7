"""Expectations from master files (RFC 1035 section 5), as dnspython reads them.

Strategy: dnspython's reader does the grammar, with its origin at the root so that several zones' absolute names may
stand in one file; lines that need no grammar never get there (`plainlines`). `$INCLUDE` is done here: its path is relative
to the file that names it, a file that includes itself is an error, and the origin of the included file ends with it
(RFC 1035 section 5.1). One reader keeps `$ORIGIN`, `$TTL` and the last name through all pieces of a file.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Mapping
from pathlib import Path

import dns.exception
import dns.name
import dns.rdata
import dns.rdataclass
import dns.tokenizer
import dns.zonefile

from salt_mirror.dns.errors import Unusable, about, number_in
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import MAX_TTL
from salt_mirror.estate.errors import BadInput, put_aside, shown_path
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.plainlines import plain_lines
from salt_mirror.estate.reading import is_there, read_text

_INCLUDE = re.compile(r"\$INCLUDE[ \t]+(\"[^\"]*\"|\S+)(?:[ \t]+([^;\s]+))?[ \t]*(?:;.*)?\Z", re.IGNORECASE)
_GENERATE = re.compile(r"\$GENERATE[ \t]+(.*)", re.IGNORECASE)
_RANGE = re.compile(r'"?(\d+)-(\d+)(?:/(\d+))?"?(?:[ \t]|\Z)')
DEEPEST = 32
MOST_INCLUDES = 1000
MOST_GENERATED = 250_000
_WIDEST = 255
_NO_TTL = -1


def read_master_file(path: Path, origin: Name, problems: list[Unusable] | None = None) -> list[Expectation]:
    """Read the records of a master file; `origin` completes relative names until `$ORIGIN` says otherwise.

    Raises BadInput with file and line for anything that cannot be read; with `problems`, a damaged line is put there
    instead and do not hide the rest.
    """
    expectations: list[Expectation] = []
    pieces = _Pieces(expectations, problems)
    pieces.read(path, read_text(path), pieces.reader(dns.name.from_wire(origin, 0)[0]), ())
    return expectations


def read_master_text(
    text: str,
    path: Path,
    origin: Name,
    problems: list[Unusable] | None = None,
    instead: Mapping[Path, str] | None = None,
) -> list[Expectation]:
    """Return the same for a text that is at hand already; `path` is what errors name. `instead` has texts in place of included
    files."""
    expectations: list[Expectation] = []
    pieces = _Pieces(expectations, problems, instead)
    pieces.read(path, text, pieces.reader(dns.name.from_wire(origin, 0)[0]), ())
    return expectations


_AGE = re.compile(r"\[AGE:(\d{1,9})\]", re.IGNORECASE)


def _without_ages(text: str) -> tuple[str, dict[int, int]]:
    """Return a text without the age marks that directory servers put into their exports, and these by line, in hours since
    1601."""
    if _AGE.search(text) is None:
        return text, {}
    ages: dict[int, int] = {}
    lines = text.split("\n")
    for number, line in enumerate(lines, 1):
        mark = _AGE.search(line)
        if mark is not None:
            ages[number] = int(mark[1])
            lines[number - 1] = _AGE.sub("", line, count=1)
    return "\n".join(lines), ages


class _RecordCollector:
    """What dnspython's reader takes for a zone transaction: it hands over records one by one."""

    def __init__(self, expectations: list[Expectation]) -> None:
        self.manager = self
        self.path = Path()
        self.line = 0
        self.ages: dict[int, int] = {}
        self._found = expectations

    def origin_information(self) -> tuple[dns.name.Name, bool, dns.name.Name]:
        return dns.name.root, False, dns.name.root

    def get_class(self) -> dns.rdataclass.RdataClass:
        return dns.rdataclass.IN

    def check_put_rdataset(self, check: object) -> None:
        """The reader's own check is for zones; what contradicts itself is another check's matter here."""

    def _set_origin(self, origin: dns.name.Name) -> None:
        """Called at each `$ORIGIN`; the reader itself keeps it."""

    def add(self, name: dns.name.Name, ttl: int, rdata: dns.rdata.Rdata) -> None:
        self.keep(self.line, name.to_digestable(), ttl, int(rdata.rdtype), rdata.to_digestable(dns.name.root))

    def keep(self, line: int, name: Name, ttl: int, rdtype: int, rdata: bytes) -> None:
        """Keep one record."""
        one = Expectation(name, rdtype, rdata, ttl if ttl != _NO_TTL else None, self.path, line, None, "exact")
        if self.ages:
            one.age_h = self.ages.get(line)
        self._found.append(one)


class _LineKeeping(dns.tokenizer.Tokenizer):
    """A tokenizer that starts counting at a given line and notes where the record in hand began."""

    def __init__(self, text: str, path: Path, first_line: int, collector: _RecordCollector) -> None:
        super().__init__(text, str(path))
        self.line_number = first_line
        self._collector = collector

    def get(self, want_leading: bool = False, want_comment: bool = False) -> dns.tokenizer.Token:
        if want_leading:
            self._collector.line = self.line_number
        return super().get(want_leading, want_comment)


class _Pieces:
    def __init__(
        self,
        expectations: list[Expectation],
        problems: list[Unusable] | None,
        instead: Mapping[Path, str] | None = None,
    ) -> None:
        self._instead = instead or {}
        self._collector = _RecordCollector(expectations)
        self._problems = problems
        self._included = self._generated = 0

    def reader(self, origin: dns.name.Name) -> dns.zonefile.Reader:
        """Return a reader that takes records without any TTL, as lists of expectations often have none."""
        nothing = _LineKeeping("", Path(), 1, self._collector)
        reader = dns.zonefile.Reader(nothing, dns.rdataclass.IN, self._collector)  # type: ignore[arg-type]
        reader.current_origin = origin
        reader.default_ttl, reader.default_ttl_known, reader.default_ttl_from_soa = _NO_TTL, True, True
        return reader

    def read(self, path: Path, text: str, reader: dns.zonefile.Reader, above: tuple[Path, ...]) -> None:
        above = (*above, path.resolve())
        text, ages = _without_ages(text)
        for first_line, piece, include in self._split(text, path):
            self._collector.path, self._collector.ages = path, ages
            self._read_piece(reader, piece, path, first_line)
            if include is None:
                continue
            line = first_line + piece.count("\n")
            target = path.parent / include[0]
            if not is_there(target):
                raise BadInput.at(path, line, f"$INCLUDE of {shown_path(target)}, and there is no such file")
            if target.resolve() in above:
                raise BadInput.at(path, line, f"$INCLUDE of {shown_path(target)}, which is being read already")
            if len(above) > DEEPEST:
                raise BadInput.at(
                    path, line, f"$INCLUDE of {shown_path(target)}: files include one another {DEEPEST} deep"
                )
            self._included += 1
            if self._included > MOST_INCLUDES:
                raise BadInput.at(path, line, f"more than {MOST_INCLUDES:,} files are included")
            below = copy.copy(reader)
            if include[1]:
                with about(f"{path}, line {line}"):
                    origin = from_text(include[1], (reader.current_origin or dns.name.root).to_wire())
                below.current_origin = dns.name.from_wire(origin, 0)[0]
            given = self._instead.get(target)
            self.read(target, given if given is not None else read_text(target), below, above)

    def _split(self, text: str, path: Path) -> list[tuple[int, str, tuple[str, str | None] | None]]:
        """Cut a text at its `$INCLUDE` lines: (number of the first line, the piece before, the include after it or None)."""
        pieces: list[tuple[int, str, tuple[str, str | None] | None]] = []
        first, lines = 1, text.splitlines(keepends=True)
        start = 0
        for number, line in enumerate(lines):
            if line[:1] != "$":
                continue
            if match := _INCLUDE.match(line.rstrip("\r\n")):
                pieces.append((first, "".join(lines[start:number]), (match[1].strip('"'), match[2])))
                start, first = number + 1, number + 2
            elif match := _GENERATE.match(line):
                self._count_generated(match[1], path, number + 1)
        pieces.append((first, "".join(lines[start:]), None))
        return pieces

    def _count_generated(self, directive: str, path: Path, line: int) -> None:
        """Raise BadInput for a `$GENERATE` line that makes more records, or wider numbers, than a zone has."""
        match = _RANGE.match(directive)
        if match is None:
            return  # the reader says what is wrong
        numbers = [number_in(one or "1", MAX_TTL) for one in match.groups()]
        wide = [one for one in re.findall(r"\d+", directive[match.end() :]) if number_in(one, _WIDEST) is None]
        if None not in numbers and not wide:
            begin, end, step = (one or 0 for one in numbers)
            self._generated += max(0, end - begin) // max(1, step) + 1
        if None in numbers or wide or self._generated > MOST_GENERATED:
            raise BadInput.at(
                path, line, f"$GENERATE of more than {MOST_GENERATED:,} records, or with numbers too large"
            )

    def _read_piece(self, reader: dns.zonefile.Reader, piece: str, path: Path, first_line: int) -> None:
        for one in plain_lines(piece.splitlines(keepends=True), first_line, reader):
            if len(one) == 2:
                self._read_bunch(reader, "".join(one[1]), path, one[0])
            else:
                self._collector.keep(*one)

    def _read_bunch(self, reader: dns.zonefile.Reader, piece: str, path: Path, first_line: int) -> None:
        while piece:
            reader.tok = _LineKeeping(piece, path, first_line, self._collector)
            try:
                reader.read()
                return
            except (dns.exception.DNSException, ValueError, UnicodeError) as error:
                put_aside(BadInput.at(path, self._collector.line, _plain(error)), self._problems)
            # The damaged line is noted, and reading goes on behind it.
            lines = piece.splitlines(keepends=True)
            behind = self._collector.line - first_line + 1
            piece, first_line = "".join(lines[behind:]), first_line + behind


def _plain(error: Exception) -> str:
    """dnspython's message without the place, which ours gives."""
    text = str(error) or type(error).__name__
    return re.sub(r"\A\S*?:\d+: ", "", text.splitlines()[0])

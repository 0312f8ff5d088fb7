"""Zone files as they are named on the command line: ZONE=FILE, ZONE@VIEW=FILE, a file that says its own zone, or a folder of
them.

Strategy: which zone a file is of is what the user says, else what the file's own SOA or `$ORIGIN` says, else its name. Nothing
is guessed: a file of which none of these tells a zone is an error that says how to write it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, shown, to_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.estate.reading import read_text

SUFFIXES = (".zone", ".db", ".dns", ".hosts")
"""What the names of zone files end in, in a folder of them."""

_ORIGIN = re.compile(r"\$ORIGIN[ \t]+(\S+\.)[ \t]*(?:;.*)?$", re.IGNORECASE)
_SOA = re.compile(r"(\S+\.)[ \t]+(?:\d\S*[ \t]+)?(?:IN[ \t]+)?(?:\d\S*[ \t]+)?SOA[ \t]", re.IGNORECASE)
_SOA_AT = re.compile(r"@[ \t].*\bSOA\b", re.IGNORECASE)


class ZoneFile(NamedTuple):
    """A file, the zone that it is of, and the view that was named, if one was."""

    apex: Name
    view: str
    path: Path


def zone_files(words: list[str], option: str) -> list[ZoneFile]:
    """Return the files that an option names. Raises BadInput."""
    found = [one for word in words for one in _files_in(word, option)]
    seen: dict[tuple[Name, str], Path] = {}
    for one in found:
        other = seen.setdefault((one.apex, one.view), one.path)
        if other != one.path:
            raise BadInput(
                f"{option}: {other} and {one.path} are both the zone {to_text(one.apex)}; write ZONE@VIEW=FILE"
            )
    return found


def _files_in(word: str, option: str) -> Iterator[ZoneFile]:
    zone, equals, path = word.partition("=")
    if equals and not Path(word).exists():
        if not zone or not path:
            raise BadInput(f"{option}: {shown(word)} is no ZONE=FILE")
        apex, _, view = zone.partition("@")
        yield ZoneFile(zone_name(apex), view, Path(path))
        return
    place = Path(word)
    if place.is_dir():
        files = sorted(one for one in place.rglob("*") if one.suffix.lower() in SUFFIXES and one.is_file())
        if not files:
            raise BadInput(f"{option}: {place} has no zone files (*{', *'.join(SUFFIXES)}); name each as ZONE=FILE")
        for one in files:
            yield ZoneFile(_zone_in(one, option), "", one)
        return
    yield ZoneFile(_zone_in(place, option), "", place)


def _zone_in(path: Path, option: str) -> Name:
    """Return the zone of a file, by what it says itself, else by its name."""
    origin: str | None = None
    for line in read_text(path).splitlines():
        if (match := _ORIGIN.match(line)) is not None:
            origin = match[1]
        elif (match := _SOA.match(line)) is not None:
            return from_text(match[1])
        elif _SOA_AT.match(line):
            break
    if origin is not None:
        return from_text(origin)
    name = path.stem if path.suffix.lower() in (*SUFFIXES, ".txt") else path.name
    try:
        if "." in name:
            return zone_name(name)
    except Unusable:
        pass
    raise BadInput(
        f"{option}: {path} does not say which zone it is ($ORIGIN, or the SOA's whole name); write ZONE={path}"
    )


def zone_of(file: ZoneFile, estate: Estate, option: str) -> Zone:
    """Return the zone of the estate that a file is of. Raises BadInput where there is none, or several."""
    found = [zone for zone in estate.all_zones() if zone.apex == file.apex and file.view in ("", zone.view)]
    if len(found) == 1:
        return found[0]
    word = to_text(file.apex).rstrip(".")
    known = ", ".join(f"{word}@{zone.view}" for zone in found)
    if known:
        raise BadInput(f"{option}: {word} is in several views; write one of {known} before ={file.path}")
    zones = [to_text(zone.apex).rstrip(".") for zone in estate.all_zones()]
    where = f" in the view {file.view}" if file.view else ""
    raise BadInput.unknown(f"{option}: {file.path}: the estate has no zone{where} that is called", word, zones)

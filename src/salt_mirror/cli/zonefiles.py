"""Zone files as they are named on the command line: ZONE=FILE, ZONE@VIEW=FILE, a file that says its own zone, or a folder of
them.

Strategy: which zone a file is of is what the user says, else what the file's own SOA or `$ORIGIN` says, else its name. Nothing
is guessed: a file of which none of these tells a zone is an error that says how to write it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text, shown, to_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import zone_name
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.estate.reading import read_text

SUFFIXES = (".zone", ".db", ".dns", ".hosts")
"""What the names of zone files end in, in a folder of them; or they begin with `PREFIX`."""
PREFIX = "db."
_MOST_LOOKED_AT = 1 << 16

_ORIGIN = re.compile(r"\$ORIGIN[ \t]+(\S+\.)[ \t]*(?:;.*)?$", re.IGNORECASE)
_SOA = re.compile(r"(\S+\.)[ \t]+(?:\d\S*[ \t]+)?(?:IN[ \t]+)?(?:\d\S*[ \t]+)?SOA[ \t]", re.IGNORECASE)
_ANY_SOA = re.compile(
    rb"^\S*[ \t]+(?:\d\S*[ \t]+)?(?:IN[ \t]+)?(?:\d\S*[ \t]+)?SOA[ \t]+\S+[ \t]+\S+[ \t]*[(\d]",
    re.IGNORECASE | re.MULTILINE,
)
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
        files = zone_files_of(place)
        if not files:
            named = f"{PREFIX}*, *{', *'.join(SUFFIXES)}"
            raise BadInput(f"{option}: {place} has no zone files ({named}); name each as ZONE=FILE")
        for one in files:
            yield ZoneFile(zone_in(one, option), "", one)
        return
    yield ZoneFile(zone_in(place, option), "", place)


def zone_files_of(folder: Path) -> list[Path]:
    """Return the zone files of a folder and of those in it, by their names."""
    return sorted(one for one in folder.rglob("*") if _is_named_so(one) and one.is_file())


def passed_over(words: Sequence[str]) -> list[Path]:
    """Return the files in the folders that were named which have an SOA record, and are no zone files by their names."""
    folders = [Path(word) for word in words if Path(word).is_dir()]
    others = sorted(one for folder in folders for one in folder.rglob("*") if not _is_named_so(one) and one.is_file())
    return [one for one in others if ".git" not in one.parts and _has_soa(one)]


def _is_named_so(path: Path) -> bool:
    suffix = path.suffix.lower()
    # What a server or an editor keeps beside a file is named after it.
    return suffix in SUFFIXES or (path.name.startswith(PREFIX) and suffix not in (".jnl", ".bak", ".orig", ".swp"))


def _has_soa(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return _ANY_SOA.search(file.read(_MOST_LOOKED_AT)) is not None
    except OSError:
        return False


def zone_in(path: Path, option: str) -> Name:
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
    name = (path.stem if path.suffix.lower() in (*SUFFIXES, ".txt") else path.name).removeprefix(PREFIX)
    try:
        if "." in name and not name.replace(".", "").isdigit():  # a network's number is no name
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

"""Objects of a directory, and the session that fetches them; how their names are read (RFC 4514).

Strategy: whoever reads objects knows neither a library nor a socket; so a test hands it a table of objects.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import NamedTuple, Protocol

_PARTS = re.compile(r"(?:[^,\\]|\\.)+")
CONFLICT = re.compile(r"([^\n]*)\nCNF:[0-9A-Fa-f-]{36}")
"""A name that an object got when another of the same name came from another controller: the name that it had, a line break, and
a GUID (MS-ADTS section 3.1.1.5.1.6)."""
_ESCAPE = re.compile(r"((?:\\[0-9A-Fa-f]{2})+)|\\(.)")


def rdns(dn: str) -> list[tuple[str, str]]:
    """Return the parts of a distinguished name from the object upwards (RFC 4514): attribute in upper case, and value."""
    found = []
    for part in _PARTS.findall(dn):
        attribute, _, value = part.strip().partition("=")
        found.append((attribute.upper(), _ESCAPE.sub(_unescaped, value)))
    return found


def _unescaped(match: re.Match[str]) -> str:
    return bytes.fromhex(match[1].replace("\\", "")).decode("utf-8", "replace") if match[1] else match[2]


def ahead_s(said: str, now: datetime) -> float | None:
    """Return how many seconds a directory's clock is ahead of ours; it tells the time as digits in UTC (RFC 4517 section
    3.3.13)."""
    digits = re.sub(r"\D", "", said)[:14]
    try:
        theirs = datetime.strptime(digits, "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None
    return round((theirs - now).total_seconds(), 1)


class Entry(NamedTuple):
    """An object: its distinguished name, and the values of its attributes by their names in lower case."""

    dn: str
    values: Mapping[str, Sequence[bytes | str]]

    def text(self, attribute: str) -> str:
        """Return the first value of an attribute as text; empty where there is none."""
        return next(iter(self.texts(attribute)), "")

    def texts(self, attribute: str) -> list[str]:
        """Return the values of an attribute as texts."""
        return [
            one.decode("utf-8", "replace") if isinstance(one, bytes) else one for one in self.values.get(attribute, ())
        ]

    def raw(self, attribute: str) -> list[bytes]:
        """Return the values of an attribute as bytes."""
        return [one for one in self.values.get(attribute, ()) if isinstance(one, bytes)]

    def guid(self, attribute: str) -> str:
        """Return a GUID, which is kept with its first parts little-endian; empty where there is none."""
        value = next(iter(self.raw(attribute)), b"")
        return str(uuid.UUID(bytes_le=value)) if len(value) == 16 else ""


class Session(Protocol):
    """Whatever fetches objects: a connection, or a test's table. Raises DirectoryFailed."""

    def root(self) -> Entry:
        """Return the server's own object, with its naming contexts."""

    def search(self, base: str, wanted: str, attributes: Sequence[str], *, below: bool = False) -> Iterator[Entry]:
        """Return the objects that fit a filter: in the whole tree from a base on, or right below it alone. Nothing where there
        is no base."""

    def at(self, dn: str, attributes: Sequence[str]) -> Entry | None:
        """Return one object by its distinguished name; None where there is none."""

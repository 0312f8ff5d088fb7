"""How a list is to be read: its form where that is named, its columns, what its short names stand in, whether pointers count.

Strategy: everything has a default, so that a bare file name is a whole description; what is named is never guessed at.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from salt_mirror.dns.names import Name, shown
from salt_mirror.estate.csvfile import COLUMNS
from salt_mirror.estate.errors import BadInput

EXPECTED_COLUMNS = tuple(column for column in COLUMNS if column != "note")


class ListSpec(NamedTuple):
    """How to read one list. `columns` are ours by those of the file; `form` is empty where it is to be found by content;
    `zone` completes short names; `pointers` says that each address's PTR is expected too."""

    form: str = ""
    columns: tuple[tuple[str, str], ...] = ()
    pointers: bool = False
    zone: Name | None = None


PLAIN = ListSpec()


def columns_in(text: str, place: str) -> tuple[tuple[str, str], ...]:
    """Read `name=hostname,value=ip`: our columns by the file's. Raises BadInput."""
    pairs = []
    for part in filter(None, (one.strip() for one in text.split(","))):
        ours, equals, theirs = (piece.strip() for piece in part.partition("="))
        if not equals or not theirs:
            raise BadInput(f"{place}: {shown(part)} is no column; expected one such as name=hostname")
        pairs.append((ours, theirs))
    return checked_columns(dict(pairs), place)


def checked_columns(columns: Mapping[str, str], place: str) -> tuple[tuple[str, str], ...]:
    """Return columns as they may be named. Raises BadInput."""
    for ours in columns:
        if ours not in EXPECTED_COLUMNS:
            raise BadInput.unknown(f"{place}: there is no column", ours, EXPECTED_COLUMNS)
    if columns and not {"name", "value"} <= set(columns):
        raise BadInput(f"{place}: both name and value have to be named, such as name=hostname,value=ip")
    return tuple(columns.items())

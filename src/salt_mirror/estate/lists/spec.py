"""How a list is to be read: its form where that is named, how its table is laid out, what its short names are completed with,
whether PTR records count.

Strategy: everything has a default, so that a bare file name is a whole description; what is named is never guessed at.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from salt_mirror.dns.names import Name, shown
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.table import COLUMNS, OURS, Filter, TableLayout

EXPECTED_COLUMNS = tuple(column for column in COLUMNS if column != "note")


class ListSpec(NamedTuple):
    """How to read one list. `form` is empty where it is to be found by content; `zone` completes short names; `pointers` says
    that each address's PTR is expected too; `sheet` is the sheet of a workbook, the first one where it is empty."""

    form: str = ""
    layout: TableLayout = OURS
    pointers: bool = False
    zone: Name | None = None
    sheet: str = ""


PLAIN = ListSpec()


def columns_in(text: str, place: str) -> dict[str, str]:
    """Read `name=hostname,value=ip`: our columns by the file's. Raises BadInput."""
    pairs = (_pair(part, place, "name=hostname") for part in filter(None, (one.strip() for one in text.split(","))))
    return checked_columns(dict(pairs), place)


def checked_columns(columns: Mapping[str, str], place: str) -> dict[str, str]:
    """Return columns as they may be named. Raises BadInput."""
    for ours in columns:
        if ours not in EXPECTED_COLUMNS:
            raise BadInput.unknown(f"{place}: there is no column", ours, EXPECTED_COLUMNS)
    if columns and not {"name", "value"} <= set(columns):
        raise BadInput(f"{place}: both name and value have to be named, such as name=hostname,value=ip")
    return dict(columns)


def filter_in(texts: Iterable[str], place: str) -> Filter:
    """Read `COLUMN=PATTERN` of which there may be several for a column. Raises BadInput."""
    found: dict[str, tuple[str, ...]] = {}
    for text in texts:
        column, pattern = _pair(text, place, '"Status=in use"')
        found[column] = (*found.get(column, ()), pattern)
    return found


def _pair(text: str, place: str, such_as: str) -> tuple[str, str]:
    left, equals, right = (piece.strip() for piece in text.partition("="))
    if not equals or not left or not right:
        raise BadInput(f"{place}: {shown(text)} names no column; expected one such as {such_as}")
    return left, right

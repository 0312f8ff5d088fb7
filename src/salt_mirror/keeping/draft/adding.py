"""A draft added to an estate that is there already: what is new goes in, and nothing that stands there is touched.

Strategy: new tables are appended; a server that answers for a zone which the file has is added to that zone's list by tomlkit,
which keeps every comment and every blank as it was. The whole is read back as an estate before it takes the old one's place.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import tomlkit
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Item

from salt_mirror.dns.names import shown
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import AcceptEntry, SourceEntry


def with_servers(text: str, more: Mapping[int, Iterable[str]]) -> str:
    """Return an estate's text with servers added to the lists of some zones (counted from 0). Raises BadInput."""
    wanted = {number: list(labels) for number, labels in more.items()}
    if not any(wanted.values()):
        return text
    try:
        document = tomlkit.parse(text)
    except (TOMLKitError, ValueError) as error:
        raise BadInput(f"the estate cannot be added to: {error}") from None
    zones = document["zones"]
    for number, labels in wanted.items():
        for label in labels:
            zones[number]["servers"].append(label)
    return tomlkit.dumps(document)


def with_acceptance(text: str, entry: AcceptEntry) -> str:
    """Return an estate's text with an acceptance behind the others, or at its end. Raises BadInput."""
    try:
        document = tomlkit.parse(text)
        table = tomlkit.table()
        for key in ("code", "name", "address", "server", "view", "reason", "until"):
            value = getattr(entry, key)
            if value is not None:
                table.append(key, value)
        if "accept" in document:
            document["accept"].append(table)
        else:
            tables = tomlkit.aot()
            tables.append(table)
            document.append("accept", tables)
        return tomlkit.dumps(document)
    except (TOMLKitError, ValueError, AttributeError, TypeError) as error:
        raise BadInput(f"the estate cannot be added to: {error}") from None


def with_list(text: str, number: int, entry: SourceEntry) -> str:
    """Return an estate's text with a list behind the others that a zone (counted from 0) expects. Raises BadInput."""
    try:
        document = tomlkit.parse(text)
        zone = document["zones"][number]
        lists = zone.setdefault("expect", tomlkit.array())
        if any(entry.file == (one if isinstance(one, str) else one.get("file")) for one in lists):
            raise BadInput(f"the zone {shown(str(zone['name']))} expects {shown(entry.file)} already")
        lists.append(_list_item(entry))
        return tomlkit.dumps(document)
    except BadInput:
        raise
    except (TOMLKitError, ValueError, AttributeError, TypeError) as error:
        raise BadInput(f"the estate cannot be added to: {error}") from None


def _list_item(entry: SourceEntry) -> Item:
    """Return a list as `expect` names it: its file, or a table with the file and all that differs from the defaults."""
    plain = SourceEntry(entry.file)
    table = tomlkit.inline_table()
    for key in entry.__struct_fields__:
        value = getattr(entry, key)
        if key == "file" or value != getattr(plain, key):
            table.append(key, _inline(value))
    return table if len(table) > 1 else tomlkit.item(entry.file)


def _inline(value: object) -> object:
    """Return a value with tables as they can stand on one line."""
    if not isinstance(value, dict):
        return value
    table = tomlkit.inline_table()
    table.update(value)
    return table


def list_line(entry: SourceEntry) -> str:
    """Return how `expect` names a list."""
    return _list_item(entry).as_string()


def with_tables(text: str, tables: Iterable[str]) -> str:
    """Return the text with tables behind it, a blank line before each."""
    said = "\n".join(tables)
    return f"{text.rstrip()}\n\n{said}" if said else text

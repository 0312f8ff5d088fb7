"""A draft added to an estate that is there already: what is new goes in, and nothing that stands there is touched.

Strategy: new tables are appended; a server that answers for a zone which the file has is added to that zone's list by tomlkit,
which keeps every comment and every blank as it was. The whole is read back as an estate before it takes the old one's place.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import tomlkit
from tomlkit.exceptions import TOMLKitError

from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import AcceptEntry


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


def with_tables(text: str, tables: Iterable[str]) -> str:
    """Return the text with tables behind it, a blank line before each."""
    said = "\n".join(tables)
    return f"{text.rstrip()}\n\n{said}" if said else text

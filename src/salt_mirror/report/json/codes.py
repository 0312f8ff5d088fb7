"""What codes mean, as one JSON document."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import msgspec

from salt_mirror.catalogue import Code
from salt_mirror.findings import Weight


class CodeLine(msgspec.Struct, frozen=True, kw_only=True):
    """What a code stands for: its weight, its title, what is said of several, what it means to users, typical causes, how to
    mend it, and the RFC behind it (may be empty)."""

    weight: Weight
    title: str
    several: list[str]
    meaning: str
    causes: str
    mend: str
    source: str
    servers_differ: bool = False


class CodesDocument(msgspec.Struct, frozen=True, kw_only=True):
    """Codes by name, each with all that `explain` shows of it."""

    schema: Literal["salt-mirror/codes/1"] = "salt-mirror/codes/1"
    codes: dict[str, CodeLine]


def codes_json(codes: Mapping[str, Code]) -> bytes:
    """Return the document about some codes."""
    lines = {code: CodeLine(**(entry._asdict() | {"several": list(entry.several)})) for code, entry in codes.items()}
    return msgspec.json.encode(CodesDocument(codes=lines)) + b"\n"

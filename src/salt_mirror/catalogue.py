"""The catalogue of codes: how much each weighs, its title, what it means, what causes it, and how to mend it.

Strategy: all texts stand in one TOML file, `catalogue.toml`, which is read when the first finding is worded or explained, and
never by a start that has nothing to say.
"""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from typing import Any, NamedTuple

from salt_mirror.findings import Weight

DEFAULT = "*.unverified"
"""What every code of that name has in common, unless the family's own says otherwise."""


class Code(NamedTuple):
    """What a code stands for: its weight, a title for lists, what is said of several (a noun, then what is true of them), what
    it means to users, typical causes of it, how to mend it, and the RFC behind it (may be empty). `servers_differ`: servers of
    one zone give different answers."""

    weight: Weight
    title: str
    several: Sequence[str]
    meaning: str
    causes: str
    mend: str
    source: str
    servers_differ: bool = False


class Family(NamedTuple):
    """What the codes of one check are about: what it tests, how it judges, what a doubt means."""

    tests: str
    judged: str
    unverified: str


class _Codes(dict[str, Code]):
    """Codes by name. One that this version does not know, as in a history of another, is shown as it is."""

    def __missing__(self, code: str) -> Code:
        says = f"{code}, which this version does not know"
        return Code("note", code, ("findings", f"with the code {code}"), says, "", "", "")


@cache
def _read() -> tuple[dict[str, Family], dict[str, Code]]:
    raw: dict[str, Any] = tomllib.loads((files("salt_mirror") / "catalogue.toml").read_text(encoding="utf-8"))
    default = raw.pop(DEFAULT)
    families = {name: Family(**text) for name, text in raw.items() if "." not in name}
    codes = _Codes(
        (code, Code(**(default | text if code.endswith(".unverified") else text)))
        for code, text in raw.items()
        if "." in code
    )
    return families, codes


def catalogue() -> dict[str, Code]:
    """Return every code that a check may use."""
    return _read()[1]


def families() -> dict[str, Family]:
    """Return every family of codes, by the word that they begin with."""
    return _read()[0]


def family_of(code: str) -> str:
    """Return the family of a code."""
    return code.partition(".")[0]

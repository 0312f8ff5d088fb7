"""What each code means in full: the catalogue's weight, title and meaning, with the explanations beside it.

Strategy: one TOML file holds the texts, one table the codes; a test holds them against each other both ways.
"""

from __future__ import annotations

import tomllib
from functools import lru_cache
from importlib.resources import files
from typing import NamedTuple

from salt_mirror.findings import CATALOGUE, Code


class CheckText(NamedTuple):
    """What a family of codes is about: the command that has it, what it tests, how it judges, what a doubt means."""

    command: str
    tests: str
    judged: str
    unverified: str


class CodeText(NamedTuple):
    """Typical causes of a finding, how to mend it, and the RFC behind it (may be empty)."""

    causes: str
    mend: str
    rfc: str


@lru_cache(maxsize=1)
def explanations() -> tuple[dict[str, CheckText], dict[str, CodeText]]:
    """The texts of every family (by the first word of its codes), and of every code."""
    raw = tomllib.loads((files("salt_mirror") / "explanations.toml").read_text(encoding="utf-8"))
    checks = {name: CheckText(**text) for name, text in raw["checks"].items()}
    return checks, {code: CodeText(**text) for code, text in raw["codes"].items()}


def codes_of(word: str) -> dict[str, Code]:
    """The codes of a family, a command, or the one code itself; empty for any other word."""
    checks, _ = explanations()
    families = {family for family, text in checks.items() if word in (family, text.command)}
    return {code: entry for code, entry in CATALOGUE.items() if code == word or code.split(".")[0] in families}


def as_markdown() -> str:
    """All checks and codes as the page docs/checks.md."""
    checks, codes = explanations()
    lines = [
        "# What is checked",
        "",
        "Generated from the catalogue by `python tools/checks.py`; `salt-mirror explain` shows the same.",
        "",
    ]
    for family, check in checks.items():
        lines += [f"## `{family}.*`, by `salt-mirror {check.command}`", "", f"**Tests** {check.tests}", ""]
        lines += [f"**Judged** {check.judged}", "", f"**Unverified** {check.unverified}", ""]
        lines += [
            "| code | weight | what it means to users | typical causes | how to mend it | source |",
            "|---|---|---|---|---|---|",
        ]
        for code, entry in CATALOGUE.items():
            if code.split(".")[0] == family:
                text = codes[code]
                cells = (
                    f"`{code}`",
                    entry.weight,
                    f"**{entry.title}**: {entry.meaning}",
                    text.causes,
                    text.mend,
                    text.rfc,
                )
                lines.append("| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |")
        lines.append("")
    return "\n".join(lines)

"""What each code means in full, for `explain` and for the page of all checks.

Strategy: the texts are the catalogue's, the commands are those of the registry of checks.
"""

from __future__ import annotations

from salt_mirror.catalogue import Code, catalogue, families, family_of
from salt_mirror.checks import CHECKS, check_of
from salt_mirror.checks.plan.rules import RULES


def command_of(family: str) -> str:
    """Return the command whose findings have the codes of a family."""
    return check_of(family).name


def codes_of(word: str) -> dict[str, Code]:
    """Return the codes of a family, of a command, or the one code itself; empty for any other word."""
    wanted = {family for check in CHECKS for family in check.codes if word in (family, check.name)}
    return {code: entry for code, entry in catalogue().items() if code == word or family_of(code) in wanted}


def as_markdown() -> str:
    """Return all checks and codes as the page docs/checks.md."""
    lines = [
        "# What is checked",
        "",
        "Generated from the catalogue by `python tools/checks.py`; `salt-mirror explain` shows the same.",
        "",
    ]
    for family, text in families().items():
        lines += [f"## `{family}.*`, by `salt-mirror {command_of(family)}`", "", f"**Tests** {text.tests}", ""]
        lines += [f"**Judged** {text.judged}", "", f"**Unverified** {text.unverified}", ""]
        lines += [
            "| code | weight | what it means to users | typical causes | how to mend it | source |",
            "|---|---|---|---|---|---|",
        ]
        for code, entry in catalogue().items():
            if family_of(code) == family:
                meaning = f"**{entry.title}**: {entry.meaning}"
                cells = (f"`{code}`", entry.weight, meaning, entry.causes, entry.mend, entry.source)
                lines.append("| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |")
        lines.append("")
    lines += ["## How `mend` plans", "", "`salt-mirror explain plan` says the same.", ""]
    lines += [f"- **{rule.about}**: {rule.says} *Example*: {rule.example}" for rule in RULES]
    return "\n".join([*lines, ""])

"""What the documents type."""

from __future__ import annotations

import re
from pathlib import Path

from salt_mirror.cli.registry import COMMANDS

CHECKS = ("pairs", "rollcall", "authority", "mail", "services", "views", "resolvers", "stale", "audit")
DOCS = Path(__file__).parents[2] / "docs"
CHECKING = tuple(DOCS / f"checking/{name}.md" for name in CHECKS)
"""A page for each check."""
JUDGED = (0, 1, 3)
"""The exit statuses of a command that was understood and has asked."""


def commands_in(page: Path) -> list[str]:
    """What a page types: the lines of its blocks that begin with the program's name, with or without a prompt."""
    blocks = re.findall(r"^```\w*\n(.*?)^```", page.read_text(encoding="utf-8"), re.DOTALL | re.MULTILINE)
    lines = (line.partition("  #")[0].partition(" < ")[0].strip() for block in blocks for line in block.splitlines())
    plain = (line.removeprefix("$ ") for line in lines)
    return [line.removeprefix("salt-mirror ") for line in plain if line.startswith("salt-mirror ")]


def shown_in_help_and_jobs() -> list[str]:
    """What the help's examples and the pages of the jobs type, each once."""
    typed = [typed for entry in COMMANDS if entry.name != "demo" for typed, _ in entry.examples]
    for page in sorted(DOCS.glob("jobs/*.md")):
        typed += [line for line in commands_in(page) if not line.startswith(("demo", "--", "draft"))]
    return [line for line in dict.fromkeys(typed) if line != "vantage list"]  # that needs a broker

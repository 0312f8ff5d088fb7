"""Text marked for Markdown: nothing in it can be taken for markup."""

from __future__ import annotations

import re

from salt_mirror.report.cleaning import clean


def code(text: str, indent: str) -> list[str]:
    """Return lines as they are, inside an item of a list; the fence is longer than any in them (CommonMark section 4.5)."""
    fence = "`" * (max((len(run) for run in re.findall("`+", text)), default=0) + 3)
    return ["", *(indent + line for line in (fence, *text.split("\n"), fence)), ""]


_MARKS = re.compile(r"([\\`*_{}\[\]<>|#~!&])")


def marked(text: str) -> str:
    """Return text whose characters mean nothing in Markdown."""
    return _MARKS.sub(r"\\\1", clean(text))

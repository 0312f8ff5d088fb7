"""Text made safe to show: what may stand in a label of the estate, or in a server's own words, and in no report.

Strategy: names and rdata are in RFC 1035 presentation form by now, printable ASCII alone; this is for everything else.
"""

from __future__ import annotations


def clean(text: str) -> str:
    """Return text with a question mark in the place of each character that cannot be printed, control characters above all."""
    return text if text.isprintable() else "".join(c if c.isprintable() else "?" for c in text)


def clean_lines(text: str) -> str:
    """Return the same for text of several lines, which stay apart."""
    return text if text.isprintable() else "\n".join(map(clean, text.split("\n")))

"""Names whose final dot was forgotten where they were written, so that a zone's name was added."""

from __future__ import annotations

from salt_mirror.dns.names import Name, is_within, join, labels
from salt_mirror.dns.reverse import IN_ADDR, IP6


def undotted(name: Name) -> Name | None:
    """Return what a name was meant to be if its final dot was forgotten; None when it does not look so.

    A zone's name was added then: a reverse zone's, or its own suffix of two labels or more a second time.
    """
    parts = labels(name)
    for tree in (IN_ADDR, IP6):
        if is_within(name, tree):
            digits = parts[: len(parts) - 2]
            width = 3 if tree == IN_ADDR else 1
            host = len(digits)
            while host and len(digits[host - 1]) <= width and _is_hex(digits[host - 1], decimal=width == 3):
                host -= 1
            return join(digits[:host]) if host >= 2 else None
    for size in range(len(parts) // 2, 1, -1):
        if parts[-size:] == parts[-2 * size : -size] and len(parts) > 2 * size:
            return join(parts[:-size])
    return None


def _is_hex(label: bytes, *, decimal: bool) -> bool:
    return label.isdigit() if decimal else all(chr(b) in "0123456789abcdef" for b in label)

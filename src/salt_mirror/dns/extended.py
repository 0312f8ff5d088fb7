"""Extended errors: why a server answers as it does, in its own words (RFC 8914).

Strategy: they stand as options in the OPT record of a response, also beside a good answer. They say why and prove nothing:
anybody on the way may have written them. Their text comes from the network, so that whatever cannot be printed is escaped here.
"""

from __future__ import annotations

import struct
from typing import NamedTuple

from salt_mirror.dns.names import printable
from salt_mirror.dns.records import OPT
from salt_mirror.dns.wire import MalformedMessage, read_counts, read_rr, skip_name

_OPTION = b"\x00\x0f"
_MOST_TEXT = 120
_MOST = 4

NAMES = (
    "Other Error", "Unsupported DNSKEY Algorithm", "Unsupported DS Digest Type", "Stale Answer", "Forged Answer",
    "DNSSEC Indeterminate", "DNSSEC Bogus", "Signature Expired", "Signature Not Yet Valid", "DNSKEY Missing", "RRSIGs Missing",
    "No Zone Key Bit Set", "NSEC Missing", "Cached Error", "Not Ready", "Blocked", "Censored", "Filtered", "Prohibited",
    "Stale NXDOMAIN Answer", "Not Authoritative", "Not Supported", "No Reachable Authority", "Network Error", "Invalid Data",
)  # fmt: skip
"""The names of the codes from 0 on (RFC 8914 section 5.2)."""
OVERRIDDEN = frozenset((4, 15, 16, 17, 18))
"""Forged, blocked, censored, filtered, prohibited: the server answers so by its own rules, whatever the zone has."""


class ExtendedError(NamedTuple):
    """One extended error: its code, and the text that the server put beside it, escaped and cut."""

    code: int
    text: str

    @property
    def name(self) -> str:
        """The code's name."""
        return NAMES[self.code] if self.code < len(NAMES) else f"extended error {self.code}"

    @property
    def said(self) -> str:
        """The code's name with the server's text, such as `DNSSEC Bogus (no SEP matching the DS)`."""
        return f"{self.name} ({self.text})" if self.text else self.name


def extended_errors(message: bytes) -> list[ExtendedError]:
    """Return the extended errors of a response, in its order; none where it has none or cannot be read."""
    try:
        return _read(message)
    except (MalformedMessage, IndexError, struct.error):
        return []


def _read(message: bytes) -> list[ExtendedError]:
    if len(message) < 12:
        return []
    _, _, questions, *counts = read_counts(message)
    at = 12
    for _ in range(questions):
        at = skip_name(message, at) + 4
    found: list[ExtendedError] = []
    for _ in range(sum(counts)):
        at = skip_name(message, at)
        rdtype, _, _, size = read_rr(message, at)
        at += 10 + size
        if rdtype == OPT:
            options = message[at - size : at]
            while len(options) >= 4:
                end = 4 + int.from_bytes(options[2:4], "big")
                if options[:2] == _OPTION and 6 <= end <= len(options):
                    text = options[6:end].decode("utf-8", "replace").rstrip("\0")[:_MOST_TEXT]
                    found.append(ExtendedError(int.from_bytes(options[4:6], "big"), printable(text) if text else ""))
                options = options[end:]
    return found[:_MOST]

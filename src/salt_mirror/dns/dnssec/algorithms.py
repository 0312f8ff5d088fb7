"""Algorithms and digests: what each is called, whether it should still be used, and whether it can be verified here.

Strategy: two tables. What a zone should sign with is RFC 8624 section 3 with its successors (RFC 9904, and RFC 9905 for
SHA-1); what cannot be verified here is unverified, and no fault: a validator treats a zone that has nothing else as unsigned
(RFC 4035 section 5.2).
"""

from __future__ import annotations

from typing import Literal, NamedTuple

Use = Literal["", "not recommended", "must not"]
"""Whether zones may be signed with it; empty where nothing speaks against that."""


class Algorithm(NamedTuple):
    """A DNSKEY algorithm or a DS digest: its mnemonic, whether zones may use it, whether it is verified here."""

    name: str
    use: Use = ""
    verified: bool = True


ALGORITHMS = {
    1: Algorithm("RSAMD5", "must not", verified=False),
    3: Algorithm("DSA", "must not", verified=False),
    5: Algorithm("RSASHA1", "must not"),
    6: Algorithm("DSA-NSEC3-SHA1", "must not", verified=False),
    7: Algorithm("RSASHA1-NSEC3-SHA1", "must not"),
    8: Algorithm("RSASHA256"),
    10: Algorithm("RSASHA512", "not recommended"),
    12: Algorithm("ECC-GOST", "must not", verified=False),
    13: Algorithm("ECDSAP256SHA256"),
    14: Algorithm("ECDSAP384SHA384"),
    15: Algorithm("ED25519"),
    16: Algorithm("ED448"),
}
"""By number (IANA, DNS Security Algorithm Numbers)."""

DIGESTS = {
    1: Algorithm("SHA-1", "must not"),
    2: Algorithm("SHA-256"),
    3: Algorithm("GOST R 34.11-94", "must not", verified=False),
    4: Algorithm("SHA-384"),
}
"""By number (IANA, DS RR Type Digest Algorithms); RFC 8624 section 3.3."""


def algorithm(number: int) -> Algorithm:
    """Return a DNSKEY algorithm; one that nobody has named here cannot be verified."""
    return ALGORITHMS.get(number) or Algorithm(f"algorithm {number}", verified=False)


def digest(number: int) -> Algorithm:
    """Return a DS digest; one that nobody has named here cannot be verified."""
    return DIGESTS.get(number) or Algorithm(f"digest {number}", verified=False)

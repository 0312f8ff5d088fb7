"""What a dynamic update wants changed, and what a server said to it: plain data, for whoever plans and judges (RFC 2136)."""

from __future__ import annotations

from typing import NamedTuple

from salt_mirror.dns.names import Name


class SetEdit(NamedTuple):
    """One set before and after, by canonical rdata; TTLs in seconds. `named`: its name owned records before, of any type."""

    name: Name
    rdtype: int
    before: frozenset[bytes]
    after: frozenset[bytes]
    ttl_before: int | None
    ttl_after: int | None
    named: bool = True


class Reply(NamedTuple):
    """What a server answered: an rcode's name, or one of `refused_key`'s words; or `trouble`, why nothing usable came.

    With `unknown` the message may have been carried out all the same; `sent_back` says that it came with the signature of the
    message itself, as one directory server refuses.
    """

    status: str = ""
    trouble: str = ""
    unknown: bool = False
    sent_back: bool = False

    @property
    def done(self) -> bool:
        """Whether the change was carried out, by an answer that can be trusted."""
        return self.status == "NOERROR" and not self.trouble


CHANGED_SINCE = frozenset(("NXRRSET", "YXRRSET", "NXDOMAIN", "YXDOMAIN"))
"""The rcodes of prerequisites that do not hold (RFC 2136 section 3.2)."""

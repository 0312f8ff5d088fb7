"""The signatures of a zone as plain data that a report can lay out: what the parent has, the keys, each signature's
validity."""

from __future__ import annotations

import msgspec


class KeyRow(msgspec.Struct, frozen=True, kw_only=True):
    """One key at the apex: its tag and algorithm, what it is for (`entry` for the one that DS records lead to, `zone` for
    others, `revoked`), the DS records that fit it, whether it signs the key set, and the servers that have it."""

    tag: int
    algorithm: str
    role: str
    ds: list[str]
    signs_keys: bool
    servers: list[str]


class SignatureRow(msgspec.Struct, frozen=True, kw_only=True):
    """The signature by which a set of a server holds, or comes nearest to that: when it begins and ends (UTC), the seconds
    that are left, and whether it holds (`valid`, or why not)."""

    server: str
    set: str
    key: int
    begins: str
    ends: str
    left_s: int
    state: str


class SignedSheet(msgspec.Struct, frozen=True, kw_only=True):
    """A zone's signatures. `ds_seen` says whether the parent was asked for the DS set, and answered; `denial` is how it denies
    names; `verified` what was verified on each server; `refresh_s`, `expire_s` and `ttl_s` are the SOA's timers and the
    longest TTL seen, by which a new signature reaches every server and cache."""

    says: str
    ds: list[str] = []
    ds_seen: bool = True
    keys: list[KeyRow] = []
    signatures: list[SignatureRow] = []
    denial: str = ""
    verified: str = ""
    first_end: str = ""
    refresh_s: int = 0
    expire_s: int = 0
    ttl_s: int = 0

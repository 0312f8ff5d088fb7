"""Keys and the digests that a parent has of them: DNSKEY and DS (RFC 4034 sections 2 and 5).

Strategy: both are read from canonical rdata. A DS fits a key when tag and algorithm are the same, and the digest over the
owner's name and the key's rdata is (RFC 4034 section 5.1.4).
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from functools import cached_property, lru_cache
from typing import Any, NamedTuple

from salt_mirror.dns.dnssec.algorithms import algorithm, digest
from salt_mirror.dns.names import Name

_ZONE, _REVOKED, _SEP = 0x0100, 0x0080, 0x0001
_PROTOCOL = 3
_HASHES: dict[int, Callable[[bytes], Any]] = {1: hashlib.sha1, 2: hashlib.sha256, 4: hashlib.sha384}


class DnsKey:
    """A DNSKEY record (RFC 4034 section 2.1), with its key tag. Compared by its rdata."""

    def __init__(self, rdata: bytes) -> None:
        """Raises ValueError for rdata that is too short."""
        if len(rdata) < 5:
            raise ValueError("a DNSKEY record of fewer than 5 bytes")
        self.rdata = rdata
        self.flags = int.from_bytes(rdata[:2], "big")
        self.protocol = rdata[2]
        self.algorithm = rdata[3]
        self.tag = key_tag(rdata)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, DnsKey) and other.rdata == self.rdata

    def __hash__(self) -> int:
        return hash(self.rdata)

    @property
    def signs(self) -> bool:
        """Whether it may sign records of its zone: a zone key of the protocol DNSSEC (RFC 4034 sections 2.1.1 and 2.1.2)."""
        return bool(self.flags & _ZONE) and self.protocol == _PROTOCOL

    @property
    def is_entry(self) -> bool:
        """Whether it is meant as the key that the parent's DS leads to (SEP, RFC 4034 section 2.1.1)."""
        return bool(self.flags & _SEP)

    @property
    def is_revoked(self) -> bool:
        """Whether its owner has revoked it as a trust anchor (RFC 5011 section 2.1)."""
        return bool(self.flags & _REVOKED)

    @property
    def said(self) -> str:
        """How people name it: `key 12345 (ED25519)`."""
        return f"key {self.tag} ({algorithm(self.algorithm).name})"

    @cached_property
    def _verifier(self) -> Any:
        """dnspython's public key. Raises ValueError where this computer cannot verify with it, for whatever reason."""
        import dns.dnssecalgs
        import dns.rdata
        from dns.rdataclass import IN
        from dns.rdatatype import DNSKEY

        try:
            key: Any = dns.rdata.from_wire(IN, DNSKEY, self.rdata, 0, len(self.rdata))
            found = dns.dnssecalgs.get_algorithm_cls_from_dnskey(key)
            return found.public_cls.from_dnskey(key)
        except Exception as error:
            # dnspython and cryptography raise a dozen of kinds over keys of the wrong size, curve or build
            raise ValueError(str(error)) from None

    def verifies(self, signature: bytes, data: bytes) -> bool | None:
        """Return whether a signature over some data is this key's; None where this computer cannot tell."""
        return _verifies(self, signature, data) if algorithm(self.algorithm).verified else None


# Every server gives the same signatures, and a plan is judged in rounds: of 384 in an audit of the demo, 22 differ. The number
# kept is small, since data may have 64 KB.
@lru_cache(maxsize=512)
def _verifies(key: DnsKey, signature: bytes, data: bytes) -> bool | None:
    try:
        verifier = key._verifier
    except ValueError:
        return None
    from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm

    try:
        verifier.verify(signature, data)
    except UnsupportedAlgorithm:
        return None
    except (InvalidSignature, ValueError):
        return False
    return True


class Ds(NamedTuple):
    """A DS record (RFC 4034 section 5.1)."""

    tag: int
    algorithm: int
    digest_type: int
    digest: bytes

    @classmethod
    def of(cls, rdata: bytes) -> Ds:
        """Read canonical rdata. Raises ValueError for rdata that is too short."""
        if len(rdata) < 5:
            raise ValueError("a DS record of fewer than 5 bytes")
        return cls(int.from_bytes(rdata[:2], "big"), rdata[2], rdata[3], rdata[4:])

    @property
    def verified(self) -> bool:
        """Whether both its algorithm and its digest are verified here; validators leave out any other (RFC 4035 section
        5.2)."""
        return algorithm(self.algorithm).verified and digest(self.digest_type).verified

    @property
    def rdata(self) -> bytes:
        """Its canonical rdata."""
        return self.tag.to_bytes(2, "big") + bytes((self.algorithm, self.digest_type)) + self.digest

    def fits(self, owner: Name, key: DnsKey) -> bool:
        """Return whether it is this key's at a zone's apex (RFC 4034 section 5.1.4, RFC 4035 section 5.2)."""
        return (
            key.signs
            and (key.tag, key.algorithm) == (self.tag, self.algorithm)
            and digest_of(owner, key, self.digest_type) == self.digest
        )

    @property
    def said(self) -> str:
        """How people name it: `DS 12345 (ED25519, SHA-256)`."""
        return f"DS {self.tag} ({algorithm(self.algorithm).name}, {digest(self.digest_type).name})"


def key_tag(rdata: bytes) -> int:
    """Return a key's tag (RFC 4034 appendix B)."""
    if rdata[3] == 1 and len(rdata) > 6:
        return int.from_bytes(rdata[-3:-1], "big")
    padded = rdata + b"\0" if len(rdata) % 2 else rdata
    total = sum(padded[::2]) * 256 + sum(padded[1::2])
    return (total + (total >> 16)) & 0xFFFF


def digest_of(owner: Name, key: DnsKey, digest_type: int) -> bytes | None:
    """Return the digest that a DS record of a key has; None for a digest that is not known here."""
    made = _HASHES.get(digest_type)
    found: bytes | None = made(owner + key.rdata).digest() if made is not None else None
    return found


def ds_of(owner: Name, key: DnsKey, digest_type: int = 2) -> bytes:
    """Return the rdata of the DS record that a parent should have for a key, with SHA-256 unless another is asked for."""
    return Ds(key.tag, key.algorithm, digest_type, digest_of(owner, key, digest_type) or b"").rdata


def keys_in(values: tuple[bytes, ...]) -> list[DnsKey]:
    """Return the keys of a DNSKEY set; what is too short to be one is left out."""
    return [DnsKey(rdata) for rdata in values if len(rdata) >= 5]


def ds_in(values: tuple[bytes, ...]) -> list[Ds]:
    """Return the records of a DS set; what is too short to be one is left out."""
    return [Ds.of(rdata) for rdata in values if len(rdata) >= 5]

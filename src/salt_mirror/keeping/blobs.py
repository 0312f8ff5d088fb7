"""A finding as a history keeps it: without what differs from run to run and means nothing, and packed.

Strategy: with round-trip times left out, a finding that stands unchanged is the same bytes in every run, and nothing has to be
written. Packed, a large estate's history has a third of the size. What older versions wrote is plain JSON, and is read as well.
"""

from __future__ import annotations

import zlib

import msgspec
from msgspec.structs import replace

from salt_mirror.findings import Finding, Weight

_LEVEL = 1
_encode = msgspec.json.Encoder().encode
_decode = msgspec.json.Decoder(Finding).decode


def as_kept(finding: Finding) -> bytes:
    """Return a finding as JSON, as it is kept."""
    if finding.evidence:
        finding = replace(finding, evidence=[replace(one, rtt_ms=None) for one in finding.evidence])
    return _encode(finding)


def packed(kept: bytes) -> bytes:
    """Return it as it is written."""
    return zlib.compress(kept, _LEVEL)


def plain(blob: bytes | str) -> bytes:
    """Return the JSON of what was written. Raises ValueError for what is neither."""
    data = blob.encode("utf-8") if isinstance(blob, str) else blob
    if data[:1] == b"{":
        return data
    try:
        return zlib.decompress(data)
    except zlib.error as error:
        raise ValueError(f"a finding cannot be unpacked: {error}") from None


def unpacked(blob: bytes | str) -> Finding:
    """Return a finding that was written. Raises ValueError."""
    return _decode(plain(blob))


class KeptWords(msgspec.Struct):
    """What a list of lives wants of a finding: the rest of it is not even looked at."""

    weight: Weight
    text: str


def words_of(blob: bytes | str) -> KeptWords:
    """Return the words of a finding that was written. Raises ValueError."""
    return _decode_words(plain(blob))


_decode_words = msgspec.json.Decoder(KeptWords).decode

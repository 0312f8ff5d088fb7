"""Domain names: text at the edge, canonical wire bytes inside.

Strategy: a name *is* its canonical wire form (lower case, uncompressed, the root's zero byte at the end), so equality,
hashing and suffix tests are those of `bytes`, and nothing has to be parsed twice. Text is read and written here alone,
with the escapes of RFC 1035 section 5.1, so that no byte from the network reaches a terminal or a file as it came.
"""

from __future__ import annotations

import re
from functools import lru_cache

from salt_mirror.dns.errors import Unusable

Name = bytes
"""A domain name in canonical wire form: length-prefixed lower-case labels and the root's zero byte (RFC 4034 section 6.2)."""

ROOT: Name = b"\x00"
MAX_LABEL = 63
MAX_NAME = 255

_SIZES = [bytes((size,)) for size in range(MAX_LABEL + 1)]
_SPECIAL = frozenset(b'."\\;@$()')
_PLAIN = re.compile(rb"[a-z0-9_/*=+:,!#%&'<>?\[\]^`{|}~-]*\Z")
_PLAIN_LABEL = re.compile(r"[A-Za-z0-9_/*-]+\Z")
_PLAIN_TEXT = re.compile(r"[A-Za-z0-9_/*-]+(?:\.[A-Za-z0-9_/*-]+)*\.?\Z")
_PASSWORD = re.compile(r"://[^/?#\s]*@")
_IDNA_DOTS = re.compile("[.\u3002\uff0e\uff61]")


class BadName(Unusable):
    """Text that is no domain name; the message says what is wrong with it and what would be right."""


def from_text(text: str, origin: Name | None = None) -> Name:
    """Read a name in presentation form (RFC 1035 section 5.1), with IDNA for labels outside ASCII (RFC 5891).

    A name without a final dot is completed with `origin` when one is given, and taken as absolute otherwise.
    Raises BadName for empty labels, labels over 63 bytes, names over 255 bytes, and broken escapes.
    """
    # Most names share their parent domain: parse it once, and only the first label each time (1.0 us and not 3.0, timeit).
    head, dot, rest = text.partition(".")
    plain = (head.isalnum() and head.isascii()) or _PLAIN_LABEL.match(head)
    size = len(head)
    if plain and size <= MAX_LABEL and len(text) <= MAX_NAME:
        above = _parent_in(rest, origin) if dot else (origin or ROOT)
        if above is not None and size + len(above) < MAX_NAME:
            return _SIZES[size] + head.lower().encode("ascii") + above
    if text == "@" and origin is not None:
        return origin
    if text in ("", "."):
        if text == "":
            raise BadName("an empty name; write the root as a single dot")
        return ROOT
    if _PLAIN_TEXT.match(text):
        labels = text.lower().encode("ascii").split(b".")
    else:
        labels = _labels(text)
    absolute = labels[-1] == b""
    if absolute:
        labels.pop()
    wire = bytearray()
    for label in labels:
        if not label:
            raise BadName(f"{shown(text)}: an empty label (two dots in a row, or a dot at the start)")
        if len(label) > MAX_LABEL:
            raise BadName(
                f"{shown(text)}: the label {shown(label.decode('latin-1'))} is {len(label)} bytes long; "
                f"at most {MAX_LABEL} are allowed"
            )
        wire.append(len(label))
        wire += label
    wire += origin if origin is not None and not absolute else ROOT
    if len(wire) > MAX_NAME:
        raise BadName(f"{shown(text)}: {len(wire)} bytes on the wire; at most {MAX_NAME} are allowed")
    return bytes(wire)


@lru_cache(maxsize=4096)
def _parent_in(text: str, origin: Name | None) -> Name | None:
    """Return the parent domain that stands behind a first label; None for text with escapes, or that is no name."""
    if not text:
        return ROOT
    try:
        return from_text(text, origin) if _PLAIN_TEXT.match(text) else None
    except BadName:
        return None


def printable(text: str) -> str:
    """Return a text with an escape (RFC 1035 section 5.1) in the place of each character that cannot be printed."""
    return "".join(c if c.isprintable() else f"\\{min(ord(c), 255):03d}" for c in text)


def shown(text: str, most: int = 60) -> str:
    """Return a piece of somebody's text made safe and short enough to stand in a message, in quotation marks; what may be a
    password in a URL is left out."""
    text = _PASSWORD.sub("://…@", text)
    clean = printable(text[: most + 1])
    return '"' + (clean[:most] + "…" if len(clean) > most else clean) + '"'


def _labels(text: str) -> list[bytes]:
    """Split text with escapes or characters outside ASCII into lower-case label bytes; a final dot leaves an empty one."""
    if not text.isascii():
        text = _to_ascii(text)
    labels: list[bytes] = []
    label = bytearray()
    at = 0
    while at < len(text):
        char = text[at]
        at += 1
        if char == ".":
            labels.append(bytes(label))
            label.clear()
        elif char != "\\":
            if ord(char) <= 0x20 or ord(char) == 0x7F:
                raise BadName(f"{shown(text)}: a space or control character; write it as an escape such as \\032")
            label.append(ord(char))
        elif text[at : at + 3].isdigit() and len(text[at : at + 3]) == 3:
            value = int(text[at : at + 3])
            if value > 255:
                raise BadName(f"{shown(text)}: the escape \\{text[at : at + 3]} is over 255")
            label.append(value)
            at += 3
        elif at < len(text) and not text[at].isdigit():
            label.append(ord(text[at]))
            at += 1
        else:
            raise BadName(f"{shown(text)}: a backslash wants three digits or one other character after it")
    labels.append(bytes(label))
    return [bytes(label).lower() for label in labels]


def _to_ascii(text: str) -> str:
    """Turn labels outside ASCII into A-labels (RFC 5891, mapped as in UTS 46)."""
    import idna

    parts = []
    for label in _IDNA_DOTS.split(text):
        if label.isascii():
            parts.append(label)
            continue
        try:
            parts.append(idna.encode(label, uts46=True).decode("ascii"))
        except idna.IDNAError as error:
            raise BadName(f"{shown(text)}: the label {shown(label)} is no internationalised label ({error})") from None
    return ".".join(parts)


@lru_cache(maxsize=4096)
def to_text(name: Name) -> str:
    """Write a name in presentation form: absolute, with RFC 1035 escapes, printable ASCII alone."""
    if name == ROOT:
        return "."
    # Write the parent domain once for all names in it.
    size = name[0]
    head = name[1 : size + 1]
    text = head.decode("ascii") if _PLAIN.match(head) else label_text(head)
    above = name[size + 1 :]
    return f"{text}." if above == ROOT else f"{text}.{to_text(above)}"


def label_text(label: bytes) -> str:
    """Write one label with RFC 1035 escapes."""
    if _PLAIN.match(label):
        return label.decode("ascii")
    return "".join(
        "\\" + chr(b) if b in _SPECIAL else chr(b) if 0x20 < b < 0x7F else f"\\{b:03d}" for b in label.lower()
    )


def is_name(raw: bytes) -> bool:
    """Return whether bytes are a name in wire form, uncompressed: labels of 1 to 63 bytes, a root, 255 bytes at most (RFC 1035
    section 3.1)."""
    at = 0
    while at < len(raw) <= 255:
        size = raw[at]
        at += size + 1
        if size == 0:
            return at == len(raw)
        if size > 63:
            return False
    return False


def labels(name: Name) -> tuple[bytes, ...]:
    """Return the labels of a name from left to right, without the root's."""
    values = []
    at = 0
    while size := name[at]:
        values.append(name[at + 1 : at + 1 + size])
        at += size + 1
    return tuple(values)


def join(parts: tuple[bytes, ...], suffix: Name = ROOT) -> Name:
    """Put labels in front of a name. Raises BadName over 255 bytes."""
    wire = b"".join(bytes((len(part),)) + part for part in parts) + suffix
    if len(wire) > MAX_NAME:
        raise BadName(f"{len(wire)} bytes on the wire; at most {MAX_NAME} are allowed")
    return wire


def parent(name: Name) -> Name:
    """Return the name without its first label; the root is its own parent."""
    return name[name[0] + 1 :] if name != ROOT else ROOT


def wildcard_below(name: Name) -> Name | None:
    """Return the wildcard below a name (RFC 4592 section 2.1.1); None where the name is too long for one."""
    wildcard = b"\x01*" + name
    return wildcard if len(wildcard) <= MAX_NAME else None


def ancestors(name: Name) -> list[Name]:
    """Return the name itself and every name above it, the root last."""
    values = [name]
    while name != ROOT:
        name = name[name[0] + 1 :]
        values.append(name)
    return values


def is_within(name: Name, zone: Name) -> bool:
    """Return whether a name is a zone's apex or stands below it. Compared by labels: bytes that merely look alike do not
    count."""
    spare = len(name) - len(zone)
    if spare < 0 or not name.endswith(zone):
        return False
    at = 0
    while at < spare:
        at += name[at] + 1
    return at == spare

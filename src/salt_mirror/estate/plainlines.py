"""Lines of master files that are one record of an everyday type and nothing else, read without a grammar.

Strategy: in a long list nearly every line is `host [ttl] [IN] A address` or the like. One pattern recognises those; anything
else (directives, parentheses, quotes, escapes, rarer types, mistakes) is left to dnspython's reader, with the state that
both keep: origin, TTLs, the last name. What this module reads, that reader would read the same.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from socket import AF_INET, AF_INET6, inet_pton

import dns.name
import dns.zonefile

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.records import AAAA, CNAME, NS, PTR, A

Plain = tuple[int, Name, int, int, bytes]
"""The number of the line, the owner, the TTL (negative when nothing gives one), the type, the canonical rdata."""

_TYPES = {"A": A, "AAAA": AAAA, "PTR": PTR, "CNAME": CNAME, "NS": NS}
_RECORD = re.compile(
    r"(?:([A-Za-z0-9_*][A-Za-z0-9_.*/-]*)|)[ \t]+(?:(\d{1,9})[ \t]+)?(?:IN[ \t]+)?"
    r"(A|AAAA|PTR|CNAME|NS)[ \t]+([A-Za-z0-9_:*][A-Za-z0-9_.:*/-]*)[ \t]*(?:;[^\r\n]*)?[\r\n]*\Z"
)
_NOTHING = re.compile(r"[ \t]*(?:;.*)?\Z")
_QUOTED = re.compile(r'"(?:[^"\\]|\\.)*"|\\.|;.*')


def plain_lines(
    lines: list[str], first_line: int, reader: dns.zonefile.Reader
) -> Iterator[Plain | tuple[int, list[str]]]:
    """Return the records of plain lines, and in between the other lines in bunches that belong together, each with its number.

    The caller has `reader` read a bunch before it asks for more. Raises nothing: what looks wrong is such a bunch.
    """
    origin = _wire(reader.current_origin)
    last = _wire(reader.last_name)
    at, end, usual, record = 0, len(lines), _ttl(reader), _RECORD.match
    while at < end:
        match = record(lines[at])
        if match is not None:
            label, stated, kind, value = match.groups()
            try:
                owner = from_text(label, origin) if label else last
                rdata = inet_pton(AF_INET, value) if kind == "A" else _rdata(kind, value, origin)
            except (Unusable, OSError):
                owner = None
            if owner is not None:
                last, ttl = owner, usual
                if stated:
                    reader.last_ttl = ttl = int(stated)
                    reader.last_ttl_known, usual = True, _ttl(reader)
                yield first_line + at, owner, ttl, _TYPES[kind], rdata
                at += 1
                continue
        start = at
        depth = 0
        while at < end:
            bare = _QUOTED.sub("", lines[at])
            depth += bare.count("(") - bare.count(")")
            at += 1
            if depth <= 0 and (at == end or not _NOTHING.match(lines[at].rstrip("\r\n"))):
                break
        if last is not None:
            reader.last_name = dns.name.from_wire(last, 0)[0]
        yield first_line + start, lines[start:at]
        origin, last, usual = _wire(reader.current_origin), _wire(reader.last_name), _ttl(reader)


def _rdata(kind: str, value: str, origin: Name | None) -> bytes:
    """Return what stands behind a type, an address or a name. Raises OSError or Unusable where it is neither."""
    return inet_pton(AF_INET6, value) if kind == "AAAA" else from_text(value, origin)


def _ttl(reader: dns.zonefile.Reader) -> int:
    """Return the TTL of a record that gives none: the last one stated, unless `$TTL` says otherwise (RFC 2308 section 4)."""
    if reader.last_ttl_known and (not reader.default_ttl_known or reader.default_ttl_from_soa):
        return reader.last_ttl
    return reader.default_ttl


def _wire(name: dns.name.Name | None) -> Name | None:
    return name.to_digestable() if name is not None and name.is_absolute() else None

"""Records: type numbers, canonical rdata, and its text.

Strategy: rdata is its canonical wire form (RFC 4034 section 6.2), so that two servers' records are equal when their
bytes are. One table says where names stand inside the rdata of each type; the decoder expands and lower-cases them by
it. The types that administrators meet every day are written and read here; the rare ones are left to dnspython.
"""

from __future__ import annotations

from functools import lru_cache
from socket import AF_INET, AF_INET6, inet_pton
from typing import NamedTuple

from salt_mirror.dns.errors import Unusable, number_in
from salt_mirror.dns.names import Name, from_text, label_text, parent, shown, to_text
from salt_mirror.dns.reverse import address_text

A, NS, CNAME, SOA, PTR, MX, TXT, AAAA, SRV, DNAME, OPT = 1, 2, 5, 6, 12, 15, 16, 28, 33, 39, 41
DS, RRSIG, NSEC, DNSKEY, NSEC3, NSEC3PARAM, TLSA, CDS, CDNSKEY = 43, 46, 47, 48, 50, 51, 52, 59, 60
TKEY, TSIG, IXFR, AXFR, ANY = 249, 250, 251, 252, 255  # what stands in no zone (RFC 6895 section 3.1)

TYPE_NAMES = {
    1: "A", 2: "NS", 3: "MD", 4: "MF", 5: "CNAME", 6: "SOA", 7: "MB", 8: "MG", 9: "MR", 11: "WKS", 12: "PTR",
    13: "HINFO", 14: "MINFO", 15: "MX", 16: "TXT", 17: "RP", 18: "AFSDB", 21: "RT", 24: "SIG", 25: "KEY", 26: "PX",
    28: "AAAA", 29: "LOC", 30: "NXT", 33: "SRV", 35: "NAPTR", 36: "KX", 37: "CERT", 39: "DNAME", 41: "OPT", 42: "APL",
    43: "DS", 44: "SSHFP", 45: "IPSECKEY", 46: "RRSIG", 47: "NSEC", 48: "DNSKEY", 49: "DHCID", 50: "NSEC3",
    51: "NSEC3PARAM", 52: "TLSA", 53: "SMIMEA", 55: "HIP", 59: "CDS", 60: "CDNSKEY", 61: "OPENPGPKEY", 62: "CSYNC",
    63: "ZONEMD", 64: "SVCB", 65: "HTTPS", 99: "SPF", 108: "EUI48", 109: "EUI64", 249: "TKEY", 250: "TSIG",
    251: "IXFR", 252: "AXFR", 255: "ANY", 256: "URI", 257: "CAA",
}  # fmt: skip
_NUMBERS = {text: number for number, text in TYPE_NAMES.items()}

MADE_BY_SIGNERS = frozenset((RRSIG, NSEC, NSEC3, NSEC3PARAM))
"""RRSIG and NSEC (RFC 4034), NSEC3 and NSEC3PARAM (RFC 5155): a signer makes them, and nobody keeps them."""
NOT_CONTENT = MADE_BY_SIGNERS | frozenset((DNSKEY, CDS, CDNSKEY, 63))
"""With them DNSKEY (RFC 4034), CDS and CDNSKEY (RFC 7344) and ZONEMD (RFC 8976), which each signer makes for itself: no record
that people keep, and so out of every comparison of content."""
OF_KEYS = MADE_BY_SIGNERS | frozenset((DS, DNSKEY, CDS, CDNSKEY))
"""What follows from the keys of a zone, and is never changed by this program: whoever keeps the keys does that, in the order
and with the waits of RFC 7583."""
OF_SIGNERS = NOT_CONTENT | frozenset((24, 25, 30, 62, 65534))
"""With them SIG, KEY and NXT (RFC 2535), CSYNC (RFC 7477) and the private type in which a signer keeps its state: in a signed
zone nobody expects them one by one, and nobody forgets to remove them."""
NOT_COMPARED = NOT_CONTENT | {6}
"""With them SOA, whose serial has a judge of its own."""

LAYOUTS = {
    2: "n", 3: "n", 4: "n", 5: "n", 6: "nn", 7: "n", 8: "n", 9: "n", 12: "n", 14: "nn", 15: "2n", 17: "nn",
    18: "2n", 21: "2n", 26: "2nn", 33: "6n", 35: "4sssn", 36: "2n", 39: "n",
}  # fmt: skip
"""Where names stand in rdata, for the types whose names are expanded and lower-cased (RFC 4034 section 6.2, RFC 3597
section 4): `n` a name, `s` a character string, a digit that many plain bytes; what follows is taken as it is."""

NAME_ALONE = frozenset(rdtype for rdtype, layout in LAYOUTS.items() if layout == "n")
"""The types whose rdata is one name."""

TARGET_AT = {NS: 0, CNAME: 0, PTR: 0, MX: 2, SRV: 6}
"""Where the name begins in rdata to which a record leads."""
ADDRESS_TYPES = (A, AAAA)


class Uses(NamedTuple):
    """What commands do with a type that nobody has named: `offered` by a shell's completion; `swept` by `ask --every`, where a
    name is looked at whole; `sampled` where two servers' content is compared and nothing is expected; `drafted` of each name
    that `draft` is given; compared between `views`; filled by `one_hand`, where other sets have several."""

    offered: bool = True
    swept: bool = True
    sampled: bool = False
    drafted: bool = False
    views: bool = False
    one_hand: bool = False


USES = {
    A: Uses(sampled=True, drafted=True, views=True, one_hand=True),
    AAAA: Uses(sampled=True, drafted=True, views=True, one_hand=True),
    CNAME: Uses(one_hand=True),
    MX: Uses(sampled=True, drafted=True, views=True),
    NS: Uses(),
    SOA: Uses(),
    TXT: Uses(sampled=True, drafted=True, views=True),
    SRV: Uses(drafted=True, views=True),
    PTR: Uses(views=True, one_hand=True),
    257: Uses(),  # CAA
    65: Uses(offered=False),  # HTTPS
    64: Uses(offered=False),  # SVCB
    35: Uses(offered=False),  # NAPTR
    TLSA: Uses(offered=False),
    DS: Uses(offered=False),
    DNSKEY: Uses(offered=False),
}
"""What commands do with each type that nobody has named: a type that they are to know of is a line here."""

SWEPT = tuple(rdtype for rdtype, uses in USES.items() if uses.swept)
SAMPLED = tuple(rdtype for rdtype, uses in USES.items() if uses.sampled)
DRAFTED = tuple(rdtype for rdtype, uses in USES.items() if uses.drafted)
BETWEEN_VIEWS = frozenset(rdtype for rdtype, uses in USES.items() if uses.views)
ONE_HAND = tuple(rdtype for rdtype, uses in USES.items() if uses.one_hand)
OFFERED = tuple(TYPE_NAMES[rdtype] for rdtype, uses in USES.items() if uses.offered)

MAX_TTL = 2**31 - 1


class BadRecord(Unusable):
    """Text that is no rdata of its type; the message says what is wrong with it."""


class Record(NamedTuple):
    """One resource record: owner, type number, TTL in seconds, canonical rdata."""

    owner: Name
    rdtype: int
    ttl: int
    rdata: bytes


def address_type(address: bytes) -> int:
    """Return a for the four bytes of an IPv4 address, AAAA for sixteen."""
    return A if len(address) == 4 else AAAA


def type_text(rdtype: int) -> str:
    """Return the mnemonic of a type, or `TYPE12345` (RFC 3597 section 5)."""
    return TYPE_NAMES.get(rdtype) or f"TYPE{rdtype}"


@lru_cache(maxsize=256)
def type_from_text(text: str) -> int:
    """Read a mnemonic, `TYPE28` or `28`. Raises BadRecord."""
    upper = text.strip().upper()
    if upper in _NUMBERS:
        return _NUMBERS[upper]
    number = number_in(upper.removeprefix("TYPE"), 65535)
    if number is not None:
        return number
    raise BadRecord(f"{shown(text)} is no record type; write a name such as A, AAAA or PTR, or a number up to 65535")


def rdata_text(rdtype: int, rdata: bytes) -> str:
    """Write canonical rdata in presentation form, in printable ASCII alone; unknown types as in RFC 3597 section 5."""
    try:
        if (rdtype == A and len(rdata) == 4) or (rdtype == AAAA and len(rdata) == 16):
            return address_text(rdata)
        if rdtype in NAME_ALONE:
            return to_text(rdata)
        if rdtype == MX:
            return f"{int.from_bytes(rdata[:2], 'big')} {to_text(rdata[2:])}"
        if rdtype == SRV:
            numbers = (str(int.from_bytes(rdata[at : at + 2], "big")) for at in (0, 2, 4))
            return " ".join(numbers) + " " + to_text(rdata[6:])
        if rdtype == SOA:
            soa = soa_fields(rdata)
            return f"{to_text(soa.mname)} {to_text(soa.rname)} " + " ".join(map(str, soa[2:]))
        if rdtype == TXT:
            return " ".join(_quoted(string) for string in character_strings(rdata))
        if rdtype in TYPE_NAMES:
            return _rare_text(rdtype, rdata)
    except (IndexError, ValueError):
        pass
    return f"\\# {len(rdata)} {rdata.hex()}".rstrip()


class Soa(NamedTuple):
    """The fields of an SOA record (RFC 1035 section 3.3.13); times in seconds."""

    mname: Name
    rname: Name
    serial: int
    refresh: int
    retry: int
    expire: int
    minimum: int


@lru_cache(maxsize=1024)
def soa_fields(rdata: bytes) -> Soa:
    """Take the canonical rdata of an SOA apart."""
    first = _name_end(rdata, 0)
    second = _name_end(rdata, first)
    numbers = [int.from_bytes(rdata[at : at + 4], "big") for at in range(second, second + 20, 4)]
    return Soa(rdata[:first], rdata[first:second], *numbers)


def character_strings(rdata: bytes) -> list[bytes]:
    """Return the character strings of a TXT record (RFC 1035 section 3.3.14). Raises ValueError when they do not fit."""
    strings = []
    at = 0
    while at < len(rdata):
        end = at + 1 + rdata[at]
        if end > len(rdata):
            raise ValueError("a character string runs over the end of its rdata")
        strings.append(rdata[at + 1 : end])
        at = end
    return strings


def rdata_from_text(rdtype: int, text: str, origin: Name | None = None) -> bytes:
    """Read presentation form into canonical rdata; names without a final dot are completed with `origin` if given.

    Raises Unusable, saying what was expected.
    """
    text = text.strip()
    try:
        if rdtype == A:
            return inet_pton(AF_INET, text)
        if rdtype == AAAA:
            return inet_pton(AF_INET6, text)
        if rdtype in NAME_ALONE:
            return from_text(text, origin)
        if rdtype == MX:
            preference, target = text.split()
            return _number(preference) + from_text(target, origin)
        if rdtype == SRV:
            *numbers, target = text.split()
            if len(numbers) != 3:
                raise ValueError
            return b"".join(map(_number, numbers)) + from_text(target, origin)
    except Unusable:
        raise
    except (ValueError, OSError):
        expected = {
            A: "an IPv4 address such as 192.0.2.7",
            AAAA: "an IPv6 address such as 2001:db8::7",
            MX: "a preference and a host name",
            SRV: "priority, weight, port and a host name",
        }[rdtype]
        raise BadRecord(f"{shown(text)} is no value for {type_text(rdtype)}; expected {expected}") from None
    return _rare_from_text(rdtype, text, origin)


def zone_side(name: Name, rdtype: int) -> Name:
    """Return the name whose zone has a record set: of DS the name above, since it stands on the parent's side of a cut (RFC
    4035 section 2.4)."""
    return parent(name) if rdtype == DS else name


def record_line(owner: Name, rdtype: int, rdata: bytes, ttl: int | None = None) -> str:
    """Return one record as a line of a master file (RFC 1035 section 5), absolute throughout."""
    middle = f"{ttl} IN" if ttl is not None else "IN"
    return f"{to_text(owner)} {middle} {type_text(rdtype)} {rdata_text(rdtype, rdata)}"


def _number(text: str) -> bytes:
    number = number_in(text, 65535)
    return number.to_bytes(2, "big") if number is not None else _refuse()


def _refuse() -> bytes:
    raise ValueError


def _name_end(wire: bytes, at: int) -> int:
    while size := wire[at]:
        at += size + 1
    return at + 1


def _quoted(string: bytes) -> str:
    inner = "".join(f"\\{chr(b)}" if b in b'"\\' else chr(b) if 0x20 <= b < 0x7F else f"\\{b:03d}" for b in string)
    return f'"{inner}"'


def _rare_text(rdtype: int, rdata: bytes) -> str:
    import dns.exception
    import dns.rdata
    from dns.rdataclass import IN
    from dns.rdatatype import RdataType

    try:
        text = dns.rdata.from_wire(IN, RdataType.make(rdtype), rdata, 0, len(rdata)).to_text()
    except dns.exception.DNSException:
        raise ValueError from None
    return "".join(c if " " <= c <= "~" else label_text(c.encode("utf-8")) for c in text)


def _rare_from_text(rdtype: int, text: str, origin: Name | None) -> bytes:
    import dns.exception
    import dns.name
    import dns.rdata
    from dns.rdataclass import IN
    from dns.rdatatype import RdataType

    base = dns.name.from_wire(origin, 0)[0] if origin is not None else dns.name.root
    try:
        return dns.rdata.from_text(IN, RdataType.make(rdtype), text, base, False).to_digestable(base)
    except (dns.exception.DNSException, ValueError) as error:
        raise BadRecord(f"{shown(text)} is no value for {type_text(rdtype)} ({error})") from None

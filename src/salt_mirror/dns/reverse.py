"""Reverse names: the place in `in-addr.arpa` and `ip6.arpa` where an address keeps its pointer, and the way back.

Strategy: an address is its packed bytes (4 or 16), which is also the rdata of A and AAAA; so an answer can be turned
into the next question without being read. Tables hold the label of every byte (RFC 1035 section 3.5, RFC 3596 section 2.5).
"""

from __future__ import annotations

import ipaddress

from salt_mirror.dns.names import Name, is_within, labels

Network = ipaddress.IPv4Network | ipaddress.IPv6Network

IN_ADDR: Name = b"\x07in-addr\x04arpa\x00"
IP6: Name = b"\x03ip6\x04arpa\x00"

_OCTET = [bytes((len(str(b)),)) + str(b).encode("ascii") for b in range(256)]
_NIBBLES = [b"\x01%x\x01%x" % (b & 15, b >> 4) for b in range(256)]
_OCTET_OF = {str(b).encode("ascii"): b for b in range(256)}
_NIBBLE_OF = {b"%x" % n: n for n in range(16)}


def reverse_name(address: bytes) -> Name:
    """Return the name that holds the PTR record of an address, given as 4 or 16 packed bytes."""
    if len(address) == 4:
        return _OCTET[address[3]] + _OCTET[address[2]] + _OCTET[address[1]] + _OCTET[address[0]] + IN_ADDR
    return b"".join([_NIBBLES[b] for b in reversed(address)]) + IP6


def address_of(name: Name) -> bytes | None:
    """Return the packed address whose pointer a reverse name holds; None for any other name."""
    if not name.endswith((IN_ADDR, IP6)):
        return None
    parts = labels(name)
    if name.endswith(IN_ADDR) and len(parts) == 6:
        try:
            return bytes(_OCTET_OF[part] for part in reversed(parts[:4]))
        except KeyError:
            return None
    if name.endswith(IP6) and len(parts) == 34:
        try:
            nibbles = [_NIBBLE_OF[part] for part in reversed(parts[:32])]
        except KeyError:
            return None
        return bytes(high << 4 | low for high, low in zip(nibbles[::2], nibbles[1::2], strict=True))
    return None


def is_reverse(name: Name) -> bool:
    """Return whether a name stands in one of the two reverse trees."""
    return is_within(name, IN_ADDR) or is_within(name, IP6)


def address_text(address: bytes) -> str:
    """Write a packed address: dotted decimal, or RFC 5952 for IPv6."""
    if len(address) == 4:
        return f"{address[0]}.{address[1]}.{address[2]}.{address[3]}"
    return str(ipaddress.IPv6Address(address))


def network_zone(network: Network) -> Name:
    """Return the reverse zone of a network whose prefix ends at a label: /8, /16, /24, or a multiple of 4 for IPv6.

    Raises ValueError for any other prefix, and says how such a zone is named instead (RFC 2317).
    """
    step = 8 if network.version == 4 else 4
    if network.prefixlen % step or network.prefixlen in (0, network.max_prefixlen):
        right = "/8, /16 or /24" if step == 8 else "a multiple of 4, such as /48 or /64"
        raise ValueError(
            f"{network} is no zone of its own: a reverse zone's prefix is {right}; "
            "write a classless one by its name (RFC 2317)"
        )
    full = reverse_name(network.network_address.packed)
    for _ in range((network.max_prefixlen - network.prefixlen) // step):
        full = full[full[0] + 1 :]
    return full


def zone_network(zone: Name) -> Network | None:
    """Return the network whose pointers a reverse zone holds; None when the name says none (forward, classless, the tree's
    top)."""
    parts = labels(zone)
    values = parts[:-2]
    try:
        if is_within(zone, IN_ADDR) and 1 <= len(values) <= 4:
            packed = bytes(_OCTET_OF[part] for part in reversed(values)).ljust(4, b"\0")
            return ipaddress.IPv4Network((packed, 8 * len(values)))
        if is_within(zone, IP6) and 1 <= len(values) <= 32:
            digits = "".join(f"{_NIBBLE_OF[part]:x}" for part in reversed(values)).ljust(32, "0")
            return ipaddress.IPv6Network((bytes.fromhex(digits), 4 * len(values)))
    except KeyError:
        return None
    return None


def in_network(network: Network, address: bytes) -> bool:
    """Return whether a network holds a packed address of its IP version."""
    # By shifts, which take half as long as an object of ipaddress and `in`: a sweep asks this for every address.
    if len(address) * 8 != network.max_prefixlen:
        return False
    rest = network.max_prefixlen - network.prefixlen
    return int.from_bytes(address, "big") >> rest == int(network.network_address) >> rest

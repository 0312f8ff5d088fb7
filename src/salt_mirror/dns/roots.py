"""The root servers, as IANA publishes them in its hints file (https://www.iana.org/domains/root/files, RFC 9609).

Strategy: a table, so that a descent can begin on a computer whose resolver cannot be trusted; an estate may name others.
"""

from __future__ import annotations

import ipaddress

from salt_mirror.dns.names import Name, from_text

_HINTS = {
    "a": ("198.41.0.4", "2001:503:ba3e::2:30"),
    "b": ("170.247.170.2", "2801:1b8:10::b"),
    "c": ("192.33.4.12", "2001:500:2::c"),
    "d": ("199.7.91.13", "2001:500:2d::d"),
    "e": ("192.203.230.10", "2001:500:a8::e"),
    "f": ("192.5.5.241", "2001:500:2f::f"),
    "g": ("192.112.36.4", "2001:500:12::d0d"),
    "h": ("198.97.190.53", "2001:500:1::53"),
    "i": ("192.36.148.17", "2001:7fe::53"),
    "j": ("192.58.128.30", "2001:503:c27::2:30"),
    "k": ("193.0.14.129", "2001:7fd::1"),
    "l": ("199.7.83.42", "2001:500:9f::42"),
    "m": ("202.12.27.33", "2001:dc3::35"),
}

ROOTS: dict[Name, tuple[bytes, ...]] = {
    from_text(f"{letter}.root-servers.net"): tuple(ipaddress.ip_address(text).packed for text in addresses)
    for letter, addresses in _HINTS.items()
}
"""Each root server's name with its packed addresses."""

ROOT_ANCHORS: tuple[bytes, ...] = tuple(
    bytes.fromhex(f"{tag:04x}0802{digest}")
    for tag, digest in (
        (20326, "e06d44b80b8f1d39a95c0b0d7c65d08458e880409bbc683457104237c7f8ec8d"),
        (38696, "683d2d0acb8c9b712a1948b27f741219298d0a450d612c483af444a4c0fb2b16"),
    )
)
"""The DS records of the root's keys, as IANA publishes them (https://data.iana.org/root-anchors/root-anchors.xml): the trust
anchor of everybody who has no other. RSASHA256, SHA-256."""

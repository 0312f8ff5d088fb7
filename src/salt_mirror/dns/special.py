"""Names and addresses that the public tree knows nothing of: where no parent delegates, and what nobody outside can reach.

Strategy: two short tables, kept as the registries have them. Documentation addresses are not in the second one: they are
stand-ins for public ones.
"""

from __future__ import annotations

import ipaddress

from salt_mirror.dns.names import Name, ancestors, from_text

_UNDELEGATED = frozenset(
    map(
        from_text,
        (
            # RFC 6761, RFC 6762, RFC 7686, RFC 8375, RFC 9476; `internal` is set aside by ICANN for private use
            *("internal", "local", "localhost", "test", "invalid", "onion", "home.arpa", "alt"),
            # RFC 1918, RFC 6303, RFC 7793
            *("10.in-addr.arpa", "168.192.in-addr.arpa", "254.169.in-addr.arpa", "0.in-addr.arpa", "127.in-addr.arpa"),
            *(f"{number}.172.in-addr.arpa" for number in range(16, 32)),
            *(f"{number}.100.in-addr.arpa" for number in range(64, 128)),
            *("2.0.192.in-addr.arpa", "100.51.198.in-addr.arpa", "113.0.203.in-addr.arpa"),
            *("8.b.d.0.1.0.0.2.ip6.arpa", "d.f.ip6.arpa", *(f"{digit}.e.f.ip6.arpa" for digit in "89ab")),
        ),
    )
)  # fmt: skip

AS112_PRIMARIES = frozenset(map(from_text, ("prisoner.iana.org", "blackhole.as112.arpa")))
"""Primaries of the zones that the AS112 project holds for what should never have left a network (RFC 7534, RFC 7535)."""

_PRIVATE = tuple(
    (network.max_prefixlen // 8, int(network.netmask), int(network.network_address))
    for network in map(
        ipaddress.ip_network,
        (
            *("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"),  # RFC 1918
            *("100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "0.0.0.0/8"),  # RFC 6598, RFC 1122, RFC 3927
            *("::1/128", "fe80::/10", "fc00::/7"),  # RFC 4291, RFC 4193
        ),
    )
)
"""The length of an address (bytes), the mask, and the network, of each."""


def undelegated(name: Name) -> Name | None:
    """Return the special-use name at or above a name that no public parent delegates; None for an ordinary name."""
    return next((above for above in ancestors(name) if above in _UNDELEGATED), None)


def is_private(address: bytes) -> bool:
    """Return whether a packed address (4 or 16 bytes) cannot be reached from the Internet."""
    size, number = len(address), int.from_bytes(address, "big")
    return any(length == size and number & mask == network for length, mask, network in _PRIVATE)

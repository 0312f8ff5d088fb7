"""The resolvers that this computer itself uses: from resolv.conf, from Windows' settings, or from the environment."""

from __future__ import annotations

import ipaddress
import os

from salt_mirror.dns.questions import Server

VARIABLE = "SALT_MIRROR_RESOLVERS"
"""Names resolvers in place of the system's: addresses, or address:port, separated by commas."""


def system_resolvers() -> tuple[Server, ...]:
    """The system's resolvers in their order; empty when it has none. Raises ValueError for a malformed variable."""
    wanted = os.environ.get(VARIABLE)
    if wanted is not None:
        return tuple(_resolver(text.strip()) for text in wanted.split(",") if text.strip())
    import dns.exception
    import dns.resolver

    try:
        found = dns.resolver.Resolver(configure=True)
    except (dns.exception.DNSException, OSError):
        return ()
    servers = []
    for nameserver in found.nameservers:
        try:
            address = ipaddress.ip_address(str(nameserver).partition("%")[0]).packed
        except ValueError:
            continue
        servers.append(Server(f"system resolver {nameserver}", address, found.port))
    return tuple(servers)


def _resolver(text: str) -> Server:
    try:
        address, port = parse_endpoint(text)
    except ValueError:
        raise ValueError(f'{VARIABLE}: "{text}" is no resolver; expected an address, or address:port') from None
    return Server(f"resolver {text}", address, port)


def parse_endpoint(text: str) -> tuple[bytes, int]:
    """Reads `address`, `address:port` or `[address]:port` into packed bytes and a port, 53 by default. Raises ValueError."""
    host, port = text, "53"
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        port = rest.removeprefix(":") or port
        if rest and not rest.startswith(":"):
            raise ValueError(text)
    elif text.count(":") == 1:
        host, port = text.split(":")
    if not (port.isascii() and port.isdigit() and 0 < int(port) < 65536):
        raise ValueError(text)
    return ipaddress.ip_address(host).packed, int(port)

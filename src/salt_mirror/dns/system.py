"""The resolvers that this computer itself uses: from resolv.conf, from Windows' settings, or from the environment."""

from __future__ import annotations

import ipaddress
import os
import socket
from collections.abc import Callable
from urllib.parse import urlsplit

from salt_mirror.dns.errors import Unusable, number_in
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.questions import Server, shown_url

DNS_PORT = 53
TLS_PORT = 853
Reached = Callable[[bytes, int], tuple[bytes, int]]
"""Where a published address and port are reached from here."""

VARIABLE = "SALT_MIRROR_RESOLVERS"
"""Names resolvers in place of the system's: addresses, or address:port, separated by commas."""


def are_named() -> bool:
    """Return whether the resolvers are named by the variable, so that the system is not asked."""
    return os.environ.get(VARIABLE) is not None


def system_resolvers() -> tuple[Server, ...]:
    """Return the system's resolvers in their order; empty when it has none. Raises Unusable for a malformed variable."""
    wanted = os.environ.get(VARIABLE)
    if wanted is not None:
        return tuple(_resolver(text.strip()) for text in wanted.split(",") if text.strip())
    import dns.exception
    import dns.resolver

    try:
        resolver = dns.resolver.Resolver(configure=True)
    except (dns.exception.DNSException, OSError):
        return ()
    servers = []
    for nameserver in resolver.nameservers:
        try:
            address = ipaddress.ip_address(str(nameserver).partition("%")[0]).packed
        except ValueError:
            continue
        servers.append(paced(Server(f"system resolver {nameserver}", address, resolver.port)))
    return tuple(servers)


def search_list() -> list[Name]:
    """Return the suffixes that this computer completes short names with; none where the resolvers were named by the
    variable."""
    if are_named():
        return []
    import dns.exception
    import dns.resolver

    try:
        resolver = dns.resolver.Resolver(configure=True)
    except (dns.exception.DNSException, OSError):
        return []
    return [suffix.to_digestable() for suffix in (*resolver.search, resolver.domain) if len(suffix) > 1]


def addresses_of(host: str) -> list[bytes]:
    """Return the packed addresses that this computer knows for a host; none where it finds none."""
    try:
        found = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        return []
    return list(dict.fromkeys(ipaddress.ip_address(str(place[0]).partition("%")[0]).packed for *_, place in found))


def _resolver(text: str) -> Server:
    try:
        return paced(parse_server(text, f"resolver {text}"))
    except ValueError:
        raise Unusable(f"{VARIABLE}: {shown(text)} is no resolver; expected an address, or address:port") from None


DEFAULT_PACE = 200.0
"""Questions a second for a server that nobody has set a pace for, unless it is an authority of the estate or on loopback."""


def paced(server: Server, pace: float | None = None) -> Server:
    """Return the server with a pace set: the given one, or the default for a stranger's; none on loopback."""
    if pace is not None:
        server.pace = pace
    elif server.pace is None and not server.on_loopback:
        server.pace = DEFAULT_PACE
    return server


def parse_server(text: str, label: str, reached: Reached | None = None) -> Server:
    """Read a server: `address`, `address:port`, `tcp://address[:port]`, `tls://address[:port][#name]` or `https://host/path`.

    Raises ValueError.
    A name behind `#` is the one that the TLS certificate must have (RFC 8310); without it that is the address.
    """
    reached = reached or (lambda address, port: (address, port))
    if text.startswith("https://"):
        parts = urlsplit(text)
        if not parts.hostname or parts.username is not None or not 0 < (parts.port or 443) < 65536:
            raise ValueError(text)
        called = shown_url(text) if label == text else label
        return Server(called, b"", parts.port or 443, over="https", url=text)
    if text.startswith("tcp://"):
        return Server(label, *reached(*parse_endpoint(text.removeprefix("tcp://"))), over="tcp")
    if text.startswith("tls://"):
        place, _, name = text.removeprefix("tls://").partition("#")
        address, port = parse_endpoint(place, TLS_PORT)
        if name:
            from_text(name)
        return Server(label, *reached(address, port), over="tls", tls_name=name)
    return Server(label, *reached(*parse_endpoint(text)))


def parse_endpoint(text: str, default_port: int = DNS_PORT) -> tuple[bytes, int]:
    """Read `address`, `address:port` or `[address]:port` into packed bytes and a port. Raises ValueError."""
    host, port = text, str(default_port)
    if text.startswith("["):
        host, closing, rest = text[1:].partition("]")
        port = rest.removeprefix(":") or port
        if not closing or (rest and not rest.startswith(":")):
            raise ValueError(text)
    elif text.count(":") == 1:
        host, port = text.split(":")
    number = number_in(port, 65535)
    if not number:
        raise ValueError(text)
    return ipaddress.ip_address(host).packed, number

"""The forms in which people write addresses, networks, ranges and domains: each taken for the one thing that it can mean.

Strategy: a form that means different things to different people is refused, with what would be right, before anything is asked.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from urllib.parse import urlsplit

from salt_mirror.dns.names import Name, from_text, label_text, labels, shown
from salt_mirror.dns.reverse import Network, network_zone
from salt_mirror.estate.errors import BadInput

_STARS = re.compile(r"((?:\d{1,3}\.){1,3})\*(?:\.\*){0,2}\Z")
_RANGE = re.compile(r"((?:\d{1,3}\.){3})(\d{1,3})-(?:((?:\d{1,3}\.){3}))?(\d{1,3})\Z")
_PART = re.compile(r"(?:\d{1,3}\.){1,2}\d{1,3}\.?\Z")


def address_in(text: str) -> bytes | None:
    """Return the packed address that a text is; None for anything else."""
    try:
        return ipaddress.ip_address(text).packed
    except ValueError:
        return None


def network_in(text: str) -> Network | None:
    """Return the network that a text is, such as 10.77.20.0/24 or 10.77.20.*; None for anything else. Raises BadInput for what
    looks like one and has several meanings."""
    match = _STARS.match(text)
    if match is not None:
        octets = match[1].rstrip(".").split(".")
        if len(octets) + text.count("*") <= 4:
            text = ".".join([*octets, *["0"] * (4 - len(octets))]) + f"/{8 * len(octets)}"
    elif _PART.match(text):
        octets = text.rstrip(".").split(".")
        right = ".".join([*octets, *["0"] * (4 - len(octets))]) + f"/{8 * len(octets)}"
        raise BadInput(f"{shown(text)} is a part of an address; for the network write {right}")
    if not re.match(r"[\da-fA-F:.]+/", text) or not re.match(r"\d|[^/]*:", text):
        return None
    if re.match(r"\d+/\d+\.\d", text):  # a zone of RFC 2317, such as 0/26.2.0.192.in-addr.arpa
        return None
    network = parse_network(text)
    if network is None:
        raise BadInput(f"{shown(text)} is no network; expected one such as 10.77.20.0/24")
    return network


def range_in(text: str) -> list[bytes] | None:
    """Return the addresses of a range such as 10.77.20.1-50; None for anything else. Raises BadInput for one that is none."""
    match = _RANGE.match(text)
    if match is None:
        return None
    first, last = address_in(match[1] + match[2]), address_in((match[3] or match[1]) + match[4])
    if first is None or last is None or first > last:
        raise BadInput(f"{shown(text)} is no range of addresses; expected one such as 10.77.20.1-50")
    start, end = int.from_bytes(first, "big"), int.from_bytes(last, "big")
    if end - start >= 1 << 16:
        raise BadInput(f"{shown(text)} has {end - start + 1:,} addresses; write a network for so many")
    return [number.to_bytes(4, "big") for number in range(start, end + 1)]


def check_name(text: str) -> None:
    """Raise BadInput for what is no name and look like something else that people type."""
    if text.startswith("@"):
        raise BadInput(f"{shown(text)} is no name; a server to ask is named with --at {text[1:] or 'SERVER'}")
    if "://" in text:
        host = re.split(r"[/:?#]", text.partition("://")[2])[0]
        raise BadInput(
            f"{shown(text)} is an address on the web; write the host's name, {host or 'such as www.example'}"
        )
    user, at, domain = text.partition("@")
    if at and user and domain:
        raise BadInput(f"{shown(text)} is a mailbox; write its domain, {domain}")
    network_in(text)


def domain_in(text: str) -> Name:
    """Return a domain as somebody typed it. Raises Unusable, also for the name of a service or an address."""
    check_name(text)
    if address_in(text) is not None or range_in(text) is not None:
        raise BadInput(f"{shown(text)} is an address, and a domain or a zone is wanted")
    name = from_text(text)
    parts = labels(name)
    if len(parts) > 2 and parts[0].startswith(b"_") and parts[1] in (b"_tcp", b"_udp"):
        service = f"{label_text(parts[0])}.{label_text(parts[1])}"
        rest = text.split(".", 2)[2]
        raise BadInput(f"{shown(text)} is a service, and a domain is wanted: services {rest} --service {service}")
    return name


def zone_name(text: str) -> Name:
    """Return a zone's name, or the name of the reverse zone of a network. Raises Unusable."""
    network = network_in(text)
    if network is not None:
        return zone_of_network(network)
    if address_in(text) is not None or range_in(text) is not None:
        raise BadInput(f"{shown(text)} is an address, and a zone or a network is wanted")
    check_name(text)
    return from_text(text)


def zone_of_network(network: Network) -> Name:
    """Return the reverse zone of a network. Raises BadInput for one that ends at no label."""
    try:
        return network_zone(network)
    except ValueError as error:
        raise BadInput(str(error)) from None


def parse_network(text: str) -> Network | None:
    """Read a network such as 10.77.20.0/24; None for what is none. Raises BadInput when host bits are set."""
    try:
        return ipaddress.ip_network(text, strict=True)
    except ValueError as error:
        if "host bits" in str(error):
            right = ipaddress.ip_network(text, strict=False)
            raise BadInput(f"{shown(text)} has host bits set; the network is {right}") from None
        return None


def check_url(text: str) -> None:
    """Raise BadInput for what is no URL of a directory."""
    parts = urlsplit(text)
    try:
        sound = parts.scheme in ("ldap", "ldaps") and parts.hostname and parts.username is None and parts.port != 0
    except ValueError:
        sound = False
    if not sound or parts.path.strip("/") or parts.query:
        raise BadInput(f"{shown(text)} is no directory; expected one such as ldaps://dc-north.pans.gullmarsh.internal")


class Networks:
    """The zones in which the hosts of networks have their names, the longest network first."""

    def __init__(self, zones: Mapping[str, str] | None = None) -> None:
        """`zones` may be empty for a network. Raises BadInput for what is no network, and Unusable for what is no zone."""
        found: list[tuple[Network, Name]] = []
        for text, zone in (zones or {}).items():
            try:
                network = ipaddress.ip_network(text)
            except ValueError:
                raise BadInput(f"networks: {shown(text)} is no network; expected one such as 10.77.20.0/24") from None
            if zone:
                found.append((network, from_text(zone)))
        self._zones = sorted(found, key=lambda one: -one[0].prefixlen)

    def zone_at(self, address: bytes) -> Name | None:
        """Return the zone of the smallest network that holds an address; None where no network does."""
        where = ipaddress.ip_address(address)
        return next((zone for network, zone in self._zones if where in network), None)

"""An old network and the new one: which address, network or name becomes which, in records and in texts.

Strategy: pure arithmetic on addresses; a text is looked through for whole addresses and networks, and nothing else in it is
touched.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Collection
from typing import NamedTuple

from salt_mirror.dns.names import from_text, shown, to_text
from salt_mirror.dns.records import character_strings
from salt_mirror.dns.reverse import Network, address_of, address_text, in_network, reverse_name
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.forms import address_in, network_in
from salt_mirror.findings import Finding

MOST_ADDRESSES = 1 << 16
TOKEN = re.compile(r"(?<![\d.])\d{1,3}(?:\.\d{1,3}){3}(?:/\d{1,2})?(?![\d.])")
_REVERSED = re.compile(r"(?<![\d.])\d{1,3}(?:\.\d{1,3}){3}\.in-addr\.arpa", re.IGNORECASE)


class Renumbering(NamedTuple):
    """An old network and the new one, of the same size, or of IPv6 beside it."""

    old: ipaddress.IPv4Network
    new: Network

    @property
    def beside(self) -> bool:
        """Whether the new addresses stand beside the old ones, and do not take their place."""
        return self.new.version == 6

    def moved(self, address: bytes) -> bytes | None:
        """Return the new address of a host in the old network; None for any other. In IPv6 the last number is written with the
        same digits: 10.77.20.12 has the host part ::12."""
        if len(address) != 4 or not in_network(self.old, address):
            return None
        offset = int.from_bytes(address, "big") - int(self.old.network_address)
        if self.beside:
            offset = int(str(offset), 16)
        return (int(self.new.network_address) + offset).to_bytes(len(self.new.network_address.packed), "big")

    def known_as(self, finding: Finding) -> tuple[str, ...]:
        """Return a finding's identity with the old address in the place of the new one: what was wrong before is not new with
        another address."""
        code, view, name, rdtype, address, server = finding.identity
        return code, view, self._back_name(name), rdtype, self._back_text(address), server

    def _back_name(self, name: str) -> str:
        address = address_of(from_text(name)) if name.endswith(".arpa.") else None
        old = self._back(address) if address is not None else None
        return to_text(reverse_name(old)) if old is not None else name

    def _back_text(self, text: str) -> str:
        packed = address_in(text) if text else None
        old = self._back(packed) if packed is not None else None
        return address_text(old) if old is not None else text

    def _back(self, address: bytes) -> bytes | None:
        """Return the address that a new one had before; None for any other, and where both are there."""
        if self.beside or len(address) != 4 or not in_network(self.new, address):
            return None
        offset = int.from_bytes(address, "big") - int(self.new.network_address)
        return (int(self.old.network_address) + offset).to_bytes(4, "big")

    def moved_network(self, network: ipaddress.IPv4Network) -> Network | None:
        """Return the new network in the place of a part of the old one."""
        if not network.subnet_of(self.old):
            return None
        if network == self.old:
            return self.new
        if self.beside:
            return None
        shift = int(network.network_address) - int(self.old.network_address)
        return ipaddress.ip_network((int(self.new.network_address) + shift, network.prefixlen))

    def moved_text(self, token: str) -> str | None:
        """Return an address or a network in a text as it will be; None where it is none of the old network."""
        try:
            network = ipaddress.IPv4Network(token, strict=False)
        except ValueError:
            return None
        if "/" not in token:
            packed = self.moved(network.network_address.packed)
            return str(ipaddress.ip_address(packed)) if packed is not None else None
        new = self.moved_network(network)
        return str(new) if new is not None else None

    def text_value(self, value: bytes, only: Collection[str] | None = None) -> bytes:
        """Return the rdata of a TXT record with every address and network of the old network as it will be, or with `only` some
        addresses."""

        def moved(match: re.Match[str]) -> str:
            return (self.moved_text(match[0]) if only is None or match[0] in only else None) or match[0]

        text = text_of(value)
        new = TOKEN.sub(moved, text)
        return value_of(new) if new != text else value

    def with_both(self, value: bytes) -> bytes:
        """Return an SPF record that allows the old and the new; any other text as it is."""
        text = text_of(value)
        if not text.lower().startswith("v=spf1"):
            return value
        words: list[str] = []
        for word in text.split(" "):
            words.append(word)
            head, colon, token = word.partition(":")
            if colon and head.lower().lstrip("+?~-") == "ip4" and (new := self.moved_text(token)) is not None:
                added = f"{head[:-1]}6:{new}" if self.beside else f"{head}:{new}"
                words += [added] if added not in text.split(" ") else []
        return value_of(" ".join(words))

    def rewritten(self, line: str) -> str:
        """Return a line of a list with every address, network and reverse name of the old network as it will be."""

        def reverse(match: re.Match[str]) -> str:
            address = address_of(from_text(match[0]))
            moved = self.moved(address) if address is not None else None
            return to_text(reverse_name(moved)).rstrip(".") if moved is not None else match[0]

        def forward(match: re.Match[str]) -> str:
            return self.moved_text(match[0]) or match[0]

        return TOKEN.sub(forward, _REVERSED.sub(reverse, line))


def renumbering_in(text: str) -> Renumbering:
    """Read OLD=NEW. Raises BadInput."""
    old_text, equals, new_text = text.partition("=")
    old, new = (network_in(part.strip()) for part in (old_text, new_text)) if equals else (None, None)
    if old is None or new is None:
        raise BadInput(
            f"--renumber: {shown(text)} is no OLD=NEW; expected networks such as 10.77.20.0/24=10.88.20.0/24"
        )
    if not isinstance(old, ipaddress.IPv4Network):
        raise BadInput(f"--renumber: {old} is IPv6; what is renumbered is IPv4 (to IPv4, or with IPv6 beside it)")
    if old.num_addresses > MOST_ADDRESSES:
        raise BadInput(f"--renumber: {old} has {old.num_addresses:,} addresses; at most {MOST_ADDRESSES:,} in one job")
    if new.version == 4 and old.prefixlen != new.prefixlen:
        raise BadInput(f"--renumber: {old} and {new} differ in size; expected two networks of one size")
    if new.version == 4 and old.overlaps(new):
        raise BadInput(f"--renumber: {old} and {new} overlap")
    if new.version == 6 and (old.prefixlen < 24 or new.prefixlen > 112):
        raise BadInput(
            f"--renumber: {old} has no place in {new} digit by digit; expected at most a /24, and at least a /112"
        )
    return Renumbering(old, new)


def text_of(value: bytes) -> str:
    """Return the text of a TXT record, its strings joined (RFC 7208 section 3.3); empty where it is none."""
    try:
        return b"".join(character_strings(value)).decode("latin-1")
    except ValueError:
        return ""


def value_of(text: str) -> bytes:
    """Return a text as the rdata of a TXT record, in strings of at most 255 bytes."""
    raw = text.encode("latin-1")
    pieces = [raw[at : at + 255] for at in range(0, len(raw), 255)] or [b""]
    return b"".join(bytes((len(piece),)) + piece for piece in pieces)

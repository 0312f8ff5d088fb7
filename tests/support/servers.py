"""Servers as the engine sees them, the zones that every kind of server holds in the tests, and one question to one of them."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import trustme

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Key, Question, Server
from salt_mirror.dns.records import A
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.standin.server import StandIn

ORIGIN = from_text("gullmarsh.example")
KEY = Key(from_text("mirror.test"), "hmac-sha256", b"salt and water and salt and sun!")
BIG = 90  # more than a datagram holds, and no more than BIND takes
HEAD = "$TTL 300\n@ SOA ns1.gullmarsh.example. h.gullmarsh.example. 7 3600 600 86400 300\n@ NS ns1.gullmarsh.example.\n"
ZONES = {
    "gullmarsh.example": HEAD
    + """ns1 A 192.0.2.1
web A 192.0.2.2
web A 192.0.2.3
web MX 10 Mail.Gullmarsh.Example.
*.w A 192.0.2.9
deep.empty A 192.0.2.10
a CNAME b
b CNAME c
c CNAME web
text TXT "two" "strings"
Mixed.Case AAAA 2001:db8::1
"""
    + "".join(f"big A 10.0.0.{number}\n" for number in range(BIG)),
    "2.0.192.in-addr.arpa": HEAD + "2 PTR web.gullmarsh.example.\n10 CNAME 10.0/26\n0/26 NS ns1.gullmarsh.example.\n",
    "0/26.2.0.192.in-addr.arpa": HEAD + "10 PTR shop.gullmarsh.example.\n",
}


class Certified(NamedTuple):
    """A certificate for 127.0.0.1 and dns.gullmarsh.example: files with the authority's, the chain and the private key."""

    ca: Path
    chain: Path
    key: Path

    @classmethod
    def made_in(cls, folder: Path) -> Certified:
        """One by an authority of its own."""
        found, authority = cls(folder / "ca.pem", folder / "chain.pem", folder / "key.pem"), trustme.CA()
        ours = authority.issue_cert("127.0.0.1", "dns.gullmarsh.example")
        authority.cert_pem.write_to_path(found.ca)
        ours.private_key_pem.write_to_path(found.key)
        for number, blob in enumerate(ours.cert_chain_pems):
            blob.write_to_path(found.chain, append=number > 0)
        return found


def server_of(standin: StandIn, label: str = "standin") -> Server:
    """The stand-in as the engine sees it."""
    packed = bytes(map(int, standin.host.split("."))) if "." in standin.host else bytes(15) + b"\x01"
    return Server(label, packed, standin.port)


def ask(server: Server, name: str, rdtype: int = A) -> Answer:
    with Engine(timeout_s=1.0) as engine:
        engine.submit(Question(from_text(name, ORIGIN), rdtype, server))
        (answer,) = engine.collect()
        return answer

"""Gullmarsh's world: its zone files, its servers on loopback, and the estate that describes them.

Strategy: the scenario is data (`scenario/`): zone files as most servers hold them, `plantings.toml` with the differences
and every finding they must lead to. Here it is written out, a copy of each zone for each server, and served by stand-ins.
"""

from __future__ import annotations

import base64
import re
import secrets
import time
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from typing import Any

import dns.name
import dns.rdatatype
import dns.tsig
import dns.zone

from salt_mirror.demo.lists import write_lists
from salt_mirror.standin.authority import read_zone, shared_zone
from salt_mirror.standin.cache import Cache
from salt_mirror.standin.server import Fault, StandIn, StandIns
from salt_mirror.standin.signing import key_from, sign_zone

_SCENARIO = files("salt_mirror.demo") / "scenario"

_INTERNAL = {
    "pans.gullmarsh.internal": "pans.gullmarsh.internal.zone",
    "10.77.10.in-addr.arpa": "10.77.10.in-addr.arpa.zone",
    "20.77.10.in-addr.arpa": "20.77.10.in-addr.arpa.zone",
    "30.77.10.in-addr.arpa": "30.77.10.in-addr.arpa.zone",
    "20.88.10.in-addr.arpa": "20.88.10.in-addr.arpa.zone",
    "7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa": "7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa.zone",
    "gullmarsh.example": "gullmarsh.example.inside.zone",
}
_PUBLIC = {
    "gullmarsh.example": "gullmarsh.example.zone",
    "2.0.192.in-addr.arpa": "2.0.192.in-addr.arpa.zone",
    "0/26.2.0.192.in-addr.arpa": "0-26.2.0.192.in-addr.arpa.zone",
    "100.51.198.in-addr.arpa": "100.51.198.in-addr.arpa.zone",
    "saltshop.example": "saltshop.example.zone",
    "saltway.example": "saltway.example.zone",
}
_TOP = {"example": "example.zone"}
SERVERS: dict[str, dict[str, str]] = {
    "dc-north": _INTERNAL,
    "dc-kiln": _INTERNAL,
    "dc-harbour": {"30.77.10.in-addr.arpa": "30.77.10.in-addr.arpa.zone"},
    "ns1": _PUBLIC,
    "ns2": _PUBLIC | {"30.77.10.in-addr.arpa": "30.77.10.in-addr.arpa.zone"},
    "harbour-office": _PUBLIC | _INTERNAL | _TOP,
    "ns3": {"gullmarsh.example": "gullmarsh.example.zone"},
    "ns-old": {},
    "ns2-before": {},
    "top-a": _TOP,
    "top-b": _TOP,
    "root-a": {".": "root.zone"},
    "root-b": {".": "root.zone"},
}
"""Which server holds which zones (by origin, with the scenario's file), resolvers too."""

SPEED = 240.0
"""In the caches of this world time goes by so many times as fast: an hour in fifteen seconds."""

CACHES: dict[str, dict[str, Any]] = {
    "north-office": {"empty_zones": False},
    "kiln-office": {"most_ttl": 1800},
    "quay-branch": {"members": 3},
    "isp-one": {"peeking": False},
    "isp-two": {"stale_s": 900, "made_up": "203.0.113.80"},
}
"""Caches before the public servers, each with its ways."""

PRIMARIES = {"dc-north": ("dc-kiln", "dc-harbour", "harbour-office"), "ns1": ("ns2",)}
"""The servers that take changes of their zones, each with those that have them a little later. What the provider's secondary
has, nobody knows to transfer."""

_KEY = dns.name.from_text("mirror")

SIGNED = frozenset((".", "example", "saltshop.example", "saltway.example"))
"""The zones that are signed when the world is made, with keys that are always the same."""
_SIGNED_S = 14 * 86_400
_SIGNED_BEFORE_S = 2 * 86_400

RESOLVERS = frozenset(("harbour-office",))
_RECORDS = (
    "pans.zone", "leases.csv", "services.csv", "harbour.zone", "inside.zone", "public.zone", "shop.zone", "way.zone",
    "kilns.txt",
)  # fmt: skip
_COMPUTER = ("hosts", "hostname", "nsswitch.conf", "resolv.conf")
"""What was captured on a counter of the harbour office."""
_FIRST_PORT = 5301


def plantings() -> dict[str, Any]:
    """Return the list of everything that is wrong on purpose."""
    return tomllib.loads(_read("plantings.toml"))


def _read(name: str) -> str:
    return (_SCENARIO / name).read_text(encoding="utf-8")


@contextmanager
def gullmarsh(folder: Path, *, speed: float = SPEED) -> Iterator[tuple[Path, dict[str, StandIn]]]:
    """Write the world into a folder, start its servers, and give the estate's path and the servers by label.

    `speed` is how many times as fast time goes by in its caches. Raises OSError when the folder cannot be written.
    """
    planted = plantings()
    for name in _RECORDS:
        _write(folder / "records" / name, _read(f"records/{name}"))
    for name in _COMPUTER:
        _write(folder / "computer" / "etc" / name, _read(f"computer/etc/{name}"))
    now = int(time.time())
    with StandIns() as standins:
        servers: dict[str, StandIn] = {}
        for port, (label, zones) in enumerate(SERVERS.items(), _FIRST_PORT):
            held = []
            for origin, source in zones.items():
                text = _amended(_read(f"zones/{source}"), label, origin, planted["differences"])
                path = folder / "servers" / label / source
                _write(path, text)
                zone = shared_zone(text, origin)
                held.append(_signed(zone, label, origin, planted, now) if origin in SIGNED else zone)
            servers[label] = _start(standins, held, port, recursive=label in RESOLVERS)
        behind = [servers[label].authority for label in ("ns1", "ns2", "top-a", "root-a")]
        for port, (label, ways) in enumerate(CACHES.items(), _FIRST_PORT + len(SERVERS)):
            cache = Cache(behind, lambda: time.monotonic() * speed, **ways)
            servers[label] = _start(standins, [], port, recursive=True, cache=cache)
        _export(folder, servers["dc-north"], planted)
        _propose(folder)
        _take_changes(folder, servers)
        for entry in planted["misbehaving"]:
            servers[entry["server"]].fault = Fault[entry["fault"]]
        estate = folder / "estate.toml"
        _write(estate, _filled(_read("estate.toml"), servers))
        yield estate, servers


def _signed(zone: dns.zone.Zone, label: str, origin: str, planted: dict[str, Any], now: int) -> dns.zone.Zone:
    """Return a server's copy of a zone, signed two days ago for two weeks, unless it was planted that it has ended."""
    ended = next((o["ended_days"] for o in planted["signatures"] if (o["server"], o["zone"]) == (label, origin)), None)
    end = now - 86_400 * ended if ended is not None else now - _SIGNED_BEFORE_S + _SIGNED_S
    apex = f"{origin.rstrip('.')}."
    keys = [key_from(f"{apex} entry"), key_from(f"{apex} zone", entry=False)]
    return sign_zone(zone, keys, inception=end - _SIGNED_S, expiration=end)


def _take_changes(folder: Path, servers: dict[str, StandIn]) -> None:
    """Have the primaries take changes that are signed with the key of the estate, and the secondaries follow them."""
    secret = secrets.token_bytes(32)
    path = folder / "mirror.key"
    path.write_text(base64.b64encode(secret).decode("ascii") + "\n", encoding="utf-8")
    path.chmod(0o600)
    for label, followers in PRIMARIES.items():
        primary = servers[label]
        primary.keys[_KEY] = dns.tsig.Key(_KEY, secret, dns.tsig.HMAC_SHA256)
        primary.updates = "signed"
        primary.followers = [servers[one] for one in followers]
        primary.follow_s = 0.5


PROPOSED = (("kiln-03      A    10.77.20.13", "oven-03      A    10.77.20.13"), ("2026112301", "2026113001"))
"""What somebody proposes for the zone of the pans: a better name for a kiln, and the serial raised."""


def _propose(folder: Path) -> None:
    """Write the file that somebody would load: the primary's own with an innocent edit."""
    name = "pans.gullmarsh.internal.zone"
    text = (folder / "servers" / "dc-north" / name).read_text(encoding="utf-8")
    for old, new in PROPOSED:
        assert old in text
        text = text.replace(old, new)
    _write(folder / "proposed" / "pans.zone", text)


def _export(folder: Path, server: StandIn, planted: dict[str, Any]) -> None:
    """Write what the directory server would export, with age marks, and the address server's leases: a year of history."""
    origin = dns.name.from_text("pans.gullmarsh.internal")
    now = datetime.now(UTC)
    hours = int((now - datetime(1601, 1, 1, tzinfo=UTC)).total_seconds() // 3600)
    told = {(one["name"], one.get("value", "")): one["days"] for one in planted["ages"]}
    leased = {line.split(",")[0] for line in _read("records/leases.csv").splitlines()[1:]}
    lines = ["$ORIGIN pans.gullmarsh.internal."]
    for number, (name, rdataset) in enumerate(sorted(server.authority.zones[origin].iterate_rdatasets(), key=_order)):
        label = str(name.relativize(origin))
        for rdata in rdataset:
            days = told.get((label, str(rdata)), told.get((label, "")))
            if days is None and label in leased and rdataset.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
                days = number * 5 % 13 + 1
            mark = f"[AGE:{hours - 24 * days}] " if days is not None else ""
            lines.append(f"{label} {mark}{rdataset.ttl} {dns.rdatatype.to_text(rdataset.rdtype)} {rdata}")
    _write(folder / "exports" / "pans.zone", "\n".join(lines) + "\n")
    rows = ["address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state"]
    for one in planted["leases"]:
        ends = int(now.timestamp()) + 86_400 * one["ends"]
        rows.append(f"{one['address']},,,86400,{ends},1,1,1,{one['host']}.pans.gullmarsh.internal,0")
    _write(folder / "exports" / "leases.csv", "\n".join(rows) + "\n")
    write_lists(folder / "exports", server.authority.zones[origin])


def _order(found: tuple[dns.name.Name, Any]) -> tuple[dns.name.Name, int]:
    name, rdataset = found
    return name, int(rdataset.rdtype)


def _start(standins: StandIns, zones: list[Any], port: int, *, recursive: bool, cache: Cache | None = None) -> StandIn:
    """On its usual port, so that what people have noted stays true; on a free one where that is taken."""
    try:
        return standins.add(zones, port=port, recursive=recursive, cache=cache)
    except OSError:
        return standins.add(zones, recursive=recursive, cache=cache)


def fill_caches(servers: dict[str, StandIn], name: str, rdtype: str) -> None:
    """Have a record cached everywhere, as users do: here some minutes ago, there just now."""
    for number, label in enumerate(CACHES):
        cache = servers[label].cache
        if cache is not None:
            cache.keep(name, rdtype, [400.0 * number, 60.0, 1100.0])


def change(server: StandIn, zone: str, *lines: tuple[str, str]) -> None:
    """Put texts in the place of others in a zone of a running server, with the serial raised."""
    origin = dns.name.from_text(zone)
    text = _read(f"zones/{zone}.zone")
    for old, new in lines:
        text = text.replace(old, new)
    changed = read_zone(text, zone)
    soa = changed.get_rdataset(origin, "SOA", create=True)
    held = server.authority.zones[origin].get_rdataset(origin, "SOA")
    assert soa is not None and held is not None
    soa.add(held[0].replace(serial=held[0].serial + 1))
    server.authority.hold(changed)


def _amended(text: str, server: str, zone: str, differences: list[dict[str, str]]) -> str:
    for difference in differences:
        if difference["server"] == server and difference["zone"] == zone:
            lines = text.splitlines()
            place = lines.index(difference["without"])
            lines[place : place + 1] = [difference["put_in"]] if "put_in" in difference else []
            text = "\n".join(lines) + "\n"
    return text


def _filled(text: str, servers: dict[str, StandIn]) -> str:
    def value(match: re.Match[str]) -> str:
        server = servers[match[1]]
        return server.host if match[2] == "address" else str(server.port)

    return re.sub(r"\{([a-z0-9-]+)\.(address|port)\}", value, text)


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, encoding="utf-8", newline="\n")

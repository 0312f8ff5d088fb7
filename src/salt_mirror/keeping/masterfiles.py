"""A master file that somebody keeps by hand, written anew with a plan carried out on it.

Strategy: dnspython reads and writes the zone. Comments, directives and the order of the lines are lost by that, which is told;
the serial is raised in the way in which the file counts: by days, by seconds since 1970, or one by one.
"""

from __future__ import annotations

import re
import time
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

import dns.exception
import dns.name
import dns.rdataset
import dns.rdatatype
import dns.zone

from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.checks.wording import many
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.update import rdataset_of
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.reading import read_text

_DAYS = re.compile(r"(19|20)\d\d(0[1-9]|1[0-2])(0[1-9]|[12]\d|3[01])\d\d\Z")
_A_YEAR_S = 400 * 86_400


class Rewritten(NamedTuple):
    """The new text, what has to be told of it, and the sets whose records in the file are not what they were judged by."""

    text: str
    remarks: list[str]
    others: list[PlannedSet]


def rewritten(path: Path, zone: Name, sets: Iterable[PlannedSet], now: float | None = None) -> Rewritten:
    """The master file with some sets as they are to be. A set that the file has otherwise is left. Raises BadInput."""
    text = read_text(path)
    origin = dns.name.from_wire(zone, 0)[0]
    try:
        held = dns.zone.from_text(text, origin=origin, relativize=False, allow_include=False)
    except (dns.exception.DNSException, ValueError) as error:
        raise BadInput.at(path, None, f"cannot be read as the zone {to_text(zone)}: {error}") from None
    others: list[PlannedSet] = []
    done = 0
    for one in sets:
        name, kind = dns.name.from_wire(one.key.name, 0)[0], dns.rdatatype.RdataType.make(one.key.rdtype)
        there = held.get_rdataset(name, kind)
        values = frozenset(rdata.to_digestable() for rdata in there) if there is not None else frozenset()
        if values != one.before:
            others.append(one)
            continue
        done += 1
        held.delete_rdataset(name, kind)
        if one.after:
            held.replace_rdataset(name, rdataset_of(one.key.rdtype, one.after, one.ttl_after or 0))
    remarks = []
    if done:
        soa = held.get_rdataset(origin, dns.rdatatype.SOA)
        assert soa is not None
        before = soa[0].serial
        serial, how = next_serial(before, now if now is not None else time.time())
        held.replace_rdataset(origin, dns.rdataset.from_rdata(soa.ttl, soa[0].replace(serial=serial)))
        remarks.append(f"serial {before} -> {serial} ({how})")
    comments = sum(";" in re.sub(r'"(?:[^"\\]|\\.)*"', "", line) for line in text.splitlines())
    if comments:
        remarks.append(f"{many(comments, 'line')} with comments could not be kept")
    return Rewritten(_text(held), remarks, others)


def _text(zone: dns.zone.Zone) -> str:
    """A zone as a master file: its SOA first, since some servers want it there, then the names in order."""
    assert zone.origin is not None
    soa = zone.get_rdataset(zone.origin, dns.rdatatype.SOA)
    assert soa is not None
    first = f"@ {soa.to_text(None, zone.origin, True)}"
    zone.delete_rdataset(zone.origin, dns.rdatatype.SOA)
    rest = zone.to_text(sorted=True, relativize=True, want_origin=False)
    return f"$ORIGIN {zone.origin}\n{first}\n{rest}"


def next_serial(serial: int, now: float) -> tuple[int, str]:
    """The next serial in the way in which a file counts, and which that is (RFC 1912 section 2.2 for dates)."""
    today = int(datetime.fromtimestamp(now, UTC).strftime("%Y%m%d")) * 100
    if _DAYS.match(str(serial)):
        return max(today + 1, serial + 1), "by date"
    if abs(serial - now) < _A_YEAR_S and serial > 1_000_000_000:
        return max(int(now), serial + 1), "by the clock"
    return (serial + 1) & 0xFFFFFFFF or 1, "one by one"

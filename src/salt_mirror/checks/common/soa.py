"""The SOA, field by field: what it says, what is out of bounds, and what the timers add up to.

Strategy: the bounds are those of RFC 1912 section 2.2 and RFC 2308 section 5, each judged by what it does to users. Pure
arithmetic over one record; the moment of judging is handed in.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

import msgspec

from salt_mirror.checks.common.wording import duration, mailbox
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import Soa
from salt_mirror.dns.serials import serial_date, serial_moment

HOUR, DAY, WEEK = 3600, 86_400, 604_800


class SoaField(msgspec.Struct, frozen=True, kw_only=True):
    """One field of the SOA: its value, the same as people read it, and a judgement where it is out of bounds."""

    field: str
    value: str
    reads: str = ""
    judgement: str = ""


class Judgement(NamedTuple):
    """What is wrong with a timer: the field, the code of the finding, the text, the seconds that would be right."""

    field: str
    code: str
    text: str
    right: int


def judge(soa: Soa, *, secondaries: bool = True) -> Iterator[Judgement]:
    """Return what is out of bounds. Without secondaries (each server its own primary, or one server) refresh, retry and expire
    matter to nobody, and are not judged."""
    if secondaries:
        if soa.expire < soa.refresh + soa.retry:
            yield Judgement(
                "expire",
                "auth.expire-short",
                f"expire ({duration(soa.expire)}) is under refresh and retry together ({duration(soa.refresh + soa.retry)}): "
                "one refresh that fails, and the secondaries stop answering (RFC 1912 section 2.2)",
                2 * WEEK,
            )
        elif soa.expire < WEEK:
            yield Judgement(
                "expire",
                "auth.timer",
                f"expire is {duration(soa.expire)}: secondaries stop answering when the primary is gone for a long weekend; "
                "RFC 1912 section 2.2 advises 2 to 4 weeks",
                2 * WEEK,
            )
        if soa.retry >= soa.refresh:
            yield Judgement(
                "retry",
                "auth.timer",
                f"retry ({duration(soa.retry)}) is not under refresh ({duration(soa.refresh)}): a failed refresh is repeated "
                "no sooner than the next one is due",
                max(60, soa.refresh // 4),
            )
        if soa.refresh > DAY:
            yield Judgement(
                "refresh",
                "auth.timer",
                f"refresh is {duration(soa.refresh)}: so long a secondary may be behind when a notify is lost",
                2 * HOUR,
            )
    if soa.minimum >= DAY:
        yield Judgement(
            "minimum",
            "auth.timer",
            f"the negative TTL is {duration(soa.minimum)}: a negative cache entry outlives the repair by as much; RFC 2308 "
            "section 5 advises 1 to 3 hours",
            HOUR,
        )


def fields(soa: Soa, ttl: int | None, now: datetime, judgements: list[Judgement]) -> list[SoaField]:
    """Return the fields as they are shown; `ttl` is the SOA's own in seconds."""
    said = {judgement.field: judgement.text for judgement in judgements}
    shown = [
        SoaField(field="primary", value=to_text(soa.mname)),
        SoaField(field="mailbox", value=to_text(soa.rname), reads=mailbox(soa.rname)),
        SoaField(field="serial", value=str(soa.serial), reads=_serial(soa.serial, now)),
    ]
    for field in ("refresh", "retry", "expire"):
        seconds = getattr(soa, field)
        shown.append(SoaField(field=field, value=str(seconds), reads=duration(seconds), judgement=said.get(field, "")))
    negative = negative_ttl(soa, ttl)
    capped = f", since the SOA's own TTL is below its minimum of {soa.minimum}" if negative < soa.minimum else ""
    reads = f"{duration(negative)}: NXDOMAIN and NODATA are cached so long{capped} (RFC 2308)"
    return [
        *shown,
        SoaField(field="negative TTL", value=str(negative), reads=reads, judgement=said.get("minimum", "")),
    ]


def negative_ttl(soa: Soa, ttl: int | None) -> int:
    """Return how long a cache keeps a "no", in seconds: the smaller of the SOA's TTL and its minimum (RFC 2308 section 5)."""
    return soa.minimum if ttl is None else min(ttl, soa.minimum)


def _serial(serial: int, now: datetime) -> str:
    dated = serial_date(serial)
    if dated is not None:
        day, number = dated
        future = ", a day that has not come yet" if day > now.date() else ""
        return f"{day.isoformat()}, change {number} of that day{future}"
    moment = serial_moment(serial, now)
    return f"{moment:%Y-%m-%d %H:%M:%S} UTC, as seconds since 1970" if moment is not None else ""


def sums(soa: Soa) -> list[str]:
    """Return what the timers add up to for the secondaries."""
    from_ = max(0, soa.expire - soa.refresh)
    return [
        f"A change is on every secondary within {duration(soa.refresh)} when a notify is lost "
        f"({duration(soa.refresh + soa.retry)} when one refresh fails too).",
        f"With the primary gone, secondaries stop answering after {duration(from_)} to {duration(soa.expire)}.",
    ]

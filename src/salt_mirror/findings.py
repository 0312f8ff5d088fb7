"""Findings: what a check states, how much it weighs, and the catalogue of codes.

Strategy: a finding is plain data that every report can show without asking a check again: what was expected, what each
server said, why that matters, and the line that would mend it. What a code means stands here once, in the catalogue.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import msgspec

Outcome = Literal["agrees", "differs", "unverified"]
Weight = Literal["fault", "caution", "note"]

_RANK: dict[Outcome, int] = {"agrees": 0, "unverified": 1, "differs": 2}


def worse(one: Outcome, other: Outcome) -> Outcome:
    """The outcome that says more: a difference over a doubt, a doubt over agreement."""
    return one if _RANK[one] >= _RANK[other] else other


class Evidence(msgspec.Struct, frozen=True, kw_only=True):
    """What one server said to one question, or why it said nothing. TTL in seconds, round-trip time in milliseconds.

    `over` is what brought it: udp, tcp, tls, https, or a transfer of the whole zone.
    """

    server: str
    endpoint: str
    question: str
    status: str
    authoritative: bool
    values: list[str]
    ttl: int | None
    rtt_ms: float | None
    over: str = "udp"
    trouble: str | None = None


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """One statement about one subject. Names are absolute; `remedy` is a line in master-file syntax, or empty.

    `cause` is the same text for findings that one cause explains, such as a server that does not answer.
    """

    code: str
    weight: Weight
    outcome: Outcome
    name: str
    type: str
    view: str
    expected: list[str]
    evidence: list[Evidence]
    text: str
    remedy: str = ""
    address: str | None = None
    cause: str = ""


class Code(NamedTuple):
    """What a code stands for: its weight, a title for lists, and what it means to users."""

    weight: Weight
    title: str
    meaning: str


CATALOGUE: dict[str, Code] = {
    "pair.no-pointer": Code(
        "fault", "no pointer", "The address has no PTR record: services that look back see a number, or turn it away."
    ),
    "pair.stale-pointer": Code(
        "fault", "stale pointer", "The pointer names a host that has other addresses: logs and checks blame that host."
    ),
    "pair.orphan-pointer": Code(
        "fault", "pointer to a name without address", "The pointer's name exists and has no address of this family."
    ),
    "pair.lost-pointer": Code(
        "fault", "pointer to a name that does not exist", "The pointer was left behind when its name was removed."
    ),
    "pair.missing-dot": Code(
        "fault", "final dot missing", "The target was written without its final dot, so the zone was added to it."
    ),
    "pair.servers-disagree": Code(
        "fault", "servers disagree", "Authoritative servers of one zone give different answers: users get either."
    ),
    "pair.no-address": Code("fault", "no address", "The name does not exist, or has neither A nor AAAA."),
    "pair.other-address": Code(
        "fault",
        "not the expected address",
        "The name is registered, but not at an address that the estate expects of it.",
    ),
    "pair.many-pointers": Code(
        "caution", "several pointers", "One address has several PTR records: which one a program sees is chance."
    ),
    "pair.alias-target": Code(
        "caution",
        "pointer to an alias",
        "A pointer should name the canonical name, not an alias (RFC 2181 section 10.2).",
    ),
    "pair.shared": Code(
        "note", "shared address", "Several names share the address; its pointer names one that leads back."
    ),
    "pair.through-alias": Code(
        "note", "judged at the canonical name", "The name is an alias of the one that was judged."
    ),
    "roll.servers-disagree": Code(
        "fault",
        "servers disagree",
        "The record is right on some authoritative servers and not on others: users get either.",
    ),
    "roll.missing-name": Code("fault", "no such name", "The expected name is registered on no authoritative server."),
    "roll.missing-type": Code(
        "fault", "name without this type", "The name is registered, without records of this type."
    ),
    "roll.different": Code(
        "fault", "different value", "The name is registered with other values than the expected ones."
    ),
    "roll.extra": Code(
        "fault", "more than expected", "Beside the expected values there are others, and none should be."
    ),
    "roll.alias": Code("fault", "an alias in its place", "An alias stands where the record itself was expected."),
    "roll.still-there": Code("fault", "still there", "A record that must be gone is still registered."),
    "roll.other-ttl": Code("caution", "other TTL", "The record is right, with another TTL than expected."),
    "roll.wildcard": Code(
        "caution", "only through a wildcard", "The record is not registered: a wildcard answers for it."
    ),
    "roll.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
    "pair.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
}
"""Every code that a check may use."""

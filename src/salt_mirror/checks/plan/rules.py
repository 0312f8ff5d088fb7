"""The rules by which a plan is made, in the words in which `explain plan` tells them."""

from __future__ import annotations

from typing import NamedTuple


class Rule(NamedTuple):
    """One rule: what it is about, and what it says."""

    about: str
    says: str


RULES = (
    Rule(
        "one set",
        "All changes to one view, zone, name and type become one resulting set, read from the zone's primary.",
    ),
    Rule(
        "who counts",
        "What the estate expects counts over what is registered; a directory's locators count over what is registered; "
        "forward counts over reverse, so that a pointer follows its address. What the estate expects is kept whoever "
        "proposes otherwise.",
    ),
    Rule(
        "expected sets",
        "A set that lacks an expected value becomes the expected set whole, since what stands there has taken its place. "
        "Values beside the expected ones stay, unless the set is expected exactly so, or they must be absent.",
    ),
    Rule(
        "pointers",
        "An address needs one pointer. Where the estate expects one it is that; of several hosts that have the address, "
        "one that the estate expects is named, else the first by name.",
    ),
    Rule(
        "aliases",
        "An address set comes in the place of an alias, or an alias in the place of addresses, never beside it.",
    ),
    Rule(
        "TTLs",
        "As expected, else as the set is registered, else what is usual among the sets of the zone.",
    ),
    Rule(
        "decisions",
        "Where two repairs are right (the host is gone: remove its pointer; it was forgotten: register it), a person "
        "decides: --choose remove|register for all, or a line such as `remove rake-19.*` in a --decisions file. "
        "Undecided, nothing is planned. A set on which servers differ without any version that counts is such a choice "
        "too.",
    ),
    Rule(
        "not ours",
        "The SOA and the NS set at the top of a zone, the parent's delegation and glue, a lagging secondary, a lame "
        "server, and zones that are not in the estate are advice, never a change.",
    ),
    Rule(
        "proof",
        "The same checks judge the answers in hand with the plan laid over them, as they will be once every server "
        "follows its primary. What a repair brings with it is planned too. A set that would cause a new fault is left "
        "out, with the reason.",
    ),
    Rule(
        "sending",
        "One message a zone over TCP (RFC 2136), parted between names alone, forward zones first; each set has to be what "
        "it was judged by (prerequisites). What somebody changed meanwhile is left, with the pointers that lean on it, "
        "and the rest of its zone is sent. More than 100 changes, or more than 25 that are over 5 % of a zone's names, "
        "need --at-most N.",
    ),
    Rule(
        "going back",
        "Before the first message every set is written down as it was. mend --back FILE looks at what servers hold now "
        "and restores each set that still is what it was changed to; anything else is somebody's, and is left.",
    ),
)

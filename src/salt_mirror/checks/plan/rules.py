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
        "A set gains the expected values that it lacks. An address, alias or pointer that has taken the place of an expected "
        "one "
        "goes; where there are more than are listed, and in sets that several hands fill (TXT, MX, SRV, CAA and others), all "
        "others stay, unless the set is expected exactly so, or they must be absent. Two lists that say different things of "
        "one "
        "host contradict each other: nothing of it is planned before one is chosen.",
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
        "too. A choice settles what was found at first, and nothing that comes to light on the way. What the estate expects "
        "of the "
        "host at the other end decides by itself: expected there, it is registered; expected gone, the record goes.",
    ),
    Rule(
        "not ours",
        "The SOA and the NS set at the top of a zone, the parent's delegation and glue, a lagging secondary, a lame "
        "server, and zones that are not in the estate are advice, never a change.",
    ),
    Rule(
        "proof",
        "The same checks judge the answers in hand with the plan laid over them, as they will be once every server "
        "follows its primary. What a repair brings with it is planned too. A set is left out, with the reason, "
        "for a new fault about the same view and record that would not be there without it; never one that brings what the "
        "estate expects. Caches have no say: they follow by themselves.",
    ),
    Rule(
        "sending",
        "Messages over TCP (RFC 2136), split only between names: across all zones what others lean on first, then what "
        "leans on "
        "it, and what only goes at last; each set has to be what "
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

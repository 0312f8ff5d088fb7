"""The rules by which a plan is made, in the words in which `explain plan` gives them, with an example for each."""

from __future__ import annotations

from typing import NamedTuple

from salt_mirror.findings import Precedence

PRECEDENCE: dict[Precedence, int] = {
    "registered": 0,
    "forward": 1,
    "directory": 2,
    "expected": 3,
}
"""Which proposals count for more where two checks propose different values for one set: the higher number. A value that a
proposal of a higher precedence has added or removed stays so, whatever one of a lower precedence proposes later."""


class PlanRule(NamedTuple):
    """One rule: what it is about, what it says, and an example."""

    about: str
    says: str
    example: str


RULES = (
    PlanRule(
        "one set",
        "All changes to one view, zone, name and type become one resulting record set, read from the zone's primary.",
        "rake-05 is expected at 10.77.10.15 and registered at 10.77.10.45: rollcall and pairs both report it, and the "
        "plan has one set: - A 10.77.10.45, + A 10.77.10.15.",
    ),
    PlanRule(
        "precedence",
        "Expected over registered, a directory's locators over registered, forward over reverse. What the estate "
        "expects is kept whatever a check proposes.",
        "rake-05 moves to 10.77.10.15: its PTR record follows the address, and not the address the PTR record.",
    ),
    PlanRule(
        "expected sets",
        "A set gets the expected values that it lacks. An address, alias or PTR record that has taken the place of an "
        "expected one is removed. Where there are more values than are listed, and in sets that several people fill "
        "(TXT, MX, SRV, CAA and others), the others stay, unless the list says exact or absent.",
        'gullmarsh.example TXT "v=spf1 -all" is expected and missing, and a verification is there: the plan adds '
        "the one and leaves the other.",
    ),
    PlanRule(
        "contradictions",
        "Two lists that give one host different values contradict each other. Nothing of that host is planned before "
        "one of the lists is corrected.",
        "hosts.zone, line 2, has h2 A 10.77.20.2, and leases.csv, line 5, has h2 A 10.77.20.70: both are shown, and "
        "h2 stays.",
    ),
    PlanRule(
        "PTR records",
        "An address gets one PTR record. Where the estate expects one it is that one. Of several hosts at the "
        "address, one that the estate expects there is named, else the first by name.",
        "kiln-02 is expected at 10.77.20.12, and old-kiln is registered there too: 12.20.77.10.in-addr.arpa. PTR "
        "kiln-02.",
    ),
    PlanRule(
        "aliases",
        "Addresses take the place of an alias, or an alias the place of addresses. They are never at one name "
        "(RFC 1034 section 3.6.2).",
        "rake-eight is an alias, and TXT is expected there: the alias is removed, and the TXT record added.",
    ),
    PlanRule(
        "TTLs",
        "As expected, else as the set is registered, else the most frequent one of the expected sets that are "
        "registered in the zone, else that of its NS set.",
        "kiln-07 is new, and the other hosts of the list have 3600 s: so has kiln-07.",
    ),
    PlanRule(
        "decisions",
        "Where two repairs are right, a person decides: --choose remove, register or no-mail for all, or lines in a "
        "--decisions file. Without a decision nothing is planned. A decision settles only what was found at first. "
        "What the estate expects of the host at the other end decides by itself.",
        "10.77.10.97 has a PTR record to rake-19, which does not exist: `remove rake-19.*` removes the PTR record, "
        "`register rake-19.*` adds the address.",
    ),
    PlanRule(
        "not ours",
        "The SOA and NS set of a zone, the parent's delegation and glue, a secondary that lags, what was not "
        "replicated, a lame server, and zones that are not in the estate get advice, never a change.",
        "dc-north has sluice as expected, and dc-kiln does not, both with one serial: raise the serial, or force a "
        "transfer.",
    ),
    PlanRule(
        "proof",
        "The checks judge the answers in hand again with the plan laid over them: what it touches, and what leans on "
        "that. What a repair brings with it is planned too. A set is refused for a new fault about the same view and "
        "record that would not be there without it. A set that brings what the estate expects is never refused. "
        "Caches have no say.",
        "tasting is expected in the public view and missing there: it is added, although the internal view lacks it "
        "too. That is shown beside it, as what to decide next.",
    ),
    PlanRule(
        "sending",
        "Dynamic updates over TCP (RFC 2136), each set with its state before as a prerequisite. Addresses and texts "
        "of all zones go first, then what leads to them (MX, SRV, CNAME, PTR), and removals last. What leads to a "
        "host that was refused is held back. A message that a policy refuses is split down to the name. More than 100 "
        "changes, or more than 25 that are over 5 % of a zone's names, need --at-most N.",
        "mail2 gets its address before the MX set names it. If the server refuses the address, the MX set stays as it "
        "is.",
    ),
    PlanRule(
        "approved plans",
        "--write makes a file with a digest, who made it, and with --valid until when it may be sent. --plan sends it "
        "exactly, or says why not: altered, expired, or changed since.",
        "kiln-07 was registered with another address since: nothing of the approved plan is sent, and the set is named.",
    ),
    PlanRule(
        "going back",
        "Before the first message every set is written down as it was, and then what came of each message. mend "
        "--back FILE restores what that run changed, as long as it still is what it was changed to. What a server "
        "refused is not touched.",
        "Of 12 sets 10 were changed and 2 refused: the way back restores 10. One that somebody has changed since is "
        "left.",
    ),
)

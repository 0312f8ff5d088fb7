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
    "auth.no-zone": Code("fault", "no such zone", "No server knows the name: it was mistyped, or never set up."),
    "auth.not-apex": Code(
        "fault", "no zone of its own", "The name stands inside another zone, whose authority counts."
    ),
    "auth.lame": Code(
        "fault",
        "lame server",
        "A server that is listed for the zone answers, but not with authority: every user sent there waits or fails.",
    ),
    "auth.no-udp": Code(
        "fault", "no answer over UDP", "Nearly every question comes over UDP, and gets no answer there."
    ),
    "auth.serial-behind": Code(
        "fault", "behind", "The server has an older version of the zone: users who ask it get old records."
    ),
    "auth.serial-ahead": Code(
        "fault",
        "ahead of the primary",
        "The secondary has a later serial than the primary and will take no change from it.",
    ),
    "auth.serials-unordered": Code(
        "fault", "serials without order", "The serials stand half the number circle apart: neither counts as newer."
    ),
    "auth.edited-apart": Code(
        "fault", "edited apart", "Servers have one serial and different content: no transfer will ever mend that."
    ),
    "auth.expire-short": Code(
        "fault", "expire too short", "Secondaries drop the zone after a single refresh that fails."
    ),
    "auth.not-delegated": Code(
        "fault", "not delegated", "The parent does not send anybody to the zone: it cannot be found from outside."
    ),
    "auth.parents-disagree": Code(
        "fault", "parent servers disagree", "The parent's servers send people to different name servers."
    ),
    "auth.parent-extra": Code(
        "fault", "parent lists more", "The parent sends people to a server that the zone itself does not list."
    ),
    "auth.parent-lacks": Code(
        "caution", "parent lists fewer", "The zone lists a server that the parent does not send anybody to."
    ),
    "auth.ns-disagree": Code(
        "fault", "NS sets disagree", "The zone's servers list different name servers under one serial."
    ),
    "auth.ns-alias": Code(
        "fault", "name server is an alias", "A name server must not be an alias (RFC 2181 section 10.3)."
    ),
    "auth.ns-no-address": Code(
        "fault", "name server without address", "Nobody can ask a name server without an address."
    ),
    "auth.private-address": Code(
        "fault", "private address in a public view", "Nobody outside can reach the address that they are sent to."
    ),
    "auth.glue-wrong": Code(
        "fault", "wrong glue", "The parent gives out an address that the name server does not have (any more)."
    ),
    "auth.glue-missing": Code(
        "fault", "glue missing", "The name server stands in the zone itself, and the parent does not give its address."
    ),
    "auth.glue-partial": Code("note", "glue incomplete", "The parent gives some of a name server's addresses."),
    "auth.no-tcp": Code("caution", "no answer over TCP", "Answers that do not fit a datagram are lost (RFC 7766)."),
    "auth.open-recursion": Code(
        "caution",
        "recursion offered",
        "An authoritative server that also looks up names for others can be misused and misled.",
    ),
    "auth.open-transfer": Code(
        "caution", "zone handed to anyone", "Whoever asks gets a list of every host in the zone."
    ),
    "auth.timer": Code("caution", "timer out of bounds", "One of the SOA's times is outside what is advised."),
    "auth.few-servers": Code("caution", "one name server", "With its only server down the zone is gone."),
    "auth.one-network": Code(
        "caution", "all in one network", "One broken link takes all name servers away (RFC 2182)."
    ),
    "auth.not-in-estate": Code(
        "caution", "server unknown to the estate", "The server answers users, and nothing else checks its records."
    ),
    "auth.unlisted": Code(
        "note", "server in no NS set", "The server has the zone, and no resolver is ever sent to it."
    ),
    "auth.hidden-primary": Code(
        "note", "hidden primary", "The primary is not among the name servers, on purpose or not."
    ),
    "auth.several-primaries": Code(
        "note", "several primaries", "Each server is a primary; they replicate by other means."
    ),
    "auth.no-parent": Code("note", "no parent", "No zone above delegates this one, as is right for an internal zone."),
    "auth.other-view": Code("note", "delegated in another view", "The parent leads to the servers of another view."),
    "auth.shared-parent": Code(
        "note", "parent on the same servers", "The delegation is hidden behind the zone itself."
    ),
    "auth.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
    "mail.no-such-domain": Code("fault", "no such domain", "Nobody can send mail to a domain that does not exist."),
    "mail.none": Code("fault", "no way for mail", "The domain has neither MX nor address: mail to it is returned."),
    "mail.servers-disagree": Code(
        "fault", "MX sets disagree", "Mail goes here or there, by the server that was asked."
    ),
    "mail.literal": Code(
        "fault", "an address as exchanger", "An exchanger has to be a host name; senders cannot look this up."
    ),
    "mail.alias": Code(
        "fault", "exchanger is an alias", "An exchanger must not be an alias; some senders turn away from one."
    ),
    "mail.missing-host": Code(
        "fault", "exchanger does not exist", "Senders cannot find the host that should take the mail."
    ),
    "mail.no-address": Code(
        "fault", "exchanger without address", "Senders find the host, and no address to connect to."
    ),
    "mail.host-disagrees": Code(
        "fault", "exchanger's addresses disagree", "Senders connect here or there, by the server asked."
    ),
    "mail.private-address": Code(
        "fault", "private address in a public view", "Nobody outside can connect to the exchanger."
    ),
    "mail.null-not-alone": Code(
        "fault", "null MX not alone", "The domain says that it takes no mail, and where to send it."
    ),
    "mail.implicit": Code(
        "caution", "implicit MX", "Without an MX record mail goes to the domain's own address, wanted or not."
    ),
    "mail.null": Code("note", "takes no mail", "A null MX says that the domain takes no mail (RFC 7505)."),
    "mail.below-apex": Code(
        "note", "mail of a name below the apex", "Each name's mail is its own; the apex's MX does not count."
    ),
    "mail.cached-other": Code("note", "not there yet", "A resolver still has the set from before a change."),
    "mail.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
    "srv.missing": Code("fault", "no such service", "Clients look for the service there and find nothing."),
    "srv.servers-disagree": Code(
        "fault", "servers disagree", "Clients find this or that, by the server that was asked."
    ),
    "srv.literal": Code(
        "fault", "an address as target", "A target has to be a host name; clients cannot look this up."
    ),
    "srv.alias": Code(
        "fault", "target is an alias", "A target must not be an alias (RFC 2782); some clients turn away from one."
    ),
    "srv.missing-host": Code("fault", "target does not exist", "Clients that pick this target find nothing."),
    "srv.no-address": Code("fault", "target without address", "Clients find the host, and no address to connect to."),
    "srv.host-disagrees": Code(
        "fault", "target's addresses disagree", "Clients connect here or there, by the server asked."
    ),
    "srv.private-address": Code(
        "fault", "private address in a public view", "Nobody outside can connect to the target."
    ),
    "srv.port": Code("fault", "port 0", "Nothing can be connected to at port 0."),
    "srv.dot-not-alone": Code(
        "fault", "no such service, and others", "The set says that there is no service, and where it is."
    ),
    "srv.unavailable": Code(
        "note", "decidedly not available", "The set says that there is no such service (RFC 2782)."
    ),
    "srv.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
    "dir.not-registered": Code(
        "fault",
        "not registered in full",
        "Clients and other controllers do not find the controller where they look for it.",
    ),
    "dir.servers-disagree": Code(
        "fault",
        "registered on some servers alone",
        "Whether the controller is found hangs on the server that was asked.",
    ),
    "dir.no-controller": Code("fault", "no controller", "No record leads to a controller: nobody can log on."),
    "dir.leftover": Code(
        "fault", "left behind", "Records lead to a host that is no controller: clients try it in vain."
    ),
    "dir.other-host": Code(
        "fault", "address of another host", "Who connects by the domain's name reaches another host."
    ),
    "dir.two-primaries": Code(
        "fault", "two primary controllers", "Clients disagree on who takes password changes and the time."
    ),
    "dir.no-primary": Code(
        "fault", "no primary controller", "Nobody is found for urgent password changes and the time."
    ),
    "dir.subzone-lame": Code(
        "fault", "_msdcs is lame", "The zone through which controllers are found is served by nobody."
    ),
    "dir.site-uncovered": Code("caution", "site without controller", "Its clients log on anywhere, however far away."),
    "dir.found": Code(
        "note", "controllers as found", "The controllers were taken from the records that are being checked."
    ),
    "dir.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
    "settle.not-yet": Code("fault", "not settled", "Users of this vantage still see the state from before the change."),
    "settle.holds-on": Code(
        "caution", "holds on", "The cache gives entries out after their end: no TTL says when it lets go."
    ),
    "settle.longer-ttl": Code("caution", "keeps longer", "The cache keeps entries longer than the servers allow."),
    "settle.pool": Code(
        "note", "a pool of caches", "Several caches answer at one address: users see one state or another."
    ),
    "settle.not-asked": Code(
        "note", "not asked yet", "Caches are left alone until every authoritative server has the change."
    ),
    "settle.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
    ),
    "cmp.added": Code("caution", "added", "A record set is there that was not there before."),
    "cmp.gone": Code("caution", "gone", "A record set was there before, and is not any more."),
    "cmp.changed": Code("caution", "changed", "A record set has other values than before."),
    "cmp.ttl": Code("note", "other TTL", "The values are the same, and the TTL is another."),
    "cmp.not-done": Code("fault", "planned and not done", "What was planned does not stand on every server."),
    "cmp.unplanned": Code("fault", "done and not planned", "Something changed that nobody had planned to change."),
    "cmp.done": Code("note", "as planned", "What was planned stands on every server."),
    "cmp.unverified": Code(
        "note",
        "could not be compared",
        "A server gave no usable answer at one of the two times: nothing is known, nothing is accused.",
    ),
    "accept.expired": Code("caution", "acceptance expired", "The day until which findings were accepted is over."),
    "accept.unused": Code("caution", "acceptance without use", "Nothing is found any more that was to be accepted."),
    "cut.lame": Code(
        "fault", "lame server on the way", "A resolver that is sent there has to try another, and users wait."
    ),
    "cut.parts": Code("fault", "servers part ways", "Servers of one zone send people to different places below it."),
    "cut.answers-differ": Code(
        "fault", "answers differ", "Servers of one zone give different answers: users get either."
    ),
    "cut.glue-wrong": Code("fault", "wrong glue on the way", "The zone above gives out an address that is not right."),
    "cut.needs-itself": Code(
        "fault",
        "delegation needs itself",
        "To find the name server one would have to ask the very zone that it serves.",
    ),
    "cut.no-address": Code("fault", "name server without address", "Nobody can ask a name server without an address."),
    "cut.alias-loop": Code("fault", "aliases without end", "The aliases never come to a record that is no alias."),
    "cut.dead-end": Code(
        "fault", "dead end", "Not one server of the zone on the way serves it: nothing below can be found."
    ),
    "cut.no-such-name": Code("fault", "no such name", "The way leads to servers that know no such name."),
    "cut.no-such-type": Code("fault", "name without this type", "The name exists, without records of this type."),
    "cut.unverified": Code(
        "note",
        "could not be verified",
        "A server that has to be asked gave no usable answer: nothing is known, nothing is accused.",
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

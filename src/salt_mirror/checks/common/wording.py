"""How findings are worded: what every check does when it has something to say, once.

Strategy: a finding is made from its parts: the weight comes from the catalogue, the outcome from the weight, the evidence from
the answers. Beside that stands how things are said that every check has to say: times, numbers of things, lists, who said
what, and who was silent.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime

import msgspec

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.common.lookup import Lookup, Telling, evidence_of
from salt_mirror.dns.names import Name, label_text, labels, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import type_text
from salt_mirror.dns.reverse import address_text
from salt_mirror.findings import Change, Choice, Evidence, Finding, Outcome

_DOTS = re.compile(r"\.\.(?=[ ;,:]|$)")
_UNITS = (("d", 86_400), ("h", 3600), ("min", 60), ("s", 1))


def state(
    code: str,
    text: str,
    *,
    name: Name,
    rdtype: int,
    view: str = "",
    answers: Iterable[Answer | None] = (),
    evidence: Iterable[Evidence] = (),
    expected: Iterable[str] = (),
    changes: Sequence[Change] = (),
    choices: Sequence[Choice] = (),
    advice: str = "",
    outcome: Outcome | None = None,
    cause: str = "",
    address: bytes | None = None,
    server: Server | Name | None = None,
    stands_at: Name | None = None,
) -> Finding:
    """Return the finding of a code about one name. A fault differs and anything else agrees, unless an `outcome` is given.

    What mends it are `changes`, or `choices` for a person, or `advice` where it is not ours to change: what the catalogue says
    of a fault, where there is no other. `stands_at` owns the record that has to be mended, where that is another name; `server`
    is the one that is meant, a name server or a host by its name, where a code may be told of several at one name.
    """
    from salt_mirror.checks.common.proposing import fate_of_advice, remedy_of

    entry = catalogue()[code]
    weight = entry.weight
    ours = bool(changes or choices or advice) or weight != "fault" or outcome == "unverified"
    return Finding(
        code=code,
        weight=weight,
        outcome=outcome or ("differs" if weight == "fault" else "agrees"),
        name=to_text(name),
        type=type_text(rdtype),
        view=view,
        expected=list(expected),
        evidence=[*(evidence_of(answer) for answer in answers if answer is not None), *evidence],
        text=_DOTS.sub(".", text),  # an absolute name at the end of a sentence
        remedy=remedy_of(changes, choices, advice),
        fate="" if changes else "choice" if choices else fate_of_advice(code) if advice else "",
        changes=list(changes),
        choices=list(choices),
        advice=advice if ours else entry.mend,
        address=address_text(address) if address is not None else None,
        cause=cause,
        server=msgspec.UNSET if server is None else to_text(server) if isinstance(server, bytes) else server.endpoint,
        stands_at=to_text(stands_at) if stands_at is not None and stands_at != name else msgspec.UNSET,
    )


def answers_of(looked_up: Lookup) -> list[Answer]:
    """Return every answer on the way to a name and at it."""
    return [answer for telling in (*looked_up.trail, *looked_up.tellings) for answer in telling.answers]


# Who said what, and who said nothing


def labels_of(servers: Iterable[Server]) -> str:
    """Servers, one after the other."""
    return ", ".join(server.label for server in servers)


def who_says_what(tellings: Sequence[Telling], text_of: Callable[[bytes], str]) -> str:
    """Return what each server says, one after the other: `dc-north: 192.0.2.1; dc-kiln: none`."""
    return "; ".join(f"{one.server.label}: {', '.join(map(text_of, one.values)) or 'none'}" for one in tellings)


def no_word_of(server: Server, trouble: str | None) -> str:
    """Return why a server gave no usable answer, with the place where it was asked: the same text for all that it explains."""
    return f"{server.label} ({server.endpoint}): {trouble}"


def silence_of(tellings: Iterable[Telling]) -> str:
    """Return why some servers gave no usable answer, one after the other."""
    return "; ".join(dict.fromkeys(no_word_of(one.server, one.trouble) for one in tellings))


def troubles_of(looked_up: Lookup) -> str:
    """Return why nothing usable is known of a name, or not from every server."""
    return silence_of(looked_up.unverified) or f"no server to ask: {looked_up.trouble}"


# How things are said


def together_said(words: Iterable[str]) -> str:
    """Return words as people list them: `a, b and c`."""
    found = list(words)
    return found[0] if len(found) == 1 else ", ".join(found[:-1]) + " and " + found[-1] if found else ""


def many(number: int, one: str, several: str | None = None) -> str:
    """Return a number of things: `1 zone`, `2,000 zones`."""
    return f"{number:,} {one if number == 1 else several or one + 's'}"


def local_moment(moment: datetime, form: str = "%Y-%m-%d %H:%M") -> str:
    """Return an aware moment in local time with its offset from UTC, such as `2026-11-28 14:30 +01:00`; UTC is called that."""
    here = moment.astimezone()
    offset = f"{here:%z}"
    return f"{here:{form}} " + ("UTC" if offset == "+0000" else f"{offset[:3]}:{offset[3:5]}")


def duration(seconds: int) -> str:
    """Seconds as people say them, such as `1 d 2 h` or `15 min`; at most two units."""
    parts = []
    for unit, size in _UNITS:
        number, seconds = divmod(seconds, size)
        if number:
            parts.append(f"{number} {unit}")
    return " ".join(parts[:2]) or "0 s"


def rounded(seconds: int) -> str:
    """Return a time as people say it of days and hours: seconds do not count beside these."""
    grain = 3600 if seconds >= 86_400 else 60 if seconds >= 3600 else 1
    return duration(seconds // grain * grain)


def moment_from(now: float, apart: int) -> str:
    """Return the moment so many seconds from another one (in seconds since 1970), in local time."""
    return local_moment(datetime.fromtimestamp(now + apart, UTC))


def mailbox(rname: Name) -> str:
    """Return the mailbox of an SOA as an e-mail address: the first label stands before the @ (RFC 1035 section 8)."""
    parts = labels(rname)
    if len(parts) < 2:
        return to_text(rname)
    user = label_text(parts[0]).replace("\\.", ".")
    return f"{user}@{to_text(rname[rname[0] + 1 :]).rstrip('.')}"

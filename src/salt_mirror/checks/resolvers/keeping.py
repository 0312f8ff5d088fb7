"""How long a resolver keeps what it got, and whether one or several answer behind its address.

Strategy: a name that nobody has was asked for by nobody before, so that what is left of its "no" is all that the resolver ever
gives it; an entry that has more left than its zone gives has been lengthened; entries of several TTLs that have the same left
were cut to it. The same question put again tells whether all that answer there say the same.
"""

from __future__ import annotations

from collections.abc import Iterator

from salt_mirror.checks.common.lookup import Lookup
from salt_mirror.checks.common.test_tree import Judged, row
from salt_mirror.checks.common.wording import duration
from salt_mirror.checks.resolvers.asking import ResolverSeen, ThroughIt
from salt_mirror.checks.resolvers.wording import ResolverWords
from salt_mirror.dns.names import Name, is_within
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import SOA, soa_fields

GRAIN_S = 2
"""So many seconds may go by between two looks without being a difference."""
_MANY = 3


def keeping_tests(seen: ResolverSeen, reached: set[Name], words: ResolverWords) -> Iterator[Judged]:
    """Return the tests of what it keeps, and of who answers; `reached` are the zones that are its own servers' through it."""
    names = [one for one in seen.names if one.found is not None and one.found.authority.zone in reached]
    longer = [one for one in names if _lengthened(one)]
    says, findings = [], []
    if longer:
        findings.append(words.keeps_longer([(one, whole_ttl(one.found)) for one in longer if one.found is not None]))
        says.append("longer than the zone says")
    kept = _no_kept(seen) if seen.zones and seen.zones[0][0].apex in reached else None
    if kept is not None:
        given, whole = kept
        if given > whole + GRAIN_S and not longer:
            findings.append(words.keeps_no_longer(given, whole))
            says.append(f"NXDOMAIN for {duration(given)}, and the zone says {duration(whole)}")
        elif given < whole - GRAIN_S:
            findings.append(
                words.caps(f"NXDOMAIN for at most {duration(given)}, where the zone says {duration(whole)}")
            )
            says.append(f"NXDOMAIN for at most {duration(given)}")
    cap = _cut_to(names)
    if cap is not None:
        findings.append(words.caps(f"entries for at most {duration(cap)}, whatever their zones say"))
        says.append(f"entries for at most {duration(cap)}")
    if names or kept is not None:
        yield row("TTLs", "; ".join(says) or "not exceeded", findings)
    if seen.again:
        first = [seen.names[0].answer, *seen.again]
        said = {(one.status, one.values) for one in first if one.trouble is None}
        settled = _settled(seen.names[0].found)
        if len(said) > 1 and settled:
            yield row(
                "consistency", f"{len(said)} different answers in {len(first)} tries", [words.pool_differs(first)]
            )
        elif said:
            yield row("consistency", f"the same answers in {len(first)} tries", [])


def _settled(looked_up: Lookup | None) -> bool:
    """Return whether a name's own servers say the same."""
    return looked_up is not None and not looked_up.unverified and len({one.values for one in looked_up.usable}) == 1


def whole_ttl(looked_up: Lookup | None) -> int:
    """Return the longest time that a name's own servers give its records, in seconds."""
    return max((t.answers[0].ttl or 0 for t in looked_up.usable if t.values), default=0) if looked_up is not None else 0


def _lengthened(through: ThroughIt) -> bool:
    """Return whether an entry has more left than its zone gives."""
    answer, whole = through.answer, whole_ttl(through.found)
    if answer.trouble is not None or not answer.values or answer.authoritative or not whole or answer.ttl is None:
        return False
    return (
        _settled(through.found)
        and answer.values == (through.found.values if through.found else ())
        and answer.ttl > whole + GRAIN_S
    )


def _no_kept(seen: ResolverSeen) -> tuple[int, int] | None:
    """Return how long a "no" is kept that was new to the resolver, and how long its zone says (RFC 2308 section 5)."""
    for through in seen.nobody:
        answer = through.answer
        if through.found is None or answer.trouble is not None or answer.values or answer.authoritative:
            continue
        given = _denial_ttl(answer)
        soas = seen.zones[0][1].found
        wholes = [
            min(telling.answers[0].ttl or 0, soa_fields(value).minimum)
            for telling in (soas.usable if soas is not None else ())
            for value in telling.values
        ]
        if given is not None and wholes and not any(telling.exists for telling in through.found.usable):
            return given, max(wholes)
    return None


def _denial_ttl(answer: Answer) -> int | None:
    for record in answer.sections.authority:
        if record.rdtype == SOA and is_within(answer.question.name, record.owner):
            return min(record.ttl, int.from_bytes(record.rdata[-4:], "big"))
    return None


def _cut_to(names: list[ThroughIt]) -> int | None:
    """Return the time that entries of several TTLs all have left: what the resolver cuts them to."""
    left: dict[int, set[int]] = {}
    for through in names:
        whole, ttl = whole_ttl(through.found), through.answer.ttl
        if (
            through.answer.trouble is None
            and through.answer.values
            and not through.answer.authoritative
            and ttl is not None
        ):
            if ttl >= whole - GRAIN_S:
                return None  # one that was not cut
            left.setdefault(ttl, set()).add(whole)
    near = [ttl for ttl in left if all(abs(ttl - other) < GRAIN_S for other in left)]
    wholes = {whole for group in left.values() for whole in group}
    answered = sum(one.answer.trouble is None and bool(one.answer.values) for one in names)
    return max(left) if left and len(near) == len(left) and len(wholes) > 1 and answered >= _MANY else None

"""What would mend a finding, as changes to record sets: how checks propose them, and how a remedy is said.

Strategy: a check names the set, the values that have to be there or to go, and by whose right; the remedy's text is made from
that alone, so that it can say nothing else. What a person has to choose, and what is not ours, stands there as a comment.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Any

from salt_mirror.catalogue import family_of
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.records import rdata_from_text, rdata_text, record_line, type_from_text, type_text
from salt_mirror.findings import Change, Choice, Fate, Precedence


def changed(
    name: Name,
    rdtype: int,
    by: Precedence,
    reason: str,
    *,
    view: str,
    zone: Name | None,
    add: Iterable[bytes] = (),
    remove: Iterable[bytes] = (),
    whole: Iterable[bytes] | None = None,
    ttl: int | None = None,
) -> Change:
    """Return a change that adds and removes some values, and leaves any others but where the set is to be `whole`."""
    return Change(
        view=view, zone=to_text(zone) if zone is not None else "", name=to_text(name), type=type_text(rdtype), ttl=ttl,
        add=_texts(rdtype, add), remove=_texts(rdtype, remove), whole=None if whole is None else _texts(rdtype, whole), by=by,
        reason=reason,
    )  # fmt: skip


def whole_set(
    name: Name,
    rdtype: int,
    by: Precedence,
    reason: str,
    *,
    whole: Collection[bytes],
    there: Collection[Iterable[bytes]] = (),
    ttl: int | None = None,
    ttls: Collection[int | None] = (),
    **where: Any,
) -> Change:
    """Return a change to what the whole set has to be; `there` are the sets that servers have now, `ttls` their TTLs in
    seconds."""
    everywhere = set.intersection(*map(set, there)) if there else set()
    anywhere = {value for values in there for value in values}
    same = ttl is None or set(ttls) <= {ttl}  # with another TTL every record is another one
    add = set(whole) - (everywhere if same else set())
    return changed(name, rdtype, by, reason, add=add, remove=anywhere - set(whole), whole=whole, ttl=ttl, **where)


def _texts(rdtype: int, values: Iterable[bytes]) -> list[str]:
    return [rdata_text(rdtype, value) for value in sorted(set(values))]


def remedy_of(changes: Sequence[Change], choices: Sequence[Choice], advice: str) -> str:
    """Return what mends a finding, as lines of a master file: what comes stands live, all else in comments. Empty where nothing
    is proposed."""
    if changes:
        return "\n".join(line for change in changes for line in lines_of(change))
    if choices:
        begins = ["perhaps"] if len(choices) == 1 else ["either", *["or"] * (len(choices) - 1)]
        said = []
        for begin, choice in zip(begins, choices, strict=True):
            said.append(f"; {begin} {choice.word}: {choice.says}")
            said += [f";    {line.removeprefix('; ')}" for one in choice.changes for line in lines_of(one)]
        return "\n".join(said)
    return f"; {advice}" if advice else ""


_OF_OTHERS = ("auth", "res", "cut", "view", "sig")
"""Families of codes about what lies with servers, parents and resolvers, and in no record set of ours."""


def fate_of_advice(code: str) -> Fate:
    """Return what becomes of a finding for which there is advice only."""
    if code == "roll.contradiction":
        return "contradiction"
    return "not ours" if family_of(code) in _OF_OTHERS else "advice"


def lines_of(change: Change) -> list[str]:
    """Return a change as lines of a master file; what goes stands in comments."""
    name, rdtype = from_text(change.name), type_from_text(change.type)
    gone = [f"; remove: {record_line(name, rdtype, rdata_from_text(rdtype, text))}" for text in change.remove]
    return gone + [record_line(name, rdtype, rdata_from_text(rdtype, text), change.ttl) for text in change.add]
